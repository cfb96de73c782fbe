//! Reading an app's request body: bounded by itself, bounded with all others together, in time, and not in drops.

use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use actix_web::dev::Payload;
use bytes::{Bytes, BytesMut};
use futures_util::StreamExt;
use tokio::time::{Instant, timeout_at};
use wendor_core::name::Name;

use super::refusal::Refusal;
use crate::app::App;
use crate::sharing::{Part, Who};

/// The time for a whole body: 20 MiB over a line of a few megabits.
const BODY_TIME: Duration = Duration::from_secs(60);

/// How long a body is looked at before it is said to come too slowly.
const LOOKED_AT: Duration = Duration::from_secs(5);

/// What is made ready at once for a declared length; the rest grows as it comes, so that a false length costs nothing.
const READY_BYTES: usize = 256 * 1024;

/// The most that is taken of a body that nobody reads.
const DISCARDED_BYTES: usize = 64 * 1024;

/// A body and its share of the memory that all bodies may take.
#[derive(Clone, Debug)]
pub struct ReadBody {
    /// The body.
    pub bytes: Bytes,
    /// Given back when nobody holds any of it.
    pub share: Arc<Part>,
}

/// Takes what has come of the body of a request that was refused before it was read: while there is some, the server closes the
/// connection behind the answer, and whoever asks again has to open another. Whatever has not come by now is not waited for.
pub async fn discard(payload: &mut Payload) {
    let (mut left, mut has_yielded) = (DISCARDED_BYTES, false);
    std::future::poll_fn(|context| {
        loop {
            match payload.poll_next_unpin(context) {
                Poll::Ready(Some(Ok(piece))) if piece.len() <= left => left -= piece.len(),
                Poll::Ready(_) => return Poll::Ready(()),
                Poll::Pending if has_yielded => return Poll::Ready(()),
                Poll::Pending => {
                    // The server hands over what it has read with the head once it has its turn.
                    has_yielded = true;
                    context.waker().wake_by_ref();
                    return Poll::Pending;
                }
            }
        }
    })
    .await;
}

/// Reads the body of a team's request. `declared` is its `Content-Length`.
///
/// # Errors
/// When it is too large, breaks off, takes too long, or there is no memory for it now.
pub async fn read(app: &App, payload: &mut Payload, declared: Option<usize>, team: &Name) -> Result<ReadBody, Refusal> {
    read_within(app, payload, declared, Some(team.clone()), app.settings.bodies.largest, BODY_TIME).await
}

/// Reads a body of at most `limit` bytes within `time`.
///
/// # Errors
/// As [`read`].
pub async fn read_within(
    app: &App,
    payload: &mut Payload,
    declared: Option<usize>,
    who: Who,
    limit: usize,
    time: Duration,
) -> Result<ReadBody, Refusal> {
    if declared.is_some_and(|length| length > limit) {
        return Err(Refusal::BodyTooLarge(limit));
    }
    match tokio::time::timeout(time, collect(app, payload, declared.unwrap_or(0), who, limit)).await {
        Ok(read) => read,
        Err(_elapsed) => Err(Refusal::BodyTooSlow),
    }
}

async fn collect(
    app: &App,
    payload: &mut Payload,
    declared: usize,
    who: Who,
    limit: usize,
) -> Result<ReadBody, Refusal> {
    let (teams, least) =
        (app.now_serving().catalogue.teams.len(), app.settings.bodies.rate * LOOKED_AT.as_secs() as usize);
    let mut share = app.crowd.bodies.part(who);
    let mut bytes = BytesMut::with_capacity(declared.min(READY_BYTES));
    let (mut looked_at, mut had) = (Instant::now() + LOOKED_AT, 0);
    loop {
        let Ok(next) = timeout_at(looked_at, payload.next()).await else {
            if bytes.len() - had < least {
                return Err(Refusal::BodyTooSlow);
            }
            (looked_at, had) = (looked_at + LOOKED_AT, bytes.len());
            continue;
        };
        let Some(piece) = next else { break };
        let piece = piece.map_err(|_| Refusal::BodyBroken)?;
        if bytes.len() + piece.len() > limit {
            return Err(Refusal::BodyTooLarge(limit));
        }
        share.grow(piece.len() as u64, teams).map_err(|_| Refusal::TooManyBodies)?;
        bytes.extend_from_slice(&piece);
    }
    Ok(ReadBody { bytes: bytes.freeze(), share: Arc::new(share) })
}
