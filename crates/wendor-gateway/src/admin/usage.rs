//! Figures of a range by team, route, offer, key or day, beside the same time before.

use std::collections::BTreeMap;

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sketch::Sketch;
use wendor_core::name::OfferName;
use wendor_store::requests::RequestFilter;
use wendor_store::usage::{Dimension, UsageQuery};

use super::keys::{known_route, known_team};
use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;

/// "Slow": what 95 of 100 requests do not pass. "Typical" is the median.
const SLOW_PERMILLE: u64 = 950;

/// A range and what narrows it.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct UsageParams {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// `team`, `route`, `offer`, `key` or `day`.
    pub by: Option<String>,
    /// Of this team.
    pub team: Option<String>,
    /// To this route.
    pub route: Option<String>,
    /// At this offer.
    pub offer: Option<String>,
    /// By the key of this id.
    pub key: Option<String>,
}

/// Tokens by kind; the input kinds are disjoint, reasoning is a part of output.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TokensByKind {
    /// Input read anew.
    pub input: u64,
    /// Input from the cache.
    pub input_cached: u64,
    /// Input written to the cache.
    pub cache_written: u64,
    /// Output.
    pub output: u64,
    /// The part of the output that is reasoning.
    pub reasoning: u64,
}

impl From<wendor_core::metering::usage::TokenCounts> for TokensByKind {
    fn from(tokens: wendor_core::metering::usage::TokenCounts) -> Self {
        Self {
            input: tokens.input,
            input_cached: tokens.input_cached,
            cache_written: tokens.cache_written,
            output: tokens.output,
            reasoning: tokens.reasoning,
        }
    }
}

/// A time in its typical and its slow form, in milliseconds, within 1.6%.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TimeLine {
    /// The median.
    pub typical_ms: Option<u64>,
    /// What 95 of 100 do not pass.
    pub slow_ms: Option<u64>,
}

/// Figures of one group.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UsageLine {
    /// The team, route, offer, key or day; empty for an offer where none was tried.
    pub name: String,
    /// What a key is for.
    pub label: Option<String>,
    /// What it cost, all digits.
    pub cost: String,
    /// What it cost in the time before.
    pub cost_before: String,
    /// Requests without a price, which the cost leaves out.
    pub unpriced: u64,
    /// Requests admitted.
    pub requests: u64,
    /// Requests admitted in the time before.
    pub requests_before: u64,
    /// Of these, left without a whole answer by us or the upstreams.
    pub not_answered: u64,
    /// Of these, given up by the app.
    pub cancelled: u64,
    /// Of these, with estimated tokens.
    pub estimated: u64,
    /// Tokens.
    pub tokens: TokensByKind,
    /// Wait for a first token.
    pub first_token: TimeLine,
    /// Whole time.
    pub whole: TimeLine,
    /// The query string that lists the requests behind this line at `/manage/v1/requests`.
    pub requests_query: String,
}

/// Figures of a range.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Usage {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// The time before that is compared: as long, and as much of it as has passed of this one.
    pub before_from: DateTime<Utc>,
    /// Its first instant after.
    pub before_to: DateTime<Utc>,
    /// What it is told apart by.
    pub by: String,
    /// Code of the currency.
    pub currency: String,
    /// The groups, dearest first; days in order.
    pub lines: Vec<UsageLine>,
    /// All together.
    pub together: UsageLine,
}

/// Figures of a range.
#[utoipa::path(tag = "figures", params(UsageParams), responses((status = 200, body = Usage, description = "The figures")))]
#[get("/usage")]
pub(super) async fn usage(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<UsageParams>,
) -> Result<web::Json<Usage>, Problem> {
    let params = params.into_inner();
    let query = read(&principal, &app, &params)?;
    let length = query.to - query.from;
    let passed = query.to.min(app.clock.now()).max(query.from);
    let before = UsageQuery { from: query.from - length, to: passed - length, ..query.clone() };
    let groups = app.store.usage(&query).await?;
    let earlier = app.store.usage(&before).await?;
    let base = base_query(&query);
    let dimension = query.by;
    let mut lines: Vec<UsageLine> = names_of(&groups, &earlier)
        .map(|name| {
            let link = format!("{base}{}", narrowed(dimension, name));
            line(name, groups.get(name), earlier.get(name), link)
        })
        .collect();
    if dimension == Dimension::Key {
        let snapshot = app.now_serving();
        let label_of = |id: &str| snapshot.keys.values().find(|key| key.id == id).map(|key| key.label.clone());
        lines.iter_mut().for_each(|line| line.label = label_of(&line.name));
    }
    if dimension != Dimension::Day {
        lines.sort_by(|a, b| cost_of(&groups, b).cmp(&cost_of(&groups, a)).then_with(|| a.name.cmp(&b.name)));
    }
    let together = line("together", Some(&sum(&groups)), Some(&sum(&earlier)), base);
    Ok(web::Json(Usage {
        from: query.from,
        to: query.to,
        before_from: before.from,
        before_to: before.to,
        by: dimension.as_str().to_owned(),
        currency: app.now_serving().catalogue.currency.clone(),
        lines,
        together,
    }))
}

type Groups = BTreeMap<String, RollUp>;

