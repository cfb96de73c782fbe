//! What the process knows of its upstreams and their offers while it runs: their health, and who is served there. Shared by all workers,
//! kept across revisions by name.

mod asked;
pub mod looks;

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, RwLock};
use std::time::Duration;

use arc_swap::ArcSwapOption;
use chrono::{DateTime, Utc};
use foldhash::fast::RandomState;
use tokio::sync::Notify;
use tokio::sync::futures::Notified;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::metering::calibration::Calibration;
use wendor_core::metering::detail::ServedFrom;
use wendor_core::name::{Name, OfferName};
use wendor_core::routing::health::{Asking, Change, Health};
use wendor_core::routing::loading::{ColdStart, Loading};
use wendor_core::routing::pace;
use wendor_core::routing::recent::Recent;
use wendor_core::routing::retries::{HedgeBudget, RetryBudget};
use wendor_core::watch::attention::OF_LATE_MINUTES;
use wendor_core::watch::reached::Outcomes;
use wendor_wire::failure::Failure;
use wendor_wire::told_limits::ToldLimit;

use self::looks::Looks;
use crate::gate::Gate;

pub use asked::Asked;

/// What is known of an upstream while the service runs; survives new revisions.
#[derive(Debug, Default)]
pub struct UpstreamState {
    /// Health of connecting alone, apart from its offers' answers.
    connections: Mutex<Health>,
    gate: Arc<Gate>,
    looks: Looks,
    retries: Mutex<RetryBudget>,
    hedges: Mutex<HedgeBudget>,
    /// What it served at the last look.
    inventory: ArcSwapOption<Inventory>,
    offers: RwLock<HashMap<Box<str>, Arc<OfferState>, RandomState>>,
}

/// One offer, as far as its answers tell.
#[derive(Debug, Default)]
pub struct OfferState {
    health: Mutex<Health>,
    calibration: Mutex<Calibration>,
    /// Whether the last answer told no usage. Relaxed: it makes a note, it guards nothing.
    keeps_usage: AtomicBool,
    loading: Mutex<Loading>,
    /// Wakes who waits for its model.
    loaded: Notify,
    /// Where it has limits of its own by the minute, declared or told.
    gate: OnceLock<Arc<Gate>>,
}

/// Waits for a first token at an offer, in milliseconds; `None` before enough is known.
#[derive(Clone, Copy, Debug)]
pub struct WaitsMs {
    /// Median until the first token.
    pub usual: Option<u64>,
    /// From this wait on a first token counts as slow.
    pub slow: Option<u64>,
    /// That one in twenty passes.
    pub p95: Option<u64>,
}

impl OfferState {
    /// Its health as it is now.
    #[must_use]
    pub fn health(&self) -> Health {
        self.health_kept().clone()
    }

    /// The lock never leaves this module: whoever held it could ask for it again.
    fn health_kept(&self) -> MutexGuard<'_, Health> {
        locked(&self.health)
    }

    /// What of its waits for a first token is usual, slow, and passed by one in twenty, in milliseconds.
    #[must_use]
    pub fn waits_ms(&self) -> WaitsMs {
        let health = self.health_kept();
        let waits = health.waits();
        WaitsMs { usual: waits.usual_ms(), slow: waits.slow_ms(), p95: waits.p95_ms() }
    }

    /// What is known of its model's loading.
    #[must_use]
    pub fn loading(&self) -> Loading {
        locked(&self.loading).clone()
    }

    /// Since when its server loads the model.
    #[must_use]
    pub fn loads_since(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        locked(&self.loading).since(now)
    }

    /// It may be asked, unless its server loads the model and another asks it.
    ///
    /// # Errors
    /// When it may be asked again.
    pub fn ask_while_loading(&self, now: DateTime<Utc>) -> Result<(), DateTime<Utc>> {
        locked(&self.loading).begin(now)
    }

    /// Its server has said that it loads the model.
    pub fn loads(&self, now: DateTime<Utc>) {
        locked(&self.loading).loads(now);
    }

    /// It has answered. Tells of a load that has ended with it.
    pub fn has_answered(&self, now: DateTime<Utc>) -> Option<ColdStart> {
        let ended = locked(&self.loading).answered(now);
        if ended.is_some() {
            self.loaded.notify_waiters();
        }
        ended
    }

    /// Ready when a load has ended that had not when this was called.
    pub fn loaded(&self) -> Notified<'_> {
        self.loaded.notified()
    }

    /// Who is served where it has limits of its own by the minute; `None` where it has none.
    #[must_use]
    pub fn gate(&self, declared: pace::MinuteLimits) -> Option<&Arc<Gate>> {
        if declared.is_none() { self.gate.get() } else { Some(self.gate.get_or_init(Arc::default)) }
    }

    /// Its service has told of limits.
    pub fn told_limits(&self, told: &[ToldLimit]) {
        if !told.is_empty() {
            self.gate.get_or_init(Arc::default).told(told);
        }
    }

    /// How its upstream counts input.
    #[must_use]
    pub fn calibration(&self) -> Calibration {
        *self.calibration.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Compares an estimate with what was reported of the same input.
    pub fn learn(&self, estimated: u64, reported: u64) {
        self.calibration.lock().unwrap_or_else(std::sync::PoisonError::into_inner).learn(estimated, reported);
    }

    /// Whether an answer that was whole told what it used.
    pub fn told_usage(&self, told: bool) {
        self.keeps_usage.store(!told, Ordering::Relaxed);
    }

    /// Whether the last whole answer did not tell what it used.
    #[must_use]
    pub fn keeps_usage(&self) -> bool {
        self.keeps_usage.load(Ordering::Relaxed)
    }
}

