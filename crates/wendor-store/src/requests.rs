//! Reading requests back: a page of ledger lines by any filter, and one request with its detail.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use rust_decimal::Decimal;
use sqlx::types::Json;
use sqlx::{FromRow, Postgres, QueryBuilder, Row};
use wendor_core::catalog::former::Former;
use wendor_core::metering::detail::{Attempt, RequestDetail, RoomWait};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{
    AdjustmentRecord, AttemptRecord, CheckRecord, EntryKind, Latency, LedgerEntry, Record, RequestRecord,
};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::Cost;
use wendor_core::name::{Name, OfferName};
use wendor_core::request_id::RequestId;
use wendor_core::routing::queue::Lane;
use wendor_wire::failure::FailureKind;
use wendor_wire::images::{ImageSize, Images};
use wendor_wire::usage::{Counted, TokenCounts};

use crate::row::{count, lane, name};
use crate::{Store, StoreError};

/// The most lines of one page.
pub const MAX_PAGE: i64 = 1_000;

pub(crate) const COLUMNS: &str = "at, entry_id, kind, request, run, step, labels, team, key, route, offer, revision, attempts, streamed,
    tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, tokens_preset, tokens_estimated, cost_input,
    cost_input_cached, cost_cache_written, cost_output, cost_images, images, image_size, ended, failure, admitted_ms, answering_ms,
    first_token_ms, whole_ms, reason, waited_ms, lane";

/// Which requests; what is `None` does not narrow.
#[derive(Clone, Debug, Default)]
pub struct RequestFilter {
    /// Arrived at or after.
    pub from: Option<DateTime<Utc>>,
    /// Arrived before.
    pub to: Option<DateTime<Utc>>,
    /// Name of a team; those of all without.
    pub team: Option<Name>,
    /// By the key of this id.
    pub key: Option<String>,
    /// Name of a route; to all without.
    pub route: Option<Name>,
    /// Tried at this offer.
    pub offer: Option<OfferName>,
    /// Tried at an offer of this upstream.
    pub upstream: Option<Name>,
    /// The app's own name of a run.
    pub run: Option<String>,
    /// With this label: its name and value.
    pub label: Option<(String, String)>,
    /// Ended in one of these ways; in any when empty.
    pub ends: Vec<End>,
    /// An attempt failed of this.
    pub failure: Option<FailureKind>,
    /// Whether any attempt counts for offer, upstream and failure, or the one alone that answered or was the last.
    pub any_attempt: bool,
    /// How many attempts there were: from, and to.
    pub attempts: Option<(u32, Option<u32>)>,
    /// Names that things had: what is asked for by its present name is found under each.
    pub former: Arc<Former>,
}

/// What happened to a request on its way: its attempts, and its waits for room.
pub type OnTheWay = (Vec<Attempt>, Vec<RoomWait>);

type OnTheWayRow = (String, Json<Vec<Attempt>>, Json<Vec<RoomWait>>);

/// From where a page goes on: after this line, in the order newest first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageMark {
    /// When the last line of the page before arrived.
    pub at: DateTime<Utc>,
    /// Decides among entries that arrived at the same moment.
    pub entry_id: String,
}

impl RequestFilter {
    /// Adds the filter's conditions, each beginning with `and`.
    pub(crate) fn narrow(&self, query: &mut QueryBuilder<Postgres>) {
        if let Some(from) = self.from {
            query.push(" and at >= ").push_bind(from);
        }
        if let Some(to) = self.to {
            query.push(" and at < ").push_bind(to);
        }
        let names = [
            (" and team = any(", self.team.as_ref().map(|team| self.former.teams_of(team))),
            (" and route = any(", self.route.as_ref().map(|route| self.former.routes_of(route))),
        ];
        for (condition, values) in names {
            if let Some(values) = values {
                query.push(condition).push_bind(values).push(")");
            }
        }
        let texts = [(" and key = ", self.key.clone()), (" and run = ", self.run.clone())];
        for (condition, value) in texts {
            if let Some(value) = value {
                query.push(condition).push_bind(value);
            }
        }
        if self.offer.is_some() || self.upstream.is_some() || self.failure.is_some() {
            self.narrow_by_attempts(query);
        }
        if let Some((from, to)) = self.attempts {
            query.push(" and attempts >= ").push_bind(i64::from(from));
            if let Some(to) = to {
                query.push(" and attempts <= ").push_bind(i64::from(to));
            }
        }
        if !self.ends.is_empty() {
            let ends: Vec<&str> = self.ends.iter().map(|end| end.as_str()).collect();
            query.push(" and ended = any(").push_bind(ends).push(")");
        }
        if let Some((name, value)) = &self.label {
            query.push(" and labels ->> ").push_bind(name.clone()).push(" = ").push_bind(value.clone());
        }
    }

