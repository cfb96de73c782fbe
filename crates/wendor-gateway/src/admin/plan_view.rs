//! A plan as it is told, and the waits for room on its way.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::detail::RoomWait;
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};

use super::routes_view::pick_word;

/// One offer of the plan.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanLine {
    /// From 1.
    pub stage: usize,
    /// How that stage picks.
    pub pick: String,
    /// As `upstream/model`.
    pub offer: String,
    /// Whether its turn could come.
    pub taken: bool,
    /// Why, or why not.
    pub reason: String,
    /// What the request would have cost there at most.
    pub expected_cost: Option<String>,
}

/// A wait for room at an upstream that was full.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct WaitLine {
    /// As `upstream/model`; it was full, or its model was being loaded.
    pub offer: String,
    /// What for: `room` at its upstream, or a `load` of the model.
    #[serde(rename = "for")]
    pub what: String,
    /// Since when, in milliseconds from the request's arrival.
    pub began_ms: u64,
    /// Until when.
    pub ended_ms: u64,
}

/// A plan as it is told.
pub(super) fn plan_lines(plan: Plan) -> Vec<PlanLine> {
    let line = |planned: PlannedOffer| PlanLine {
        stage: planned.stage,
        pick: pick_word(planned.pick).to_owned(),
        offer: planned.offer.to_string(),
        taken: planned.standing == Standing::Taken,
        reason: planned.reason.words(),
        expected_cost: planned.expected_cost.map(|cost| cost.to_string()),
    };
    plan.offers.into_iter().map(line).collect()
}

/// The waits of a request; one during which it ended ends with it.
pub(super) fn wait_lines(waits: &[RoomWait], whole_ms: u64) -> Vec<WaitLine> {
    let line = |wait: &RoomWait| WaitLine {
        offer: wait.offer.to_string(),
        what: wait.what.as_str().to_owned(),
        began_ms: wait.began_ms,
        ended_ms: wait.ended_ms.unwrap_or(whole_ms),
    };
    waits.iter().map(line).collect()
}
