//! Who would notice if a thing of the catalogue went: what refers to it, whose keys open it, who asked for it lately.

use chrono::{DateTime, Utc};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::edit::names_of;
use wendor_core::catalog::key::KeyState;
use wendor_core::name::{Name, OfferName};
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery};

use super::catalogue::{KeyUse, TeamUse, Uses};
use super::problem::Problem;
use crate::app::App;
use crate::snapshot::Snapshot;

/// A thing that may go.
enum Thing {
    Upstream(Name),
    Offer(OfferName),
    Route(Name),
    Team(Name),
}

impl Thing {
    fn at(pointer: &str, catalogue: &Catalogue) -> Result<Self, Problem> {
        let names = names_of(pointer).unwrap_or_default();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let missing = |what, name: &str| Problem::NoSuch { what, name: name.to_owned(), nearest: None };
        match names.as_slice() {
            ["upstreams", name] => {
                catalogue.upstream_name(name).cloned().map(Self::Upstream).ok_or_else(|| missing("upstream", name))
            }
            ["upstreams", upstream, "offers", model] => {
                let offer = OfferName::parse(&format!("{upstream}/{model}")).ok();
                let offer = offer.filter(|offer| catalogue.offer(offer).is_some());
                offer.map(Self::Offer).ok_or_else(|| missing("offer", &format!("{upstream}/{model}")))
            }
            ["routes", name] => {
                catalogue.route_name(name).cloned().map(Self::Route).ok_or_else(|| missing("route", name))
            }
            ["teams", name] => catalogue.team_name(name).cloned().map(Self::Team).ok_or_else(|| missing("team", name)),
            _ => {
                let message = format!(
                    "`{}` is none: write /upstreams/NAME, /upstreams/NAME/offers/MODEL, /routes/NAME or /teams/NAME",
                    pointer.escape_debug()
                );
                Err(Problem::BadValue { field: "of", message })
            }
        }
    }

    /// The routes that it concerns.
    fn routes(&self, catalogue: &Catalogue) -> Vec<Name> {
        let with = |uses: &dyn Fn(&OfferName) -> bool| {
            let routes = catalogue.routes.iter().filter(|(_, route)| route.offers().any(uses));
            routes.map(|(name, _)| name.clone()).collect()
        };
        match self {
            Self::Upstream(name) => with(&|offer| offer.upstream() == name),
            Self::Offer(gone) => with(&|offer| offer == gone),
            Self::Route(name) => vec![name.clone()],
            Self::Team(name) => {
                let access = catalogue.teams.get(name).map(|team| &team.access);
                let may_use = |route: &&Name| access.is_some_and(|access| access.allows(route.as_str()));
                catalogue.routes.keys().filter(may_use).cloned().collect()
            }
        }
    }

    fn teams(&self, catalogue: &Catalogue, routes: &[Name]) -> Vec<Name> {
        if let Self::Team(name) = self {
            return vec![name.clone()];
        }
        let teams = catalogue.teams.iter();
        let may_use = teams.filter(|(_, team)| routes.iter().any(|route| team.access.allows(route.as_str())));
        may_use.map(|(name, _)| name.clone()).collect()
    }

    fn filter(self, snapshot: &Snapshot) -> UsageFilter {
        let filter = UsageFilter { former: snapshot.former.clone(), ..UsageFilter::default() };
        match self {
            Self::Upstream(name) => UsageFilter { upstream: Some(name), ..filter },
            Self::Offer(offer) => UsageFilter { offer: Some(offer), ..filter },
            Self::Route(name) => UsageFilter { route: Some(name), ..filter },
            Self::Team(name) => UsageFilter { team: Some(name), ..filter },
        }
    }
}

/// Who uses the thing that `pointer` leads to, and asked for it in the time given.
pub(super) async fn of(app: &App, pointer: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Uses, Problem> {
    let snapshot = app.now_serving();
    let catalogue = &snapshot.catalogue;
    let thing = Thing::at(pointer, catalogue)?;
    let routes = thing.routes(catalogue);
    let teams = thing.teams(catalogue, &routes);
    let opens = |key: &wendor_core::catalog::key::AppKey| {
        let team = catalogue.teams.get(&key.team).filter(|_| teams.contains(&key.team));
        team.is_some_and(|team| {
            routes.iter().any(|route| team.access.allows(route.as_str()) && key.access.allows(route.as_str()))
        })
    };
    let good = snapshot.keys.values().filter(|key| key.state(to) == KeyState::Good && opens(key));
    let mut keys: Vec<KeyUse> =
        good.map(|key| KeyUse { id: key.id.clone(), label: key.label.clone(), team: key.team.to_string() }).collect();
    keys.sort_by(|one, other| (&one.team, &one.label, &one.id).cmp(&(&other.team, &other.label, &other.id)));
    let query = UsageQuery::of(from, to, Dimension::Team, thing.filter(&snapshot));
    let asked = app.usage(&query).await?;
    let mut requests: Vec<TeamUse> = asked
        .into_iter()
        .filter(|(_, sums)| sums.requests > 0)
        .map(|(team, sums)| TeamUse { team, requests: sums.requests })
        .collect();
    requests.sort_by_key(|team| std::cmp::Reverse(team.requests));
    let named = |names: Vec<Name>| names.into_iter().map(String::from).collect();
    Ok(Uses { routes: named(routes), teams: named(teams), keys, requests })
}
