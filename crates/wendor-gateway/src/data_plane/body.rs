//! Reading an app's request body: bounded by itself, bounded with all others together, and in time.

use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::Payload;
use bytes::{Bytes, BytesMut};
use futures_util::StreamExt;

use super::refusal::Refusal;
use crate::app::{App, BodyShare};

/// The time for a whole body: 20 MiB over a line of a few megabits.
const BODY_TIME: Duration = Duration::from_secs(60);

/// What is made ready at once for a declared length; the rest grows as it comes, so that a false length costs nothing.
const READY_BYTES: usize = 256 * 1024;

/// A body and its share of the memory that all bodies may take.
#[derive(Clone, Debug)]
pub struct ReadBody {
    /// The body.
    pub bytes: Bytes,
    /// Given back when nobody holds any of it.
    pub share: Arc<BodyShare>,
}

/// Reads the body. `declared` is its `Content-Length`.
///
/// # Errors
/// When it is too large, breaks off, takes too long, or there is no memory for it now.
pub async fn read(app: &App, payload: Payload, declared: Option<usize>) -> Result<ReadBody, Refusal> {
    read_within(app, payload, declared, (app.settings.body_limit, BODY_TIME)).await
}

/// Reads a body of at most `limit` bytes within `time`.
///
/// # Errors
/// As [`read`].
pub async fn read_within(
    app: &App,
    payload: Payload,
    declared: Option<usize>,
    (limit, time): (usize, Duration),
) -> Result<ReadBody, Refusal> {
    if declared.is_some_and(|length| length > limit) {
        return Err(Refusal::BodyTooLarge(limit));
    }
    match tokio::time::timeout(time, collect(app, payload, (declared.unwrap_or(0), limit))).await {
        Ok(read) => read,
        Err(_elapsed) => Err(Refusal::BodyTooSlow),
    }
}

async fn collect(app: &App, mut payload: Payload, (declared, limit): (usize, usize)) -> Result<ReadBody, Refusal> {
    let mut share = app.bodies.share();
    let mut bytes = BytesMut::with_capacity(declared.min(READY_BYTES));
    while let Some(piece) = payload.next().await {
        let piece = piece.map_err(|_| Refusal::BodyBroken)?;
        if bytes.len() + piece.len() > limit {
            return Err(Refusal::BodyTooLarge(limit));
        }
        if !app.bodies.grow(&mut share, piece.len()) {
            return Err(Refusal::TooManyBodies);
        }
        bytes.extend_from_slice(&piece);
    }
    Ok(ReadBody { bytes: bytes.freeze(), share: Arc::new(share) })
}
