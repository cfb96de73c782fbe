//! Step 2, plan: takes an admitted request, puts the order of its offers on its ticket; never fails, but the plan may be empty.
//!
//! The rule is [`wendor_core::routing::plan`]; this step tells it what the process knows: health, streams, rates.

use std::sync::Arc;

use wendor_core::catalog::route::Pick;
use wendor_core::catalog::upstream::{Offer, Upstream};
use wendor_core::diagnosis::inventory::stopped;
use wendor_core::metering::rate::worst_price;
use wendor_core::name::OfferName;
use wendor_core::routing::plan::{Lot, OfferView, Plan, make};
use wendor_core::routing::reason::{Reason, Streams};
use wendor_core::serving::fit::{Content, Unfit, fit};
use wendor_wire::asked::AppRequest;
use wendor_wire::opening::opening;
use wendor_wire::verdict::Target;

use super::account::Account;
use super::admit::Admitted;
use super::images::{Fetched, content_for};
use crate::gate::Prospect;
use crate::snapshot::Snapshot;

/// A request as far as a plan depends on it.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    /// Who asks for how much.
    pub account: &'a Account,
    /// What.
    pub request: &'a AppRequest,
    /// What it holds.
    pub content: &'a Arc<Content>,
    /// The same with the images that were fetched.
    pub fetched: Option<&'a Fetched>,
    /// What its conversation opens with, where a stage keeps turns of one together.
    pub opening: Option<u64>,
}

/// The opening of a request's conversation, where a stage of its route keeps turns of one together.
#[must_use]
pub fn opening_of(account: &Account, body: &[u8]) -> Option<u64> {
    let route = account.snapshot.catalogue.routes.get(&account.route)?;
    let own = || account.preset.as_ref().map_or_else(|| opening(body), |preset| preset.opening);
    route.stages.iter().any(|stage| stage.pick == Pick::Together).then(own).flatten()
}

/// The offers that cannot serve a request, and why.
pub type UnfitOffers = Vec<(OfferName, Unfit)>;

/// Plans the attempts of a request.
pub fn plan(admitted: &mut Admitted) {
    let Admitted { ticket, request, content, fetched, body, .. } = &*admitted;
    let opening = opening_of(ticket.account(), &body.bytes);
    let subject = Subject { account: ticket.account(), request, content, fetched: fetched.as_ref(), opening };
    let (plan, unfit) = plan_of(subject);
    admitted.ticket.planned(plan);
    admitted.unfit = unfit;
}

/// The plan of a request, whether it is made or only asked about.
#[must_use]
pub fn plan_of(subject: Subject<'_>) -> (Plan, UnfitOffers) {
    let account = subject.account;
    let Some(route) = account.snapshot.catalogue.routes.get(&account.route) else {
        return (Plan::default(), Vec::new());
    };
    let mut unfit: UnfitOffers = Vec::new();
    for offer in route.offers() {
        if !unfit.iter().any(|(known, _)| known == offer) {
            unfit.extend(cannot_serve(subject, offer, route.is_strict).map(|why| (offer.clone(), why)));
        }
    }
    let why = |offer: &OfferName| {
        let unfit = unfit.iter().find(|(known, _)| known == offer).map(|(_, why)| why.reason.as_str());
        unfit.map(Reason::told).or_else(|| stopped_at(account, offer))
    };
    let lot = Lot { seed: account.seed(), opening: subject.opening };
    let plan = make(route, |offer| OfferView { unfit: why(offer), ..view(account, offer) }, lot);
    (plan, unfit)
}

/// Why an offer cannot serve the request, if it cannot: a pure question to the core.
fn cannot_serve(subject: Subject<'_>, name: &OfferName, is_strict: bool) -> Option<Unfit> {
    let snapshot = &subject.account.snapshot;
    let (upstream, offer) = snapshot.catalogue.offer(name)?;
    let target = target_of(snapshot, name, upstream, offer);
    let content = content_for(subject.content, subject.fetched, offer);
    fit(subject.request, content, offer, &target, is_strict).err()
}

/// Why nothing goes to an offer for now: its upstream is drained, or it is pinned to weights that are not served there.
fn stopped_at(account: &Account, name: &OfferName) -> Option<Reason> {
    let (upstream, offer) = account.snapshot.catalogue.offer(name)?;
    if upstream.is_drained {
        return Some(Reason::IsDrained);
    }
    offer.weights.as_ref()?;
    let why = stopped(name.model(), offer, account.app.fleet.upstream(name.upstream()).inventory().as_deref());
    why.map(|why| Reason::told(&why))
}

/// What is known of an offer for a request of this account.
#[must_use]
pub fn view(account: &Account, offer: &OfferName) -> OfferView {
    let known = account.app.fleet.known(offer);
    let worst = account.worst_at(offer, &known.offer);
    let rate = account.rate(offer);
    let unlimited =
        || Prospect { streams: Streams { open: known.upstream.gate().fullness().streams, of: None }, room: Ok(()) };
    let Prospect { streams, room } = account.ask_at(offer, &known).map_or_else(unlimited, |asked| asked.look());
    OfferView {
        asking: known.asking(account.call.arrived_at),
        streams,
        loads_since: known.offer.loads_since(account.call.arrived_at),
        room,
        first_token_ms: known.offer.waits_ms().usual,
        expected_cost: rate.map(|rate| worst_price(worst.counts(), worst.images, rate)),
        unfit: None,
    }
}

/// What translation and verdict have to know of an offer.
#[must_use]
pub fn target_of<'a>(snapshot: &Snapshot, name: &'a OfferName, upstream: &Upstream, offer: &'a Offer) -> Target<'a> {
    Target {
        dialect: upstream.dialect,
        model: name.model(),
        marks: &offer.marks,
        controls: offer.controls,
        seals: snapshot.seals(name.upstream()),
        output_cap: offer.output_cap.map(|cap| u64::from(cap.get())),
    }
}
