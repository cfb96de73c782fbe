//! Events on their way: told at once from wherever they are seen, written to the database by a task as soon as it answers.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use tokio::sync::Notify;
use wendor_core::watch::event::Event;

/// Events that are kept while the database is away; of more the oldest are lost, and the log has them.
const KEPT: usize = 1_000;

/// Events that are not written yet.
#[derive(Debug, Default)]
pub struct Events {
    queue: Mutex<VecDeque<Event>>,
    /// Told when there is one.
    pub come: Notify,
    /// Told when a delivery is due.
    pub due: Notify,
}

impl Events {
    fn queue(&self) -> std::sync::MutexGuard<'_, VecDeque<Event>> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Something began, ended or happened.
    pub fn happened(&self, event: Event) {
        let mut queue = self.queue();
        if queue.len() >= KEPT
            && let Some(lost) = queue.pop_front()
        {
            tracing::warn!(event = lost.key, "an event could not be written for too long and is lost");
        }
        queue.push_back(event);
        drop(queue);
        self.come.notify_one();
    }

    /// The oldest that is not written yet.
    #[must_use]
    pub fn first(&self) -> Option<Event> {
        self.queue().front().cloned()
    }

    /// Takes an event that has been written out of the queue.
    pub fn written(&self, event: &Event) {
        self.queue().retain(|other| other.key != event.key);
    }
}
