//! A route: the name an app puts in `model`, and the stages that serve it.
//!
//! Durations are whole milliseconds in the document; a stage states only the deadlines in which it differs from
//! [`Deadlines::default`].

use std::time::Duration;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use wendor_wire::failure::FailureKind;

use super::origin::Origin;
use super::preset::Preset;
use crate::name::{Name, OfferName};

/// How to pick among the offers of a stage.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Pick {
    /// At random, weighted by each offer's `share`.
    Share,
    /// The one whose upstream has most room for a further stream.
    #[default]
    Room,
    /// The one with the shortest recent wait for a first token.
    Speed,
    /// The one that would cost least.
    Cost,
    /// For every turn of a conversation the same one, while it is well and carries no more than its part: what it has read before is
    /// kept in its memory.
    Together,
}

/// An offer with its weight among those of its stage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StageOffer {
    /// Which.
    pub offer: OfferName,
    /// Its weight when picked by share; 1 when absent, and with 0 it is not picked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u32>,
}

/// The deadlines that a stage sets; what is absent has its default.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StageDeadlines {
    /// To open a connection, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_ms: Option<u64>,
    /// From sending the request to its first event, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_event_ms: Option<u64>,
    /// From sending the request to the head of a whole reply, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reply_ms: Option<u64>,
    /// Between two events of a stream, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub between_events_ms: Option<u64>,
    /// For the whole request with all its attempts, in milliseconds; the first stage's counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole_ms: Option<u64>,
    /// For room at an upstream that is full, in milliseconds; 0: it is not waited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room_ms: Option<u64>,
    /// For a model that its server loads, in milliseconds, before another offer is asked; 0: it is not waited for at all. When absent, others
    /// are asked first, and it is waited for as for a first event when nothing else is left.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub loading_ms: Option<u64>,
}

impl StageDeadlines {
    /// Reads `first_event=2s, whole=30s`: the names that stages have in the catalogue file, each with a time.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        const NAMES: &str = "connect, first_event, reply, between_events, whole, room, loading";
        let mut read = Self::default();
        for pair in text.split(',').map(str::trim).filter(|pair| !pair.is_empty()) {
            let (name, time) =
                pair.split_once('=').ok_or_else(|| "must look like `first_event=2s, whole=30s`".to_owned())?;
            let millis =
                humantime::parse_duration(time.trim()).ok().and_then(|time| u64::try_from(time.as_millis()).ok());
            let millis = millis.ok_or_else(|| {
                format!("has `{}` for a time: write `500ms`, `10s` or `2m`", time.trim().escape_debug())
            })?;
            let place = match name.trim() {
                "connect" => &mut read.connect_ms,
                "first_event" => &mut read.first_event_ms,
                "reply" => &mut read.reply_ms,
                "between_events" => &mut read.between_events_ms,
                "whole" => &mut read.whole_ms,
                "room" => &mut read.room_ms,
                "loading" => &mut read.loading_ms,
                other => return Err(format!("names `{}`, which is not one of {NAMES}", other.escape_debug())),
            };
            *place = Some(millis);
        }
        Ok(read)
    }

    /// Each with its name in the file.
    #[must_use]
    pub const fn named(&self) -> [(&'static str, Option<u64>); 7] {
        [
            ("connect", self.connect_ms),
            ("first_event", self.first_event_ms),
            ("reply", self.reply_ms),
            ("between_events", self.between_events_ms),
            ("whole", self.whole_ms),
            ("room", self.room_ms),
            ("loading", self.loading_ms),
        ]
    }

    /// Whether it is waited for room at an upstream that is full.
    #[must_use]
    pub fn waits_for_room(&self) -> bool {
        self.room_ms != Some(0)
    }
}

/// The deadlines in force for an attempt.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Deadlines {
    /// To open a connection.
    pub connect: Duration,
    /// From sending the request to its first event.
    pub first_event: Duration,
    /// From sending the request to the head of a whole reply. Servers make a whole reply in full before its first byte, so
    /// it has the whole request's time unless the stage sets less.
    pub reply: Duration,
    /// Between two events of a stream.
    pub between_events: Duration,
    /// For the whole request with all its attempts.
    pub whole: Duration,
    /// For room at an upstream that is full.
    pub room: Duration,
    /// For a model that its server loads, before another offer is asked, if it is waited for then.
    pub loading: Option<Duration>,
}

