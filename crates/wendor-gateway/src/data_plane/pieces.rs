//! A request's body for an upstream, as slices of what the app sent and what stands in between: a large body is not copied, and
//! its memory is free as soon as it is sent and no other offer may need it.

use std::collections::VecDeque;
use std::convert::Infallible;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;
use hyper::body::{Body, Frame, SizeHint};

use crate::app::BodyShare;

/// A body in pieces, sent one after the other.
#[derive(Debug)]
pub struct Pieces {
    left: VecDeque<Bytes>,
    bytes_left: u64,
    _share: Arc<BodyShare>,
}

impl Pieces {
    /// A body of these pieces, which take that share of the memory for bodies.
    #[must_use]
    pub fn new(pieces: Vec<Bytes>, share: Arc<BodyShare>) -> Self {
        let bytes: usize = pieces.iter().map(Bytes::len).sum();
        Self { left: pieces.into(), bytes_left: u64::try_from(bytes).unwrap_or(u64::MAX), _share: share }
    }
}

impl Body for Pieces {
    type Data = Bytes;
    type Error = Infallible;

    fn poll_frame(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, Infallible>>> {
        let next = self.left.pop_front();
        if let Some(piece) = &next {
            self.bytes_left = self.bytes_left.saturating_sub(u64::try_from(piece.len()).unwrap_or(u64::MAX));
        }
        Poll::Ready(next.map(|piece| Ok(Frame::data(piece))))
    }

    fn is_end_stream(&self) -> bool {
        self.left.is_empty()
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.bytes_left)
    }
}
