//! Limits by the minute as they are told: of an upstream, and of an offer.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::routing::pace::Standing;

/// A limit of a service, and how it stands.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LimitLine {
    /// What is limited: `requests` or `tokens`.
    pub what: String,
    /// In the unit of what is limited.
    pub limit: u64,
    /// `declared` in the catalogue for a minute, or `told` by the service.
    pub source: String,
    /// Used by this instance within the last minute.
    pub used: u64,
    /// What is left of it: of a declared one for this minute.
    pub left: u64,
    /// In how many seconds requests begin to wait for it, if they go on coming as in the last minute; 0: they do; absent: not within a day.
    pub used_up_in_s: Option<u64>,
}

/// A limit as it is told.
#[must_use]
pub(super) fn limit_line(standing: &Standing) -> LimitLine {
    LimitLine {
        what: standing.paced.as_str().to_owned(),
        limit: standing.limit,
        source: if standing.is_told { "told" } else { "declared" }.to_owned(),
        used: standing.used,
        left: standing.left,
        used_up_in_s: standing.used_up_in.map(|time| time.as_secs()),
    }
}
