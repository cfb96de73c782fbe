//! Starting the service, and ending it in order: takes what the world provides, runs until told to stop.

use std::collections::HashMap;
use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::{Extensions, ServerHandle, fn_service};
use actix_web::http::header;
use actix_web::middleware::DefaultHeaders;
use actix_web::{App as WebApp, HttpServer, web};
use arc_swap::ArcSwap;
use chrono::TimeDelta;
use tokio::sync::watch;
use utoipa_actix_web::AppExt;
use wendor_core::audit::Doer;
use wendor_store::{Store, StoreError};

use crate::allowances::{Allowances, Settled};
use crate::app::{App, Bodies, Ids, SignIns};
use crate::clock::Clock;
use crate::credentials::Keyring;
use crate::data_plane;
use crate::data_plane::clients::Clients;
use crate::fleet::Fleet;
use crate::hosts::{BadHosts, Hosts};
use crate::metrics::Metrics;
use crate::recent::Recent;
use crate::settings::Settings;
use crate::snapshot::Snapshot;
use crate::spool::{Claim, Place, Spool, SpoolError, SpoolReader};
use crate::tasks::{inventory, orphans, retention, revision_watch, spool_drain};
use crate::trust::{BadAuthorities, Trust};
use crate::{admin, console, credentials, vital};

/// How long a write to an app may be blocked: a client that stopped reading without closing holds a stream no longer.
const BLOCKED_WRITE: Duration = Duration::from_secs(45);

/// How long an idle connection of an app stays open: longer than client libraries keep theirs, since one that closes first
/// while a request is on its way costs the app an error.
const IDLE_APP: Duration = Duration::from_secs(75);

/// How far back quota windows are read at start: a month and a day.
const WINDOWS_BACK: TimeDelta = TimeDelta::days(32);

/// Pauses between tries to reach the database at start.
const DATABASE_PAUSES: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(10));

/// What the world provides.
#[derive(Debug)]
pub struct World {
    /// Checked settings.
    pub settings: Settings,
    /// Where requests arrive.
    pub listener: TcpListener,
    /// The records.
    pub store: Store,
    /// What time it is.
    pub clock: Clock,
    /// A number that this process drew, for its request ids.
    pub process: u32,
    /// Says when to stop.
    pub stop: watch::Receiver<bool>,
}

