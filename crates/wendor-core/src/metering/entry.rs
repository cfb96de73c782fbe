//! The ledger entry of one admitted request, and the detail that is kept with it for a shorter time.
//!
//! Both are made once, by the settle step, and travel unchanged through the spool into the store. An entry is never
//! edited; `(at, entry_id)` is fixed in it, so that draining it twice is harmless.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use super::rate::{Cost, Rate};
use super::usage::{Counted, TokenCounts};
use crate::name::{Name, OfferName};
use crate::quota::QuotaId;
use crate::request_id::RequestId;
use crate::routing::failure::{Failure, FailureKind};
use crate::routing::plan::Plan;

/// How a request ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// The answer came to its proper end.
    Proper,
    /// The answer ended at the output cap.
    OutputCap,
    /// The app went away.
    Cancelled,
    /// The answer broke after it had begun.
    CutOff,
    /// The upstream refused the app's own request.
    Rejected,
    /// No offer answered.
    NotAnswered,
}

impl End {
    /// Every end.
    pub const ALL: [Self; 6] =
        [Self::Proper, Self::OutputCap, Self::Cancelled, Self::CutOff, Self::Rejected, Self::NotAnswered];

    /// The end's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Proper => "proper",
            Self::OutputCap => "output-cap",
            Self::Cancelled => "cancelled",
            Self::CutOff => "cut-off",
            Self::Rejected => "rejected",
            Self::NotAnswered => "not-answered",
        }
    }

    /// Reads an end's word.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|end| end.as_str() == text)
    }

    /// Whether the app was left without a whole answer through no doing of its own.
    #[must_use]
    pub fn is_failure(self) -> bool {
        match self {
            Self::CutOff | Self::NotAnswered => true,
            Self::Proper | Self::OutputCap | Self::Cancelled | Self::Rejected => false,
        }
    }
}

/// What an entry records.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EntryKind {
    /// A request.
    #[default]
    Request,
    /// A correction of an earlier entry.
    Adjustment,
    /// A call that a check of an upstream made.
    Check,
}

impl EntryKind {
    /// The kind's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Request => "request",
            Self::Adjustment => "adjustment",
            Self::Check => "check",
        }
    }
}

/// Where the time of a request went, in milliseconds from its arrival.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Latency {
    /// Admission and plan were done, the first attempt began.
    pub admitted_ms: u64,
    /// The attempt that answered began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answering_ms: Option<u64>,
    /// The first token was there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_token_ms: Option<u64>,
    /// All was over.
    pub whole_ms: u64,
}

/// What a request used of a quota, in the window in which it was admitted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct QuotaUse {
    /// Of which quota.
    pub quota: QuotaId,
    /// Start of the window.
    #[serde(with = "whole_seconds")]
    pub window_start: DateTime<Utc>,
    /// How much.
    pub amount: Decimal,
}

/// An instant of whole seconds as their number since 1970. An instant written out, as spools held it before, is read too.
mod whole_seconds {
    use chrono::{DateTime, Utc};
    use serde::{Deserialize, Deserializer, Serializer, de};

    pub fn serialize<S: Serializer>(at: &DateTime<Utc>, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_i64(at.timestamp())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<DateTime<Utc>, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either {
            Seconds(i64),
            WrittenOut(DateTime<Utc>),
        }
        match Either::deserialize(deserializer)? {
            Either::Seconds(seconds) => {
                DateTime::from_timestamp(seconds, 0).ok_or_else(|| de::Error::custom("an instant out of range"))
            }
            Either::WrittenOut(at) => Ok(at),
        }
    }
}

/// One line of the ledger.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LedgerEntry {
    /// When the request arrived.
    pub at: DateTime<Utc>,
    /// The entry's own id; for a request that of the request.
    pub entry_id: RequestId,
    /// What it records.
    #[serde(default)]
    pub kind: EntryKind,
    /// The request.
    pub request: RequestId,
    /// The app's `wendor-run`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// The app's `wendor-step`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<String>,
    /// The app's `wendor-labels`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// Who pays.
    pub team: Name,
    /// Id of the key that asked.
    pub key: String,
    /// The route asked.
    pub route: Name,
    /// The offer that answered, or was tried last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offer: Option<OfferName>,
    /// The revision in force.
    pub revision: i64,
    /// Attempts made.
    pub attempts: u32,
    /// Whether the app asked for a stream.
    pub streamed: bool,
    /// Tokens by kind.
    pub tokens: TokenCounts,
    /// Where they come from.
    pub counted: Counted,
    /// Cost by kind; `None` when the offer had no rate.
    pub cost: Option<Cost>,
    /// How it ended.
    pub end: End,
    /// What the last attempt failed of, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<FailureKind>,
    /// Where the time went.
    pub latency: Latency,
}

impl LedgerEntry {
    /// The entry of a request that arrived and for which nothing has happened yet: whoever settles it fills in what did.
    #[must_use]
    pub fn of_request(at: DateTime<Utc>, id: RequestId, team: Name, route: Name) -> Self {
        Self {
            at,
            entry_id: id.clone(),
            kind: EntryKind::Request,
            request: id,
            run: None,
            step: None,
            labels: BTreeMap::new(),
            team,
            key: String::new(),
            route,
            offer: None,
            revision: 0,
            attempts: 0,
            streamed: false,
            tokens: TokenCounts::default(),
            counted: Counted::Reported,
            cost: None,
            end: End::NotAnswered,
            failure: None,
            latency: Latency::default(),
        }
    }
}

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
    /// What the upstream served the model from, as far as it had told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub served_from: Option<ServedFrom>,
}

/// What a model was served from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServedFrom {
    /// Digest of the weights.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Version of the server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_version: Option<String>,
}

/// A member of the request that was not sent on as it came.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequestChange {
    /// Which.
    pub member: String,
    /// As the app sent it.
    pub before: String,
    /// As the upstream got it.
    pub after: String,
}

/// What is kept of a request beside its entry, for a shorter time.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequestDetail {
    /// The plan as it was made.
    pub plan: Plan,
    /// The attempts, in order.
    pub attempts: Vec<Attempt>,
    /// What was changed on the way.
    pub changes: Vec<RequestChange>,
    /// The rate it was priced at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
    /// What was reserved of money at most, for the offer that answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserved_cost: Option<super::money::Money>,
}

/// What the spool carries: an entry, its detail, and what it used of quotas.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settled<Detail = RequestDetail> {
    /// The ledger's line.
    pub entry: LedgerEntry,
    /// Kept beside it.
    pub detail: Detail,
    /// Counted against.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub quotas: Vec<QuotaUse>,
}

/// The same as the drain takes it from the spool: the detail is JSON there and in the records, so it stays text in between.
pub type Spooled = Settled<Box<RawValue>>;

impl Settled {
    /// As it comes out of the spool.
    ///
    /// # Panics
    /// Never: every part of a detail has a JSON form.
    #[must_use]
    pub fn spooled(&self) -> Spooled {
        let detail = serde_json::value::to_raw_value(&self.detail).expect("every part of a detail has a JSON form");
        Settled { entry: self.entry.clone(), detail, quotas: self.quotas.clone() }
    }

    /// What came out of the spool, its detail read.
    ///
    /// # Errors
    /// When the detail is not one.
    pub fn from_spooled(spooled: Spooled) -> Result<Self, serde_json::Error> {
        let detail = serde_json::from_str(spooled.detail.get())?;
        Ok(Self { entry: spooled.entry, detail, quotas: spooled.quotas })
    }
}
