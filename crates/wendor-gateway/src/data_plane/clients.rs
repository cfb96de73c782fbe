//! The HTTP clients of one worker: connections to upstreams are kept by worker, so that no request wakes another thread.
//!
//! The time to connect belongs to the connector, and stages may set it, so there is one client for each such time in use.

use std::cell::RefCell;
use std::collections::HashMap;
use std::time::Duration;

use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioTimer};

use super::pieces::Pieces;

/// An idle connection costs as much memory as an open one, so it is not kept long.
const IDLE: Duration = Duration::from_secs(2);

/// A client of upstreams.
pub type HttpClient = Client<HttpsConnector<HttpConnector>, Pieces>;

/// The clients of one worker.
#[derive(Debug, Default)]
pub struct Clients(RefCell<HashMap<Duration, HttpClient>>);

impl Clients {
    /// The client that takes at most `connect` to connect.
    #[must_use]
    pub fn with_connect(&self, connect: Duration) -> HttpClient {
        self.0.borrow_mut().entry(connect).or_insert_with(|| build(connect)).clone()
    }
}

fn build(connect: Duration) -> HttpClient {
    let mut tcp = HttpConnector::new();
    tcp.set_connect_timeout(Some(connect));
    tcp.set_nodelay(true);
    tcp.enforce_http(false);
    let connector = hyper_rustls::HttpsConnectorBuilder::new()
        .with_webpki_roots()
        .https_or_http()
        .enable_http1()
        .wrap_connector(tcp);
    Client::builder(TokioExecutor::new()).pool_idle_timeout(IDLE).pool_timer(TokioTimer::new()).build(connector)
}
