//! The hourly sums: entries by hour, team, key, route and offer become one row with counts, money and latency sketches.
//!
//! Folding is order-free and exact, so that a row equals the sum of its entries to the last digit, however they were
//! batched. The store merges rows; figures for any range are merged the same way.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use wendor_wire::usage::TokenCounts;

use super::end::End;
use super::entry::{LedgerEntry, Record};
use super::money::Money;
use super::sketch::Sketch;
use crate::name::OfferName;
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
    /// Its name, as the entries have it.
    pub route: String,
    /// The offer; empty when none was tried.
    pub offer: String,
}

/// Sums of some entries.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RollUp {
    /// Requests admitted. Counts and latencies are of requests alone; tokens, images and money of everything that used any.
    pub requests: u64,
    /// Of these, left without a whole answer by us or the upstreams.
    pub failures: u64,
    /// Of these, given up by the app.
    pub cancelled: u64,
    /// Lines of any kind without a price, which the money leaves out.
    pub unpriced: u64,
    /// Of the requests, with estimated tokens.
    pub estimated: u64,
    /// Calls of checks.
    pub checks: u64,
    /// Attempts that used something and did not answer.
    pub attempts: u64,
    /// Of the tokens, those of such attempts.
    pub attempt_tokens: TokenCounts,
    /// Of the money, that of such attempts.
    pub attempt_cost: Money,
    /// Images made.
    pub images: u64,
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
            key: entry.key.to_string(),
            route: entry.route.to_string(),
            offer: entry.offer.as_ref().map(ToString::to_string).unwrap_or_default(),
        }
    }
}

impl RollUp {
    /// Adds one entry.
    pub fn add(&mut self, entry: &LedgerEntry) {
        let cost = entry.cost.map_or(Money::ZERO, super::rate::Cost::total);
        self.unpriced += u64::from(entry.cost.is_none());
        self.tokens = self.tokens.with(entry.tokens);
        self.images += u64::from(entry.images.count);
        self.cost = self.cost + cost;
        match &entry.record {
            Record::Request(request) => {
                self.requests += 1;
                self.failures += u64::from(request.end.is_failure());
                self.cancelled += u64::from(request.end == End::Cancelled);
                self.estimated += u64::from(entry.counted == wendor_wire::usage::Counted::Estimated);
                if let Some(first_token) = request.latency.first_token_ms {
                    self.first_token.add(first_token);
                }
                self.whole.add(request.latency.whole_ms);
            }
            Record::Attempt(_) => {
                self.attempts += 1;
                self.attempt_tokens = self.attempt_tokens.with(entry.tokens);
                self.attempt_cost = self.attempt_cost + cost;
            }
            Record::Check(_) => self.checks += 1,
            Record::Adjustment(_) => {}
        }
    }

    /// Adds all of `other`.
    pub fn merge(&mut self, other: &Self) {
        self.requests += other.requests;
        self.failures += other.failures;
        self.cancelled += other.cancelled;
        self.unpriced += other.unpriced;
        self.estimated += other.estimated;
        self.checks += other.checks;
        self.attempts += other.attempts;
        self.attempt_tokens = self.attempt_tokens.with(other.attempt_tokens);
        self.attempt_cost = self.attempt_cost + other.attempt_cost;
        self.images += other.images;
        self.tokens = self.tokens.with(other.tokens);
        self.cost = self.cost + other.cost;
        self.first_token.merge(&other.first_token);
        self.whole.merge(&other.whole);
    }

    /// Takes away what is of `other`, which is a part of it: what is left is the sum of all the rest.
    pub fn take_away(&mut self, other: &Self) {
        let less = |own: &mut u64, part: u64| *own = own.saturating_sub(part);
        less(&mut self.requests, other.requests);
        less(&mut self.failures, other.failures);
        less(&mut self.cancelled, other.cancelled);
        less(&mut self.unpriced, other.unpriced);
        less(&mut self.estimated, other.estimated);
        less(&mut self.checks, other.checks);
        less(&mut self.attempts, other.attempts);
        less(&mut self.images, other.images);
        self.attempt_tokens = self.attempt_tokens.without(other.attempt_tokens);
        self.attempt_cost = self.attempt_cost - other.attempt_cost;
        self.tokens = self.tokens.without(other.tokens);
        self.cost = self.cost - other.cost;
        self.first_token.take_away(&other.first_token);
        self.whole.take_away(&other.whole);
    }
}

/// The rows of a batch of entries, in the order of their keys.
#[must_use]
pub fn rows_of<'a>(entries: impl IntoIterator<Item = &'a LedgerEntry>) -> BTreeMap<RollUpKey, RollUp> {
    // By reference first: most entries of a batch belong to a handful of rows, whose keys are made once each.
    let mut rows: BTreeMap<RowOf<'a>, (RollUpKey, RollUp)> = BTreeMap::new();
    for entry in entries {
        let start = Window::Hour.around(entry.at).start;
        let row = (start, entry.team.as_str(), entry.key.as_str(), entry.route.as_str(), entry.offer.as_ref());
        rows.entry(row).or_insert_with(|| (RollUpKey::of(entry), RollUp::default())).1.add(entry);
    }
    rows.into_values().collect()
}

