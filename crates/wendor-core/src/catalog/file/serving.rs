//! Offers that cannot serve what their route is for: what the first offer of a route does, and conversations where the route adds to them.

use wendor_wire::ability::Ability;

use super::names::Wrong;
use crate::catalog::Catalogue;
use crate::catalog::upstream::Offer;
use crate::name::OfferName;

/// What a request can be for as a whole; every other ability is of conversations.
const PURPOSES: [Ability; 4] = [Ability::Chat, Ability::Embeddings, Ability::ImagesOut, Ability::Completions];

fn purposes(offer: &Offer) -> Vec<Ability> {
    PURPOSES.into_iter().filter(|ability| offer.can(*ability)).collect()
}

/// Every offer of a stage that no request of its route could go to.
pub(super) fn idle(catalogue: &Catalogue) -> Vec<Wrong> {
    let mut all = Vec::new();
    let offer_of = |name: &OfferName| catalogue.offer(name).map(|(_, offer)| offer);
    for (name, route) in &catalogue.routes {
        let first = route.offers().find_map(|offer| Some((offer, purposes(offer_of(offer)?))));
        let Some((first, wanted)) = first else { continue };
        for (stage, place, entry) in route.stages.iter().enumerate().flat_map(|(stage, of)| {
            of.offers.iter().enumerate().map(move |(place, entry)| (stage, place, &entry.offer))
        }) {
            let Some(offer) = offer_of(entry) else { continue };
            let serves = purposes(offer);
            let message = if route.preset.is_some() && !serves.contains(&Ability::Chat) {
                format!(
                    "the route adds to conversations, and `{entry}` has no ability `chat`: take it out, or the preset"
                )
            } else if !serves.iter().any(|ability| wanted.contains(ability)) {
                let words = |abilities: &[Ability]| {
                    let words: Vec<String> =
                        abilities.iter().map(|ability| format!("`{}`", ability.as_str())).collect();
                    if words.is_empty() {
                        "none of chat, embeddings, images-out, completions".to_owned()
                    } else {
                        words.join(", ")
                    }
                };
                format!(
                    "`{entry}` can do {}, and `{first}`, the first of the route, {}: no request of the route could go to both",
                    words(&serves),
                    words(&wanted)
                )
            } else {
                continue;
            };
            let path = ["routes", name.as_str(), "stages", &stage.to_string(), "offers", &place.to_string()];
            all.push(Wrong { path: path.map(str::to_owned).to_vec(), message });
        }
    }
    all
}
