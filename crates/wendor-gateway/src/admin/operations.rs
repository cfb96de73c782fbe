//! How the service itself is doing: what waits in the spool, and what was refused of late.

use actix_web::{get, post, web};
use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_store::partitions::{Partition, Partitioned};

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::recent::{RefusalKey, RefusalSeen};
use crate::settings::Keep;
use crate::spool::aside::Thing;

/// Things set aside that are told one by one.
const ASIDE_SHOWN: usize = 20;

/// Something that was set aside.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AsideLine {
    /// Its file in the folder `aside` of the spool.
    pub name: String,
    /// Why it could not be taken over into the ledger.
    pub why: String,
    /// Size in the spool.
    pub bytes: u64,
    /// The request, where it is an entry that can be read.
    pub request: Option<String>,
    /// Whose request it was, where that can be read.
    pub team: Option<String>,
    /// When the request arrived.
    pub at: Option<DateTime<Utc>>,
}

/// What came of another try.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SpoolRetried {
    /// Entries that are in the ledger now.
    pub recorded: u64,
    /// Things that are still set aside.
    pub set_aside: u64,
    /// The first of these, with the reasons of this try.
    pub aside: Vec<AsideLine>,
}

/// The spool of the instance that answers.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SpoolLine {
    /// Entries that the database does not have yet.
    pub pending: u64,
    /// Bytes of its files.
    pub bytes: u64,
    /// Whether the disk takes more; when not, requests are refused.
    pub writable: bool,
    /// Bytes free on its disk, where the system tells.
    pub free_bytes: Option<u64>,
    /// While less than this is free, requests are refused.
    pub keep_free_bytes: u64,
    /// Entries that the database refuses and parts that cannot be read: they are not in the ledger.
    pub set_aside: u64,
    /// The first of these.
    pub aside: Vec<AsideLine>,
    /// Whether the database answers.
    pub database_reachable: bool,
}

/// A request that was refused before it became one of the ledger.
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
    /// The member of the request that it is about, if it is about one.
    pub param: Option<String>,
}

/// Refusals of one minute.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusalCount {
    /// RFC 3339, UTC; its start.
    pub minute: DateTime<Utc>,
    /// Id of the key.
    pub key: Option<String>,
    /// The key's team, if it is one of ours.
    pub team: Option<String>,
    /// Where the request was read that far and the route exists.
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
    /// Of the running binary.
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
    let bytes = app.spool.bytes().map_err(unreadable)?;
    let aside = app.spool.aside().list(ASIDE_SHOWN).map_err(unreadable)?;
    let database_reachable = app.store.ping().await.is_ok();
    Ok(web::Json(SpoolLine {
        pending: app.spool.pending(),
        bytes,
        writable: app.spool.is_writable(),
        free_bytes: app.spool.free_bytes(),
        keep_free_bytes: app.settings.spool_options.keep_free_bytes,
        set_aside: app.spool.aside().count(),
        aside: aside.iter().map(aside_line).collect(),
        database_reachable,
    }))
}

/// Try again to record what was set aside.
#[utoipa::path(tag = "operations", responses((status = 200, body = SpoolRetried, description = "What came of it")))]
#[post("/spool/retry")]
pub(super) async fn retry_spool(principal: Principal, app: web::Data<App>) -> Result<web::Json<SpoolRetried>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "try the spool again")?;
    let aside = app.spool.aside();
    let (mut recorded, mut left) = (0, Vec::new());
    for mut thing in aside.list(usize::MAX).map_err(unreadable)? {
        let Some(entry) = &thing.entry else {
            left.push(thing);
            continue;
        };
        match app.store.drain(std::slice::from_ref(entry), None).await {
            Ok(_new) => {
                aside.done(&thing).map_err(unreadable)?;
                recorded += 1;
            }
            Err(error) if !error.is_about_values() => return Err(error.into()),
            Err(error) => {
                thing.why = error.to_string();
                left.push(thing);
            }
        }
    }
    let set_aside = app.spool.aside().count();
    let after = json!({ "recorded": recorded, "set_aside": set_aside });
    let deed = Deed::of(Action::SpoolRetried, "spool").after(after);
    app.store.audit(&principal.doing(&app), &deed).await?;
    let aside = left.iter().take(ASIDE_SHOWN).map(aside_line).collect();
    Ok(web::Json(SpoolRetried { recorded, set_aside, aside }))
}

fn unreadable(error: std::io::Error) -> Problem {
    tracing::error!(%error, "the spool's folder cannot be read");
    Problem::Internal
}

fn aside_line(thing: &Thing) -> AsideLine {
    let entry = thing.entry.as_ref().map(|settled| &settled.entry);
    AsideLine {
        name: thing.name.clone(),
        why: thing.why.clone(),
        bytes: thing.bytes,
        request: entry.map(|entry| entry.request.to_string()),
        team: entry.map(|entry| entry.team.to_string()),
        at: entry.map(|entry| entry.at),
    }
}

/// One partition of what happened.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PartitionLine {
    /// The table: `ledger`, `request_detail` or `usage_hour`.
    pub table: String,
    /// In the database.
    pub name: String,
    /// First day of its month; absent for the one that takes what has no other.
    pub month: Option<NaiveDate>,
    /// Bytes on disk, indexes included.
    pub bytes: u64,
    /// Lines, as the database estimates them.
    pub lines: Option<u64>,
}

/// How long a table is kept.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct KeptLine {
    /// In the database.
    pub table: String,
    /// The setting that says so.
    pub setting: String,
    /// For how many days; without expiry when absent.
    pub days: Option<u64>,
}

/// The ledger's tables.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Partitions {
    /// By table and month.
    pub partitions: Vec<PartitionLine>,
    /// How long each table is kept.
    pub kept: Vec<KeptLine>,
}

/// The partitions of ledger, details and roll-ups, and how long each is kept.
#[utoipa::path(tag = "operations", responses((status = 200, body = Partitions, description = "The partitions")))]
#[get("/ledger/partitions")]
pub(super) async fn partitions(principal: Principal, app: web::Data<App>) -> Result<web::Json<Partitions>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see the ledger's partitions")?;
    let line = |partition: Partition| PartitionLine {
        table: partition.of.table().to_owned(),
        name: partition.name,
        month: partition.month.map(|month| month.date_naive()),
        bytes: partition.bytes,
        lines: partition.lines,
    };
    let partitions = app.store.partitions().await?.into_iter().map(line).collect();
    let kept = |table: Partitioned| KeptLine {
        table: table.table().to_owned(),
        setting: crate::settings::setting_of(table).to_owned(),
        days: match app.settings.keeps(table) {
            Keep::Forever => None,
            Keep::For(time) => Some(time.as_secs() / 86_400),
        },
    };
    Ok(web::Json(Partitions { partitions, kept: Partitioned::ALL.map(kept).into() }))
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
        snapshot.keys.by_id(id).map(|key| key.team.to_string())
    };
    let line = |seen: RefusalSeen| RefusalLine {
        at: seen.at,
        request: seen.request.to_string(),
        team: team_of(seen.key.as_ref()),
        key: seen.key,
        route: seen.route,
        wanted: seen.wanted,
        reason: seen.reason.to_string(),
        param: seen.param,
    };
    let count = |(key, count): (RefusalKey, u64)| RefusalCount {
        minute: key.minute,
        team: team_of(key.key.as_ref()),
        key: key.key,
        route: key.route,
        wanted: key.wanted,
        reason: key.reason.to_string(),
        count,
    };
    let (latest, counts) = (latest.into_iter().map(line).collect(), counts.into_iter().map(count).collect());
    Ok(web::Json(Refusals { latest, counts }))
}
