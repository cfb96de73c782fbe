//! Step 2, plan: takes an admitted request, puts the order of its offers on its ticket; never fails, but the plan may be empty.
//!
//! The rule is [`wendor_core::routing::plan`]; this step tells it what the process knows: health, streams, rates.

use wendor_core::catalog::upstream::{Offer, Upstream};
use wendor_core::diagnosis::inventory::stopped;
use wendor_core::metering::rate::worst_price;
use wendor_core::name::OfferName;
use wendor_core::routing::plan::{OfferView, Plan, make};
use wendor_core::routing::reason::{Reason, Streams};
use wendor_core::wire::fit::{Unfit, fit};
use wendor_core::wire::verdict::Target;

use super::admit::Admitted;
use crate::snapshot::Snapshot;

/// Plans the attempts of a request.
pub fn plan(admitted: &mut Admitted) {
    let snapshot = admitted.ticket.snapshot().clone();
    let Some(route) = snapshot.catalogue.routes.get(admitted.ticket.route()) else {
        return admitted.ticket.planned(Plan::default());
    };
    let mut unfit: Vec<(OfferName, Unfit)> = Vec::new();
    for offer in route.offers() {
        if !unfit.iter().any(|(known, _)| known == offer) {
            unfit.extend(cannot_serve(admitted, offer, route.is_strict).map(|why| (offer.clone(), why)));
        }
    }
    let why = |offer: &OfferName| {
        let unfit = unfit.iter().find(|(known, _)| known == offer).map(|(_, why)| why.reason.as_str());
        unfit.map(Reason::told).or_else(|| stopped_at(admitted, offer))
    };
    let plan = make(route, |offer| OfferView { unfit: why(offer), ..view(admitted, offer) }, admitted.ticket.seed());
    admitted.ticket.planned(plan);
    admitted.unfit = unfit;
}

/// Why an offer cannot serve the request, if it cannot: a pure question to the core.
fn cannot_serve(admitted: &Admitted, name: &OfferName, is_strict: bool) -> Option<Unfit> {
    let (upstream, offer) = admitted.ticket.snapshot().catalogue.offer(name)?;
    let target = target_of(admitted.ticket.snapshot(), name, (upstream, offer));
    fit(&admitted.request, admitted.content_for(offer), (offer, &target), is_strict).err()
}

/// Why nothing goes to an offer for now: its upstream is drained, or it is pinned to weights that are not served there.
fn stopped_at(admitted: &Admitted, name: &OfferName) -> Option<Reason> {
    let (upstream, offer) = admitted.ticket.snapshot().catalogue.offer(name)?;
    if upstream.is_drained {
        return Some(Reason::IsDrained);
    }
    offer.weights.as_ref()?;
    let why =
        stopped(name.model(), offer, admitted.ticket.app().fleet.upstream(name.upstream()).inventory().as_deref());
    why.map(|why| Reason::told(&why))
}

fn view(admitted: &Admitted, offer: &OfferName) -> OfferView {
    let ticket = &admitted.ticket;
    let fleet = &ticket.app().fleet;
    let upstream = fleet.upstream(offer.upstream());
    let worst = ticket.account().worst_at(offer);
    let rate = ticket.account().rate(offer);
    let asked = ticket.ask_at(offer);
    let of = asked.as_ref().and_then(|(_, limits)| limits.streams).map(|all| u32::try_from(all).unwrap_or(u32::MAX));
    OfferView {
        asking: fleet.asking(offer, ticket.arrived_at()),
        streams: Streams { open: upstream.gate().fullness().streams, of },
        room: asked.map_or(Ok(()), |(ask, limits)| upstream.gate().look(&ask, limits)),
        first_token_ms: upstream.offer(offer.model()).waits_ms().usual,
        expected_cost: rate.map(|rate| worst_price(worst.counts(), worst.images, rate)),
        unfit: None,
    }
}

/// What translation and verdict have to know of an offer.
#[must_use]
pub fn target_of<'a>(
    snapshot: &Snapshot,
    name: &'a OfferName,
    (upstream, offer): (&Upstream, &'a Offer),
) -> Target<'a> {
    Target {
        dialect: upstream.dialect,
        model: name.model(),
        marks: &offer.marks,
        controls: offer.controls,
        seals: snapshot.seals(name.upstream()),
        output_cap: offer.output_cap.map(|cap| u64::from(cap.get())),
    }
}