impl UpstreamState {
    /// The health of connections to it as it is now.
    #[must_use]
    pub fn connections(&self) -> Health {
        self.connections_kept().clone()
    }

    fn connections_kept(&self) -> MutexGuard<'_, Health> {
        locked(&self.connections)
    }

    /// Whether a probe is due: it has rested long enough, or nothing was heard of it for so long. It takes the trial then.
    #[must_use]
    pub fn takes_probe(&self, now: DateTime<Utc>, every: Duration) -> bool {
        let mut connections = self.connections_kept();
        match connections.asking(now) {
            Asking::OnTrial => connections.begin(now) == Asking::OnTrial,
            Asking::Freely => {
                connections.last_heard().is_none_or(|at| (now - at).to_std().is_ok_and(|past| past >= every))
            }
            Asking::IsTried(_) | Asking::Rests(_) | Asking::LeftAlone(_) => false,
        }
    }

    /// What came of a probe. Tells what has changed.
    pub fn probed(&self, at: DateTime<Utc>, seen: Result<(), Failure>) -> Option<Change> {
        match seen {
            Ok(()) => self.connections_kept().succeeded(at, None),
            Err(failure) => self.connections_kept().failed(at, "", &failure),
        }
    }

    /// A check found it well, and its offer of that model where it was asked. Tells what has changed.
    pub fn checked(&self, at: DateTime<Utc>, model: Option<&str>) -> Vec<OfferChange> {
        let connected = self.connections_kept().succeeded(at, None).map(|change| (None, change));
        let answered = model.and_then(|model| {
            let change = self.offer(model).health_kept().succeeded(at, None)?;
            Some((Some(model.into()), change))
        });
        connected.into_iter().chain(answered).collect()
    }

    /// Whether it may be looked at.
    #[must_use]
    pub fn looks(&self) -> &Looks {
        &self.looks
    }

    /// Answers under way there, as far as Wendor asked for them.
    #[must_use]
    pub fn answers(&self) -> u32 {
        self.gate.fullness().streams.saturating_sub(self.looks.under_way())
    }

    /// Who is served there.
    #[must_use]
    pub fn gate(&self) -> &Arc<Gate> {
        &self.gate
    }

    /// How many of its attempts another is made beside.
    pub fn hedges(&self) -> MutexGuard<'_, HedgeBudget> {
        locked(&self.hedges)
    }

    /// The extra attempts that it is given.
    pub fn retries(&self) -> MutexGuard<'_, RetryBudget> {
        locked(&self.retries)
    }

    /// What it served at the last look, if there was one.
    #[must_use]
    pub fn inventory(&self) -> Option<Arc<Inventory>> {
        self.inventory.load_full()
    }

    /// Takes what was seen at a look.
    pub fn looked(&self, inventory: Inventory) {
        self.inventory.store(Some(Arc::new(inventory)));
    }

    /// What it serves a model from, as far as it has told.
    #[must_use]
    pub fn served_from(&self, model: &str) -> Option<ServedFrom> {
        let inventory = self.inventory.load();
        let inventory = inventory.as_ref()?;
        let digest = inventory.model(model).and_then(|model| model.digest.clone());
        let server_version = inventory.server_version.clone();
        (digest.is_some() || server_version.is_some()).then_some(ServedFrom { digest, server_version })
    }

    /// Its offer of that model.
    #[must_use]
    pub fn offer(&self, model: &str) -> Arc<OfferState> {
        if let Some(found) = self.offers.read().unwrap_or_else(std::sync::PoisonError::into_inner).get(model) {
            return found.clone();
        }
        self.offers.write().unwrap_or_else(std::sync::PoisonError::into_inner).entry(model.into()).or_default().clone()
    }
}

