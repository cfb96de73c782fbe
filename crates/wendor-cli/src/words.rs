//! Numbers, times and money as people read them.

use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::metering::money::Money;

pub use wendor_core::metering::summary::{grouped, seconds};

/// An amount that came as text, with `decimals`; the text itself when it is none.
#[must_use]
pub fn money(text: &str, decimals: u32) -> String {
    Money::parse(text).map_or_else(|| text.to_owned(), |amount| grouped_money(&amount.shown(decimals)))
}

/// An amount with four decimals, or six where four would show next to nothing.
#[must_use]
pub fn small_money(text: &str) -> String {
    let is_small = Money::parse(text).is_some_and(|amount| amount.amount() < rust_decimal::Decimal::new(1, 2));
    money(text, if is_small { 6 } else { 4 })
}

/// The decimals with which all of these amounts are exact, so that a sum is seen to be one; at least four.
#[must_use]
pub fn exact_places<'a>(amounts: impl Iterator<Item = &'a str>) -> u32 {
    amounts.filter_map(Money::parse).map(|amount| amount.amount().scale()).max().unwrap_or(0).max(4)
}

/// Milliseconds up to a second, then seconds.
#[must_use]
pub fn exact_wait(millis: u64) -> String {
    if millis < 1_000 { format!("{millis} ms") } else { seconds(millis) }
}

fn grouped_money(shown: &str) -> String {
    let (whole, rest) = shown.split_once('.').map_or((shown, ""), |(whole, rest)| (whole, rest));
    let whole = whole.parse().map_or_else(|_| whole.to_owned(), grouped);
    if rest.is_empty() { whole } else { format!("{whole}.{rest}") }
}

/// Milliseconds as seconds, or a dash.
#[must_use]
pub fn wait(millis: Option<u64>) -> String {
    millis.map_or_else(|| "-".to_owned(), seconds)
}

/// Counts of one column: exact, or all in millions when one reaches a million.
#[must_use]
pub fn counts(column: &[u64]) -> Vec<String> {
    let in_millions = |count: &u64| {
        let hundredths = (count + 5_000) / 10_000;
        format!("{}.{:02} M", grouped(hundredths / 100), hundredths % 100)
    };
    if column.iter().any(|count| *count >= 1_000_000) {
        column.iter().map(in_millions).collect()
    } else {
        column.iter().copied().map(grouped).collect()
    }
}

/// Names one after the other, on as many lines as it takes to stay within `width`.
#[must_use]
pub fn wrapped(names: &[String], width: usize) -> String {
    let mut lines: Vec<String> = Vec::new();
    for (index, name) in names.iter().enumerate() {
        let comma = if index + 1 < names.len() { "," } else { "" };
        match lines.last_mut() {
            Some(line) if line.chars().count() + name.chars().count() + 2 <= width => {
                line.push_str(&format!(" {name}{comma}"))
            }
            Some(_) | None => lines.push(format!("{name}{comma}")),
        }
    }
    lines.join("\n")
}

/// How a figure differs from the one before, in whole per cent.
#[must_use]
pub fn change(now: &str, before: &str) -> String {
    let (Some(now), Some(before)) = (Money::parse(now), Money::parse(before)) else { return String::new() };
    if before.amount().is_zero() {
        return if now.amount().is_zero() { "0%".to_owned() } else { "new".to_owned() };
    }
    let percent = (now.amount() - before.amount()) * rust_decimal::Decimal::from(100) / before.amount();
    let percent = percent.round();
    let sign = if percent.is_sign_negative() && !percent.is_zero() { "" } else { "+" };
    format!("{sign}{}%", percent.normalize())
}

/// A part of a whole in per cent with two decimals.
#[must_use]
pub fn share(part: u64, whole: u64) -> String {
    let basis_points = (part * 10_000 + whole / 2).checked_div(whole).unwrap_or(0);
    format!("{}.{:02}%", basis_points / 100, basis_points % 100)
}

/// An instant as it is seen from `now`.
#[must_use]
pub fn ago(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let seconds = (now - at).max(TimeDelta::zero()).num_seconds();
    match seconds {
        0..=99 => format!("{seconds} s ago"),
        100..=5_999 => format!("{} min ago", seconds / 60),
        6_000..=172_799 => format!("{} h ago", (seconds + 1_800) / 3_600),
        _ => format!("{} days ago", (seconds + 43_200) / 86_400),
    }
}

