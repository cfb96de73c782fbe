//! Correcting what was priced at a rate that was wrong: rates of the past are never changed, and the difference is recorded as adjustments, a
//! line for each request, in the hour in which it was asked.

use std::collections::BTreeMap;

use actix_web::{post, web};
use chrono::{DateTime, Days, NaiveDate, NaiveTime, TimeDelta, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::metering::adjustment::{Correction, corrections};
use wendor_core::metering::entry::{AdjustmentRecord, LedgerEntry, QuotaUse, Record, Settled, Spooled};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::Rate;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::Measure;
use wendor_store::ledger::MAX_BATCH;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::snapshot::Snapshot;

/// How far back is corrected.
const FURTHEST: u64 = 400;

/// What an offer should have cost.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdjustmentAsk {
    /// As `upstream/model`.
    pub offer: String,
    /// From the first instant of this day on, UTC, up to now, or to the day from which the next rate is in force.
    pub from: NaiveDate,
    /// Per million input tokens.
    pub input: String,
    /// Per million cached input tokens; as input when absent.
    #[serde(default)]
    pub input_cached: Option<String>,
    /// Per million input tokens that are written to a cache; as input when absent.
    #[serde(default)]
    pub cache_written: Option<String>,
    /// Per million output tokens.
    pub output: String,
    /// An image; images are not corrected when absent.
    #[serde(default)]
    pub image: Option<String>,
    /// Why, for whoever asks what the lines are.
    #[serde(default)]
    pub reason: String,
    /// Record it; without, it is only told what it would come to.
    #[serde(default)]
    pub apply: bool,
}

/// What a correction comes to.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Adjusted {
    /// The offer.
    pub offer: String,
    /// First instant of what is corrected.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// Requests that cost another amount then.
    pub requests: u64,
    /// Code of the currency.
    pub currency: String,
    /// What they cost now, corrections of before included, all digits.
    pub cost_before: String,
    /// What they cost then.
    pub cost_after: String,
    /// The same by team, the largest difference first.
    pub teams: Vec<TeamAdjusted>,
    /// Whether it is recorded.
    pub applied: bool,
}

/// A team's part of a correction.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamAdjusted {
    /// The team.
    pub team: String,
    /// Its requests that cost another amount then.
    pub requests: u64,
    /// The difference, all digits.
    pub difference: String,
}

/// Correct what requests at an offer were priced with, from a day of the past on. Without `apply` nothing is recorded.
#[utoipa::path(tag = "upstreams", request_body = AdjustmentAsk, responses(
    (status = 200, body = Adjusted, description = "What it comes to"),
    (status = 400, body = ProblemDetails, description = "Invalid value"),
    (status = 404, body = ProblemDetails, description = "No such offer")))]
#[post("/rates/adjustment")]
pub(super) async fn adjust(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<AdjustmentAsk>,
) -> Result<web::Json<Adjusted>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "correct what was priced")?;
    let ask = body.into_inner();
    let snapshot = app.now_serving();
    let offer = OfferName::parse(&ask.offer)
        .map_err(|error| Problem::BadValue { field: "offer", message: error.to_string() })?;
    if snapshot.catalogue.offer(&offer).is_none() {
        return Err(Problem::NoSuch { what: "offer", name: ask.offer, nearest: None });
    }
    let rate = rate_of(&ask)?;
    let now = app.clock.now();
    let (from, to) = range(&snapshot, &offer, &ask, now)?;
    if ask.apply {
        let deed = Deed::of(Action::RatesAdjusted, format!("rate of {offer}")).after(json!({
            "from": ask.from, "to": to, "input": ask.input, "input_cached": ask.input_cached,
            "cache_written": ask.cache_written, "output": ask.output, "image": ask.image, "reason": ask.reason,
        }));
        app.store.audit(&principal.doing(&app), &deed).await?;
    }
    let _turn = if ask.apply { Some(app.store.correcting().await?) } else { None };
    let mut sums = Sums::default();
    let mut day = from;
    // Day by day: what is corrected at once stays small, however much there is.
    while day < to {
        let next = (day + TimeDelta::days(1)).min(to);
        let mut lines: Vec<LedgerEntry> = Vec::new();
        app.store.lines_at(&offer, &snapshot.former, day..next, |line| lines.push(line.clone())).await?;
        let found = corrections(&lines, &rate);
        found.iter().for_each(|correction| sums.add(&snapshot, correction));
        if ask.apply {
            let made: Vec<Spooled> = found.iter().map(|one| entry(&app, &snapshot, one, &ask.reason, now)).collect();
            for batch in made.chunks(MAX_BATCH) {
                app.store.drain(batch, None).await?;
            }
        }
        day = next;
    }
    Ok(web::Json(Adjusted {
        offer: offer.to_string(),
        from,
        to,
        requests: sums.requests,
        currency: snapshot.catalogue.currency.clone(),
        cost_before: sums.before.to_string(),
        cost_after: sums.after.to_string(),
        teams: sums.teams(),
        applied: ask.apply,
    }))
}

