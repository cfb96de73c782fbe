//! Figures of a range by team, route, offer, key, upstream, day, hour or minute, beside the same time before.

use std::collections::BTreeMap;

use actix_web::{get, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wendor_core::catalog::key::id_in;
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sketch::Sketch;
use wendor_core::name::OfferName;
use wendor_core::quota::window::Window;
use wendor_store::usage::{Dimension, Step, UsageFilter, UsageQuery};

use super::named;
use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;

/// "Slow": what 95 of 100 requests do not pass. "Typical" is the median.
const SLOW_PERMILLE: u64 = 950;

/// Days, hours or minutes of a range at most: a year by day, two weeks by hour, some hours by minute.
const MAX_STEPS: i64 = 400;

/// A range and what narrows it.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct UsageParams {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// `team`, `route`, `offer`, `key`, `upstream`, `day`, `hour` or `minute`; by team when absent.
    pub by: Option<String>,
    /// Name of a team.
    pub team: Option<String>,
    /// Name of a route.
    pub route: Option<String>,
    /// As `upstream/model`.
    pub offer: Option<String>,
    /// At an offer of this upstream.
    pub upstream: Option<String>,
    /// By the key of this id.
    pub key: Option<String>,
}

/// Tokens by kind; the input kinds are disjoint and sum to all input, reasoning is a part of output.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TokensByKind {
    /// All input, which tables call "in".
    pub all_input: u64,
    /// Input read anew.
    pub input: u64,
    /// Input that the upstream had in its cache.
    pub input_cached: u64,
    /// Input written to the cache.
    pub cache_written: u64,
    /// Output, thinking included.
    pub output: u64,
    /// The part of the output that is reasoning.
    pub reasoning: u64,
}

impl From<wendor_wire::usage::TokenCounts> for TokensByKind {
    fn from(tokens: wendor_wire::usage::TokenCounts) -> Self {
        Self {
            all_input: tokens.all_input(),
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

/// What attempts used that did not answer.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FailedAttempts {
    /// Attempts that used something and did not answer.
    pub count: u64,
    /// Paid for, though no app got the answer.
    pub tokens: TokensByKind,
    /// What they cost, all digits.
    pub cost: String,
}

/// What some requests used and cost.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Figures {
    /// What they cost, all digits.
    pub cost: String,
    /// Lines of the ledger without a price, which the cost leaves out.
    pub unpriced: u64,
    /// Requests admitted.
    pub requests: u64,
    /// Of these, left without a whole answer by us or the upstreams.
    pub not_answered: u64,
    /// Of these, given up by the app.
    pub cancelled: u64,
    /// Of these, with estimated tokens.
    pub estimated: u64,
    /// By the kinds that rates tell apart.
    pub tokens: TokensByKind,
    /// Images made.
    pub images: u64,
    /// Calls of checks, which count in tokens and cost and not as requests.
    pub checks: u64,
    /// Of tokens and cost, what attempts used that did not answer.
    pub failed_attempts: FailedAttempts,
    /// Wait for a first token.
    pub first_token: TimeLine,
    /// Whole time.
    pub whole: TimeLine,
}

/// Figures of one group.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UsageLine {
    /// The team, route, offer, key, upstream, day, hour or minute; empty for an offer where none was tried.
    pub name: String,
    /// What a key is for.
    pub label: Option<String>,
    /// In the range.
    #[serde(flatten)]
    pub figures: Figures,
    /// In the time before; of a day, hour or minute, the one in its place then.
    pub before: Figures,
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
    /// The sum over all lines, those beyond the limit included.
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
    let shift = shift_of(query.from, query.to);
    let passed = query.to.min(app.clock.now()).max(query.from);
    // Before any record there is nothing to compare with, and years before the first have no form that programs read.
    let earliest = DateTime::<Utc>::UNIX_EPOCH.min(query.from);
    let earlier_than = |at: DateTime<Utc>| (at - shift).max(earliest);
    let before = UsageQuery { from: earlier_than(query.from), to: earlier_than(passed), ..query.clone() };
    let groups = app.store.usage(&query).await?;
    if groups.is_empty() {
        let filter = &query.filter;
        let (route, offer, key) = (filter.route.as_ref(), filter.offer.as_ref(), filter.key.as_deref());
        named::must_be_there(&principal, &app, named::Narrowed { route, offer, key }).await?;
    }
    let earlier = app.store.usage(&before).await?;
    let mut lines = match query.by.step() {
        Some(step) => step_lines(&query, step, shift, &groups, &earlier),
        None => group_lines(&query, &groups, &earlier),
    };
    if query.by == Dimension::Key {
        let snapshot = app.now_serving();
        let label_of = |id: &str| snapshot.keys.values().find(|key| key.id == id).map(|key| key.label.clone());
        lines.iter_mut().for_each(|line| line.label = label_of(&line.name));
    }
    let together = line("together", Some(&sum(&groups)), Some(&sum(&earlier)), base_query(&query));
    Ok(web::Json(Usage {
        from: query.from,
        to: query.to,
        before_from: before.from,
        before_to: before.to,
        by: query.by.as_str().to_owned(),
        currency: app.now_serving().catalogue.currency.clone(),
        lines,
        together,
    }))
}

