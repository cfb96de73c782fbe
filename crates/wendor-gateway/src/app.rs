//! The few handles that everything in the service shares, passed and not found.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};

use arc_swap::ArcSwap;
use chrono::{DateTime, Utc};
use wendor_core::request_id::RequestId;
use wendor_store::Store;

use crate::allowances::Allowances;
use crate::clock::Clock;
use crate::credentials::Keyring;
use crate::fleet::Fleet;
use crate::guesses::Guesses;
use crate::hosts::Hosts;
use crate::metrics::Metrics;
use crate::recent::Recent;
use crate::settings::Settings;
use crate::snapshot::Snapshot;
use crate::spool::Spool;
use crate::trust::Trust;

/// The service's state.
#[derive(Debug)]
pub struct App {
    /// Its settings.
    pub settings: Settings,
    /// What time it is.
    pub clock: Clock,
    /// The records.
    pub store: Store,
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
    /// Counters for the outside.
    pub metrics: Metrics,
    /// Sign-ins under way and of late.
    pub sign_ins: SignIns,
    /// Memory of request bodies under way.
    pub bodies: Bodies,
    /// Makes request ids.
    pub ids: Ids,
}

impl App {
    /// The snapshot in force.
    #[must_use]
    pub fn now_serving(&self) -> Arc<Snapshot> {
        self.snapshot.load_full()
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

impl Default for SignIns {
    fn default() -> Self {
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

    /// The id of a request that arrived at `at`.
    #[must_use]
    pub fn next(&self, at: DateTime<Utc>) -> RequestId {
        RequestId::mint(at, self.process, self.count.fetch_add(1, Ordering::Relaxed))
    }
}

/// The memory that request bodies may take together.
#[derive(Debug)]
pub struct Bodies {
    limit: usize,
    /// Relaxed: a bound that may be passed by one read is still a bound.
    taken: Arc<AtomicUsize>,
}

/// The part that one body takes; dropping it gives it back.
#[derive(Debug)]
pub struct BodyShare {
    taken: Arc<AtomicUsize>,
    bytes: usize,
}

impl Bodies {
    /// At most `limit` bytes together.
    #[must_use]
    pub fn new(limit: usize) -> Self {
        Self { limit, taken: Arc::default() }
    }

    /// A share without anything in it yet.
    #[must_use]
    pub fn share(&self) -> BodyShare {
        BodyShare { taken: self.taken.clone(), bytes: 0 }
    }

    /// Adds `bytes` to a share, if all bodies together have room for them.
    pub fn grow(&self, share: &mut BodyShare, bytes: usize) -> bool {
        let before = self.taken.fetch_add(bytes, Ordering::Relaxed);
        share.bytes += bytes;
        before.saturating_add(bytes) <= self.limit
    }
}

impl Drop for BodyShare {
    fn drop(&mut self) {
        self.taken.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_share_a_bound_and_give_their_part_back() {
        let bodies = Bodies::new(100);
        let mut first = bodies.share();
        assert!(bodies.grow(&mut first, 60) && bodies.grow(&mut first, 40));
        let mut second = bodies.share();
        assert!(!bodies.grow(&mut second, 1));
        drop(second);
        drop(first);
        assert!(bodies.grow(&mut bodies.share(), 100));
    }

    #[test]
    fn ids_of_one_instant_differ() {
        let ids = Ids::of_process(7);
        let at = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let many: std::collections::BTreeSet<RequestId> = (0..1_000).map(|_| ids.next(at)).collect();
        assert_eq!(many.len(), 1_000);
    }
}
