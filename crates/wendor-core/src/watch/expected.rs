//! What was to be expected: a day by the same weekdays before it, and the end of a month by its pace so far.
//!
//! Amounts by day enter, a range or a pace leaves. Teams work by the week, so a Monday is compared with Mondays; four of them
//! bound what is usual without reaching back into another season.

use std::collections::BTreeMap;

use chrono::{DateTime, Datelike, Days, NaiveDate, TimeDelta, Utc};
use rust_decimal::Decimal;

/// Weeks that are looked back.
pub const WEEKS: u64 = 4;

/// Amounts by day, UTC. A day that is missing had none.
pub type Daily = BTreeMap<NaiveDate, Decimal>;

/// The least and the most of the same weekdays before.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The least of them.
    pub low: Decimal,
    /// The most of them.
    pub high: Decimal,
}

/// How a window will end if it goes on as usual.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pace {
    /// What will be used by its end.
    pub by_end: Decimal,
    /// When the limit will be reached, if that is inside the window.
    pub reached_at: Option<DateTime<Utc>>,
}

/// The same weekdays before `day`, at most [`WEEKS`], none before `since`.
fn same_weekdays(day: NaiveDate, since: NaiveDate) -> impl Iterator<Item = NaiveDate> {
    (1..=WEEKS).filter_map(move |week| day.checked_sub_days(Days::new(7 * week))).filter(move |before| *before >= since)
}

/// What `day` was to be, by the same weekdays before it; `None` when there was none since `since`, the first day with records.
#[must_use]
pub fn of_day(day: NaiveDate, daily: &Daily, since: NaiveDate) -> Option<Expected> {
    let amounts = same_weekdays(day, since).map(|before| daily.get(&before).copied().unwrap_or_default());
    amounts.fold(None, |range: Option<Expected>, amount| {
        Some(range.map_or(Expected { low: amount, high: amount }, |range| Expected {
            low: range.low.min(amount),
            high: range.high.max(amount),
        }))
    })
}

/// The mean of the same weekdays before `day`.
fn usual(day: NaiveDate, daily: &Daily, since: NaiveDate) -> Option<Decimal> {
    let amounts: Vec<Decimal> =
        same_weekdays(day, since).map(|before| daily.get(&before).copied().unwrap_or_default()).collect();
    let count = u64::try_from(amounts.len()).ok().filter(|count| *count > 0)?;
    Some(amounts.iter().sum::<Decimal>() / Decimal::from(count))
}

/// How a window that ends at `end` goes on from `now`, of which `used` is used: each day that is left, and the rest of today, as
/// the same weekdays before. `None` while there is no week to go by.
#[must_use]
pub fn pace(
    used: Decimal,
    limit: Decimal,
    now: DateTime<Utc>,
    end: DateTime<Utc>,
    daily: &Daily,
    since: NaiveDate,
) -> Option<Pace> {
    let mut by_end = used;
    let mut reached_at = (used >= limit).then_some(now);
    let mut at = now;
    while at < end {
        let day = at.date_naive();
        let next = day.checked_add_days(Days::new(1))?.and_time(chrono::NaiveTime::MIN).and_utc().min(end);
        // A weekday without a past yet is taken for an average one of those that have one.
        let amount = usual(day, daily, since).or_else(|| mean(daily, since, day))? * part_of_day(next - at);
        if reached_at.is_none() && by_end + amount >= limit && !amount.is_zero() {
            let part = (limit - by_end) / amount;
            reached_at = Some(at + scaled(next - at, part));
        }
        by_end += amount;
        at = next;
    }
    Some(Pace { by_end: by_end.normalize(), reached_at })
}

/// The mean of all days from `since` up to `day`; `None` for less than a week, which would be no pace.
fn mean(daily: &Daily, since: NaiveDate, day: NaiveDate) -> Option<Decimal> {
    let days = u64::try_from((day - since).num_days()).ok().filter(|days| *days >= 7)?;
    Some(daily.range(since..day).map(|(_, amount)| *amount).sum::<Decimal>() / Decimal::from(days))
}

fn part_of_day(time: TimeDelta) -> Decimal {
    Decimal::from(time.num_seconds()) / Decimal::from(86_400)
}

fn scaled(time: TimeDelta, part: Decimal) -> TimeDelta {
    let seconds = (Decimal::from(time.num_seconds()) * part).trunc();
    TimeDelta::seconds(i64::try_from(seconds).unwrap_or(0))
}

