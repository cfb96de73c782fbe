//! Routes: what a name leads to, stage by stage, and who may use it.

use actix_web::{get, web};
use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::route::{Deadlines, Pick, Route, Stage};
use wendor_core::name::Name;
use wendor_store::past::Caller;

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
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
    /// What it is for.
    pub purpose: Option<String>,
    /// Whom to ask about it.
    pub owner: Option<String>,
    /// From this day on, UTC, it takes no requests.
    pub retires_on: Option<NaiveDate>,
    /// The route to use instead once it has retired.
    pub successor: Option<String>,
    /// Names that it had, the oldest first.
    pub former: Vec<FormerLine>,
    /// How often turns of a conversation came to the one offer that they are kept at; absent where no stage keeps them together.
    pub together: Option<TogetherLine>,
}

/// A name that a route had.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FormerLine {
    /// The name.
    pub name: String,
    /// From this day on, UTC, requests for it are refused; served without end when absent.
    pub until: Option<NaiveDate>,
}

/// Who still asks for a route, and under which name.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CallerLine {
    /// Who pays.
    pub team: String,
    /// Id of the key.
    pub key: String,
    /// What the key is for; nothing where it is not known any more.
    pub label: Option<String>,
    /// The name that it asked for.
    pub asked_as: String,
    /// Requests of the last 30 days.
    pub requests: u64,
    /// The latest.
    pub last_at: DateTime<Utc>,
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
        purpose: route.purpose.clone(),
        owner: route.owner.clone(),
        retires_on: route.retires_on,
        successor: route.successor.as_ref().map(ToString::to_string),
        former: route
            .former
            .iter()
            .map(|former| FormerLine { name: former.name.to_string(), until: former.until })
            .collect(),
        together: route.stages.iter().any(|stage| stage.pick == Pick::Together).then(|| together_line(&app, name)),
    };
    let sees_all = principal.standing.only_team().is_none();
    let lines = snapshot.catalogue.routes.iter().map(line).filter(|line| sees_all || !line.teams.is_empty());
    web::Json(lines.collect())
}

/// Days of which callers are told.
const CALLER_DAYS: i64 = 30;

/// Who asked for a route in the last 30 days, by key and by the name that was asked for, the latest first.
#[utoipa::path(tag = "routes", params(("name" = String, Path, description = "Name of the route")), responses(
    (status = 200, body = Vec<CallerLine>, description = "The callers"),
    (status = 404, body = ProblemDetails, description = "No such route")))]
#[get("/routes/{name}/callers")]
pub(super) async fn callers(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<web::Json<Vec<CallerLine>>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see who asks for a route")?;
    let snapshot = app.now_serving();
    let route = named::route(&snapshot, &name)?;
    let since = app.clock.now() - TimeDelta::days(CALLER_DAYS);
    let callers = app.store.callers(&snapshot.former.routes_of(&route), since).await?;
    let label = |id: &str| snapshot.keys.by_id(id).map(|key| key.label.clone());
    let line = |caller: Caller| CallerLine {
        team: snapshot.former.team(&caller.team).to_owned(),
        label: label(&caller.key),
        key: caller.key,
        asked_as: caller.asked_as.unwrap_or(caller.route),
        requests: u64::try_from(caller.requests).unwrap_or(0),
        last_at: caller.last_at,
    };
    Ok(web::Json(callers.into_iter().map(line).collect()))
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
