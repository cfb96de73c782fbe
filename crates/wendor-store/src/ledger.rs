//! Draining settled requests into the records: ledger lines, details, roll-ups and quota windows in one transaction.
//!
//! This is the only way into the ledger. Lines that are there already are left alone, and only lines that were new count in
//! roll-ups and windows, so draining a batch twice changes nothing.

use std::collections::BTreeSet;

use chrono::{DateTime, SubsecRound, Utc};
use sqlx::types::Json;
use wendor_core::metering::entry::{LedgerEntry, Spooled};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::Cost;
use wendor_core::metering::rollup::{RollUp, RollUpKey, rows_of};
use wendor_core::metering::sketch::Sketch;
use wendor_core::metering::usage::Counted;
use wendor_core::routing::failure::FailureKind;

use crate::row::{bigint, numeric};
use crate::{Store, StoreError, partitions, quotas};

/// The most entries of one batch: some megabytes with their details.
pub const MAX_BATCH: usize = 1_000;

impl Store {
    /// Drains a batch of at most [`MAX_BATCH`] entries. Gives how many were new. Dropped midway it changes nothing.
    ///
    /// # Errors
    /// When the database is away, or refuses; nothing of the batch is in then.
    pub async fn drain(&self, batch: &[Spooled]) -> Result<u64, StoreError> {
        if batch.is_empty() {
            return Ok(0);
        }
        partitions::ensure(self, batch.iter().map(|settled| settled.entry.at)).await?;
        let mut transaction = self.pool.begin().await?;
        let new: BTreeSet<(DateTime<Utc>, String)> = insert_lines(&mut transaction, batch).await?.into_iter().collect();
        // The database keeps microseconds, and gives back what it keeps.
        let kept = |settled: &Spooled| (settled.entry.at.trunc_subsecs(6), settled.entry.entry_id.to_string());
        let is_new = |settled: &&Spooled| new.contains(&kept(settled));
        let fresh: Vec<&Spooled> = batch.iter().filter(is_new).collect();
        if !fresh.is_empty() {
            insert_details(&mut transaction, &fresh).await?;
            for (key, rollup) in rows_of(fresh.iter().map(|settled| &settled.entry)) {
                merge_rollup(&mut transaction, &key, &rollup).await?;
            }
            quotas::add_uses(&mut transaction, fresh.iter().flat_map(|settled| &settled.quotas)).await?;
        }
        transaction.commit().await?;
        Ok(u64::try_from(fresh.len()).unwrap_or(u64::MAX))
    }
}

/// A batch goes in as one array a column, so that the statement is the same for every batch and is prepared once.
const INSERT_LINES: &str = "insert into ledger (at, entry_id, kind, request, run, step, labels, team, key, route, offer,
    revision, attempts, streamed, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning,
    tokens_estimated, cost_input, cost_input_cached, cost_cache_written, cost_output, ended, failure, admitted_ms,
    answering_ms, first_token_ms, whole_ms)
    select * from unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::jsonb[],
    $8::text[], $9::text[], $10::text[], $11::text[], $12::bigint[], $13::int[], $14::bool[], $15::bigint[], $16::bigint[],
    $17::bigint[], $18::bigint[], $19::bigint[], $20::bool[], $21::numeric[], $22::numeric[], $23::numeric[],
    $24::numeric[], $25::text[], $26::text[], $27::bigint[], $28::bigint[], $29::bigint[], $30::bigint[])
    on conflict do nothing returning at, entry_id";

async fn insert_lines(
    connection: &mut sqlx::PgConnection,
    batch: &[Spooled],
) -> Result<Vec<(DateTime<Utc>, String)>, StoreError> {
    fn column<'b, T>(batch: &'b [Spooled], of: impl Fn(&'b LedgerEntry) -> T) -> Vec<T> {
        batch.iter().map(|spooled| of(&spooled.entry)).collect()
    }
    let cost = |part: fn(&Cost) -> Money| {
        column(batch, move |entry| entry.cost.as_ref().map(|cost| numeric(part(cost).amount())))
    };
    let inserted = sqlx::query_as(INSERT_LINES)
        .bind(column(batch, |entry| entry.at))
        .bind(column(batch, |entry| entry.entry_id.as_str()))
        .bind(column(batch, |entry| entry.kind.as_str()))
        .bind(column(batch, |entry| entry.request.as_str()))
        .bind(column(batch, |entry| entry.run.as_deref()))
        .bind(column(batch, |entry| entry.step.as_deref()))
        .bind(column(batch, |entry| Json(&entry.labels)))
        .bind(column(batch, |entry| entry.team.as_str()))
        .bind(column(batch, |entry| entry.key.as_str()))
        .bind(column(batch, |entry| entry.route.as_str()))
        .bind(column(batch, |entry| entry.offer.as_ref().map(ToString::to_string)))
        .bind(column(batch, |entry| entry.revision))
        .bind(column(batch, |entry| i32::try_from(entry.attempts).unwrap_or(i32::MAX)))
        .bind(column(batch, |entry| entry.streamed))
        .bind(column(batch, |entry| bigint(entry.tokens.input)))
        .bind(column(batch, |entry| bigint(entry.tokens.input_cached)))
        .bind(column(batch, |entry| bigint(entry.tokens.cache_written)))
        .bind(column(batch, |entry| bigint(entry.tokens.output)))
        .bind(column(batch, |entry| bigint(entry.tokens.reasoning)))
        .bind(column(batch, |entry| entry.counted == Counted::Estimated))
        .bind(cost(|cost| cost.input))
        .bind(cost(|cost| cost.input_cached))
        .bind(cost(|cost| cost.cache_written))
        .bind(cost(|cost| cost.output))
        .bind(column(batch, |entry| entry.end.as_str()))
        .bind(column(batch, |entry| entry.failure.map(FailureKind::as_str)))
        .bind(column(batch, |entry| bigint(entry.latency.admitted_ms)))
        .bind(column(batch, |entry| entry.latency.answering_ms.map(bigint)))
        .bind(column(batch, |entry| entry.latency.first_token_ms.map(bigint)))
        .bind(column(batch, |entry| bigint(entry.latency.whole_ms)))
        .fetch_all(connection)
        .await?;
    Ok(inserted)
}