type Groups = BTreeMap<String, RollUp>;

fn read(principal: &Principal, app: &App, params: &UsageParams) -> Result<UsageQuery, Problem> {
    let bad = |field, message: String| Problem::BadValue { field, message };
    if params.from >= params.to {
        return Err(bad("to", format!("{} is not after {}", params.to, params.from)));
    }
    let by = params.by.as_deref().unwrap_or("team");
    let known = || Dimension::ALL.map(Dimension::as_str).join(", ");
    let by = Dimension::parse(by).ok_or_else(|| bad("by", format!("`{by}` is not one of {}", known())))?;
    if let Some(step) = by.step()
        && (params.to - params.from).num_seconds() / step.length.num_seconds() > MAX_STEPS
    {
        return Err(bad(
            "to",
            format!("by {} a range has at most {MAX_STEPS} lines: ask for less, or by day", by.as_str()),
        ));
    }
    let snapshot = app.now_serving();
    let team = params.team.as_deref().map(|team| named::recorded_team(principal, &snapshot, team)).transpose()?;
    let offer = params.offer.as_deref().map(OfferName::parse).transpose();
    let filter = UsageFilter {
        team: principal.narrow(team)?,
        route: params.route.as_deref().map(|route| named::recorded_route(principal, &snapshot, route)).transpose()?,
        offer: offer.map_err(|error| bad("offer", error.to_string()))?,
        upstream: params
            .upstream
            .as_deref()
            .map(|upstream| named::recorded_upstream(principal, &snapshot, upstream))
            .transpose()?,
        key: params.key.as_deref().map(|key| id_in(key).to_owned()),
    };
    Ok(UsageQuery { from: params.from, to: params.to, by, filter })
}

/// How far back the time lies that a range is compared with: its length, in whole days when it begins at midnight and in whole
/// hours when it begins at one, so that a week is compared with the same weekdays; likewise with minutes.
fn shift_of(from: DateTime<Utc>, to: DateTime<Utc>) -> TimeDelta {
    let whole = |unit: TimeDelta| {
        let length = (to - from).num_milliseconds();
        let unit = unit.num_milliseconds();
        TimeDelta::milliseconds((length + unit - 1).div_euclid(unit) * unit)
    };
    match from.time() {
        time if time == chrono::NaiveTime::MIN => whole(TimeDelta::days(1)),
        _ if Window::Hour.around(from).start == from => whole(TimeDelta::hours(1)),
        _ if Window::Minute.around(from).start == from => whole(TimeDelta::minutes(1)),
        _ => to - from,
    }
}

