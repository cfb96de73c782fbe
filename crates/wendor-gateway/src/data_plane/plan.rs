//! Step 2, plan: takes an admitted request, puts the order of its offers on its ticket; never fails, but the plan may be empty.
//!
//! The rule is [`wendor_core::routing::plan`]; this step tells it what the process knows: health, streams, rates.

use wendor_core::metering::rate::price;
use wendor_core::name::OfferName;
use wendor_core::routing::plan::{OfferView, Plan, make};

use super::admit::Admitted;

/// Plans the attempts of a request.
pub fn plan(admitted: &mut Admitted) {
    let ticket = &admitted.ticket;
    let plan = match ticket.snapshot().catalogue.routes.get(ticket.route()) {
        Some(route) => make(route, |offer| view(admitted, offer), ticket.seed()),
        None => Plan::default(),
    };
    admitted.ticket.planned(plan);
}

fn view(admitted: &Admitted, offer: &OfferName) -> OfferView {
    let ticket = &admitted.ticket;
    let (app, snapshot) = (ticket.app(), ticket.snapshot());
    let upstream = app.fleet.upstream(offer.upstream());
    let (health, rests_until, first_token_ms) = {
        let health = upstream.health();
        (health.state(), health.rests_until(ticket.arrived_at()), health.first_token_ms())
    };
    let rate = snapshot.rates.in_force(offer, ticket.arrived_at().date_naive());
    OfferView {
        health,
        rests_until,
        streams_open: upstream.streams(),
        streams: snapshot
            .catalogue
            .offer(offer)
            .and_then(|(upstream, _)| upstream.streams)
            .map(std::num::NonZeroU32::get),
        first_token_ms,
        expected_cost: rate.map(|rate| price(ticket.worst().counts(), rate).total()),
    }
}
