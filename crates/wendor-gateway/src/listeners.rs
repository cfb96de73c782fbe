//! Where requests arrive: one listener for everybody, or one for apps and one for people, each encrypted or not. What is asked on which
//! is decided by what is put there, so that no way of writing a path leads from one to the other.

use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::{Extensions, Server, fn_service};
use actix_web::http::header;
use actix_web::middleware::DefaultHeaders;
use actix_web::rt::net::TcpStream;
use actix_web::{App as WebApp, HttpResponse, guard, web};
use tokio::sync::watch;
use utoipa_actix_web::AppExt;

use crate::app::App;
use crate::caller::is_plain;
use crate::certificates::{BadCertificate, Certificate};
use crate::data_plane::clients::Clients;
use crate::settings::Settings;
use crate::settings::listening::{For, Listening};
use crate::settings::timing::Timing;
use crate::sharing::Connection;
use crate::sockets::{self, Keeping};
use crate::{admin, console, data_plane, vital};

/// How long a write to an app may be blocked: a client that stopped reading without closing holds a stream no longer.
const BLOCKED_WRITE: Duration = Duration::from_secs(45);

/// How long an idle connection of an app stays open: longer than client libraries keep theirs, since one that closes first
/// while a request is on its way costs the app an error.
const IDLE_APP: Duration = Duration::from_secs(75);

/// How long what is under way at the end of the grace must be told so.
const TOLD: Duration = Duration::from_secs(3);

/// Threads for people, where they have a listener of their own.
const WORKERS_OF_PEOPLE: usize = 1;

/// How browsers are told to come back encrypted, for a year.
const COME_BACK_ENCRYPTED: &str = "max-age=31536000";

/// Where requests arrive.
#[derive(Debug)]
pub struct Listeners {
    /// For apps; for everybody where there is no other.
    pub apps: TcpListener,
    /// For people.
    pub management: Option<TcpListener>,
}

/// The certificates of the listeners.
#[derive(Debug)]
pub(crate) struct Certificates {
    apps: Option<Certificate>,
    management: Option<Certificate>,
}

impl Listeners {
    /// Each with its certificate.
    pub(crate) fn with<'a>(
        &'a self,
        certificates: &'a Certificates,
    ) -> impl Iterator<Item = (&'a TcpListener, Option<&'a Certificate>)> {
        let management = self.management.as_ref().map(|listener| (listener, certificates.management.as_ref()));
        std::iter::once((&self.apps, certificates.apps.as_ref())).chain(management)
    }
}

impl Certificates {
    /// Reads them.
    ///
    /// # Errors
    /// [`BadCertificate`].
    pub(crate) fn read(listening: &Listening) -> Result<Self, BadCertificate> {
        let read = |whom| listening.certificate_of(whom).map(Certificate::read).transpose();
        let management = if listening.manage_listen.is_some() { read(For::Management)? } else { None };
        Ok(Self { apps: read(For::Apps)?, management })
    }
}

/// Serves until it is told to stop, and lets open streams finish.
///
/// # Errors
/// When a server fails.
pub(crate) async fn run(
    app: Arc<App>,
    listeners: Listeners,
    certificates: Certificates,
    mut stop: watch::Receiver<bool>,
) -> std::io::Result<()> {
    let Listeners { apps, management } = listeners;
    let whom = if management.is_some() { For::Apps } else { For::Everybody };
    let mut servers = vec![server(&app, apps, whom, certificates.apps.as_ref())?];
    if let Some(listener) = management {
        servers.push(server(&app, listener, For::Management, certificates.management.as_ref())?);
    }
    for certificate in [certificates.apps, certificates.management].into_iter().flatten() {
        tokio::spawn(certificate.follow(stop.clone()));
    }
    let handles: Vec<_> = servers.iter().map(Server::handle).collect();
    let stopping = tokio::spawn(async move {
        // A sender that is gone means the same as the signal.
        stop.wait_for(|stop| *stop).await.map(|_| ()).ok();
        let Timing { stop_notice, grace, .. } = app.settings.timing;
        app.stopping.announce();
        tracing::info!(?stop_notice, "stopping: /readyz says so");
        tokio::time::sleep(stop_notice).await;
        tracing::info!(?grace, "stopping: open streams may finish");
        let stopped = futures_util::future::join_all(handles.iter().map(|handle| handle.stop(true)));
        tokio::pin!(stopped);
        if tokio::time::timeout(grace, &mut stopped).await.is_err() {
            tracing::warn!(?grace, "what is still under way is told that the service stops");
            app.stopping.end();
            stopped.await;
        }
    });
    let served = futures_util::future::try_join_all(servers).await;
    stopping.abort();
    served.map(|_| ())
}