impl Default for Deadlines {
    /// A server on the same continent connects within a second or is not there; a large model may read a long prompt
    /// for a minute before its first token, but does not pause half a minute between two; client libraries give up
    /// after 600 s without a byte. Whoever waits for room for more than some seconds is better served elsewhere.
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(3),
            first_event: Duration::from_secs(60),
            reply: Duration::from_secs(600),
            between_events: Duration::from_secs(30),
            whole: Duration::from_secs(600),
            room: Duration::from_secs(5),
            loading: None,
        }
    }
}

impl Deadlines {
    /// The same, where an app says so less: it cannot make them longer.
    #[must_use]
    pub fn lowered(self, by: StageDeadlines) -> Self {
        let least =
            |own: Duration, wish: Option<u64>| wish.map_or(own, |millis| own.min(Duration::from_millis(millis)));
        Self {
            connect: least(self.connect, by.connect_ms),
            first_event: least(self.first_event, by.first_event_ms),
            reply: least(self.reply, by.reply_ms.or(by.whole_ms)),
            between_events: least(self.between_events, by.between_events_ms),
            whole: least(self.whole, by.whole_ms),
            room: least(self.room, by.room_ms),
            loading: match self.loading {
                Some(own) => Some(least(own, by.loading_ms)),
                None => by.loading_ms.filter(|millis| *millis == 0).map(Duration::from_millis),
            },
        }
    }
}

impl Deadlines {
    /// Whether the time between two events, or of the whole, is what an app has wished: then it has lowered it, or it makes no difference.
    #[must_use]
    pub fn is_as_low_as(self, wish: StageDeadlines) -> bool {
        let is = |own: Duration, wish: Option<u64>| wish.is_some_and(|millis| own == Duration::from_millis(millis));
        is(self.between_events, wish.between_events_ms) || is(self.whole, wish.whole_ms)
    }
}

impl From<StageDeadlines> for Deadlines {
    fn from(stage: StageDeadlines) -> Self {
        let usual = Self::default();
        let or = |set: Option<u64>, usual| set.map_or(usual, Duration::from_millis);
        Self {
            connect: or(stage.connect_ms, usual.connect),
            first_event: or(stage.first_event_ms, usual.first_event),
            reply: or(stage.reply_ms.or(stage.whole_ms), usual.reply),
            between_events: or(stage.between_events_ms, usual.between_events),
            whole: or(stage.whole_ms, usual.whole),
            room: or(stage.room_ms, usual.room),
            loading: stage.loading_ms.map(Duration::from_millis),
        }
    }
}

/// Some offers and how to pick among them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stage {
    /// The offers, at least one.
    pub offers: Vec<StageOffer>,
    /// By which rule one of its offers is picked.
    #[serde(default)]
    pub pick: Pick,
    /// After which failures the next offer, in this stage or the next, is tried.
    pub moves_on: Vec<FailureKind>,
    /// Deadlines that differ from the defaults.
    #[serde(default)]
    pub deadlines: StageDeadlines,
    /// Whether the next offer is asked beside one that lets wait for its first token.
    #[serde(rename = "hedge", default, skip_serializing_if = "std::ops::Not::not")]
    pub is_hedged: bool,
}

/// The name an app puts in `model`: an ordered list of stages, at least one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// Tried one after the other.
    pub stages: Vec<Stage>,
    /// Whether only offers are asked that can take a request exactly as it is.
    #[serde(rename = "strict", default, skip_serializing_if = "std::ops::Not::not")]
    pub is_strict: bool,
    /// Web pages that may ask it from a browser, beside those of the service itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub origins: Vec<Origin>,
    /// Whom to ask about it: a team, a person, an address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<String>,
    /// From this day on, UTC, it takes no requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retires_on: Option<NaiveDate>,
    /// The route to use instead of it once it has retired.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub successor: Option<Name>,
    /// What it was called before, the oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub former: Vec<FormerName>,
    /// What it adds to requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preset: Option<Preset>,
}

