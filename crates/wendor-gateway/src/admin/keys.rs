//! Keys of apps: issued with a label, an expiry and routes; listed; revoked. Their text is shown once.

use std::collections::BTreeSet;

use actix_web::{get, post, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wendor_core::catalog::key::{AppKey, KeyKind, KeyState, KeyText, id_in};
use wendor_core::catalog::team::Access;
use wendor_core::name::Name;
use wendor_core::routing::queue::Lane;
use wendor_store::keys::StoredKey;
use wendor_wire::nearest::nearest;

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails, plain};
use crate::app::App;
use crate::snapshot::{Snapshot, named_as_now};
use crate::tasks::revision_watch;

/// Longest label of a key.
const LABEL_LENGTH: usize = 100;

/// Narrows a list of keys.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct KeyFilter {
    /// Name of a team.
    pub team: Option<String>,
}

/// A key without its secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct KeyLine {
    /// The part that may be shown.
    pub id: String,
    /// Whose it is.
    pub team: String,
    /// What it is for.
    pub label: String,
    /// The routes it may use; every route of its team when absent.
    pub routes: Option<Vec<String>>,
    /// The lane of what it asks: `batch`, or `interactive` unless a request says otherwise.
    pub lane: String,
    /// `good`, `revoked` or `expired`.
    pub state: String,
    /// RFC 3339, UTC.
    pub issued_at: DateTime<Utc>,
    /// By whom.
    pub issued_by: String,
    /// Until when it works.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since when it is revoked.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// A key to be issued.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewKey {
    /// Team that its requests are counted for.
    pub team: String,
    /// What it is for.
    pub label: String,
    /// The routes it may use; every route of its team when absent.
    pub routes: Option<Vec<String>>,
    /// Until when it works; without expiry when absent.
    pub expires_at: Option<DateTime<Utc>>,
    /// `batch`: all that it asks waits behind what somebody waits for; `interactive` when absent.
    #[serde(default)]
    pub lane: Option<String>,
}

/// A key, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct IssuedKey {
    /// The part that may be shown again.
    pub id: String,
    /// The key itself.
    pub key: String,
    /// Whose it is.
    pub team: String,
    /// Until when it works.
    pub expires_at: Option<DateTime<Utc>>,
}

/// Requests with it are refused from now on.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RevokedKey {
    /// Which.
    pub id: String,
    /// When.
    pub revoked_at: DateTime<Utc>,
}

/// Keys, by team and then newest first.
#[utoipa::path(tag = "keys", params(KeyFilter), responses((status = 200, body = Vec<KeyLine>, description = "The keys")))]
#[get("/keys")]
pub(super) async fn list(
    principal: Principal,
    app: web::Data<App>,
    filter: web::Query<KeyFilter>,
) -> Result<web::Json<Vec<KeyLine>>, Problem> {
    let asked = filter.into_inner().team.map(|team| named::team(&principal, &app.now_serving(), &team)).transpose()?;
    let team = principal.narrow(asked)?;
    let now = app.clock.now();
    let snapshot = app.now_serving();
    let named = |stored: StoredKey| StoredKey { key: named_as_now(stored.key, &snapshot.catalogue), ..stored };
    let keys = app.store.keys().await?.into_iter().map(named);
    let wanted = keys.filter(|stored| team.as_ref().is_none_or(|team| *team == stored.key.team));
    let line = |stored: StoredKey| KeyLine {
        state: match stored.key.state(now) {
            KeyState::Good => "good",
            KeyState::Revoked(_) => "revoked",
            KeyState::Expired(_) => "expired",
        }
        .to_owned(),
        id: stored.key.id,
        team: stored.key.team.to_string(),
        label: stored.key.label,
        lane: stored.key.lane.as_str().to_owned(),
        routes: match stored.key.access {
            Access::AllRoutes => None,
            Access::Only(routes) => Some(routes.into_iter().map(String::from).collect()),
        },
        issued_at: stored.issued_at,
        issued_by: stored.issued_by,
        expires_at: stored.key.expires_at,
        revoked_at: stored.key.revoked_at,
    };
    Ok(web::Json(wanted.map(line).collect()))
}

fn lane_of(text: &str) -> Result<Lane, Problem> {
    let message = || format!("`{}` is not a lane: write `interactive` or `batch`", text.escape_debug());
    Lane::parse(text).ok_or_else(|| Problem::BadValue { field: "lane", message: message() })
}

