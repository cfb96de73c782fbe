//! Looks over everything that may need attention, and hands what it finds to the core, which says it in words.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::key::AppKey;
use wendor_core::diagnosis::inventory;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::QuotaId;
use wendor_core::quota::window::Window;
use wendor_core::routing::health::{Asking, Health, HealthState};
use wendor_core::watch::attention::{self, Failing, Finding, Notice, Place};
use wendor_core::watch::nearing::{EXPIRES_SOON, Expires, NearLimit, is_near};
use wendor_core::watch::{expected, reached};
use wendor_store::StoreError;
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery};
use wendor_wire::nearest::nearest;
use wendor_wire::refusal_code::RefusalCode;

use super::history::History;
use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::credentials::Credential;
use crate::recent::RefusalKey;
use crate::snapshot::Snapshot;

/// Over which time a first token's usual wait is looked up.
const USUAL_DAYS: i64 = 7;

/// Where a finding leads.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PlaceLine {
    /// `upstream`, `team`, `refusals`, `revisions` or `service`.
    pub kind: String,
    /// The name of the upstream or team.
    pub name: Option<String>,
}

/// Something that needs attention.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeLine {
    /// `failing`, `degraded`, `near limit`, `over limit` or `refused`.
    pub state: String,
    /// What it is about.
    pub subject: String,
    /// What is the matter: goes on after the subject.
    pub says: String,
    /// What else is known of it.
    pub why: String,
    /// What to do, as a verb.
    pub verb: String,
    /// Where its cause stands.
    pub leads_to: PlaceLine,
}

/// Whose eyes it is looked with: a person's, or those that see everything.
#[derive(Clone, Copy)]
struct Eyes<'p>(Option<&'p Principal>);

impl Eyes<'_> {
    fn can_see(self, team: &str) -> bool {
        self.0.is_none_or(|principal| principal.standing.can_see(team))
    }

    fn see_all(self) -> bool {
        self.0.is_none_or(|principal| principal.standing.only_team().is_none())
    }
}

/// What needs attention who may see what `principal` may see.
pub(super) async fn of(
    app: &App,
    principal: &Principal,
    history: &History,
    now: DateTime<Utc>,
) -> Result<Vec<NoticeLine>, Problem> {
    let findings = found(app, Eyes(Some(principal)), history, now).await?;
    let notices = attention::notices(findings, now, &app.now_serving().catalogue.currency);
    Ok(notices.into_iter().map(notice_line).collect())
}

/// Everything that needs attention.
///
/// # Errors
/// When the database is away.
pub(crate) async fn all(app: &App, now: DateTime<Utc>) -> Result<Vec<Finding>, StoreError> {
    let history = History::read(app, now).await?;
    found(app, Eyes(None), &history, now).await
}

/// What the spool tells of itself.
pub(crate) fn of_spool(app: &App, is_reachable: bool) -> Vec<Finding> {
    let (pending, is_writable) = (app.spool.pending(), app.spool.is_writable());
    let grows = attention::has_grown(pending, is_reachable, is_writable);
    let grows = grows.then_some(Finding::SpoolGrows { pending, is_reachable, is_writable });
    let count = app.spool.aside().count();
    let aside = (count > 0).then_some(Finding::SetAside { count });
    grows.into_iter().chain(aside).collect()
}

async fn found(app: &App, eyes: Eyes<'_>, history: &History, now: DateTime<Utc>) -> Result<Vec<Finding>, StoreError> {
    let snapshot = app.now_serving();
    let mut findings = near_limits(app, &snapshot, eyes, history, now);
    findings.extend(refused(app, &snapshot, eyes));
    findings.extend(expiring(&snapshot, eyes, now));
    if eyes.see_all() {
        findings.extend(upstreams(app, &snapshot, now).await?);
        // Whoever reads this has just been answered by the database.
        findings.extend(of_spool(app, true));
        findings.extend(undone(&snapshot, now));
        let is_fault = |(key, _): &(RefusalKey, u64)| key.reason == RefusalCode::InternalFault;
        let faults = app.recent.refusals().1.into_iter().filter(is_fault).map(|(_, count)| count).sum();
        if faults > 0 {
            findings.push(Finding::Faults { count: faults });
        }
    }
    Ok(findings)
}

