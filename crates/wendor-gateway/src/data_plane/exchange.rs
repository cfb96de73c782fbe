//! One try at one offer: takes a request for an upstream, gives its [`Reply`] as soon as that commits the offer, fails with a
//! [`Failure`] that says how.
//!
//! A stream commits with its first frame that has content, a piece of a tool call or a finish; frames before are held. A whole
//! reply is read to its end and checked. Dropped midway it closes the upstream's connection.

use std::time::Duration;

use bytes::{Bytes, BytesMut};
use chrono::{DateTime, Utc};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{HeaderMap, Request, Response, header};
use tokio::time::{Instant, timeout_at};
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::serving::fit::Content;
use wendor_wire::asked::AppRequest;
use wendor_wire::chat_completions::reply;
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::Delivery;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::event::Usage;
use wendor_wire::conversation::facts::Facts;
use wendor_wire::count;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{EmbeddingRequest, Encoding, read_vectors_for};
use wendor_wire::endpoint::Kind;
use wendor_wire::failure::{Failure, FailureKind, Fault};
use wendor_wire::frames::FrameDecoder;
use wendor_wire::halves::with_whole_letters;
use wendor_wire::images::Images;
use wendor_wire::passage::{Passage, Step};
use wendor_wire::plain;
use wendor_wire::rejection::{is_loading, kind_of};
use wendor_wire::sent::whole_marked;
use wendor_wire::sse::Framing;
use wendor_wire::sse::MAX_EVENT_BYTES;
use wendor_wire::usage::TokenCounts;

use super::clients::HttpClient;
use super::failing::{failure_of, retry_after, timed_out};
use super::outlet::{AttemptHeaders, Outlet};
use super::pieces::Pieces;
use super::progress::Seen;

/// Largest whole reply: long answers are some hundred kilobytes, images as text some megabytes.
const MAX_REPLY_BYTES: usize = 64 * 1024 * 1024;

/// How much of the reason is read that a server is not available, and for how long: it comes with the status, or is not waited for.
const WHY_UNAVAILABLE_BYTES: usize = 4 * 1024;
const WHY_UNAVAILABLE_TIME: Duration = Duration::from_millis(200);

/// The same where somebody waits to read it.
const WHY_WANTED_BYTES: usize = 64 * 1024;
const WHY_WANTED_TIME: Duration = Duration::from_secs(2);

/// What a try needs.
pub struct Try<'a> {
    /// The upstream.
    pub upstream: &'a Upstream,
    /// What all requests to it have in common.
    pub outlet: &'a Outlet,
    /// What the app asked.
    pub request: &'a AppRequest,
    /// What that holds.
    pub content: &'a Content,
    /// The endpoint's path, where it is not the dialect's usual one.
    pub path: Option<&'a str>,
    /// The content type of a form.
    pub form: Option<&'a header::HeaderValue>,
    /// Whether the upstream is asked for a stream.
    pub is_streamed: bool,
    /// What the answer has to say of itself.
    pub head: &'a dyn Fn() -> AnswerHead,
    /// Deadlines of its stage.
    pub deadlines: Deadlines,
    /// When the whole request has to be over.
    pub whole_until: Instant,
    /// When it is made.
    pub now: DateTime<Utc>,
    /// The same on the clock that only runs forward.
    pub began: Instant,
    /// Its own headers.
    pub headers: &'a AttemptHeaders,
    /// Told how far it comes.
    pub seen: &'a Seen,
    /// Told what comes of it.
    pub hearing: &'a dyn Hearing,
}

/// Whoever is told what comes of a try as it comes.
pub trait Hearing {
    /// The head of an answer.
    fn head(&self, status: u16, headers: &HeaderMap);

    /// What came of its body.
    fn bytes(&self, _bytes: &[u8]) {}

    /// Whether the body is wanted of an answer that is a failure whatever it says.
    fn wants_reasons(&self) -> bool {
        false
    }
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
    /// What goes to the app first: what was held, and what committed.
    pub first: Bytes,
    /// Its end, where it has come already: held back until the answer is on record.
    pub last: Option<Bytes>,
    /// The rest, where there is one.
    pub body: Option<Incoming>,
    /// What makes of it what the app gets.
    pub passage: Passage,
}

/// A whole reply, as the app gets it.
#[derive(Debug)]
pub struct WholeReply {
    /// Its bytes.
    pub bytes: Bytes,
    /// What it says.
    pub facts: Facts,
    /// Whether it is plain text, and not JSON.
    pub is_text: bool,
    /// What its app is told beside, where there is something.
    pub note: Option<&'static str>,
}

