//! What a change of the catalogue means for those who use it, in sentences: keys that stop working, routes that nobody may ask, offers that
//! take no more requests. What changes stands in [`super::difference`].

use std::collections::BTreeSet;

use super::Catalogue;
use super::team::Access;
use crate::name::Name;
use crate::words::grouped;

/// A key that works, as far as a change may end that.
#[derive(Clone, Debug)]
pub struct KeyInUse {
    /// What it is for.
    pub label: String,
    /// Whose it is.
    pub team: Name,
    /// The routes that it may use of those of its team.
    pub routes: Access,
}

impl KeyInUse {
    fn opens(&self, catalogue: &Catalogue) -> bool {
        let Some(team) = catalogue.team_name(self.team.as_str()).and_then(|name| catalogue.teams.get(name)) else {
            return false;
        };
        let is_own = |route: &Name| match &self.routes {
            Access::AllRoutes => true,
            Access::Only(names) => names.iter().any(|name| catalogue.route_name(name.as_str()) == Some(route)),
        };
        catalogue.routes.keys().any(|route| team.access.allows(route.as_str()) && is_own(route))
    }
}

/// The names of at most so many things are told; of more their number.
const NAMED: usize = 3;

/// What a change from `before` to `after` means, the worst first; nothing where nobody will notice.
#[must_use]
pub fn of(before: &Catalogue, after: &Catalogue, keys: &[KeyInUse]) -> Vec<String> {
    let mut all = Vec::new();
    let stopped: Vec<String> = keys
        .iter()
        .filter(|key| key.opens(before) && !key.opens(after))
        .map(|key| format!("`{}` of {}", key.label, key.team))
        .collect();
    all.extend(sentence(&stopped, "key", "stops working", "stop working"));
    let routes = |is_told: &dyn Fn(&Name, Option<&Name>) -> bool| -> Vec<String> {
        let told = after.routes.keys().filter(|name| is_told(name, earlier_name(before, after, name)));
        told.map(|name| format!("`{name}`")).collect()
    };
    let idle = routes(&|name, earlier| is_idle(after, name) && earlier.is_none_or(|name| !is_idle(before, name)));
    all.extend(sentence(
        &idle,
        "route",
        "loses its last offer that takes requests",
        "lose their last offer that takes requests",
    ));
    let closed = routes(&|name, earlier| !is_open(after, name) && earlier.is_none_or(|name| is_open(before, name)));
    all.extend(sentence(&closed, "route", "can be used by no team", "can be used by no team"));
    for (name, earlier) in &before.teams {
        let Some((name, team)) = after.team_name(name.as_str()).and_then(|name| after.teams.get_key_value(name)) else {
            continue;
        };
        let lost = routes(&|route, before| {
            !team.access.allows(route.as_str()) && before.is_some_and(|route| earlier.access.allows(route.as_str()))
        });
        if !lost.is_empty() {
            all.push(format!("The team {name} can no longer use {}.", listed(&lost)));
        }
    }
    if before.currency != after.currency && !before.upstreams.is_empty() {
        all.push(format!("Every rate is read as {} from now on; amounts of before stay as they are.", after.currency));
    }
    all
}

fn sentence(things: &[String], what: &str, one: &str, more: &str) -> Option<String> {
    let does = if things.len() == 1 { one } else { more };
    let count = u64::try_from(things.len()).unwrap_or(u64::MAX);
    let plural = if things.len() == 1 { "" } else { "s" };
    (!things.is_empty()).then(|| format!("{} {what}{plural} {does}: {}.", grouped(count), listed(things)))
}

fn listed(things: &[String]) -> String {
    let named = things.iter().take(NAMED).cloned().collect::<Vec<_>>().join(", ");
    match things.len().saturating_sub(NAMED) {
        0 => named,
        more => format!("{named} and {more} more"),
    }
}

/// What a route of `after` was called in `before`, if it was there.
fn earlier_name<'c>(before: &'c Catalogue, after: &'c Catalogue, route: &Name) -> Option<&'c Name> {
    let former = after.routes.get(route).into_iter().flat_map(|route| route.former.iter().map(|former| &former.name));
    before
        .routes
        .keys()
        .find(|name| *name == route)
        .or_else(|| former.rev().find_map(|name| before.routes.get_key_value(name).map(|(name, _)| name)))
}

/// Whether every offer of a route stands at an upstream that takes no new requests.
fn is_idle(catalogue: &Catalogue, route: &Name) -> bool {
    let Some(route) = catalogue.routes.get(route) else { return false };
    let upstreams: BTreeSet<&Name> = route.offers().map(crate::name::OfferName::upstream).collect();
    upstreams.iter().all(|name| catalogue.upstreams.get(*name).is_none_or(|upstream| upstream.is_drained))
}

/// Whether any team may use a route.
fn is_open(catalogue: &Catalogue, route: &Name) -> bool {
    catalogue.teams.values().any(|team| team.access.allows(route.as_str()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::file;
    use rstest::rstest;

    const BASE: &str = r#"
[upstreams.quarry]
address = "http://quarry.example"
hosting = "hosted"
offers.fulmar-mini = {}
[routes.manifests]
stages = [{ offers = ["quarry/fulmar-mini"] }]
[routes.decks]
stages = [{ offers = ["quarry/fulmar-mini"] }]
[teams.timetables]
routes = ["manifests", "decks"]
[teams.data-lab]
routes = ["decks"]
"#;

    #[rstest]
    #[case::nothing("", "", &[])]
    #[case::a_team_goes("[teams.timetables]\nroutes = [\"manifests\", \"decks\"]", "", &[
        "2 keys stop working: `board` of timetables, `clerk` of timetables.",
        "1 route can be used by no team: `manifests`.",
    ])]
    #[case::a_route_of_a_key("[\"manifests\", \"decks\"]", "[\"decks\"]", &[
        "1 key stops working: `clerk` of timetables.",
        "1 route can be used by no team: `manifests`.",
        "The team timetables can no longer use `manifests`.",
    ])]
    #[case::drained("hosting = \"hosted\"", "hosting = \"hosted\"\ndrained = true", &[
        "2 routes lose their last offer that takes requests: `decks`, `manifests`.",
    ])]
    #[case::the_currency("\n[upstreams", "currency = \"SEK\"\n[upstreams", &[
        "Every rate is read as SEK from now on; amounts of before stay as they are.",
    ])]
    #[case::a_new_name("[routes.manifests]", "[routes.cargo]\nformer = [\"manifests\"]", &[])]
    fn what_a_change_means_is_told(#[case] right: &str, #[case] other: &str, #[case] told: &[&str]) {
        let catalogue = |text: &str| file::read(text).unwrap_or_else(|problems| panic!("{problems:#?}")).catalogue;
        let after = BASE.replacen(right, other, 1);
        let after = if other.contains("cargo") { after.replace("[\"manifests\",", "[\"cargo\",") } else { after };
        let key = |label: &str, routes: Access| KeyInUse {
            label: label.to_owned(),
            team: Name::parse("timetables").unwrap(),
            routes,
        };
        let only = |route: &str| Access::Only([Name::parse(route).unwrap()].into());
        let keys = [key("board", Access::AllRoutes), key("clerk", only("manifests"))];
        assert_eq!(of(&catalogue(BASE), &catalogue(&after), &keys), told);
    }
}
