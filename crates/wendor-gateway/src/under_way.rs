//! Requests that are under way, and how far each is: from admission until it is settled. Whoever looks sees it as it is at that moment; nothing is
//! kept of it afterwards, since the record has all of it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use chrono::{DateTime, Utc};
use wendor_core::metering::detail::WaitFor;
use wendor_core::name::{Name, OfferName};
use wendor_core::request_id::RequestId;
use wendor_core::routing::queue::Lane;

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

/// A request that is under way, as whoever looks sees it.
#[derive(Debug)]
pub struct Seen<'a> {
    /// The one that the ledger will have.
    pub id: &'a RequestId,
    /// When it arrived.
    pub at: DateTime<Utc>,
    /// For how long, in milliseconds.
    pub whole_ms: u64,
    /// Its key's team.
    pub team: &'a Name,
    /// Id of its key.
    pub key: &'a str,
    /// The route asked.
    pub route: &'a Name,
    /// `interactive` or `batch`.
    pub lane: Lane,
    /// The app's `wendor-run`.
    pub run: Option<&'a str>,
    /// Whether as a stream.
    pub is_streamed: bool,
    /// Waiting, asked, answering: shared with the request itself.
    pub how_far: &'a HowFar,
}

/// What is under way.
pub trait Running: std::fmt::Debug + Send + Sync {
    /// The same as whoever looks sees it.
    fn seen(&self) -> Seen<'_>;
}

/// The requests that are under way.
#[derive(Debug, Default)]
pub struct UnderWay {
    parts: [Mutex<HashMap<usize, Weak<dyn Running>>>; PARTS],
}

impl UnderWay {
    /// Where one stands: its address is its name in here, since it is where it is for as long as it is.
    fn part(&self, name: usize) -> MutexGuard<'_, HashMap<usize, Weak<dyn Running>>> {
        // The lowest bits are those of the allocator.
        let [first, ..] = &self.parts;
        let part = self.parts.get((name >> 7) % PARTS).unwrap_or(first);
        part.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A request is under way from now on.
    pub fn enter(&self, running: Weak<dyn Running>) {
        let name = running.as_ptr().addr();
        self.part(name).insert(name, running);
    }

    /// It is over.
    pub fn leave(&self, running: &dyn Running) {
        let name = std::ptr::from_ref(running).addr();
        let left = self.part(name).remove(&name);
        drop(left);
    }

    /// All that are under way, the oldest first.
    #[must_use]
    pub fn all(&self) -> Vec<Arc<dyn Running>> {
        let mut all = Vec::new();
        for part in &self.parts {
            let part = part.lock().unwrap_or_else(PoisonError::into_inner);
            all.extend(part.values().filter_map(Weak::upgrade));
        }
        // By what stays as it is while they are put in order.
        all.sort_by_key(|running| running.seen().at);
        all
    }
}
