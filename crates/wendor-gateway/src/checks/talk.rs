//! HTTP with one address of an upstream: each request on a connection of its own, bounded in time and size, no redirection followed.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use chrono::{DateTime, Utc};
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::client::conn::http1;
use hyper::{Method, Request, Response, Uri, header};
use hyper_util::rt::TokioIo;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::{timeout, timeout_at};
use tokio_rustls::TlsConnector;
use wendor_core::catalog::upstream::{Address, Auth, authorization};
use wendor_core::diagnosis::seen::{Answered, Heard, NotHeard, Words};
use wendor_core::secret::Secret;

use super::Time;
use super::dial::CONNECT;
use super::quiet::{Busy, LookRoom, Quiet};

/// How long a look may take where nothing else is said.
const LOOK: Duration = Duration::from_secs(4);

/// How much of an answer is read: listings of services with hundreds of models are some hundred kilobytes.
const MOST_BYTES: usize = 4 * 1024 * 1024;

/// What goes along with a request.
#[derive(Clone, Copy, Debug)]
pub enum Credentials<'a> {
    /// Nothing.
    None,
    /// The credential, in its place.
    Sent(&'a Secret, &'a Auth),
}

impl<'a> Credentials<'a> {
    /// The credential, if there is one.
    #[must_use]
    pub fn of(secret: Option<&'a Secret>, auth: &'a Auth) -> Self {
        secret.map_or(Self::None, |secret| Self::Sent(secret, auth))
    }
}

/// One address of an upstream.
#[derive(Clone, Debug)]
pub struct Peer {
    socket: SocketAddr,
    host: String,
    authority: String,
    tls: Option<Arc<rustls::ClientConfig>>,
    headers: BTreeMap<String, String>,
    names: Vec<String>,
    quiet: Option<Quiet>,
    time: Option<Time>,
}

/// An open answer.
pub struct Answer {
    /// Its head.
    pub response: Response<Incoming>,
    /// Drives the connection; closes it when dropped.
    _connection: JoinSet<()>,
}

trait Line: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Line for T {}

impl Peer {
    /// Without encryption.
    #[must_use]
    pub fn plain(socket: SocketAddr, address: &Address) -> Self {
        Self {
            socket,
            host: address.host().to_owned(),
            authority: address.authority().to_owned(),
            tls: None,
            headers: BTreeMap::new(),
            names: Vec::new(),
            quiet: None,
            time: None,
        }
    }

    /// With encryption, and whom it is trusted as.
    #[must_use]
    pub fn encrypted(mut self, config: rustls::ClientConfig) -> Self {
        self.tls = Some(Arc::new(config));
        self
    }

    /// Whether it is spoken to encrypted.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        self.tls.is_some()
    }

    /// The host's name.
    #[must_use]
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The address that is spoken to.
    #[must_use]
    pub fn socket(&self) -> SocketAddr {
        self.socket
    }

    /// The names of the headers that the operator sets.
    #[must_use]
    pub fn header_names(&self) -> &[String] {
        &self.names
    }

    /// With the operator's headers.
    #[must_use]
    pub fn with_headers(mut self, headers: &BTreeMap<String, String>) -> Self {
        self.headers = headers.clone();
        self.names = headers.keys().cloned().collect();
        self
    }

    /// Asked within that time.
    #[must_use]
    pub fn within(mut self, time: Time) -> Self {
        self.time = Some(time);
        self
    }

    /// Asked only while that ends nothing.
    #[must_use]
    pub fn quietly(mut self, quiet: Option<Quiet>) -> Self {
        self.quiet = quiet;
        self
    }

    /// How long a look may take.
    fn look(&self) -> Duration {
        self.time.map_or(LOOK, |time| time.of_look())
    }

    /// Room for a look.
    async fn room(&self) -> Result<Option<LookRoom>, NotHeard> {
        let until = self.time.map_or_else(|| tokio::time::Instant::now() + LOOK, |time| time.until);
        match &self.quiet {
            None => Ok(None),
            Some(quiet) => quiet.look(until).await.map(Some).map_err(|Busy(answers)| match answers {
                // Other looks wait there for the server, as this one would have.
                0 => NotHeard::TimedOut(u64::try_from(self.look().as_millis()).unwrap_or(u64::MAX)),
                answers => NotHeard::Busy(answers),
            }),
        }
    }

    async fn line(&self) -> Result<Box<dyn Line>, NotHeard> {
        let tcp = timeout(CONNECT, TcpStream::connect(self.socket)).await;
        let tcp = tcp.ok().and_then(Result::ok).ok_or(NotHeard::NoConnection)?;
        // Small writes follow each other; without it some wait for an acknowledgement.
        let _unset = tcp.set_nodelay(true);
        let Some(config) = &self.tls else { return Ok(Box::new(tcp)) };
        let name = ServerName::try_from(self.host.clone()).map_err(|_| NotHeard::NoConnection)?;
        let tls = timeout(CONNECT, TlsConnector::from(config.clone()).connect(name, tcp)).await;
        let tls = tls.ok().and_then(Result::ok).ok_or(NotHeard::NoConnection)?;
        Ok(Box::new(tls))
    }

    /// Asks, and gives the answer as soon as its head is there.
    ///
    /// # Errors
    /// [`NotHeard`].
    pub async fn ask(
        &self,
        method: Method,
        url: &str,
        credentials: Credentials<'_>,
        body: Bytes,
        patience: Duration,
    ) -> Result<Answer, NotHeard> {
        let until = tokio::time::Instant::now() + patience;
        let request = self.request(method, url, credentials, body).ok_or(NotHeard::NoConnection)?;
        let line = self.line().await?;
        let (mut sender, connection) = http1::handshake(TokioIo::new(line)).await.map_err(|_| NotHeard::Broke)?;
        let mut tasks = JoinSet::new();
        tasks.spawn(async move {
            // How it ends is told to whoever waits for the answer.
            let _ended = connection.await;
        });
        match timeout_at(until, sender.send_request(request)).await {
            Ok(Ok(response)) => Ok(Answer { response, _connection: tasks }),
            Ok(Err(error)) => Err(not_heard(&error)),
            Err(_elapsed) => Err(NotHeard::TimedOut(u64::try_from(patience.as_millis()).unwrap_or(u64::MAX))),
        }
    }

    fn request(
        &self,
        method: Method,
        url: &str,
        credentials: Credentials<'_>,
        body: Bytes,
    ) -> Option<Request<Full<Bytes>>> {
        let uri: Uri = url.parse().ok()?;
        let mut path = uri.path_and_query().map_or("/", |path| path.as_str()).to_owned();
        let mut request = Request::builder()
            .method(method)
            .header(header::HOST, &self.authority)
            .header(header::ACCEPT, "application/json")
            .header(header::ACCEPT_ENCODING, "identity")
            .header(header::USER_AGENT, concat!("wendor/", env!("CARGO_PKG_VERSION")));
        if !body.is_empty() {
            request = request.header(header::CONTENT_TYPE, "application/json");
        }
        for (name, value) in &self.headers {
            request = request.header(name, value);
        }
        if let Credentials::Sent(secret, auth) = credentials {
            match auth {
                Auth::Bearer => request = request.header(header::AUTHORIZATION, authorization(secret.expose())),
                Auth::Header(name) => request = request.header(name, secret.expose()),
                Auth::Query(name) => {
                    let joint = if path.contains('?') { '&' } else { '?' };
                    path.push_str(&format!("{joint}{name}={}", wendor_wire::percent::escaped(secret.expose())));
                }
            }
        }
        request.uri(path).body(Full::new(body)).ok()
    }

    /// Looks at `url`.
    ///
    /// # Errors
    /// [`NotHeard`].
    pub async fn get(&self, url: &str, credentials: Credentials<'_>) -> Answered {
        let _room = self.room().await?;
        let answer = self.ask(Method::GET, url, credentials, Bytes::new(), self.look()).await?;
        answer.heard(self.look()).await
    }

    /// Asks with a body and hears all of the answer.
    ///
    /// # Errors
    /// [`NotHeard`].
    pub async fn post(&self, url: &str, credentials: Credentials<'_>, body: Bytes, patience: Duration) -> Answered {
        let _room = self.room().await?;
        self.ask(Method::POST, url, credentials, body, patience).await?.heard(patience).await
    }

    /// What the server's clock says.
    pub async fn clock(&self, url: &str) -> Option<DateTime<Utc>> {
        let answer = self.ask(Method::GET, url, Credentials::None, Bytes::new(), LOOK).await.ok()?;
        let date = answer.response.headers().get(header::DATE)?.to_str().ok()?;
        DateTime::parse_from_rfc2822(date).ok().map(|date| date.to_utc())
    }
}