/// A reply that rejects the request.
#[derive(Debug)]
pub struct RejectedReply {
    /// The upstream's status.
    pub status: u16,
    /// What its reason makes of it.
    pub kind: FailureKind,
    /// Its bytes.
    pub bytes: Bytes,
    /// The dialect that it is in.
    pub dialect: Dialect,
}

impl Try<'_> {
    /// Whether its answer is text all through, so that its bytes tell how much of it came.
    fn is_text(&self) -> bool {
        matches!(self.request.endpoint.kind, Kind::Chat(_)) || self.request.images == 0 && self.form.is_none()
    }
}

impl WholeReply {
    fn json(bytes: Bytes, facts: Facts) -> Self {
        Self { bytes, facts, is_text: false, note: None }
    }
}

/// Makes the try with a body as the upstream gets it.
///
/// # Errors
/// How it failed.
pub async fn exchange(client: &HttpClient, one: &Try<'_>, body: Pieces) -> Result<Reply, Failure> {
    let request = one
        .outlet
        .request(body, one.path, accept(one.is_streamed), one.headers)
        .map_err(|error| Failure::new(FailureKind::Misconfigured, error.to_string()))?;
    let request = match one.form {
        Some(form) => with_type(request, form),
        None => request,
    };
    let patience = if one.is_streamed { one.deadlines.first_event } else { one.deadlines.reply };
    let until = one.whole_until.min(Instant::now() + patience);
    let response = match timeout_at(until, client.request(request)).await {
        Ok(Ok(response)) => response,
        Ok(Err(error)) => return Err(failure_of(&error, one)),
        Err(_elapsed) => return Err(timed_out("no answer", patience)),
    };
    one.hearing.head(response.status().as_u16(), response.headers());
    if let Some(kind) = FailureKind::of_status(response.status().as_u16()) {
        // A server need not count tokens; that is no fault of it.
        if matches!(one.request.endpoint.kind, Kind::Count(_)) && [404, 405, 501].contains(&response.status().as_u16())
        {
            return Ok(Reply::Whole(estimated_count(one)));
        }
        return refused(response, kind, until, one).await;
    }
    one.seen.begun();
    match (one.is_streamed, one.request.delivery != Delivery::Whole) {
        (true, true) => {
            // Boxed: requests that do not stream wait for their answer without the room that this takes.
            let stream = Box::pin(first_event(response, one, until, patience)).await?;
            Ok(Reply::Stream(Box::new(stream)))
        }
        (true, false) => gathered(response, one).await.map(Reply::Whole),
        (false, true) => taken_apart(response, one).await.map(|stream| Reply::Stream(Box::new(stream))),
        (false, false) => whole(response, one).await.map(Reply::Whole),
    }
}

/// The count of a request whose upstream counts none: the estimate, which costs nothing.
fn estimated_count(one: &Try<'_>) -> WholeReply {
    let tokens = (one.head)().input_estimate;
    let facts = Facts { counts: Some(TokenCounts::default()), is_finished: true, ..Facts::default() };
    let note = Some("the count is an estimate: the upstream counts no tokens");
    WholeReply { note, ..WholeReply::json(Bytes::from(count::reply(one.request.endpoint.dialect, tokens)), facts) }
}

fn with_type(mut request: Request<Pieces>, form: &header::HeaderValue) -> Request<Pieces> {
    request.headers_mut().insert(header::CONTENT_TYPE, form.clone());
    request
}

fn accept(is_streamed: bool) -> &'static str {
    if is_streamed { "text/event-stream" } else { "application/json" }
}

/// A status other than success: what the app has to mend goes to it, everything else is a failure.
async fn refused(
    response: Response<Incoming>,
    kind: FailureKind,
    until: Instant,
    one: &Try<'_>,
) -> Result<Reply, Failure> {
    let status = response.status().as_u16();
    if kind.fault() != Fault::App {
        let after = retry_after(response.headers(), one.now);
        let reason = reason_of(response, until, one).await;
        one.hearing.bytes(&reason);
        let loads = status == 503 && is_loading(&reason);
        return Err(if loads { Failure::loading(after) } else { Failure::of_status(status, after) });
    }
    let cut = || Failure::new(FailureKind::CutOff, format!("its answer {status} broke off"));
    let body = timeout_at(until, http_body_util::Limited::new(response.into_body(), MAX_REPLY_BYTES).collect()).await;
    let bytes = body.map_err(|_| cut())?.map_err(|_| cut())?.to_bytes();
    one.hearing.bytes(&bytes);
    Ok(Reply::Rejected(RejectedReply { status, kind: kind_of(status, &bytes), bytes, dialect: one.upstream.dialect }))
}

