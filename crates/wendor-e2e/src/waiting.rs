//! Asking until something is so: readiness is asked for, never slept for.

use std::future::Future;
use std::time::{Duration, Instant};

/// How long is asked at most. Generous: a loaded machine is slow, a broken service is not merely slow.
const PATIENCE: Duration = Duration::from_secs(60);

/// Asks `ask` until it gives something.
///
/// # Panics
/// When it gives nothing for a minute.
pub async fn until<T, F: Future<Output = Option<T>>>(what: &str, mut ask: impl FnMut() -> F) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = ask().await {
            return found;
        }
        assert!(began.elapsed() < PATIENCE, "waited {PATIENCE:?} for {what}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}
