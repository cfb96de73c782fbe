//! What upstreams serve beside what their offers promise: what has changed since the last look, and what someone should know before
//! apps notice.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

use super::listing::{ModelSeen, is_called};
use crate::catalog::Catalogue;
use crate::catalog::upstream::Offer;
use crate::catalog::weights::{OtherWeights, is_same_digest};
use crate::name::{Name, OfferName};
use crate::words;

/// What an upstream serves.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inventory {
    /// Its models.
    pub models: Vec<ModelSeen>,
    /// The server's version, where it tells it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_version: Option<String>,
}

worded! {
    /// What has changed.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum EventKind {
        /// A model is there that was not.
        Appeared = "appeared",
        /// One is not there any more.
        Vanished = "vanished",
        /// Its name stands for other weights.
        Weights = "weights",
        /// Its weights have another size.
        Size = "size",
        /// The server has another version.
        Version = "version",
    }
}

/// One change.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Event {
    /// What.
    pub kind: EventKind,
    /// Of which model; of the server itself when absent.
    pub model: Option<String>,
    /// The state that was known, as text; nothing for what is new.
    pub before: Option<String>,
    /// Now.
    pub after: Option<String>,
}

impl Inventory {
    /// The model that an offer means.
    #[must_use]
    pub fn model(&self, offered: &str) -> Option<&ModelSeen> {
        self.models
            .iter()
            .find(|model| model.name == offered)
            .or_else(|| self.models.iter().find(|model| is_called(&model.name, offered)))
    }

    /// What has changed since `before`.
    #[must_use]
    pub fn since(&self, before: &Self) -> Vec<Event> {
        let event = |kind, model: &str, before: Option<String>, after: Option<String>| Event {
            kind,
            model: Some(model.to_owned()),
            before,
            after,
        };
        let by_name = |inventory: &Self| -> BTreeMap<String, ModelSeen> {
            inventory.models.iter().map(|model| (model.name.clone(), model.clone())).collect()
        };
        let (old, new) = (by_name(before), by_name(self));
        let mut events = Vec::new();
        for name in old.keys().chain(new.keys()).collect::<BTreeSet<_>>() {
            match (old.get(name), new.get(name)) {
                (None, Some(model)) => events.push(event(EventKind::Appeared, name, None, model.digest.clone())),
                (Some(model), None) => events.push(event(EventKind::Vanished, name, model.digest.clone(), None)),
                (Some(was), Some(is)) if differs(was.digest.as_deref(), is.digest.as_deref()) => {
                    events.push(event(EventKind::Weights, name, was.digest.clone(), is.digest.clone()));
                }
                (Some(was), Some(is))
                    if was.size_bytes.is_some() && is.size_bytes.is_some() && was.size_bytes != is.size_bytes =>
                {
                    let text = |size: Option<u64>| size.map(|size| size.to_string());
                    events.push(event(EventKind::Size, name, text(was.size_bytes), text(is.size_bytes)));
                }
                (Some(_), Some(_)) | (None, None) => {}
            }
        }
        if before.server_version.is_some()
            && self.server_version.is_some()
            && before.server_version != self.server_version
        {
            let (before, after) = (before.server_version.clone(), self.server_version.clone());
            events.push(Event { kind: EventKind::Version, model: None, before, after });
        }
        events
    }
}

fn differs(one: Option<&str>, other: Option<&str>) -> bool {
    matches!((one, other), (Some(one), Some(other)) if !is_same_digest(one, other))
}

/// How an offer stands beside what is served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Promise {
    /// It is served.
    Kept,
    /// The model is not there.
    Gone,
    /// It is pinned to other weights than are there.
    OtherWeights {
        /// Those that it is pinned to.
        pinned: String,
        /// Those that are there.
        found: String,
        /// What happens.
        otherwise: OtherWeights,
    },
    /// Not checked, or the server tells nothing.
    Unknown,
}

/// How `offer` of `model` stands.
#[must_use]
pub fn promise(model: &str, offer: &Offer, inventory: Option<&Inventory>) -> Promise {
    let Some(inventory) = inventory.filter(|inventory| !inventory.models.is_empty()) else { return Promise::Unknown };
    let Some(seen) = inventory.model(model) else { return Promise::Gone };
    match (&offer.weights, &seen.digest) {
        (Some(pin), Some(found)) if !is_same_digest(&pin.digest, found) => {
            Promise::OtherWeights { pinned: pin.digest.clone(), found: found.clone(), otherwise: pin.otherwise }
        }
        (Some(_) | None, _) => Promise::Kept,
    }
}

/// Why no request may go to an offer, if none may: it is pinned to weights that are not there.
#[must_use]
pub fn stopped(model: &str, offer: &Offer, inventory: Option<&Inventory>) -> Option<String> {
    match promise(model, offer, inventory) {
        Promise::OtherWeights { pinned, found, otherwise: OtherWeights::Stop } => Some(format!(
            "pinned to the weights {}, and the server has {}",
            words::digest(&pinned),
            words::digest(&found)
        )),
        Promise::OtherWeights { otherwise: OtherWeights::Warn, .. }
        | Promise::Kept
        | Promise::Gone
        | Promise::Unknown => None,
    }
}

