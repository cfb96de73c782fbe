//! What a call names: found for whoever may see it. Who sees one team alone learns of nothing else whether it is there, nor what is called
//! nearly so.

use wendor_core::name::{Name, OfferName};
use wendor_wire::nearest::nearest;

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::checks::spending::{OPERATORS, ROUTE};
use crate::snapshot::Snapshot;

/// The one of `names` that is called so.
fn one<'n>(what: &'static str, name: &str, names: impl Iterator<Item = &'n Name> + Clone) -> Result<Name, Problem> {
    let missing = || {
        let nearest = nearest(name, names.clone().map(Name::as_str)).map(str::to_owned);
        Problem::NoSuch { what, name: name.to_owned(), nearest }
    };
    names.clone().find(|known| known.as_str() == name).cloned().ok_or_else(missing)
}

/// The webhook of that name.
///
/// # Errors
/// When there is none.
pub(super) fn webhook(snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    one("webhook", name, snapshot.catalogue.webhooks.keys())
}

/// A name as it stands in records, whether there is anything of it or not.
fn as_recorded(field: &'static str, name: &str) -> Result<Name, Problem> {
    Name::parse(name).map_err(|error| Problem::BadValue { field, message: error.to_string() })
}

/// The team of that name.
///
/// # Errors
/// [`Problem::NotAllowed`] for any team but the own one of a lead or viewer, whether there is one or not.
pub(super) fn team(principal: &Principal, snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    let name = snapshot.catalogue.team_name(name).map_or(name, Name::as_str);
    principal.must_see(name)?;
    one("team", name, snapshot.catalogue.teams.keys())
}

/// A team as records have it: by its present name, a former one, one that was removed since, or who pays for checks of people without one.
/// Whether there is anything of it is found out by looking: see [`must_be_there`].
///
/// # Errors
/// [`Problem::NotAllowed`] for any team but the own one of a lead or viewer.
pub(super) fn recorded_team(principal: &Principal, snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    let name = snapshot.catalogue.team_name(name).map_or(name, Name::as_str);
    principal.must_see(name)?;
    as_recorded("team", name)
}

/// A route as records have it, like [`recorded_team`]; also what checks stand under.
///
/// # Errors
/// When it makes no name.
pub(super) fn recorded_route(snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    as_recorded("route", snapshot.catalogue.route_name(name).map_or(name, Name::as_str))
}

/// An upstream as records have it, like [`recorded_team`].
///
/// # Errors
/// When it makes no name.
pub(super) fn recorded_upstream(snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    as_recorded("upstream", snapshot.catalogue.upstream_name(name).map_or(name, Name::as_str))
}

/// The route of that name, present or former.
///
/// # Errors
/// [`Problem::NoSuch`] when there is none.
pub(super) fn route(snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    let name = snapshot.catalogue.route_name(name).map_or(name, Name::as_str);
    one("route", name, snapshot.catalogue.routes.keys())
}

/// A route that a team may use.
///
/// # Errors
/// [`Problem::NoSuch`] with the nearest of those; whoever sees all routes is told where there is one that the team may not use.
pub(super) fn route_of(
    principal: &Principal,
    of_team: &Name,
    snapshot: &Snapshot,
    name: &str,
) -> Result<Name, Problem> {
    let name = snapshot.catalogue.route_name(name).map_or(name, Name::as_str);
    let routes = snapshot.catalogue.routes.keys();
    let access = snapshot.catalogue.teams.get(of_team).map(|team| &team.access);
    let is_allowed = |route: &&Name| access.is_some_and(|access| access.allows(route.as_str()));
    if principal.standing.only_team().is_some() {
        return one("route", name, routes.filter(is_allowed));
    }
    let route = one("route", name, routes)?;
    if is_allowed(&&route) {
        return Ok(route);
    }
    Err(Problem::BadValue { field: "routes", message: format!("team {of_team} may not use {route}") })
}