impl Answer {
    /// All of it, as far as it may be read.
    ///
    /// # Errors
    /// [`NotHeard`] when it breaks off or takes too long.
    pub async fn heard(mut self, patience: Duration) -> Answered {
        let mut heard = head_of(&self.response);
        let until = tokio::time::Instant::now() + patience;
        let mut body = BytesMut::new();
        loop {
            match timeout_at(until, self.response.body_mut().frame()).await {
                Ok(None) => break,
                Ok(Some(Ok(frame))) => body.extend_from_slice(frame.data_ref().map_or(&[][..], |data| data)),
                Ok(Some(Err(_))) => return Err(NotHeard::Broke),
                Err(_elapsed) => {
                    return Err(NotHeard::TimedOut(u64::try_from(patience.as_millis()).unwrap_or(u64::MAX)));
                }
            }
            if body.len() > MOST_BYTES {
                break;
            }
        }
        heard.body = body.freeze();
        Ok(heard)
    }
}

/// Why no answer came.
fn not_heard(error: &hyper::Error) -> NotHeard {
    let kind = std::error::Error::source(error).and_then(|cause| cause.downcast_ref::<std::io::Error>());
    if error.is_parse() {
        NotHeard::NotHttp(Words::Bytes)
    } else if kind.is_some_and(|error| error.kind() == std::io::ErrorKind::ConnectionReset) {
        NotHeard::Reset
    } else if error.is_incomplete_message() || error.is_canceled() || error.is_closed() {
        NotHeard::Closed
    } else {
        NotHeard::Broke
    }
}

fn head_of(response: &Response<Incoming>) -> Heard {
    let text = |name: header::HeaderName| response.headers().get(name).and_then(|value| value.to_str().ok());
    let content_type = text(header::CONTENT_TYPE).unwrap_or_default();
    Heard {
        status: response.status().as_u16(),
        content_type: content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase(),
        location: text(header::LOCATION).map(str::to_owned),
        server: text(header::SERVER).map(str::to_owned),
        challenge: text(header::WWW_AUTHENTICATE).or_else(|| text(header::PROXY_AUTHENTICATE)).map(str::to_owned),
        retry_after: text(header::RETRY_AFTER).and_then(|text| text.trim().parse().ok()),
        body: Bytes::new(),
    }
}

/// An answer without the credential, which some servers repeat.
#[must_use]
pub fn scrubbed(heard: Heard, secret: Option<&Secret>) -> Heard {
    let Some(secret) = secret else { return heard };
    let text = String::from_utf8_lossy(&heard.body);
    if text.contains(secret.expose()) {
        Heard { body: Bytes::from(text.replace(secret.expose(), "(the key)")), ..heard }
    } else {
        heard
    }
}
