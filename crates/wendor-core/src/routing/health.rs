//! What an upstream's last attempts say of it: its state in a word, the last failure, and until when it rests.
//!
//! Outcomes of attempts and instants enter, a state leaves. An upstream rests only for the time that it asked for
//! itself (`Retry-After`); after three failures in a row it stands behind the well ones of its stage for a while.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use super::failure::{Failure, FailureKind, Fault};

/// Failures in a row from which an upstream counts as failing.
pub const FAILING_AFTER: u32 = 3;

/// The longest rest that an upstream's `Retry-After` can buy: a wrong header must not take it out for hours.
const MAX_REST: TimeDelta = TimeDelta::seconds(60);

/// An upstream's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HealthState {
    /// Nothing was asked of it since the service began.
    NotAsked,
    /// Its last attempt succeeded.
    Well,
    /// Its last attempt failed, the ones before may not have.
    Degraded,
    /// Three attempts or more in a row failed.
    Failing,
}

impl HealthState {
    /// The state's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::NotAsked => "not asked yet",
            Self::Well => "well",
            Self::Degraded => "degraded",
            Self::Failing => "failing",
        }
    }
}

/// The last failure of an upstream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LastFailure {
    /// When it ended.
    pub at: DateTime<Utc>,
    /// At which model.
    pub model: String,
    /// How.
    pub failure: Failure,
}

/// What is remembered of an upstream.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Health {
    failures_in_a_row: u32,
    /// When it began to fail, or to be well.
    since: Option<DateTime<Utc>>,
    last_failure: Option<LastFailure>,
    last_success: Option<DateTime<Utc>>,
    rests_until: Option<DateTime<Utc>>,
    first_token_ms: Option<u64>,
}

impl Health {
    /// An attempt was answered, its first token after `first_token_ms`; a whole reply does not tell when that was.
    pub fn succeeded(&mut self, at: DateTime<Utc>, first_token_ms: Option<u64>) {
        if self.failures_in_a_row > 0 || self.last_success.is_none() {
            self.since = Some(at);
        }
        self.failures_in_a_row = 0;
        self.rests_until = None;
        self.last_success = Some(at);
        if let Some(new) = first_token_ms {
            // An eighth of each new wait: follows a change within some ten requests, without jumping at one.
            let smoothed = self.first_token_ms.map_or(new, |before| (before * 7 + new) / 8);
            self.first_token_ms = Some(smoothed);
        }
    }

    /// An attempt at `model` failed.
    pub fn failed(&mut self, at: DateTime<Utc>, model: &str, failure: &Failure) {
        if failure.kind.fault() == Fault::App {
            return;
        }
        if self.failures_in_a_row == 0 {
            self.since = Some(at);
        }
        self.failures_in_a_row = self.failures_in_a_row.saturating_add(1);
        if let (FailureKind::RateLimited | FailureKind::Overloaded, Some(wait)) = (failure.kind, failure.retry_after_ms)
        {
            let wait = TimeDelta::milliseconds(i64::try_from(wait).unwrap_or(i64::MAX)).min(MAX_REST);
            self.rests_until = Some(at + wait);
        }
        self.last_failure = Some(LastFailure { at, model: model.to_owned(), failure: failure.clone() });
    }

    /// The state in a word.
    #[must_use]
    pub fn state(&self) -> HealthState {
        match (self.failures_in_a_row, self.last_success) {
            (0, None) => HealthState::NotAsked,
            (0, Some(_)) => HealthState::Well,
            (FAILING_AFTER.., _) => HealthState::Failing,
            (_, _) => HealthState::Degraded,
        }
    }

    /// Since when it fails without a success between, or is well without a failure.
    #[must_use]
    pub fn since(&self) -> Option<DateTime<Utc>> {
        self.since
    }

    /// The last failure, also when it has been well since.
    #[must_use]
    pub fn last_failure(&self) -> Option<&LastFailure> {
        self.last_failure.as_ref()
    }

    /// Until when it asked to be left alone, if that is still to come.
    #[must_use]
    pub fn rests_until(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.rests_until.filter(|until| *until > now)
    }

    /// The recent wait for a first token, in milliseconds.
    #[must_use]
    pub fn first_token_ms(&self) -> Option<u64> {
        self.first_token_ms
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_000 + seconds, 0).unwrap()
    }

    #[test]
    fn three_failures_in_a_row_make_it_failing_and_one_success_well() {
        let mut health = Health::default();
        assert_eq!(health.state(), HealthState::NotAsked);
        let failure = Failure::new(FailureKind::Unreachable, "connection refused");
        let seen: Vec<_> = (0..3).map(|n| (health.failed(at(n), "dunlin-7b", &failure), health.state()).1).collect();
        assert_eq!(health.since(), Some(at(0)), "the first of the failures in a row");
        assert_eq!(seen, [HealthState::Degraded, HealthState::Degraded, HealthState::Failing]);
        health.succeeded(at(4), Some(200));
        health.succeeded(at(4), None);
        assert_eq!(health.first_token_ms(), Some(200), "a whole reply says nothing about it");
        assert_eq!(health.state(), HealthState::Well);
        assert_eq!(health.since(), Some(at(4)));
        assert_eq!(health.last_failure().map(|last| last.at), Some(at(2)));
    }

    #[test]
    fn the_apps_own_fault_says_nothing_about_health() {
        let mut health = Health::default();
        health.failed(at(0), "dunlin-7b", &Failure::of_status(400, None));
        assert_eq!(health, Health::default());
    }

    #[test]
    fn it_rests_as_long_as_it_asked_but_at_most_a_minute() {
        let mut health = Health::default();
        health.failed(at(0), "dunlin-7b", &Failure::of_status(429, Some(std::time::Duration::from_secs(5))));
        assert_eq!(health.rests_until(at(4)), Some(at(5)));
        assert_eq!(health.rests_until(at(5)), None);
        health.failed(at(0), "dunlin-7b", &Failure::of_status(503, Some(std::time::Duration::from_secs(86_400))));
        assert_eq!(health.rests_until(at(1)), Some(at(60)));
    }
}