    /// By offer, upstream and failure: of the line itself, or together of one of its attempts.
    fn narrow_by_attempts(&self, query: &mut QueryBuilder<Postgres>) {
        let offers = self.offer.as_ref().map(|offer| self.former.offers_of(offer));
        let upstreams = self.upstream.as_ref().map(|upstream| self.former.upstreams_of(upstream));
        let failure = self.failure.map(|kind| kind.as_str().to_owned());
        let own = [
            (" and offer = any(", offers.clone()),
            (" and split_part(offer, '/', 1) = any(", upstreams.clone()),
            (" and failure = any(", failure.clone().map(|failure| vec![failure])),
        ];
        query.push(" and ((true");
        for (condition, values) in own {
            if let Some(values) = values {
                query.push(condition).push_bind(values).push(")");
            }
        }
        query.push(")");
        if self.any_attempt {
            // Only of requests with several is there more to know than the line says.
            query.push(
                " or (attempts > 1 and exists (select 1 from request_detail kept,
                 jsonb_array_elements(kept.detail -> 'attempts') attempt
                 where kept.at = ledger.at and kept.entry_id = ledger.entry_id",
            );
            let of_attempt = [
                (" and attempt ->> 'offer' = any(", offers),
                (" and split_part(attempt ->> 'offer', '/', 1) = any(", upstreams),
                (" and attempt #>> '{failure,kind}' = any(", failure.map(|failure| vec![failure])),
            ];
            for (condition, values) in of_attempt {
                if let Some(values) = values {
                    query.push(condition).push_bind(values).push(")");
                }
            }
            query.push("))");
        }
        query.push(")");
    }
}

impl Store {
    /// A page of requests, newest first, and of calls of checks, which were asked too. Attempts and adjustments stand with their
    /// requests.
    ///
    /// # Errors
    /// When the database is away or a line cannot be read.
    pub async fn requests(
        &self,
        filter: &RequestFilter,
        after: Option<&PageMark>,
        limit: i64,
    ) -> Result<Vec<LedgerEntry>, StoreError> {
        let mut query = QueryBuilder::<Postgres>::new("select ");
        query.push(COLUMNS).push(" from ledger where kind in ('request', 'check')");
        filter.narrow(&mut query);
        if let Some(mark) = after {
            query.push(" and (at, entry_id) < (").push_bind(mark.at).push(", ").push_bind(&mark.entry_id).push(")");
        }
        query.push(" order by at desc, entry_id desc limit ").push_bind(limit.clamp(1, MAX_PAGE));
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(entry_of).collect()
    }

    /// One request with its detail, if that is still kept.
    ///
    /// # Errors
    /// When the database is away or the record cannot be read.
    pub async fn request(&self, id: &RequestId) -> Result<Option<(LedgerEntry, Option<RequestDetail>)>, StoreError> {
        let mut query = QueryBuilder::<Postgres>::new("select ");
        query
            .push(COLUMNS)
            .push(" from ledger where kind in ('request', 'check') and request = ")
            .push_bind(id.as_str());
        let Some(row) = query.build().fetch_optional(&self.pool).await? else { return Ok(None) };
        let entry = entry_of(&row)?;
        let detail: Option<Json<RequestDetail>> =
            sqlx::query_scalar("select detail from request_detail where at = $1 and entry_id = $2")
                .bind(entry.at)
                .bind(entry.entry_id.as_str())
                .fetch_optional(&self.pool)
                .await?;
        Ok(Some((entry, detail.map(|detail| detail.0))))
    }

