//! The opening of a stream: what comes before the first piece of an answer is held, and a stream is made of a whole reply for offers that
//! do not stream.

use std::time::Duration;

use bytes::Bytes;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{Response, header};
use tokio::time::{Instant, timeout_at};
use wendor_wire::dialects;
use wendor_wire::endpoint::Kind;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::halves::with_whole_letters;
use wendor_wire::passage::{Passage, Step};
use wendor_wire::sse::Framing;

use super::exchange::Try;
use super::failing::timed_out;
use super::whole_reply::body_of;

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

/// A stream made of a whole reply, for offers that do not stream.
pub(super) async fn taken_apart(response: Response<Incoming>, one: &Try<'_>) -> Result<OpenStream, Failure> {
    let bytes = with_whole_letters(body_of(response, one).await?);
    let events = dialects::of(one.upstream.dialect).read_whole(&bytes)?;
    let (first, last, passage) =
        Passage::of_whole(one.upstream.dialect, one.request.endpoint.dialect, events, (one.head)())?;
    Ok(OpenStream { first, last: Some(last), body: None, passage })
}

pub(super) async fn first_event(
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
