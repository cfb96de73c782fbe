//! Steps of reading and translating, counted in debug builds alone, so that tests can hold both to being linear in what comes in. A release
//! counts nothing.

#[cfg(debug_assertions)]
use std::cell::Cell;

#[cfg(debug_assertions)]
thread_local! {
    static SPENT: Cell<u64> = const { Cell::new(0) };
}

/// So many bytes, members or values were gone through.
#[inline]
#[cfg_attr(not(debug_assertions), expect(unused_variables, reason = "a release counts nothing"))]
pub fn spent(steps: usize) {
    #[cfg(debug_assertions)]
    SPENT.set(SPENT.get().saturating_add(u64::try_from(steps).unwrap_or(u64::MAX)));
}

/// The steps that this thread has spent so far.
#[cfg(debug_assertions)]
#[must_use]
pub fn so_far() -> u64 {
    SPENT.get()
}
