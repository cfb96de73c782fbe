//! Ranges and instants as people type them, and as they are told.

use chrono::{DateTime, Datelike, Days, Months, NaiveDate, NaiveTime, TimeDelta, Utc};

use crate::failure::Failure;
use crate::grammar::RangeArgs;
use crate::words;

/// A range, from its first instant to the first after it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Range {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
}

impl Range {
    /// Both in words, this one and the one `before` it; with years where they are not all of one.
    pub fn in_words(self, before: Self) -> [String; 2] {
        let last = self.to - TimeDelta::seconds(1);
        let day = if before.from.year() == last.year() { words::day } else { words::day_of_year };
        [self, before].map(|range| range.told(day))
    }

    /// Whole days by their names, anything else to the second; `none` of one that has not begun.
    fn told(self, day: fn(DateTime<Utc>) -> String) -> String {
        let Self { from, to } = self;
        let is_midnight = |at: DateTime<Utc>| at.time() == NaiveTime::MIN;
        let last = to - TimeDelta::days(1);
        match (is_midnight(from), is_midnight(to)) {
            _ if from >= to => "none".to_owned(),
            (true, true) if last == from => day(from),
            (true, true) => format!("{} to {}", day(from), day(last)),
            (true, false) => format!("{} to {} at {}", day(from), day(to), to.format("%H:%M")),
            (false, _) => format!("{} to {}", words::instant(from), words::instant(to)),
        }
    }
}

/// The range that `args` mean at `now`; `None` when they say nothing.
///
/// # Errors
/// When a time cannot be read.
pub fn read(args: &RangeArgs, now: DateTime<Utc>) -> Result<Option<Range>, Failure> {
    if let Some(last) = &args.last {
        return last_of(last, now).map(Some);
    }
    if let Some(month) = &args.month {
        return month_of(month, now.date_naive()).map(Some);
    }
    match (&args.from, &args.to) {
        (None, None) => Ok(None),
        (from, to) => {
            let from = from.as_deref().map_or(Ok(DateTime::UNIX_EPOCH), instant)?;
            let to = to.as_deref().map_or(Ok(start_of(now.date_naive() + Days::new(1))), instant)?;
            if from < to {
                Ok(Some(Range { from, to }))
            } else {
                Err(Failure::NotUnderstood(format!("--to {to} is not after --from {from}")))
            }
        }
    }
}

/// The same, and the last seven days where they say nothing.
///
/// # Errors
/// When a time cannot be read.
pub fn or_a_week(args: &RangeArgs, now: DateTime<Utc>) -> Result<Range, Failure> {
    read(args, now)?.map_or_else(|| last_of("7d", now), Ok)
}

/// `7d` is the last seven days with today, whole ones; `24h` is up to now.
fn last_of(text: &str, now: DateTime<Utc>) -> Result<Range, Failure> {
    let bad = || Failure::NotUnderstood(format!("invalid --last `{text}`: write `24h` or `7d`"));
    let unit_at = text.char_indices().next_back().map_or(0, |(place, _)| place);
    let (number, unit) = text.split_at(unit_at);
    let number: u32 = number.parse().ok().filter(|number| (1..=3_660).contains(number)).ok_or_else(bad)?;
    match unit {
        "d" => {
            let to = now.date_naive() + Days::new(1);
            Ok(Range { from: start_of(to - Days::new(u64::from(number))), to: start_of(to) })
        }
        "h" => Ok(Range { from: now - TimeDelta::hours(i64::from(number)), to: now }),
        "m" => Ok(Range { from: now - TimeDelta::minutes(i64::from(number)), to: now }),
        _ => Err(bad()),
    }
}

/// `2026-10`, or the month of `today` or the one before by a word.
fn month_of(text: &str, today: NaiveDate) -> Result<Range, Failure> {
    let bad = || Failure::NotUnderstood(format!("invalid --month `{text}`: write `2026-10`, `this` or `last`"));
    let first = match text {
        "this" => today.with_day(1),
        "last" => today.with_day(1).and_then(|first| first.checked_sub_months(Months::new(1))),
        text => format!("{text}-01").parse().ok().filter(|_| text.len() == "2026-10".len()),
    };
    let first = first.ok_or_else(bad)?;
    let next = first.checked_add_months(Months::new(1)).ok_or_else(bad)?;
    Ok(Range { from: start_of(first), to: start_of(next) })
}

fn start_of(day: NaiveDate) -> DateTime<Utc> {
    day.and_time(NaiveTime::MIN).and_utc()
}

/// A day (its start, UTC) or an instant.
///
/// # Errors
/// When it is neither.
pub fn instant(text: &str) -> Result<DateTime<Utc>, Failure> {
    let bad = || {
        Failure::NotUnderstood(format!(
            "invalid time `{text}`: write a day such as 2026-11-01 or an instant such as 2026-11-01T08:00:00Z"
        ))
    };
    if let Ok(day) = text.parse::<NaiveDate>() {
        return Ok(start_of(day));
    }
    DateTime::parse_from_rfc3339(text).map(|at| at.to_utc()).map_err(|_| bad())
}