/// In how long something is.
#[must_use]
pub fn in_time(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    match (at - now).num_seconds() {
        ..=0 => "now".to_owned(),
        seconds @ 1..=99 => format!("in {seconds} s"),
        seconds => format!("in {} min", seconds / 60),
    }
}

/// How long ago something was of which only the hour is known.
#[must_use]
pub fn hours_ago(hour: DateTime<Utc>, now: DateTime<Utc>) -> String {
    match (now - hour).num_hours() {
        ..=0 => "this hour".to_owned(),
        hours @ 1..48 => format!("{hours} h ago"),
        _ => ago(hour, now),
    }
}

/// A size in the unit in which it reads best.
#[must_use]
pub fn bytes(count: u64) -> String {
    let units = [("GiB", 30u32), ("MiB", 20), ("KiB", 10)];
    let unit = units.into_iter().find(|(_, bits)| count >> bits > 0);
    match unit {
        Some((name, bits)) => {
            let tenths = (u128::from(count) * 10) >> bits;
            format!("{}.{} {name}", tenths / 10, tenths % 10)
        }
        None => format!("{count} bytes"),
    }
}

/// An instant in UTC, to the second.
#[must_use]
pub fn instant(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%S").to_string()
}

/// A day, in words.
#[must_use]
pub fn day(at: DateTime<Utc>) -> String {
    at.format("%-d %B").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn parts_are_shown_exactly_so_that_they_sum() {
        let parts = ["0.00000072", "0.00001272", "0.00001344"];
        let places = exact_places(parts.into_iter());
        assert_eq!(parts.map(|part| money(part, places)), parts);
        assert_eq!((exact_places(["3", "0.5"].into_iter()), exact_places(std::iter::empty())), (4, 4));
    }

    #[test]
    fn a_column_of_counts_has_one_unit() {
        assert_eq!(counts(&[50_970, 999_999]), ["50,970", "999,999"]);
        assert_eq!(counts(&[50_970, 41_249_999, 4_999]), ["0.05 M", "41.25 M", "0.00 M"]);
    }

    #[test]
    fn names_stay_within_their_width() {
        let names: Vec<String> = ["data-lab", "harbour-ops", "timetables"].map(str::to_owned).into();
        assert_eq!(wrapped(&names, 22), "data-lab, harbour-ops,\ntimetables");
        assert_eq!(wrapped(&names, 3), "data-lab,\nharbour-ops,\ntimetables");
        assert_eq!(wrapped(&[], 3), "");
    }

    #[rstest]
    #[case::more("331.87", "235", "+41%")]
    #[case::less("90", "100", "-10%")]
    #[case::same("1", "1", "+0%")]
    #[case::nothing_before("1", "0", "new")]
    #[case::nothing_at_all("0", "0", "0%")]
    fn changes(#[case] now: &str, #[case] before: &str, #[case] text: &str) {
        assert_eq!(change(now, before), text);
    }

    #[rstest]
    #[case::in_it("2026-11-25T18:00:00Z", "this hour")]
    #[case::just_before_it("2026-11-25T17:00:00Z", "1 h ago")]
    #[case::long_ago("2026-11-20T18:00:00Z", "5 days ago")]
    fn hours_are_not_told_by_the_minute(#[case] hour: DateTime<Utc>, #[case] text: &str) {
        let now = "2026-11-25T18:02:30Z".parse().unwrap();
        assert_eq!(hours_ago(hour, now), text);
    }

    #[rstest]
    #[case::small("0.0267360", 4, "0.0267")]
    #[case::large("1234567.891", 2, "1,234,567.89")]
    #[case::half_up("0.00005", 4, "0.0001")]
    fn amounts(#[case] text: &str, #[case] decimals: u32, #[case] shown: &str) {
        assert_eq!(money(text, decimals), shown);
    }

    #[rstest]
    #[case(0, "0 s ago")]
    #[case(-5, "0 s ago")]
    #[case(99, "99 s ago")]
    #[case(5_999, "99 min ago")]
    #[case(6_000, "2 h ago")]
    #[case(172_800, "2 days ago")]
    fn times_as_seen_from_now(#[case] seconds: i64, #[case] text: &str) {
        let now = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        assert_eq!(ago(now - TimeDelta::seconds(seconds), now), text);
    }

    #[test]
    fn shares_do_not_divide_by_nothing() {
        assert_eq!((share(3, 282_730), share(0, 0), share(1, 3)), ("0.00%".into(), "0.00%".into(), "33.33%".into()));
    }
}
