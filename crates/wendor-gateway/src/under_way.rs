//! Requests that are under way, and how far each is: from admission until it is settled. Whoever looks sees it as it is at that moment; nothing is
//! kept of it afterwards, since the record has all of it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use wendor_core::metering::detail::WaitFor;
use wendor_core::name::OfferName;

use crate::data_plane::account::Account;
use crate::gate::Place;

/// Parts of the register, so that workers seldom wait for each other.
const PARTS: usize = 16;

/// How far a request is.
#[derive(Clone, Debug, Default)]
pub enum Step {
    /// Its offers are planned or tried one after the other.
    #[default]
    Planned,
    /// It waits for room or for a load.
    Waiting(WaitFor, OfferName, Option<Place>),
    /// It was sent, as the attempt of that number, and nothing has come of it.
    Sent(OfferName, u32),
    /// It is answered, and so many tokens of that have come about.
    Answering(OfferName, u64),
}

/// How far a request is, and since when, in milliseconds from its arrival.
#[derive(Debug, Default)]
pub struct HowFar(Mutex<(Step, u64)>);

impl HowFar {
    fn kept(&self) -> MutexGuard<'_, (Step, u64)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// It has come to this step.
    pub fn set(&self, step: Step, at_ms: u64) {
        let before = std::mem::replace(&mut *self.kept(), (step, at_ms));
        drop(before);
    }

    /// So many tokens of its answer have come about.
    pub fn answered(&self, tokens: u64) {
        if let Step::Answering(_, known) = &mut self.kept().0 {
            *known = tokens;
        }
    }

    /// Where it is.
    #[must_use]
    pub fn now(&self) -> (Step, u64) {
        let kept = self.kept();
        (kept.0.clone(), kept.1)
    }
}

/// The requests that are under way.
#[derive(Debug, Default)]
pub struct UnderWay {
    parts: [Mutex<HashMap<usize, Weak<Account>>>; PARTS],
}

impl UnderWay {
    /// Its address is its name in here: it is where it is for as long as it is.
    fn part(&self, account: &Arc<Account>) -> (usize, MutexGuard<'_, HashMap<usize, Weak<Account>>>) {
        let name = Arc::as_ptr(account).addr();
        // The lowest bits are those of the allocator.
        let [first, ..] = &self.parts;
        let part = self.parts.get((name >> 7) % PARTS).unwrap_or(first);
        (name, part.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// A request is under way from now on.
    pub fn enter(&self, account: &Arc<Account>) {
        let (name, mut part) = self.part(account);
        part.insert(name, Arc::downgrade(account));
    }

    /// It is over.
    pub fn leave(&self, account: &Arc<Account>) {
        let (name, mut part) = self.part(account);
        let left = part.remove(&name);
        drop(part);
        drop(left);
    }

    /// All that are under way, the oldest first.
    #[must_use]
    pub fn all(&self) -> Vec<Arc<Account>> {
        let mut all = Vec::new();
        for part in &self.parts {
            let part = part.lock().unwrap_or_else(PoisonError::into_inner);
            all.extend(part.values().filter_map(Weak::upgrade));
        }
        all.sort_by_key(|account| account.call.started);
        all
    }
}
