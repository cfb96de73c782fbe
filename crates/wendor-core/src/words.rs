//! Counts, sizes, lengths of time, amounts and lists as people read them: worded once for messages, the client and, by the same cases
//! (`words.json`, which its test reads too), the console.

use chrono::TimeDelta;
use rust_decimal::Decimal;

use crate::metering::money::Money;

/// A count with a comma before each three digits.
#[must_use]
pub fn grouped(count: u64) -> String {
    let digits = count.to_string();
    let first = (digits.len() - 1) % 3 + 1;
    let (head, tail) = digits.split_at(first);
    let groups = tail.as_bytes().chunks(3).map(|group| format!(",{}", String::from_utf8_lossy(group)));
    std::iter::once(head.to_owned()).chain(groups).collect()
}

/// A count in the unit of the largest of its kind: exact, or millions. What would be next to nothing in millions is exact.
#[must_use]
pub fn counted(count: u64, largest: u64) -> String {
    if largest < 1_000_000 || count < 10_000 {
        return grouped(count);
    }
    let hundredths = count.saturating_add(5_000) / 10_000;
    format!("{}.{:02} M", grouped(hundredths / 100), hundredths % 100)
}

/// Letters of a word from which on it is cut.
const LONG_WORD: usize = 200;

/// A message in which what somebody typed, however long, is shown by its beginning and its end.
#[must_use]
pub fn long_words_cut(text: &str) -> String {
    let cut = |word: &str| {
        let length = word.chars().count();
        if length <= LONG_WORD {
            return word.to_owned();
        }
        let beginning: String = word.chars().take(60).collect();
        let end: String = word.chars().skip(length - 12).collect();
        format!("{beginning}…{end}")
    };
    text.split_inclusive(char::is_whitespace).map(cut).collect()
}

/// How often.
#[must_use]
pub fn times(count: u64) -> String {
    match count {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        _ => format!("{} times", grouped(count)),
    }
}

/// A part of a whole in per cent with two decimals.
#[must_use]
pub fn share(part: u64, whole: u64) -> String {
    let basis_points = (part * 10_000 + whole / 2).checked_div(whole).unwrap_or(0);
    format!("{}.{:02}%", basis_points / 100, basis_points % 100)
}

/// Milliseconds as seconds, as exact as someone reads them.
#[must_use]
pub fn seconds(millis: u64) -> String {
    let (hundredths, tenths) = (millis.saturating_add(5) / 10, millis.saturating_add(50) / 100);
    match hundredths {
        0..=999 => format!("{}.{:02} s", hundredths / 100, hundredths % 100),
        _ => format!("{}.{} s", tenths / 10, tenths % 10),
    }
}

/// How long a step took: in milliseconds up to a second; nothing where nothing was sent.
#[must_use]
pub fn took(micros: u64) -> String {
    match micros {
        0..100 => String::new(),
        100..10_000 => format!("{}.{} ms", micros / 1_000, micros % 1_000 / 100),
        10_000..1_000_000 => format!("{} ms", micros / 1_000),
        _ => format!("{}.{:02} s", micros / 1_000_000, micros % 1_000_000 / 10_000),
    }
}

/// How long something has lasted, in one unit.
#[must_use]
pub fn length(time: TimeDelta) -> String {
    let of = |count: i64, unit: &str| match count {
        1 => format!("1 {unit}"),
        _ => format!("{count} {unit}s"),
    };
    match time.num_seconds().max(0) {
        seconds @ 0..=99 => format!("{seconds} s"),
        seconds @ 100..=5_999 => format!("{} min", seconds / 60),
        seconds @ 6_000..=172_799 => of(seconds / 3_600, "hour"),
        seconds => of(seconds / 86_400, "day"),
    }
}

/// How long is to be waited, in one unit and rounded up: whoever waits so long does not come too early.
#[must_use]
pub fn wait(time: TimeDelta) -> String {
    let seconds = (time.num_milliseconds() + 999).div_euclid(1_000);
    match seconds {
        ..=119 => format!("{} s", seconds.max(0)),
        120..=7_199 => format!("{} min", (seconds + 59) / 60),
        7_200..=172_799 => format!("{} h", (seconds + 3_599) / 3_600),
        _ => format!("{} days", (seconds + 86_399) / 86_400),
    }
}

/// How long ago something was, in one unit.
#[must_use]
pub fn ago(passed: TimeDelta) -> String {
    let seconds = passed.max(TimeDelta::zero()).num_seconds();
    match seconds {
        0..=99 => format!("{seconds} s ago"),
        100..=5_999 => format!("{} min ago", seconds / 60),
        6_000..=172_799 => format!("{} h ago", (seconds + 1_800) / 3_600),
        _ => format!("{} days ago", (seconds + 43_200) / 86_400),
    }
}

/// How long ago something was of which only the hour is known, by the time since that hour began.
#[must_use]
pub fn hours_ago(passed: TimeDelta) -> String {
    match passed.num_hours() {
        ..=0 => "this hour".to_owned(),
        hours @ 1..48 => format!("{hours} h ago"),
        _ => ago(passed),
    }
}

/// A size on a disk, in the unit in which it reads best.
#[must_use]
pub fn disk_size(bytes: u64) -> String {
    let units = [("GiB", 30u32), ("MiB", 20), ("KiB", 10)];
    match units.into_iter().find(|(_, bits)| bytes >> bits > 0) {
        Some((name, bits)) => {
            let tenths = (u128::from(bytes) * 10) >> bits;
            format!("{}.{} {name}", tenths / 10, tenths % 10)
        }
        None => format!("{bytes} bytes"),
    }
}

