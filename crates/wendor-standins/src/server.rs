//! One stand-in: a server on loopback that answers, fails as told, and keeps a tally of what it served.
//!
//! A [`Profile`] enters; the running [`StandIn`] leaves. Dropping it stops it and frees its port. Each connection is a
//! task that the stand-in owns; refusing aborts them all, as a server that dies would.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use bytes::Bytes;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response, header};
use hyper_util::rt::TokioIo;
use tokio::net::{TcpListener, TcpSocket};
use tokio::task::{JoinHandle, JoinSet};
use tokio_rustls::TlsAcceptor;
use wendor_core::diagnosis::listing::is_called;
use wendor_wire::asked::AppRequest;
use wendor_wire::endpoint::{Endpoint, Kind, Passed};

use crate::asked::{asked, taken};
use crate::chat::{self, Account, AnswerBody};
use crate::fault::Fault;
use crate::manners::Manners;
use crate::memory::{Shared, State};
use crate::other;
use crate::places::{Found, found, request_of};

pub use crate::memory::{Outcome, Profile, Replay, Seen, Served, Tally};

/// Connections that may wait to be accepted.
const BACKLOG: u32 = 1_024;

/// A running stand-in.
pub struct StandIn {
    shared: Arc<Shared>,
    address: SocketAddr,
    tls: Option<TlsAcceptor>,
    /// The task that takes connections; none while it refuses them.
    accepting: tokio::sync::Mutex<Option<JoinHandle<()>>>,
    /// Bound and never listened on, so that nobody else gets the port while connections are refused.
    _held: TcpSocket,
}

impl StandIn {
    /// Starts one.
    ///
    /// # Errors
    /// When it cannot listen on its address.
    pub async fn start(profile: Profile) -> std::io::Result<Self> {
        Self::start_with(profile, None).await
    }

    /// Starts one that speaks TLS.
    ///
    /// # Errors
    /// When it cannot listen on its address.
    pub async fn start_encrypted(profile: Profile, tls: rustls::ServerConfig) -> std::io::Result<Self> {
        Self::start_with(profile, Some(TlsAcceptor::from(Arc::new(tls)))).await
    }

    #[expect(clippy::unused_async, reason = "needs the runtime that it is awaited in")]
    async fn start_with(profile: Profile, tls: Option<TlsAcceptor>) -> std::io::Result<Self> {
        let held = bound(profile.listen)?;
        let address = held.local_addr()?;
        let listener = bound(address)?.listen(BACKLOG)?;
        let state = State { manners: profile.manners.clone(), models: profile.models.clone(), ..State::default() };
        let shared = Arc::new(Shared { profile, state: Mutex::new(state), turn: Arc::default() });
        let accepting = tokio::spawn(accept(listener, shared.clone(), tls.clone()));
        Ok(Self { shared, address, tls, accepting: tokio::sync::Mutex::new(Some(accepting)), _held: held })
    }

    /// Gives it other manners.
    pub fn set_manners(&self, manners: Manners) {
        self.shared.state().manners = manners;
    }

    /// Lets it serve other models.
    pub fn serve_models(&self, models: &[&str]) {
        self.shared.state().models = models.iter().map(ToString::to_string).collect();
    }

    /// As its faults are set by.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.shared.profile.name
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The fault that it shows.
    #[must_use]
    pub fn fault(&self) -> Fault {
        self.shared.state().fault.clone()
    }

    /// Lets it fail, or be well again. When this returns, the next request meets the fault.
    ///
    /// # Errors
    /// When it was refusing and its address was taken meanwhile.
    pub async fn set_fault(&self, fault: Fault) -> std::io::Result<()> {
        let mut accepting = self.accepting.lock().await;
        let refuses = fault == Fault::Refuse;
        self.shared.state().fault = fault;
        if refuses {
            if let Some(task) = accepting.take() {
                task.abort();
                // Its listener is closed once the task is gone; that it was aborted is no news.
                let _aborted = task.await;
            }
        } else if accepting.is_none() {
            let listener = bound(self.address)?.listen(BACKLOG)?;
            *accepting = Some(tokio::spawn(accept(listener, self.shared.clone(), self.tls.clone())));
        }
        Ok(())
    }

