//! Draining settled requests into the records: ledger lines, details, roll-ups and quota windows in one transaction.
//!
//! This is the only way into the ledger. Lines that are there already are left alone, and only lines that were new count in
//! roll-ups and windows, so draining a batch twice changes nothing.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
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
        let is_new = |settled: &&Settled| new.contains(&(settled.entry.at, settled.entry.entry_id.to_string()));
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

/// Adds `rollup` to its row. Sums are added by the database, sketches are merged here, under the row's lock.
async fn merge_rollup(connection: &mut sqlx::PgConnection, key: &RollUpKey, rollup: &RollUp) -> Result<(), StoreError> {
    let empty = Sketch::default().to_bytes();
    sqlx::query(
        "insert into usage_hour values ($1, $2, $3, $4, $5, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, $6, $6) on conflict do nothing",
    )
    .bind(key.hour)
    .bind(&key.team)
    .bind(&key.key)
    .bind(&key.route)
    .bind(&key.offer)
    .bind(&empty)
    .execute(&mut *connection)
    .await?;
    let (first_token, whole): (Vec<u8>, Vec<u8>) = sqlx::query_as(
        "select first_token, whole from usage_hour
         where hour = $1 and team = $2 and key = $3 and route = $4 and offer = $5 for update",
    )
    .bind(key.hour)
    .bind(&key.team)
    .bind(&key.key)
    .bind(&key.route)
    .bind(&key.offer)
    .fetch_one(&mut *connection)
    .await?;
    let merged = |stored: &[u8], new: &Sketch| {
        let mut sketch = Sketch::from_bytes(stored).map_err(|error| StoreError::unreadable("usage_hour", error))?;
        sketch.merge(new);
        Ok::<_, StoreError>(sketch.to_bytes())
    };
    let (first_token, whole) = (merged(&first_token, &rollup.first_token)?, merged(&whole, &rollup.whole)?);
    sqlx::query(
        "update usage_hour set requests = requests + $6, failures = failures + $7, cancelled = cancelled + $8,
         unpriced = unpriced + $9, estimated = estimated + $10, tokens_input = tokens_input + $11,
         tokens_input_cached = tokens_input_cached + $12, tokens_cache_written = tokens_cache_written + $13,
         tokens_output = tokens_output + $14, tokens_reasoning = tokens_reasoning + $15, cost = cost + $16,
         first_token = $17, whole = $18
         where hour = $1 and team = $2 and key = $3 and route = $4 and offer = $5",
    )
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
    .bind(first_token)
    .bind(whole)
    .execute(connection)
    .await?;
    Ok(())
}