async fn insert_details(connection: &mut sqlx::PgConnection, fresh: &[&Spooled]) -> Result<(), StoreError> {
    let ats: Vec<DateTime<Utc>> = fresh.iter().map(|spooled| spooled.entry.at).collect();
    let ids: Vec<&str> = fresh.iter().map(|spooled| spooled.entry.entry_id.as_str()).collect();
    let details: Vec<&str> = fresh.iter().map(|spooled| spooled.detail.get()).collect();
    sqlx::query(
        "insert into request_detail (at, entry_id, detail)
         select at, entry_id, detail::jsonb from unnest($1::timestamptz[], $2::text[], $3::text[]) as fresh (at, entry_id, detail)
         on conflict do nothing",
    )
    .bind(ats)
    .bind(ids)
    .bind(details)
    .execute(connection)
    .await?;
    Ok(())
}

/// Adds `rollup` to its row. The database adds the sums; where the row was there already its sketches are merged here, under
/// the lock that the upsert took.
async fn merge_rollup(connection: &mut sqlx::PgConnection, key: &RollUpKey, rollup: &RollUp) -> Result<(), StoreError> {
    let stored = add_sums(connection, key, rollup).await?;
    if stored.is_new {
        return Ok(());
    }
    let merged = |stored: &[u8], new: &Sketch| {
        let mut sketch = Sketch::from_bytes(stored).map_err(|error| StoreError::unreadable("usage_hour", error))?;
        sketch.merge(new);
        Ok::<_, StoreError>(sketch.to_bytes())
    };
    sqlx::query(
        "update usage_hour set first_token = $6, whole = $7
         where hour = $1 and team = $2 and key = $3 and route = $4 and offer = $5",
    )
    .bind(key.hour)
    .bind(&key.team)
    .bind(&key.key)
    .bind(&key.route)
    .bind(&key.offer)
    .bind(merged(&stored.first_token, &rollup.first_token)?)
    .bind(merged(&stored.whole, &rollup.whole)?)
    .execute(connection)
    .await?;
    Ok(())
}

#[derive(sqlx::FromRow)]
struct StoredSketches {
    is_new: bool,
    first_token: Vec<u8>,
    whole: Vec<u8>,
}

/// `xmax` is zero in a row that the statement itself inserted, and the inserting transaction's own otherwise.
const ADD_SUMS: &str = "insert into usage_hour (hour, team, key, route, offer, requests, failures, cancelled, unpriced,
    estimated, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, cost, first_token,
    whole) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18)
    on conflict (hour, team, key, route, offer) do update set
    requests = usage_hour.requests + excluded.requests, failures = usage_hour.failures + excluded.failures,
    cancelled = usage_hour.cancelled + excluded.cancelled, unpriced = usage_hour.unpriced + excluded.unpriced,
    estimated = usage_hour.estimated + excluded.estimated,
    tokens_input = usage_hour.tokens_input + excluded.tokens_input,
    tokens_input_cached = usage_hour.tokens_input_cached + excluded.tokens_input_cached,
    tokens_cache_written = usage_hour.tokens_cache_written + excluded.tokens_cache_written,
    tokens_output = usage_hour.tokens_output + excluded.tokens_output,
    tokens_reasoning = usage_hour.tokens_reasoning + excluded.tokens_reasoning,
    cost = usage_hour.cost + excluded.cost
    returning xmax = 0 as is_new, first_token, whole";

async fn add_sums(
    connection: &mut sqlx::PgConnection,
    key: &RollUpKey,
    rollup: &RollUp,
) -> Result<StoredSketches, StoreError> {
    let stored = sqlx::query_as(ADD_SUMS)
        .bind(key.hour)
        .bind(&key.team)
        .bind(&key.key)
        .bind(&key.route)
        .bind(&key.offer)
        .bind(bigint(rollup.requests))
        .bind(bigint(rollup.failures))
        .bind(bigint(rollup.cancelled))
        .bind(bigint(rollup.unpriced))
        .bind(bigint(rollup.estimated))
        .bind(bigint(rollup.tokens.input))
        .bind(bigint(rollup.tokens.input_cached))
        .bind(bigint(rollup.tokens.cache_written))
        .bind(bigint(rollup.tokens.output))
        .bind(bigint(rollup.tokens.reasoning))
        .bind(numeric(rollup.cost.amount()))
        .bind(rollup.first_token.to_bytes())
        .bind(rollup.whole.to_bytes())
        .fetch_one(connection)
        .await?;
    Ok(stored)
}
