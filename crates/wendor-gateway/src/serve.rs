//! Starting the service, and ending it in order: takes what the world provides, runs until told to stop.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::AtomicI64;
use std::time::Duration;

use arc_swap::ArcSwap;
use chrono::TimeDelta;
use tokio::sync::watch;
use wendor_core::audit::Doer;
use wendor_store::{Store, StoreError};

use crate::allowances::{Allowances, Settled};
use crate::app::{App, Ids, SignIns};
use crate::behind::Behind;
use crate::certificates::BadCertificate;
use crate::clock::Clock;
use crate::credentials::Keyring;
use crate::early::Early;
use crate::events::Events;
use crate::fleet::Fleet;
use crate::hosts::{BadHosts, Hosts};
use crate::listeners::{Certificates, Listeners};
use crate::metrics::Metrics;
use crate::recent::Recent;
use crate::settings::Settings;
use crate::sharing::Crowd;
use crate::snapshot::Snapshot;
use crate::spool::{Claim, Place, Spool, SpoolError, SpoolReader};
use crate::stopping::Stopping;
use crate::tasks::{
    deliveries, events, guard, inventory, orphans, probe, retention, revision_watch, spool_drain, summing,
};
use crate::trust::{BadAuthorities, Trust};
use crate::under_way::UnderWay;
use crate::{credentials, listeners};

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
    pub listeners: Listeners,
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
    /// A certificate cannot be read.
    #[error(transparent)]
    Certificate(#[from] BadCertificate),
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
    let World { settings, listeners, store, clock, process, mut stop } = world;
    // What is read here is read again when it is used: what will not do is told before anything listens.
    outward(&settings)?;
    let certificates = Certificates::read(&settings.listening)?;
    let claim = Claim::take(&settings.spool)?;
    let early = Early::begin(&listeners, &certificates, &settings)?;
    let begun = match reach_database(&settings, &store, &mut stop).await {
        Ok(true) => begin(settings, store, clock, claim, process).await.map(Some),
        Ok(false) => Ok(None),
        Err(error) => Err(error),
    };
    early.end().await;
    let Some((app, reader)) = begun? else { return Ok(()) };
    // The drain goes on until the last request has settled, so it has its own signal.
    let (end_drain, drain_ends) = watch::channel(false);
    let watching = tokio::spawn(revision_watch::run(app.clone(), stop.clone()));
    let looking = tokio::spawn(inventory::run(app.clone(), stop.clone()));
    let probing = tokio::spawn(probe::run(app.clone(), stop.clone()));
    let noting = tokio::spawn(events::run(app.clone(), stop.clone()));
    let guarding = tokio::spawn(guard::run(app.clone(), stop.clone()));
    let delivering = tokio::spawn(deliveries::run(app.clone(), stop.clone()));
    let records = app.store.apart();
    let adopting = tokio::spawn(orphans::run(app.clone(), app.store.clone(), stop.clone()));
    let keeping = tokio::spawn(retention::run(app.clone(), stop.clone()));
    let summing = tokio::spawn(summing::run(app.clone(), stop.clone()));
    let draining = tokio::spawn(spool_drain::run(app.clone(), records.clone(), reader, drain_ends));
    let served = listeners::run(app.clone(), listeners, certificates, stop).await;
    end_drain.send_replace(true);
    let _joined =
        tokio::join!(watching, looking, probing, noting, guarding, delivering, adopting, keeping, summing, draining);
    tracing::info!(pending = app.spool.pending(), "stopped");
    records.close().await;
    app.store.close().await;
    Ok(served?)
}

/// Reads what the service serves by, once the database is reached.
async fn begin(
    settings: Settings,
    store: Store,
    clock: Clock,
    claim: Claim,
    process: u32,
) -> Result<(Arc<App>, SpoolReader), ServeError> {
    let (trust, hosts) = outward(&settings)?;
    claim.bind(&store.installation().await?)?;
    // The place and the windows come from the same transactions, so that nothing is counted twice.
    let place = drained_to(&store, claim.id()).await?;
    let (spool, reader) = Spool::open(claim, place, settings.spool_options)?;
    let allowances = Allowances::new(settled_so_far(&store, &reader, &clock).await?);
    let keyring = Keyring::of(&settings);
    keep_anew(&store, &keyring, &Doer::service(clock.now())).await?;
    let confirmed_at = clock.now();
    let snapshot = Snapshot::read(&store, &keyring, &hosts, confirmed_at).await?;
    tracing::info!(revision = snapshot.revision, keys = snapshot.keys.len(), "now serving");
    let app = App {
        behind: Behind::here(),
        sign_ins: SignIns::none(),
        crowd: Crowd::of(&settings),
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
        events: Events::default(),
        under_way: UnderWay::default(),
        metrics: Metrics::new(),
        ids: Ids::of_process(process),
        stopping: Stopping::default(),
        confirmed_ms: AtomicI64::new(confirmed_at.timestamp_millis()),
    };
    Ok((Arc::new(app), reader))
}

/// Up to where the database has a spool.
async fn drained_to(store: &Store, spool: &str) -> Result<Option<Place>, StoreError> {
    let place = store.spool_place(spool).await?;
    Ok(place.map(|place| Place { segment: place.segment, offset: place.offset }))
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
            credentials::keep_anew(store, &keyring.vault, &catalogue, credentials::Which::FirstForm, doer).await?;
        if came.left == 0 {
            return Ok(());
        }
    }
}

/// What the database lets us do and need not. It is for whoever runs it to take away; nothing is refused for it.
async fn tell_of_excess(store: &Store) -> Result<(), StoreError> {
    let excess = store.excess().await?;
    if !excess.is_empty() {
        let role = store.role().await?;
        tracing::warn!(
            role,
            excess = excess.join("; "),
            "the role that serves may do more than it needs; docs/operating.md says how to make two"
        );
    }
    Ok(())
}

/// Brings the schema up to what we know, as the role that may, and lets the other one serve.
async fn migrated(store: &Store, migrating: Option<&Store>) -> Result<(), StoreError> {
    let Some(migrating) = migrating else { return store.migrate().await };
    migrating.migrate().await?;
    migrating.let_serve(&store.role().await?).await?;
    migrating.close().await;
    Ok(())
}

/// Waits for the database and migrates it. `false` when it was told to stop meanwhile.
async fn reach_database(
    settings: &Settings,
    store: &Store,
    stop: &mut watch::Receiver<bool>,
) -> Result<bool, ServeError> {
    let migrating = settings.access.migrate_url.as_ref().map(|url| Store::new(url.expose())).transpose()?;
    let mut pause = DATABASE_PAUSES.0;
    loop {
        match migrated(store, migrating.as_ref()).await {
            Ok(()) => {
                tell_of_excess(store).await?;
                return Ok(true);
            }
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