fn rate_of(ask: &AdjustmentAsk) -> Result<Rate, Problem> {
    let amount = |field: &'static str, text: &str| -> Result<Decimal, Problem> {
        let read = text.trim().parse::<Decimal>().ok();
        let is_right = |amount: &Decimal| {
            !amount.is_sign_negative() && *amount <= Decimal::from(1_000_000) && amount.normalize().scale() <= 6
        };
        read.filter(is_right).ok_or_else(|| {
            let message =
                format!("`{}` is not a number from 0 to 1000000 with at most 6 decimals", text.escape_debug());
            Problem::BadValue { field, message }
        })
    };
    let some = |field, text: &Option<String>| text.as_deref().map(|text| amount(field, text)).transpose();
    Ok(Rate {
        effective_on: ask.from,
        input: amount("input", &ask.input)?,
        input_cached: some("input_cached", &ask.input_cached)?,
        cache_written: some("cache_written", &ask.cache_written)?,
        output: amount("output", &ask.output)?,
        image: some("image", &ask.image)?,
        image_sizes: BTreeMap::new(),
    })
}

/// What is corrected: up to now, or to the day on which another rate begins.
fn range(
    snapshot: &Snapshot,
    offer: &OfferName,
    ask: &AdjustmentAsk,
    now: DateTime<Utc>,
) -> Result<(DateTime<Utc>, DateTime<Utc>), Problem> {
    let bad = |message: String| Problem::BadValue { field: "from", message };
    let today = now.date_naive();
    if ask.from > today {
        return Err(bad(format!("{} is to come: set a rate from that day on instead", ask.from)));
    }
    if today.checked_sub_days(Days::new(FURTHEST)).is_some_and(|furthest| ask.from < furthest) {
        return Err(bad(format!("{} lies more than {FURTHEST} days back; choose a later day", ask.from)));
    }
    let starts = |day: NaiveDate| day.and_time(NaiveTime::MIN).and_utc();
    let of_offer = snapshot.rates.iter().filter(|(own, _)| *own == offer);
    let later = of_offer.map(|(_, rate)| rate.effective_on).filter(|day| *day > ask.from);
    Ok((starts(ask.from), later.min().map_or(now, starts).min(now)))
}

/// The line that records a correction, with what it takes of cost quotas whose window is not over.
fn entry(app: &App, snapshot: &Snapshot, correction: &Correction, reason: &str, now: DateTime<Utc>) -> Spooled {
    let line = &correction.line;
    let reason = if reason.trim().is_empty() { "priced at another rate" } else { reason.trim() };
    let team = snapshot.former.team(line.team.as_str());
    let team = Name::parse(team).unwrap_or_else(|_| line.team.clone());
    let of_cost = snapshot.quotas(&team).filter(|(_, quota)| quota.measure == Measure::Cost);
    let uses = of_cost.filter_map(|(id, quota)| {
        let window_start = quota.window.around(line.at).start;
        let is_open = window_start == quota.window.around(now).start;
        is_open.then(|| QuotaUse { quota: id.clone(), window_start, amount: correction.difference.total().amount() })
    });
    let entry = LedgerEntry {
        entry_id: app.ids.next(line.at),
        request: line.request,
        run: line.run.clone(),
        step: line.step.clone(),
        labels: line.labels.clone(),
        key: line.key.clone(),
        offer: line.offer.clone(),
        revision: snapshot.revision,
        cost: Some(correction.difference),
        record: Record::Adjustment(AdjustmentRecord { reason: reason.to_owned() }),
        ..LedgerEntry::of_request(line.at, line.request, line.team.clone(), line.route.clone())
    };
    Settled { entry, detail: None, quotas: uses.collect() }
}

#[derive(Default)]
struct Sums {
    requests: u64,
    before: Money,
    after: Money,
    teams: BTreeMap<String, (u64, Money)>,
}

impl Sums {
    fn add(&mut self, snapshot: &Snapshot, correction: &Correction) {
        self.requests += 1;
        self.before = self.before + correction.before;
        self.after = self.after + correction.before + correction.difference.total();
        let team = self.teams.entry(snapshot.former.team(correction.line.team.as_str()).to_owned()).or_default();
        *team = (team.0 + 1, team.1 + correction.difference.total());
    }

    fn teams(self) -> Vec<TeamAdjusted> {
        let mut teams: Vec<_> = self.teams.into_iter().collect();
        teams.sort_by_key(|(name, (_, difference))| (std::cmp::Reverse(difference.amount().abs()), name.clone()));
        let line = |(team, (requests, difference)): (String, (u64, Money))| TeamAdjusted {
            team,
            requests,
            difference: difference.to_string(),
        };
        teams.into_iter().map(line).collect()
    }
}
