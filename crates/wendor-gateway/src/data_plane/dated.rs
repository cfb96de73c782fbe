//! Connections that know when they were made, so that one that was kept is told from a new one when it turns out closed.

use std::pin::Pin;
use std::task::{Context, Poll, ready};

use hyper::Uri;
use hyper::rt::{Read, ReadBufCursor, Write};
use hyper_util::client::legacy::connect::{Connected, Connection};
use tokio::time::Instant;
use tower_service::Service;

/// A connector whose connections know when they were made.
#[derive(Clone, Debug)]
pub struct Dated<C>(pub C);

/// When a connection was made.
#[derive(Clone, Copy, Debug)]
struct Made(Instant);

/// Whether a connection was made before a try that began at `began`.
#[must_use]
pub fn was_kept(connected: &Connected, began: Instant) -> bool {
    let mut extras = http::Extensions::new();
    connected.get_extras(&mut extras);
    extras.get::<Made>().is_some_and(|made| made.0 < began)
}

/// Connects, and dates what it gives.
#[derive(Debug)]
pub struct Connecting<F>(Pin<Box<F>>);

impl<F, T, E> Future for Connecting<F>
where
    F: Future<Output = Result<T, E>>,
{
    type Output = Result<DatedStream<T>, E>;

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        let stream = ready!(self.0.as_mut().poll(context));
        Poll::Ready(stream.map(|stream| DatedStream { stream, made: Instant::now() }))
    }
}

impl<C: Service<Uri>> Service<Uri> for Dated<C> {
    type Response = DatedStream<C::Response>;
    type Error = C::Error;
    type Future = Connecting<C::Future>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        self.0.poll_ready(context)
    }

    fn call(&mut self, uri: Uri) -> Self::Future {
        Connecting(Box::pin(self.0.call(uri)))
    }
}

/// A connection that knows when it was made.
#[derive(Debug)]
pub struct DatedStream<T> {
    stream: T,
    made: Instant,
}

impl<T: Connection> Connection for DatedStream<T> {
    fn connected(&self) -> Connected {
        // Nothing else that it could tell is asked for, and whatever it tells is copied for every answer. It speaks HTTP/1.1 alone.
        Connected::new().extra(Made(self.made))
    }
}

impl<T: Read + Unpin> Read for DatedStream<T> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: ReadBufCursor<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl<T: Write + Unpin> Write for DatedStream<T> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[std::io::IoSlice<'_>],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(context, parts)
    }
}
