//! Bodies as the first release wrote them: JSON. Only read, so that an upgrade drains what the old binary left behind.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use serde::Deserialize;
use serde_json::value::RawValue;
use wendor_wire::failure::FailureKind;
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};

use super::super::end::End;
use super::super::entry::{
    AdjustmentRecord, CheckRecord, Latency, LedgerEntry, QuotaUse, Record, RequestRecord, Settled, Spooled,
};
use super::super::rate::Cost;
use crate::name::{Name, OfferName};
use crate::quota::QuotaId;
use crate::request_id::RequestId;
use crate::routing::queue::Lane;

#[derive(Deserialize)]
struct Body {
    entry: Entry,
    detail: Box<RawValue>,
    #[serde(default)]
    quotas: Vec<Use>,
}

#[derive(Deserialize)]
struct Entry {
    at: DateTime<Utc>,
    entry_id: RequestId,
    #[serde(default)]
    kind: Kind,
    request: RequestId,
    run: Option<String>,
    step: Option<String>,
    #[serde(default)]
    labels: BTreeMap<String, String>,
    team: Name,
    key: String,
    route: Name,
    offer: Option<OfferName>,
    revision: i64,
    attempts: u32,
    streamed: bool,
    tokens: TokenCounts,
    counted: Counted,
    cost: Option<Cost>,
    end: End,
    failure: Option<FailureKind>,
    latency: Latency,
}

#[derive(Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    #[default]
    Request,
    Adjustment,
    Check,
}

#[derive(Deserialize)]
struct Use {
    quota: QuotaId,
    window_start: Start,
    amount: Decimal,
}

/// Seconds since 1970, or written out.
#[derive(Deserialize)]
#[serde(untagged)]
enum Start {
    Seconds(i64),
    WrittenOut(DateTime<Utc>),
}

/// Reads a body.
pub(super) fn read(bytes: &[u8]) -> Option<Spooled> {
    let Body { entry, detail, quotas } = serde_json::from_slice(bytes).ok()?;
    let quotas = quotas.into_iter().map(|used| {
        let window_start = match used.window_start {
            Start::Seconds(seconds) => DateTime::from_timestamp(seconds, 0)?,
            Start::WrittenOut(at) => at,
        };
        Some(QuotaUse { quota: used.quota, window_start, amount: used.amount })
    });
    let quotas = quotas.collect::<Option<Vec<QuotaUse>>>()?;
    Some(Settled { entry: entry.read(), detail: Some(detail.get().to_owned()), quotas })
}

impl Entry {
    fn read(self) -> LedgerEntry {
        let Self { attempts, streamed, end, failure, latency, .. } = self;
        let record = match self.kind {
            Kind::Request => {
                let lane = Lane::default();
                Record::Request(RequestRecord { attempts, streamed, end, failure, latency, lane })
            }
            Kind::Check => Record::Check(CheckRecord { streamed, end, latency }),
            Kind::Adjustment => Record::Adjustment(AdjustmentRecord { reason: String::new() }),
        };
        LedgerEntry {
            at: self.at,
            entry_id: self.entry_id,
            request: self.request,
            run: self.run,
            step: self.step,
            labels: self.labels,
            team: self.team,
            key: self.key.into(),
            route: self.route,
            offer: self.offer,
            revision: self.revision,
            tokens: self.tokens,
            images: Images::default(),
            counted: self.counted,
            cost: self.cost,
            record,
        }
    }
}