/// A name that a route had. Requests for it are served under the new one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FormerName {
    /// The name.
    pub name: Name,
    /// From this day on, UTC, requests for it are refused; served without end when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<NaiveDate>,
}

impl Route {
    /// A route of these stages about which nothing else is said.
    #[must_use]
    pub fn of(stages: Vec<Stage>) -> Self {
        Self {
            stages,
            is_strict: false,
            origins: Vec::new(),
            owner: None,
            purpose: None,
            retires_on: None,
            successor: None,
            former: Vec::new(),
            preset: None,
        }
    }

    /// Whether pages of that origin may ask it.
    #[must_use]
    pub fn lists(&self, origin: &str) -> bool {
        self.origins.iter().any(|listed| listed.as_str() == origin)
    }

    /// Every offer of every stage, in order, as written.
    pub fn offers(&self) -> impl Iterator<Item = &OfferName> {
        self.stages.iter().flat_map(|stage| stage.offers.iter().map(|entry| &entry.offer))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn stage(times: [Option<u64>; 6]) -> StageDeadlines {
        let [connect_ms, first_event_ms, reply_ms, between_events_ms, whole_ms, room_ms] = times;
        StageDeadlines { connect_ms, first_event_ms, reply_ms, between_events_ms, whole_ms, room_ms, loading_ms: None }
    }

    #[rstest]
    #[case::two("first_event=2s, whole=30s", Some([None, Some(2_000), None, None, Some(30_000), None]))]
    #[case::nothing(" ", Some([None; 6]))]
    #[case::no_name("first=2s", None)]
    #[case::no_time("whole=soon", None)]
    #[case::no_pair("whole", None)]
    fn an_app_says_how_long_it_waits(#[case] text: &str, #[case] times: Option<[Option<u64>; 6]>) {
        assert_eq!(StageDeadlines::parse(text).ok(), times.map(stage));
    }

    #[test]
    fn an_app_can_only_lower_them() {
        let own = Deadlines::default();
        assert_eq!(own.lowered(StageDeadlines::default()), own);
        let wish =
            StageDeadlines { first_event_ms: Some(2_000), connect_ms: Some(60_000), ..StageDeadlines::default() };
        let lowered = own.lowered(wish);
        assert_eq!((lowered.first_event, lowered.connect), (Duration::from_secs(2), own.connect));
    }

    #[rstest]
    #[case::unset(None, None, None)]
    #[case::an_app_that_does_not_want_to(None, Some(0), Some(0))]
    #[case::an_app_cannot_want_it(None, Some(5_000), None)]
    #[case::shorter(Some(20_000), Some(5_000), Some(5_000))]
    #[case::not_longer(Some(2_000), Some(5_000), Some(2_000))]
    fn how_long_a_load_is_waited_for(#[case] own: Option<u64>, #[case] wish: Option<u64>, #[case] waited: Option<u64>) {
        let of = |loading_ms| StageDeadlines { loading_ms, ..StageDeadlines::default() };
        assert_eq!(Deadlines::from(of(own)).lowered(of(wish)).loading, waited.map(Duration::from_millis));
    }

    #[rstest]
    #[case::defaults([None; 6], [3_000, 60_000, 600_000, 30_000, 600_000, 5_000])]
    #[case::all_set([Some(1), Some(2), Some(3), Some(4), Some(5), Some(0)], [1, 2, 3, 4, 5, 0])]
    #[case::a_reply_has_the_time_of_the_whole([None, None, None, None, Some(90_000), None], [3_000, 60_000, 90_000, 30_000, 90_000, 5_000])]
    #[case::first_event_is_for_streams([None, Some(500), None, None, None, None], [3_000, 500, 600_000, 30_000, 600_000, 5_000])]
    fn what_a_stage_leaves_out_has_its_default(#[case] times: [Option<u64>; 6], #[case] millis: [u64; 6]) {
        let deadlines = Deadlines::from(stage(times));
        let read = [
            deadlines.connect,
            deadlines.first_event,
            deadlines.reply,
            deadlines.between_events,
            deadlines.whole,
            deadlines.room,
        ];
        assert_eq!(read, millis.map(Duration::from_millis));
    }
}
