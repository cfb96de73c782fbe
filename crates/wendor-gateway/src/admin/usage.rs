//! Figures of a range by what tells them apart, beside the same time before.

mod asked;
mod pairs;
mod runs;
pub mod why;

use std::collections::BTreeMap;

use actix_web::{get, web};
use chrono::{DateTime, Datelike, Months, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sketch::Sketch;
use wendor_core::quota::window::Window;
use wendor_store::usage::{Dimension, Step, UsageQuery};

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;

pub use asked::UsageParams;
use asked::narrowed;
pub(super) use asked::{base_query, narrowed_to_something, read};

/// Lines at most: an app may give each of its requests a run of its own.
const MOST_LINES: usize = 2_000;

/// "Slow": what 95 of 100 requests do not pass. "Typical" is the median.
const SLOW_PERMILLE: u64 = 950;

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
    /// The part of all input that presets of routes added.
    pub preset: u64,
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
            preset: tokens.preset,
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
    /// The team, route, offer, key, upstream, day, hour, minute, run, end or value of the label; empty where there is none.
    pub name: String,
    /// The second name, where it is told apart by two things.
    pub then: Option<String>,
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
    /// The previous period: as long, and as much of it as has passed of this one; of a calendar month the month before.
    pub before_from: DateTime<Utc>,
    /// Its first instant after.
    pub before_to: DateTime<Utc>,
    /// What it is told apart by.
    pub by: String,
    /// Code of the currency.
    pub currency: String,
    /// Where history begins, where that is after the previous period has begun: it is compared with less than a whole one then.
    pub history_from: Option<DateTime<Utc>>,
    /// The groups, dearest first; days in order.
    pub lines: Vec<UsageLine>,
    /// Further groups of the range, the cheapest, which are left out here; the sum has them.
    pub left_out: usize,
    /// The sum over all lines.
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
    let before = previous_period(&query, shift, app.clock.now());
    let of_time = query.then.filter(|then| then.step().is_some()).unwrap_or(query.by);
    let weekday = same_weekday(of_time, shift);
    let before_weekday = (weekday != shift).then(|| previous_period(&query, weekday, app.clock.now()));
    let of_weekday = async {
        let Some(query) = &before_weekday else { return Ok(None) };
        app.usage(query).await.map(Some)
    };
    let (Lines { mut lines, left_out }, now, earlier) = if query.by == Dimension::Run && query.then.is_none() {
        runs::lines(&app, &query, &before).await?
    } else {
        let (groups, earlier, earlier_weekday) = tokio::try_join!(app.usage(&query), app.usage(&before), of_weekday)?;
        let by_weekday = earlier_weekday.as_ref().unwrap_or(&earlier);
        let lines = match (query.then, query.by.step()) {
            (Some(then), _) => pairs::pair_lines(&query, then, weekday, &groups, by_weekday),
            (None, Some(step)) => step_lines(&query, step, weekday, &groups, by_weekday),
            (None, None) => group_lines(&query, &groups, &earlier),
        };
        (lines, sum(&groups), sum(&earlier))
    };
    if now == RollUp::default() {
        narrowed_to_something(&principal, &app, &query.filter).await?;
    }
    if query.by == Dimension::Key {
        let snapshot = app.now_serving();
        let label_of = |id: &str| snapshot.keys.by_id(id).map(|key| key.label.clone());
        lines.iter_mut().for_each(|line| line.label = label_of(&line.name));
    }
    let together = line("together", Some(&now), Some(&earlier), base_query(&query));
    Ok(web::Json(Usage {
        from: query.from,
        to: query.to,
        before_from: before.from,
        before_to: before.to,
        by: by_words(&query),
        currency: app.now_serving().catalogue.currency.clone(),
        history_from: app.store.first_hour().await?.filter(|first| *first > before.from),
        left_out,
        lines,
        together,
    }))
}

type Groups = BTreeMap<String, RollUp>;

/// The first lines in their order, and how many are left out.
struct Lines {
    lines: Vec<UsageLine>,
    left_out: usize,
}

impl Lines {
    /// Of groups in their order: a line is made of those alone that are not left out.
    fn of<G>(groups: Vec<G>, line: impl FnMut(G) -> UsageLine) -> Self {
        let left_out = groups.len().saturating_sub(MOST_LINES);
        Self { lines: groups.into_iter().take(MOST_LINES).map(line).collect(), left_out }
    }
}

/// What a range is compared with: as much of the period `shift` before it as has passed of the range itself.
fn previous_period(query: &UsageQuery, shift: TimeDelta, now: DateTime<Utc>) -> UsageQuery {
    let passed = query.to.min(now).max(query.from);
    // Before any record there is nothing to compare with, and years before the first have no form that programs read.
    let earliest = DateTime::<Utc>::UNIX_EPOCH.min(query.from);
    let earlier_than = |at: DateTime<Utc>| at.checked_sub_signed(shift).unwrap_or(earliest).max(earliest);
    // A month may be longer than the one before it.
    UsageQuery { from: earlier_than(query.from), to: earlier_than(passed).min(query.from), ..query.clone() }
}

