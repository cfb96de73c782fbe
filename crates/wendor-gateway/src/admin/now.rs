//! The overview of now: what needs attention, and yesterday by team beside what was expected of it.

use std::collections::BTreeMap;

use actix_web::{get, web};
use chrono::{DateTime, Days, NaiveDate, NaiveTime, TimeDelta, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::rollup::RollUp;
use wendor_core::quota::window::Window;
use wendor_core::quota::{Measure, Quota};
use wendor_core::watch::expected::{self, Expected};
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery};

use super::findings::{self, NoticeLine};
use super::history::History;
use super::principal::Principal;
use super::problem::Problem;
use super::teams::{QuotaLine, quota_line};
use super::usage::{Figures, base_query};
use crate::app::App;

/// A range of money.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CostRange {
    /// The least.
    pub low: String,
    /// The most.
    pub high: String,
}

/// What a team spent on one day.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DayCost {
    /// The day, UTC.
    pub day: NaiveDate,
    /// Decimal number in the catalogue's currency.
    pub cost: String,
}

/// What a team used in the last whole day.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamYesterday {
    /// The team, or `together`.
    pub name: String,
    /// What it used and cost.
    #[serde(flatten)]
    pub figures: Figures,
    /// What the same weekdays before cost; absent while there were none.
    pub expected: Option<CostRange>,
    /// The last thirty days, oldest first.
    pub days: Vec<DayCost>,
    /// Its cost quota of this month.
    pub budget: Option<QuotaLine>,
    /// The query string that lists its requests at `/manage/v1/requests`.
    pub requests_query: String,
}

/// The overview of now.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Now {
    /// When it was made.
    pub at: DateTime<Utc>,
    /// Code of the currency.
    pub currency: String,
    /// What needs attention, the worst first.
    pub attention: Vec<NoticeLine>,
    /// Which day yesterday was, UTC.
    pub yesterday: NaiveDate,
    /// With what it is compared, in words.
    pub compared_with: String,
    /// The teams, dearest first.
    pub teams: Vec<TeamYesterday>,
    /// All of them.
    pub together: TeamYesterday,
}

/// What needs attention, and yesterday by team.
#[utoipa::path(tag = "figures", responses((status = 200, body = Now, description = "The overview of now")))]
#[get("/now")]
pub(super) async fn show(principal: Principal, app: web::Data<App>) -> Result<web::Json<Now>, Problem> {
    let now = app.clock.now();
    let history = History::read(&app, now).await?;
    let today = history.today.and_time(NaiveTime::MIN).and_utc();
    let (team, former) = (principal.narrow(None)?, app.now_serving().former.clone());
    let filter = UsageFilter { team, former, ..UsageFilter::default() };
    let query = UsageQuery::of(today - TimeDelta::days(1), today, Dimension::Team, filter);
    let groups = app.usage(&query).await?;
    let snapshot = app.now_serving();
    let yesterday = history.today.checked_sub_days(Days::new(1)).unwrap_or(history.today);
    let mut teams: Vec<(Decimal, TeamYesterday)> = Vec::new();
    for (name, team) in snapshot.catalogue.teams.iter().filter(|(name, _)| principal.standing.can_see(name.as_str())) {
        let sums = groups.get(name.as_str()).cloned().unwrap_or_default();
        let is_budget = |quota: &&Quota| quota.measure == Measure::Cost && quota.window == Window::Month;
        let budget = team.quotas.iter().find(is_budget);
        let line = TeamYesterday {
            budget: budget.map(|quota| quota_line(&app, name, team, quota, Some(&history), now)),
            requests_query: format!("{}&team={name}", base_query(&query)),
            ..team_day(name.as_str(), &sums, &history, &[name.as_str()])
        };
        teams.push((sums.cost.amount(), line));
    }
    let names: Vec<String> = teams.iter().map(|(_, team)| team.name.clone()).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let together =
        TeamYesterday { requests_query: base_query(&query), ..team_day("together", &sum(&groups), &history, &names) };
    teams.sort_by(|(a_cost, a), (b_cost, b)| b_cost.cmp(a_cost).then_with(|| a.name.cmp(&b.name)));
    Ok(web::Json(Now {
        at: now,
        currency: snapshot.catalogue.currency.clone(),
        attention: findings::of(&app, &principal, &history, now).await?,
        yesterday,
        compared_with: format!("the {} before", expected::weekdays(yesterday)),
        teams: teams.into_iter().map(|(_, team)| team).collect(),
        together,
    }))
}

fn sum(groups: &BTreeMap<String, RollUp>) -> RollUp {
    groups.values().fold(RollUp::default(), |mut all, group| {
        all.merge(group);
        all
    })
}

/// Yesterday of `teams` taken together, without budget and link.
fn team_day(name: &str, sums: &RollUp, history: &History, teams: &[&str]) -> TeamYesterday {
    let mut daily = expected::Daily::new();
    for team in teams {
        for (day, cost) in history.daily(team, Measure::Cost) {
            *daily.entry(day).or_default() += cost;
        }
    }
    let yesterday = history.drawn().last().unwrap_or(history.today);
    let range = |expected: Expected| CostRange {
        low: expected.low.normalize().to_string(),
        high: expected.high.normalize().to_string(),
    };
    let cost_of = |day: NaiveDate| daily.get(&day).copied().unwrap_or_default().normalize().to_string();
    TeamYesterday {
        name: name.to_owned(),
        figures: sums.into(),
        expected: expected::of_day(yesterday, &daily, history.since).map(range),
        days: history.drawn().map(|day| DayCost { day, cost: cost_of(day) }).collect(),
        budget: None,
        requests_query: String::new(),
    }
}
