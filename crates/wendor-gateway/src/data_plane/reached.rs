//! Which route a request reaches: by the name that it asks for, by a former one, or by the default of its team.

use bytes::Bytes;
use chrono::NaiveDate;
use wendor_core::catalog::key::AppKey;
use wendor_core::catalog::retirement::{Leaving, Standing, standing};
use wendor_core::catalog::route::Route;
use wendor_core::catalog::team::Team;
use wendor_core::name::Name;
use wendor_wire::asked::{AppRequest, with_model};
use wendor_wire::bad_request::BadRequest;
use wendor_wire::endpoint::Endpoint;
use wendor_wire::nearest::nearest;
use wendor_wire::refusal_code::RefusalCode;

use super::refusal::{Refusal, RouteGone, UnknownRoute};
use crate::snapshot::Snapshot;

/// A request that was read, with its body, which may have got a route that its app left out.
pub(super) struct ReadAsked {
    /// What is asked.
    pub request: AppRequest,
    /// The body that goes on.
    pub body: Bytes,
    /// Whether the route is the default of the team.
    pub is_default: bool,
}

/// Reads a request. One that names no route gets the default of its team, if it has one.
///
/// # Errors
/// [`BadRequest`] when it cannot be read.
pub(super) fn read(
    snapshot: &Snapshot,
    key: &AppKey,
    endpoint: Endpoint,
    body: Bytes,
    form: Option<&str>,
) -> Result<ReadAsked, BadRequest> {
    let as_it_is = |request, body| ReadAsked { request, body, is_default: false };
    if let Some(form) = form {
        let request = AppRequest::read_form(endpoint, &body, form)?;
        return Ok(as_it_is(request, body));
    }
    let default = snapshot.catalogue.teams.get(&key.team).and_then(|team| team.default_route.as_ref());
    let Some(default) = default.filter(|route| key.access.allows(route.as_str())) else {
        let request = AppRequest::read(endpoint, &body)?;
        return Ok(as_it_is(request, body));
    };
    let bad = match AppRequest::read(endpoint.clone(), &body) {
        Ok(request) => return Ok(as_it_is(request, body)),
        Err(bad) => bad,
    };
    let names_none = bad.code == RefusalCode::MissingMember && bad.param.as_deref() == Some("model");
    let named = with_model(&body, default.as_str()).filter(|_| names_none);
    let Some(named) = named else { return Err(bad) };
    let body = Bytes::from(named);
    // What is wrong beside is told of the body that came.
    AppRequest::read(endpoint, &body).map(|request| ReadAsked { request, body, is_default: true }).map_err(|_| bad)
}

/// The names of the routes that a key may use today, in order.
pub fn routes_of<'s>(snapshot: &'s Snapshot, key: &AppKey, today: NaiveDate) -> Vec<&'s Name> {
    let Some(team) = snapshot.catalogue.teams.get(&key.team) else { return Vec::new() };
    let is_allowed = |name: &&Name| team.access.allows(name.as_str()) && key.access.allows(name.as_str());
    let routes = snapshot.catalogue.routes.iter();
    let serving = routes.filter(|(_, route)| route.retires_on.is_none_or(|day| today < day)).map(|(name, _)| name);
    serving.filter(is_allowed).collect()
}

/// Where a request is to go.
pub(super) struct Reached<'s> {
    /// Who pays.
    pub team: &'s Team,
    /// By its present name.
    pub name: &'s Name,
    /// It.
    pub route: &'s Route,
    /// What the app is told of the name that it asked for.
    pub leaving: Option<Leaving>,
}

impl Reached<'_> {
    /// The same, where the route is the default of the team: the app is told which.
    pub(super) fn told_of_default(self, is_default: bool) -> Self {
        if !is_default {
            return self;
        }
        let words = format!("route: none was named; `{}` is the default of the team", self.name);
        let leaving = match self.leaving {
            None => Leaving { until: None, words },
            Some(leaving) => Leaving { words: format!("{words}; {}", leaving.words), ..leaving },
        };
        Self { leaving: Some(leaving), ..self }
    }
}

/// The route of that name, if this key may use it: one that it may not use does not exist for it.
///
/// # Errors
/// [`Refusal::NoSuchRoute`], [`Refusal::RouteGone`] and [`Refusal::TeamGone`].
pub(super) fn access_of<'s>(
    snapshot: &'s Snapshot,
    key: &AppKey,
    asked: &str,
    today: NaiveDate,
) -> Result<Reached<'s>, Refusal> {
    let team = snapshot.catalogue.teams.get(&key.team).ok_or_else(|| Refusal::TeamGone(key.team.to_string()))?;
    let is_allowed = |name: &str| team.access.allows(name) && key.access.allows(name);
    let known = snapshot.catalogue.route_name(asked).filter(|name| is_allowed(name.as_str()));
    let known = known.and_then(|name| snapshot.catalogue.routes.get_key_value(name));
    let (name, route) = known.ok_or_else(|| no_such_route(key, asked, &routes_of(snapshot, key, today)))?;
    let leaving = match standing(name, route, asked, today) {
        Standing::Kept => None,
        Standing::Leaving(leaving) => Some(leaving),
        Standing::Gone(gone) => {
            let (key, route, asked) = (key.id.clone(), name.clone(), asked.to_owned());
            return Err(Refusal::RouteGone(Box::new(RouteGone { key, route, asked, gone })));
        }
    };
    Ok(Reached { team, name, route, leaving })
}

/// The refusal for a route that does not exist for `key`, which may use `allowed`.
#[must_use]
pub fn no_such_route(key: &AppKey, wanted: &str, allowed: &[&Name]) -> Refusal {
    let names = allowed.iter().map(|name| name.as_str());
    Refusal::NoSuchRoute(Box::new(UnknownRoute {
        key: key.id.clone(),
        wanted: wanted.to_owned(),
        nearest: nearest(wanted, names.clone()).map(str::to_owned),
        known: names.map(str::to_owned).collect(),
    }))
}
