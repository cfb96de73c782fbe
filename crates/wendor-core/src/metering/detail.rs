//! What is kept of a request beside its ledger entries, for a shorter time: the plan, the attempts, what was changed on the way.
//!
//! It is written as JSON once, when the request settles, and is that text from then on. Everything in it that an app or an upstream
//! wrote is bounded where it is noted, so that no request makes an entry that somebody else has to carry.

use serde::{Deserialize, Serialize};
use wendor_wire::bounded::{VALUE_BYTES, bounded};
use wendor_wire::change::RequestChange;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::images::Images;
use wendor_wire::usage::TokenCounts;
use wendor_wire::worded;

use super::money::Money;
use super::preset::PresetOnRecord;
use super::rate::{Cost, Rate};
use crate::name::OfferName;
use crate::routing::plan::Plan;

/// Largest detail, in bytes of JSON. What is bounded part by part stays far below; a plan of thousands of offers does not.
pub const MAX_DETAIL_BYTES: usize = 256 * 1024;

/// Room for a usual detail, so that writing it need not find more.
const USUAL_BYTES: usize = 1024;

/// One try of one request at one offer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attempt {
    /// Where.
    pub offer: OfferName,
    /// When it began, in milliseconds from the request's arrival.
    pub began_ms: u64,
    /// When it failed or its answer ended.
    pub ended_ms: u64,
    /// How it failed; `None` for the one that answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<Failure>,
    /// What it used, where it used anything and did not answer: that stands in an entry of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spent: Option<Spent>,
    /// What the upstream served the model from, as far as it had told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub served_from: Option<ServedFrom>,
}

impl Attempt {
    /// Whether the server of that offer said that it loads the model.
    #[must_use]
    pub fn is_loading_at(&self, offer: &OfferName) -> bool {
        let loads = self.failure.as_ref().is_some_and(|failure| failure.kind == FailureKind::Loading);
        loads && self.offer == *offer
    }
}

/// What an attempt that did not answer used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spent {
    /// What the upstream counted, or what was counted of the text.
    pub tokens: TokenCounts,
    /// Images that came back.
    #[serde(default, skip_serializing_if = "Images::is_none")]
    pub images: Images,
    /// Whether they are estimated.
    pub estimated: bool,
    /// Cost; unpriced when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost: Option<Cost>,
}

worded! {
    /// What a request waited for before an attempt.
    #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum WaitFor {
        /// Room at an upstream that was full.
        #[default]
        Room = "room",
        /// A model that its server loaded.
        Load = "load",
    }
}

impl WaitFor {
    fn is_room(&self) -> bool {
        *self == Self::Room
    }
}

/// A wait before an attempt.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RoomWait {
    /// The one that was full, or whose model was being loaded.
    pub offer: OfferName,
    /// What for.
    #[serde(rename = "for", default, skip_serializing_if = "WaitFor::is_room")]
    pub what: WaitFor,
    /// Since when, in milliseconds from the request's arrival.
    pub began_ms: u64,
    /// Until when; `None` where the request ended while it waited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_ms: Option<u64>,
}

/// What a model was served from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServedFrom {
    /// Digest of the weights.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// As the server told it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_version: Option<String>,
}

/// What is kept of a request beside its entries.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequestDetail {
    /// The plan as it was made.
    #[serde(default)]
    pub plan: Plan,
    /// The attempts, in order.
    #[serde(default)]
    pub attempts: Vec<Attempt>,
    /// Waits for room, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waits: Vec<RoomWait>,
    /// What was changed on the way.
    #[serde(default)]
    pub changes: Vec<RequestChange>,
    /// The name that the app asked for, where the route has another one now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked_as: Option<String>,
    /// What the route's preset added, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preset: Option<PresetOnRecord>,
    /// The rate it was priced at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
    /// What was reserved of money at most, for the offer that answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserved_cost: Option<Money>,
    /// Why a part of it is missing, where one is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cut: Option<String>,
}

impl RequestDetail {
    /// How long it waited for room in all, in milliseconds; `now_ms` is when one ends that is still under way.
    #[must_use]
    pub fn waited_ms(&self, now_ms: u64) -> u64 {
        self.waits.iter().map(|wait| wait.ended_ms.unwrap_or(now_ms).saturating_sub(wait.began_ms)).sum()
    }

    /// The detail as JSON, without its largest parts where it would be larger than [`MAX_DETAIL_BYTES`].
    ///
    /// # Panics
    /// Never: JSON is UTF-8.
    #[must_use]
    pub fn to_json(&self) -> String {
        let mut json = Vec::with_capacity(USUAL_BYTES);
        self.write_json(&mut json);
        String::from_utf8(json).expect("JSON is UTF-8")
    }

