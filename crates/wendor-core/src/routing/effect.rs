//! What a change of the catalogue would have done to requests of the past: each is planned anew under the catalogue of before and under that
//! of after, by the planner that plans requests, with the same seed.
//!
//! The ledger says who asked for what, how much was used and when; it does not say how full an upstream was, or what a request needed beside
//! tokens. So every upstream is taken to be well, with room, and able, and what was used is taken to be used again, but for the
//! input of a preset that changes. Rates are those of one
//! day on both sides. Where requests are a sample, counts and money are scaled up, and [`Effect::error`] says how far a count may be off.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, NaiveDate, Utc};
use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use wendor_wire::images::Images;
use wendor_wire::usage::TokenCounts;

use super::health::Asking;
use super::plan::{Lot, OfferView, make};
use super::reason::{Reason, Streams};
use crate::catalog::Catalogue;
use crate::catalog::preset::Preset;
use crate::catalog::retirement::{Standing, standing};
use crate::catalog::route::Route;
use crate::catalog::team::Access;
use crate::metering::money::Money;
use crate::metering::rate::{RateCard, price};
use crate::name::{Name, OfferName};
use crate::quota::AtLimit;
use crate::quota::use_of::settled;

/// A request of the past.
#[derive(Clone, Debug)]
pub struct PastRequest {
    /// When it arrived.
    pub at: DateTime<Utc>,
    /// Decides as it does among equals and by share.
    pub seed: u64,
    /// Who paid, as recorded.
    pub team: Name,
    /// The routes that its key may use.
    pub access: Access,
    /// The route, as recorded.
    pub route: Name,
    /// What was used.
    pub tokens: TokenCounts,
}

/// A catalogue with what it takes to plan by it.
#[derive(Clone, Copy, Debug)]
pub struct World<'w> {
    /// Upstreams, routes, teams.
    pub catalogue: &'w Catalogue,
    /// What offers cost.
    pub rates: &'w RateCard,
}

/// What is the same on both sides.
#[derive(Clone, Debug)]
pub struct Terms {
    /// The day whose rates are taken, and on which routes have retired or not.
    pub day: NaiveDate,
    /// The usual wait for a first token, by offer.
    pub first_token_ms: BTreeMap<OfferName, u64>,
    /// Of how many requests each of these is one.
    pub every: u64,
}

/// Where a request goes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Outcome {
    /// To this offer first.
    Offer(OfferName),
    /// It is refused, for this reason.
    Refused(&'static str),
}

/// Requests of a route with one outcome, on both sides.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sides {
    /// Requests under the catalogue of before, scaled up.
    pub before: u64,
    /// Requests under that of after, scaled up.
    pub after: u64,
    /// What they cost before, scaled up; what has no rate is left out.
    pub cost_before: Money,
    /// What they cost after.
    pub cost_after: Money,
    /// The sum of the usual waits for a first token before, in milliseconds, for the mean.
    pub first_ms_before: u64,
    /// The same after.
    pub first_ms_after: u64,
}

/// What a change would have done.
#[derive(Clone, Debug, Default)]
pub struct Effect {
    /// Requests that were planned anew.
    pub planned: u64,
    /// Requests that they stand for.
    pub requests: u64,
    /// Requests whose first offer would be another, or that would be refused, or not any more; scaled up.
    pub moved: u64,
    /// By route, as it is called after, and outcome.
    pub lines: BTreeMap<(String, Outcome), Sides>,
}

impl Effect {
    /// How far a count of this effect may be off, at 95 in 100: 1.96 standard errors of a proportion, `sqrt(p (1 - p) / n)`, times
    /// all requests. Zero where every request was planned.
    #[must_use]
    pub fn error(&self, count: u64) -> u64 {
        if self.planned == self.requests || self.planned == 0 {
            return 0;
        }
        let (count, all, planned) = (count.to_f64(), self.requests.to_f64(), self.planned.to_f64());
        let (Some(count), Some(all), Some(planned)) = (count, all, planned) else { return 0 };
        let part = (count / all).clamp(0.0, 1.0);
        // Of what was never seen at least one of so many may be: the rule of three.
        let error = if part == 0.0 { 3.0 / planned } else { 1.96 * (part * (1.0 - part) / planned).sqrt() };
        (error * all).ceil().to_u64().unwrap_or(u64::MAX)
    }
}

