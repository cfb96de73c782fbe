//! Rows of figures: roll-ups as they are kept, and sums of them, which have the same columns.

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use sqlx::query_builder::Separated;
use sqlx::{FromRow, Postgres, QueryBuilder};
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sketch::Sketch;
use wendor_core::metering::sums::Apart;
use wendor_wire::usage::TokenCounts;

use crate::StoreError;
use crate::row::{bigint, count, numeric};

/// The columns of what is summed, in the order of [`push_values`].
pub(crate) const SUMMED: &str = "requests, failures, cancelled, unpriced, estimated, checks, attempts, attempt_tokens_input, \
    attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output, \
    attempt_tokens_reasoning, attempt_tokens_preset, attempt_cost, images, tokens_input, tokens_input_cached, tokens_cache_written, \
    tokens_output, tokens_reasoning, tokens_preset, cost, first_token, whole";

/// The last of these are sketches, which the database does not add.
const SKETCHES: usize = 2;

/// What a [`RollUpKey`] has beside its hour.
const NAMES: usize = 4;

/// What of a [`RollUpKey`] groups of rows are told apart by.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Grouped {
    pub apart: Apart,
    /// By the instants that rows begin at, too.
    pub time: bool,
}

/// Rows that are added to one another by the database: what comes from there is as many rows as there are groups.
pub(crate) fn push_sums(select: &mut QueryBuilder<Postgres>, start: &str, grouped: Grouped) {
    let Grouped { apart, time } = grouped;
    select.push(if time { "" } else { "min(" }).push(start).push(if time { "" } else { ")" }).push(" as hour");
    for (name, is_told) in names(apart) {
        select.push(if is_told { ", " } else { ", '' as " }).push(name);
    }
    push_added(select);
}

/// What is summed of rows, each column added up, and lists of their sketches.
pub(crate) fn push_added(select: &mut QueryBuilder<Postgres>) {
    let columns: Vec<&str> = SUMMED.split(", ").collect();
    for column in &columns[..columns.len() - SKETCHES] {
        // Sums of whole numbers come as decimals, but there are no such many.
        let back = if column.ends_with("cost") { "" } else { "::bigint" };
        select.push(", sum(").push(column).push(")").push(back).push(" as ").push(column);
    }
    select.push(", array_agg(first_token) as first_token, array_agg(whole) as whole");
}

/// The values of some rows as lists, a column each, as [`SUMMED`] names them.
pub(crate) fn push_values(list: &mut Separated<Postgres, &str>, rows: &[&RollUp]) {
    let counts = |of: fn(&RollUp) -> u64| rows.iter().map(|sums| bigint(of(sums))).collect::<Vec<i64>>();
    let money = |of: fn(&RollUp) -> Decimal| rows.iter().map(|sums| numeric(of(sums))).collect::<Vec<_>>();
    let sketches = |of: fn(&RollUp) -> Vec<u8>| rows.iter().map(|sums| of(sums)).collect::<Vec<_>>();
    list.push_bind(counts(|sums| sums.requests))
        .push_bind(counts(|sums| sums.failures))
        .push_bind(counts(|sums| sums.cancelled))
        .push_bind(counts(|sums| sums.unpriced))
        .push_bind(counts(|sums| sums.estimated))
        .push_bind(counts(|sums| sums.checks))
        .push_bind(counts(|sums| sums.attempts))
        .push_bind(counts(|sums| sums.attempt_tokens.input))
        .push_bind(counts(|sums| sums.attempt_tokens.input_cached))
        .push_bind(counts(|sums| sums.attempt_tokens.cache_written))
        .push_bind(counts(|sums| sums.attempt_tokens.output))
        .push_bind(counts(|sums| sums.attempt_tokens.reasoning))
        .push_bind(counts(|sums| sums.attempt_tokens.preset))
        .push_bind(money(|sums| sums.attempt_cost.amount()))
        .push_bind(counts(|sums| sums.images))
        .push_bind(counts(|sums| sums.tokens.input))
        .push_bind(counts(|sums| sums.tokens.input_cached))
        .push_bind(counts(|sums| sums.tokens.cache_written))
        .push_bind(counts(|sums| sums.tokens.output))
        .push_bind(counts(|sums| sums.tokens.reasoning))
        .push_bind(counts(|sums| sums.tokens.preset))
        .push_bind(money(|sums| sums.cost.amount()))
        .push_bind(sketches(|sums| sums.first_token.to_packed()))
        .push_bind(sketches(|sums| sums.whole.to_packed()));
}

/// Ends what [`push_sums`] began.
pub(crate) fn push_group_by(select: &mut QueryBuilder<Postgres>, start: &str, grouped: Grouped) {
    let told = names(grouped.apart).into_iter().filter_map(|(name, is_told)| is_told.then_some(name));
    for (number, column) in told.chain(grouped.time.then_some(start)).enumerate() {
        select.push(if number == 0 { " group by " } else { ", " }).push(column);
    }
    // Without groups there is a row of nothing where there is nothing.
    select.push(" having count(*) > 0");
}

