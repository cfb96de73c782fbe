//! Events: something that began, ended, or happened, in words, for whoever is told of it and for the list of what was.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::worded;

use super::attention::{Finding, Notice};
use crate::catalog::event_kind::EventKind;
use crate::diagnosis::inventory;
use crate::routing::health::{Change, HealthState};

worded! {
    /// Whether something began, ended, or only happened.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum EventState {
        /// Lasts until its `Ended`.
        Began = "began",
        /// What had begun is over.
        Ended = "ended",
        /// Has no duration.
        Happened = "happened",
    }
}

/// What somebody may want to be told, as it goes to webhooks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// What makes it one: the same is told once, whichever instance sees it.
    pub key: String,
    /// When.
    pub at: DateTime<Utc>,
    /// What about.
    pub kind: EventKind,
    /// Whether it began, ended or happened.
    pub state: EventState,
    /// What it is about, by name.
    pub subject: String,
    /// What is the matter: goes on after the subject.
    pub says: String,
    /// What else is known; may be empty.
    pub why: String,
}

impl Event {
    /// A change of health of an upstream or an offer, as an instance saw it.
    #[must_use]
    pub fn of_health(instance: &str, subject: &str, change: &Change) -> Self {
        let (state, says) = match change.state {
            HealthState::Failing => (EventState::Began, "rests after failures"),
            HealthState::Well | HealthState::NotAsked | HealthState::Degraded | HealthState::OnTrial => {
                (EventState::Ended, "is well again")
            }
        };
        Self {
            key: format!("health/{instance}/{subject}/{}", change.at.timestamp_micros()),
            at: change.at,
            kind: EventKind::Health,
            state,
            subject: subject.to_owned(),
            says: says.to_owned(),
            why: change.why.clone(),
        }
    }

    /// A change of what an upstream serves.
    #[must_use]
    pub fn of_inventory(upstream: &str, at: DateTime<Utc>, event: &inventory::Event) -> Self {
        let model = event.model.as_deref().unwrap_or("the server");
        let (before, after) = (event.before.as_deref().unwrap_or("none"), event.after.as_deref().unwrap_or("none"));
        let says = match event.kind {
            inventory::EventKind::Appeared => format!("serves {model} now"),
            inventory::EventKind::Vanished => format!("does not serve {model} any more"),
            inventory::EventKind::Weights => format!("serves {model} with other weights: {after}, before {before}"),
            inventory::EventKind::Size => format!("serves {model} in another size: {after} bytes, before {before}"),
            inventory::EventKind::Version => format!("has another version: {after}, before {before}"),
        };
        Self {
            key: format!("models/{upstream}/{model}/{}/{}", event.kind.as_str(), at.timestamp_micros()),
            at,
            kind: EventKind::Models,
            state: EventState::Happened,
            subject: upstream.to_owned(),
            says,
            why: String::new(),
        }
    }

    /// Somebody tries a webhook.
    #[must_use]
    pub fn of_test(webhook: &str, by: &str, at: DateTime<Utc>) -> Self {
        Self {
            key: format!("test/{webhook}/{}", at.timestamp_micros()),
            at,
            kind: EventKind::Test,
            state: EventState::Happened,
            subject: webhook.to_owned(),
            says: "is tried: this message says nothing else".to_owned(),
            why: format!("By {by}."),
        }
    }
}

/// What a finding is as an event, and whether every instance finds the same; `None` where it has events of its own, or is of no use as one.
/// With the name of the condition: as long as it is found, nothing has changed.
#[must_use]
pub fn condition(finding: &Finding, notice: &Notice) -> Option<(EventKind, String, Seen)> {
    let subject = &notice.subject;
    let (kind, name, seen) = match finding {
        // Health has events of its own; a name that is no route is nobody's emergency; and what is refused follows the quota.
        Finding::Failing(_) | Finding::NoRoute { .. } | Finding::OverQuota { .. } => return None,
        Finding::NoCredential { .. } => (EventKind::Health, format!("health/{subject}/credential"), Seen::ByEach),
        Finding::Slowed { .. } => (EventKind::Slow, format!("slow/{subject}"), Seen::ByEach),
        Finding::NearLimit(near) => {
            let name = format!("quota/{}/{}/{}", near.quota, near.resets_at.timestamp(), notice.state);
            (EventKind::Quota, name, Seen::ByAll)
        }
        Finding::Undone { revision, .. } => (EventKind::Revision, format!("revision/{revision}"), Seen::ByAll),
        Finding::Faults { .. } => (EventKind::Fault, "fault".to_owned(), Seen::ByEach),
        Finding::Weights(_) => (EventKind::Models, format!("models/{subject}/{}", notice.says), Seen::ByAll),
        Finding::SetAside { .. } => (EventKind::Spool, "spool/aside".to_owned(), Seen::ByEach),
        Finding::SpoolGrows { .. } => (EventKind::Spool, "spool/grows".to_owned(), Seen::ByEach),
        Finding::Expires(expires) => {
            let name = format!("expiry/{}/{}", expires.key, expires.at.timestamp());
            (EventKind::Expiry, name, Seen::ByAll)
        }
    };
    Some((kind, name, seen))
}

/// By whom a condition is seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Seen {
    /// By each instance for itself: its beginning and its end are told.
    ByEach,
    /// By all alike: it is told once.
    ByAll,
}
