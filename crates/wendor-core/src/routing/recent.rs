//! What happened within the last seconds, counted by second: an event is forgotten once its second is old enough.

use chrono::{DateTime, Utc};

/// Counts of `N` kinds of events over the last `SECONDS` seconds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recent<const N: usize, const SECONDS: usize> {
    /// By second modulo their number; the second that each stands for tells whether it is still recent.
    seconds: [(i64, [u32; N]); SECONDS],
}

impl<const N: usize, const SECONDS: usize> Default for Recent<N, SECONDS> {
    fn default() -> Self {
        Self { seconds: [(i64::MIN, [0; N]); SECONDS] }
    }
}

impl<const N: usize, const SECONDS: usize> Recent<N, SECONDS> {
    /// One more of a kind.
    pub fn count(&mut self, at: DateTime<Utc>, kind: usize) {
        self.add(at, kind, 1);
    }

    /// So many more of a kind.
    pub fn add(&mut self, at: DateTime<Utc>, kind: usize, more: u32) {
        let second = at.timestamp();
        let length = i64::try_from(SECONDS).unwrap_or(i64::MAX);
        let place = usize::try_from(second.rem_euclid(length)).unwrap_or(0);
        let Some(slot) = self.seconds.get_mut(place) else { return };
        if slot.0 != second {
            *slot = (second, [0; N]);
        }
        if let Some(count) = slot.1.get_mut(kind) {
            *count = count.saturating_add(more);
        }
    }

    /// How many of each kind there were up to `now`.
    #[must_use]
    pub fn counts(&self, now: DateTime<Utc>) -> [u32; N] {
        let oldest = now.timestamp().saturating_sub(i64::try_from(SECONDS).unwrap_or(i64::MAX));
        let mut sums = [0_u32; N];
        for (_, counts) in self.seconds.iter().filter(|(second, _)| *second > oldest) {
            for (sum, count) in sums.iter_mut().zip(counts) {
                *sum = sum.saturating_add(*count);
            }
        }
        sums
    }

    /// As if nothing had been seen.
    pub fn forget(&mut self) {
        *self = Self::default();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_old_is_not_counted() {
        let at = |seconds: i64| DateTime::from_timestamp(1_790_000_000 + seconds, 0).unwrap();
        let mut recent = Recent::<2, 10>::default();
        recent.count(at(0), 0);
        recent.count(at(1), 1);
        recent.count(at(9), 1);
        assert_eq!(recent.counts(at(9)), [1, 2]);
        assert_eq!(recent.counts(at(10)), [0, 2], "a second stands for itself alone");
        recent.count(at(10), 0);
        assert_eq!(recent.counts(at(10)), [1, 2], "the second before it in its place is forgotten");
        assert_eq!(recent.counts(at(600)), [0, 0]);
        recent.forget();
        assert_eq!(recent.counts(at(10)), [0, 0]);
    }
}