fn locked<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// What became of a team's requests to a route of late: answered and failed ones.
type RouteOutcomes = HashMap<(Name, Name), Recent<2, OF_LATE_SECONDS>, RandomState>;

const OF_LATE_SECONDS: usize = 60 * OF_LATE_MINUTES;

/// All upstreams that were asked or looked at, and what became of requests.
#[derive(Debug, Default)]
pub struct Fleet {
    upstreams: RwLock<HashMap<Name, Arc<UpstreamState>, RandomState>>,
    outcomes: Mutex<RouteOutcomes>,
}

impl Fleet {
    /// The upstream of that name.
    #[must_use]
    pub fn upstream(&self, name: &Name) -> Arc<UpstreamState> {
        if let Some(found) = self.upstreams.read().unwrap_or_else(std::sync::PoisonError::into_inner).get(name) {
            return found.clone();
        }
        self.upstreams
            .write()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .entry(name.clone())
            .or_default()
            .clone()
    }
}

impl Fleet {
    /// A request of `team` to `route` ended.
    pub fn ended(&self, route: &Name, team: &Name, at: DateTime<Utc>, has_failed: bool) {
        let mut outcomes = locked(&self.outcomes);
        outcomes.entry((route.clone(), team.clone())).or_default().count(at, usize::from(has_failed));
    }

    /// What became of the requests to a route of late, by team.
    #[must_use]
    pub fn outcomes(&self, route: &Name, now: DateTime<Utc>) -> Vec<Outcomes> {
        let outcomes = locked(&self.outcomes);
        let of_route = outcomes.iter().filter(|((of, _), _)| of == route);
        let of_teams = of_route.map(|((_, team), recent)| {
            let [answered, failed] = recent.counts(now).map(u64::from);
            Outcomes { team: team.clone(), answered, failed }
        });
        let mut outcomes: Vec<Outcomes> = of_teams.filter(|one| one.answered + one.failed > 0).collect();
        outcomes.sort_by(|a, b| a.team.cmp(&b.team));
        outcomes
    }

    /// State of an offer, made fresh where it was unknown.
    #[must_use]
    pub fn offer(&self, offer: &OfferName) -> Arc<OfferState> {
        self.known(offer).offer
    }

    /// State of an offer and of its upstream, looked up once for whoever asks more than one thing of them.
    #[must_use]
    pub fn known(&self, offer: &OfferName) -> Known {
        let upstream = self.upstream(offer.upstream());
        let offer = upstream.offer(offer.model());
        Known { upstream, offer }
    }
}

/// What is known of an offer and of its upstream.
#[derive(Clone, Debug)]
pub struct Known {
    /// Its upstream.
    pub upstream: Arc<UpstreamState>,
    /// The offer.
    pub offer: Arc<OfferState>,
}

impl Known {
    /// Whether the offer may be asked, as far as its health and that of its upstream tell: whatever lasts longer.
    #[must_use]
    pub fn asking(&self, now: DateTime<Utc>) -> Asking {
        let connections = self.upstream.connections_kept().asking(now);
        let own = self.offer.health_kept().asking(now);
        if rank(connections) > rank(own) { connections } else { own }
    }
}

impl Fleet {
    /// Whether an offer may be asked.
    #[must_use]
    pub fn asking(&self, offer: &OfferName, now: DateTime<Utc>) -> Asking {
        self.known(offer).asking(now)
    }
}

/// The later it can be asked, the higher.
fn rank(asking: Asking) -> (u8, Option<DateTime<Utc>>) {
    match asking {
        Asking::Freely => (0, None),
        Asking::OnTrial => (1, None),
        Asking::IsTried(until) => (2, Some(until)),
        Asking::Rests(until) => (3, Some(until)),
        Asking::LeftAlone(until) => (4, Some(until)),
    }
}

/// A change of health: of an upstream's connections, or of its offer of a model.
pub type OfferChange = (Option<Box<str>>, Change);
