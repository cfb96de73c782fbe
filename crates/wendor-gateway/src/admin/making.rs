//! Routes and teams made one at a time: what a first run needs, each a revision of its own.

use actix_web::{post, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::route::{Pick, Route, Stage, StageDeadlines, StageOffer};
use wendor_core::catalog::team::Team;
use wendor_core::name::{Name, OfferName};
use wendor_wire::failure::FailureKind;
use wendor_wire::nearest::nearest;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::revise::{Mode, revise};
use crate::admin::revise::CatalogueApplied;
use crate::app::App;

/// A route to be made, of one stage.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RouteAddition {
    /// The name that apps put in `model`.
    pub name: String,
    /// Its offers, as `upstream/model`; the one with most room is asked.
    pub offers: Vec<String>,
}

/// A team to be made. It may use every route and has no quotas; a catalogue file says more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TeamAddition {
    /// 1 to 64 of a-z, 0-9, `.`, `_` and `-`; not yet in the catalogue.
    pub name: String,
}

fn name_of(text: &str) -> Result<Name, Problem> {
    Name::parse(text).map_err(|error| Problem::BadValue { field: "name", message: error.to_string() })
}

/// Make a route.
#[utoipa::path(tag = "routes", request_body = RouteAddition, responses(
    (status = 200, body = CatalogueApplied, description = "Made"),
    (status = 404, body = ProblemDetails, description = "No such offer"),
    (status = 409, body = ProblemDetails, description = "The name is taken")))]
#[post("/routes")]
pub(super) async fn route(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<RouteAddition>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let RouteAddition { name, offers } = body.into_inner();
    let name = name_of(&name)?;
    if offers.is_empty() {
        return Err(Problem::BadValue { field: "offers", message: "a route leads to one offer or more".to_owned() });
    }
    let note = format!("route {name} made");
    let applied = revise(&app, &principal, &note, Mode::Apply, |catalogue, _| {
        if catalogue.routes.contains_key(name.as_str()) {
            return Err(Problem::Conflict(format!("there is a route `{name}` already; give this one another name")));
        }
        let known: Vec<String> = catalogue.offer_names().iter().map(ToString::to_string).collect();
        let entry = |text: &String| {
            let missing = || Problem::NoSuch {
                what: "offer",
                name: text.clone(),
                nearest: nearest(text, known.iter().map(String::as_str)).map(str::to_owned),
            };
            let offer = OfferName::parse(text)
                .map_err(|error| Problem::BadValue { field: "offers", message: error.to_string() })?;
            catalogue.offer(&offer).map(|_| StageOffer { offer, share: None }).ok_or_else(missing)
        };
        let offers = offers.iter().map(entry).collect::<Result<Vec<StageOffer>, Problem>>()?;
        let moves_on = FailureKind::usual_moves();
        let stage =
            Stage { offers, pick: Pick::Room, moves_on, deadlines: StageDeadlines::default(), is_hedged: false };
        catalogue.routes.insert(name, Route::of(vec![stage]));
        Ok(Vec::new())
    });
    Ok(web::Json(applied.await?))
}

/// Make a team.
#[utoipa::path(tag = "teams", request_body = TeamAddition, responses(
    (status = 200, body = CatalogueApplied, description = "Made"),
    (status = 409, body = ProblemDetails, description = "The name is taken")))]
#[post("/teams")]
pub(super) async fn team(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<TeamAddition>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let name = name_of(&body.name)?;
    let note = format!("team {name} made");
    let applied = revise(&app, &principal, &note, Mode::Apply, |catalogue, _| {
        if catalogue.teams.contains_key(name.as_str()) {
            Err(Problem::Conflict(format!("there is a team `{name}` already")))
        } else {
            catalogue.teams.insert(name, Team::default());
            Ok(Vec::new())
        }
    });
    Ok(web::Json(applied.await?))
}
