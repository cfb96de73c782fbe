//! What the process knows of its upstreams while it runs: their health and the streams they carry. Shared by all workers,
//! kept across revisions by the upstream's name.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};

use arc_swap::ArcSwapOption;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::metering::entry::ServedFrom;
use wendor_core::name::Name;
use wendor_core::routing::health::Health;

/// One upstream.
#[derive(Debug, Default)]
pub struct UpstreamState {
    health: Mutex<Health>,
    /// Written by [`StreamPermit`] alone. Relaxed: it steers a choice, it guards nothing.
    streams: AtomicU32,
    /// What it served at the last look.
    inventory: ArcSwapOption<Inventory>,
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

    /// Streams that it carries now.
    #[must_use]
    pub fn streams(&self) -> u32 {
        self.streams.load(Ordering::Relaxed)
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

/// A stream under way at an upstream; dropping it ends it.
#[derive(Debug)]
pub struct StreamPermit(Arc<UpstreamState>);

impl StreamPermit {
    /// Counts a stream at `upstream`.
    #[must_use]
    pub fn take(upstream: Arc<UpstreamState>) -> Self {
        upstream.streams.fetch_add(1, Ordering::Relaxed);
        Self(upstream)
    }
}

impl Drop for StreamPermit {
    fn drop(&mut self) {
        self.0.streams.fetch_sub(1, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn streams_are_counted_while_they_are_open_and_kept_by_name() {
        let fleet = Fleet::default();
        let name = Name::parse("quayside-a").unwrap();
        let permits: Vec<StreamPermit> = (0..3).map(|_| StreamPermit::take(fleet.upstream(&name))).collect();
        assert_eq!(fleet.upstream(&name).streams(), 3);
        assert_eq!(fleet.upstream(&Name::parse("quayside-b").unwrap()).streams(), 0);
        drop(permits);
        assert_eq!(fleet.upstream(&name).streams(), 0);
    }
}
