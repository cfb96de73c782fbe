//! One try at one offer: takes a request for an upstream, gives its [`Reply`] as soon as that commits the offer, fails with a
//! [`Failure`] that says how.
//!
//! A stream commits with its first frame that has content, a piece of a tool call or a finish; frames before are held. A whole
//! reply is read to its end and checked. Dropped midway it closes the upstream's connection.

use std::error::Error;
use std::io::ErrorKind;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{Response, header};
use tokio::time::{Instant, timeout_at};
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::routing::failure::{Failure, FailureKind};
use wendor_core::wire::chat_completions::reply::{self, ReplyFacts};
use wendor_core::wire::chat_completions::request::{Delivery, UsageFrame};
use wendor_core::wire::chat_completions::stream::{ChatStream, FrameSays};
use wendor_core::wire::sse::{SseDecoder, SseFrame};

use super::clients::HttpClient;
use super::outlet::Outlet;
use super::pieces::Pieces;

/// Largest whole reply: long answers are some hundred kilobytes, images as text some megabytes.
const MAX_REPLY_BYTES: usize = 64 * 1024 * 1024;

/// What may come before the first piece of an answer.
const MAX_HELD_BYTES: usize = 256 * 1024;

/// What a try needs.
#[derive(Debug)]
pub struct Try<'a> {
    /// The upstream.
    pub upstream: &'a Upstream,
    /// What all requests to it have in common.
    pub outlet: &'a Outlet,
    /// How the app wants the answer.
    pub delivery: Delivery,
    /// Deadlines of its stage.
    pub deadlines: Deadlines,
    /// When the whole request has to be over.
    pub whole_until: Instant,
    /// The request's id, for the upstream's own logs.
    pub request_id: &'a header::HeaderValue,
}

/// An upstream's answer that goes to the app.
#[derive(Debug)]
pub enum Reply {
    /// A stream that has begun.
    Stream(Box<OpenStream>),
    /// A whole reply, checked.
    Whole(WholeReply),
    /// The upstream says that the app's own request is wrong.
    Rejected(RejectedReply),
}

/// A stream that has begun.
#[derive(Debug)]
pub struct OpenStream {
    /// What goes to the app first: what was held, and the frame that committed.
    pub first: Vec<SseFrame>,
    /// The rest.
    pub body: Incoming,
    /// Holds what was read and not yet taken.
    pub decoder: SseDecoder,
    /// What was seen so far.
    pub seen: ChatStream,
}

/// A whole reply.
#[derive(Debug)]
pub struct WholeReply {
    /// Its bytes.
    pub bytes: Bytes,
    /// Its content type.
    pub content_type: Option<header::HeaderValue>,
    /// What it says.
    pub facts: ReplyFacts,
}

/// A reply that rejects the request.
#[derive(Debug)]
pub struct RejectedReply {
    /// Its status.
    pub status: u16,
    /// Its bytes.
    pub bytes: Bytes,
    /// Its content type.
    pub content_type: Option<header::HeaderValue>,
}

/// Makes the try with a body as the upstream gets it.
///
/// # Errors
/// How it failed.
pub async fn exchange(client: &HttpClient, one: &Try<'_>, body: Pieces) -> Result<Reply, Failure> {
    let request = one.outlet.request(body, accept(one.delivery), one.request_id);
    let patience = match one.delivery {
        Delivery::Streamed(_) => one.deadlines.first_event,
        Delivery::Whole => one.deadlines.reply,
    };
    let until = one.whole_until.min(Instant::now() + patience);
    let response = match timeout_at(until, client.request(request)).await {
        Ok(Ok(response)) => response,
        Ok(Err(error)) => return Err(failure_of(&error, one)),
        Err(_elapsed) => return Err(timed_out("no answer", patience)),
    };
    if let Some(kind) = FailureKind::of_status(response.status().as_u16()) {
        return refused(response, kind, until).await;
    }
    match one.delivery {
        Delivery::Streamed(usage) => {
            let stream = first_event(response, usage, (until, patience)).await?;
            Ok(Reply::Stream(Box::new(stream)))
        }
        Delivery::Whole => whole(response, one).await.map(Reply::Whole),
    }
}

fn accept(delivery: Delivery) -> &'static str {
    match delivery {
        Delivery::Streamed(_) => "text/event-stream",
        Delivery::Whole => "application/json",
    }
}

fn timed_out(what: &str, after: Duration) -> Failure {
    Failure::new(FailureKind::TimedOut, format!("{what} within {}", humantime::format_duration(after)))
}