    /// Corrections of what a request cost, in the order in which they were recorded.
    ///
    /// # Errors
    /// When the database is away or a line cannot be read.
    pub async fn corrections_of(&self, entry: &LedgerEntry) -> Result<Vec<LedgerEntry>, StoreError> {
        let mut query = QueryBuilder::<Postgres>::new("select ");
        query.push(COLUMNS).push(" from ledger where kind = 'adjustment' and at = ").push_bind(entry.at);
        query.push(" and request = ").push_bind(entry.request.as_str()).push(" order by entry_id limit 100");
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(entry_of).collect()
    }

    /// The attempts of some requests, and their waits for room, by their entry's id; those whose detail is not kept any more are missing.
    ///
    /// # Errors
    /// When the database is away or a record cannot be read.
    pub async fn attempts_of(&self, entries: &[&LedgerEntry]) -> Result<BTreeMap<String, OnTheWay>, StoreError> {
        let (at, ids): (Vec<DateTime<Utc>>, Vec<&str>) =
            entries.iter().map(|entry| (entry.at, entry.entry_id.as_str())).unzip();
        let rows: Vec<OnTheWayRow> = sqlx::query_as(
            "select detail.entry_id, detail.detail -> 'attempts', coalesce(detail.detail -> 'waits', '[]') from request_detail detail
             join unnest($1::timestamptz[], $2::text[]) wanted (at, entry_id)
             on detail.at = wanted.at and detail.entry_id = wanted.entry_id",
        )
        .bind(at)
        .bind(ids)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(id, attempts, waits)| (id, (attempts.0, waits.0))).collect())
    }

    /// Hands every line of a range to `fold`, without holding them all.
    pub(crate) async fn each_entry(
        &self,
        filter: &RequestFilter,
        mut fold: impl FnMut(&LedgerEntry),
    ) -> Result<(), StoreError> {
        let mut query = QueryBuilder::<Postgres>::new("select ");
        query.push(COLUMNS).push(" from ledger where true");
        filter.narrow(&mut query);
        let mut rows = query.build().fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            fold(&entry_of(&row)?);
        }
        Ok(())
    }
}

#[derive(FromRow)]
pub(crate) struct TokenColumns {
    tokens_input: i64,
    tokens_input_cached: i64,
    tokens_cache_written: i64,
    tokens_output: i64,
    tokens_reasoning: i64,
    tokens_preset: i64,
    tokens_estimated: bool,
}

#[derive(FromRow)]
struct CostColumns {
    cost_input: Option<Decimal>,
    cost_input_cached: Option<Decimal>,
    cost_cache_written: Option<Decimal>,
    cost_output: Option<Decimal>,
    cost_images: Option<Decimal>,
}

#[derive(FromRow)]
struct LatencyColumns {
    admitted_ms: i64,
    answering_ms: Option<i64>,
    first_token_ms: Option<i64>,
    whole_ms: i64,
    waited_ms: i64,
}

pub(crate) fn entry_of(row: &sqlx::postgres::PgRow) -> Result<LedgerEntry, StoreError> {
    let text = |column: &str| row.try_get::<String, _>(column);
    let id = |text: &str| RequestId::parse(text).ok_or_else(|| StoreError::unreadable("ledger.entry_id", text));
    let tokens = TokenColumns::from_row(row)?;
    let counted = if tokens.tokens_estimated { Counted::Estimated } else { Counted::Reported };
    let offer: Option<String> = row.try_get("offer")?;
    let offer = offer.map(|offer| OfferName::parse(&offer)).transpose();
    Ok(LedgerEntry {
        at: row.try_get("at")?,
        entry_id: id(&text("entry_id")?)?,
        request: id(&text("request")?)?,
        run: row.try_get("run")?,
        step: row.try_get("step")?,
        labels: row.try_get::<Json<BTreeMap<String, String>>, _>("labels")?.0,
        team: name(&text("team")?, "ledger.team")?,
        key: text("key")?.into(),
        route: name(&text("route")?, "ledger.route")?,
        offer: offer.map_err(|error| StoreError::unreadable("ledger.offer", error))?,
        revision: row.try_get("revision")?,
        tokens: tokens_of(&tokens)?,
        images: images_of(row)?,
        counted,
        cost: cost_of(&CostColumns::from_row(row)?),
        record: record_of(row)?,
    })
}