fn names(apart: Apart) -> [(&'static str, bool); NAMES] {
    [("team", apart.team), ("key", apart.key), ("route", apart.route), ("offer", apart.offer)]
}

/// What a row belongs to.
#[derive(FromRow)]
struct KeyColumns {
    hour: DateTime<Utc>,
    team: String,
    key: String,
    route: String,
    offer: String,
}

impl KeyColumns {
    fn read(self) -> RollUpKey {
        let Self { hour, team, key, route, offer } = self;
        RollUpKey { hour, team, key, route, offer }
    }
}

/// Rows added to one another.
#[derive(FromRow)]
pub(crate) struct GroupedRow {
    #[sqlx(flatten)]
    key: KeyColumns,
    #[sqlx(flatten)]
    added: AddedColumns,
}

impl GroupedRow {
    /// What it belongs to, and what it sums.
    pub(crate) fn read(self) -> Result<(RollUpKey, RollUp), StoreError> {
        Ok((self.key.read(), self.added.read()?))
    }
}

/// What [`push_added`] gives.
#[derive(FromRow)]
pub(crate) struct AddedColumns {
    #[sqlx(flatten)]
    sums: SumColumns,
    first_token: Vec<Vec<u8>>,
    whole: Vec<Vec<u8>>,
}

impl AddedColumns {
    pub(crate) fn read(&self) -> Result<RollUp, StoreError> {
        let merged = |all: &[Vec<u8>]| {
            all.iter().try_fold(Sketch::default(), |mut merged, bytes| {
                merged.merge(&sketch(bytes)?);
                Ok::<_, StoreError>(merged)
            })
        };
        self.sums.read(merged(&self.first_token)?, merged(&self.whole)?)
    }
}

fn sketch(bytes: &[u8]) -> Result<Sketch, StoreError> {
    Sketch::from_bytes(bytes).map_err(|error| StoreError::unreadable("usage_hour", error))
}

/// A row of roll-ups, or of sums of them.
#[derive(FromRow)]
pub(crate) struct RolledRow {
    #[sqlx(flatten)]
    key: KeyColumns,
    #[sqlx(flatten)]
    sums: SumColumns,
    first_token: Vec<u8>,
    whole: Vec<u8>,
}

/// What is summed, but for sketches.
#[derive(FromRow)]
pub(crate) struct SumColumns {
    requests: i64,
    failures: i64,
    cancelled: i64,
    unpriced: i64,
    estimated: i64,
    checks: i64,
    attempts: i64,
    attempt_tokens_input: i64,
    attempt_tokens_input_cached: i64,
    attempt_tokens_cache_written: i64,
    attempt_tokens_output: i64,
    attempt_tokens_reasoning: i64,
    attempt_tokens_preset: i64,
    attempt_cost: Decimal,
    images: i64,
    tokens_input: i64,
    tokens_input_cached: i64,
    tokens_cache_written: i64,
    tokens_output: i64,
    tokens_reasoning: i64,
    tokens_preset: i64,
    cost: Decimal,
}

impl RolledRow {
    /// What it belongs to, and what it sums.
    pub(crate) fn read(self) -> Result<(RollUpKey, RollUp), StoreError> {
        let sums = self.sums.read(sketch(&self.first_token)?, sketch(&self.whole)?)?;
        Ok((self.key.read(), sums))
    }
}

impl SumColumns {
    /// The sums, with their sketches.
    pub(crate) fn read(&self, first_token: Sketch, whole: Sketch) -> Result<RollUp, StoreError> {
        Ok(RollUp {
            requests: count(self.requests, "requests")?,
            failures: count(self.failures, "failures")?,
            cancelled: count(self.cancelled, "cancelled")?,
            unpriced: count(self.unpriced, "unpriced")?,
            estimated: count(self.estimated, "estimated")?,
            checks: count(self.checks, "checks")?,
            attempts: count(self.attempts, "attempts")?,
            attempt_tokens: TokenCounts {
                input: count(self.attempt_tokens_input, "attempt_tokens_input")?,
                input_cached: count(self.attempt_tokens_input_cached, "attempt_tokens_input_cached")?,
                cache_written: count(self.attempt_tokens_cache_written, "attempt_tokens_cache_written")?,
                output: count(self.attempt_tokens_output, "attempt_tokens_output")?,
                reasoning: count(self.attempt_tokens_reasoning, "attempt_tokens_reasoning")?,
                preset: count(self.attempt_tokens_preset, "attempt_tokens_preset")?,
            },
            attempt_cost: Money::new(self.attempt_cost),
            images: count(self.images, "images")?,
            tokens: TokenCounts {
                input: count(self.tokens_input, "tokens_input")?,
                input_cached: count(self.tokens_input_cached, "tokens_input_cached")?,
                cache_written: count(self.tokens_cache_written, "tokens_cache_written")?,
                output: count(self.tokens_output, "tokens_output")?,
                reasoning: count(self.tokens_reasoning, "tokens_reasoning")?,
                preset: count(self.tokens_preset, "tokens_preset")?,
            },
            cost: Money::new(self.cost),
            first_token,
            whole,
        })
    }
}
