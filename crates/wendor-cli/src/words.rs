//! Numbers, times and money as people read them.

use chrono::{DateTime, Utc};
use textwrap::{WordSeparator, WordSplitter, WrapAlgorithm};
use wendor_core::metering::money::Money;
use wendor_core::words;

pub use wendor_core::words::{change, data_size, disk_size, exact_places, grouped, money, seconds, share, took};

/// So many of what is called `one`: `1 request`, `2,000 requests`.
#[must_use]
pub fn many(count: u64, one: &str) -> String {
    format!("{} {one}{}", grouped(count), if count == 1 { "" } else { "s" })
}

/// An amount with four decimals, or six where four would show next to nothing.
#[must_use]
pub fn small_money(text: &str) -> String {
    let is_small = Money::parse(text).is_some_and(|amount| amount.amount() < rust_decimal::Decimal::new(1, 2));
    money(text, if is_small { 6 } else { 4 })
}

/// Milliseconds up to a second, then seconds.
#[must_use]
pub fn exact_wait(millis: u64) -> String {
    if millis < 1_000 { format!("{millis} ms") } else { seconds(millis) }
}

/// Milliseconds as seconds, or a dash.
#[must_use]
pub fn wait(millis: Option<u64>) -> String {
    millis.map_or_else(|| "-".to_owned(), seconds)
}

/// Counts of one column: exact, or all in millions when one reaches a million.
#[must_use]
pub fn counts(column: &[u64]) -> Vec<String> {
    let largest = column.iter().copied().max().unwrap_or(0);
    column.iter().map(|count| words::counted(*count, largest)).collect()
}

/// An instant as it is seen from `now`.
#[must_use]
pub fn ago(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    words::ago(now - at)
}

/// How long before `now` an hour was in which something happened.
#[must_use]
pub fn hours_ago(hour: DateTime<Utc>, now: DateTime<Utc>) -> String {
    words::hours_ago(now - hour)
}

/// A text on as many lines as it takes to stay within `width`; words, such as addresses, stay whole.
#[must_use]
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    wrapped_between(text, width, WordSeparator::AsciiSpace)
}

/// A text on as many lines as it takes to stay within `width`; broken only where `separator` tells two pieces apart.
#[must_use]
pub fn wrapped_between(text: &str, width: usize, separator: WordSeparator) -> Vec<String> {
    let whole = textwrap::Options::new(width)
        .break_words(false)
        .word_separator(separator)
        .word_splitter(WordSplitter::NoHyphenation)
        .wrap_algorithm(WrapAlgorithm::FirstFit);
    textwrap::wrap(text, whole).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// Names one after the other, on as many lines as it takes to stay within `width`.
#[must_use]
pub fn wrapped_names(names: &[String], width: usize) -> String {
    wrapped(&names.join(", "), width).join("\n")
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

/// A day of some year, in words.
#[must_use]
pub fn day_of_year(at: DateTime<Utc>) -> String {
    at.format("%-d %B %Y").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_column_of_counts_has_one_unit() {
        assert_eq!(counts(&[50_970, 999_999]), ["50,970", "999,999"]);
        assert_eq!(counts(&[50_970, 41_249_999, 4_999]), ["0.05 M", "41.25 M", "4,999"]);
    }

    #[test]
    fn names_stay_within_their_width() {
        let names: Vec<String> = ["data-lab", "harbour-ops", "timetables"].map(str::to_owned).into();
        assert_eq!(wrapped_names(&names, 22), "data-lab, harbour-ops,\ntimetables");
        assert_eq!(wrapped_names(&names, 3), "data-lab,\nharbour-ops,\ntimetables");
        assert_eq!(wrapped_names(&[], 3), "");
    }
}
