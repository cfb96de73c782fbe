//! The few handles that everything in the service shares, passed and not found.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU32, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use chrono::{DateTime, Utc};
use wendor_core::metering::rollup::RollUp;
use wendor_core::request_id::RequestId;
use wendor_store::dearest::Dearest;
use wendor_store::usage::UsageQuery;
use wendor_store::{Store, StoreError};

use crate::allowances::Allowances;
use crate::behind::Behind;
use crate::clock::Clock;
use crate::credentials::Keyring;
use crate::events::Events;
use crate::fleet::Fleet;
use crate::guesses::Guesses;
use crate::hosts::Hosts;
use crate::metrics::Metrics;
use crate::recent::Recent;
use crate::settings::Settings;
use crate::sharing::Crowd;
use crate::snapshot::Snapshot;
use crate::spool::Spool;
use crate::stopping::Stopping;
use crate::trust::Trust;
use crate::under_way::UnderWay;

/// The service's state.
#[derive(Debug)]
pub struct App {
    /// As read at the start.
    pub settings: Settings,
    /// What time it is.
    pub clock: Clock,
    /// The records.
    pub store: Store,
    /// Where what computes for long is done.
    pub behind: Behind,
    /// What requests are served by.
    pub snapshot: ArcSwap<Snapshot>,
    /// Where settled requests go.
    pub spool: Spool,
    /// The quotas' allowances.
    pub allowances: Allowances,
    /// The upstreams as they are.
    pub fleet: Fleet,
    /// Whom upstreams are trusted as.
    pub trust: Trust,
    /// What names lead to.
    pub hosts: Hosts,
    /// Told when the catalogue has changed, so that what came with it is looked at soon.
    pub look_soon: tokio::sync::Notify,
    /// Held by whoever replaces the snapshot.
    pub looking: tokio::sync::Mutex<()>,
    /// Where credentials of upstreams are found.
    pub keyring: Keyring,
    /// What happened of late.
    pub recent: Recent,
    /// Events on their way.
    pub events: Events,
    /// Requests that are under way.
    pub under_way: UnderWay,
    /// Counters for the outside.
    pub metrics: Metrics,
    /// Sign-ins under way and of late.
    pub sign_ins: SignIns,
    /// What there is only so much of.
    pub crowd: Crowd,
    /// Makes request ids.
    pub ids: Ids,
    /// How far it is on its way to the end.
    pub stopping: Stopping,
    /// When the state in force was last known to be so, in milliseconds since 1970. Relaxed: it is told and compared, it guards nothing.
    pub confirmed_ms: AtomicI64,
}

impl App {
    /// The snapshot in force.
    #[must_use]
    pub fn now_serving(&self) -> Arc<Snapshot> {
        self.snapshot.load_full()
    }

    /// The figures of a range, by group: added up by threads that give way to requests.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn usage(&self, query: &UsageQuery) -> Result<BTreeMap<String, RollUp>, StoreError> {
        let (store, query) = (self.store.clone(), query.clone());
        self.behind.run(async move { store.usage(&query).await }).await
    }

    /// The `most` dearest runs of a range.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn dearest_runs(&self, query: &UsageQuery, most: usize) -> Result<Dearest, StoreError> {
        let (store, query) = (self.store.clone(), query.clone());
        self.behind.run(async move { store.dearest_runs(&query, most).await }).await
    }

    /// The state in force is the database's at `now`.
    pub fn confirm(&self, now: DateTime<Utc>) {
        self.confirmed_ms.store(now.timestamp_millis(), Ordering::Relaxed);
    }

    /// For how long it is not known whether the state in force is the database's.
    #[must_use]
    pub fn state_age(&self, now: DateTime<Utc>) -> Duration {
        let millis = now.timestamp_millis().saturating_sub(self.confirmed_ms.load(Ordering::Relaxed));
        Duration::from_millis(u64::try_from(millis).unwrap_or(0))
    }

    /// Whether that is too long to serve by it.
    #[must_use]
    pub fn is_out_of_date(&self, now: DateTime<Utc>) -> bool {
        self.state_age(now) > self.settings.timing.serve_stale
    }
}

/// Passwords hashed at once; more are told to come back.
const HASHED_AT_ONCE: usize = 4;

/// Sign-ins under way and of late.
#[derive(Debug)]
pub struct SignIns {
    /// Places for hashing a password: each takes a core and megabytes for a while.
    pub hashing: tokio::sync::Semaphore,
    /// Wrong passwords of late.
    pub guesses: Guesses,
}

impl SignIns {
    /// None yet.
    #[must_use]
    pub fn none() -> Self {
        Self { hashing: tokio::sync::Semaphore::new(HASHED_AT_ONCE), guesses: Guesses::default() }
    }
}

/// Makes request ids.
#[derive(Debug)]
pub struct Ids {
    process: u32,
    /// Relaxed: only that each call gets another number matters.
    count: AtomicU32,
}

impl Ids {
    /// Ids of a process that drew `process`.
    #[must_use]
    pub fn of_process(process: u32) -> Self {
        Self { process, count: AtomicU32::new(0) }
    }

    /// The process, in a word that no other has.
    #[must_use]
    pub fn instance(&self) -> String {
        format!("{:08x}", self.process)
    }

    /// The id of a request that arrived at `at`.
    #[must_use]
    pub fn next(&self, at: DateTime<Utc>) -> RequestId {
        RequestId::mint(at, self.process, self.count.fetch_add(1, Ordering::Relaxed))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_of_one_instant_differ() {
        let ids = Ids::of_process(7);
        let at = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let many: std::collections::BTreeSet<RequestId> = (0..1_000).map(|_| ids.next(at)).collect();
        assert_eq!(many.len(), 1_000);
    }
}