/// Issue a key.
#[utoipa::path(tag = "keys", request_body = NewKey, responses(
    (status = 200, body = IssuedKey, description = "The key, this once"),
    (status = 404, body = ProblemDetails, description = "No such team")))]
#[post("/keys")]
pub(super) async fn issue(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<NewKey>,
) -> Result<web::Json<IssuedKey>, Problem> {
    let new = body.into_inner();
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    let team = named::team(&principal, &snapshot, &new.team)?;
    principal.must(principal.standing.can_manage_keys(team.as_str()), &format!("issue keys of team {team}"))?;
    of_others(&app, &principal, &team)?;
    let access = check(&principal, &snapshot, &team, &new, now)?;
    let (secret, text) = KeyText::mint(KeyKind::App, &rand::random());
    let lane = new.lane.as_deref().map_or(Ok(Lane::default()), lane_of)?;
    let NewKey { label, expires_at, .. } = new;
    let key = AppKey { id: text.id.to_string(), team, label, access, lane, expires_at, revoked_at: None };
    app.store.add_key(&text, &key, &principal.doing(&app)).await?;
    // It works at once at this instance, at others within a second.
    revision_watch::look(&app).await?;
    let (id, team) = (key.id, key.team.to_string());
    Ok(web::Json(IssuedKey { id, key: secret.expose().to_owned(), team, expires_at }))
}

/// Revoke a key. It is refused everywhere within a second.
#[utoipa::path(tag = "keys", params(("id" = String, Path, description = "Its id")), responses(
    (status = 200, body = RevokedKey, description = "Revoked, now or before"),
    (status = 404, body = ProblemDetails, description = "No such key")))]
#[post("/keys/{id}/revoke")]
pub(super) async fn revoke(
    principal: Principal,
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<web::Json<RevokedKey>, Problem> {
    let id = id_in(&id).to_owned();
    // Of other teams' keys whoever sees one team alone learns nothing, not even that they are there.
    let snapshot = app.now_serving();
    let named = |stored: StoredKey| StoredKey { key: named_as_now(stored.key, &snapshot.catalogue), ..stored };
    let sees = |stored: &StoredKey| principal.standing.can_see(stored.key.team.as_str());
    let keys: Vec<StoredKey> = app.store.keys().await?.into_iter().map(named).filter(sees).collect();
    let ids = keys.iter().map(|stored| stored.key.id.as_str());
    let missing = || Problem::NoSuch { what: "key", name: id.clone(), nearest: nearest(&id, ids).map(str::to_owned) };
    let team = keys.iter().find(|stored| stored.key.id == id).map(|stored| &stored.key.team).ok_or_else(missing)?;
    principal.must(principal.standing.can_manage_keys(team.as_str()), &format!("revoke keys of team {team}"))?;
    of_others(&app, &principal, team)?;
    let revoked_at = app.store.revoke_key(&id, &principal.doing(&app)).await?;
    revision_watch::look(&app).await?;
    Ok(web::Json(RevokedKey { id, revoked_at }))
}

/// Keys of a team that is not one's own are touched shortly after signing in alone.
fn of_others(app: &App, principal: &Principal, team: &Name) -> Result<(), Problem> {
    if principal.standing.only_team() == Some(team) {
        return Ok(());
    }
    principal.must_be_confirmed(app, &format!("touch keys of team {team}"))
}

fn check(
    principal: &Principal,
    snapshot: &Snapshot,
    team: &Name,
    new: &NewKey,
    now: DateTime<Utc>,
) -> Result<Access, Problem> {
    let bad = |field, message: &str| Problem::BadValue { field, message: message.to_owned() };
    plain("label", Some(&new.label))?;
    if new.label.trim().is_empty() || new.label.chars().count() > LABEL_LENGTH {
        return Err(bad("label", "say what the key is for, in 1 to 100 characters"));
    }
    if new.expires_at.is_some_and(|at| at <= now) {
        return Err(bad("expires_at", "lies in the past: the key would never work"));
    }
    let Some(routes) = &new.routes else { return Ok(Access::AllRoutes) };
    if routes.is_empty() {
        return Err(bad(
            "routes",
            "a key without any route would never work: name one, or leave it out for all of the team's",
        ));
    }
    let known = routes
        .iter()
        .map(|route| named::route_of(principal, team, snapshot, route))
        .collect::<Result<BTreeSet<Name>, _>>()?;
    Ok(Access::Only(known))
}
