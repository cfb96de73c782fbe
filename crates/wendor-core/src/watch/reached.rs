//! Which routes and teams the trouble of an offer reaches: whether a route has another offer that works, and outcomes requests.

use crate::catalog::Catalogue;
use crate::name::{Name, OfferName};
use crate::words::grouped;

/// Requests of one team to one route of late.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outcomes {
    /// Whose requests are counted here.
    pub team: Name,
    /// Those that were answered.
    pub answered: u64,
    /// Those that were not, or broke off.
    pub failed: u64,
}

/// A route that the trouble reaches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reached {
    /// As apps ask for it.
    pub route: Name,
    /// The offer that is asked instead, if one works.
    pub goes_on_to: Option<OfferName>,
    /// Its requests of late, by team.
    pub outcomes: Vec<Outcomes>,
}

/// The routes that hold one of the offers that do not work, those without a working offer first. `works` tells of an offer whether it is
/// asked; `outcomes` tells of a route's requests of late.
#[must_use]
pub fn routes(
    catalogue: &Catalogue,
    is_in_trouble: impl Fn(&OfferName) -> bool,
    works: impl Fn(&OfferName) -> bool,
    outcomes: impl Fn(&Name) -> Vec<Outcomes>,
) -> Vec<Reached> {
    let reached = catalogue.routes.iter().filter(|(_, route)| route.offers().any(&is_in_trouble));
    let mut reached: Vec<Reached> = reached
        .map(|(name, route)| Reached {
            route: name.clone(),
            goes_on_to: route.offers().find(|offer| works(offer)).cloned(),
            outcomes: outcomes(name),
        })
        .collect();
    reached.sort_by_key(|one| one.goes_on_to.is_some());
    reached
}

/// What it means for a route, in a sentence: `minutes` is what "of late" is.
#[must_use]
pub fn sentence(reached: &Reached, minutes: usize) -> String {
    let failed: u64 = reached.outcomes.iter().map(|one| one.failed).sum();
    let all: u64 = failed + reached.outcomes.iter().map(|one| one.answered).sum::<u64>();
    let teams: Vec<&str> = reached.outcomes.iter().filter(|one| one.failed > 0).map(|one| one.team.as_str()).collect();
    let of = if teams.is_empty() { String::new() } else { format!(" of {}", teams.join(", ")) };
    let counts = match (failed, all) {
        (_, 0) => format!("no requests in the last {minutes} min"),
        (0, _) => format!("none of {} requests failed in the last {minutes} min", grouped(all)),
        (failed, all) => {
            format!("{} of {} requests failed in the last {minutes} min{of}", grouped(failed), grouped(all))
        }
    };
    match &reached.goes_on_to {
        Some(offer) => format!("{} goes on to {offer}: {counts}.", reached.route),
        None => format!("{} has no working offer: {counts}.", reached.route),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::file;
    use rstest::rstest;

    const FILE: &str = r#"
[upstreams.quayside-a]
address = "http://127.0.0.1:7501"
hosting = "own"
offers.dunlin-7b = {}
[upstreams.quarry]
address = "https://quarry.example"
hosting = "hosted"
offers.fulmar-large = {}
[routes.deck-plans]
stages = [{ offers = ["quayside-a/dunlin-7b"] }]
[routes.night-sailings]
stages = [{ offers = ["quayside-a/dunlin-7b"] }, { offers = ["quarry/fulmar-large"] }]
[routes.manifests]
stages = [{ offers = ["quarry/fulmar-large"] }]
"#;

    fn name(text: &str) -> Name {
        Name::parse(text).unwrap()
    }

    #[test]
    fn routes_without_a_working_offer_come_first_and_others_go_on() {
        let catalogue = file::read(FILE).unwrap().catalogue;
        let trouble = |offer: &OfferName| offer.upstream().as_str() == "quayside-a";
        let reached = routes(&catalogue, trouble, |offer| !trouble(offer), |_| Vec::new());
        let sentences: Vec<String> = reached.iter().map(|one| sentence(one, 5)).collect();
        assert_eq!(
            sentences,
            [
                "deck-plans has no working offer: no requests in the last 5 min.",
                "night-sailings goes on to quarry/fulmar-large: no requests in the last 5 min.",
            ]
        );
    }

    #[rstest]
    #[case::all((0, 6), "6 of 6 requests failed in the last 5 min of harbour-ops")]
    #[case::none((1_200, 0), "none of 1,200 requests failed in the last 5 min")]
    fn what_became_of_its_requests(#[case] (answered, failed): (u64, u64), #[case] counts: &str) {
        let outcomes = vec![Outcomes { team: name("harbour-ops"), answered, failed }];
        let words = sentence(&Reached { route: name("deck-plans"), goes_on_to: None, outcomes }, 5);
        assert_eq!(words, format!("deck-plans has no working offer: {counts}."));
    }
}
