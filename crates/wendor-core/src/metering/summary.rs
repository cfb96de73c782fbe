//! What happened to a request, in the words that a colleague would use at the desk. An entry enters, a sentence or two leave.

use super::entry::{Attempt, End, EntryKind, LedgerEntry};
use super::usage::Counted;
use crate::diagnosis::inventory::short;

/// The sentence for `entry`; `key_label` is what its key is for.
#[must_use]
pub fn of(entry: &LedgerEntry, key_label: Option<&str>) -> String {
    if entry.kind == EntryKind::Check {
        let person = entry.key.strip_prefix("person/").unwrap_or(&entry.key);
        let at = entry.at.format("%H:%M:%S on %-d %B");
        return format!("{person} checked it at {at}; {} pays. {}", entry.team, ending(entry));
    }
    let key = key_label.map_or_else(|| format!("key {}", entry.key), |label| format!("the key {label}"));
    let asked =
        format!("{} asked {} at {}, with {key}.", entry.team, entry.route, entry.at.format("%H:%M:%S on %-d %B"));
    format!("{asked} {}", ending(entry))
}

/// What the answer was served from, as a sentence, where the upstream had told.
#[must_use]
pub fn served_from(attempts: &[Attempt]) -> Option<String> {
    let from = attempts.iter().rev().find(|attempt| attempt.failure.is_none())?.served_from.as_ref()?;
    let weights = from.digest.as_deref().map(|digest| format!("the weights {}", short(digest)));
    let version = from.server_version.as_deref().map(|version| format!("version {version} of the server"));
    match (weights, version) {
        (Some(weights), Some(version)) => Some(format!("It came from {weights}, by {version}.")),
        (Some(one), None) | (None, Some(one)) => Some(format!("It came from {one}.")),
        (None, None) => None,
    }
}

fn ending(entry: &LedgerEntry) -> String {
    let offer = entry.offer.as_ref().map_or_else(|| "no offer".to_owned(), ToString::to_string);
    let time = seconds(entry.latency.whole_ms);
    let which = match entry.attempts {
        0 | 1 => String::new(),
        number => format!(", the {} offer tried", ordinal(number)),
    };
    match entry.end {
        End::Proper => format!("Answered by {offer} in {time}{which}."),
        End::OutputCap => {
            let output = grouped(entry.tokens.output);
            format!("Answered by {offer} in {time}{which}. It stopped at the output cap, after {output} tokens.")
        }
        End::Cancelled => {
            let billed =
                if entry.counted == Counted::Estimated { " What had come is counted by estimate." } else { "" };
            match (entry.latency.first_token_ms, entry.attempts) {
                (Some(_), _) => format!("The app went away after {time}, while {offer} was answering{which}.{billed}"),
                (None, 0) => format!("The app went away after {time}, before an offer was asked."),
                (None, _) => format!("The app went away after {time}, while it waited for {offer}{which}.{billed}"),
            }
        }
        End::CutOff => {
            let kind = entry.failure.map_or("cut-off", crate::routing::failure::FailureKind::as_str);
            format!("{offer} began to answer and broke off after {time} ({kind}){which}. The app was told so.")
        }
        End::Rejected => {
            format!("{offer} rejected the request itself after {time}{which}. The app was given its answer.")
        }
        End::NotAnswered => match entry.attempts {
            0 => format!("No offer could be asked; refused after {time}."),
            1 => format!("The one offer tried, {offer}, failed; given up after {time}."),
            number => format!("All {number} offers tried failed, {offer} last; given up after {time}."),
        },
    }
}

/// Milliseconds as seconds, as exact as someone reads them.
#[must_use]
pub fn seconds(millis: u64) -> String {
    match millis {
        0..=9_994 => format!("{}.{:02} s", millis / 1_000, millis % 1_000 / 10),
        _ => format!("{}.{} s", millis / 1_000, millis % 1_000 / 100),
    }
}

/// A count with a comma before each three digits.
#[must_use]
pub fn grouped(count: u64) -> String {
    let digits = count.to_string();
    let first = (digits.len() - 1) % 3 + 1;
    let (head, tail) = digits.split_at(first);
    let groups = tail.as_bytes().chunks(3).map(|group| format!(",{}", String::from_utf8_lossy(group)));
    std::iter::once(head.to_owned()).chain(groups).collect()
}