/// Plans `requests`, which are in the order in which they arrived, under both catalogues.
#[must_use]
pub fn of<'r>(
    requests: impl Iterator<Item = &'r PastRequest>,
    before: World<'_>,
    after: World<'_>,
    terms: &Terms,
) -> Effect {
    let (mut earlier, mut later) = (Side::of(before, None, terms), Side::of(after, Some(before.catalogue), terms));
    let mut effect = Effect::default();
    for request in requests {
        let (was, will_be) = (earlier.outcome(request), later.outcome(request));
        let route = after.catalogue.route_name(request.route.as_str()).unwrap_or(&request.route).to_string();
        effect.planned += 1;
        effect.requests += terms.every;
        let former = before.catalogue.route_name(request.route.as_str());
        if !is_same(&was.outcome, &will_be.outcome, after.catalogue) || former.is_none() {
            effect.moved += terms.every;
        }
        let scaled =
            |cost: Option<Money>| Money::product(Decimal::from(terms.every), cost.unwrap_or_default().amount());
        let line = effect.lines.entry((route.clone(), was.named_in(after.catalogue))).or_default();
        line.before += terms.every;
        line.cost_before = line.cost_before + scaled(was.cost);
        line.first_ms_before += was.first_ms * terms.every;
        let line = effect.lines.entry((route, will_be.outcome.clone())).or_default();
        line.after += terms.every;
        line.cost_after = line.cost_after + scaled(will_be.cost);
        line.first_ms_after += will_be.first_ms * terms.every;
    }
    effect
}

/// Whether both are the same, by the names of after.
fn is_same(was: &Outcome, will_be: &Outcome, after: &Catalogue) -> bool {
    match (was, will_be) {
        (Outcome::Offer(was), Outcome::Offer(will_be)) => renamed(was, after) == *will_be,
        (was, will_be) => was == will_be,
    }
}

/// An offer by the name that its upstream has afterwards.
fn renamed(offer: &OfferName, after: &Catalogue) -> OfferName {
    let upstream = after.upstream_name(offer.upstream().as_str()).unwrap_or_else(|| offer.upstream());
    OfferName::new(upstream.clone(), offer.model()).unwrap_or_else(|_| offer.clone())
}

/// What becomes of a request on one side.
struct Fate {
    outcome: Outcome,
    cost: Option<Money>,
    first_ms: u64,
}

impl Fate {
    fn refused(why: &'static str) -> Self {
        Self { outcome: Outcome::Refused(why), cost: None, first_ms: 0 }
    }

    fn named_in(&self, after: &Catalogue) -> Outcome {
        match &self.outcome {
            Outcome::Offer(offer) => Outcome::Offer(renamed(offer, after)),
            refused @ Outcome::Refused(_) => refused.clone(),
        }
    }
}

/// One catalogue, with what its quotas have used.
struct Side<'w> {
    world: World<'w>,
    /// The catalogue of before, on the side of after.
    was: Option<&'w Catalogue>,
    terms: &'w Terms,
    used: HashMap<(Name, usize, DateTime<Utc>), Decimal>,
}

impl<'w> Side<'w> {
    fn of(world: World<'w>, was: Option<&'w Catalogue>, terms: &'w Terms) -> Self {
        Self { world, was, terms, used: HashMap::new() }
    }