/// A line for every day, hour or minute of the range, also where nothing was asked, each beside the one in its place before.
fn step_lines(query: &UsageQuery, step: Step, shift: TimeDelta, groups: &Groups, earlier: &Groups) -> Vec<UsageLine> {
    let Step { window, length, name_of } = step;
    let first = window.around(query.from).start;
    let starts =
        std::iter::successors(Some(first), |start| Some(*start + length)).take_while(|start| *start < query.to);
    let line = |start: DateTime<Utc>| {
        let name = name_of(start);
        let part = UsageQuery { from: start.max(query.from), to: (start + length).min(query.to), ..query.clone() };
        line(&name, groups.get(&name), earlier.get(&name_of(start - shift)), base_query(&part))
    };
    starts.map(line).collect()
}

/// A line for every group, dearest first. What was used before and is not any more is one too: its absence is news.
fn group_lines(query: &UsageQuery, groups: &Groups, earlier: &Groups) -> Vec<UsageLine> {
    let gone = earlier.keys().filter(|name| !groups.contains_key(*name));
    let base = base_query(query);
    let of_group = |name: &String| {
        let link = format!("{base}&{}={name}", query.by.as_str());
        let cost = groups.get(name).map(|sums| sums.cost).unwrap_or_default();
        (cost, line(name, groups.get(name), earlier.get(name), link))
    };
    let mut lines: Vec<(Money, UsageLine)> = groups.keys().chain(gone).map(of_group).collect();
    lines.sort_by(|(a_cost, a), (b_cost, b)| b_cost.cmp(a_cost).then_with(|| a.name.cmp(&b.name)));
    lines.into_iter().map(|(_, line)| line).collect()
}

fn sum(groups: &Groups) -> RollUp {
    groups.values().fold(RollUp::default(), |mut all, group| {
        all.merge(group);
        all
    })
}

fn line(name: &str, sums: Option<&RollUp>, before: Option<&RollUp>, requests_query: String) -> UsageLine {
    let none = RollUp::default();
    UsageLine {
        name: name.to_owned(),
        label: None,
        figures: sums.unwrap_or(&none).into(),
        before: before.unwrap_or(&none).into(),
        requests_query,
    }
}

impl From<&RollUp> for Figures {
    fn from(sums: &RollUp) -> Self {
        Self {
            cost: sums.cost.to_string(),
            unpriced: sums.unpriced,
            requests: sums.requests,
            not_answered: sums.failures,
            cancelled: sums.cancelled,
            estimated: sums.estimated,
            tokens: sums.tokens.into(),
            images: sums.images,
            checks: sums.checks,
            failed_attempts: FailedAttempts {
                count: sums.attempts,
                tokens: sums.attempt_tokens.into(),
                cost: sums.attempt_cost.to_string(),
            },
            first_token: TimeLine::of(&sums.first_token),
            whole: TimeLine::of(&sums.whole),
        }
    }
}

impl TimeLine {
    fn of(sketch: &Sketch) -> Self {
        Self { typical_ms: sketch.quantile_ms(500), slow_ms: sketch.quantile_ms(SLOW_PERMILLE) }
    }
}

