//! What the last attempts say of an offer or an upstream: whether it is asked, on trial, or rests.
//!
//! Outcomes of attempts and instants enter, a state leaves. It is a circuit breaker: after failures in a row, or when most of the recent
//! attempts failed or were slow, nothing is asked of it for a while; then one request at a time may try it; after some successes it is
//! asked as before. Rests grow with every failed trial up to a limit, and go on growing where it fails again soon after it was well, which
//! damps one that comes and goes. A time to come back that it named itself (`Retry-After`) is kept apart.

use std::collections::VecDeque;

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::worded;

use super::recent::Recent;
use super::waits::Waits;

/// Failures in a row after which it rests.
pub const RESTS_AFTER: u32 = 3;

/// Slow ones in a row after which it rests: at many requests a second the share of recent ones would say so too late.
const RESTS_AFTER_SLOW: u32 = 4;

/// Recent attempts from which the share of failures counts.
const LEAST_VOLUME: u32 = 10;

/// What is recent, in seconds.
const SECONDS: usize = 20;

/// The shortest rest; each further one in a row is twice as long.
const FIRST_REST: TimeDelta = TimeDelta::seconds(1);

/// The longest rest, before jitter: a server that was mended is asked again within this time.
pub const LONGEST_REST: TimeDelta = TimeDelta::seconds(15);

/// A rest is longer by up to this share of it, so that not all instances try at once.
const JITTER_PERCENT: i64 = 10;

/// Successes on trial after which it is asked as before.
const WELL_AFTER: u32 = 2;

/// A trial that has not ended after so long keeps no other request from trying.
const TRIAL_PATIENCE: TimeDelta = TimeDelta::seconds(5);

/// One that fails again within this time of having become well rests longer than before.
const DAMPED_WITHIN: TimeDelta = TimeDelta::seconds(120);

/// The longest time that a `Retry-After` can keep it from being asked: a wrong header must not take it out for hours.
const MAX_LEFT_ALONE: TimeDelta = TimeDelta::seconds(60);

/// Enough for a night of flapping; older ones are forgotten.
const KEPT_CHANGES: usize = 32;

const GOOD: usize = 0;
const BAD: usize = 1;

worded! {
    /// A state in a word.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum HealthState {
        /// Its last attempt succeeded.
        Well = "well",
        /// Nothing was asked of it since the service began.
        NotAsked = "no traffic yet",
        /// Its last attempt failed, the ones before may not have.
        Degraded = "degraded",
        /// It has rested, and single requests try it.
        OnTrial = "on trial",
        /// It rests after failures.
        Failing = "failing",
    }
}

/// Kind and time of the newest failure, for those who ask why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LastFailure {
    /// When it ended.
    pub at: DateTime<Utc>,
    /// At which model.
    pub model: String,
    /// How.
    pub failure: Failure,
}

/// It was rested, or became well again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// When.
    pub at: DateTime<Utc>,
    /// What it became.
    pub state: HealthState,
    /// Why, in words.
    pub why: String,
    /// Whether it rests once more since a trial failed: it was not well in between.
    pub is_again: bool,
}

/// Whether it may be asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asking {
    /// It may.
    Freely,
    /// One request may try it.
    OnTrial,
    /// Another request tries it, and nobody else until then.
    IsTried(DateTime<Utc>),
    /// It rests after failures until then.
    Rests(DateTime<Utc>),
    /// It asked for no requests until then.
    LeftAlone(DateTime<Utc>),
}

/// How far its breaker is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Phase {
    #[default]
    Closed,
    Open {
        until: DateTime<Utc>,
    },
    Trial {
        successes: u32,
        /// Since when a request tries it.
        since: Option<DateTime<Utc>>,
    },
}

/// What is remembered of an offer, or of an upstream's connections.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Health {
    phase: Phase,
    failures_in_a_row: u32,
    slow_in_a_row: u32,
    outcomes: Recent<2, SECONDS>,
    /// Rests in a row: each is twice as long as the one before.
    rests: u32,
    well_at: Option<DateTime<Utc>>,
    /// When it began to fail, or to be well.
    since: Option<DateTime<Utc>>,
    last_failure: Option<LastFailure>,
    last_success: Option<DateTime<Utc>>,
    left_alone_until: Option<DateTime<Utc>>,
    waits: Waits,
    changes: VecDeque<Change>,
    /// Every change begins another round.
    round: u64,
}

impl Health {
    /// Whether it may be asked at `now`.
    #[must_use]
    pub fn asking(&self, now: DateTime<Utc>) -> Asking {
        if let Some(until) = self.left_alone_until(now) {
            return Asking::LeftAlone(until);
        }
        match self.phase {
            Phase::Closed => Asking::Freely,
            Phase::Open { until } if now < until => Asking::Rests(until),
            Phase::Trial { since: Some(since), .. } if now < since + TRIAL_PATIENCE => {
                Asking::IsTried(since + TRIAL_PATIENCE)
            }
            Phase::Open { .. } | Phase::Trial { .. } => Asking::OnTrial,
        }
    }

