//! The document of one revision: all of the configuration but keys, people, credentials and rates.
//!
//! One canonical JSON form (maps are ordered, defaults are left out), kept whole and never edited. Names are its stable
//! ids: an upstream, route or team is what its name says, a quota is `team/measure/window`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::route::Route;
use super::team::Team;
use super::upstream::{Offer, Upstream};
use super::webhook::Webhook;
use crate::name::{Name, OfferName};

/// The installation's currency when the file names none.
pub const DEFAULT_CURRENCY: &str = "EUR";

/// Upstreams, routes, teams and webhooks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Code of the one currency that all rates are in.
    pub currency: String,
    /// Upstreams with their offers.
    pub upstreams: BTreeMap<Name, Upstream>,
    /// By the name that apps ask for.
    pub routes: BTreeMap<Name, Route>,
    /// By the name that keys and usage carry.
    pub teams: BTreeMap<Name, Team>,
    /// Receivers of events.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub webhooks: BTreeMap<Name, Webhook>,
}

impl Default for Catalogue {
    fn default() -> Self {
        Self {
            currency: DEFAULT_CURRENCY.to_owned(),
            upstreams: BTreeMap::new(),
            routes: BTreeMap::new(),
            teams: BTreeMap::new(),
            webhooks: BTreeMap::new(),
        }
    }
}

impl Catalogue {
    /// The upstream and the offer of that name.
    #[must_use]
    pub fn offer(&self, name: &OfferName) -> Option<(&Upstream, &Offer)> {
        let upstream = self.upstreams.get(name.upstream())?;
        Some((upstream, upstream.offers.get(name.model())?))
    }

    /// The name that a route has now, by that one or a former one.
    #[must_use]
    pub fn route_name(&self, name: &str) -> Option<&Name> {
        let is_former = |route: &Route| route.former.iter().any(|former| former.name.as_str() == name);
        now_called(&self.routes, name, is_former)
    }

    /// The name that a team has now, by that one or a former one.
    #[must_use]
    pub fn team_name(&self, name: &str) -> Option<&Name> {
        now_called(&self.teams, name, |team| team.former.iter().any(|former| former.as_str() == name))
    }

    /// The name that an upstream has now, by that one or a former one.
    #[must_use]
    pub fn upstream_name(&self, name: &str) -> Option<&Name> {
        now_called(&self.upstreams, name, |upstream| upstream.former.iter().any(|former| former.as_str() == name))
    }

    /// The names of all offers, in order.
    #[must_use]
    pub fn offer_names(&self) -> Vec<OfferName> {
        let of_upstream = |(name, upstream): (&Name, &Upstream)| -> Vec<OfferName> {
            upstream.offers.keys().filter_map(|model| OfferName::new(name.clone(), model).ok()).collect()
        };
        self.upstreams.iter().flat_map(of_upstream).collect()
    }
}

fn now_called<'c, T>(things: &'c BTreeMap<Name, T>, name: &str, is_former: impl Fn(&T) -> bool) -> Option<&'c Name> {
    let current = things.get_key_value(name).map(|(name, _)| name);
    current.or_else(|| things.iter().find(|(_, thing)| is_former(thing)).map(|(name, _)| name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_offer_is_found_at_its_upstream_and_the_document_has_one_form() {
        let file = crate::catalog::file::read(include_str!("../../../../demo/catalogue.toml")).unwrap();
        let catalogue = file.catalogue;
        let offer = |text: &str| catalogue.offer(&OfferName::parse(text).unwrap()).is_some();
        assert!(offer("quarry/fulmar-large") && !offer("quarry/dunlin-7b") && !offer("nowhere/fulmar-large"));
        assert_eq!(catalogue.offer_names().len(), 11);
        let form = serde_json::to_string(&catalogue).unwrap();
        let read: Catalogue = serde_json::from_str(&form).unwrap();
        assert_eq!(serde_json::to_string(&read).unwrap(), form);
        assert!(
            serde_json::from_str::<Catalogue>(&form.replacen("currency", "curency", 1)).is_err(),
            "an unknown member is refused"
        );
    }
}