/// Part of what is answered on a listener, whoever it is for.
fn hardened(is_encrypted: bool) -> DefaultHeaders {
    // Outside the console nothing that is answered here is a page, whatever it looks like; the console has its own policy.
    let headers = DefaultHeaders::new()
        .add((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .add((header::CONTENT_SECURITY_POLICY, "default-src 'none'; sandbox"))
        .add((header::CROSS_ORIGIN_RESOURCE_POLICY, "same-origin"));
    if is_encrypted { headers.add((header::STRICT_TRANSPORT_SECURITY, COME_BACK_ENCRYPTED)) } else { headers }
}

fn server(
    app: &Arc<App>,
    listener: TcpListener,
    whom: For,
    certificate: Option<&Certificate>,
) -> std::io::Result<Server> {
    let address = listener.local_addr()?;
    let Settings { workers, timing, connections, ref listening, .. } = app.settings;
    let workers = if whom == For::Management { WORKERS_OF_PEOPLE } else { workers };
    let is_encrypted = certificate.is_some() || listening.url_of(whom).is_some_and(|url| url.is_encrypted());
    let open = app.metrics.connections_open.clone();
    let (trust, hosts) = (app.trust.clone(), app.hosts.clone());
    let data = web::Data::from(app.clone());
    let openapi = web::Data::new(admin::Document::make());
    let web_app = move || {
        // In the order in which a path is compared: what apps ask for first.
        let (web_app, _) = WebApp::new()
            .configure(|config| of_apps(config, whom))
            .into_utoipa_app()
            .configure(|config| of_people(config, whom))
            .split_for_parts();
        web_app
            .wrap(hardened(is_encrypted))
            .app_data(data.clone())
            .app_data(openapi.clone())
            .app_data(admin::problem::json_config())
            .app_data(admin::problem::query_config())
            .app_data(admin::problem::path_config())
            // One a worker: connections to upstreams never cross threads.
            .app_data(web::Data::new(Clients::new(trust.clone(), hosts.clone())))
            .configure(|config| nothing_else(config, whom))
    };
    let keeping = Keeping {
        workers,
        most: connections.div_ceil(workers),
        idle: IDLE_APP,
        head: timing.head,
        // What is still under way at the end of the grace is told, which takes a moment.
        grace_s: (timing.grace + TOLD).as_secs().max(1),
    };
    let connected =
        move |stream: &TcpStream, is_encrypted, extensions: &mut _| connected(stream, is_encrypted, extensions, &open);
    let server = sockets::serve(listener, certificate.map(Certificate::config), keeping, connected, web_app)?;
    let scheme = if certificate.is_some() { "https" } else { "http" };
    match whom {
        For::Management => tracing::info!(%address, scheme, "listening for management"),
        For::Apps | For::Everybody => tracing::info!(%address, scheme, "listening"),
    }
    Ok(server)
}

/// The path that most apps use, and those of watchers. Every other path of apps is told apart by [`data_plane::any`], which takes what
/// nobody else does; those of the management API stand in [`admin::routes`].
fn of_apps(config: &mut web::ServiceConfig, whom: For) {
    if whom.has_apps() {
        config.service(web::resource("/v1/chat/completions").default_service(fn_service(data_plane::chat_completions)));
    }
    let plainly = || guard::fn_guard(|context| is_plain(context.head()));
    config
        .route("/errors", web::get().to(data_plane::error_page::list))
        .route("/errors/{code}", web::get().to(data_plane::error_page::page))
        .service(vital::livez_resource());
    if whom.has_management() {
        config
            .route("/readyz", vital::looked_at().to(vital::readyz))
            .route("/metrics", web::get().guard(plainly()).to(vital::metrics));
    } else {
        config.route("/readyz", vital::looked_at().to(vital::ready));
    }
}

fn of_people(config: &mut utoipa_actix_web::service_config::ServiceConfig<'_>, whom: For) {
    if whom.has_management() {
        admin::routes(config);
    }
}

/// What is asked for and is not there.
fn nothing_else(config: &mut web::ServiceConfig, whom: For) {
    if whom.has_management() {
        config.configure(console::routes);
    }
    if whom.has_apps() {
        config.default_service(fn_service(data_plane::any));
    } else {
        config.default_service(web::to(|| async {
            let words =
                "There is nothing here: this address is of the console and the management API; apps ask another one.\n";
            HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(words)
        }));
    }
}

fn connected(stream: &TcpStream, is_encrypted: bool, extensions: &mut Extensions, open: &prometheus::IntGauge) {
    extensions.insert(Connection::accepted(open.clone(), is_encrypted));
    // No write to an app stays blocked for ever. Where the system has no such option it does, as without this.
    let _unset = socket2::SockRef::from(stream).set_tcp_user_timeout(Some(BLOCKED_WRITE));
}