/// The reason that comes with a failure, as far as it comes at once: that of a server that is not available, or where somebody wants it.
async fn reason_of(response: Response<Incoming>, until: Instant, one: &Try<'_>) -> Bytes {
    let (most, time) = match (one.hearing.wants_reasons(), response.status().as_u16()) {
        (true, _) => (WHY_WANTED_BYTES, WHY_WANTED_TIME),
        (false, 503) => (WHY_UNAVAILABLE_BYTES, WHY_UNAVAILABLE_TIME),
        (false, _) => return Bytes::new(),
    };
    let body = http_body_util::Limited::new(response.into_body(), most).collect();
    let read = timeout_at(until.min(Instant::now() + time), body).await;
    read.ok().and_then(Result::ok).map(http_body_util::Collected::to_bytes).unwrap_or_default()
}

/// All of a reply's body.
async fn body_of(response: Response<Incoming>, one: &Try<'_>) -> Result<Bytes, Failure> {
    let mut body = response.into_body();
    let mut bytes = BytesMut::new();
    loop {
        let until = one.whole_until.min(Instant::now() + one.deadlines.between_events);
        match timeout_at(until, body.frame()).await {
            Err(_elapsed) => return Err(timed_out("nothing more of its reply", one.deadlines.between_events)),
            Ok(None) => return Ok(bytes.freeze()),
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its reply"));
            }
            Ok(Some(Ok(frame))) => {
                let data = frame.data_ref().map_or(&[][..], |data| data);
                one.hearing.bytes(data);
                bytes.extend_from_slice(data);
            }
        }
        if one.is_text() {
            one.seen.note(Facts { output_bytes: u64::try_from(bytes.len()).unwrap_or(u64::MAX), ..Facts::default() });
        }
        if bytes.len() > MAX_REPLY_BYTES {
            return Err(Failure::new(
                FailureKind::Malformed,
                format!("its reply is larger than {MAX_REPLY_BYTES} bytes"),
            ));
        }
    }
}

/// A whole reply, checked, in the app's dialect.
async fn whole(response: Response<Incoming>, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let content_type = response.headers().get(header::CONTENT_TYPE);
    let is_plain = content_type.is_some_and(|kind| kind.as_bytes().starts_with(b"text/plain"));
    let is_text = one.form.is_some() && is_plain;
    let bytes = body_of(response, one).await?;
    if is_text {
        let output_bytes = u64::try_from(bytes.len()).unwrap_or(u64::MAX);
        let facts = Facts { output_bytes, is_finished: true, ..Facts::default() };
        return Ok(WholeReply { bytes, facts, is_text, note: None });
    }
    let bytes = with_whole_letters(bytes);
    let (from, to) = (one.upstream.dialect, one.request.endpoint.dialect);
    match (one.content, &one.request.endpoint.kind) {
        (Content::Embedding(embedding), _) => embedded(embedding, bytes, one),
        (_, Kind::Chat(_)) if from == to && from == Dialect::ChatCompletions => {
            let read = reply::read(&bytes).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
            let images = Images::of(read.images, None);
            let (counts, output_bytes, is_at_cap) = (read.usage, read.output_bytes, read.is_at_cap);
            let facts = Facts { counts, output_bytes, is_at_cap, images, is_finished: true, ..Facts::default() };
            Ok(WholeReply::json(bytes, facts))
        }
        (_, Kind::Chat(_)) => {
            let events = dialects::of(from).read_whole(&bytes)?;
            let mut facts = Facts { is_finished: true, ..Facts::default() };
            events.iter().for_each(|event| if from == to { facts.take(event) } else { facts.take_for(to, event) });
            let bytes = if from == to {
                whole_marked(bytes, &events, &(one.head)().seals)
            } else {
                Bytes::from(dialects::of(to).write_whole(&Answer::of(events), &(one.head)())?)
            };
            Ok(WholeReply::json(bytes, facts))
        }
        (_, _) => {
            let mut facts = plain::read(&bytes)?;
            facts.images.size = facts.images.size.or(one.request.image_size.filter(|_| !facts.images.is_none()));
            if let Kind::Count(_) = one.request.endpoint.kind {
                // Counting is asked for nothing and costs nothing.
                facts.counts = Some(TokenCounts::default());
            }
            Ok(WholeReply::json(bytes, facts))
        }
    }
}

