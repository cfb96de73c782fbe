//! What happened to a request, in the words that a colleague would use at the desk. An entry enters, a sentence or two leave.

use super::entry::{End, LedgerEntry};
use super::usage::Counted;

/// The sentence for `entry`; `key_label` is what its key is for.
#[must_use]
pub fn of(entry: &LedgerEntry, key_label: Option<&str>) -> String {
    let key = key_label.map_or_else(|| format!("key {}", entry.key), |label| format!("the key {label}"));
    let asked =
        format!("{} asked {} at {}, with {key}.", entry.team, entry.route, entry.at.format("%H:%M:%S on %-d %B"));
    format!("{asked} {}", ending(entry))
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
