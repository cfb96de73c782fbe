//! Teams: what they may use, and how far each of their quotas is used.

use std::collections::HashMap;

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::key::KeyState;
use wendor_core::catalog::team::{Access, Team};
use wendor_core::name::Name;
use wendor_core::quota::window::Window;
use wendor_core::quota::{AtLimit, Quota, QuotaId};
use wendor_core::watch::expected;

use super::history::History;
use super::principal::Principal;
use crate::app::App;

/// One quota as it stands.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct QuotaLine {
    /// Its id, `team/measure/window`.
    pub id: String,
    /// `requests`, `input-tokens`, `output-tokens`, `tokens` or `cost`.
    pub measure: String,
    /// `minute`, `hour`, `day` or `month`.
    pub window: String,
    /// Decimal number in the quota's measure.
    pub limit: String,
    /// `refuse` or `warn`.
    pub at_limit: String,
    /// Used in this window.
    pub used: String,
    /// Held by requests under way.
    pub reserved: String,
    /// What will be used by its end if it goes on as in the weeks before; for days and months, once there is a week to go by.
    pub expected: Option<String>,
    /// When the window ends.
    pub resets_at: DateTime<Utc>,
}

/// Who is counted and limited together.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamLine {
    /// In the catalogue.
    pub name: String,
    /// The routes that its keys may use; all of them when absent.
    pub routes: Option<Vec<String>>,
    /// Keys that work.
    pub keys: usize,
    /// With what is used of each.
    pub quotas: Vec<QuotaLine>,
    /// How many of its requests may be under way at once, and are; where it is limited.
    pub streams: Option<StreamsLine>,
    /// How many may be of each of its keys, where it is limited.
    pub streams_of_key: Option<u32>,
}

/// Requests under way at once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StreamsLine {
    /// As many may be.
    pub limit: u32,
    /// As many are, at this instance.
    pub open: u32,
}

/// Teams by name.
#[utoipa::path(tag = "teams", responses((status = 200, body = Vec<TeamLine>, description = "The teams that may be seen")))]
#[get("/teams")]
pub(super) async fn list(principal: Principal, app: web::Data<App>) -> web::Json<Vec<TeamLine>> {
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    // What is configured and used is in memory: without the database only what is expected is missing.
    let history = History::read(&app, now).await.ok();
    let mut good: HashMap<&Name, usize> = HashMap::new();
    for key in snapshot.keys.values().filter(|key| key.state(now) == KeyState::Good) {
        *good.entry(&key.team).or_default() += 1;
    }
    let visible = snapshot.catalogue.teams.iter().filter(|(name, _)| principal.standing.can_see(name.as_str()));
    let line = |(name, team): (&Name, &Team)| TeamLine {
        name: name.to_string(),
        routes: match &team.access {
            Access::AllRoutes => None,
            Access::Only(routes) => Some(routes.iter().map(ToString::to_string).collect()),
        },
        keys: good.get(name).copied().unwrap_or(0),
        streams: team
            .streams
            .of_team
            .map(|limit| StreamsLine { limit: limit.get(), open: app.crowd.under_way.count_of(name) }),
        streams_of_key: team.streams.of_key.map(std::num::NonZeroU32::get),
        quotas: team.quotas.iter().map(|quota| quota_line(&app, name, team, quota, history.as_ref(), now)).collect(),
    };
    web::Json(visible.map(line).collect())
}

/// A quota as it stands at `now`.
pub(super) fn quota_line(
    app: &App,
    name: &Name,
    team: &Team,
    quota: &Quota,
    history: Option<&History>,
    now: DateTime<Utc>,
) -> QuotaLine {
    let id = QuotaId::of_team(team.counted_as(name), quota);
    let view = app.allowances.view(&id, quota, now);
    let expected = history.filter(|_| matches!(quota.window, Window::Day | Window::Month)).and_then(|history| {
        let daily = history.daily(name.as_str(), quota.measure);
        expected::pace(view.used, quota.limit, now, view.span.end, &daily, history.since)
    });
    QuotaLine {
        id: id.to_string(),
        measure: quota.measure.as_str().to_owned(),
        window: quota.window.as_str().to_owned(),
        limit: quota.limit.normalize().to_string(),
        at_limit: match quota.at_limit {
            AtLimit::Refuse => "refuse",
            AtLimit::Warn => "warn",
        }
        .to_owned(),
        used: view.used.normalize().to_string(),
        reserved: view.reserved.normalize().to_string(),
        expected: expected.map(|pace| pace.by_end.round_dp(6).normalize().to_string()),
        resets_at: view.span.end,
    }
}
