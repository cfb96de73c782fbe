//! What happened to a request, in the words that a colleague would use at the desk. An entry enters, a sentence or two leave.

use wendor_wire::usage::Counted;

use super::detail::Attempt;
use super::detail::WaitFor;
use super::end::End;
use super::entry::{LedgerEntry, Record, RequestRecord};
use crate::words::grouped;
use crate::words::{self, seconds};

/// A wait for room that is too short to be told.
const SHORT_WAIT_MS: u64 = 20;

/// The sentence for `entry`; `key_label` is what its key is for, and `waited_for` what it waited for, where it did.
#[must_use]
pub fn of(entry: &LedgerEntry, key_label: Option<&str>, waited_for: WaitFor) -> String {
    let at = entry.at.format("%H:%M:%S on %-d %B");
    let ending = entry.asked().map(|asked| ending(entry, &asked)).unwrap_or_default();
    match &entry.record {
        Record::Check(_) => {
            let person = entry.key.strip_prefix("person/").unwrap_or(&entry.key);
            format!("{person} checked it at {at}; {} pays. {ending}", entry.team)
        }
        Record::Request(_) => {
            let key = key_label.map_or_else(|| format!("key {}", entry.key), |label| format!("the key {label}"));
            let waited = entry.asked().map_or(0, |asked| asked.latency.waited_ms);
            let room = match waited {
                0..SHORT_WAIT_MS => String::new(),
                waited => match waited_for {
                    WaitFor::Room => format!(" It waited {} for room at an upstream that was full.", seconds(waited)),
                    WaitFor::Load => format!(" It waited {} while a server loaded the model.", seconds(waited)),
                },
            };
            format!("{} asked {} at {at}, with {key}. {ending}{room}", entry.team, entry.route)
        }
        Record::Attempt(attempt) => {
            let offer = offer_of(entry);
            format!(
                "Attempt {} of request {}, at {offer}, used something and did not answer.",
                attempt.number, entry.request
            )
        }
        Record::Adjustment(adjustment) => format!("Request {} was corrected: {}", entry.request, adjustment.reason),
    }
}

/// What the answer was served from, as a sentence, where the upstream had told.
#[must_use]
pub fn served_from(attempts: &[Attempt]) -> Option<String> {
    let from = attempts.iter().rev().find(|attempt| attempt.failure.is_none())?.served_from.as_ref()?;
    let weights = from.digest.as_deref().map(|digest| format!("the weights {}", words::digest(digest)));
    let version = from.server_version.as_deref().map(|version| format!("version {version} of the server"));
    match (weights, version) {
        (Some(weights), Some(version)) => Some(format!("It came from {weights}, by {version}.")),
        (Some(one), None) | (None, Some(one)) => Some(format!("It came from {one}.")),
        (None, None) => None,
    }
}

fn offer_of(entry: &LedgerEntry) -> String {
    entry.offer.as_ref().map_or_else(|| "no offer".to_owned(), ToString::to_string)
}

