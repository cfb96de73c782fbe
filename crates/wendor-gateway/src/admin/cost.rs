//! What a request cost, as a sum whose parts are shown, and what its attempts used that did not answer.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::detail::Attempt;
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::{Cost, Rate};
use wendor_wire::images::Images;
use wendor_wire::usage::TokenCounts;

/// A count, its rate and their product.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CostLine {
    /// The kind of token, or images.
    pub kind: String,
    /// How many.
    pub count: u64,
    /// What so many cost together.
    pub rate: String,
    /// How many the rate is for: a million tokens, or one image.
    pub rate_for: u64,
    /// Their product over that.
    pub amount: String,
}

/// A cost, with the lines that add up to it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CostSum {
    /// Kinds that were used.
    pub lines: Vec<CostLine>,
    /// Together.
    pub total: String,
    /// First day of the rate.
    pub rate_from: Option<chrono::NaiveDate>,
    /// What was reserved for it at most.
    pub reserved: Option<String>,
}

/// What a rate is per, of tokens.
const MILLION: u64 = 1_000_000;

/// What a line cost, as a sum.
pub(super) fn cost_sum(entry: &LedgerEntry, cost: Cost, rate: Option<&Rate>, reserved: Option<Money>) -> CostSum {
    let (tokens, Images { count, size }) = (entry.tokens, entry.images);
    let line =
        |kind: &str, (count, rate_for): (u64, u64), rate: Option<rust_decimal::Decimal>, amount: Money| CostLine {
            kind: kind.to_owned(),
            count,
            rate: rate.map(|value| value.to_string()).unwrap_or_default(),
            rate_for,
            amount: amount.to_string(),
        };
    let per = |pick: fn(&Rate) -> rust_decimal::Decimal| rate.map(pick);
    let cached = per(|rate| rate.input_cached.unwrap_or(rate.input));
    let written = per(|rate| rate.cache_written.unwrap_or(rate.input));
    let lines = [
        line("input", (tokens.input, MILLION), per(|rate| rate.input), cost.input),
        line("input, cached", (tokens.input_cached, MILLION), cached, cost.input_cached),
        line("cache written", (tokens.cache_written, MILLION), written, cost.cache_written),
        line("output", (tokens.output, MILLION), per(|rate| rate.output), cost.output),
        line("images", (count.into(), 1), rate.and_then(|rate| rate.per_image(size)), cost.images),
    ];
    CostSum {
        lines: lines.into_iter().filter(|line| line.count > 0).collect(),
        total: cost.total().to_string(),
        rate_from: rate.map(|rate| rate.effective_on),
        reserved: reserved.map(|amount| amount.to_string()),
    }
}

/// What attempts used that did not answer, and what that cost, if all of it is priced.
pub(super) fn failed_used(attempts: &[Attempt]) -> Option<(TokenCounts, Option<Money>)> {
    let spent = attempts.iter().filter_map(|attempt| attempt.spent);
    let each = spent.map(|spent| (spent.tokens, spent.cost.map(Cost::total)));
    each.reduce(|(tokens, cost), (more, dearer)| {
        let cost = cost.zip(dearer).map(|(cost, dearer)| cost + dearer);
        (tokens.with(more), cost)
    })
}