/// The name of a weekday in the plural.
#[must_use]
pub fn weekdays(day: NaiveDate) -> &'static str {
    match day.weekday() {
        chrono::Weekday::Mon => "Mondays",
        chrono::Weekday::Tue => "Tuesdays",
        chrono::Weekday::Wed => "Wednesdays",
        chrono::Weekday::Thu => "Thursdays",
        chrono::Weekday::Fri => "Fridays",
        chrono::Weekday::Sat => "Saturdays",
        chrono::Weekday::Sun => "Sundays",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    /// 23 November 2026 is a Monday.
    fn daily(amounts: &[(&str, i64)]) -> Daily {
        amounts.iter().map(|(at, amount)| (day(at), Decimal::from(*amount))).collect()
    }

    #[rstest]
    #[case::four_mondays("2026-10-01", Some((8, 30)))]
    #[case::a_monday_without_any_counts_as_nothing("2026-11-01", Some((12, 30)))]
    #[case::one_week_of_records("2026-11-16", Some((12, 12)))]
    #[case::no_monday_yet("2026-11-17", None)]
    fn a_day_is_compared_with_the_same_weekdays(#[case] since: &str, #[case] range: Option<(i64, i64)>) {
        let daily = daily(&[
            ("2026-10-19", 99),
            ("2026-10-26", 8),
            ("2026-11-02", 30),
            ("2026-11-09", 20),
            ("2026-11-16", 12),
            ("2026-11-22", 70),
        ]);
        let expected = of_day(day("2026-11-23"), &daily, day(since));
        let range = range.map(|(low, high)| Expected { low: Decimal::from(low), high: Decimal::from(high) });
        assert_eq!(expected, range);
    }

    #[test]
    fn a_quiet_weekday_lowers_what_is_expected() {
        let daily = daily(&[("2026-10-26", 8), ("2026-11-02", 30), ("2026-11-16", 12)]);
        let expected = of_day(day("2026-11-23"), &daily, day("2026-10-01")).unwrap();
        assert_eq!((expected.low, expected.high), (Decimal::ZERO, Decimal::from(30)), "9 November had nothing");
    }

    #[rstest]
    #[case::in_time(90, 100, Some("2026-11-28T00:00:00Z"))]
    #[case::over_already(120, 100, Some("2026-11-26T12:00:00Z"))]
    #[case::not_in_this_window(10, 100, None)]
    fn when_a_limit_is_reached(#[case] used: i64, #[case] limit: i64, #[case] reached: Option<&str>) {
        // Ten a working day, none at week-ends, for four weeks before Thursday 26 November 2026.
        let mut daily = Daily::new();
        for back in 1..=28 {
            let at = day("2026-11-26") - Days::new(back);
            if at.weekday().num_days_from_monday() < 5 {
                daily.insert(at, Decimal::from(10));
            }
        }
        let (now, end) = ("2026-11-26T12:00:00Z".parse().unwrap(), "2026-12-01T00:00:00Z".parse().unwrap());
        let pace = pace(Decimal::from(used), Decimal::from(limit), now, end, &daily, day("2026-10-01")).unwrap();
        // Half of Thursday, Friday, nothing at the week-end, Monday.
        assert_eq!(pace.by_end, Decimal::from(used + 25));
        let reached: Option<DateTime<Utc>> = reached.map(|text| text.parse().unwrap());
        // Half of Thursday brings 95, half of Friday the rest.
        let reached = reached.map(|at| if used == 90 { at - TimeDelta::hours(12) } else { at });
        assert_eq!(pace.reached_at, reached);
    }

    #[test]
    fn there_is_no_pace_without_a_week_to_go_by() {
        let (now, end) = ("2026-11-26T12:00:00Z".parse().unwrap(), "2026-12-01T00:00:00Z".parse().unwrap());
        let young = daily(&[("2026-11-25", 10)]);
        assert_eq!(pace(Decimal::ONE, Decimal::TEN, now, end, &young, day("2026-11-25")), None);
    }

    proptest! {
        /// The more is used already and the more a day brings, the more there is by the end; a reached limit lies inside.
        #[test]
        fn a_pace_only_adds(used in 0i64..1_000, limit in 1i64..2_000, amounts in prop::collection::vec(0i64..100, 28)) {
            let today = day("2026-11-26");
            let daily: Daily = (1u64..).zip(&amounts).map(|(back, amount)| (today - Days::new(back), Decimal::from(*amount))).collect();
            let (now, end) = ("2026-11-26T06:00:00Z".parse().unwrap(), "2026-12-01T00:00:00Z".parse().unwrap());
            let pace = pace(used.into(), limit.into(), now, end, &daily, day("2026-10-01")).unwrap();
            prop_assert!(pace.by_end >= used.into());
            prop_assert!(pace.by_end <= Decimal::from(used + 500));
            prop_assert_eq!(pace.reached_at.is_some(), pace.by_end >= limit.into());
            prop_assert!(pace.reached_at.is_none_or(|at| now <= at && at <= end));
        }
    }
}
