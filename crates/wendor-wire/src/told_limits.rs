//! What a service tells of its limits in the headers of an answer.

use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};

use crate::worded;

/// The longest time until a limit is whole again that is believed.
pub const LONGEST: Duration = Duration::from_secs(24 * 3_600);

worded! {
    /// What is limited.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
    pub enum Paced {
        /// Counted by requests.
        Requests = "requests",
        /// Tokens, input and output.
        Tokens = "tokens",
    }
}

/// What an answer told of a limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ToldLimit {
    /// Of what.
    pub paced: Paced,
    /// In each of its windows.
    pub limit: u64,
    /// Until the window is over.
    pub left: u64,
    /// When all of it is there again; `None`: not told.
    pub whole_in: Option<Duration>,
}

/// What the headers of an answer tell of limits. Known are the names `x-ratelimit-WHAT-requests` and `-tokens`, `PREFIX-ratelimit-requests-WHAT`
/// and `-tokens-WHAT` with any prefix, and `ratelimit-WHAT` of the draft standard, which counts requests; WHAT is `limit`, `remaining` or `reset`.
/// A reset is a duration such as `2m30s` or `350ms`, a number of seconds, or a time.
#[must_use]
pub fn read_told<'h>(headers: impl Iterator<Item = (&'h str, &'h str)>, now: DateTime<Utc>) -> Vec<ToldLimit> {
    #[derive(Default)]
    struct Seen(Option<u64>, Option<u64>, Option<Duration>);
    let mut seen: [Seen; 2] = Default::default();
    for (name, value) in headers {
        let Some((paced, what)) = limit_header(name) else { continue };
        let [requests, tokens] = &mut seen;
        let Seen(limit, left, whole_in) = if paced == Paced::Requests { requests } else { tokens };
        match what {
            "limit" => *limit = value.trim().parse().ok(),
            "remaining" => *left = value.trim().parse().ok(),
            _ => *whole_in = reset(value.trim(), now),
        }
    }
    let limit_of = |(paced, Seen(limit, left, whole_in)): (Paced, Seen)| {
        Some(ToldLimit { paced, limit: limit?, left: left?, whole_in })
    };
    Paced::ALL.into_iter().zip(seen).filter_map(limit_of).collect()
}

fn limit_header(name: &str) -> Option<(Paced, &str)> {
    const WHATS: [&str; 3] = ["limit", "remaining", "reset"];
    // Most names are shorter than the shortest of these.
    if name.len() < "ratelimit-limit".len() {
        return None;
    }
    let start = name.find("ratelimit-")?;
    let (prefix, rest) = (name.get(..start)?, name.get(start + "ratelimit-".len()..)?);
    if prefix.is_empty() && WHATS.contains(&rest) {
        return Some((Paced::Requests, rest));
    }
    let (first, second) = rest.split_once('-')?;
    let paced = |word: &str| Paced::ALL.into_iter().find(|paced| paced.as_str() == word);
    let (paced, what) = paced(second).map(|paced| (paced, first)).or_else(|| Some((paced(first)?, second)))?;
    WHATS.contains(&what).then_some((paced, what))
}

/// `2m30s`, `350ms`, `12`, `0.5`, or a time.
fn reset(text: &str, now: DateTime<Utc>) -> Option<Duration> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Some((at.to_utc() - now).max(TimeDelta::zero()).to_std().unwrap_or_default().min(LONGEST));
    }
    let seconds =
        |number: f64| (0.0..=LONGEST.as_secs_f64()).contains(&number).then(|| Duration::from_secs_f64(number));
    if let Ok(number) = text.parse::<f64>() {
        return seconds(number);
    }
    let (mut rest, mut total) = (text, 0.0);
    while !rest.is_empty() {
        let digits = rest.find(|each: char| !each.is_ascii_digit() && each != '.')?;
        let number: f64 = rest.get(..digits)?.parse().ok()?;
        let after = rest.get(digits..)?;
        let unit = after.find(|each: char| each.is_ascii_digit()).unwrap_or(after.len());
        total += number
            * match after.get(..unit)? {
                "ms" => 0.001,
                "s" => 1.0,
                "m" => 60.0,
                "h" => 3_600.0,
                "d" => 86_400.0,
                _ => return None,
            };
        rest = after.get(unit..)?;
    }
    seconds(total)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(millis: i64) -> DateTime<Utc> {
        DateTime::from_timestamp_millis(1_790_000_000_000 + millis).unwrap()
    }

    #[rstest]
    #[case::durations(
        &[("x-ratelimit-limit-requests", "600"), ("x-ratelimit-remaining-requests", "599"), ("x-ratelimit-reset-requests", "100ms")],
        vec![ToldLimit { paced: Paced::Requests, limit: 600, left: 599, whole_in: Some(Duration::from_millis(100)) }]
    )]
    #[case::own_prefix_and_a_time(
        &[("quarry-ratelimit-tokens-limit", "80000"), ("quarry-ratelimit-tokens-remaining", "0"),
          ("quarry-ratelimit-tokens-reset", "2026-09-21T14:13:50Z")],
        vec![ToldLimit { paced: Paced::Tokens, limit: 80_000, left: 0, whole_in: Some(Duration::from_secs(30)) }]
    )]
    #[case::draft_standard(
        &[("ratelimit-limit", "10"), ("ratelimit-remaining", "3"), ("ratelimit-reset", "7")],
        vec![ToldLimit { paced: Paced::Requests, limit: 10, left: 3, whole_in: Some(Duration::from_secs(7)) }]
    )]
    #[case::without_a_reset(
        &[("x-ratelimit-limit-tokens", "10"), ("x-ratelimit-remaining-tokens", "3"), ("x-ratelimit-reset-tokens", "soon")],
        vec![ToldLimit { paced: Paced::Tokens, limit: 10, left: 3, whole_in: None }]
    )]
    #[case::half(&[("x-ratelimit-limit-tokens", "10")], vec![])]
    #[case::others(&[("x-ratelimit-limit-images", "10"), ("ratelimit", "\"a\";r=5"), ("content-type", "text/plain")], vec![])]
    fn what_headers_tell(#[case] headers: &[(&str, &str)], #[case] told: Vec<ToldLimit>) {
        assert_eq!(read_told(headers.iter().copied(), at(0)), told);
    }

    #[rstest]
    #[case::minutes("2m30s", Some(150_000))]
    #[case::milliseconds("350ms", Some(350))]
    #[case::part("1.5s", Some(1_500))]
    #[case::number("6", Some(6_000))]
    #[case::long("1d2h", None)]
    #[case::day("23h59m", Some(86_340_000))]
    #[case::past("2020-01-01T00:00:00Z", Some(0))]
    #[case::no_unit("3x", None)]
    #[case::minus("-3", None)]
    fn resets(#[case] text: &str, #[case] millis: Option<u64>) {
        assert_eq!(reset(text, at(0)), millis.map(Duration::from_millis));
    }
}
