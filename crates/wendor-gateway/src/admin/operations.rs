//! How the service itself is doing: what waits in the spool, and what was refused of late.

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::recent::{RefusalKey, RefusalSeen};

/// The spool of the instance that answers.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SpoolLine {
    /// Entries that the database does not have yet.
    pub pending: u64,
    /// Bytes of its files.
    pub bytes: u64,
    /// Whether the disk takes more; when not, requests are refused.
    pub writable: bool,
    /// Whether the database answers.
    pub database_reachable: bool,
}

/// One refusal.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusalLine {
    /// When.
    pub at: DateTime<Utc>,
    /// Id of the request.
    pub request: String,
    /// Id of the key, if it could be read.
    pub key: Option<String>,
    /// The key's team, if it is one of ours.
    pub team: Option<String>,
    /// The route, if it got that far.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why, in a word.
    pub reason: String,
}

/// Refusals of one minute.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusalCount {
    /// The minute.
    pub minute: DateTime<Utc>,
    /// Id of the key.
    pub key: Option<String>,
    /// The key's team, if it is one of ours.
    pub team: Option<String>,
    /// The route.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why, in a word.
    pub reason: String,
    /// How many.
    pub count: u64,
}

/// Refusals of the instance that answers: they never reach the ledger.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Refusals {
    /// The latest, newest first.
    pub latest: Vec<RefusalLine>,
    /// Counts by the minute, of the last hour.
    pub counts: Vec<RefusalCount>,
}

/// The service as it stands.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceLine {
    /// Its version.
    pub version: String,
    /// The revision that requests are served by.
    pub revision: i64,
    /// Entries that the database does not have yet.
    pub pending: u64,
    /// Whether the database answers.
    pub database_reachable: bool,
    /// Code of the installation's currency.
    pub currency: String,
}

/// How the instance that answers is doing, in a few words.
#[utoipa::path(tag = "operations", responses((status = 200, body = ServiceLine, description = "The service")))]
#[get("/service")]
pub(super) async fn service(_principal: Principal, app: web::Data<App>) -> web::Json<ServiceLine> {
    let snapshot = app.now_serving();
    web::Json(ServiceLine {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        revision: snapshot.revision,
        pending: app.spool.pending(),
        database_reachable: app.store.ping().await.is_ok(),
        currency: snapshot.catalogue.currency.clone(),
    })
}

/// What waits in the spool.
#[utoipa::path(tag = "operations", responses((status = 200, body = SpoolLine, description = "The spool")))]
#[get("/spool")]
pub(super) async fn spool(principal: Principal, app: web::Data<App>) -> Result<web::Json<SpoolLine>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see the spool")?;
    let bytes = app.spool.bytes().map_err(|error| {
        tracing::error!(%error, "the spool's folder cannot be read");
        Problem::Internal
    })?;
    let database_reachable = app.store.ping().await.is_ok();
    Ok(web::Json(SpoolLine {
        pending: app.spool.pending(),
        bytes,
        writable: app.spool.is_writable(),
        database_reachable,
    }))
}

/// What was refused of late.
#[utoipa::path(tag = "operations", responses((status = 200, body = Refusals, description = "Refusals")))]
#[get("/refusals")]
pub(super) async fn refusals(principal: Principal, app: web::Data<App>) -> Result<web::Json<Refusals>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see refusals")?;
    let (latest, counts) = app.recent.refusals();
    let snapshot = app.now_serving();
    let team_of = |key: Option<&String>| {
        let id = key?;
        snapshot.keys.values().find(|key| key.id == *id).map(|key| key.team.to_string())
    };
    let line = |seen: RefusalSeen| RefusalLine {
        at: seen.at,
        request: seen.request.to_string(),
        team: team_of(seen.key.as_ref()),
        key: seen.key,
        route: seen.route,
        wanted: seen.wanted,
        reason: seen.reason.to_owned(),
    };
    let count = |(key, count): (RefusalKey, u64)| RefusalCount {
        minute: key.minute,
        team: team_of(key.key.as_ref()),
        key: key.key,
        route: key.route,
        wanted: key.wanted,
        reason: key.reason.to_owned(),
        count,
    };
    let (latest, counts) = (latest.into_iter().map(line).collect(), counts.into_iter().map(count).collect());
    Ok(web::Json(Refusals { latest, counts }))
}
