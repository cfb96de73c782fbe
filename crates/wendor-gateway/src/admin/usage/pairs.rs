//! Figures told apart by two things at once, such as route and day: a line for each pair that there is.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc};
use wendor_core::metering::money::Money;
use wendor_store::usage::{Dimension, PAIR, UsageQuery};

use super::asked::{base_query, narrowed};
use super::{Groups, Lines, UsageLine, line};

/// A line for each pair: by the dearest of the first thing, or in the order of time; then likewise by the second.
pub(super) fn pair_lines(
    query: &UsageQuery,
    then: Dimension,
    shift: TimeDelta,
    groups: &Groups,
    earlier: &Groups,
) -> Lines {
    let is_of_time = query.by.step().is_some() || then.step().is_some();
    let gone = earlier.keys().filter(|key| !is_of_time && !groups.contains_key(*key));
    let keys: Vec<(&str, &str)> = groups.keys().chain(gone).map(|key| parts(key)).collect();
    let mut totals: BTreeMap<&str, Money> = BTreeMap::new();
    for (key, sums) in groups {
        let total = totals.entry(parts(key).0).or_default();
        *total = *total + sums.cost;
    }
    let mut places: Vec<(Order, Order, (&str, &str))> = keys
        .into_iter()
        .map(|(first, second)| {
            let total = totals.get(first).copied().unwrap_or_default();
            let cost = groups.get(&pair(first, second)).map(|sums| sums.cost).unwrap_or_default();
            (Order::of(query.by, first, total), Order::of(then, second, cost), (first, second))
        })
        .collect();
    places.sort_by(|one, other| (&one.0, &one.1).cmp(&(&other.0, &other.1)));
    Lines::of(places, |(.., (first, second))| {
        let before = pair(&shifted(query.by, first, shift), &shifted(then, second, shift));
        let link = link(query, &[(query.by, first), (then, second)]);
        let sums = groups.get(&pair(first, second));
        UsageLine { then: Some(second.to_owned()), ..line(first, sums, earlier.get(&before), link) }
    })
}

fn pair(first: &str, second: &str) -> String {
    format!("{first}{PAIR}{second}")
}

fn parts(key: &str) -> (&str, &str) {
    key.split_once(PAIR).unwrap_or((key, ""))
}

/// The dearest first, and times in their order.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Order {
    dearer: std::cmp::Reverse<Money>,
    name: String,
}

impl Order {
    fn of(by: Dimension, name: &str, cost: Money) -> Self {
        let cost = if by.step().is_some() { Money::ZERO } else { cost };
        Self { dearer: std::cmp::Reverse(cost), name: name.to_owned() }
    }
}

/// When the step of that name begins.
fn start_of(name: &str) -> Option<DateTime<Utc>> {
    let day = || NaiveDate::parse_from_str(name, "%Y-%m-%d").ok().map(|day| day.and_time(NaiveTime::MIN));
    NaiveDateTime::parse_from_str(name, "%Y-%m-%dT%H:%MZ").ok().or_else(day).map(|at| at.and_utc())
}

/// The name of what is compared with it: of a time the one so far back.
fn shifted(by: Dimension, name: &str, shift: TimeDelta) -> String {
    let earlier = by.step().and_then(|step| Some((step.name_of)(start_of(name)? - shift)));
    earlier.unwrap_or_else(|| name.to_owned())
}

fn link(query: &UsageQuery, parts: &[(Dimension, &str)]) -> String {
    let mut part = query.clone();
    for (by, name) in parts {
        if let Some((step, start)) = by.step().and_then(|step| Some((step, start_of(name)?))) {
            (part.from, part.to) = (start.max(query.from), (start + step.length).min(query.to));
        }
    }
    let named = parts.iter().filter(|(by, _)| by.step().is_none());
    named.fold(base_query(&part), |link, (by, name)| link + &narrowed(query, *by, name))
}
