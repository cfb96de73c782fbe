//! Adding entries to the hourly roll-ups, in the transaction that inserts them.
//!
//! The database adds the sums; sketches are merged here. So that two instances cannot lose each other's merges, the rows are made
//! where they are missing, then locked in the order of their keys, then read, merged and written: two drains wait for each other and
//! never in a ring.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::metering::rollup::{RollUp, RollUpKey, rows_of};
use wendor_core::metering::sketch::Sketch;
use wendor_wire::usage::TokenCounts;

use crate::StoreError;
use crate::row::{bigint, numeric};

/// The keys of some rows, a list a column.
struct Keys {
    hours: Vec<DateTime<Utc>>,
    teams: Vec<String>,
    keys: Vec<String>,
    routes: Vec<String>,
    offers: Vec<String>,
}

impl Keys {
    fn of(rows: &BTreeMap<RollUpKey, RollUp>) -> Self {
        let text = |part: fn(&RollUpKey) -> &String| rows.keys().map(|key| part(key).clone()).collect();
        Self {
            hours: rows.keys().map(|key| key.hour).collect(),
            teams: text(|key| &key.team),
            keys: text(|key| &key.key),
            routes: text(|key| &key.route),
            offers: text(|key| &key.offer),
        }
    }
}

const MAKE_ROWS: &str = "insert into usage_hour (hour, team, key, route, offer, first_token, whole)
    select hour, team, key, route, offer, $6, $6
    from unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[]) as wanted (hour, team, key, route, offer)
    order by hour, team, key, route, offer on conflict do nothing";

const LOCK_ROWS: &str = "select row.hour, row.team, row.key, row.route, row.offer, row.first_token, row.whole
    from usage_hour as row
    join unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[]) as wanted (hour, team, key, route, offer)
    using (hour, team, key, route, offer)
    order by row.hour, row.team, row.key, row.route, row.offer for update of row";

const ADD_TO_ROWS: &str = "update usage_hour as row set
    requests = row.requests + new.requests, failures = row.failures + new.failures,
    cancelled = row.cancelled + new.cancelled, estimated = row.estimated + new.estimated, checks = row.checks + new.checks,
    attempts = row.attempts + new.attempts, attempt_tokens_input = row.attempt_tokens_input + new.attempt_tokens_input,
    attempt_tokens_input_cached = row.attempt_tokens_input_cached + new.attempt_tokens_input_cached,
    attempt_tokens_cache_written = row.attempt_tokens_cache_written + new.attempt_tokens_cache_written,
    attempt_tokens_output = row.attempt_tokens_output + new.attempt_tokens_output,
    attempt_tokens_reasoning = row.attempt_tokens_reasoning + new.attempt_tokens_reasoning,
    attempt_cost = row.attempt_cost + new.attempt_cost, unpriced = row.unpriced + new.unpriced,
    tokens_input = row.tokens_input + new.tokens_input,
    tokens_input_cached = row.tokens_input_cached + new.tokens_input_cached,
    tokens_cache_written = row.tokens_cache_written + new.tokens_cache_written,
    tokens_output = row.tokens_output + new.tokens_output, tokens_reasoning = row.tokens_reasoning + new.tokens_reasoning,
    images = row.images + new.images, cost = row.cost + new.cost, first_token = new.first_token, whole = new.whole,
    tokens_preset = row.tokens_preset + new.tokens_preset,
    attempt_tokens_preset = row.attempt_tokens_preset + new.attempt_tokens_preset
    from unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bigint[], $7::bigint[], $8::bigint[],
    $9::bigint[], $10::bigint[], $11::bigint[], $12::bigint[], $13::bigint[], $14::bigint[], $15::bigint[], $16::bigint[],
    $17::numeric[], $18::bigint[], $19::bigint[], $20::bigint[], $21::bigint[], $22::bigint[], $23::bigint[], $24::bigint[],
    $25::numeric[], $26::bytea[], $27::bytea[], $28::bigint[], $29::bigint[])
    as new (hour, team, key, route, offer, requests, failures, cancelled, estimated, checks, attempts, attempt_tokens_input,
    attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output, attempt_tokens_reasoning, attempt_cost,
    unpriced, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, images, cost, first_token,
    whole, tokens_preset, attempt_tokens_preset)
    where row.hour = new.hour and row.team = new.team and row.key = new.key and row.route = new.route and row.offer = new.offer";