/// Vectors in the form that the app wants. Where that is the upstream's own, they pass as they came.
fn embedded(embedding: &EmbeddingRequest, bytes: Bytes, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let found = read_vectors_for(embedding, &bytes)?;
    let usage = found.input_tokens.map(|input| Usage { input: Some(input), output: Some(0), ..Usage::default() });
    let facts = Facts { usage, counts: usage.and_then(Usage::counts), is_finished: true, ..Facts::default() };
    let is_same = one.upstream.dialect == one.request.endpoint.dialect;
    // Some clients decode base64 without looking, so an upstream that ignores the wish is mended.
    let is_as_wished =
        embedding.encoding == Encoding::Numbers || memchr::memmem::find(&bytes, b"\"embedding\":\"").is_some();
    let bytes = if is_same && is_as_wished && found.came_in_order {
        bytes
    } else {
        Bytes::from(embedding.reply(&found, one.request))
    };
    Ok(WholeReply::json(bytes, facts))
}

/// A whole reply made of a stream, for offers that only stream.
async fn gathered(response: Response<Incoming>, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let bytes = with_whole_letters(body_of(response, one).await?);
    let codec = dialects::of(one.upstream.dialect);
    let (mut decoder, mut reader) = (FrameDecoder::new(codec.framing()), codec.reader());
    let mut events = Vec::new();
    for part in bytes.chunks(MAX_EVENT_BYTES / 2) {
        decoder.push(part).map_err(|error| Failure::new(FailureKind::Malformed, error.to_string()))?;
        while let Some(data) = decoder.next_frame().map(|frame| frame.data) {
            data.map(|data| reader.read(&data, &mut events)).transpose()?;
        }
    }
    if let Some(data) = decoder.finish().and_then(|frame| frame.data) {
        reader.read(&data, &mut events)?;
    }
    let mut facts = Facts { is_finished: reader.is_finished(), ..Facts::default() };
    events.iter().for_each(|event| facts.take_for(one.request.endpoint.dialect, event));
    one.seen.note(facts);
    if !reader.is_finished() {
        return Err(Failure::new(FailureKind::CutOff, "its stream ended in the middle"));
    }
    let answer = Answer::of(events);
    let bytes = dialects::of(one.request.endpoint.dialect).write_whole(&answer, &(one.head)())?;
    Ok(WholeReply::json(Bytes::from(bytes), facts))
}

/// A stream made of a whole reply, for offers that do not stream.
async fn taken_apart(response: Response<Incoming>, one: &Try<'_>) -> Result<OpenStream, Failure> {
    let bytes = with_whole_letters(body_of(response, one).await?);
    let events = dialects::of(one.upstream.dialect).read_whole(&bytes)?;
    let (first, last, passage) =
        Passage::of_whole(one.upstream.dialect, one.request.endpoint.dialect, events, (one.head)())?;
    Ok(OpenStream { first, last: Some(last), body: None, passage })
}

async fn first_event(
    response: Response<Incoming>,
    one: &Try<'_>,
    until: Instant,
    patience: Duration,
) -> Result<OpenStream, Failure> {
    let malformed = |why: &str| Failure::new(FailureKind::Malformed, why);
    let content_type =
        response.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let is_lines = dialects::of(one.upstream.dialect).framing() == Framing::Lines;
    if content_type.starts_with("text/html") || (content_type.starts_with("application/json") && !is_lines) {
        let content_type = content_type.split(';').next().unwrap_or_default();
        return Err(malformed(&format!("asked for a stream, it sent {content_type}")));
    }
    let mut body = response.into_body();
    let has_own_events = matches!(one.request.endpoint.kind, Kind::Passed(passed) if passed.has_own_events());
    let mut passage = if has_own_events {
        Passage::plain(one.upstream.dialect, (one.head)())
    } else {
        Passage::new(one.upstream.dialect, one.request.endpoint.dialect, (one.head)())
    };
    let mut is_over = false;
    loop {
        let step = if is_over { passage.upstream_ended() } else { passage.step() };
        one.seen.note(passage.facts());
        match step {
            Step::Send(first) => return Ok(OpenStream { first, last: None, body: Some(body), passage }),
            Step::End(last) => {
                return Ok(OpenStream { first: Bytes::new(), last: Some(last), body: Some(body), passage });
            }
            Step::Broken(failure, _) => return Err(failure),
            Step::More => {}
        }
        match timeout_at(until, body.frame()).await {
            Err(_elapsed) => return Err(timed_out("no first token", patience)),
            Ok(Some(Ok(frame))) => {
                let data = frame.data_ref().map_or(&[][..], |data| data);
                one.hearing.bytes(data);
                passage.push(data)?;
            }
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke before a first token"));
            }
            Ok(None) => is_over = true,
        }
    }
}
