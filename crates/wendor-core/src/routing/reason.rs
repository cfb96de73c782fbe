//! Why an offer of a plan is taken or left: codes and numbers, which are put in words when somebody reads them.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::bounded::{SENTENCE_BYTES, bounded};

use super::queue::NoRoom;
use crate::metering::money::Money;
use crate::name::Name;

/// Streams of an upstream.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Streams {
    /// Under way.
    pub open: u32,
    /// That it can carry; `None` without a limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u32>,
}

/// Why an offer is taken or left.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// It stands in an earlier stage.
    StandsEarlier,
    /// Its upstream is drained.
    IsDrained,
    /// Its share of the stage is nothing.
    ShareOfNothing,
    /// Its upstream asked to be left alone.
    LeftAlone {
        /// Until then.
        until: DateTime<Utc>,
    },
    /// It rests after failures.
    Rests {
        /// Until then.
        until: DateTime<Utc>,
    },
    /// It rests after failures, and nothing else can serve the request.
    RestsButLast {
        /// Until then.
        until: DateTime<Utc>,
    },
    /// It has rested and is tried.
    OnTrial,
    /// It has rested, and another request tries it.
    IsTried,
    /// Its upstream is full.
    Full(Streams),
    /// What is left of its upstream is for other teams.
    KeptForOthers(Streams),
    /// Its upstream is full, and it is waited for room.
    WaitsForRoom(Streams),
    /// There was no room within the time that its stage gives.
    NoRoom {
        /// How long it was waited, in milliseconds.
        waited_ms: u64,
    },
    /// Its server loads the model.
    Loads {
        /// Since then.
        since: DateTime<Utc>,
    },
    /// Its server had not loaded the model when it was waited for no longer.
    NotLoaded {
        /// How long it was waited, in milliseconds.
        waited_ms: u64,
    },
    /// Its limit by the minute is used up.
    Paced {
        /// Until enough of it is left, in milliseconds.
        wait_ms: u64,
    },
    /// So many wait for room at its upstream already.
    QueueFull {
        /// So many.
        waiting: u32,
    },
    /// The upstream that failed before it has caused enough extra attempts.
    NoRetries {
        /// That upstream.
        after: Name,
        /// Extra attempts of late.
        extra: u32,
        /// Requests of late.
        requests: u32,
    },
    /// The request was too long for another offer, and its window is no larger.
    NoLargerWindow,
    /// Drawn by its share.
    Share,
    /// It had the most free streams for its size.
    Room(Streams),
    /// By its wait for a first token.
    Speed {
        /// The usual one in milliseconds.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        first_token_ms: Option<u64>,
    },
    /// It was the cheapest for a request of this length.
    Cost {
        /// Worst case of the cost, where every count has a bound.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        at_most: Option<Money>,
    },
    /// It is the one that the turns of this conversation go to.
    OfConversation,
    /// It is, and carries more than its part of the stage, so that others go before it.
    CarriesMore,
    /// Another is the one that the turns of this conversation go to.
    OfOtherConversations,
    /// In these words.
    #[serde(untagged)]
    Told(String),
}

impl Reason {
    /// In these words, bounded.
    #[must_use]
    pub fn told(words: &str) -> Self {
        Self::Told(bounded(words, SENTENCE_BYTES))
    }

    /// Its limit by the minute is used up for so long.
    #[must_use]
    pub fn paced(wait: std::time::Duration) -> Self {
        Self::Paced { wait_ms: u64::try_from(wait.as_millis()).unwrap_or(u64::MAX) }
    }

    /// Why an offer has no room for a request, whether it waits for it or not.
    #[must_use]
    pub fn no_room(why: NoRoom, streams: Streams, waits: bool) -> Self {
        let words = match why {
            NoRoom::Paced(wait) => return Self::paced(wait),
            NoRoom::Full | NoRoom::ForOthers if waits => return Self::WaitsForRoom(streams),
            NoRoom::Full => return Self::Full(streams),
            NoRoom::ForOthers => return Self::KeptForOthers(streams),
            NoRoom::Tokens { under_way, of, asked } => {
                format!("{under_way} of {of} tokens under way, and it asks for {asked}")
            }
            NoRoom::ForInteractive => {
                format!("{}, and the others are kept for the interactive lane", room(streams))
            }
            NoRoom::ForWaiting => format!("{}, and others wait already", room(streams)),
        };
        Self::told(&if waits { format!("{words}: waits for room") } else { words })
    }

