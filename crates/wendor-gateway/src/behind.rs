//! Work that takes milliseconds of computing, such as adding up a month: on the worker's own thread it would hold up every request that this
//! worker serves, so it is done by threads that give way to those.

use std::future::Future;

use tokio::runtime::Handle;
use tokio::task::{AbortHandle, JoinError};

/// The threads that give way to those that serve requests.
#[derive(Clone, Debug)]
pub struct Behind(Handle);

impl Behind {
    /// The threads of the runtime that this is called in.
    ///
    /// # Panics
    /// Outside of one.
    #[must_use]
    pub fn here() -> Self {
        Self(Handle::current())
    }

    /// Runs `work` there. It is given up when whoever waits for it is.
    pub async fn run<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static) -> T {
        let running = self.0.spawn(work);
        let _waiting = Waiting(running.abort_handle());
        running.await.unwrap_or_else(|error| ended_early(error))
    }

    /// Runs what waits for nothing and computes for long.
    pub async fn compute<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> T {
        self.0.spawn_blocking(work).await.unwrap_or_else(|error| ended_early(error))
    }
}

/// Gives work up when nobody waits for it any more.
struct Waiting(AbortHandle);

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Its panic is that of whoever waits; nothing else ends it, as its runtime outlives the workers.
fn ended_early(error: JoinError) -> ! {
    std::panic::resume_unwind(error.into_panic())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_done_behind_is_done_by_another_thread_and_given_up_with_who_waits() {
        let threads = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let behind = threads.block_on(async { Behind::here() });
        let worker = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        worker.block_on(async {
            let here = std::thread::current().id();
            assert_ne!(behind.run(async { std::thread::current().id() }).await, here);
            assert_ne!(behind.compute(|| std::thread::current().id()).await, here);
            let (given_up, mut told) = tokio::sync::oneshot::channel::<()>();
            let mut waits = Box::pin(behind.run(async move {
                let _kept = given_up;
                std::future::pending::<()>().await;
            }));
            assert!(futures_util::poll!(&mut waits).is_pending());
            assert!(told.try_recv().is_err());
            drop(waits);
            assert!(told.await.is_err(), "what was kept by it is gone");
        });
    }
}
