//! Draining settled requests into the records: ledger lines, details, roll-ups and quota windows in one transaction.
//!
//! This is the only way into the ledger. Lines that are there already are left alone, and only lines that were new count in
//! roll-ups and windows, so draining a batch twice changes nothing.

use std::collections::BTreeSet;

use chrono::{DateTime, SubsecRound, Utc};
use sqlx::types::Json;
use sqlx::{Postgres, QueryBuilder};
use wendor_core::metering::entry::{LedgerEntry, Settled};
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::{RollUp, RollUpKey, rows_of};
use wendor_core::metering::sketch::Sketch;
use wendor_core::metering::usage::Counted;

use crate::row::{bigint, numeric};
use crate::{Store, StoreError, partitions, quotas};

/// The most entries of one batch: 30 columns each stay far below the 65,535 values that a statement can bind.
pub const MAX_BATCH: usize = 1_000;

impl Store {
    /// Drains a batch of at most [`MAX_BATCH`] entries. Gives how many were new. Dropped midway it changes nothing.
    ///
    /// # Errors
    /// When the database is away, or refuses; nothing of the batch is in then.
    pub async fn drain(&self, batch: &[Settled]) -> Result<u64, StoreError> {
        if batch.is_empty() {
            return Ok(0);
        }
        partitions::ensure(self, batch.iter().map(|settled| settled.entry.at)).await?;
        let mut transaction = self.pool.begin().await?;
        let new: BTreeSet<(DateTime<Utc>, String)> = insert_lines(&mut transaction, batch).await?.into_iter().collect();
        // The database keeps microseconds, and gives back what it keeps.
        let kept = |settled: &Settled| (settled.entry.at.trunc_subsecs(6), settled.entry.entry_id.to_string());
        let is_new = |settled: &&Settled| new.contains(&kept(settled));
        let fresh: Vec<&Settled> = batch.iter().filter(is_new).collect();
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

async fn insert_lines(
    connection: &mut sqlx::PgConnection,
    batch: &[Settled],
) -> Result<Vec<(DateTime<Utc>, String)>, StoreError> {
    let mut insert = QueryBuilder::<Postgres>::new(
        "insert into ledger (at, entry_id, kind, request, run, step, labels, team, key, route, offer, revision, attempts,
         streamed, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning,
         tokens_estimated, cost_input, cost_input_cached, cost_cache_written, cost_output, ended, failure, admitted_ms,
         answering_ms, first_token_ms, whole_ms) ",
    );
    insert.push_values(batch, |mut row, settled| {
        let entry: &LedgerEntry = &settled.entry;
        let cost = |part: fn(&wendor_core::metering::rate::Cost) -> Money| {
            entry.cost.as_ref().map(|cost| numeric(part(cost).amount()))
        };
        row.push_bind(entry.at)
            .push_bind(entry.entry_id.as_str())
            .push_bind(entry.kind.as_str())
            .push_bind(entry.request.as_str())
            .push_bind(entry.run.as_deref())
            .push_bind(entry.step.as_deref())
            .push_bind(Json(&entry.labels))
            .push_bind(entry.team.as_str())
            .push_bind(&entry.key)
            .push_bind(entry.route.as_str())
            .push_bind(entry.offer.as_ref().map(ToString::to_string))
            .push_bind(entry.revision)
            .push_bind(i32::try_from(entry.attempts).unwrap_or(i32::MAX))
            .push_bind(entry.streamed)
            .push_bind(bigint(entry.tokens.input))
            .push_bind(bigint(entry.tokens.input_cached))
            .push_bind(bigint(entry.tokens.cache_written))
            .push_bind(bigint(entry.tokens.output))
            .push_bind(bigint(entry.tokens.reasoning))
            .push_bind(entry.counted == Counted::Estimated)
            .push_bind(cost(|cost| cost.input))
            .push_bind(cost(|cost| cost.input_cached))
            .push_bind(cost(|cost| cost.cache_written))
            .push_bind(cost(|cost| cost.output))
            .push_bind(entry.end.as_str())
            .push_bind(entry.failure.map(wendor_core::routing::failure::FailureKind::as_str))
            .push_bind(bigint(entry.latency.admitted_ms))
            .push_bind(entry.latency.answering_ms.map(bigint))
            .push_bind(entry.latency.first_token_ms.map(bigint))
            .push_bind(bigint(entry.latency.whole_ms));
    });
    insert.push(" on conflict do nothing returning at, entry_id");
    Ok(insert.build_query_as().fetch_all(connection).await?)
}

async fn insert_details(connection: &mut sqlx::PgConnection, fresh: &[&Settled]) -> Result<(), StoreError> {
    let mut insert = QueryBuilder::<Postgres>::new("insert into request_detail (at, entry_id, detail) ");
    insert.push_values(fresh, |mut row, settled| {
        row.push_bind(settled.entry.at).push_bind(settled.entry.entry_id.as_str()).push_bind(Json(&settled.detail));
    });
    insert.push(" on conflict do nothing");
    insert.build().execute(connection).await?;
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