/// Something about weights that someone should know.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Warning {
    /// Where requests would meet it.
    pub offer: OfferName,
    /// What was found, with its figures.
    pub matter: Matter,
    /// The routes that lead to it.
    pub routes: Vec<String>,
    /// The teams that may use these.
    pub teams: Vec<String>,
}

/// What is the matter with an offer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Matter {
    /// Its model is gone.
    Gone,
    /// It is pinned to other weights; whether requests still go there.
    Pinned {
        /// Those that it is pinned to, shortened.
        pinned: String,
        /// Those that are there, shortened.
        found: String,
        /// What happens.
        otherwise: OtherWeights,
    },
    /// A route leads to the same name elsewhere, where it stands for other weights, and neither offer is pinned.
    TwoWeights {
        /// These here, shortened.
        here: String,
        /// The other offer.
        other: OfferName,
        /// Its weights, shortened.
        there: String,
    },
}

/// Everything that someone should know of the offers that routes lead to.
#[must_use]
pub fn warnings(catalogue: &Catalogue, inventories: &BTreeMap<Name, Inventory>) -> Vec<Warning> {
    let mut warnings = Vec::new();
    for name in catalogue.offer_names() {
        let routes = routes_to(catalogue, &name);
        let Some((_, offer)) = catalogue.offer(&name).filter(|_| !routes.is_empty()) else { continue };
        let matter = match promise(name.model(), offer, inventories.get(name.upstream())) {
            Promise::Gone => Some(Matter::Gone),
            Promise::OtherWeights { pinned, found, otherwise } => {
                Some(Matter::Pinned { pinned: words::digest(&pinned), found: words::digest(&found), otherwise })
            }
            Promise::Kept => two_weights(catalogue, inventories, &name),
            Promise::Unknown => None,
        };
        if let Some(matter) = matter {
            let teams = teams_of(catalogue, &routes);
            warnings.push(Warning { offer: name, matter, routes, teams });
        }
    }
    warnings
}

fn routes_to(catalogue: &Catalogue, offer: &OfferName) -> Vec<String> {
    let leads = |(_, route): &(&Name, &crate::catalog::route::Route)| route.offers().any(|known| known == offer);
    catalogue.routes.iter().filter(leads).map(|(name, _)| name.to_string()).collect()
}

fn teams_of(catalogue: &Catalogue, routes: &[String]) -> Vec<String> {
    let may = |(_, team): &(&Name, &crate::catalog::team::Team)| routes.iter().any(|route| team.access.allows(route));
    catalogue.teams.iter().filter(may).map(|(name, _)| name.to_string()).collect()
}