/// For how long it is told that a revision undid itself, unless another change follows.
const UNDONE_TOLD: TimeDelta = TimeDelta::hours(24);

/// A revision that undid itself a short while ago.
fn undone(snapshot: &Snapshot, now: DateTime<Utc>) -> Option<Finding> {
    let (revision, why) = snapshot.undid.clone()?;
    let (by, at) = (snapshot.revision, snapshot.made_at);
    (now - at < UNDONE_TOLD).then_some(Finding::Undone { revision, by, why, at })
}

/// Keys in use that expire soon.
fn expiring(snapshot: &Snapshot, eyes: Eyes<'_>, now: DateTime<Utc>) -> Vec<Finding> {
    let expires = |key: &AppKey| {
        let at = key.expires_at.filter(|at| (now..now + EXPIRES_SOON).contains(at) && key.revoked_at.is_none())?;
        let expires = Expires { key: key.id.clone(), label: key.label.clone(), team: key.team.to_string(), at };
        eyes.can_see(key.team.as_str()).then_some(Finding::Expires(expires))
    };
    snapshot.keys.values().filter_map(|key| expires(key)).collect()
}

fn notice_line(notice: Notice) -> NoticeLine {
    let place = |kind: &str, name: Option<String>| PlaceLine { kind: kind.to_owned(), name };
    NoticeLine {
        state: notice.state.to_owned(),
        subject: notice.subject,
        says: notice.says,
        why: notice.why,
        verb: notice.verb.to_owned(),
        leads_to: match notice.leads_to {
            Place::Upstream(name) => place("upstream", Some(name)),
            Place::Team(name) => place("team", Some(name)),
            Place::Refusals => place("refusals", None),
            Place::Revisions => place("revisions", None),
            Place::Service => place("service", None),
        },
    }
}

/// Quotas of days and months; those of minutes and hours come and go faster than anyone looks.
fn near_limits(app: &App, snapshot: &Snapshot, eyes: Eyes<'_>, history: &History, now: DateTime<Utc>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (name, team) in snapshot.catalogue.teams.iter().filter(|(name, _)| eyes.can_see(name.as_str())) {
        for quota in team.quotas.iter().filter(|quota| matches!(quota.window, Window::Day | Window::Month)) {
            let id = QuotaId::of_team(team.counted_as(name), quota);
            let view = app.allowances.view(&id, quota, now);
            let daily = history.daily(name.as_str(), quota.measure);
            let pace = expected::pace(view.used, quota.limit, now, view.span.end, &daily, history.since);
            let reached_at = pace.and_then(|pace| pace.reached_at);
            if is_near(view.used, quota.limit, reached_at) {
                findings.push(Finding::NearLimit(NearLimit {
                    team: name.to_string(),
                    quota: id,
                    measure: quota.measure,
                    window: quota.window,
                    at_limit: quota.at_limit,
                    used: view.used,
                    limit: quota.limit,
                    resets_at: view.span.end,
                    reached_at,
                }));
            }
        }
    }
    findings
}

