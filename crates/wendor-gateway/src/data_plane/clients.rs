//! The HTTP clients of one worker: connections to upstreams are kept by worker, so that no request wakes another thread.
//!
//! The time to connect belongs to the connector, and stages may set it, so there is one client for each such time in use, and one of its
//! own for each upstream that is pinned to a certificate or is shown one.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioTimer};
use wendor_core::catalog::upstream::Fingerprint;

use super::dated::Dated;
use super::pieces::Pieces;
use crate::hosts::Hosts;
use crate::identity::{Identity, Showing};
use crate::trust::Trust;

pub use super::dated::was_kept;

/// How long a connection is kept that nobody uses: a new one costs a TLS handshake, and many servers keep theirs for a minute.
const IDLE: Duration = Duration::from_secs(60);

/// Connections to one host that are kept while nobody uses them: an idle one costs as much memory as an open one.
const KEPT_A_HOST: usize = 64;

/// A client of upstreams.
pub type HttpClient = Client<Dated<HttpsConnector<HttpConnector<Hosts>>>, Pieces>;

/// What sets a client apart: its time to connect, the certificate that the server is pinned to, and the identity that it is shown.
type Special = (Duration, Option<Fingerprint>, Option<Identity>);

/// The clients of one worker.
#[derive(Debug)]
pub struct Clients {
    usual: RefCell<HashMap<Duration, HttpClient>>,
    special: RefCell<HashMap<Special, HttpClient>>,
    trust: Trust,
    hosts: Hosts,
}

impl Clients {
    /// None yet; those to come trust and find servers so.
    #[must_use]
    pub fn new(trust: Trust, hosts: Hosts) -> Self {
        Self { usual: RefCell::default(), special: RefCell::default(), trust, hosts }
    }

    /// The client that takes at most `connect` to connect, for a server that is pinned to that certificate or to none, and that is shown that
    /// identity or none.
    #[must_use]
    pub fn with_connect(
        &self,
        connect: Duration,
        pin: Option<&Fingerprint>,
        identity: Option<&Identity>,
    ) -> HttpClient {
        let made = || build(connect, &self.trust, pin, identity, self.hosts.clone());
        if pin.is_none() && identity.is_none() {
            return self.usual.borrow_mut().entry(connect).or_insert_with(made).clone();
        }
        let kind = (connect, pin.cloned(), identity.cloned());
        self.special.borrow_mut().entry(kind).or_insert_with(made).clone()
    }
}

fn build(
    connect: Duration,
    trust: &Trust,
    pin: Option<&Fingerprint>,
    identity: Option<&Identity>,
    hosts: Hosts,
) -> HttpClient {
    let mut tcp = HttpConnector::new_with_resolver(hosts);
    tcp.set_connect_timeout(Some(connect));
    tcp.set_nodelay(true);
    tcp.enforce_http(false);
    let connector = hyper_rustls::HttpsConnectorBuilder::new()
        .with_tls_config(trust.config_showing(trust.verifier(pin), Arc::new(Showing::of(identity))))
        .https_or_http()
        .enable_http1()
        .wrap_connector(tcp);
    Client::builder(TokioExecutor::new())
        .pool_idle_timeout(IDLE)
        .pool_max_idle_per_host(KEPT_A_HOST)
        .pool_timer(TokioTimer::new())
        .build(Dated(connector))
}
