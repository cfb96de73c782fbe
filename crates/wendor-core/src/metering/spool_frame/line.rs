//! The body of a frame: the line with its quotas in compact binary form, and the detail as the JSON that the database gets.
//!
//! The forms here are the wire's own, apart from the types that the rest of the core works with: a field added there must not
//! change what a spool of yesterday means. A change of form takes a new version byte.

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;
use wendor_wire::failure::FailureKind;
use wendor_wire::images::{ImageSize, Images};
use wendor_wire::usage::{Counted, TokenCounts};

use super::super::end::End;
use super::super::entry::{
    AdjustmentRecord, AttemptRecord, CheckRecord, Latency, LedgerEntry, QuotaUse, Record, RequestRecord, Settled,
    Spooled,
};
use super::super::money::Money;
use super::super::rate::Cost;
use crate::name::{Name, OfferName};
use crate::quota::QuotaId;
use crate::request_id::RequestId;
use crate::routing::queue::Lane;

#[derive(Serialize, Deserialize)]
struct Body<'a> {
    /// Microseconds since 1970.
    at_us: i64,
    #[serde(borrow)]
    entry_id: &'a str,
    /// Where it is not the line's own id.
    request: Option<&'a str>,
    run: Option<&'a str>,
    step: Option<&'a str>,
    labels: Vec<(&'a str, &'a str)>,
    team: &'a str,
    key: &'a str,
    route: &'a str,
    /// Upstream and model.
    offer: Option<(&'a str, &'a str)>,
    revision: i64,
    /// Input, cached, written to the cache, output, reasoning.
    tokens: [u64; 5],
    images: u32,
    image_size: Option<(u16, u16)>,
    is_estimated: bool,
    /// As the tokens, with images in the place of reasoning.
    cost: Option<[Amount; 5]>,
    record: RecordForm<'a>,
    quotas: SmallVec<[QuotaForm<'a>; 4]>,
    detail: Option<&'a str>,
}

/// A decimal: its digits, and how many of them stand behind the point.
#[derive(Clone, Copy, Serialize, Deserialize)]
struct Amount(i128, u8);

#[derive(Serialize, Deserialize)]
struct QuotaForm<'a> {
    #[serde(borrow)]
    quota: &'a str,
    /// Seconds since 1970.
    window_start: i64,
    amount: Amount,
}

/// In the order in which they were added: the place of a variant is its number in the frame.
#[derive(Serialize, Deserialize)]
enum RecordForm<'a> {
    Request {
        attempts: u32,
        streamed: bool,
        end: &'a str,
        failure: Option<&'a str>,
        latency: LatencyForm,
    },
    Attempt {
        number: u32,
        streamed: bool,
        failure: Option<&'a str>,
        began_ms: u64,
        ended_ms: u64,
    },
    Check {
        streamed: bool,
        end: &'a str,
        latency: LatencyForm,
    },
    Adjustment {
        reason: &'a str,
    },
    /// A request that waited for room, or was not in the usual lane.
    Waited {
        attempts: u32,
        streamed: bool,
        end: &'a str,
        failure: Option<&'a str>,
        latency: LatencyForm,
        waited_ms: u64,
        lane: &'a str,
    },
}

#[derive(Serialize, Deserialize)]
struct LatencyForm(u64, Option<u64>, Option<u64>, u64);

/// Appends the body behind its version byte.
///
/// # Panics
/// Never: every part has a form, and memory takes what is written.
pub(super) fn write(entry: &LedgerEntry, detail: Option<&str>, quotas: &[QuotaUse], out: &mut Vec<u8>) {
    let tokens = entry.tokens;
    let preset = (tokens.preset > 0).then_some(tokens.preset);
    let body = Body {
        at_us: entry.at.timestamp_micros(),
        entry_id: entry.entry_id.as_str(),
        request: (entry.request != entry.entry_id).then(|| entry.request.as_str()),
        run: entry.run.as_deref(),
        step: entry.step.as_deref(),
        labels: entry.labels.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect(),
        team: entry.team.as_str(),
        key: &entry.key,
        route: entry.route.as_str(),
        offer: entry.offer.as_ref().map(|offer| (offer.upstream().as_str(), offer.model())),
        revision: entry.revision,
        tokens: [tokens.input, tokens.input_cached, tokens.cache_written, tokens.output, tokens.reasoning],
        images: entry.images.count,
        image_size: entry.images.size.map(ImageSize::sides),
        is_estimated: entry.counted == Counted::Estimated,
        cost: entry.cost.map(|cost| {
            [cost.input, cost.input_cached, cost.cache_written, cost.output, cost.images]
                .map(|part| Amount::of(part.amount()))
        }),
        record: RecordForm::of(&entry.record),
        quotas: quotas.iter().map(QuotaForm::of).collect(),
        detail,
    };
    let written = postcard::to_extend(&body, std::mem::take(out));
    *out = written.expect("every part of a line has a form");
    if let Some(preset) = preset {
        let written = postcard::to_extend(&preset, std::mem::take(out));
        *out = written.expect("a number has a form");
    }
}

