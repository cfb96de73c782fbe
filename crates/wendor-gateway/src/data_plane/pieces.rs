//! A request's body for an upstream, as slices of what the app sent and what stands in between: a large body is not copied, and
//! its memory is free as soon as it is sent and no other offer may need it.

use std::convert::Infallible;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;
use hyper::body::{Body, Frame, SizeHint};
use wendor_wire::members::Spliced;

use super::progress::Seen;
use crate::sharing::Part;

/// A body in pieces, sent one after the other.
#[derive(Debug)]
pub struct Pieces {
    /// The next one last. An HTTP client has room for 32 bodies in the queue of each connection, so each byte here counts.
    left: Spliced,
    _share: Arc<Part>,
    /// Told when the first piece is taken, which is when there is a connection to send it on.
    seen: Option<Arc<Seen>>,
}

impl Pieces {
    /// A body of these pieces, which take that share of the memory for bodies.
    #[must_use]
    pub fn new(mut pieces: Spliced, share: Arc<Part>) -> Self {
        pieces.reverse();
        Self { left: pieces, _share: share, seen: None }
    }

    /// The same, and `seen` is told when a connection takes it.
    #[must_use]
    pub fn telling(self, seen: Arc<Seen>) -> Self {
        Self { seen: Some(seen), ..self }
    }
}

impl Body for Pieces {
    type Data = Bytes;
    type Error = Infallible;

    fn poll_frame(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, Infallible>>> {
        if let Some(seen) = self.seen.take() {
            seen.sent();
        }
        Poll::Ready(self.left.pop().map(|piece| Ok(Frame::data(piece))))
    }

    fn is_end_stream(&self) -> bool {
        self.left.is_empty()
    }

    fn size_hint(&self) -> SizeHint {
        let bytes: usize = self.left.iter().map(Bytes::len).sum();
        SizeHint::with_exact(u64::try_from(bytes).unwrap_or(u64::MAX))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sharing::Sharing;
    use http_body_util::BodyExt;
    use smallvec::smallvec;

    #[tokio::test]
    async fn pieces_come_in_order_with_their_length_known_and_give_their_share_back() {
        let bodies = Sharing::of(100);
        let mut share = bodies.part(None);
        assert!(share.grow(100, 0).is_ok());
        let share = Arc::new(share);
        let body =
            Pieces::new(smallvec![Bytes::from_static(b"{\"model\":"), Bytes::from_static(b"\"m\"}")], share.clone());
        assert_eq!(body.size_hint().exact(), Some(13));
        assert_eq!(body.collect().await.unwrap().to_bytes(), &b"{\"model\":\"m\"}"[..]);
        assert!(bodies.part(None).grow(1, 0).is_err(), "someone still holds the body");
        drop(share);
        assert!(bodies.part(None).grow(100, 0).is_ok());
    }

    /// The queue of each connection to an upstream has room for 32 requests, each with whom to answer. The allocator keeps blocks of 8 to
    /// 10 KB together, and gives one that is larger a page more.
    #[test]
    fn a_queue_of_requests_fits_in_ten_kilobytes() {
        let with_whom = size_of::<hyper::Request<Pieces>>() + 24;
        assert!(32 * (with_whom + 1) <= 10 * 1024, "{with_whom}");
    }

    #[tokio::test]
    async fn what_is_left_is_known_midway() {
        let mut body = Pieces::new(
            smallvec![Bytes::from_static(b"ab"), Bytes::from_static(b"c")],
            Arc::new(Sharing::of(0).part(None)),
        );
        assert!(!body.is_end_stream());
        assert_eq!(body.frame().await.unwrap().unwrap().into_data().unwrap(), "ab");
        assert_eq!(body.size_hint().exact(), Some(1));
        body.frame().await.unwrap().unwrap();
        assert!(body.is_end_stream() && body.frame().await.is_none());
    }
}
