//! A remedy applied: a [`Change`] and a catalogue enter, the catalogue as it is then leaves, with the rates that go along.

use std::num::NonZeroU32;

use super::remedy::Change;
use crate::catalog::Catalogue;
use crate::catalog::upstream::{Offer, Upstream};
use crate::catalog::weights::{OtherWeights, WeightsPin};
use crate::metering::rate::{Rate, RateCard};
use crate::name::{Name, OfferName};

/// Why a change cannot be applied.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CannotChange {
    /// There is no such upstream any more.
    #[error("there is no upstream `{0}`")]
    NoUpstream(Name),
    /// There is no such offer any more.
    #[error("there is no offer of `{0}` at the upstream; check it again")]
    NoOffer(String),
    /// The offer is there already.
    #[error("`{0}` is offered already; take the other offer out instead")]
    Offered(String),
    /// A value must be told along with it.
    #[error("the header `{0}` needs a value: tell it along with the change")]
    NeedsValue(String),
    /// The value cannot be taken.
    #[error("`{0}` is not a valid header value")]
    BadValue(String),
    /// A number that is none.
    #[error("0 tokens is invalid; say how many")]
    Zero,
}

/// Applies `change` to the upstream alone. `value` is what it needs to be told along.
///
/// # Errors
/// [`CannotChange`].
pub fn to_upstream(upstream: &mut Upstream, change: &Change, value: Option<&str>) -> Result<(), CannotChange> {
    match change {
        Change::Address { to } => upstream.address = to.clone(),
        Change::Dialect { to } => upstream.dialect = *to,
        Change::Auth { to } => upstream.auth = to.clone(),
        Change::Certificate { to } => upstream.certificate = Some(to.clone()),
        Change::PlainHttp => upstream.allows_plain_http = true,
        Change::NoRequestIds => upstream.is_without_ids = true,
        Change::Header { name } => {
            let value = value.ok_or_else(|| CannotChange::NeedsValue(name.clone()))?;
            if http::HeaderValue::try_from(value).is_err() || http::HeaderName::try_from(name.as_str()).is_err() {
                return Err(CannotChange::BadValue(value.to_owned()));
            }
            upstream.headers.insert(name.clone(), value.to_owned());
        }
        Change::Model { from, to } => rename(upstream, from, to)?,
        Change::Abilities { model, to } => offer(upstream, model)?.abilities = Some(to.clone()),
        Change::OutputCap { model, to } => offer(upstream, model)?.output_cap = Some(some(*to)?),
        Change::ContextWindow { model, to } => offer(upstream, model)?.context_window = Some(some(*to)?),
        Change::Mark { model, mark } => {
            let marks = &mut offer(upstream, model)?.marks;
            if !marks.contains(mark) {
                marks.push(*mark);
            }
        }
        Change::Weights { model, to } => {
            let changed = offer(upstream, model)?;
            let otherwise = changed.weights.as_ref().map_or_else(OtherWeights::default, |pin| pin.otherwise);
            changed.weights = Some(WeightsPin { digest: to.clone(), otherwise });
        }
    }
    Ok(())
}

fn offer<'u>(upstream: &'u mut Upstream, model: &str) -> Result<&'u mut Offer, CannotChange> {
    upstream.offers.get_mut(model).ok_or_else(|| CannotChange::NoOffer(model.to_owned()))
}

fn some(tokens: u32) -> Result<NonZeroU32, CannotChange> {
    NonZeroU32::new(tokens).ok_or(CannotChange::Zero)
}

fn rename(upstream: &mut Upstream, from: &str, to: &str) -> Result<(), CannotChange> {
    if upstream.offers.contains_key(to) {
        return Err(CannotChange::Offered(to.to_owned()));
    }
    let moved = upstream.offers.remove(from).ok_or_else(|| CannotChange::NoOffer(from.to_owned()))?;
    upstream.offers.insert(to.to_owned(), moved);
    Ok(())
}