/// Reads the body behind its version byte, and the preset's tokens behind that where there are any.
pub(super) fn read(bytes: &[u8], has_preset: bool) -> Option<Spooled> {
    let (body, behind): (Body<'_>, _) = postcard::take_from_bytes(bytes).ok()?;
    let preset: u64 = if has_preset { postcard::from_bytes(behind).ok()? } else { 0 };
    let [input, input_cached, cache_written, output, reasoning] = body.tokens;
    let entry_id = RequestId::parse(body.entry_id)?;
    let offer = |(upstream, model)| OfferName::new(Name::parse(upstream).ok()?, model).ok();
    let entry = LedgerEntry {
        at: DateTime::from_timestamp_micros(body.at_us)?,
        request: body.request.map_or_else(|| Some(entry_id), RequestId::parse)?,
        entry_id,
        run: body.run.map(str::to_owned),
        step: body.step.map(str::to_owned),
        labels: body.labels.into_iter().map(|(name, value)| (name.to_owned(), value.to_owned())).collect(),
        team: Name::parse(body.team).ok()?,
        key: body.key.into(),
        route: Name::parse(body.route).ok()?,
        offer: match body.offer {
            Some(parts) => Some(offer(parts)?),
            None => None,
        },
        revision: body.revision,
        tokens: TokenCounts { input, input_cached, cache_written, output, reasoning, preset },
        images: Images {
            count: body.images,
            size: body.image_size.and_then(|(width, height)| ImageSize::of_sides(width, height)),
        },
        counted: if body.is_estimated { Counted::Estimated } else { Counted::Reported },
        cost: match body.cost {
            Some(parts) => Some(cost_of(parts)?),
            None => None,
        },
        record: body.record.read()?,
    };
    let quotas = body.quotas.into_iter().map(QuotaForm::read).collect::<Option<Vec<QuotaUse>>>()?;
    Some(Settled { entry, detail: body.detail.map(str::to_owned), quotas })
}

fn cost_of([input, input_cached, cache_written, output, images]: [Amount; 5]) -> Option<Cost> {
    let money = |amount: Amount| amount.read().map(Money::new);
    Some(Cost {
        input: money(input)?,
        input_cached: money(input_cached)?,
        cache_written: money(cache_written)?,
        output: money(output)?,
        images: money(images)?,
    })
}

impl Amount {
    fn of(value: Decimal) -> Self {
        Self(value.mantissa(), u8::try_from(value.scale()).unwrap_or(u8::MAX))
    }

    fn read(self) -> Option<Decimal> {
        Decimal::try_from_i128_with_scale(self.0, self.1.into()).ok()
    }
}

impl<'a> QuotaForm<'a> {
    fn of(used: &'a QuotaUse) -> Self {
        Self {
            quota: used.quota.as_str(),
            window_start: used.window_start.timestamp(),
            amount: Amount::of(used.amount),
        }
    }

    fn read(self) -> Option<QuotaUse> {
        let window_start: DateTime<Utc> = DateTime::from_timestamp(self.window_start, 0)?;
        Some(QuotaUse { quota: QuotaId::from_store(self.quota), window_start, amount: self.amount.read()? })
    }
}

impl<'a> RecordForm<'a> {
    fn of(record: &'a Record) -> Self {
        let failure = |kind: Option<FailureKind>| kind.map(FailureKind::as_str);
        match record {
            Record::Request(request) if request.latency.waited_ms > 0 || !request.lane.is_usual() => Self::Waited {
                attempts: request.attempts,
                streamed: request.streamed,
                end: request.end.as_str(),
                failure: failure(request.failure),
                latency: LatencyForm::of(request.latency),
                waited_ms: request.latency.waited_ms,
                lane: request.lane.as_str(),
            },
            Record::Request(request) => Self::Request {
                attempts: request.attempts,
                streamed: request.streamed,
                end: request.end.as_str(),
                failure: failure(request.failure),
                latency: LatencyForm::of(request.latency),
            },
            Record::Attempt(attempt) => Self::Attempt {
                number: attempt.number,
                streamed: attempt.streamed,
                failure: failure(attempt.failure),
                began_ms: attempt.began_ms,
                ended_ms: attempt.ended_ms,
            },
            Record::Check(check) => Self::Check {
                streamed: check.streamed,
                end: check.end.as_str(),
                latency: LatencyForm::of(check.latency),
            },
            Record::Adjustment(adjustment) => Self::Adjustment { reason: &adjustment.reason },
        }
    }

    fn read(self) -> Option<Record> {
        let failure = |kind: Option<&str>| match kind {
            Some(kind) => FailureKind::parse(kind).map(Some),
            None => Some(None),
        };
        Some(match self {
            Self::Request { attempts, streamed, end, failure: kind, latency } => Record::Request(RequestRecord {
                attempts,
                streamed,
                end: End::parse(end)?,
                failure: failure(kind)?,
                latency: latency.read(),
                lane: Lane::default(),
            }),
            Self::Waited { attempts, streamed, end, failure: kind, latency, waited_ms, lane } => {
                Record::Request(RequestRecord {
                    attempts,
                    streamed,
                    end: End::parse(end)?,
                    failure: failure(kind)?,
                    latency: Latency { waited_ms, ..latency.read() },
                    lane: Lane::parse(lane)?,
                })
            }
            Self::Attempt { number, streamed, failure: kind, began_ms, ended_ms } => {
                Record::Attempt(AttemptRecord { number, streamed, failure: failure(kind)?, began_ms, ended_ms })
            }
            Self::Check { streamed, end, latency } => {
                Record::Check(CheckRecord { streamed, end: End::parse(end)?, latency: latency.read() })
            }
            Self::Adjustment { reason } => Record::Adjustment(AdjustmentRecord { reason: reason.to_owned() }),
        })
    }
}

impl LatencyForm {
    fn of(latency: Latency) -> Self {
        Self(latency.admitted_ms, latency.answering_ms, latency.first_token_ms, latency.whole_ms)
    }

    fn read(self) -> Latency {
        Latency { admitted_ms: self.0, waited_ms: 0, answering_ms: self.1, first_token_ms: self.2, whole_ms: self.3 }
    }
}