/// Why the service cannot run.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The spool cannot be opened.
    #[error(transparent)]
    Spool(#[from] SpoolError),
    /// The spool's entries cannot be read.
    #[error("the spool cannot be read: {0}")]
    SpoolRead(std::io::Error),
    /// The database refuses, or is too new.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Further authorities cannot be read.
    #[error(transparent)]
    Authorities(#[from] BadAuthorities),
    /// The hosts file cannot be read.
    #[error(transparent)]
    Hosts(#[from] BadHosts),
    /// The server failed.
    #[error("the server failed: {0}")]
    Server(#[from] std::io::Error),
}

/// Runs the service until it is told to stop, then lets open streams finish within the grace time.
///
/// # Errors
/// [`ServeError`] when it cannot start, or the server fails.
pub async fn serve(world: World) -> Result<(), ServeError> {
    let World { settings, listener, store, clock, process, mut stop } = world;
    let (trust, hosts) = outward(&settings)?;
    let claim = Claim::take(&settings.spool)?;
    if !reach_database(&store, &mut stop).await? {
        return Ok(());
    }
    claim.bind(&store.installation().await?)?;
    // The place and the windows come from the same transactions, so that nothing is counted twice.
    let place = |place: wendor_store::ledger::SpoolPlace| Place { segment: place.segment, offset: place.offset };
    let place = store.spool_place(claim.id()).await?.map(place);
    let (spool, reader) = Spool::open(claim, place, settings.spool_options)?;
    let allowances = Allowances::new(settled_so_far(&store, &reader, &clock).await?);
    let keyring = Keyring::of(&settings);
    keep_anew(&store, &keyring, &Doer::service(clock.now())).await?;
    let snapshot = Snapshot::read(&store, (&keyring, &hosts), clock.now()).await?;
    tracing::info!(revision = snapshot.revision, keys = snapshot.keys.len(), "now serving");
    let app = Arc::new(App {
        sign_ins: SignIns::default(),
        bodies: Bodies::new(settings.bodies_limit),
        settings,
        clock,
        store,
        snapshot: ArcSwap::from_pointee(snapshot),
        spool,
        allowances,
        fleet: Fleet::default(),
        trust,
        hosts,
        keyring,
        look_soon: tokio::sync::Notify::new(),
        looking: tokio::sync::Mutex::new(()),
        recent: Recent::default(),
        metrics: Metrics::new(),
        ids: Ids::of_process(process),
    });
    // The drain goes on until the last request has settled, so it has its own signal.
    let (end_drain, drain_ends) = watch::channel(false);
    let watching = tokio::spawn(revision_watch::run(app.clone(), stop.clone()));
    let looking = tokio::spawn(inventory::run(app.clone(), stop.clone()));
    let records = app.store.apart();
    let adopting = tokio::spawn(orphans::run(app.clone(), app.store.clone(), stop.clone()));
    let keeping = tokio::spawn(retention::run(app.clone(), stop.clone()));
    let draining = tokio::spawn(spool_drain::run(app.clone(), records.clone(), reader, drain_ends));
    let served = run_server(app.clone(), listener, stop).await;
    // Nobody listens any more only if the task died, and then it is joined below all the same.
    let _told = end_drain.send(true);
    let _joined = tokio::join!(watching, looking, adopting, keeping, draining);
    tracing::info!(pending = app.spool.pending(), "stopped");
    records.close().await;
    app.store.close().await;
    Ok(served?)
}

async fn run_server(app: Arc<App>, listener: TcpListener, mut stop: watch::Receiver<bool>) -> std::io::Result<()> {
    let address = listener.local_addr()?;
    let Settings { workers, grace, connections, head_time, .. } = app.settings;
    let open = app.metrics.connections_open.clone();
    let (trust, hosts) = (app.trust.clone(), app.hosts.clone());
    let data = web::Data::from(app);
    let openapi = web::Data::new(admin::Document::make());
    let server = HttpServer::new(move || {
        // In the order in which a path is compared: what apps ask for first.
        let (web_app, _) =
            WebApp::new().configure(data_plane_routes).into_utoipa_app().configure(admin::routes).split_for_parts();
        web_app
            // Outside the console nothing that is answered here is a page, whatever it looks like; the console has its own policy.
            .wrap(
                DefaultHeaders::new()
                    .add((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
                    .add((header::CONTENT_SECURITY_POLICY, "default-src 'none'; sandbox"))
                    .add((header::CROSS_ORIGIN_RESOURCE_POLICY, "same-origin")),
            )
            .app_data(data.clone())
            .app_data(openapi.clone())
            .app_data(admin::problem::json_config())
            .app_data(admin::problem::query_config())
            // One a worker: connections to upstreams never cross threads.
            .app_data(web::Data::new(Clients::new(trust.clone(), hosts.clone())))
            .configure(console::routes)
            .default_service(fn_service(data_plane::any))
    })
    .workers(workers)
    .tcp_nodelay(true)
    .keep_alive(IDLE_APP)
    .h1_allow_half_closed(false)
    .max_connections(connections.div_ceil(workers))
    .client_request_timeout(head_time)
    .on_connect(move |connection, extensions| connected(connection, extensions, &open))
    .shutdown_timeout(grace.as_secs())
    .disable_signals()
    .listen(listener)?
    .run();
    tracing::info!(%address, "listening");
    let handle = server.handle();
    let stopping = tokio::spawn(async move {
        // A sender that is gone means the same as the signal.
        stop.wait_for(|stop| *stop).await.map(|_| ()).ok();
        stop_server(&handle).await;
    });
    let served = server.await;
    stopping.abort();
    served
}

async fn stop_server(handle: &ServerHandle) {
    tracing::info!("stopping: open streams may finish");
    handle.stop(true).await;
}

/// The path that most apps use, and those of watchers. Every other path of apps is told apart by [`data_plane::any`], which takes what
/// nobody else does; those of the management API stand in [`admin::routes`].
fn data_plane_routes(config: &mut web::ServiceConfig) {
    config
        .service(
            web::resource("/v1/chat/completions")
                .route(web::post().service(fn_service(data_plane::chat_completions)))
                .default_service(fn_service(data_plane::any)),
        )
        .route("/errors", web::get().to(data_plane::error_page::list))
        .route("/errors/{code}", web::get().to(data_plane::error_page::page))
        .route("/livez", web::get().to(vital::livez))
        .route("/readyz", web::get().to(vital::readyz))
        .route("/metrics", web::get().to(vital::metrics));
}

/// Counts a connection for as long as it is open.
struct Open(prometheus::IntGauge);

impl Drop for Open {
    fn drop(&mut self) {
        self.0.dec();
    }
}

fn connected(connection: &dyn std::any::Any, extensions: &mut Extensions, open: &prometheus::IntGauge) {
    open.inc();
    extensions.insert(Open(open.clone()));
    // No write to an app stays blocked for ever.
    if let Some(stream) = connection.downcast_ref::<actix_web::rt::net::TcpStream>() {
        // Where the system has no such option the write stays unbounded, as without this.
        let _unset = socket2::SockRef::from(stream).set_tcp_user_timeout(Some(BLOCKED_WRITE));
    }
}

/// Whom upstreams are trusted as, and what their names lead to.
fn outward(settings: &Settings) -> Result<(Trust, Hosts), ServeError> {
    let trust = Trust::with_authorities(settings.authorities.as_deref())?;
    Ok((trust, Hosts::read(settings.hosts.as_deref(), settings.reach.clone())?))
}

/// Credentials of the first form are kept anew, so that each is bound to where it goes.
async fn keep_anew(store: &Store, keyring: &Keyring, doer: &Doer) -> Result<(), ServeError> {
    let catalogue = store.current_revision().await?.map(|(_, catalogue)| catalogue).unwrap_or_default();
    loop {
        let came =
            credentials::keep_anew(store, &keyring.vault, &catalogue, (credentials::Which::FirstForm, doer)).await?;
        if came.left == 0 {
            return Ok(());
        }
    }
}

/// Waits for the database and migrates it. `false` when it was told to stop meanwhile.
async fn reach_database(store: &Store, stop: &mut watch::Receiver<bool>) -> Result<bool, ServeError> {
    let mut pause = DATABASE_PAUSES.0;
    loop {
        match store.migrate().await {
            Ok(()) => return Ok(true),
            Err(error) if error.is_away() => {
                tracing::warn!(%error, retry_in = ?pause, "waiting for the database; check WENDOR_DATABASE_URL if this goes on");
            }
            Err(error) => return Err(error.into()),
        }
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return Ok(false),
            () = tokio::time::sleep(pause) => pause = (pause * 2).min(DATABASE_PAUSES.1),
        }
    }
}

/// What is used of every quota: what the database has, and what still waits in the spool.
async fn settled_so_far(store: &Store, reader: &SpoolReader, clock: &Clock) -> Result<Settled, ServeError> {
    let mut settled: Settled = HashMap::new();
    for window in store.window_uses(clock.now() - WINDOWS_BACK).await? {
        settled.insert((window.quota, window.window_start), window.settled);
    }
    let pending = reader
        .each_pending(|pending| {
            for quota_use in &pending.quotas {
                *settled.entry((quota_use.quota.clone(), quota_use.window_start)).or_default() += quota_use.amount;
            }
        })
        .map_err(ServeError::SpoolRead)?;
    if pending > 0 {
        tracing::info!(pending, "entries of an earlier run are drained now");
    }
    Ok(settled)
}
