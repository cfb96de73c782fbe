//! How many attempts beyond the first of each request there are: when servers fail, attempts must not become many times the requests.

use chrono::{DateTime, Utc};

use super::recent::Recent;

/// What is recent.
pub const SECONDS: usize = 10;

const FIRST: usize = 0;
const EXTRA: usize = 1;

/// Extra attempts for recent requests: so many however few those are, and one for every so many of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Budget<const FLOOR: u32, const REQUESTS_AN_EXTRA: u32>(Recent<2, SECONDS>);

/// Attempts elsewhere after one at an upstream has failed: a fifth of its requests.
pub type RetryBudget = Budget<20, 5>;

/// Attempts elsewhere beside one at an upstream: a twentieth of its requests.
pub type HedgeBudget = Budget<3, 20>;

/// There is none left.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Exhausted {
    /// Extra attempts of late.
    pub extra: u32,
    /// Requests of late.
    pub requests: u32,
}

impl<const FLOOR: u32, const REQUESTS_AN_EXTRA: u32> Budget<FLOOR, REQUESTS_AN_EXTRA> {
    /// A request's first attempt.
    pub fn first(&mut self, at: DateTime<Utc>) {
        self.0.count(at, FIRST);
    }

    /// A further attempt of a request.
    ///
    /// # Errors
    /// [`Exhausted`] when there are none left; it is not counted then.
    pub fn extra(&mut self, at: DateTime<Utc>) -> Result<(), Exhausted> {
        let [requests, extra] = self.0.counts(at);
        if extra >= FLOOR + requests / REQUESTS_AN_EXTRA {
            return Err(Exhausted { extra, requests });
        }
        self.0.count(at, EXTRA);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::idle(0, 20)]
    #[case::some(50, 30)]
    #[case::many(5_000, 1_020)]
    fn a_fifth_of_the_requests_and_a_floor(#[case] requests: u32, #[case] extra: usize) {
        let at = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let mut budget = RetryBudget::default();
        (0..requests).for_each(|_| budget.first(at));
        let had = (0..5_000).filter(|_| budget.extra(at).is_ok()).count();
        assert_eq!(had, extra);
        assert_eq!(budget.extra(at), Err(Exhausted { extra: u32::try_from(extra).unwrap(), requests }));
        assert!(budget.extra(at + chrono::TimeDelta::seconds(10)).is_ok(), "they come back");
    }
}