/// Applies `change` to the whole catalogue: routes follow an offer that gets another name, and its rates do. Gives the rates to be
/// added.
///
/// # Errors
/// [`CannotChange`]; the catalogue may be half changed then and is to be thrown away.
pub fn apply(
    catalogue: &mut Catalogue,
    rates: &RateCard,
    name: &Name,
    change: &Change,
    value: Option<&str>,
) -> Result<Vec<(OfferName, Rate)>, CannotChange> {
    let upstream = catalogue.upstreams.get_mut(name).ok_or_else(|| CannotChange::NoUpstream(name.clone()))?;
    to_upstream(upstream, change, value)?;
    let Change::Model { from, to } = change else { return Ok(Vec::new()) };
    let offer = |model: &str| OfferName::new(name.clone(), model).map_err(|_| CannotChange::NoOffer(model.to_owned()));
    let (old, new) = (offer(from)?, offer(to)?);
    for entry in catalogue.routes.values_mut().flat_map(|route| &mut route.stages).flat_map(|stage| &mut stage.offers) {
        if entry.offer == old {
            entry.offer = new.clone();
        }
    }
    let of_old = rates.iter().filter(|(offer, _)| **offer == old).map(|(_, rate)| rate.clone());
    Ok(of_old.filter(|rate| rates.of_day(&new, rate.effective_on).is_none()).map(|rate| (new.clone(), rate)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::upstream::{Address, Auth};
    use rstest::rstest;
    use wendor_wire::ability::{Ability, Mark};
    use wendor_wire::dialect::Dialect;

    fn demo() -> crate::catalog::file::CatalogueFile {
        crate::catalog::file::read(include_str!("../../../../demo/catalogue.toml")).unwrap()
    }

    #[test]
    fn an_offer_of_another_name_takes_routes_and_rates_along() {
        let mut file = demo();
        let name = Name::parse("quarry").unwrap();
        let change = Change::Model { from: "fulmar-large".into(), to: "fulmar-huge".into() };
        let rates = apply(&mut file.catalogue, &file.rates, &name, &change, None).unwrap();
        let offers: Vec<String> =
            file.catalogue.routes.values().flat_map(|route| route.offers().map(ToString::to_string)).collect();
        assert!(
            offers.contains(&"quarry/fulmar-huge".to_owned()) && !offers.contains(&"quarry/fulmar-large".to_owned())
        );
        assert!(!rates.is_empty() && rates.iter().all(|(offer, _)| offer.model() == "fulmar-huge"));
        let again = crate::catalog::file::read(&crate::catalog::file::write(&file.catalogue, &file.rates));
        assert!(again.is_ok(), "{again:?}");
    }

    #[rstest]
    #[case::no_such_upstream("nowhere", Change::PlainHttp, None)]
    #[case::no_such_offer("quarry", Change::OutputCap { model: "dunlin".into(), to: 9 }, None)]
    #[case::no_value("quarry", Change::Header { name: "harbour-version".into() }, None)]
    #[case::bad_value("quarry", Change::Header { name: "harbour-version".into() }, Some("a\nb"))]
    #[case::no_tokens("quarry", Change::OutputCap { model: "fulmar-large".into(), to: 0 }, None)]
    fn what_cannot_be_changed_is_said(#[case] upstream: &str, #[case] change: Change, #[case] value: Option<&str>) {
        let mut file = demo();
        assert!(apply(&mut file.catalogue, &file.rates, &Name::parse(upstream).unwrap(), &change, value).is_err());
    }

    #[rstest]
    #[case::address(Change::Address { to: Address::parse("http://quarry.example:9").unwrap() }, "address = \"http://quarry.example:9\"")]
    #[case::dialect(Change::Dialect { to: Dialect::Responses }, "dialect = \"responses\"")]
    #[case::auth(Change::Auth { to: Auth::Header("x-quarry-key".into()) }, "auth = \"header:x-quarry-key\"")]
    #[case::header(Change::Header { name: "harbour-version".into() }, "harbour-version = \"7\"")]
    #[case::plain(Change::PlainHttp, "plain_http = \"allowed\"")]
    #[case::ids(Change::NoRequestIds, "request_ids = \"none\"")]
    #[case::abilities(Change::Abilities { model: "fulmar-large".into(), to: vec![Ability::Chat, Ability::Whole] }, "abilities = [\"chat\", \"whole\"]")]
    #[case::cap(Change::OutputCap { model: "fulmar-large".into(), to: 77 }, "output_cap = 77")]
    #[case::window(Change::ContextWindow { model: "fulmar-large".into(), to: 7_777 }, "context_window = 7777")]
    #[case::mark(Change::Mark { model: "fulmar-large".into(), mark: Mark::OldLimit }, "old-limit")]
    #[case::weights(Change::Weights { model: "fulmar-large".into(), to: "ab12cd34ef56".into() }, "digest = \"ab12cd34ef56\"")]
    fn a_change_stands_in_the_file_and_twice_is_as_once(#[case] change: Change, #[case] line: &str) {
        let mut file = demo();
        let (name, write) = (Name::parse("quarry").unwrap(), crate::catalog::file::write);
        let before = write(&file.catalogue, &file.rates);
        assert_eq!(apply(&mut file.catalogue, &file.rates, &name, &change, Some("7")), Ok(vec![]));
        let once = write(&file.catalogue, &file.rates);
        assert!(once.matches(line).count() > before.matches(line).count(), "{once}");
        apply(&mut file.catalogue, &file.rates, &name, &change, Some("7")).unwrap();
        assert_eq!(write(&file.catalogue, &file.rates), once);
    }

    #[test]
    fn an_offer_does_not_take_the_place_of_another() {
        let mut file = demo();
        let name = Name::parse("quarry").unwrap();
        let offers: Vec<String> = file.catalogue.upstreams[&name].offers.keys().cloned().collect();
        let change = Change::Model { from: offers[0].clone(), to: offers[1].clone() };
        let refused = apply(&mut file.catalogue, &file.rates, &name, &change, None);
        assert_eq!(refused, Err(CannotChange::Offered(offers[1].clone())));
    }

    #[test]
    fn rates_of_other_offers_stay_where_they_are() {
        let mut file = demo();
        let name = Name::parse("quarry").unwrap();
        let change = Change::Model { from: "fulmar-large".into(), to: "fulmar-huge".into() };
        let of_old = OfferName::parse("quarry/fulmar-large").unwrap();
        let expected: Vec<Rate> =
            file.rates.iter().filter(|(offer, _)| **offer == of_old).map(|(_, rate)| rate.clone()).collect();
        let added = apply(&mut file.catalogue, &file.rates, &name, &change, None).unwrap();
        assert_eq!(added.into_iter().map(|(_, rate)| rate).collect::<Vec<_>>(), expected);
    }
}