/// What a client error says, told apart by its kind and its cause, never by its text.
fn failure_of(error: &hyper_util::client::legacy::Error, one: &Try<'_>) -> Failure {
    let mut cause: Option<&(dyn Error + 'static)> = error.source();
    let mut io_kind = None;
    while let Some(error) = cause {
        io_kind = error.downcast_ref::<std::io::Error>().map(std::io::Error::kind).or(io_kind);
        cause = error.source();
    }
    let address = one.upstream.address.authority();
    if !error.is_connect() {
        return Failure::new(FailureKind::CutOff, "the connection broke before an answer");
    }
    let detail = match io_kind {
        Some(ErrorKind::ConnectionRefused) => format!("connection refused on {address}"),
        Some(ErrorKind::TimedOut) => {
            format!("no connection to {address} within {}", humantime::format_duration(one.deadlines.connect))
        }
        Some(ErrorKind::InvalidData) => format!("TLS with {address} failed"),
        Some(kind @ (ErrorKind::HostUnreachable | ErrorKind::NetworkUnreachable | ErrorKind::ConnectionReset)) => {
            format!("no connection to {address}: {kind}")
        }
        Some(_) | None => format!("no connection to {address}: its name may not resolve"),
    };
    Failure::new(FailureKind::Unreachable, detail)
}

/// A status other than success: what the app has to mend goes to it, everything else is a failure.
async fn refused(response: Response<Incoming>, kind: FailureKind, until: Instant) -> Result<Reply, Failure> {
    let status = response.status().as_u16();
    if kind != FailureKind::Rejected {
        return Err(Failure::of_status(status, retry_after(response.headers())));
    }
    let content_type = response.headers().get(header::CONTENT_TYPE).cloned();
    let cut = || Failure::new(FailureKind::CutOff, format!("its answer {status} broke off"));
    let body = timeout_at(until, http_body_util::Limited::new(response.into_body(), MAX_REPLY_BYTES).collect()).await;
    let bytes = body.map_err(|_| cut())?.map_err(|_| cut())?.to_bytes();
    Ok(Reply::Rejected(RejectedReply { status, bytes, content_type }))
}

fn retry_after(headers: &hyper::HeaderMap) -> Option<Duration> {
    let number = |name: &str| headers.get(name)?.to_str().ok()?.trim().parse::<u64>().ok();
    number("retry-after-ms").map(Duration::from_millis).or_else(|| number("retry-after").map(Duration::from_secs))
}

async fn whole(response: Response<Incoming>, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let content_type = response.headers().get(header::CONTENT_TYPE).cloned();
    let mut body = response.into_body();
    let mut bytes = BytesMut::new();
    loop {
        let until = one.whole_until.min(Instant::now() + one.deadlines.between_events);
        match timeout_at(until, body.frame()).await {
            Err(_elapsed) => return Err(timed_out("nothing more of its reply", one.deadlines.between_events)),
            Ok(None) => break,
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its reply"));
            }
            Ok(Some(Ok(frame))) => bytes.extend_from_slice(frame.data_ref().map_or(&[][..], |data| data)),
        }
        if bytes.len() > MAX_REPLY_BYTES {
            return Err(Failure::new(
                FailureKind::Malformed,
                format!("its reply is larger than {MAX_REPLY_BYTES} bytes"),
            ));
        }
    }
    let facts = reply::read(&bytes).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
    Ok(WholeReply { bytes: bytes.freeze(), content_type, facts })
}

async fn first_event(
    response: Response<Incoming>,
    usage: UsageFrame,
    (until, patience): (Instant, Duration),
) -> Result<OpenStream, Failure> {
    let malformed = |why: &str| Failure::new(FailureKind::Malformed, why);
    let content_type =
        response.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    if content_type.starts_with("application/json") || content_type.starts_with("text/html") {
        let content_type = content_type.split(';').next().unwrap_or_default();
        return Err(malformed(&format!("asked for a stream, it sent {content_type}")));
    }
    let mut body = response.into_body();
    let (mut decoder, mut seen, mut first, mut held) = (SseDecoder::default(), ChatStream::default(), Vec::new(), 0);
    loop {
        while let Some(frame) = decoder.next_frame() {
            held += frame.raw.len();
            let says = match &frame.data {
                Some(data) => seen.observe(data).map_err(|bad| malformed(&bad.to_string()))?,
                None => FrameSays::Opening,
            };
            match says {
                FrameSays::Answer => {
                    first.push(frame);
                    return Ok(OpenStream { first, body, decoder, seen });
                }
                FrameSays::Foreign => {}
                FrameSays::UsageOnly if usage == UsageFrame::NotAsked => {}
                FrameSays::Opening | FrameSays::UsageOnly => first.push(frame),
                FrameSays::Error(failure) => return Err(failure),
                FrameSays::Done => return Err(malformed("its stream ended without an answer")),
            }
            if held > MAX_HELD_BYTES {
                return Err(malformed("its stream holds no answer"));
            }
        }
        match timeout_at(until, body.frame()).await {
            Err(_elapsed) => return Err(timed_out("no first token", patience)),
            Ok(Some(Ok(frame))) => {
                if let Some(data) = frame.data_ref() {
                    decoder.push(data).map_err(|error| malformed(&error.to_string()))?;
                }
            }
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke before a first token"));
            }
            Ok(None) => return Err(ended_early(&mut decoder)),
        }
    }
}

fn ended_early(decoder: &mut SseDecoder) -> Failure {
    match decoder.finish() {
        Some(SseFrame { data: None, .. }) => Failure::new(FailureKind::Malformed, "what it sent is no event stream"),
        Some(_) | None => Failure::new(FailureKind::CutOff, "its stream ended before a first token"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::seconds(&[("retry-after", "7")], Some(7_000))]
    #[case::milliseconds_win(&[("retry-after", "7"), ("retry-after-ms", "350")], Some(350))]
    #[case::a_date_is_not_read(&[("retry-after", "Wed, 25 Nov 2026 08:00:00 GMT")], None)]
    #[case::nothing(&[], None)]
    fn when_an_upstream_says_to_come_back(#[case] headers: &[(&str, &str)], #[case] millis: Option<u64>) {
        let read = headers.iter().fold(hyper::HeaderMap::new(), |mut map, (name, value)| {
            map.insert(header::HeaderName::try_from(*name).unwrap(), header::HeaderValue::from_str(value).unwrap());
            map
        });
        assert_eq!(retry_after(&read), millis.map(Duration::from_millis));
    }
}
