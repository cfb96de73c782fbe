//! What a draft would have done to the requests of the last week: the ledger's lines enter, the core plans them anew on both sides.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::team::Access;
use wendor_core::metering::rate::RateCard;
use wendor_core::metering::rollup::RollUp;
use wendor_core::name::OfferName;
use wendor_core::routing::effect::{self, Effect, Outcome, PastRequest, Sides, Terms, World};
use wendor_store::past::PastLine;
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery};

use super::problem::Problem;
use crate::app::App;
use crate::snapshot::Snapshot;

/// Days of requests that are planned anew.
const DAYS: i64 = 7;

/// Requests that are planned at most; of more, one of so many.
const PLANNED: u64 = 20_000;

/// The median.
const TYPICAL: u64 = 500;

/// What a change would have done to the requests of the last week.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EffectSeen {
    /// From when on.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// Requests in that time.
    pub requests: u64,
    /// Of these, planned anew; where they are fewer, counts and money are scaled up.
    pub planned: u64,
    /// Requests that would go elsewhere, or be refused, or not any more.
    pub moved: u64,
    /// How far that may be off, at 95 in 100; 0 where every request was planned.
    pub moved_error: u64,
    /// What they cost before, all digits, at the rates of `priced_on`.
    pub cost_before: String,
    /// What they would cost.
    pub cost_after: String,
    /// The day whose rates are taken: today, or the last day on which a rate of the change begins.
    pub priced_on: chrono::NaiveDate,
    /// What is taken for granted, in a sentence.
    pub assumes: String,
    /// By route and where its requests go; only routes of which something changes.
    pub lines: Vec<EffectLine>,
}

/// Requests of a route with one outcome.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EffectLine {
    /// The route, as it is called afterwards.
    pub route: String,
    /// The offer that is asked first; nothing where they are refused.
    pub offer: Option<String>,
    /// Why they are refused; nothing where they are not.
    pub refused: Option<String>,
    /// Requests before.
    pub before: u64,
    /// Requests after.
    pub after: u64,
    /// How far the larger of both may be off, at 95 in 100.
    pub error: u64,
    /// What they cost before, all digits.
    pub cost_before: String,
    /// What they would cost.
    pub cost_after: String,
    /// The mean of the usual waits for a first token before, in milliseconds.
    pub first_token_before_ms: Option<u64>,
    /// The same after.
    pub first_token_after_ms: Option<u64>,
}

/// The other side of a change.
pub(super) struct After<'a> {
    /// Upstreams, routes, teams as they would be.
    pub catalogue: &'a Catalogue,
    /// With the rates that the change adds.
    pub rates: &'a RateCard,
}

/// What a change would have done.
///
/// # Errors
/// When the database is away.
pub(super) async fn seen(app: &App, before: &Snapshot, after: After<'_>) -> Result<EffectSeen, Problem> {
    let to = app.clock.now();
    let from = to - TimeDelta::days(DAYS);
    let filter = UsageFilter { former: before.former.clone(), ..UsageFilter::default() };
    let by_offer = app.usage(&UsageQuery::of(from, to, Dimension::Offer, filter)).await?;
    let requests: u64 = by_offer.values().map(|sums| sums.requests).sum();
    let every = requests.div_ceil(PLANNED).max(1);
    let lines = app.store.past_requests(from, to, every).await?;
    let access: HashMap<&str, &Access> = before.keys.values().map(|key| (key.id.as_str(), &key.access)).collect();
    let past: Vec<PastRequest> = lines.into_iter().map(|line| past(line, &access)).collect();
    let known = |rates: &RateCard| rates.iter().map(|(_, rate)| rate.effective_on).max();
    let newest = known(after.rates).filter(|day| known(&before.rates) != Some(*day));
    let day = newest.map_or(to.date_naive(), |day| day.max(to.date_naive()));
    let terms = Terms { day, first_token_ms: usual_waits(&by_offer, after.catalogue), every };
    let effect = effect::of(
        past.iter(),
        World { catalogue: &before.catalogue, rates: &before.rates },
        World { catalogue: after.catalogue, rates: after.rates },
        &terms,
    );
    Ok(told(&effect, from, to, &terms))
}

fn past(line: PastLine, access: &HashMap<&str, &Access>) -> PastRequest {
    let PastLine { at, id, team, key, route, tokens } = line;
    let access = access.get(key.as_str()).map_or(Access::AllRoutes, |access| (*access).clone());
    PastRequest { at, seed: id.seed(), team, access, route, tokens }
}

/// The usual wait for a first token by offer, also under the name that its upstream would have.
fn usual_waits(by_offer: &BTreeMap<String, RollUp>, after: &Catalogue) -> BTreeMap<OfferName, u64> {
    let mut waits = BTreeMap::new();
    for (offer, sums) in by_offer {
        let (Ok(offer), Some(wait)) = (OfferName::parse(offer), sums.first_token.quantile_ms(TYPICAL)) else {
            continue;
        };
        let renamed = after.upstream_name(offer.upstream().as_str()).filter(|name| *name != offer.upstream());
        waits.extend(
            renamed.and_then(|name| OfferName::new(name.clone(), offer.model()).ok()).map(|offer| (offer, wait)),
        );
        waits.insert(offer, wait);
    }
    waits
}

fn told(effect: &Effect, from: DateTime<Utc>, to: DateTime<Utc>, terms: &Terms) -> EffectSeen {
    let changed: Vec<&String> =
        effect.lines.iter().filter(|(_, sides)| is_changed(sides)).map(|((route, _), _)| route).collect();
    let shown = effect.lines.iter().filter(|((route, _), _)| changed.contains(&route));
    let sum = |of: fn(&Sides) -> wendor_core::metering::money::Money| -> String {
        effect.lines.values().map(of).sum::<wendor_core::metering::money::Money>().to_string()
    };
    EffectSeen {
        from,
        to,
        requests: effect.requests,
        planned: effect.planned,
        moved: effect.moved,
        moved_error: effect.error(effect.moved),
        cost_before: sum(|sides| sides.cost_before),
        cost_after: sum(|sides| sides.cost_after),
        priced_on: terms.day,
        assumes: "Taken for granted: every upstream is well, has room and can do what was asked; answers are as long as they were."
            .to_owned(),
        lines: shown.map(|((route, outcome), sides)| line(effect, route, outcome, sides)).collect(),
    }
}

fn is_changed(sides: &Sides) -> bool {
    (sides.before, sides.cost_before) != (sides.after, sides.cost_after)
}

fn line(effect: &Effect, route: &str, outcome: &Outcome, sides: &Sides) -> EffectLine {
    let (offer, refused) = match outcome {
        Outcome::Offer(offer) => (Some(offer.to_string()), None),
        Outcome::Refused(why) => (None, Some((*why).to_owned())),
    };
    let mean = |sum: u64, count: u64| sum.checked_div(count).filter(|mean| *mean > 0);
    EffectLine {
        route: route.to_owned(),
        offer,
        refused,
        before: sides.before,
        after: sides.after,
        error: effect.error(sides.before.max(sides.after)),
        cost_before: sides.cost_before.to_string(),
        cost_after: sides.cost_after.to_string(),
        first_token_before_ms: mean(sides.first_ms_before, sides.before),
        first_token_after_ms: mean(sides.first_ms_after, sides.after),
    }
}
