//! The hourly sums: entries by hour, team, key, route and offer become one row with counts, money and latency sketches.
//!
//! Folding is order-free and exact, so that a row equals the sum of its entries to the last digit, however they were
//! batched. The store merges rows; figures for any range are merged the same way.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};

use super::entry::{End, LedgerEntry};
use super::money::Money;
use super::sketch::Sketch;
use super::usage::TokenCounts;
use crate::quota::window::Window;

/// What a row is summed by.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RollUpKey {
    /// Start of the hour, UTC.
    pub hour: DateTime<Utc>,
    /// Who pays.
    pub team: String,
    /// Id of the key.
    pub key: String,
    /// The route.
    pub route: String,
    /// The offer; empty when none was tried.
    pub offer: String,
}

/// Sums of some entries.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RollUp {
    /// Requests admitted.
    pub requests: u64,
    /// Of these, left without a whole answer by us or the upstreams.
    pub failures: u64,
    /// Of these, given up by the app.
    pub cancelled: u64,
    /// Of these, without a price.
    pub unpriced: u64,
    /// Of these, with estimated tokens.
    pub estimated: u64,
    /// Tokens by kind.
    pub tokens: TokenCounts,
    /// Money.
    pub cost: Money,
    /// Waits for a first token.
    pub first_token: Sketch,
    /// Whole times.
    pub whole: Sketch,
}

impl RollUpKey {
    /// The row that `entry` belongs to.
    #[must_use]
    pub fn of(entry: &LedgerEntry) -> Self {
        Self {
            hour: Window::Hour.around(entry.at).start,
            team: entry.team.to_string(),
            key: entry.key.clone(),
            route: entry.route.to_string(),
            offer: entry.offer.as_ref().map(ToString::to_string).unwrap_or_default(),
        }
    }
}

impl RollUp {
    /// Adds one entry.
    pub fn add(&mut self, entry: &LedgerEntry) {
        self.requests += 1;
        self.failures += u64::from(entry.end.is_failure());
        self.cancelled += u64::from(entry.end == End::Cancelled);
        self.unpriced += u64::from(entry.cost.is_none());
        self.estimated += u64::from(entry.counted == super::usage::Counted::Estimated);
        self.tokens = sum_of(self.tokens, entry.tokens);
        self.cost = self.cost + entry.cost.map_or(Money::ZERO, super::rate::Cost::total);
        if let Some(first_token) = entry.latency.first_token_ms {
            self.first_token.add(first_token);
        }
        self.whole.add(entry.latency.whole_ms);
    }

    /// Adds all of `other`.
    pub fn merge(&mut self, other: &Self) {
        self.requests += other.requests;
        self.failures += other.failures;
        self.cancelled += other.cancelled;
        self.unpriced += other.unpriced;
        self.estimated += other.estimated;
        self.tokens = sum_of(self.tokens, other.tokens);
        self.cost = self.cost + other.cost;
        self.first_token.merge(&other.first_token);
        self.whole.merge(&other.whole);
    }
}

fn sum_of(a: TokenCounts, b: TokenCounts) -> TokenCounts {
    TokenCounts {
        input: a.input + b.input,
        input_cached: a.input_cached + b.input_cached,
        cache_written: a.cache_written + b.cache_written,
        output: a.output + b.output,
        reasoning: a.reasoning + b.reasoning,
    }
}

/// The rows of a batch of entries, in the order of their keys.
#[must_use]
pub fn rows_of<'a>(entries: impl IntoIterator<Item = &'a LedgerEntry>) -> BTreeMap<RollUpKey, RollUp> {
    let mut rows: BTreeMap<RollUpKey, RollUp> = BTreeMap::new();
    for entry in entries {
        rows.entry(RollUpKey::of(entry)).or_default().add(entry);
    }
    rows
}
