//! The end of the service in order: first it says so (`/readyz`), then it takes no new connections while what is under way goes on, and what
//! is still under way at the end is told.

use std::sync::atomic::{AtomicBool, Ordering};

use tokio::sync::watch;

/// How far the service is on its way to the end.
#[derive(Debug)]
pub struct Stopping {
    /// Relaxed: it is told in answers, it guards nothing.
    is_announced: AtomicBool,
    is_over: watch::Sender<bool>,
}

impl Default for Stopping {
    fn default() -> Self {
        Self { is_announced: AtomicBool::new(false), is_over: watch::Sender::new(false) }
    }
}

impl Stopping {
    /// It will stop.
    pub fn announce(&self) {
        self.is_announced.store(true, Ordering::Relaxed);
    }

    /// Whether it will stop.
    #[must_use]
    pub fn is_announced(&self) -> bool {
        self.is_announced.load(Ordering::Relaxed)
    }

    /// What is under way has no more time.
    pub fn end(&self) {
        self.is_over.send_replace(true);
    }

    /// Whether what is under way has no more time.
    #[must_use]
    pub fn is_over(&self) -> bool {
        *self.is_over.borrow()
    }

    /// Ready when what is under way has no more time.
    pub async fn over(&self) {
        let mut over = self.is_over.subscribe();
        // A sender that is gone means the same.
        over.wait_for(|over| *over).await.map(|_| ()).ok();
    }
}