/// The query string of all requests of a range.
pub(super) fn base_query(query: &UsageQuery) -> String {
    let instant = |at: DateTime<Utc>| at.format("%Y-%m-%dT%H:%M:%S%.fZ").to_string();
    // Of attempts the last counts, as in the figures.
    let mut text = format!("from={}&to={}&tried=last", instant(query.from), instant(query.to));
    let narrows = [
        ("team", query.filter.team.as_ref().map(ToString::to_string)),
        ("route", query.filter.route.as_ref().map(ToString::to_string)),
        ("offer", query.filter.offer.as_ref().map(ToString::to_string)),
        ("upstream", query.filter.upstream.as_ref().map(ToString::to_string)),
        ("key", query.filter.key.clone()),
    ];
    for (name, value) in narrows {
        if let Some(value) = value {
            text.push_str(&format!("&{name}={value}"));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::name::Name;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn query(by: Dimension, team: Option<&str>) -> UsageQuery {
        UsageQuery {
            from: at("2026-11-01T00:00:00Z"),
            to: at("2026-11-02T08:30:00.5Z"),
            by,
            filter: UsageFilter { team: team.map(|team| Name::parse(team).unwrap()), ..UsageFilter::default() },
        }
    }

    fn groups(costs: &[(&str, &str)]) -> Groups {
        let group = |cost: &str| RollUp { cost: Money::parse(cost).unwrap(), requests: 1, ..RollUp::default() };
        costs.iter().map(|(name, cost)| ((*name).to_owned(), group(cost))).collect()
    }

    #[rstest]
    #[case::team(Dimension::Team, None, "freight-desk", "&team=freight-desk")]
    #[case::offer_of_a_team(
        Dimension::Offer,
        Some("timetables"),
        "quarry/fulmar-large",
        "&team=timetables&offer=quarry/fulmar-large"
    )]
    fn each_line_leads_to_its_requests(
        #[case] by: Dimension,
        #[case] team: Option<&str>,
        #[case] name: &str,
        #[case] rest: &str,
    ) {
        let lines = group_lines(&query(by, team), &groups(&[(name, "1")]), &Groups::new());
        assert_eq!(
            lines[0].requests_query,
            format!("from=2026-11-01T00:00:00Z&to=2026-11-02T08:30:00.500Z&tried=last{rest}")
        );
    }

    #[test]
    fn the_dearest_stands_first_and_what_is_used_no_more_last() {
        let (now, before) = (groups(&[("a", "1"), ("b", "2")]), groups(&[("b", "1"), ("gone", "9")]));
        let lines = group_lines(&query(Dimension::Team, None), &now, &before);
        let pairs: Vec<_> =
            lines.iter().map(|line| (line.name.as_str(), line.figures.requests, line.before.cost.as_str())).collect();
        assert_eq!(pairs, [("b", 1, "1"), ("a", 1, "0"), ("gone", 0, "9")]);
    }

    #[test]
    fn every_day_has_a_line_beside_the_one_in_its_place_before() {
        let query = query(Dimension::Day, Some("timetables"));
        let (now, before) = (groups(&[("2026-11-02", "3")]), groups(&[("2026-10-30", "7"), ("2026-10-31", "4")]));
        let lines = step_lines(&query, Dimension::Day.step().unwrap(), shift_of(query.from, query.to), &now, &before);
        let totals: Vec<_> = lines
            .iter()
            .map(|line| (line.name.as_str(), line.figures.cost.as_str(), line.before.cost.as_str()))
            .collect();
        assert_eq!(totals, [("2026-11-01", "0", "7"), ("2026-11-02", "3", "4")]);
        assert_eq!(
            lines[1].requests_query,
            "from=2026-11-02T00:00:00Z&to=2026-11-02T08:30:00.500Z&tried=last&team=timetables"
        );
    }

    #[rstest]
    #[case::a_week_so_far("2026-11-17T00:00:00Z", "2026-11-23T08:30:00Z", 7 * 24 * 60)]
    #[case::whole_days("2026-11-17T00:00:00Z", "2026-11-20T00:00:00Z", 3 * 24 * 60)]
    #[case::hours("2026-11-17T08:00:00Z", "2026-11-17T10:20:00Z", 3 * 60)]
    #[case::an_odd_range("2026-11-17T08:10:00Z", "2026-11-17T10:20:00Z", 130)]
    fn a_range_is_compared_with_the_same_time_before(#[case] from: &str, #[case] to: &str, #[case] minutes: i64) {
        assert_eq!(shift_of(at(from), at(to)), TimeDelta::minutes(minutes));
    }
}