/// Another offer of a route to this one, of the same name and of other weights. It is said once, with the first of the two.
fn two_weights(catalogue: &Catalogue, inventories: &BTreeMap<Name, Inventory>, name: &OfferName) -> Option<Matter> {
    let digest = |offer: &OfferName| inventories.get(offer.upstream())?.model(offer.model())?.digest.clone();
    let is_pinned = |offer: &OfferName| catalogue.offer(offer).is_some_and(|(_, offer)| offer.weights.is_some());
    let here = digest(name).filter(|_| !is_pinned(name))?;
    let of_same_route = catalogue.routes.values().filter(|route| route.offers().any(|known| known == name));
    let mut others: Vec<&OfferName> = of_same_route
        .flat_map(|route| route.offers())
        .filter(|other| *other > name && is_called(other.model(), name.model()))
        .collect();
    others.sort();
    let differing = others.into_iter().filter(|other| !is_pinned(other));
    let (other, there) =
        differing.filter_map(|other| Some((other, digest(other)?))).find(|(_, there)| !is_same_digest(&here, there))?;
    Some(Matter::TwoWeights { here: words::digest(&here), other: other.clone(), there: words::digest(&there) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::weights::WeightsPin;

    fn model(name: &str, digest: &str) -> ModelSeen {
        ModelSeen { name: name.to_owned(), digest: Some(digest.to_owned()), ..ModelSeen::default() }
    }

    fn of(models: &[ModelSeen], version: &str) -> Inventory {
        Inventory { models: models.to_vec(), server_version: Some(version.to_owned()) }
    }

    #[test]
    fn what_appears_vanishes_or_changes_is_noticed_once() {
        let before = of(&[model("a", "aaaaaaaaaaaa"), model("b", "bbbbbbbbbbbb")], "1");
        let after = of(&[model("a", "cccccccccccc"), model("d", "dddddddddddd")], "2");
        let kinds: Vec<_> = after.since(&before).into_iter().map(|event| (event.kind, event.model)).collect();
        let name = |name: &str| Some(name.to_owned());
        assert_eq!(
            kinds,
            [
                (EventKind::Weights, name("a")),
                (EventKind::Vanished, name("b")),
                (EventKind::Appeared, name("d")),
                (EventKind::Version, None)
            ]
        );
        assert_eq!(after.since(&after), []);
        let grown = ModelSeen { size_bytes: Some(9), digest: None, ..model("a", "") };
        let was = ModelSeen { size_bytes: Some(8), digest: None, ..model("a", "") };
        assert_eq!(of(&[grown], "1").since(&of(&[was], "1")).first().map(|event| event.kind), Some(EventKind::Size));
    }

    #[test]
    fn what_a_route_leads_to_is_warned_of_with_its_teams() {
        let text = r#"
[upstreams.quayside-a]
address = "http://127.0.0.1:1"
hosting = "own"
offers.dunlin = {}
offers.gone = {}
offers.pinned = { weights = { digest = "aaaaaaaaaaaa" } }
[upstreams.quayside-b]
address = "http://127.0.0.1:2"
hosting = "own"
offers.dunlin = {}
offers.unused = {}
[routes.manifests]
stages = [{ offers = ["quayside-a/dunlin", "quayside-b/dunlin", "quayside-a/gone", "quayside-a/pinned"] }]
[teams.freight-desk]
[teams.data-lab]
routes = []
"#;
        let catalogue = crate::catalog::file::read(text).unwrap().catalogue;
        let name = |text: &str| Name::parse(text).unwrap();
        let inventories = BTreeMap::from([
            (name("quayside-a"), of(&[model("dunlin", "111111111111"), model("pinned", "bbbbbbbbbbbb")], "1")),
            (name("quayside-b"), of(&[model("dunlin", "222222222222")], "1")),
        ]);
        let warnings = warnings(&catalogue, &inventories);
        let offers: Vec<String> = warnings.iter().map(|warning| warning.offer.to_string()).collect();
        assert_eq!(offers, ["quayside-a/dunlin", "quayside-a/gone", "quayside-a/pinned"], "each is said once");
        assert!(warnings.iter().all(|warning| warning.routes == ["manifests"] && warning.teams == ["freight-desk"]));
        assert!(matches!(warnings[0].matter, Matter::TwoWeights { .. }), "{warnings:?}");
        let offer = Offer {
            weights: Some(WeightsPin { digest: "aaaaaaaaaaaa".into(), otherwise: OtherWeights::Stop }),
            ..Offer::default()
        };
        assert!(stopped("pinned", &offer, inventories.get(&name("quayside-a"))).is_some());
        assert!(stopped("pinned", &offer, None).is_none(), "what nobody has looked at is not stopped");
        assert!(stopped("pinned", &Offer::default(), inventories.get(&name("quayside-a"))).is_none());
    }

    #[test]
    fn what_was_not_told_has_not_changed() {
        let sized = |size_bytes| ModelSeen { size_bytes, ..model("a", "aaaaaaaaaaaa") };
        let version = |server_version: Option<&str>| Inventory {
            models: vec![sized(Some(8))],
            server_version: server_version.map(str::to_owned),
        };
        for (before, after) in [(None, Some(9)), (Some(8), None), (None, None)] {
            assert_eq!(of(&[sized(after)], "1").since(&of(&[sized(before)], "1")), []);
        }
        assert_eq!(version(Some("2")).since(&version(None)), []);
        assert_eq!(version(None).since(&version(Some("1"))), []);
    }

    #[test]
    fn a_pin_is_kept_where_its_weights_are() {
        let pinned = |digest: &str| Offer {
            weights: Some(WeightsPin { digest: digest.into(), otherwise: OtherWeights::Stop }),
            ..Offer::default()
        };
        let there = of(&[model("dunlin", "aaaaaaaaaaaa")], "1");
        assert_eq!(promise("dunlin", &pinned("aaaaaaaaaaaa"), Some(&there)), Promise::Kept);
        assert!(matches!(promise("dunlin", &pinned("bbbbbbbbbbbb"), Some(&there)), Promise::OtherWeights { .. }));
    }

    /// The same name stands for other weights at another upstream; no route leads to both.
    #[test]
    fn two_weights_matter_where_one_route_leads_to_both() {
        let text = r#"
    [upstreams.quayside-a]
    address = "http://127.0.0.1:1"
    hosting = "own"
    offers.dunlin = {}
    [upstreams.quayside-b]
    address = "http://127.0.0.1:2"
    hosting = "own"
    offers.dunlin = {}
    [routes.manifests]
    stages = [{ offers = ["quayside-a/dunlin"] }]
    [routes.night-sailings]
    stages = [{ offers = ["quayside-b/dunlin"] }]
    "#;
        let catalogue = crate::catalog::file::read(text).unwrap().catalogue;
        let at = |name: &str, digest: &str| (Name::parse(name).unwrap(), of(&[model("dunlin", digest)], "1"));
        let inventories = BTreeMap::from([at("quayside-a", "111111111111"), at("quayside-b", "222222222222")]);
        assert_eq!(warnings(&catalogue, &inventories), []);
    }
}