/// What was refused in the last hour for want of a route or of room in a quota.
fn refused(app: &App, snapshot: &Snapshot, eyes: Eyes<'_>) -> Vec<Finding> {
    let team_of = |key: Option<&String>| {
        let key = key.and_then(|id| snapshot.keys.by_id(id));
        key.map(|key| key.team.to_string()).filter(|team| eyes.can_see(team))
    };
    let mut over_quota: BTreeMap<String, u64> = BTreeMap::new();
    let mut no_route: BTreeMap<String, (u64, BTreeSet<String>)> = BTreeMap::new();
    for (key, count) in app.recent.refusals().1 {
        let Some(team) = team_of(key.key.as_ref()) else { continue };
        match (key.reason, key.wanted) {
            (RefusalCode::OverQuota, _) => *over_quota.entry(team).or_default() += count,
            (RefusalCode::RouteNotFound, Some(wanted)) => {
                let (times, teams) = no_route.entry(wanted).or_default();
                *times += count;
                teams.insert(team);
            }
            _ => {}
        }
    }
    let routes = || snapshot.catalogue.routes.keys().map(Name::as_str);
    let over_quota = over_quota.into_iter().map(|(team, count)| Finding::OverQuota { team, count });
    let no_route = no_route.into_iter().map(|(wanted, (count, teams))| Finding::NoRoute {
        nearest: nearest(&wanted, routes()).map(str::to_owned),
        wanted,
        count,
        teams: teams.into_iter().collect(),
    });
    over_quota.chain(no_route).collect()
}

async fn upstreams(app: &App, snapshot: &Snapshot, now: DateTime<Utc>) -> Result<Vec<Finding>, StoreError> {
    let until = Window::Hour.around(now).start;
    let filter = UsageFilter { former: snapshot.former.clone(), ..UsageFilter::default() };
    let query = UsageQuery::of(until - TimeDelta::days(USUAL_DAYS), until, Dimension::Upstream, filter);
    let usual = app.usage(&query).await?;
    let mut findings = Vec::new();
    let seen = |name: &Name| Some((name.clone(), app.fleet.upstream(name).inventory()?.as_ref().clone()));
    let inventories = snapshot.catalogue.upstreams.keys().filter_map(seen).collect();
    findings.extend(inventory::warnings(&snapshot.catalogue, &inventories).into_iter().map(Finding::Weights));
    for name in snapshot.catalogue.upstreams.keys() {
        if let Credential::Missing(why) = snapshot.credential(name) {
            findings.push(Finding::NoCredential { upstream: name.to_string(), why: why.clone() });
            continue;
        }
        findings.extend(failing(app, snapshot, name, now));
        let state = app.fleet.upstream(name);
        let usual_ms = usual.get(name.as_str()).and_then(|sums| sums.first_token.quantile_ms(500));
        let models = snapshot.catalogue.upstreams.get(name).into_iter().flat_map(|upstream| upstream.offers.keys());
        let waits = models.filter_map(|model| state.offer(model).waits_ms().usual);
        if let (Some(wait_ms), Some(usual_ms)) = (waits.max(), usual_ms)
            && attention::has_slowed(wait_ms, usual_ms)
        {
            findings.push(Finding::Slowed { upstream: name.to_string(), wait_ms, usual_ms });
        }
    }
    Ok(findings)
}

/// An upstream that cannot be reached, or its offers that rest, with what that reaches.
fn failing(app: &App, snapshot: &Snapshot, name: &Name, now: DateTime<Utc>) -> Vec<Finding> {
    let state = app.fleet.upstream(name);
    let failing_of = |model: Option<&str>, health: &Health| {
        let is_bad = matches!(health.state(), HealthState::Failing | HealthState::OnTrial);
        let last = health.last_failure().filter(|_| is_bad)?;
        let is_it = |offer: &OfferName| offer.upstream() == name && model.is_none_or(|model| offer.model() == model);
        let works = |offer: &OfferName| matches!(app.fleet.asking(offer, now), Asking::Freely);
        let reached = reached::routes(&snapshot.catalogue, is_it, works, |route| app.fleet.outcomes(route, now));
        Some(Finding::Failing(Failing {
            upstream: name.to_string(),
            model: model.map(str::to_owned),
            since: health.since(),
            next_trial: health.next_trial(),
            last: format!("{}, {}", last.failure.kind, last.failure.detail),
            reached,
        }))
    };
    let connections = state.connections();
    if let Some(finding) = failing_of(None, &connections) {
        return vec![finding];
    }
    let models = snapshot.catalogue.upstreams.get(name).into_iter().flat_map(|upstream| upstream.offers.keys());
    models.filter_map(|model| failing_of(Some(model), &state.offer(model).health())).collect()
}