fn record_of(row: &sqlx::postgres::PgRow) -> Result<Record, StoreError> {
    let kind: String = row.try_get("kind")?;
    let failure: Option<String> = row.try_get("failure")?;
    let failure = failure
        .map(|kind| FailureKind::parse(&kind).ok_or_else(|| StoreError::unreadable("ledger.failure", kind)))
        .transpose()?;
    let attempts: i32 = row.try_get("attempts")?;
    let attempts = u32::try_from(attempts).unwrap_or(0);
    let streamed = row.try_get("streamed")?;
    let latency = latency_of(&LatencyColumns::from_row(row)?)?;
    let end = || {
        let end: Option<String> = row.try_get("ended")?;
        let end = end.unwrap_or_default();
        End::parse(&end).ok_or_else(|| StoreError::unreadable("ledger.ended", end))
    };
    Ok(match EntryKind::parse(&kind).ok_or_else(|| StoreError::unreadable("ledger.kind", kind))? {
        EntryKind::Request => {
            let lane = lane_of(row)?;
            Record::Request(RequestRecord { attempts, streamed, end: end()?, failure, latency, lane })
        }
        EntryKind::Check => Record::Check(CheckRecord { streamed, end: end()?, latency }),
        EntryKind::Attempt => Record::Attempt(AttemptRecord {
            number: attempts,
            streamed,
            failure,
            began_ms: latency.admitted_ms,
            ended_ms: latency.whole_ms,
        }),
        EntryKind::Adjustment => {
            let reason: Option<String> = row.try_get("reason")?;
            Record::Adjustment(AdjustmentRecord { reason: reason.unwrap_or_default() })
        }
    })
}

fn lane_of(row: &sqlx::postgres::PgRow) -> Result<Lane, StoreError> {
    lane(row.try_get("lane")?, "ledger.lane")
}

fn images_of(row: &sqlx::postgres::PgRow) -> Result<Images, StoreError> {
    let size: Option<String> = row.try_get("image_size")?;
    let size = size.map(|size| ImageSize::parse(&size)).transpose();
    let images = count(row.try_get("images")?, "images")?;
    Ok(Images {
        count: u32::try_from(images).unwrap_or(u32::MAX),
        size: size.map_err(|error| StoreError::unreadable("ledger.image_size", error))?,
    })
}

pub(crate) fn tokens_of(columns: &TokenColumns) -> Result<TokenCounts, StoreError> {
    Ok(TokenCounts {
        input: count(columns.tokens_input, "tokens_input")?,
        input_cached: count(columns.tokens_input_cached, "tokens_input_cached")?,
        cache_written: count(columns.tokens_cache_written, "tokens_cache_written")?,
        output: count(columns.tokens_output, "tokens_output")?,
        reasoning: count(columns.tokens_reasoning, "tokens_reasoning")?,
        preset: count(columns.tokens_preset, "tokens_preset")?,
    })
}

/// The parts of a cost are there together or not at all; lines of before images were counted have none of those.
fn cost_of(columns: &CostColumns) -> Option<Cost> {
    Some(Cost {
        input: Money::new(columns.cost_input?),
        input_cached: Money::new(columns.cost_input_cached?),
        cache_written: Money::new(columns.cost_cache_written?),
        output: Money::new(columns.cost_output?),
        images: Money::new(columns.cost_images.unwrap_or_default()),
    })
}

fn latency_of(columns: &LatencyColumns) -> Result<Latency, StoreError> {
    let optional = |value: Option<i64>, column| value.map(|value| count(value, column)).transpose();
    Ok(Latency {
        admitted_ms: count(columns.admitted_ms, "admitted_ms")?,
        answering_ms: optional(columns.answering_ms, "answering_ms")?,
        first_token_ms: optional(columns.first_token_ms, "first_token_ms")?,
        whole_ms: count(columns.whole_ms, "whole_ms")?,
        waited_ms: count(columns.waited_ms, "waited_ms")?,
    })
}
