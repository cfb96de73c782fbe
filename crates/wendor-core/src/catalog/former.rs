//! Names that things had: records are never edited, so they carry the name that a thing had when they were written. [`Former`] leads from that
//! name to the present one, and back to all names under which records may stand.

use std::borrow::Cow;
use std::collections::BTreeMap;

use super::Catalogue;
use crate::name::{Name, OfferName};

/// Present names by former ones.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Former {
    teams: BTreeMap<Name, Name>,
    routes: BTreeMap<Name, Name>,
    upstreams: BTreeMap<Name, Name>,
}

impl Former {
    /// Those of a catalogue.
    #[must_use]
    pub fn of(catalogue: &Catalogue) -> Self {
        let teams = catalogue.teams.iter().flat_map(|(name, team)| pairs(name, team.former.iter()));
        let upstreams = catalogue.upstreams.iter().flat_map(|(name, upstream)| pairs(name, upstream.former.iter()));
        let names = |former: &super::route::FormerName| former.name.clone();
        let routes = catalogue.routes.iter().flat_map(|(name, route)| {
            let former: Vec<Name> = route.former.iter().map(names).collect();
            former.into_iter().map(move |former| (former, name.clone()))
        });
        Self { teams: teams.collect(), routes: routes.collect(), upstreams: upstreams.collect() }
    }

    /// What a team is called now that was recorded so.
    #[must_use]
    pub fn team<'n>(&'n self, recorded: &'n str) -> &'n str {
        self.teams.get(recorded).map_or(recorded, Name::as_str)
    }

    /// What a route is called now that was recorded so.
    #[must_use]
    pub fn route<'n>(&'n self, recorded: &'n str) -> &'n str {
        self.routes.get(recorded).map_or(recorded, Name::as_str)
    }

    /// What an upstream is called now that was recorded so.
    #[must_use]
    pub fn upstream<'n>(&'n self, recorded: &'n str) -> &'n str {
        self.upstreams.get(recorded).map_or(recorded, Name::as_str)
    }

    /// What an offer, `upstream/model`, is called now that was recorded so.
    #[must_use]
    pub fn offer<'n>(&'n self, recorded: &'n str) -> Cow<'n, str> {
        let now = recorded.split_once('/').and_then(|(upstream, model)| Some((self.upstreams.get(upstream)?, model)));
        now.map_or(Cow::Borrowed(recorded), |(upstream, model)| Cow::Owned(format!("{upstream}/{model}")))
    }

    /// Every name under which a team is recorded, the present one first.
    #[must_use]
    pub fn teams_of(&self, name: &Name) -> Vec<String> {
        all(&self.teams, name)
    }

    /// Every name under which a route is recorded, the present one first.
    #[must_use]
    pub fn routes_of(&self, name: &Name) -> Vec<String> {
        all(&self.routes, name)
    }

    /// Every name under which an upstream is recorded, the present one first.
    #[must_use]
    pub fn upstreams_of(&self, name: &Name) -> Vec<String> {
        all(&self.upstreams, name)
    }

    /// Every name under which an offer is recorded, the present one first.
    #[must_use]
    pub fn offers_of(&self, offer: &OfferName) -> Vec<String> {
        self.upstreams_of(offer.upstream()).iter().map(|upstream| format!("{upstream}/{}", offer.model())).collect()
    }
}

fn pairs<'c>(name: &'c Name, former: impl Iterator<Item = &'c Name> + 'c) -> impl Iterator<Item = (Name, Name)> + 'c {
    former.map(move |former| (former.clone(), name.clone()))
}

fn all(names: &BTreeMap<Name, Name>, name: &Name) -> Vec<String> {
    let former = names.iter().filter(|(_, now)| *now == name).map(|(former, _)| former.to_string());
    std::iter::once(name.to_string()).chain(former).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::file;

    #[test]
    fn records_are_found_under_every_name_that_a_thing_had() {
        let text = r#"
[upstreams.pit]
address = "http://pit.example"
hosting = "own"
former = ["quarry", "hole"]
offers.knot = {}
[routes.cargo]
stages = [{ offers = ["pit/knot"] }]
former = [{ name = "manifests", until = 2026-12-31 }]
[teams.boards]
former = ["timetables"]
"#;
        let former = Former::of(&file::read(text).unwrap_or_else(|problems| panic!("{problems:#?}")).catalogue);
        assert_eq!(
            (former.team("timetables"), former.team("boards"), former.team("gone")),
            ("boards", "boards", "gone")
        );
        assert_eq!((former.route("manifests"), former.upstream("hole")), ("cargo", "pit"));
        assert_eq!(
            (&*former.offer("quarry/knot"), &*former.offer("else/knot"), &*former.offer("")),
            ("pit/knot", "else/knot", "")
        );
        let name = |name: &str| Name::parse(name).unwrap();
        assert_eq!(former.teams_of(&name("boards")), ["boards", "timetables"]);
        assert_eq!(former.routes_of(&name("cargo")), ["cargo", "manifests"]);
        assert_eq!(former.offers_of(&OfferName::parse("pit/knot").unwrap()), ["pit/knot", "hole/knot", "quarry/knot"]);
    }
}