    /// An attempt begins, if it may: on trial it is the one that tries.
    pub fn begin(&mut self, now: DateTime<Utc>) -> Asking {
        let asking = self.asking(now);
        if asking == Asking::OnTrial {
            let successes = match self.phase {
                Phase::Trial { successes, .. } => successes,
                Phase::Closed | Phase::Open { .. } => 0,
            };
            self.phase = Phase::Trial { successes, since: Some(now) };
        }
        asking
    }

    /// The round that an attempt begins in: what came of one of an earlier round says nothing about a rest or a trial of now.
    #[must_use]
    pub fn round(&self) -> u64 {
        self.round
    }

    /// An attempt of an earlier round was answered.
    pub fn succeeded_late(&mut self, at: DateTime<Utc>, first_token_ms: Option<u64>) {
        first_token_ms.into_iter().for_each(|wait| self.waits.add(wait));
        self.last_success = self.last_success.max(Some(at));
    }

    /// An attempt of an earlier round failed.
    pub fn failed_late(&mut self, at: DateTime<Utc>, model: &str, failure: &Failure) {
        if failure.tells_of_health() {
            self.last_failure = Some(LastFailure { at, model: model.to_owned(), failure: failure.clone() });
        }
    }

    /// The one that tried it has ended without saying anything of it: the next may try.
    pub fn given_up(&mut self) {
        if let Phase::Trial { successes, .. } = self.phase {
            self.phase = Phase::Trial { successes, since: None };
        }
    }

    /// An attempt was answered, its first token after `first_token_ms`; a whole reply does not tell when that was.
    /// Tells what has changed.
    pub fn succeeded(&mut self, at: DateTime<Utc>, first_token_ms: Option<u64>) -> Option<Change> {
        let slow_ms = self.waits.slow_ms();
        first_token_ms.into_iter().for_each(|wait| self.waits.add(wait));
        if let Some((wait, slow)) = first_token_ms.zip(slow_ms).filter(|(wait, slow)| wait >= slow) {
            return self.was_slow(at, &format!("a first token came after {wait} ms, and {slow} ms is slow here"));
        }
        if self.failures_in_a_row > 0 || self.last_success.is_none() {
            self.since = Some(at);
        }
        (self.failures_in_a_row, self.slow_in_a_row) = (0, 0);
        self.last_success = Some(at);
        self.outcomes.count(at, GOOD);
        let successes = match self.phase {
            Phase::Closed => return None,
            Phase::Open { .. } => 1,
            Phase::Trial { successes, .. } => successes + 1,
        };
        if successes < WELL_AFTER {
            self.phase = Phase::Trial { successes, since: None };
            return None;
        }
        self.phase = Phase::Closed;
        self.outcomes.forget();
        (self.well_at, self.since) = (Some(at), Some(at));
        let why = format!("{successes} requests in a row were answered on trial");
        Some(self.changed(Change { at, state: HealthState::Well, why, is_again: false }))
    }

    /// An attempt was given up after so long without a first token, since another answered: what is usual must hold it, or it would be taken
    /// for quicker than it is.
    pub fn waited_in_vain(&mut self, millis: u64) {
        self.waits.add(millis);
    }

    /// An attempt waits for its first token, or has waited, longer than is usual. It counts as a failure among the recent
    /// ones, and some in a row make it rest too. Tells what has changed.
    pub fn was_slow(&mut self, at: DateTime<Utc>, why: &str) -> Option<Change> {
        self.outcomes.count(at, BAD);
        self.slow_in_a_row = self.slow_in_a_row.saturating_add(1);
        self.last_success = Some(at);
        self.judge(at, why)
    }

    /// An attempt at `model` failed. Tells what has changed.
    pub fn failed(&mut self, at: DateTime<Utc>, model: &str, failure: &Failure) -> Option<Change> {
        if !failure.tells_of_health() {
            self.given_up();
            return None;
        }
        if self.failures_in_a_row == 0 {
            self.since = Some(at);
        }
        self.failures_in_a_row = self.failures_in_a_row.saturating_add(1);
        self.outcomes.count(at, BAD);
        if let (FailureKind::RateLimited | FailureKind::Overloaded, Some(wait)) = (failure.kind, failure.retry_after_ms)
        {
            let wait = TimeDelta::milliseconds(i64::try_from(wait).unwrap_or(i64::MAX)).min(MAX_LEFT_ALONE);
            self.left_alone_until = self.left_alone_until.max(Some(at + wait));
        }
        self.last_failure = Some(LastFailure { at, model: model.to_owned(), failure: failure.clone() });
        self.judge(at, &format!("{} ({})", failure.kind, failure.detail))
    }