/// A size of weights, memory or bodies, as model servers tell it: by thousands.
#[must_use]
pub fn data_size(bytes: u64) -> String {
    match bytes {
        0..1_000_000 => format!("{} KB", bytes / 1_000),
        1_000_000..1_000_000_000 => format!("{}.{} MB", bytes / 1_000_000, bytes % 1_000_000 / 100_000),
        _ => format!("{}.{} GB", bytes / 1_000_000_000, bytes / 100_000_000 % 10),
    }
}

/// The beginning of a digest, as people compare them: without the name of the algorithm before it.
#[must_use]
pub fn digest(digest: &str) -> String {
    digest.rsplit_once(':').map_or(digest, |(_, digits)| digits).chars().take(12).collect()
}

/// An amount that came as text, with so many decimals and its thousands apart; the text itself when it is none.
#[must_use]
pub fn money(text: &str, decimals: u32) -> String {
    let Some(amount) = Money::parse(text) else { return text.to_owned() };
    let shown = amount.shown(decimals);
    let (whole, rest) = shown.split_once('.').map_or((shown.as_str(), ""), |(whole, rest)| (whole, rest));
    let whole = whole.parse().map_or_else(|_| whole.to_owned(), grouped);
    if rest.is_empty() { whole } else { format!("{whole}.{rest}") }
}

/// The decimals with which all of these amounts are exact, so that a sum is seen to be one; at least four.
#[must_use]
pub fn exact_places<'a>(amounts: impl Iterator<Item = &'a str>) -> u32 {
    amounts.filter_map(Money::parse).map(|amount| amount.amount().scale()).max().unwrap_or(0).max(4)
}

/// How an amount differs from the one before, in whole per cent.
#[must_use]
pub fn change(now: &str, before: &str) -> String {
    let (Some(now), Some(before)) = (Money::parse(now), Money::parse(before)) else { return String::new() };
    if before.amount().is_zero() {
        return if now.amount().is_zero() { "0%".to_owned() } else { "new".to_owned() };
    }
    let percent = (now.amount() - before.amount()) * Decimal::from(100) / before.amount();
    let percent = percent.round_dp_with_strategy(0, rust_decimal::RoundingStrategy::MidpointAwayFromZero);
    let sign = if percent.is_sign_negative() && !percent.is_zero() { "" } else { "+" };
    format!("{sign}{}%", if percent.is_zero() { Decimal::ZERO } else { percent.normalize() })
}

/// Several words as a list in a sentence.
#[must_use]
pub fn listed(words: &[impl AsRef<str>]) -> String {
    match words {
        [] => String::new(),
        [one] => one.as_ref().to_owned(),
        [first @ .., last] => {
            let first: Vec<&str> = first.iter().map(AsRef::as_ref).collect();
            format!("{} and {}", first.join(", "), last.as_ref())
        }
    }
}

/// The text with a capital at its beginning.
#[must_use]
pub fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// The text as a sentence of its own: a capital at its beginning, and a full stop at its end where it has none.
#[must_use]
pub fn sentence(text: &str) -> String {
    let end = if text.ends_with(['.', '!', '?']) { "" } else { "." };
    format!("{}{end}", capital(text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::Value;

    /// The cases that the console has to keep too.
    const CASES: &str = include_str!("words.json");

    fn worded(function: &str, with: &[Value]) -> String {
        let count = |place: usize| with[place].as_u64().unwrap();
        let text = |place: usize| with[place].as_str().unwrap();
        let millis = || TimeDelta::milliseconds(with[0].as_i64().unwrap());
        let texts = || with[0].as_array().unwrap().iter().map(|text| text.as_str().unwrap()).collect::<Vec<&str>>();
        match function {
            "grouped" => grouped(count(0)),
            "counted" => counted(count(0), count(1)),
            "share" => share(count(0), count(1)),
            "took" => took(count(0)),
            "ago" => ago(millis()),
            "hoursAgo" => hours_ago(millis()),
            "dataSize" => data_size(count(0)),
            "digest" => digest(text(0)),
            "money" => money(text(0), u32::try_from(count(1)).unwrap()),
            "exactPlaces" => exact_places(texts().into_iter()).to_string(),
            "change" => change(text(0), text(1)),
            "listed" => listed(&texts()),
            "capital" => capital(text(0)),
            "seconds" => seconds(count(0)),
            "times" => times(count(0)),
            "length" => length(millis()),
            "wait" => wait(millis()),
            "diskSize" => disk_size(count(0)),
            "sentence" => sentence(text(0)),
            other => panic!("no function {other}"),
        }
    }

    #[test]
    fn every_case_of_the_table() {
        let table: Value = serde_json::from_str(CASES).unwrap();
        let functions = ["console", "here"].map(|part| table[part].as_object().unwrap().iter());
        let mut seen = 0;
        for (function, cases) in functions.into_iter().flatten() {
            for case in cases.as_array().unwrap() {
                let [with, expected] = case.as_array().unwrap().as_slice() else { panic!("{case}") };
                assert_eq!(worded(function, with.as_array().unwrap()), expected.as_str().unwrap(), "{function} {with}");
                seen += 1;
            }
        }
        assert!(seen > 60, "{seen}");
    }

    #[rstest]
    #[case::short("there is no key `3f9k2mq7`", "there is no key `3f9k2mq7`")]
    #[case::long(&format!("no `{}`; write\nless", "a".repeat(300)), &format!("no `{}…{}`; write\nless", "a".repeat(59), "a".repeat(9)))]
    fn what_is_long_is_cut(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(long_words_cut(text), expected);
    }
}