    /// In a few words.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::StandsEarlier => "stands in an earlier stage".to_owned(),
            Self::IsDrained => "its upstream is drained: it takes no new requests".to_owned(),
            Self::ShareOfNothing => "its share is 0".to_owned(),
            Self::LeftAlone { until } => format!("rate-limited until {}", time(*until)),
            Self::Rests { until } => format!("rests after failures, next trial at {}", time(*until)),
            Self::RestsButLast { until } => {
                format!("rests after failures until {}, but nothing else can serve it", time(*until))
            }
            Self::OnTrial => "on trial after failures: this request tries it".to_owned(),
            Self::IsTried => "on trial after failures, and another request tries it".to_owned(),
            Self::Full(streams) => room(*streams),
            Self::KeptForOthers(streams) => format!("{}, and the others are kept for other teams", room(*streams)),
            Self::WaitsForRoom(streams) => format!("{}: waits for room", room(*streams)),
            Self::NoRoom { waited_ms } => format!("no room within {}", waited(*waited_ms)),
            Self::Loads { since } => format!("its server loads the model, since {}", since.format("%H:%M:%S")),
            Self::NotLoaded { waited_ms } => {
                format!("its server had not loaded the model within {}", waited(*waited_ms))
            }
            Self::Paced { wait_ms } => {
                format!("its limit by the minute is used up, enough of it is left in {}", waited(*wait_ms))
            }
            Self::QueueFull { waiting } => format!("no room, and {waiting} requests wait for it already"),
            Self::NoRetries { after, extra, requests } => {
                format!(
                    "retry budget used up: {after} failed, with {extra} extra attempts for the latest {requests} requests"
                )
            }
            Self::NoLargerWindow => "its context window is not known to be larger".to_owned(),
            Self::Share => "drawn by its share".to_owned(),
            Self::Room(streams) => room(*streams),
            Self::Speed { first_token_ms: Some(ms) } => format!("first token after {ms} ms recently"),
            Self::Speed { first_token_ms: None } => "not timed yet".to_owned(),
            Self::Cost { at_most: Some(cost) } => format!("costs at most {}", cost.shown(4)),
            Self::Cost { at_most: None } => "unpriced".to_owned(),
            Self::OfConversation => "the turns of this conversation go there".to_owned(),
            Self::CarriesMore => {
                "the turns of this conversation go there, but it carries more than its share".to_owned()
            }
            Self::OfOtherConversations => "behind the one that the turns of this conversation go to".to_owned(),
            Self::Told(words) => words.clone(),
        }
    }
}

fn time(at: DateTime<Utc>) -> String {
    // Never earlier than it is.
    let second = if at.timestamp_subsec_nanos() > 0 { at + TimeDelta::seconds(1) } else { at };
    second.format("%H:%M:%S").to_string()
}

fn waited(millis: u64) -> String {
    if millis < 1_000 { format!("{millis} ms") } else { format!("{}.{} s", millis / 1_000, millis % 1_000 / 100) }
}

fn room(Streams { open, of }: Streams) -> String {
    match (of, open) {
        (Some(all), _) => format!("{open} of {all} streams taken"),
        (None, 1) => "1 stream open".to_owned(),
        (None, _) => format!("{open} streams open"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::code(r#""share""#, Reason::Share, "drawn by its share")]
    #[case::numbers(r#"{"room":{"open":1,"of":8}}"#, Reason::Room(Streams { open: 1, of: Some(8) }), "1 of 8 streams taken")]
    #[case::of_an_earlier_version(r#""0 streams open""#, Reason::Told("0 streams open".to_owned()), "0 streams open")]
    fn it_is_kept_as_codes_and_read_as_words(#[case] json: &str, #[case] reason: Reason, #[case] words: &str) {
        assert_eq!(serde_json::from_str::<Reason>(json).unwrap(), reason);
        assert_eq!(serde_json::to_string(&reason).unwrap(), json);
        assert_eq!(reason.words(), words);
    }

    #[rstest]
    #[case::none(None, 0, "0 streams open")]
    #[case::one(None, 1, "1 stream open")]
    #[case::some(None, 2, "2 streams open")]
    #[case::of_a_number(Some(8), 1, "1 of 8 streams taken")]
    fn room_is_told(#[case] of: Option<u32>, #[case] open: u32, #[case] words: &str) {
        assert_eq!(Reason::Room(Streams { open, of }).words(), words);
    }

    #[rstest]
    #[case::whole_second(0, "12:00:00")]
    #[case::later(1, "12:00:01")]
    fn a_time_is_never_told_too_early(#[case] millis: u32, #[case] told: &str) {
        let noon = chrono::NaiveDate::from_ymd_opt(2026, 11, 27).unwrap().and_hms_milli_opt(12, 0, 0, millis).unwrap();
        assert_eq!(Reason::LeftAlone { until: noon.and_utc() }.words(), format!("rate-limited until {told}"));
    }

    #[rstest]
    #[case(999, "no room within 999 ms")]
    #[case(1_000, "no room within 1.0 s")]
    #[case(12_340, "no room within 12.3 s")]
    fn waits_are_told_in_their_unit(#[case] waited_ms: u64, #[case] words: &str) {
        assert_eq!(Reason::NoRoom { waited_ms }.words(), words);
    }
}