/// The upstream of that name, for whoever may change it: `what` is what they want to do.
///
/// # Errors
/// [`Problem::NotAllowed`] before it is looked for.
pub(super) fn upstream(principal: &Principal, what: &str, snapshot: &Snapshot, name: &str) -> Result<Name, Problem> {
    principal.must(principal.standing.can_change_catalogue(), what)?;
    let name = snapshot.catalogue.upstream_name(name).map_or(name, Name::as_str);
    one("upstream", name, snapshot.catalogue.upstreams.keys())
}

/// What a filter narrows to, by the names that it was told.
#[derive(Clone, Copy, Default)]
pub(super) struct Narrowed<'f> {
    /// A team that must be in the catalogue or in the ledger.
    pub team: Option<&'f Name>,
    /// An upstream that must be in the catalogue or in the ledger.
    pub upstream: Option<&'f Name>,
    /// A route that must be in the catalogue or in the ledger.
    pub route: Option<&'f Name>,
    /// An offer that must be in the catalogue or in the ledger.
    pub offer: Option<&'f OfferName>,
    /// The id of a key.
    pub key: Option<&'f str>,
}

/// Goes on only if what a filter names is there. For filters that left nothing: what was removed keeps its history, and a name that was never
/// given is told as one.
///
/// # Errors
/// [`Problem::NoSuch`] with the nearest name of those that the person may see.
pub(super) async fn must_be_there(principal: &Principal, app: &App, narrowed: Narrowed<'_>) -> Result<(), Problem> {
    let snapshot = app.now_serving();
    let own = principal.standing.only_team();
    let access = own.and_then(|team| snapshot.catalogue.teams.get(team)).map(|team| &team.access);
    let may_use = |route: &Name| own.is_none() || access.is_some_and(|access| access.allows(route.as_str()));
    if let Some(team) = narrowed.team.filter(|team| own.is_none() && team.as_str() != OPERATORS) {
        one("team", team.as_str(), snapshot.catalogue.teams.keys())?;
    }
    // Who sees one team alone learns of no upstream whether it is there.
    if let Some(upstream) = narrowed.upstream.filter(|_| own.is_none()) {
        one("upstream", upstream.as_str(), snapshot.catalogue.upstreams.keys())?;
    }
    if let Some(route) = narrowed.route.filter(|route| route.as_str() != ROUTE) {
        one("route", route.as_str(), snapshot.catalogue.routes.keys().filter(|known| may_use(known)))?;
    }
    if let Some(offer) = narrowed.offer {
        // Who sees one team alone sees the offers of its routes, and learns of no other whether it is there.
        let of_routes = snapshot.catalogue.routes.iter().filter(|(route, _)| may_use(route));
        let mut offers: Vec<String> =
            of_routes.flat_map(|(_, route)| route.offers().map(ToString::to_string)).collect();
        if own.is_none() {
            let upstreams = snapshot.catalogue.upstreams.iter();
            offers.extend(
                upstreams
                    .flat_map(|(name, upstream)| upstream.offers.keys().map(move |model| format!("{name}/{model}"))),
            );
        }
        let wanted = offer.to_string();
        if !offers.contains(&wanted) {
            let nearest = nearest(&wanted, offers.iter().map(String::as_str)).map(str::to_owned);
            return Err(Problem::NoSuch { what: "offer", name: wanted, nearest });
        }
    }
    let Some(key) = narrowed.key else { return Ok(()) };
    let keys = app.store.keys().await?;
    let seen = || keys.iter().map(|stored| &stored.key).filter(|key| principal.standing.can_see(key.team.as_str()));
    if seen().any(|known| known.id == key) {
        return Ok(());
    }
    let nearest = nearest(key, seen().map(|key| key.id.as_str())).map(str::to_owned);
    Err(Problem::NoSuch { what: "key", name: key.to_owned(), nearest })
}
