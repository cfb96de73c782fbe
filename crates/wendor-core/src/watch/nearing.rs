//! What nears its end: a quota its limit, a key its expiry.

use chrono::{DateTime, TimeDelta, Utc};
use rust_decimal::Decimal;

use super::attention::{Notice, Place};
use crate::metering::money::Money;
use crate::quota::window::Window;
use crate::quota::{AtLimit, Measure, QuotaId};
use crate::words::{grouped, length};

/// From this part of a limit on it is near, in per cent.
const NEAR_PERCENT: u64 = 90;

/// A quota that is near its limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NearLimit {
    /// Whose.
    pub team: String,
    /// Which.
    pub quota: QuotaId,
    /// What it counts.
    pub measure: Measure,
    /// The span over which the limit holds.
    pub window: Window,
    /// What happens at the limit.
    pub at_limit: AtLimit,
    /// So far in the window, in the quota's measure.
    pub used: Decimal,
    /// In the quota's measure.
    pub limit: Decimal,
    /// When the window ends.
    pub resets_at: DateTime<Utc>,
    /// When the limit is reached at the usual pace, if inside the window.
    pub reached_at: Option<DateTime<Utc>>,
}

/// A key that expires soon.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expires {
    /// Its id.
    pub key: String,
    /// What it is for.
    pub label: String,
    /// Whose.
    pub team: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// How long before its end a key is told of.
pub const EXPIRES_SOON: TimeDelta = TimeDelta::days(7);

/// Whether a quota is near its limit, or on its way there.
#[must_use]
pub fn is_near(used: Decimal, limit: Decimal, reached_at: Option<DateTime<Utc>>) -> bool {
    reached_at.is_some() || used * Decimal::from(100) >= limit * Decimal::from(NEAR_PERCENT)
}

impl NearLimit {
    pub(super) fn notice(&self, now: DateTime<Utc>, currency: &str) -> Notice {
        let amount = |value: Decimal| match self.measure {
            Measure::Cost => format!("{} {currency}", Money::new(value).shown(2)),
            Measure::Requests | Measure::InputTokens | Measure::OutputTokens | Measure::Tokens => {
                let whole = u64::try_from(value.trunc()).unwrap_or(u64::MAX);
                format!("{} {}", grouped(whole), self.measure.as_str().replace('-', " "))
            }
        };
        let percent = if self.limit.is_zero() {
            Decimal::from(100)
        } else {
            (self.used * Decimal::from(100) / self.limit).trunc()
        };
        let window = match self.window {
            Window::Month => now.format("%B's").to_string(),
            Window::Day => "today's".to_owned(),
            Window::Hour => "this hour's".to_owned(),
            Window::Minute => "this minute's".to_owned(),
        };
        let says = format!(
            "has used {}% of {window} {}, with {} to go",
            percent.normalize(),
            amount(self.limit),
            length(self.resets_at - now)
        );
        let at_limit = match self.at_limit {
            AtLimit::Refuse => "From then on its requests are refused.",
            AtLimit::Warn => "It only warns.",
        };
        let why = match self.reached_at {
            Some(_) if self.used >= self.limit => match self.at_limit {
                AtLimit::Refuse => format!("Its requests are refused until {}.", day_and_hour(self.resets_at)),
                AtLimit::Warn => "The limit is passed; it only warns.".to_owned(),
            },
            Some(at) => format!("At the usual pace it is reached on {}. {at_limit}", day_and_hour(at)),
            None => format!("At the usual pace it lasts to the end. {at_limit}"),
        };
        let state = if self.used >= self.limit { "over limit" } else { "near limit" };
        let subject = self.team.clone();
        Notice { state, subject: subject.clone(), says, why, verb: "Open the quota", leads_to: Place::Team(subject) }
    }
}

impl Expires {
    pub(super) fn notice(&self, now: DateTime<Utc>) -> Notice {
        let name = if self.label.is_empty() { self.key.clone() } else { format!("{} ({})", self.label, self.key) };
        Notice {
            state: "near limit",
            subject: self.team.clone(),
            says: format!("has a key that expires in {}: {name}", length(self.at - now)),
            why: format!("On {}; from then on its requests are refused. Issue another before.", day_and_hour(self.at)),
            verb: "Open its keys",
            leads_to: Place::Team(self.team.clone()),
        }
    }
}

fn day_and_hour(at: DateTime<Utc>) -> String {
    at.format("%A %-d %B about %H:%M UTC").to_string()
}
