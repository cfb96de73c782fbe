//! One try of a request as it is told.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::detail::Attempt;
use wendor_core::request_id::RequestId;

use super::usage::TokensByKind;

/// One try.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AttemptLine {
    /// Where.
    pub offer: String,
    /// Its id at the upstream, in the header `x-request-id`: a UUID, by which the request is found too.
    pub upstream_request_id: String,
    /// When it began, in milliseconds from the request's arrival.
    pub began_ms: u64,
    /// In milliseconds from the request's arrival.
    pub ended_ms: u64,
    /// Whether its answer went to the app, also where that broke off later. One that neither answered nor failed was given up: another
    /// answered first, or the app had gone.
    pub answered: bool,
    /// What it failed of.
    pub failure: Option<String>,
    /// What was seen.
    pub detail: Option<String>,
    /// What it used although it did not answer; it stands in a line of the ledger of its own.
    pub used: Option<TokensByKind>,
    /// Whether that is estimated.
    pub used_estimated: bool,
    /// What that cost, all digits; absent where nothing was used, or the offer has no rate.
    pub used_cost: Option<String>,
    /// Digest of the weights that the model was served from, where the upstream tells it.
    pub digest: Option<String>,
    /// The server's version, where it tells it.
    pub server_version: Option<String>,
}

/// The tries of `request` as they are told, in the order in which they began; of one with an answer the last that was noted gave it.
pub(super) fn attempt_lines(request: &RequestId, attempts: Vec<Attempt>, has_answer: bool) -> Vec<AttemptLine> {
    let last = attempts.len().saturating_sub(1);
    let mut noted: Vec<(bool, Attempt)> =
        attempts.into_iter().enumerate().map(|(place, attempt)| (has_answer && place == last, attempt)).collect();
    noted.sort_by_key(|(_, attempt)| attempt.began_ms);
    (1..)
        .zip(noted)
        .map(|(number, (answered, attempt))| attempt_line(request.uuid(number).to_string(), answered, attempt))
        .collect()
}

fn attempt_line(upstream_request_id: String, answered: bool, attempt: Attempt) -> AttemptLine {
    let spent = attempt.spent;
    AttemptLine {
        answered,
        offer: attempt.offer.to_string(),
        upstream_request_id,
        began_ms: attempt.began_ms,
        ended_ms: attempt.ended_ms,
        failure: attempt.failure.as_ref().map(|failure| failure.kind.to_string()),
        detail: attempt.failure.map(|failure| failure.detail),
        used: spent.map(|spent| spent.tokens.into()),
        used_estimated: spent.is_some_and(|spent| spent.estimated),
        used_cost: spent.and_then(|spent| spent.cost).map(|cost| cost.total().to_string()),
        digest: attempt.served_from.as_ref().and_then(|from| from.digest.clone()),
        server_version: attempt.served_from.and_then(|from| from.server_version),
    }
}