    /// The next request is answered with this, before any fault.
    pub fn replay(&self, replay: Replay) {
        self.shared.state().replays.push_back(replay);
    }

    /// The last look (a `GET`) as it came.
    #[must_use]
    pub fn last_look(&self) -> Option<Seen> {
        self.shared.state().last_look.clone()
    }

    /// Looks that came.
    #[must_use]
    pub fn looks(&self) -> u64 {
        self.shared.state().listings
    }

    /// The last question as it came.
    #[must_use]
    pub fn last_seen(&self) -> Option<Seen> {
        self.shared.state().last_seen.clone()
    }

    /// The events that it took, in the order in which they came.
    #[must_use]
    pub fn events(&self) -> Vec<Seen> {
        self.shared.state().events.iter().cloned().collect()
    }

    /// Sums of what it served.
    #[must_use]
    pub fn tally(&self) -> Tally {
        self.shared.state().tally
    }

    /// Every answer it remembers, in the order in which they ended.
    #[must_use]
    pub fn served(&self) -> Vec<Served> {
        self.shared.state().served.iter().cloned().collect()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        if let Some(task) = self.accepting.get_mut() {
            task.abort();
        }
    }
}

/// A socket bound to `address`. Several may be, as long as only one of them listens.
fn bound(address: SocketAddr) -> std::io::Result<TcpSocket> {
    let socket = TcpSocket::new_v4()?;
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    Ok(socket)
}

async fn accept(listener: TcpListener, shared: Arc<Shared>, tls: Option<TlsAcceptor>) {
    let mut connections = JoinSet::new();
    loop {
        // Connections that are over are taken out, so that the set holds only open ones.
        while connections.try_join_next().is_some() {}
        match listener.accept().await {
            Ok((stream, _)) => {
                let _unset = stream.set_nodelay(true);
                let (shared, tls) = (shared.clone(), tls.clone());
                connections.spawn(async move {
                    let service = service_fn(move |request| answer(shared.clone(), request));
                    let server = hyper::server::conn::http1::Builder::new();
                    // A broken connection is the client's choice or ours; there is nobody to tell.
                    match tls {
                        None => drop(server.serve_connection(TokioIo::new(stream), service).await),
                        Some(tls) => {
                            if let Ok(stream) = tls.accept(stream).await {
                                drop(server.serve_connection(TokioIo::new(stream), service).await);
                            }
                        }
                    }
                });
            }
            // Out of file handles or the like: try again in a moment instead of spinning.
            Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
        }
    }
}

/// Answers, with a clock that may be wrong.
async fn answer(shared: Arc<Shared>, request: Request<Incoming>) -> Result<Response<AnswerBody>, std::io::Error> {
    let ahead = shared.manners().clock_ahead;
    let mut response = respond(shared, request).await?;
    if ahead != 0 {
        let date = (chrono::Utc::now() + chrono::TimeDelta::seconds(ahead)).to_rfc2822().replace("+0000", "GMT");
        response.headers_mut().extend(date.parse().ok().map(|date| (header::DATE, date)));
    }
    Ok(response)
}

/// Remembers what came. Gives the reply that is to be given word for word, if there is one, and the fault that is shown.
fn remembered(shared: &Shared, head: &hyper::http::request::Parts, body: &Bytes) -> (Option<Replay>, Fault) {
    let text = |value: &header::HeaderValue| value.to_str().unwrap_or_default().to_owned();
    let headers: Vec<_> = head.headers.iter().map(|(name, value)| (name.to_string(), text(value))).collect();
    let mut state = shared.state();
    let path = head.uri.path_and_query().map(ToString::to_string).unwrap_or_default();
    let seen = Some(Seen { path, headers, body: body.clone() });
    // Looks come whenever the gateway likes; what is counted and replayed are questions.
    if head.method == hyper::Method::GET || head.uri.path().ends_with("/api/show") {
        state.last_look = seen;
        (None, state.fault.clone())
    } else {
        state.tally.requests += 1;
        state.last_seen = seen;
        (state.replays.pop_front(), state.fault.clone())
    }
}

