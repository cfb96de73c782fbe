//! One try at one offer: takes a request for an upstream, gives its [`Reply`] as soon as that commits the offer, fails with a
//! [`Failure`] that says how.
//!
//! A stream commits with its first frame that has content, a piece of a tool call or a finish ([`super::opening`]); a whole reply is
//! read to its end and checked ([`super::whole_reply`]). Dropped midway it closes the upstream's connection.

use std::time::Duration;

use bytes::Bytes;
use chrono::{DateTime, Utc};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{HeaderMap, Request, Response, header};
use tokio::time::{Instant, timeout_at};
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::serving::fit::Content;
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::Delivery;
use wendor_wire::dialect::Dialect;
use wendor_wire::endpoint::Kind;
use wendor_wire::failure::{Failure, FailureKind, Fault};
use wendor_wire::rejection::{is_loading, kind_of};

use super::clients::HttpClient;
use super::failing::{failure_of, retry_after, timed_out};
use super::opening::{OpenStream, first_event, taken_apart};
use super::outlet::{AttemptHeaders, Outlet};
use super::pieces::Pieces;
use super::progress::Seen;
use super::whole_reply::{MAX_REPLY_BYTES, WholeReply, estimated_count, gathered, whole};

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
    /// When the whole request must be over.
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

/// A reply that rejects the request.
#[derive(Debug)]
pub struct RejectedReply {
    /// The upstream's status.
    pub status: u16,
    /// What its reason makes of it.
    pub kind: FailureKind,
    /// The body, as the upstream sent it.
    pub bytes: Bytes,
    /// Whose form its errors have.
    pub dialect: Dialect,
}

impl Try<'_> {
    /// Whether its answer is text all through, so that its bytes tell how much of it came.
    pub(super) fn is_text(&self) -> bool {
        matches!(self.request.endpoint.kind, Kind::Chat(_)) || self.request.images == 0 && self.form.is_none()
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