    /// The request as this side has it: where the preset of its route is another one, with that one's input in the place of the other's.
    fn with_preset<'r>(&self, request: &'r PastRequest, route: &Route) -> Cow<'r, PastRequest> {
        let Some(was) = self.was else { return Cow::Borrowed(request) };
        let before = was.route_name(request.route.as_str()).and_then(|name| was.routes.get(name)?.preset.as_ref());
        let after = route.preset.as_ref();
        if before == after {
            return Cow::Borrowed(request);
        }
        let [before, after] = [before, after].map(|preset| preset.map_or(0, Preset::estimated_tokens));
        let tokens = request.tokens;
        // Where it is known how the offer counts the one of before, the other is taken to be counted likewise.
        let preset = (tokens.preset * after).checked_div(before).filter(|_| tokens.preset > 0).unwrap_or(after);
        let input = tokens.input.saturating_sub(tokens.preset) + preset;
        Cow::Owned(PastRequest { tokens: TokenCounts { input, preset, ..tokens }, ..request.clone() })
    }

    fn outcome(&mut self, request: &PastRequest) -> Fate {
        let catalogue = self.world.catalogue;
        let Some((name, team)) =
            catalogue.team_name(request.team.as_str()).and_then(|name| catalogue.teams.get_key_value(name))
        else {
            return Fate::refused("the team is gone");
        };
        let route = catalogue.route_name(request.route.as_str());
        let Some((route_name, route)) = route.and_then(|name| catalogue.routes.get_key_value(name)) else {
            return Fate::refused("the route is gone");
        };
        let is_own = match &request.access {
            Access::AllRoutes => true,
            Access::Only(routes) => routes.iter().any(|own| catalogue.route_name(own.as_str()) == Some(route_name)),
        };
        if !is_own || !team.access.allows(route_name.as_str()) {
            return Fate::refused("the team may not use the route");
        }
        if matches!(standing(route_name, route, request.route.as_str(), self.terms.day), Standing::Gone(_)) {
            return Fate::refused("the route has retired");
        }
        let request = &*self.with_preset(request, route);
        let plan = make(route, |offer| self.view(offer, request), Lot { seed: request.seed, opening: None });
        let Some(offer) = plan.taken().next().map(|planned| planned.offer.clone()) else {
            return Fate::refused("no offer can serve it");
        };
        let cost = self.cost(&offer, request.tokens);
        let scale = Decimal::from(self.terms.every);
        let amounts: Vec<Decimal> =
            team.quotas.iter().map(|quota| settled(quota.measure, request.tokens, cost) * scale).collect();
        let place = |index: usize| (name.clone(), index, team.quotas[index].window.around(request.at).start);
        let used = |side: &Self, index: usize| side.used.get(&place(index)).copied().unwrap_or_default();
        let is_full = |index: usize| {
            let quota = &team.quotas[index];
            quota.at_limit == AtLimit::Refuse && used(self, index) + amounts[index] > quota.limit
        };
        if (0..team.quotas.len()).any(is_full) {
            return Fate::refused("a quota is used up");
        }
        for (index, amount) in amounts.iter().enumerate() {
            *self.used.entry(place(index)).or_default() += amount;
        }
        let first_ms = self.terms.first_token_ms.get(&offer).copied().unwrap_or(0);
        Fate { outcome: Outcome::Offer(offer), cost, first_ms }
    }

    fn cost(&self, offer: &OfferName, tokens: TokenCounts) -> Option<Money> {
        let rate = self.world.rates.in_force(offer, self.terms.day)?;
        price(tokens, Images::default(), rate).map(crate::metering::rate::Cost::total)
    }

    fn view(&self, name: &OfferName, request: &PastRequest) -> OfferView {
        let offer = self.world.catalogue.offer(name);
        let used = request.tokens.all_input() + request.tokens.output;
        let is_too_long = |(_, offer): &(_, &crate::catalog::upstream::Offer)| {
            offer.context_window.is_some_and(|window| u64::from(window.get()) < used)
        };
        let unfit = match &offer {
            Some((upstream, _)) if upstream.is_drained => Some(Reason::IsDrained),
            Some(known) if is_too_long(known) => Some(Reason::told("it does not fit the context window")),
            Some(_) | None => None,
        };
        OfferView {
            asking: Asking::Freely,
            streams: Streams { open: 0, of: offer.and_then(|(upstream, _)| upstream.streams).map(u32::from) },
            loads_since: None,
            room: Ok(()),
            first_token_ms: self.terms.first_token_ms.get(name).copied(),
            expected_cost: self.cost(name, request.tokens),
            unfit,
        }
    }
}

#[cfg(test)]
mod tests;