async fn respond(shared: Arc<Shared>, request: Request<Incoming>) -> Result<Response<AnswerBody>, std::io::Error> {
    use http_body_util::BodyExt;
    let (head, body) = request.into_parts();
    let body = body.collect().await.map_err(std::io::Error::other)?.to_bytes();
    if head.method == hyper::Method::GET {
        shared.state().listings += 1;
    }
    let turn = if shared.manners().one_at_a_time { Some(shared.turn.clone().lock_owned().await) } else { None };
    let mut response = answered(shared, head, body).await?;
    if let AnswerBody::Stream(stream) = response.body_mut() {
        stream.holds = turn;
    }
    Ok(response)
}

async fn answered(
    shared: Arc<Shared>,
    head: hyper::http::request::Parts,
    body: Bytes,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let text = |value: &header::HeaderValue| value.to_str().unwrap_or_default().to_owned();
    let (replay, fault) = remembered(&shared, &head, &body);
    if let Some(replay) = replay {
        return Ok(replayed(replay));
    }
    if shared.manners().takes_events && head.uri.path() == "/events" {
        return Ok(taken(&shared, fault));
    }
    let dialect = shared.profile.dialect;
    if shared.manners().refuses_looks && head.method == hyper::Method::GET {
        return Ok(chat::error(dialect, 429, "rate_limit_exceeded", "There are too many looks."));
    }
    let query = head.uri.query().unwrap_or_default();
    let manners = shared.manners();
    if let Some(shown) = manners.at_the_door(dialect, &head.headers) {
        return Ok(shown);
    }
    let nothing = || Ok(chat::error(dialect, 404, "not_found", "There is nothing at this path."));
    let path = manners.below(head.uri.path());
    let wanted = shared.profile.credential.as_ref().filter(|_| path.is_some() || manners.guards_all);
    let is_known = |wanted: &String| {
        manners.takes_key(&head.headers, query, wanted).unwrap_or_else(|| presents(&head.headers, query, wanted))
    };
    if !wanted.is_none_or(is_known) {
        if manners.hides_listing {
            return nothing();
        }
        return Ok(if manners.bare_errors {
            chat::json(AnswerBody::whole(r#"{"detail":"Not authenticated"}"#)).with_status(401)
        } else {
            chat::error(dialect, 401, "invalid_api_key", "The credential is not valid.")
        });
    }
    let Some(path) = path else { return nothing() };
    let Some(request) = request_of(head.headers.get("x-request-id").map(text)) else {
        return Ok(chat::json(AnswerBody::whole("")).with_status(400));
    };
    match found(&shared, &manners, head.method.as_str(), path) {
        Found::Answered(response) => Ok(response),
        Found::Endpoint(endpoint) => asked(shared, endpoint, Question { request, body }, fault).await,
    }
}

pub(crate) trait WithStatus {
    fn with_status(self, status: u16) -> Self;
}

impl WithStatus for Response<AnswerBody> {
    fn with_status(mut self, status: u16) -> Self {
        *self.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
        self
    }
}

/// Whether the credential came, in any of the places where servers look for one.
fn presents(headers: &header::HeaderMap, query: &str, wanted: &str) -> bool {
    let is_bearer = headers.get(header::AUTHORIZATION).is_some_and(|value| *value == *format!("Bearer {wanted}"));
    let is_key = |(name, value): (&header::HeaderName, &header::HeaderValue)| {
        name.as_str().ends_with("api-key") && value == wanted
    };
    is_bearer || headers.iter().any(is_key) || query.split('&').any(|pair| pair == format!("key={wanted}"))
}

/// A question that came.
pub(crate) struct Question {
    /// Wendor's id of the request, where it came with one.
    pub request: Option<String>,
    /// What was asked.
    pub body: Bytes,
}

pub(crate) async fn served(
    shared: Arc<Shared>,
    endpoint: Endpoint,
    Question { request, body }: Question,
    fault: Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let dialect = shared.profile.dialect;
    let unreadable = || Ok(chat::error(dialect, 400, "invalid_value", "The request cannot be read."));
    let asked = match AppRequest::read(endpoint, &body) {
        Ok(asked) => asked,
        Err(wrong) => return Ok(chat::error(dialect, 400, "invalid_value", &wrong.to_string())),
    };
    let model = asked.route.strip_prefix("models/").unwrap_or(&asked.route);
    let manners = shared.manners();
    if let Some((status, code, message)) = &manners.refuses {
        return Ok(chat::error(dialect, *status, code, message));
    }
    let knows = manners.any_name || shared.state().models.iter().any(|known| is_called(known, model));
    if !knows {
        return Ok(chat::error(dialect, 404, "model_not_found", "The model does not exist."));
    }
    if manners.refuses_models.iter().any(|refused| is_called(refused, model)) {
        return Ok(chat::error(dialect, 403, "forbidden", "This model is for others."));
    }
    if let Kind::Chat(_) = &asked.endpoint.kind {
        return match asked.understood(&body) {
            Ok(conversation) => chat::complete(shared, asked, conversation, request, fault).await,
            // Roles that there are not, members of another type: said with the member's name.
            Err(wrong) => Ok(chat::error(dialect, 400, "invalid_value", &wrong.to_string())),
        };
    }
    if let Some(shown) = chat::fault_at_once(dialect, &fault) {
        return Ok(shown);
    }
    let (reply, input, output) = match &asked.endpoint.kind {
        Kind::Embed(form, _) => match other::vectors(*form, &asked, &body) {
            Some((reply, tokens)) => (reply, tokens, 0),
            None => return unreadable(),
        },
        Kind::Count(_) => return Ok(chat::json(AnswerBody::whole(other::counted(&body).to_string()))),
        Kind::Passed(passed) => {
            let asked: serde_json::Value = serde_json::from_slice(&body).unwrap_or_default();
            if *passed == Passed::Completions && asked["stream"] == true {
                return streamed_text(shared, &asked, request, &fault);
            }
            let (reply, input, output) = other::completed(&shared.profile, *passed, &asked);
            (reply.to_string(), input, output)
        }
        Kind::Chat(_) | Kind::Models | Kind::Model(_) | Kind::ShowModel | Kind::Loaded | Kind::Version => {
            return unreadable();
        }
    };
    let account = Account::open(&shared, request, input, output);
    chat::whole(Bytes::from(reply), output, account, &fault)
}

/// A legacy text that streams.
fn streamed_text(
    shared: Arc<Shared>,
    asked: &serde_json::Value,
    request: Option<String>,
    fault: &Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let (body, input, output) = other::streamed(&shared.profile, asked);
    let account = Account::open(&shared, request, input, output);
    let mut response = chat::whole(Bytes::from(body), output, account, fault)?;
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("text/event-stream"));
    Ok(response)
}

fn replayed(replay: Replay) -> Response<AnswerBody> {
    let mut response = Response::new(AnswerBody::whole(replay.body));
    *response.status_mut() = hyper::StatusCode::from_u16(replay.status).unwrap_or_default();
    for (name, value) in replay.headers {
        if let (Ok(name), Ok(value)) = (header::HeaderName::try_from(name), header::HeaderValue::try_from(value)) {
            response.headers_mut().insert(name, value);
        }
    }
    response
}

#[cfg(test)]
mod tests;
