//! One line of the ledger, and what travels with it through the spool.
//!
//! A line says who pays, for what, how much was used and what that cost; its [`Record`] says what happened: a request, an attempt
//! that used something and did not answer, a call of a check, an adjustment. Money and quotas sum all of them; counts and latencies
//! of requests sum requests alone. Lines are made once, travel unchanged, and are never edited; `(at, entry_id)` is fixed in each,
//! so that draining it twice is harmless.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use smol_str::SmolStr;
use wendor_wire::failure::FailureKind;
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};
use wendor_wire::worded;

use super::detail::RequestDetail;
use super::end::End;
use super::rate::Cost;
use crate::name::{Name, OfferName};
use crate::quota::QuotaId;
use crate::request_id::RequestId;
use crate::routing::queue::Lane;

/// Where the time of a request went, in milliseconds from its arrival.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Latency {
    /// Admission and plan were done; the first attempt began then, unless it waited for room.
    pub admitted_ms: u64,
    /// Of the time after that, how much it waited for room at upstreams that were full.
    #[serde(default)]
    pub waited_ms: u64,
    /// The attempt that answered began.
    #[serde(default)]
    pub answering_ms: Option<u64>,
    /// Milliseconds from the arrival to the first token; nothing where none came.
    #[serde(default)]
    pub first_token_ms: Option<u64>,
    /// All was over.
    pub whole_ms: u64,
}

/// What a line used of a quota, in the window in which its request was admitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuotaUse {
    /// Counted against this one.
    pub quota: QuotaId,
    /// Start of the window, in whole seconds.
    pub window_start: DateTime<Utc>,
    /// How much.
    pub amount: Decimal,
}

worded! {
    /// What a line records, as a word.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum EntryKind {
        /// A request: what the app got.
        Request = "request",
        /// An attempt that used something and did not answer.
        Attempt = "attempt",
        /// A call that a check of an upstream made.
        Check = "check",
        /// A correction of an earlier line.
        Adjustment = "adjustment",
    }
}

/// What happened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Record {
    /// A request: one for each that was admitted.
    Request(RequestRecord),
    /// An attempt that used something and did not answer.
    Attempt(AttemptRecord),
    /// A call that a check of an upstream made.
    Check(CheckRecord),
    /// A correction: its amounts are signed, and its line's request is the one that it corrects.
    Adjustment(AdjustmentRecord),
}

/// What became of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RequestRecord {
    /// Attempts made.
    pub attempts: u32,
    /// Whether the app asked for a stream.
    pub streamed: bool,
    /// Completed, refused, failed or left by the app.
    pub end: End,
    /// What the last attempt failed of, if it did.
    pub failure: Option<FailureKind>,
    /// Where the time went.
    pub latency: Latency,
    /// How urgent it was.
    pub lane: Lane,
}

/// What became of an attempt that did not answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AttemptRecord {
    /// Which of its request, from 1.
    pub number: u32,
    /// Whether a stream was asked for.
    pub streamed: bool,
    /// What it failed of; `None` where it was given up because the app had gone, or another attempt answered.
    pub failure: Option<FailureKind>,
    /// When it began, in milliseconds from the request's arrival.
    pub began_ms: u64,
    /// In milliseconds from the request's arrival.
    pub ended_ms: u64,
}

/// What became of a check's call.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CheckRecord {
    /// Whether a stream was asked for.
    pub streamed: bool,
    /// Whether the answer came to its end.
    pub end: End,
    /// Where the time went.
    pub latency: Latency,
}

/// Why a line was corrected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AdjustmentRecord {
    /// In a sentence.
    pub reason: String,
}

impl Record {
    /// The record's kind.
    #[must_use]
    pub fn kind(&self) -> EntryKind {
        match self {
            Self::Request(_) => EntryKind::Request,
            Self::Attempt(_) => EntryKind::Attempt,
            Self::Check(_) => EntryKind::Check,
            Self::Adjustment(_) => EntryKind::Adjustment,
        }
    }
}

/// One line of the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LedgerEntry {
    /// When the request arrived.
    pub at: DateTime<Utc>,
    /// The line's own id; for a request that of the request.
    pub entry_id: RequestId,
    /// The request that it belongs to.
    pub request: RequestId,
    /// The app's `wendor-run`.
    pub run: Option<String>,
    /// The app's `wendor-step`.
    pub step: Option<String>,
    /// The app's `wendor-labels`.
    pub labels: BTreeMap<String, String>,
    /// Who pays.
    pub team: Name,
    /// Id of the key that asked.
    pub key: SmolStr,
    /// The route asked.
    pub route: Name,
    /// The offer: of a request the one that answered or was tried last.
    pub offer: Option<OfferName>,
    /// The revision in force.
    pub revision: i64,
    /// Tokens by kind.
    pub tokens: TokenCounts,
    /// How many were made, and of which size.
    pub images: Images,
    /// Where both come from.
    pub counted: Counted,
    /// Cost by kind; `None` when the offer had no rate for something that was used.
    pub cost: Option<Cost>,
    /// What happened.
    pub record: Record,
}

impl LedgerEntry {
    /// The line of a request that arrived and for which nothing has happened yet: whoever settles it fills in what did.
    #[must_use]
    pub fn of_request(at: DateTime<Utc>, id: RequestId, team: Name, route: Name) -> Self {
        let record = RequestRecord {
            attempts: 0,
            streamed: false,
            end: End::NotAnswered,
            failure: None,
            latency: Latency::default(),
            lane: Lane::default(),
        };
        Self {
            at,
            entry_id: id,
            request: id,
            run: None,
            step: None,
            labels: BTreeMap::new(),
            team,
            key: SmolStr::default(),
            route,
            offer: None,
            revision: 0,
            tokens: TokenCounts::default(),
            images: Images::default(),
            counted: Counted::Reported,
            cost: Some(Cost::default()),
            record: Record::Request(record),
        }
    }

    /// Outcome, where it is something that was asked: a request, or a check's call told as if it were one.
    #[must_use]
    pub fn asked(&self) -> Option<RequestRecord> {
        match &self.record {
            Record::Request(request) => Some(*request),
            Record::Check(CheckRecord { streamed, end, latency }) => {
                let failure = end.is_failure().then_some(FailureKind::Rejected);
                let (attempts, streamed, end, latency, lane) = (1, *streamed, *end, *latency, Lane::default());
                Some(RequestRecord { attempts, streamed, end, failure, latency, lane })
            }
            Record::Attempt(_) | Record::Adjustment(_) => None,
        }
    }
}

/// What the spool carries: a line, the detail kept beside it, and what it used of quotas.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settled<Detail = Option<RequestDetail>> {
    /// The ledger's line.
    pub entry: LedgerEntry,
    /// Kept beside it, where there is anything to be kept.
    pub detail: Detail,
    /// Counted against.
    pub quotas: Vec<QuotaUse>,
}

/// The same as the drain takes it from the spool: the detail is JSON there and in the records, so it stays text in between.
pub type Spooled = Settled<Option<String>>;

impl Settled {
    /// As it comes out of the spool.
    #[must_use]
    pub fn spooled(&self) -> Spooled {
        let detail = self.detail.as_ref().map(RequestDetail::to_json);
        Settled { entry: self.entry.clone(), detail, quotas: self.quotas.clone() }
    }
}
