//! What lies below HTTP: connections as they are accepted, encrypted or not, read in small parts.
//!
//! The server reads a connection until nothing more comes, and keeps what it has read into for as long as the request takes: with bodies of
//! a hundred kilobytes that is most of a request's memory. So a connection gives a few kilobytes at a time, and says after a full read that
//! there is nothing for now: what was read is taken before more comes, and the buffer stays small.

use std::convert::Infallible;
use std::future::ready;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use actix_http::{HttpService, Protocol, Request, Response};
use actix_server::{Server, ServerBuilder};
use actix_service::{IntoServiceFactory, ServiceFactory, ServiceFactoryExt, fn_service, map_config};
use actix_tls::accept::TlsError;
use actix_tls::accept::rustls_0_23::{Acceptor, TlsStream};
use actix_web::body::MessageBody;
use actix_web::dev::{AppConfig, Extensions};
use actix_web::rt::net::TcpStream;
use rustls::ServerConfig;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, ReadBuf, Take};

/// How long the end of a connection is waited for.
const DISCONNECTING: Duration = Duration::from_secs(1);

/// The most that is read at once: more than a head and a usual question, much less than a large body.
const READ_BYTES: u64 = 4 * 1024;

/// A connection that gives a few kilobytes at a time.
#[derive(Debug)]
pub struct Gentle<T> {
    stream: Take<T>,
    /// Whether the last read gave all that it may: then there is more, and it waits for its turn.
    was_full: bool,
}

impl<T: AsyncRead> Gentle<T> {
    fn new(stream: T) -> Self {
        Self { stream: stream.take(READ_BYTES), was_full: false }
    }

    /// What it reads from.
    pub fn below(&self) -> &T {
        self.stream.get_ref()
    }
}

impl<T: AsyncRead + Unpin> AsyncRead for Gentle<T> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        if std::mem::take(&mut self.was_full) {
            context.waker().wake_by_ref();
            return Poll::Pending;
        }
        self.stream.set_limit(READ_BYTES);
        let read = Pin::new(&mut self.stream).poll_read(context, buffer);
        self.was_full = self.stream.limit() == 0;
        read
    }
}

impl<T: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Gentle<T> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(self.stream.get_mut()).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(self.stream.get_mut()).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(self.stream.get_mut()).poll_shutdown(context)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.get_ref().is_write_vectored()
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(self.stream.get_mut()).poll_write_vectored(context, parts)
    }
}

/// How connections are taken and kept.
#[derive(Clone, Copy, Debug)]
pub struct Keeping {
    /// Threads.
    pub workers: usize,
    /// Open connections of each at most.
    pub most: usize,
    /// How long one stays open while nothing is asked on it.
    pub idle: Duration,
    /// The time for a head, and for agreeing on encryption.
    pub head: Duration,
    /// What is under way at the end has so long, in seconds.
    pub grace_s: u64,
}

/// A server of what `web_app` makes, once a thread, at `listener`; encrypted with `certificate`, where there is one. `connected` is told of
/// each connection, and whether it is encrypted.
///
/// # Errors
/// When the listener cannot be used.
pub fn serve<F, I, S, B>(
    listener: TcpListener,
    certificate: Option<ServerConfig>,
    keeping: Keeping,
    connected: impl Fn(&TcpStream, bool, &mut Extensions) + Clone + Send + 'static,
    web_app: F,
) -> io::Result<Server>
where
    F: Fn() -> I + Clone + Send + 'static,
    I: IntoServiceFactory<S, Request>,
    S: ServiceFactory<Request, Config = AppConfig, Error = actix_web::Error> + 'static,
    S::InitError: std::fmt::Debug,
    S::Response: Into<Response<B>> + 'static,
    <S::Service as actix_service::Service<Request>>::Future: 'static,
    B: MessageBody + 'static,
{
    let builder = ServerBuilder::default()
        .workers(keeping.workers)
        .max_concurrent_connections(keeping.most)
        .shutdown_timeout(keeping.grace_s)
        .disable_signals();
    let ending = builder.graceful_shutdown_signal();
    let http = {
        let ending = move || {
            let ending = ending.clone();
            async move { ending.notified().await }
        };
        Http { keeping, ending, web_app }
    };
    let builder = match certificate {
        None => builder.listen("plain", listener, move || {
            let connected = connected.clone();
            plain().and_then(http.clone().service(move |stream: &Gentle<TcpStream>, extensions| {
                connected(stream.below(), false, extensions);
            }))
        })?,
        Some(certificate) => builder.listen("encrypted", listener, move || {
            let connected = connected.clone();
            encrypted(certificate.clone(), keeping.head).and_then(http.clone().service(
                move |stream: &Gentle<TlsStream<TcpStream>>, extensions| {
                    connected(stream.below().get_ref().0, true, extensions);
                },
            ))
        })?,
    };
    Ok(builder.run())
}

