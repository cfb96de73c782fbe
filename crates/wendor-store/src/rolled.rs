//! Rows of figures: roll-ups as they are kept, and sums of them, which have the same columns.

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use sqlx::FromRow;
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sketch::Sketch;
use wendor_wire::usage::TokenCounts;

use crate::StoreError;
use crate::row::count;

/// The columns of a [`RolledRow`] behind its hour.
pub(crate) const ROLLED: &str = "team, key, route, offer, requests, failures, cancelled, unpriced, estimated, checks, attempts, \
    attempt_tokens_input, attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output, \
    attempt_tokens_reasoning, attempt_tokens_preset, attempt_cost, images, tokens_input, tokens_input_cached, tokens_cache_written, \
    tokens_output, tokens_reasoning, tokens_preset, cost, first_token, whole";

/// A row of roll-ups, or of sums of them.
#[derive(FromRow)]
pub(crate) struct RolledRow {
    hour: DateTime<Utc>,
    team: String,
    key: String,
    route: String,
    offer: String,
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
        let sketch =
            |bytes: &[u8]| Sketch::from_bytes(bytes).map_err(|error| StoreError::unreadable("usage_hour", error));
        let sums = self.sums.read(sketch(&self.first_token)?, sketch(&self.whole)?)?;
        Ok((RollUpKey { hour: self.hour, team: self.team, key: self.key, route: self.route, offer: self.offer }, sums))
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
