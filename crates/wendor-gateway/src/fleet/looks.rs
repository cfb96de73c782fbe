//! How often an upstream may be looked at without being asked for: one that says that it is asked too often is left alone, for longer each time.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use chrono::{DateTime, Utc};

use super::UpstreamState;

/// How long it is left alone the first time, and at most.
const FIRST: Duration = Duration::from_secs(60);
const LONGEST: Duration = Duration::from_secs(3_600);

/// Looks at one upstream.
#[derive(Debug, Default)]
pub struct Looks {
    left_alone: Mutex<LeftAlone>,
    /// Looks under way. Relaxed: it tells how many there are, it guards nothing.
    under_way: AtomicU32,
}

/// A look under way, until it is dropped.
#[derive(Debug)]
pub struct Looking(Arc<UpstreamState>);

impl Looking {
    /// A look at `upstream` begins.
    #[must_use]
    pub fn begin(upstream: &Arc<UpstreamState>) -> Self {
        upstream.looks().under_way.fetch_add(1, Ordering::Relaxed);
        Self(upstream.clone())
    }
}

impl Drop for Looking {
    fn drop(&mut self) {
        self.0.looks().under_way.fetch_sub(1, Ordering::Relaxed);
    }
}

#[derive(Clone, Copy, Debug, Default)]
struct LeftAlone {
    until: Option<DateTime<Utc>>,
    times: u32,
}

impl Looks {
    fn state(&self) -> std::sync::MutexGuard<'_, LeftAlone> {
        self.left_alone.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many are under way.
    #[must_use]
    pub fn under_way(&self) -> u32 {
        self.under_way.load(Ordering::Relaxed)
    }

    /// Whether it may be looked at now.
    #[must_use]
    pub fn may_look(&self, now: DateTime<Utc>) -> bool {
        self.state().until.is_none_or(|until| until <= now)
    }

    /// When it may be looked at again, where it asked to be left alone.
    #[must_use]
    pub fn not_before(&self) -> Option<DateTime<Utc>> {
        self.state().until
    }

    /// It says that it is asked too often, and in how many seconds it may be asked again, if it says so.
    pub fn refused(&self, now: DateTime<Utc>, retry_after: Option<u64>) {
        let mut state = self.state();
        let own = FIRST.saturating_mul(1 << state.times.min(6));
        let wait = own.max(Duration::from_secs(retry_after.unwrap_or(0))).min(LONGEST);
        state.times += 1;
        state.until = Some(now + wait);
    }

    /// It was looked at.
    pub fn taken(&self) {
        *self.state() = LeftAlone::default();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::first(&[None], 60)]
    #[case::longer_each_time(&[None, None, None], 240)]
    #[case::as_it_says(&[Some(600)], 600)]
    #[case::never_longer(&[Some(90_000)], 3_600)]
    fn one_that_is_asked_too_often_is_left_alone(#[case] refusals: &[Option<u64>], #[case] seconds: i64) {
        let (looks, now) = (Looks::default(), DateTime::UNIX_EPOCH);
        refusals.iter().for_each(|after| looks.refused(now, *after));
        let at = |seconds| now + chrono::TimeDelta::seconds(seconds);
        assert_eq!((looks.may_look(at(seconds - 1)), looks.may_look(at(seconds))), (false, true));
        looks.taken();
        assert!(looks.may_look(now));
    }
}