#[derive(sqlx::FromRow)]
struct StoredSketches {
    hour: DateTime<Utc>,
    team: String,
    key: String,
    route: String,
    offer: String,
    first_token: Vec<u8>,
    whole: Vec<u8>,
}

/// Adds `entries` to their rows.
pub(crate) async fn add(
    connection: &mut sqlx::PgConnection,
    entries: impl IntoIterator<Item = &LedgerEntry>,
) -> Result<(), StoreError> {
    let mut rows = rows_of(entries);
    let keys = Keys::of(&rows);
    // The tables' triggers do it as well, behind each change: done first, two drains wait for each other here and never in a ring.
    sqlx::query("select usage_changes($1)").bind(&keys.hours).execute(&mut *connection).await?;
    sqlx::query(MAKE_ROWS)
        .bind(&keys.hours)
        .bind(&keys.teams)
        .bind(&keys.keys)
        .bind(&keys.routes)
        .bind(&keys.offers)
        .bind(Sketch::default().to_bytes())
        .execute(&mut *connection)
        .await?;
    let stored: Vec<StoredSketches> = sqlx::query_as(LOCK_ROWS)
        .bind(&keys.hours)
        .bind(&keys.teams)
        .bind(&keys.keys)
        .bind(&keys.routes)
        .bind(&keys.offers)
        .fetch_all(&mut *connection)
        .await?;
    for sketches in stored {
        let StoredSketches { hour, team, key, route, offer, first_token, whole } = sketches;
        if let Some(row) = rows.get_mut(&RollUpKey { hour, team, key, route, offer }) {
            row.first_token.merge(&read(&first_token)?);
            row.whole.merge(&read(&whole)?);
        }
    }
    write(connection, &keys, &rows).await
}

fn read(bytes: &[u8]) -> Result<Sketch, StoreError> {
    Sketch::from_bytes(bytes).map_err(|error| StoreError::unreadable("usage_hour", error))
}

async fn write(
    connection: &mut sqlx::PgConnection,
    keys: &Keys,
    rows: &BTreeMap<RollUpKey, RollUp>,
) -> Result<(), StoreError> {
    let counts = |of: fn(&RollUp) -> u64| rows.values().map(|row| bigint(of(row))).collect::<Vec<i64>>();
    let tokens = |of: fn(TokenCounts) -> u64| rows.values().map(|row| bigint(of(row.tokens))).collect::<Vec<i64>>();
    let of_attempts =
        |of: fn(TokenCounts) -> u64| rows.values().map(|row| bigint(of(row.attempt_tokens))).collect::<Vec<i64>>();
    sqlx::query(ADD_TO_ROWS)
        .bind(&keys.hours)
        .bind(&keys.teams)
        .bind(&keys.keys)
        .bind(&keys.routes)
        .bind(&keys.offers)
        .bind(counts(|row| row.requests))
        .bind(counts(|row| row.failures))
        .bind(counts(|row| row.cancelled))
        .bind(counts(|row| row.estimated))
        .bind(counts(|row| row.checks))
        .bind(counts(|row| row.attempts))
        .bind(of_attempts(|tokens| tokens.input))
        .bind(of_attempts(|tokens| tokens.input_cached))
        .bind(of_attempts(|tokens| tokens.cache_written))
        .bind(of_attempts(|tokens| tokens.output))
        .bind(of_attempts(|tokens| tokens.reasoning))
        .bind(rows.values().map(|row| numeric(row.attempt_cost.amount())).collect::<Vec<_>>())
        .bind(counts(|row| row.unpriced))
        .bind(tokens(|tokens| tokens.input))
        .bind(tokens(|tokens| tokens.input_cached))
        .bind(tokens(|tokens| tokens.cache_written))
        .bind(tokens(|tokens| tokens.output))
        .bind(tokens(|tokens| tokens.reasoning))
        .bind(counts(|row| row.images))
        .bind(rows.values().map(|row| numeric(row.cost.amount())).collect::<Vec<_>>())
        .bind(rows.values().map(|row| row.first_token.to_bytes()).collect::<Vec<_>>())
        .bind(rows.values().map(|row| row.whole.to_bytes()).collect::<Vec<_>>())
        .bind(tokens(|tokens| tokens.preset))
        .bind(of_attempts(|tokens| tokens.preset))
        .execute(connection)
        .await?;
    Ok(())
}
