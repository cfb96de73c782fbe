//! Health as it is told: of an upstream's connections, and of an offer.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::routing::health::{Change, Health};

/// The last failure since the service began.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LastFailureLine {
    /// When.
    pub at: DateTime<Utc>,
    /// At which model.
    pub model: String,
    /// The failure kind.
    pub kind: String,
    /// What was seen.
    pub detail: String,
}

/// It came to rest, or became well again.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct HealthChangeLine {
    /// When.
    pub at: DateTime<Utc>,
    /// What it became: `failing` or `well`.
    pub state: String,
    /// Why, in words.
    pub why: String,
}

/// How an offer, or the connections to an upstream, are.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct HealthLine {
    /// `no traffic yet`, `well`, `degraded`, `on trial` or `failing`.
    pub state: String,
    /// Since when it fails without a success between, or is well without a failure; absent before it was asked.
    pub since: Option<DateTime<Utc>>,
    /// When the next request may try it, while it rests or is on trial.
    pub next_trial: Option<DateTime<Utc>>,
    /// Until when it asked to be left alone.
    pub left_alone_until: Option<DateTime<Utc>>,
    /// Its last failure since the service began.
    pub last_failure: Option<LastFailureLine>,
    /// When it came to rest or became well again, the newest first; the last 32 since the service began.
    pub changes: Vec<HealthChangeLine>,
    /// How many such changes there were since the service began.
    pub changes_counted: u64,
}

/// Health as it is told.
pub(super) fn health_line(health: &Health, now: DateTime<Utc>) -> HealthLine {
    let change = |change: &Change| HealthChangeLine {
        at: change.at,
        state: change.state.as_str().to_owned(),
        why: change.why.clone(),
    };
    HealthLine {
        state: health.state().as_str().to_owned(),
        since: health.since(),
        next_trial: health.next_trial(),
        left_alone_until: health.left_alone_until(now),
        last_failure: last_failure(health),
        changes: health.changes().map(change).collect(),
        changes_counted: health.changes_counted(),
    }
}

/// The last failure as it is told.
pub(super) fn last_failure(health: &Health) -> Option<LastFailureLine> {
    health.last_failure().map(|last| LastFailureLine {
        at: last.at,
        model: last.model.clone(),
        kind: last.failure.kind.to_string(),
        detail: last.failure.detail.clone(),
    })
}
