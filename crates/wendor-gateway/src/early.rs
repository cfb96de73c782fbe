//! What is answered before the service can serve: that it lives and is not ready yet, whatever the database does. It listens where the
//! service will, on the same sockets, so that nothing is refused when the one takes the place of the other.

use std::io;

use actix_web::dev::{Server, ServerHandle};
use actix_web::http::header::{CONNECTION, RETRY_AFTER};
use actix_web::{App, HttpResponse, HttpServer, web};
use tokio::task::JoinHandle;

use crate::listeners::{Certificates, Listeners};
use crate::settings::Settings;
use crate::settings::timing::Timing;
use crate::vital;

/// The servers that answer meanwhile.
#[derive(Debug)]
pub(crate) struct Early {
    handles: Vec<ServerHandle>,
    running: JoinHandle<io::Result<Vec<()>>>,
}

impl Early {
    /// Begins to answer on every listener.
    ///
    /// # Errors
    /// When a listener cannot be shared.
    pub(crate) fn begin(listeners: &Listeners, certificates: &Certificates, settings: &Settings) -> io::Result<Self> {
        let mut servers = Vec::new();
        for (listener, certificate) in listeners.with(certificates) {
            servers.push(server(listener.try_clone()?, certificate.map(|one| one.config()), settings.timing)?);
        }
        let handles = servers.iter().map(Server::handle).collect();
        Ok(Self { handles, running: tokio::spawn(futures_util::future::try_join_all(servers)) })
    }

    /// Ends; what it was asked meanwhile is answered.
    pub(crate) async fn end(self) {
        futures_util::future::join_all(self.handles.iter().map(|handle| handle.stop(true))).await;
        if let Ok(Err(error)) = self.running.await {
            tracing::warn!(%error, "what is answered before the service is ready failed");
        }
    }
}

fn server(
    listener: std::net::TcpListener,
    encrypted: Option<rustls::ServerConfig>,
    timing: Timing,
) -> io::Result<Server> {
    let server = HttpServer::new(|| App::new().service(vital::livez_resource()).default_service(web::to(not_ready)))
        .workers(1)
        .client_request_timeout(timing.head)
        .tls_handshake_timeout(timing.head)
        .shutdown_timeout(1)
        .disable_signals();
    let server = match encrypted {
        Some(config) => server.listen_rustls_0_23(listener, config)?,
        None => server.listen(listener)?,
    };
    Ok(server.run())
}

/// Everything but whether it lives.
async fn not_ready() -> HttpResponse {
    HttpResponse::ServiceUnavailable()
        .insert_header((RETRY_AFTER, "1"))
        // The next one is to come to the service itself.
        .insert_header((CONNECTION, "close"))
        .content_type("text/plain; charset=utf-8")
        .body("not ready: the service starts, and waits for its database\n")
}