    /// The same into `json`, which is empty, for whoever writes many.
    ///
    /// # Panics
    /// Never: every part of a detail has a JSON form.
    pub fn write_json(&self, json: &mut Vec<u8>) {
        let write = |detail: &Self, json: &mut Vec<u8>| {
            serde_json::to_writer(json, detail).expect("every part of a detail has a JSON form");
        };
        write(self, json);
        if json.len() <= MAX_DETAIL_BYTES {
            return;
        }
        let cut = Some(format!("the plan and the changes took {} bytes with the rest and are left out", json.len()));
        let small = Self {
            attempts: self.attempts.clone(),
            waits: self.waits.clone(),
            preset: self.preset.clone(),
            rate: self.rate.clone(),
            reserved_cost: self.reserved_cost,
            cut,
            ..Self::default()
        };
        json.clear();
        write(&small, json);
    }

    /// The detail in the place of one that the database refuses, with the reason.
    #[must_use]
    pub fn refused(why: &str) -> Self {
        Self { cut: Some(bounded(why, VALUE_BYTES)), ..Self::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wendor_wire::change::{MAX_CHANGES, first_changes};

    #[test]
    fn a_change_is_bounded_and_printable_whatever_was_sent() {
        let change = RequestChange::new(&"n".repeat(17 << 20), "x\u{0}y", "left out");
        assert!(change.member().len() <= VALUE_BYTES);
        assert_eq!(change.before(), "x\\u{0}y");
        let many = first_changes(vec![change; 5_000]);
        assert_eq!(many.len(), MAX_CHANGES + 1);
        assert_eq!(many.last().map(RequestChange::after).as_deref(), Some("4936 changed likewise"));
        let detail = RequestDetail { changes: many, ..RequestDetail::default() };
        assert!(detail.to_json().len() < MAX_DETAIL_BYTES);
    }

    #[test]
    fn a_detail_that_is_too_large_says_what_is_missing() {
        let changes = vec![RequestChange::new("m", &"b".repeat(200), &"a".repeat(200)); 1_000];
        let json = RequestDetail { changes, ..RequestDetail::default() }.to_json();
        let read: RequestDetail = serde_json::from_str(&json).unwrap();
        assert!(read.changes.is_empty() && read.cut.unwrap().contains("are left out"));
    }

    fn offer() -> OfferName {
        OfferName::parse("quarry/fulmar-large").unwrap()
    }

    fn attempt(failure: Option<FailureKind>) -> Attempt {
        Attempt {
            offer: offer(),
            began_ms: 3,
            ended_ms: 9,
            failure: failure.map(|kind| Failure::new(kind, "so it was")),
            spent: None,
            served_from: None,
        }
    }

    #[test]
    fn one_that_loads_is_told_by_its_failure_and_its_offer() {
        let other = OfferName::parse("quayside/fulmar-large").unwrap();
        let loads = |attempt: &Attempt| (attempt.is_loading_at(&offer()), attempt.is_loading_at(&other));
        assert_eq!(loads(&attempt(Some(FailureKind::Loading))), (true, false));
        assert_eq!(loads(&attempt(Some(FailureKind::TimedOut))), (false, false));
        assert_eq!(loads(&attempt(None)), (false, false));
    }

    fn wait(what: WaitFor, began_ms: u64, ended_ms: Option<u64>) -> RoomWait {
        RoomWait { offer: offer(), what, began_ms, ended_ms }
    }

    #[test]
    fn waits_are_summed_up_to_now() {
        let waits = vec![wait(WaitFor::Room, 5, Some(30)), wait(WaitFor::Load, 40, None)];
        let detail = RequestDetail { waits, ..RequestDetail::default() };
        assert_eq!(detail.waited_ms(50), 25 + 10);
        assert_eq!(RequestDetail::default().waited_ms(50), 0);
    }

    /// What it waited for is written only where it is not room: so the first release wrote it.
    #[test]
    fn a_wait_for_room_is_written_as_it_always_was() {
        let json = |what| serde_json::to_value(wait(what, 5, None)).unwrap();
        assert_eq!(json(WaitFor::Room), serde_json::json!({ "offer": "quarry/fulmar-large", "began_ms": 5 }));
        assert_eq!(json(WaitFor::Load)["for"], "load");
    }

    #[test]
    fn a_detail_that_is_too_large_keeps_what_accounts_for_the_request() {
        let rate = serde_json::json!({ "effective_on": "2026-11-01", "input": "3.1", "output": "14.4" });
        let kept = RequestDetail {
            attempts: vec![attempt(None)],
            waits: vec![wait(WaitFor::Room, 5, Some(30))],
            rate: Some(serde_json::from_value(rate).unwrap()),
            reserved_cost: Money::parse("0.02"),
            ..RequestDetail::default()
        };
        let changes = vec![RequestChange::new("m", &"b".repeat(200), &"a".repeat(200)); 1_000];
        let json = RequestDetail { changes, ..kept.clone() }.to_json();
        let read: RequestDetail = serde_json::from_str(&json).unwrap();
        assert_eq!(RequestDetail { cut: None, ..read }, kept);
    }

    #[test]
    fn a_detail_that_was_refused_says_why() {
        assert_eq!(RequestDetail::refused("it holds a zero byte").cut.as_deref(), Some("it holds a zero byte"));
    }
}