fn ending(entry: &LedgerEntry, asked: &RequestRecord) -> String {
    let offer = offer_of(entry);
    let time = seconds(asked.latency.whole_ms);
    let which = match asked.attempts {
        0 | 1 => String::new(),
        number => format!(", the {} offer tried", ordinal(number)),
    };
    match asked.end {
        End::Proper => format!("Answered by {offer} in {time}{which}."),
        End::OutputCap => {
            let output = grouped(entry.tokens.output);
            format!("Answered by {offer} in {time}{which}. It stopped at the output cap, after {output} tokens.")
        }
        End::Cancelled => {
            let billed =
                if entry.counted == Counted::Estimated { " What had come is counted by estimate." } else { "" };
            match (asked.latency.first_token_ms, asked.attempts) {
                (Some(_), _) => format!("The app went away after {time}, while {offer} was answering{which}.{billed}"),
                (None, 0) => format!("The app went away after {time}, before an offer was asked."),
                (None, _) => format!("The app went away after {time}, while it waited for {offer}{which}.{billed}"),
            }
        }
        End::NotTaken => {
            format!("{offer} was answering{which}, and the app did not take it: given up after {time}.")
        }
        End::CutOff => {
            let kind = asked.failure.map_or("cut-off", wendor_wire::failure::FailureKind::as_str);
            format!("{offer} began to answer and broke off after {time} ({kind}){which}. The app was told so.")
        }
        End::Rejected => {
            format!("{offer} rejected the request itself after {time}{which}. The app was given its answer.")
        }
        End::Abandoned => match asked.attempts {
            0 => format!("The app gave up after {time}, before an offer was asked."),
            1 => format!("The app gave up after {time}: {offer} had not answered."),
            number => {
                format!("The app gave up after {time}: none of {number} offers tried had answered, {offer} last.")
            }
        },
        End::NotAnswered => match asked.attempts {
            0 => format!("No offer could be asked; refused after {time}."),
            1 => format!("The one offer tried, {offer}, failed; given up after {time}."),
            number => format!("All {number} offers tried failed, {offer} last; given up after {time}."),
        },
    }
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
    use crate::name::{Name, OfferName};
    use crate::request_id::RequestId;
    use crate::words::grouped;
    use rstest::rstest;
    use wendor_wire::failure::FailureKind;
    use wendor_wire::usage::TokenCounts;

    fn entry() -> LedgerEntry {
        let at = "2026-11-25T08:10:40Z".parse().unwrap();
        let (team, route) = (Name::parse("freight-desk").unwrap(), Name::parse("manifests").unwrap());
        LedgerEntry {
            key: "k7".into(),
            offer: OfferName::parse("farlight/fulmar-large").ok(),
            tokens: TokenCounts { output: 1_024, ..TokenCounts::default() },
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, 1), team, route)
        }
    }

    fn ended(end: End, attempts: u32) -> RequestRecord {
        let latency = Latency { first_token_ms: Some(1_000), whole_ms: 4_712, ..Latency::default() };
        let lane = crate::routing::queue::Lane::default();
        RequestRecord { attempts, streamed: true, end, failure: None, latency, lane }
    }

    fn waiting(end: End, attempts: u32) -> RequestRecord {
        RequestRecord { latency: Latency { whole_ms: 12_345, ..Latency::default() }, ..ended(end, attempts) }
    }

    #[rstest]
    #[case::proper(ended(End::Proper, 3), "Answered by farlight/fulmar-large in 4.71 s, the third offer tried.")]
    #[case::first_try(ended(End::Proper, 1), "Answered by farlight/fulmar-large in 4.71 s.")]
    #[case::cap(ended(End::OutputCap, 1), "It stopped at the output cap, after 1,024 tokens.")]
    #[case::left_midway(
        ended(End::Cancelled, 3),
        "The app went away after 4.71 s, while farlight/fulmar-large was answering, the third offer tried."
    )]
    #[case::left_waiting(
        waiting(End::Cancelled, 1),
        "The app went away after 12.3 s, while it waited for farlight/fulmar-large."
    )]
    #[case::left_before(waiting(End::Cancelled, 0), "The app went away after 12.3 s, before an offer was asked.")]
    #[case::gave_up(
        waiting(End::Abandoned, 1),
        "The app gave up after 12.3 s: farlight/fulmar-large had not answered."
    )]
    #[case::gave_up_on_all(
        waiting(End::Abandoned, 2),
        "The app gave up after 12.3 s: none of 2 offers tried had answered, farlight/fulmar-large last."
    )]
    #[case::cut(RequestRecord { failure: Some(FailureKind::TimedOut), ..ended(End::CutOff, 3) }, "farlight/fulmar-large began to answer and broke off after 4.71 s (timed-out), the third offer tried.")]
    #[case::rejected(ended(End::Rejected, 2), "rejected the request itself after 4.71 s, the second offer tried.")]
    #[case::all_failed(
        ended(End::NotAnswered, 3),
        "All 3 offers tried failed, farlight/fulmar-large last; given up after 4.71 s."
    )]
    #[case::nobody_to_ask(ended(End::NotAnswered, 0), "No offer could be asked")]
    fn what_happened_in_words(#[case] asked: RequestRecord, #[case] words: &str) {
        let entry = LedgerEntry { record: Record::Request(asked), ..entry() };
        let sentence = of(&entry, Some("manifest-reader"), WaitFor::Room);
        assert!(
            sentence
                .starts_with("freight-desk asked manifests at 08:10:40 on 25 November, with the key manifest-reader."),
            "{sentence}"
        );
        assert!(sentence.contains(words), "{sentence}");
        assert!(of(&entry, None, WaitFor::Room).contains("with key k7."));
    }

    #[rstest]
    #[case(0, "0.00 s")]
    #[case(310, "0.31 s")]
    #[case(9_994, "9.99 s")]
    #[case(9_995, "10.0 s")]
    #[case(59_960, "60.0 s")]
    #[case(61_000, "61.0 s")]
    fn times(#[case] millis: u64, #[case] text: &str) {
        assert_eq!(seconds(millis), text);
    }

    #[test]
    fn a_wait_for_room_is_told() {
        let mut record = ended(End::Proper, 1);
        record.latency.waited_ms = 704;
        let entry = LedgerEntry { record: Record::Request(record), ..entry() };
        let sentence = of(&entry, None, WaitFor::Room);
        assert!(sentence.ends_with(" It waited 0.70 s for room at an upstream that was full."), "{sentence}");
        let sentence = of(&entry, None, WaitFor::Load);
        assert!(sentence.ends_with(" It waited 0.70 s while a server loaded the model."), "{sentence}");
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_000, "1,000")]
    #[case(1_234_567, "1,234,567")]
    fn counts(#[case] count: u64, #[case] text: &str) {
        assert_eq!(grouped(count), text);
    }

    #[rstest]
    #[case::both(
        Some("sha256:aaaabbbbccccdddd"),
        Some("0.9.1"),
        Some("It came from the weights aaaabbbbcccc, by version 0.9.1 of the server.")
    )]
    #[case::weights(Some("sha256:aaaabbbbccccdddd"), None, Some("It came from the weights aaaabbbbcccc."))]
    #[case::version(None, Some("0.9.1"), Some("It came from version 0.9.1 of the server."))]
    #[case::neither(None, None, None)]
    fn what_it_was_served_from_is_said(
        #[case] digest: Option<&str>,
        #[case] version: Option<&str>,
        #[case] expected: Option<&str>,
    ) {
        let text = |text: Option<&str>| text.map(str::to_owned);
        let from = crate::metering::detail::ServedFrom { digest: text(digest), server_version: text(version) };
        let attempt = |failure: Option<FailureKind>| Attempt {
            offer: OfferName::parse("farlight/fulmar-large").unwrap(),
            began_ms: 0,
            ended_ms: 1,
            failure: failure.map(|kind| wendor_wire::failure::Failure::new(kind, "")),
            spent: None,
            served_from: failure.is_none().then(|| from.clone()),
        };
        let attempts = [attempt(None), attempt(Some(FailureKind::TimedOut))];
        assert_eq!(served_from(&attempts).as_deref(), expected);
        assert_eq!(served_from(&attempts[1..]), None, "none answered");
    }

    #[test]
    fn what_is_counted_by_estimate_is_said_so() {
        let cancelled = |counted| {
            let record = Record::Request(ended(End::Cancelled, 1));
            of(&LedgerEntry { record, counted, ..entry() }, None, WaitFor::Room).contains("counted by estimate")
        };
        assert!(cancelled(Counted::Estimated) && !cancelled(Counted::Reported));
    }
}
