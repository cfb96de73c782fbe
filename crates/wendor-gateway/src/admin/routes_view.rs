//! Routes: what a name leads to, stage by stage, and who may use it.

use actix_web::{get, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::route::{Deadlines, Pick, Route, Stage};
use wendor_core::name::Name;

use super::principal::Principal;
use crate::app::App;

/// An offer of a stage, with its share.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StageOfferLine {
    /// `upstream/model`.
    pub offer: String,
    /// Its weight when picked by share.
    pub share: Option<u32>,
}

/// Offers that are tried before those of the next stage.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StageLine {
    /// In the order of the catalogue.
    pub offers: Vec<StageOfferLine>,
    /// `share`, `room`, `speed`, `cost` or `together`.
    pub pick: String,
    /// The failure kinds after which the next offer is tried.
    pub moves_on: Vec<String>,
    /// Deadlines in force, in milliseconds.
    pub connect_ms: u64,
    /// From sending the request to its first event.
    pub first_event_ms: u64,
    /// From sending the request to the head of a whole reply.
    pub reply_ms: u64,
    /// Between two events.
    pub between_events_ms: u64,
    /// For the whole request.
    pub whole_ms: u64,
    /// For room at an upstream that is full; 0: it is not waited.
    pub room_ms: u64,
    /// For a model that its server loads, before another offer is asked; 0: not at all; absent: when nothing else is left.
    pub loading_ms: Option<u64>,
    /// Whether the next offer is asked beside one that lets wait for its first token.
    pub hedged: bool,
}

/// What apps ask for, and where that leads.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteLine {
    /// The name that apps put in `model`.
    pub name: String,
    /// Its stages, in order.
    pub stages: Vec<StageLine>,
    /// The teams that may use it.
    pub teams: Vec<String>,
    /// Web pages that may ask it from a browser, beside those of the service.
    pub origins: Vec<String>,
    /// How often turns of a conversation came to the one offer that they are kept at; absent where no stage keeps them together.
    pub together: Option<TogetherLine>,
}

/// Answers of a route that keeps turns of a conversation together, since the service began.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TogetherLine {
    /// By the offer that the conversation is kept at.
    pub kept: u64,
    /// By another, while that one was ill, full or carried more than its part.
    pub elsewhere: u64,
}

/// The word of a way to pick.
#[must_use]
pub fn pick_word(pick: Pick) -> &'static str {
    match pick {
        Pick::Share => "share",
        Pick::Room => "room",
        Pick::Speed => "speed",
        Pick::Cost => "cost",
        Pick::Together => "together",
    }
}

/// Routes by name.
#[utoipa::path(tag = "routes", responses((status = 200, body = Vec<RouteLine>, description = "The routes that may be seen")))]
#[get("/routes")]
pub(super) async fn list(principal: Principal, app: web::Data<App>) -> web::Json<Vec<RouteLine>> {
    let snapshot = app.now_serving();
    let teams_of = |route: &Name| -> Vec<String> {
        let teams = snapshot.catalogue.teams.iter();
        let allowed = teams
            .filter(|(name, team)| team.access.allows(route.as_str()) && principal.standing.can_see(name.as_str()));
        allowed.map(|(name, _)| name.to_string()).collect()
    };
    let line = |(name, route): (&Name, &Route)| RouteLine {
        name: name.to_string(),
        stages: route.stages.iter().map(stage_line).collect(),
        teams: teams_of(name),
        origins: route.origins.iter().map(|origin| origin.as_str().to_owned()).collect(),
        together: route.stages.iter().any(|stage| stage.pick == Pick::Together).then(|| together_line(&app, name)),
    };
    let sees_all = principal.standing.only_team().is_none();
    let lines = snapshot.catalogue.routes.iter().map(line).filter(|line| sees_all || !line.teams.is_empty());
    web::Json(lines.collect())
}

fn together_line(app: &App, route: &Name) -> TogetherLine {
    let count = |kept: &str| app.metrics.together.with_label_values(&[route.as_str(), kept]).get();
    TogetherLine { kept: count("yes"), elsewhere: count("no") }
}

fn stage_line(stage: &Stage) -> StageLine {
    let deadlines: Deadlines = stage.deadlines.into();
    let millis = |time: std::time::Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
    let offers = stage.offers.iter().map(|entry| StageOfferLine { offer: entry.offer.to_string(), share: entry.share });
    StageLine {
        offers: offers.collect(),
        pick: pick_word(stage.pick).to_owned(),
        moves_on: stage.moves_on.iter().map(ToString::to_string).collect(),
        connect_ms: millis(deadlines.connect),
        first_event_ms: millis(deadlines.first_event),
        reply_ms: millis(deadlines.reply),
        between_events_ms: millis(deadlines.between_events),
        whole_ms: millis(deadlines.whole),
        room_ms: millis(deadlines.room),
        loading_ms: deadlines.loading.map(millis),
        hedged: stage.is_hedged,
    }
}