/// What is spoken on a connection, whatever it is.
#[derive(Clone)]
struct Http<F, E> {
    keeping: Keeping,
    ending: E,
    web_app: F,
}

/// A connection with what is spoken on it, and whose it is.
type Accepted<T> = (Gentle<T>, Protocol, Option<SocketAddr>);

impl<F, E> Http<F, E> {
    fn service<T, Ending, I, S, B>(
        self,
        connected: impl Fn(&Gentle<T>, &mut Extensions) + 'static,
    ) -> impl ServiceFactory<Accepted<T>, Config = (), Response = (), Error = (), InitError = ()>
    where
        T: AsyncRead + AsyncWrite + Unpin + 'static,
        E: Fn() -> Ending + 'static,
        Ending: Future<Output = ()> + 'static,
        F: Fn() -> I,
        I: IntoServiceFactory<S, Request>,
        S: ServiceFactory<Request, Config = AppConfig, Error = actix_web::Error> + 'static,
        S::InitError: std::fmt::Debug,
        S::Response: Into<Response<B>> + 'static,
        <S::Service as actix_service::Service<Request>>::Future: 'static,
        B: MessageBody + 'static,
    {
        let web_app = (self.web_app)().into_factory().map_err(|error| error.error_response());
        HttpService::build()
            .graceful_shutdown_signal(self.ending)
            .keep_alive(self.keeping.idle)
            .client_request_timeout(self.keeping.head)
            .client_disconnect_timeout(DISCONNECTING)
            .h1_allow_half_closed(false)
            .on_connect_ext(connected)
            .finish(map_config(web_app, |()| AppConfig::default()))
            // What a connection ends with is nobody's news.
            .map_err(|_| ())
    }
}

/// Connections as they come.
fn plain() -> impl ServiceFactory<TcpStream, Config = (), Response = Accepted<TcpStream>, Error = (), InitError = ()> {
    fn_service(|stream: TcpStream| {
        let peer = at_once(&stream);
        ready(Ok((Gentle::new(stream), Protocol::Http1, peer)))
    })
}

/// Connections on which encryption is agreed on first, and which version of HTTP is spoken with it.
fn encrypted(
    mut certificate: ServerConfig,
    time: Duration,
) -> impl ServiceFactory<TcpStream, Config = (), Response = Accepted<TlsStream<TcpStream>>, Error = (), InitError = ()>
{
    certificate.alpn_protocols = [&b"h2"[..], b"http/1.1"].map(<[u8]>::to_vec).into();
    let mut acceptor = Acceptor::new(certificate);
    acceptor.set_handshake_timeout(time);
    acceptor.map_init_err(|_| ()).map_err(|_: TlsError<io::Error, Infallible>| ()).and_then(
        |stream: TlsStream<TcpStream>| {
            let (below, agreed) = stream.get_ref();
            let is_second = agreed.alpn_protocol() == Some(b"h2");
            let peer = at_once(below);
            let protocol = if is_second { Protocol::Http2 } else { Protocol::Http1 };
            ready(Ok((Gentle::new(stream), protocol, peer)))
        },
    )
}

/// What is written goes out at once, where the system has that. Gives whose connection it is.
fn at_once(stream: &TcpStream) -> Option<SocketAddr> {
    let _unset = stream.set_nodelay(true);
    stream.peer_addr().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use tokio::io::AsyncWriteExt;

    /// What each read gives until all has come, and how often there was nothing for now.
    async fn reads(bytes: usize) -> (Vec<usize>, usize) {
        let (mut app, server) = tokio::io::duplex(1024 * 1024);
        app.write_all(&vec![7; bytes]).await.unwrap();
        drop(app);
        let (mut gentle, mut sizes, mut pauses) = (Gentle::new(server), Vec::new(), 0);
        loop {
            let mut buffer = vec![0; 64 * 1024];
            let mut read = ReadBuf::new(&mut buffer);
            let polled = std::future::poll_fn(|context| {
                let polled = Pin::new(&mut gentle).poll_read(context, &mut read);
                Poll::Ready(polled)
            });
            match polled.await {
                Poll::Pending => pauses += 1,
                Poll::Ready(done) => {
                    done.unwrap();
                    match read.filled().len() {
                        0 => return (sizes, pauses),
                        size => sizes.push(size),
                    }
                }
            }
        }
    }

    #[rstest]
    #[case::a_question(400, &[400], 0)]
    #[case::just_as_much(4_096, &[4_096], 1)]
    #[case::a_large_body(10_000, &[4_096, 4_096, 1_808], 2)]
    #[tokio::test]
    async fn a_connection_gives_a_few_kilobytes_and_then_pauses(
        #[case] bytes: usize,
        #[case] sizes: &[usize],
        #[case] pauses: usize,
    ) {
        assert_eq!(reads(bytes).await, (sizes.to_vec(), pauses));
    }
}