fn read(principal: &Principal, app: &App, params: &UsageParams) -> Result<UsageQuery, Problem> {
    let bad = |field, message: String| Problem::BadValue { field, message };
    if params.from >= params.to {
        return Err(bad("to", format!("{} does not lie after {}", params.to, params.from)));
    }
    let by = params.by.as_deref().unwrap_or("team");
    let unknown = || bad("by", format!("`{by}` is none of team, route, offer, key, day"));
    let by = Dimension::parse(by).ok_or_else(unknown)?;
    let snapshot = app.now_serving();
    let team = params.team.as_deref().map(|team| known_team(&snapshot, team)).transpose()?;
    let offer = params.offer.as_deref().map(OfferName::parse).transpose();
    let filter = RequestFilter {
        team: principal.narrow(team)?,
        route: params.route.as_deref().map(|route| known_route(&snapshot, route)).transpose()?,
        offer: offer.map_err(|error| bad("offer", error.to_string()))?,
        key: params.key.clone(),
        ..RequestFilter::default()
    };
    Ok(UsageQuery { from: params.from, to: params.to, by, filter })
}

fn names_of<'a>(groups: &'a Groups, earlier: &'a Groups) -> impl Iterator<Item = &'a str> {
    // What was used before and is not any more is a line too: its absence is news.
    let gone = earlier.keys().filter(|name| !groups.contains_key(*name));
    groups.keys().chain(gone.filter(|name| !is_day(name))).map(String::as_str)
}

/// Days of the time before are other days, so they make no lines of their own.
fn is_day(name: &str) -> bool {
    name.parse::<chrono::NaiveDate>().is_ok()
}

fn cost_of(groups: &Groups, line: &UsageLine) -> wendor_core::metering::money::Money {
    groups.get(&line.name).map(|sums| sums.cost).unwrap_or_default()
}

fn sum(groups: &Groups) -> RollUp {
    groups.values().fold(RollUp::default(), |mut all, group| {
        all.merge(group);
        all
    })
}

fn line(name: &str, sums: Option<&RollUp>, before: Option<&RollUp>, requests_query: String) -> UsageLine {
    let none = RollUp::default();
    let (sums, before) = (sums.unwrap_or(&none), before.unwrap_or(&none));
    let time =
        |sketch: &Sketch| TimeLine { typical_ms: sketch.quantile_ms(500), slow_ms: sketch.quantile_ms(SLOW_PERMILLE) };
    UsageLine {
        name: name.to_owned(),
        label: None,
        cost: sums.cost.to_string(),
        cost_before: before.cost.to_string(),
        unpriced: sums.unpriced,
        requests: sums.requests,
        requests_before: before.requests,
        not_answered: sums.failures,
        cancelled: sums.cancelled,
        estimated: sums.estimated,
        tokens: sums.tokens.into(),
        first_token: time(&sums.first_token),
        whole: time(&sums.whole),
        requests_query,
    }
}

/// The query string of all requests of a range.
fn base_query(query: &UsageQuery) -> String {
    let instant = |at: DateTime<Utc>| at.format("%Y-%m-%dT%H:%M:%S%.fZ").to_string();
    let mut text = format!("from={}&to={}", instant(query.from), instant(query.to));
    let narrows = [
        ("team", query.filter.team.as_ref().map(ToString::to_string)),
        ("route", query.filter.route.as_ref().map(ToString::to_string)),
        ("offer", query.filter.offer.as_ref().map(ToString::to_string)),
        ("key", query.filter.key.clone()),
    ];
    for (name, value) in narrows {
        if let Some(value) = value {
            text.push_str(&format!("&{name}={value}"));
        }
    }
    text
}

fn narrowed(dimension: Dimension, name: &str) -> String {
    match dimension {
        Dimension::Team | Dimension::Route | Dimension::Offer | Dimension::Key => {
            format!("&{}={name}", dimension.as_str())
        }
        // A later `from` and `to` would stand twice; the day's own narrow the list on the page.
        Dimension::Day => format!("&day={name}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::name::Name;

    fn query(by: Dimension, team: Option<&str>) -> UsageQuery {
        UsageQuery {
            from: "2026-11-01T00:00:00Z".parse().unwrap(),
            to: "2026-11-02T08:30:00.5Z".parse().unwrap(),
            by,
            filter: RequestFilter { team: team.map(|team| Name::parse(team).unwrap()), ..RequestFilter::default() },
        }
    }

    #[rstest]
    #[case::team(Dimension::Team, None, "freight-desk", "&team=freight-desk")]
    #[case::offer_of_a_team(
        Dimension::Offer,
        Some("timetables"),
        "quarry/fulmar-large",
        "&team=timetables&offer=quarry/fulmar-large"
    )]
    #[case::day(Dimension::Day, None, "2026-11-01", "&day=2026-11-01")]
    fn each_line_leads_to_its_requests(
        #[case] by: Dimension,
        #[case] team: Option<&str>,
        #[case] name: &str,
        #[case] rest: &str,
    ) {
        let link = base_query(&query(by, team)) + &narrowed(by, name);
        assert_eq!(link, format!("from=2026-11-01T00:00:00Z&to=2026-11-02T08:30:00.500Z{rest}"));
    }

    #[test]
    fn what_was_used_before_and_is_not_any_more_has_a_line_but_no_day_of_before() {
        let groups =
            |names: &[&str]| -> Groups { names.iter().map(|name| ((*name).to_owned(), RollUp::default())).collect() };
        let (now, before) = (groups(&["a", "b"]), groups(&["b", "gone", "2026-10-31"]));
        assert_eq!(names_of(&now, &before).collect::<Vec<_>>(), ["a", "b", "gone"]);
        let line = line("gone", None, before.get("gone"), String::new());
        assert_eq!((line.requests, line.cost.as_str(), line.first_token.typical_ms), (0, "0", None));
    }
}