/// How far back the time lies that a range is compared with: of a calendar month the month before, otherwise its length, in whole
/// days when it begins at midnight and in whole hours when it begins at one, so that a week is compared with the same weekdays;
/// likewise with minutes.
fn shift_of(from: DateTime<Utc>, to: DateTime<Utc>) -> TimeDelta {
    let whole = |unit: TimeDelta| {
        let length = (to - from).num_milliseconds();
        let unit = unit.num_milliseconds();
        TimeDelta::milliseconds((length + unit - 1).div_euclid(unit) * unit)
    };
    match from.time() {
        time if time == chrono::NaiveTime::MIN => month_before(from, to).unwrap_or_else(|| whole(TimeDelta::days(1))),
        _ if Window::Hour.around(from).start == from => whole(TimeDelta::hours(1)),
        _ if Window::Minute.around(from).start == from => whole(TimeDelta::minutes(1)),
        _ => to - from,
    }
}

/// How far back the day lies that a day is compared with: whole weeks, so that it is the same weekday. Other steps as the whole.
fn same_weekday(by: Dimension, shift: TimeDelta) -> TimeDelta {
    let days = shift.num_days();
    if by != Dimension::Day || days < 7 || days % 7 == 0 {
        return shift;
    }
    TimeDelta::days((days + 3) / 7 * 7)
}

/// The length of the month before, where the range is a calendar month.
fn month_before(from: DateTime<Utc>, to: DateTime<Utc>) -> Option<TimeDelta> {
    let first = Some(from.date_naive()).filter(|first| first.day() == 1)?;
    let next = first.checked_add_months(Months::new(1))?.and_time(chrono::NaiveTime::MIN).and_utc();
    let before = first.checked_sub_months(Months::new(1))?;
    (next == to).then(|| first - before)
}

/// A line for every day, hour or minute of the range, also where nothing was asked, each beside the one in its place before.
fn step_lines(query: &UsageQuery, step: Step, shift: TimeDelta, groups: &Groups, earlier: &Groups) -> Lines {
    let Step { window, length, name_of } = step;
    let first = window.around(query.from).start;
    let starts =
        std::iter::successors(Some(first), |start| Some(*start + length)).take_while(|start| *start < query.to);
    let line = |start: DateTime<Utc>| {
        let name = name_of(start);
        let part = UsageQuery { from: start.max(query.from), to: (start + length).min(query.to), ..query.clone() };
        line(&name, groups.get(&name), earlier.get(&name_of(start - shift)), base_query(&part))
    };
    Lines::of(starts.collect(), line)
}

/// A line for every group, dearest first. What was used before and is not any more is one too: its absence is news.
fn group_lines(query: &UsageQuery, groups: &Groups, earlier: &Groups) -> Lines {
    let base = base_query(query);
    Lines::of(by_cost(groups, earlier), |name| {
        line(name, groups.get(name), earlier.get(name), format!("{base}{}", narrowed(query, query.by, name)))
    })
}

/// The names of groups of now or before, by what they cost now.
fn by_cost<'g>(groups: &'g Groups, earlier: &'g Groups) -> Vec<&'g String> {
    let gone = earlier.keys().filter(|name| !groups.contains_key(*name));
    let cost = |name: &String| groups.get(name).map(|sums| sums.cost).unwrap_or_default();
    let mut names: Vec<(Money, &String)> = groups.keys().chain(gone).map(|name| (cost(name), name)).collect();
    names.sort_by(|(a_cost, a), (b_cost, b)| b_cost.cmp(a_cost).then_with(|| a.cmp(b)));
    names.into_iter().map(|(_, name)| name).collect()
}

fn sum(groups: &Groups) -> RollUp {
    groups.values().fold(RollUp::default(), |mut all, group| {
        all.merge(group);
        all
    })
}

/// What figures are told apart by, as it is asked for.
fn by_words(query: &UsageQuery) -> String {
    let word = |by: Dimension| match (by, &query.label) {
        (Dimension::Label, Some(label)) => format!("label:{label}"),
        (by, _) => by.as_str().to_owned(),
    };
    query.then.map_or_else(|| word(query.by), |then| format!("{},{}", word(query.by), word(then)))
}

fn line(name: &str, sums: Option<&RollUp>, before: Option<&RollUp>, requests_query: String) -> UsageLine {
    let none = RollUp::default();
    UsageLine {
        name: name.to_owned(),
        then: None,
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

#[cfg(test)]
mod tests;
