//! What the process knows of its upstreams while it runs: their health and the streams they carry. Shared by all workers,
//! kept across revisions by the upstream's name.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};

use arc_swap::ArcSwapOption;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::metering::calibration::Calibration;
use wendor_core::metering::detail::ServedFrom;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::share::{Capacity, NoShare, Shares};
use wendor_core::routing::health::Health;

/// One upstream.
#[derive(Debug, Default)]
pub struct UpstreamState {
    health: Mutex<Health>,
    /// Written by [`StreamPermit`] alone.
    streams: Mutex<Shares<Name>>,
    /// What it served at the last look.
    inventory: ArcSwapOption<Inventory>,
    offers: RwLock<HashMap<Box<str>, Arc<OfferState>>>,
}

/// One offer, as far as its answers tell.
#[derive(Debug, Default)]
pub struct OfferState {
    calibration: Mutex<Calibration>,
    /// Whether the last answer told no usage. Relaxed: it makes a note, it guards nothing.
    keeps_usage: AtomicBool,
}

impl OfferState {
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
    /// Its health.
    pub fn health(&self) -> MutexGuard<'_, Health> {
        self.health.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
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
        let inventory = self.inventory()?;
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

    /// Streams that it carries now.
    #[must_use]
    pub fn streams(&self) -> u32 {
        u32::try_from(self.shares().total()).unwrap_or(u32::MAX)
    }

    /// Whether what is left of `streams` is for teams other than this one.
    #[must_use]
    pub fn is_kept_from(&self, team: &Name, streams: u32, teams: usize) -> bool {
        let capacity = Capacity { whole: streams.into(), teams };
        self.shares().look(team, 1, capacity) == Err(NoShare::ForOthers)
    }

    fn shares(&self) -> MutexGuard<'_, Shares<Name>> {
        self.streams.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// All upstreams that were asked or looked at.
#[derive(Debug, Default)]
pub struct Fleet(RwLock<HashMap<Name, Arc<UpstreamState>>>);

impl Fleet {
    /// The upstream of that name.
    #[must_use]
    pub fn upstream(&self, name: &Name) -> Arc<UpstreamState> {
        if let Some(found) = self.0.read().unwrap_or_else(std::sync::PoisonError::into_inner).get(name) {
            return found.clone();
        }
        self.0.write().unwrap_or_else(std::sync::PoisonError::into_inner).entry(name.clone()).or_default().clone()
    }
}

impl Fleet {
    /// An offer.
    #[must_use]
    pub fn offer(&self, offer: &OfferName) -> Arc<OfferState> {
        self.upstream(offer.upstream()).offer(offer.model())
    }
}

/// A stream under way at an upstream; dropping it ends it.
#[derive(Debug)]
pub struct StreamPermit {
    upstream: Arc<UpstreamState>,
    team: Name,
}

impl StreamPermit {
    /// Counts a stream of a team at `upstream`.
    #[must_use]
    pub fn take(upstream: Arc<UpstreamState>, team: &Name) -> Self {
        upstream.shares().take_anyway(team, 1);
        Self { upstream, team: team.clone() }
    }
}

impl Drop for StreamPermit {
    fn drop(&mut self) {
        self.upstream.shares().give_back(&self.team, 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn streams_are_counted_while_they_are_open_and_kept_by_name() {
        let fleet = Fleet::default();
        let name = Name::parse("quayside-a").unwrap();
        let permits: Vec<StreamPermit> = (0..3).map(|_| StreamPermit::take(fleet.upstream(&name), &name)).collect();
        assert_eq!(fleet.upstream(&name).streams(), 3);
        assert_eq!(fleet.upstream(&Name::parse("quayside-b").unwrap()).streams(), 0);
        drop(permits);
        assert_eq!(fleet.upstream(&name).streams(), 0);
    }
}