/// What tells rows apart.
type RowOf<'a> = (DateTime<Utc>, &'a str, &'a str, &'a str, Option<&'a OfferName>);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::entry::{AdjustmentRecord, AttemptRecord, CheckRecord, Latency, RequestRecord};
    use crate::metering::rate::Cost;
    use crate::name::Name;
    use crate::request_id::RequestId;
    use chrono::TimeDelta;
    use proptest::prelude::*;
    use rust_decimal::Decimal;

    fn entry(number: u32, minute: i64, output: u64, cost: Option<i64>, end: usize) -> LedgerEntry {
        let at = DateTime::UNIX_EPOCH + TimeDelta::minutes(minute);
        let team = Name::parse(if number.is_multiple_of(3) { "timetables" } else { "freight-desk" }).unwrap();
        LedgerEntry {
            tokens: TokenCounts { output, ..TokenCounts::default() },
            cost: cost.map(|cost| Cost { output: Money::new(Decimal::new(cost, 12)), ..Cost::default() }),
            record: match end {
                7 => Record::Attempt(AttemptRecord {
                    number: 1,
                    streamed: true,
                    failure: None,
                    began_ms: 1,
                    ended_ms: 9,
                }),
                end => Record::Request(RequestRecord {
                    attempts: 1,
                    streamed: true,
                    end: End::ALL[end],
                    failure: None,
                    latency: Latency {
                        first_token_ms: (end < 3).then_some(output),
                        whole_ms: output * 2,
                        ..Latency::default()
                    },
                    lane: crate::routing::queue::Lane::default(),
                }),
            },
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, number), team, Name::parse("manifests").unwrap())
        }
    }

    /// Checks and corrections cost something, and are no requests.
    #[test]
    fn each_kind_counts_where_it_belongs() {
        let check = CheckRecord { streamed: true, end: End::Proper, latency: Latency::default() };
        let adjustment = AdjustmentRecord { reason: "priced anew".to_owned() };
        let records = [Record::Check(check), Record::Check(check), Record::Adjustment(adjustment)];
        let entries = records.map(|record| LedgerEntry { record, ..entry(1, 0, 7, Some(5), 0) });
        let rows = rows_of(&entries);
        let row = rows.values().next().unwrap();
        assert_eq!((row.checks, row.requests, row.attempts, row.tokens.output), (2, 0, 0, 21));
        let mut thrice = row.clone();
        (0..2).for_each(|_| thrice.merge(row));
        assert_eq!((thrice.checks, thrice.tokens.output), (6, 63));
    }

    proptest! {
        /// However entries are batched, the rows are the same: nothing is lost or counted twice.
        #[test]
        fn batches_do_not_matter(
            values in prop::collection::vec((0i64..180, 0u64..9_000, prop::option::of(0i64..9_000_000_000), 0usize..8), 0..60),
            cut in 0usize..60,
        ) {
            let entries: Vec<LedgerEntry> = (0u32..).zip(values).map(|(number, (minute, output, cost, end))| entry(number, minute, output, cost, end)).collect();
            let whole = rows_of(&entries);
            let (first, second) = entries.split_at(cut.min(entries.len()));
            let mut merged = rows_of(second);
            for (key, row) in rows_of(first) {
                merged.entry(key).or_default().merge(&row);
            }
            prop_assert_eq!(&merged, &whole);
            // What is taken away again leaves what was there before.
            for (key, row) in rows_of(second) {
                merged.get_mut(&key).unwrap().take_away(&row);
            }
            merged.retain(|_, row| *row != RollUp::default());
            prop_assert_eq!(&merged, &rows_of(first));
            let requests: u64 = whole.values().map(|row| row.requests).sum();
            let attempts: u64 = whole.values().map(|row| row.attempts).sum();
            prop_assert_eq!(requests + attempts, entries.len() as u64);
            let latencies: u64 = whole.values().map(|row| row.whole.count()).sum();
            prop_assert_eq!(latencies, requests, "latencies are of requests alone");
            let cost: Money = whole.values().map(|row| row.cost).sum();
            prop_assert_eq!(cost, entries.iter().filter_map(|entry| entry.cost).map(Cost::total).sum::<Money>());
            prop_assert!(whole.keys().all(|key| key.hour.timestamp() % 3_600 == 0));
        }
    }

    /// Two of each, so that no sum is what one alone would be.
    #[test]
    fn every_sum_counts_each_entry() {
        let with = |number: u32, end: usize| LedgerEntry {
            images: wendor_wire::images::Images { count: 3, size: None },
            counted: wendor_wire::usage::Counted::Estimated,
            ..entry(number * 3, 0, 7, None, end)
        };
        let place = |end: End| End::ALL.iter().position(|other| *other == end).unwrap();
        let ends = [place(End::CutOff), place(End::Cancelled), place(End::Proper), 7];
        let entries: Vec<LedgerEntry> = ends.into_iter().flat_map(|end| [with(1, end), with(2, end)]).collect();
        let sums = |row: &RollUp| {
            [row.requests, row.failures, row.cancelled, row.estimated, row.unpriced, row.images, row.attempts]
        };
        let rows = rows_of(&entries);
        let [row] = rows.values().collect::<Vec<_>>()[..] else { panic!("{rows:?}") };
        assert_eq!(sums(row), [6, 2, 2, 6, 8, 24, 2]);
        let mut twice = row.clone();
        twice.merge(row);
        assert_eq!(sums(&twice), [12, 4, 4, 12, 16, 48, 4]);
        let reported = LedgerEntry { counted: wendor_wire::usage::Counted::Reported, ..with(1, place(End::Proper)) };
        assert_eq!(rows_of([&reported]).values().map(|row| row.estimated).sum::<u64>(), 0);
    }
}
