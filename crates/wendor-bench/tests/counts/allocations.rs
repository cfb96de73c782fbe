//! How often something is allocated in this process, and how much.

#[cfg(not(feature = "where"))]
mod counting {
    use std::alloc::System;

    use stats_alloc::{INSTRUMENTED_SYSTEM, StatsAlloc};

    #[global_allocator]
    static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

    /// So far: how often, how many bytes.
    pub fn so_far() -> (usize, usize) {
        let stats = ALLOCATOR.stats();
        (stats.allocations + stats.reallocations, stats.bytes_allocated)
    }

    /// What is given back so far: how often, how many bytes.
    pub fn given_back() -> (usize, usize) {
        let stats = ALLOCATOR.stats();
        (stats.deallocations + stats.reallocations, stats.bytes_deallocated)
    }
}

#[cfg(feature = "where")]
mod counting {
    #[global_allocator]
    static ALLOCATOR: dhat::Alloc = dhat::Alloc;
}

/// Allocations and bytes, of all or of each.
#[derive(Clone, Copy, Debug)]
pub struct Count {
    pub allocations: f64,
    pub bytes: f64,
}

impl Count {
    /// Of each of so many.
    pub fn each(self, of: usize) -> Self {
        let of = f64::from(u32::try_from(of).unwrap());
        Self { allocations: self.allocations / of, bytes: self.bytes / of }
    }

    /// With another.
    pub fn and(self, other: Self) -> Self {
        Self { allocations: self.allocations + other.allocations, bytes: self.bytes + other.bytes }
    }

    /// What is beyond another.
    pub fn beyond(self, other: Self) -> Self {
        Self { allocations: self.allocations - other.allocations, bytes: self.bytes - other.bytes }
    }
}

/// What is allocated in this process, by whichever thread, while something is done.
#[cfg(not(feature = "where"))]
pub fn counted(done: impl FnOnce()) -> Count {
    let (allocations, bytes) = counting::so_far();
    done();
    let (allocations_then, bytes_then) = counting::so_far();
    let number = |count: usize| f64::from(u32::try_from(count).unwrap());
    Count { allocations: number(allocations_then - allocations), bytes: number(bytes_then - bytes) }
}

/// What is kept of it once that is done.
#[cfg(not(feature = "where"))]
pub fn kept(done: impl FnOnce()) -> Count {
    let (calls, bytes) = counting::given_back();
    let all = counted(done);
    let (calls_then, bytes_then) = counting::given_back();
    let number = |count: usize| f64::from(u32::try_from(count).unwrap());
    all.beyond(Count { allocations: number(calls_then - calls), bytes: number(bytes_then - bytes) })
}

/// The same, by call stack; the file tells what is kept at the end apart.
#[cfg(feature = "where")]
pub fn kept(done: impl FnOnce()) -> Count {
    counted(done)
}

/// The same, by call stack: of the one that `WENDOR_WHERE` numbers, written to `dhat-heap.json`, after which nothing more is done.
#[cfg(feature = "where")]
pub fn counted(done: impl FnOnce()) -> Count {
    use std::sync::atomic::{AtomicUsize, Ordering};
    static NUMBER: AtomicUsize = AtomicUsize::new(1);
    let wanted = std::env::var("WENDOR_WHERE").map_or(1, |number| number.parse().unwrap());
    if NUMBER.fetch_add(1, Ordering::Relaxed) == wanted {
        let profiler = dhat::Profiler::builder().trim_backtraces(Some(60)).build();
        done();
        drop(profiler);
        std::process::exit(0);
    }
    done();
    Count { allocations: 0.0, bytes: 0.0 }
}
