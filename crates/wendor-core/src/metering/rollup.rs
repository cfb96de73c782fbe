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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::entry::Latency;
    use crate::metering::rate::Cost;
    use crate::name::Name;
    use crate::request_id::RequestId;
    use chrono::TimeDelta;
    use proptest::prelude::*;
    use rust_decimal::Decimal;

    fn entry(number: u32, (minute, output, cost, end): (i64, u64, Option<i64>, usize)) -> LedgerEntry {
        let at = DateTime::UNIX_EPOCH + TimeDelta::minutes(minute);
        let team = Name::parse(if number.is_multiple_of(3) { "timetables" } else { "freight-desk" }).unwrap();
        LedgerEntry {
            tokens: TokenCounts { output, ..TokenCounts::default() },
            cost: cost.map(|cost| Cost { output: Money::new(Decimal::new(cost, 12)), ..Cost::default() }),
            end: End::ALL[end],
            latency: Latency {
                first_token_ms: (end < 3).then_some(output),
                whole_ms: output * 2,
                ..Latency::default()
            },
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, number), team, Name::parse("manifests").unwrap())
        }
    }

    proptest! {
        /// However entries are batched, the rows are the same: nothing is lost or counted twice.
        #[test]
        fn batches_do_not_matter(
            values in prop::collection::vec((0i64..180, 0u64..9_000, prop::option::of(0i64..9_000_000_000), 0usize..6), 0..60),
            cut in 0usize..60,
        ) {
            let entries: Vec<LedgerEntry> = (0u32..).zip(values).map(|(number, value)| entry(number, value)).collect();
            let whole = rows_of(&entries);
            let (first, second) = entries.split_at(cut.min(entries.len()));
            let mut merged = rows_of(second);
            for (key, row) in rows_of(first) {
                merged.entry(key).or_default().merge(&row);
            }
            prop_assert_eq!(&merged, &whole);
            let requests: u64 = whole.values().map(|row| row.requests).sum();
            prop_assert_eq!(requests, entries.len() as u64);
            let cost: Money = whole.values().map(|row| row.cost).sum();
            prop_assert_eq!(cost, entries.iter().filter_map(|entry| entry.cost).map(Cost::total).sum::<Money>());
            prop_assert!(whole.keys().all(|key| key.hour.timestamp() % 3_600 == 0));
        }
    }
}