/// A day, an instant, or a time from `now` such as `90d`.
///
/// # Errors
/// When it is not one of these.
pub fn expiry(text: &str, now: DateTime<Utc>) -> Result<DateTime<Utc>, Failure> {
    match humantime::parse_duration(text).ok().and_then(|time| TimeDelta::from_std(time).ok()) {
        Some(time) => Ok(now + time),
        None => instant(text)
            .map_err(|_| Failure::NotUnderstood(format!("invalid expiry `{text}`: write `90d`, a day or an instant"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn args(last: Option<&str>, from: Option<&str>, to: Option<&str>) -> RangeArgs {
        let text = |text: Option<&str>| text.map(str::to_owned);
        RangeArgs { last: text(last), from: text(from), to: text(to), month: None }
    }

    fn month(text: &str) -> RangeArgs {
        RangeArgs { month: Some(text.to_owned()), ..RangeArgs::default() }
    }

    #[rstest]
    #[case::days(args(Some("7d"), None, None), Some(("2026-11-17T00:00:00Z", "2026-11-24T00:00:00Z")))]
    #[case::hours(args(Some("24h"), None, None), Some(("2026-11-22T09:30:00Z", "2026-11-23T09:30:00Z")))]
    #[case::between_days(args(None, Some("2026-11-01"), Some("2026-11-02")), Some(("2026-11-01T00:00:00Z", "2026-11-02T00:00:00Z")))]
    #[case::until_tonight(args(None, Some("2026-11-01"), None), Some(("2026-11-01T00:00:00Z", "2026-11-24T00:00:00Z")))]
    #[case::a_month(month("2026-10"), Some(("2026-10-01T00:00:00Z", "2026-11-01T00:00:00Z")))]
    #[case::the_last_of_a_year(month("2025-12"), Some(("2025-12-01T00:00:00Z", "2026-01-01T00:00:00Z")))]
    #[case::this_month(month("this"), Some(("2026-11-01T00:00:00Z", "2026-12-01T00:00:00Z")))]
    #[case::last_month(month("last"), Some(("2026-10-01T00:00:00Z", "2026-11-01T00:00:00Z")))]
    #[case::none(args(None, None, None), None)]
    fn ranges(#[case] args: RangeArgs, #[case] range: Option<(&str, &str)>) {
        let now = "2026-11-23T09:30:00Z".parse().unwrap();
        let expected = range.map(|(from, to)| Range { from: from.parse().unwrap(), to: to.parse().unwrap() });
        assert_eq!(read(&args, now).unwrap(), expected);
    }

    #[rstest]
    #[case::no_unit("7")]
    #[case::other_unit("7y")]
    #[case::nothing("")]
    #[case::non_ascii("7ä")]
    fn what_is_no_range(#[case] last: &str) {
        assert!(read(&args(Some(last), None, None), Utc::now()).is_err());
    }

    #[rstest]
    #[case::another_word("next")]
    #[case::no_such_month("2026-13")]
    #[case::a_day("2026-10-01")]
    #[case::a_year("2026")]
    #[case::nothing("")]
    #[case::beyond_time("262142-12")]
    fn what_is_no_month(#[case] text: &str) {
        let failure = read(&month(text), Utc::now()).unwrap_err().to_string();
        assert!(failure.contains("write `2026-10`, `this` or `last`"), "{failure}");
    }

    #[rstest]
    #[case::from_now("90d", Some("2027-02-21T09:30:00Z"))]
    #[case::a_day("2027-01-01", Some("2027-01-01T00:00:00Z"))]
    #[case::an_instant("2027-01-01T08:00:00+02:00", Some("2027-01-01T06:00:00Z"))]
    #[case::neither("next summer", None)]
    fn expiries(#[case] text: &str, #[case] at: Option<&str>) {
        let ends_at = expiry(text, "2026-11-23T09:30:00Z".parse().unwrap()).ok();
        assert_eq!(ends_at, at.map(|at| at.parse().unwrap()));
    }

    #[test]
    fn a_range_that_runs_backwards_is_told() {
        let failure = read(&args(None, Some("2026-11-02"), Some("2026-11-01")), Utc::now()).unwrap_err();
        assert!(failure.to_string().contains("is not after"), "{failure}");
    }

    #[rstest]
    #[case::one_day(["2026-11-22", "2026-11-23", "2026-11-24"], ["23 November", "22 November"])]
    #[case::days(["2026-11-10", "2026-11-17", "2026-11-24"], ["17 November to 23 November", "10 November to 16 November"])]
    #[case::part_of_a_day(["2026-11-15", "2026-11-17", "2026-11-19T08:30:00Z"], ["17 November to 19 November at 08:30", "15 November to 16 November"])]
    #[case::instants(["2026-11-17T06:30:00Z", "2026-11-17T08:00:00Z", "2026-11-17T09:30:00Z"], ["2026-11-17 08:00:00 to 2026-11-17 09:30:00", "2026-11-17 06:30:00 to 2026-11-17 08:00:00"])]
    #[case::of_two_years(["2025-12-01", "2026-01-01", "2026-02-01"], ["1 January 2026 to 31 January 2026", "1 December 2025 to 31 December 2025"])]
    #[case::none_before(["2026-11-17", "2026-11-17", "2026-11-18"], ["17 November", "none"])]
    #[case::to_the_end_of_a_year(["2025-11-01", "2025-12-01", "2026-01-01"], ["1 December to 31 December", "1 November to 30 November"])]
    fn in_words(#[case] times: [&str; 3], #[case] words: [&str; 2]) {
        let [before, from, to] = times.map(|text| instant(text).unwrap());
        assert_eq!(Range { from, to }.in_words(Range { from: before, to: from }), words);
    }
}