fn ordinal(number: u32) -> String {
    match number {
        2 => "second".to_owned(),
        3 => "third".to_owned(),
        4 => "fourth".to_owned(),
        5 => "fifth".to_owned(),
        other => format!("{other}th"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::entry::Latency;
    use crate::metering::usage::TokenCounts;
    use crate::name::{Name, OfferName};
    use crate::request_id::RequestId;
    use crate::routing::failure::FailureKind;
    use rstest::rstest;

    fn entry() -> LedgerEntry {
        let at = "2026-11-25T08:10:40Z".parse().unwrap();
        let (team, route) = (Name::parse("freight-desk").unwrap(), Name::parse("manifests").unwrap());
        LedgerEntry {
            key: "k7".into(),
            offer: OfferName::parse("farlight/fulmar-large").ok(),
            attempts: 3,
            end: End::Proper,
            tokens: TokenCounts { output: 1_024, ..TokenCounts::default() },
            latency: Latency { first_token_ms: Some(1_000), whole_ms: 4_712, ..Latency::default() },
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, 1), team, route)
        }
    }

    fn waiting() -> LedgerEntry {
        LedgerEntry { latency: Latency { whole_ms: 12_345, ..Latency::default() }, ..entry() }
    }

    #[rstest]
    #[case::proper(entry(), "Answered by farlight/fulmar-large in 4.71 s, the third offer tried.")]
    #[case::first_try(LedgerEntry { attempts: 1, ..entry() }, "Answered by farlight/fulmar-large in 4.71 s.")]
    #[case::cap(LedgerEntry { end: End::OutputCap, ..entry() }, "It stopped at the output cap, after 1,024 tokens.")]
    #[case::left_midway(LedgerEntry { end: End::Cancelled, ..entry() }, "The app went away after 4.71 s, while farlight/fulmar-large was answering, the third offer tried.")]
    #[case::left_waiting(LedgerEntry { end: End::Cancelled, attempts: 1, ..waiting() }, "The app went away after 12.3 s, while it waited for farlight/fulmar-large.")]
    #[case::left_before(LedgerEntry { end: End::Cancelled, attempts: 0, offer: None, ..waiting() }, "The app went away after 12.3 s, before an offer was asked.")]
    #[case::cut(LedgerEntry { end: End::CutOff, failure: Some(FailureKind::TimedOut), ..entry() }, "farlight/fulmar-large began to answer and broke off after 4.71 s (timed-out), the third offer tried.")]
    #[case::rejected(LedgerEntry { end: End::Rejected, attempts: 2, ..entry() }, "rejected the request itself after 4.71 s, the second offer tried.")]
    #[case::all_failed(LedgerEntry { end: End::NotAnswered, ..entry() }, "All 3 offers tried failed, farlight/fulmar-large last; given up after 4.71 s.")]
    #[case::nobody_to_ask(LedgerEntry { end: End::NotAnswered, attempts: 0, ..entry() }, "No offer could be asked")]
    fn what_happened_in_words(#[case] entry: LedgerEntry, #[case] words: &str) {
        let told = of(&entry, Some("manifest-reader"));
        assert!(
            told.starts_with("freight-desk asked manifests at 08:10:40 on 25 November, with the key manifest-reader."),
            "{told}"
        );
        assert!(told.contains(words), "{told}");
        assert!(of(&entry, None).contains("with key k7."));
    }

    #[rstest]
    #[case(0, "0.00 s")]
    #[case(310, "0.31 s")]
    #[case(9_994, "9.99 s")]
    #[case(9_995, "9.9 s")]
    #[case(61_000, "61.0 s")]
    fn times(#[case] millis: u64, #[case] text: &str) {
        assert_eq!(seconds(millis), text);
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_000, "1,000")]
    #[case(1_234_567, "1,234,567")]
    fn counts(#[case] count: u64, #[case] text: &str) {
        assert_eq!(grouped(count), text);
    }
}
