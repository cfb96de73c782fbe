//! A panic on the path of one request is a fault of Wendor's own: it stays with that request. The app gets a 500 in its dialect, or a
//! stream that breaks off with an error; the ticket, dropped while the panic unwinds, settles as not answered; it is counted and stands in
//! Now. The panic's own message is kept out of the log: it may hold a part of what the app sent.

use std::future::Future;
use std::panic::{AssertUnwindSafe, catch_unwind};

use futures_util::FutureExt;

/// That there was a panic, which has been logged by [`log_panics`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fault;

/// What `work` gives. What it had in hand when it panicked is dropped; what others share with it is whole at every step.
///
/// # Errors
/// [`Fault`] when it panics.
pub fn caught<T>(work: impl Future<Output = T>) -> impl Future<Output = Result<T, Fault>> {
    // No async block around it: that would keep room for the work twice.
    AssertUnwindSafe(work).catch_unwind().map(|caught| caught.map_err(|_| Fault))
}

/// The same for a step that does not wait.
///
/// # Errors
/// [`Fault`] when it panics.
pub fn caught_at_once<T>(work: impl FnOnce() -> T) -> Result<T, Fault> {
    catch_unwind(AssertUnwindSafe(work)).map_err(|_| Fault)
}

/// From here on a panic anywhere in the service is logged with its place in the code and without its message.
pub fn log_panics() {
    std::panic::set_hook(Box::new(|panic| {
        let place = panic.location().map(ToString::to_string).unwrap_or_default();
        let thread = std::thread::current().name().unwrap_or("unnamed").to_owned();
        tracing::error!(place, thread, "an internal error: please report the place");
    }));
}

/// Panics where a test wants it: in a debug build alone, and there only if the service was started for it. The app names the step in
/// `wendor-run`.
#[cfg(debug_assertions)]
pub fn wanted_by_a_test(step: &str, run: Option<&str>) {
    static IS_WANTED: std::sync::LazyLock<bool> =
        std::sync::LazyLock::new(|| std::env::var_os("WENDOR_TEST_FAULTS").is_some());
    assert!(!(*IS_WANTED && run == Some(step)), "wanted by a test");
}

/// Nothing: what is shipped has no faults on demand.
#[cfg(not(debug_assertions))]
#[inline]
pub fn wanted_by_a_test(_step: &str, _run: Option<&str>) {}