    /// Whether it has to rest after what has just happened.
    fn judge(&mut self, at: DateTime<Utc>, last: &str) -> Option<Change> {
        let why = match self.phase {
            Phase::Open { .. } => return None,
            Phase::Trial { .. } => format!("the trial failed: {last}"),
            Phase::Closed if self.failures_in_a_row >= RESTS_AFTER => {
                format!("{} failures in a row, the last: {last}", self.failures_in_a_row)
            }
            Phase::Closed if self.slow_in_a_row >= RESTS_AFTER_SLOW => {
                format!("{} slow in a row, the last: {last}", self.slow_in_a_row)
            }
            Phase::Closed => {
                let [good, bad] = self.outcomes.counts(at);
                if good + bad < LEAST_VOLUME || bad < good {
                    return None;
                }
                format!("{bad} of {} recent attempts failed or were slow, the last: {last}", good + bad)
            }
        };
        self.slow_in_a_row = 0;
        let is_on_trial = matches!(self.phase, Phase::Trial { .. });
        let is_damped = self.well_at.is_some_and(|well| at - well < DAMPED_WITHIN);
        self.rests = if is_on_trial || is_damped { self.rests.saturating_add(1) } else { 0 };
        self.phase = Phase::Open { until: at + self.rest(at) };
        Some(self.changed(Change { at, state: HealthState::Failing, why, is_again: is_on_trial }))
    }

    /// How long it rests now.
    fn rest(&self, at: DateTime<Utc>) -> TimeDelta {
        let rest = (FIRST_REST * (1 << self.rests.min(8))).min(LONGEST_REST);
        // No two instances reach this at the same microsecond.
        let part = i64::from(at.timestamp_subsec_micros() % 1_000) * JITTER_PERCENT;
        rest + TimeDelta::milliseconds(rest.num_milliseconds() * part / 100_000)
    }

    fn changed(&mut self, change: Change) -> Change {
        self.changes.truncate(KEPT_CHANGES - 1);
        self.changes.push_front(change.clone());
        self.round += 1;
        change
    }

    /// The state in a word.
    #[must_use]
    pub fn state(&self) -> HealthState {
        match (self.phase, self.failures_in_a_row, self.last_success) {
            (Phase::Open { .. }, ..) => HealthState::Failing,
            (Phase::Trial { .. }, ..) => HealthState::OnTrial,
            (Phase::Closed, 0, None) => HealthState::NotAsked,
            (Phase::Closed, 0, Some(_)) => HealthState::Well,
            (Phase::Closed, ..) => HealthState::Degraded,
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

    /// When an attempt was last answered.
    #[must_use]
    pub fn last_success(&self) -> Option<DateTime<Utc>> {
        self.last_success
    }

    /// When something was last heard of it, good or bad.
    #[must_use]
    pub fn last_heard(&self) -> Option<DateTime<Utc>> {
        self.last_success.max(self.last_failure.as_ref().map(|last| last.at))
    }

    /// Until when it asked to be left alone, if that is still to come.
    #[must_use]
    pub fn left_alone_until(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.left_alone_until.filter(|until| *until > now)
    }

    /// When the next request may try it, while it rests or is on trial.
    #[must_use]
    pub fn next_trial(&self) -> Option<DateTime<Utc>> {
        match self.phase {
            Phase::Open { until } => Some(until),
            Phase::Trial { since: Some(since), .. } => Some(since + TRIAL_PATIENCE),
            Phase::Closed | Phase::Trial { since: None, .. } => None,
        }
    }

    /// How long it was waited for a first token of late.
    #[must_use]
    pub fn waits(&self) -> &Waits {
        &self.waits
    }

    /// The last changes, the newest first.
    pub fn changes(&self) -> impl Iterator<Item = &Change> {
        self.changes.iter()
    }

    /// Changes since the service began.
    #[must_use]
    pub fn changes_counted(&self) -> u64 {
        self.round
    }
}

/// The state of an upstream of which its connections and its offers that were asked are in these.
#[must_use]
pub fn overall(connections: HealthState, offers: impl Iterator<Item = HealthState>) -> HealthState {
    if matches!(connections, HealthState::Failing | HealthState::OnTrial | HealthState::Degraded) {
        return connections;
    }
    let states: Vec<HealthState> = offers.filter(|state| *state != HealthState::NotAsked).collect();
    match (states.iter().min(), states.iter().max()) {
        (None, _) | (_, None) => HealthState::NotAsked,
        (Some(least), Some(worst)) if least == worst => *worst,
        (Some(_), Some(_)) => HealthState::Degraded,
    }
}

#[cfg(test)]
mod tests;
