//! The `[teams.*]` tables of a catalogue file: access and quotas.

use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZeroU32;

use super::reader::{Item, Reader, no_such};
use crate::catalog::team::{Access, AtOnce, Team};
use crate::name::Name;
use crate::quota::window::Window;
use crate::quota::{AtLimit, Measure, Quota};

/// Decimals that a limit may have: whole numbers for counts, cents and a little more for money.
const COST_DECIMALS: u32 = 6;

/// The largest limit: a million million, of whatever is counted.
const LARGEST_LIMIT: u64 = 1_000_000_000_000;

/// Characters of whom to ask.
const LONGEST_CONTACT: usize = 200;

const AT_LIMITS: [(&str, AtLimit); 2] = [("refuse", AtLimit::Refuse), ("warn", AtLimit::Warn)];

pub(super) fn read(reader: &mut Reader<'_>, item: &Item<'_>, named: &BTreeSet<Name>) -> BTreeMap<Name, Team> {
    let Some(table) = reader.table(item) else { return BTreeMap::new() };
    let mut teams = BTreeMap::new();
    for (name, span, item) in table.entries() {
        match Name::parse(&name) {
            Ok(name) => {
                if let Some(team) = team(reader, &item, named) {
                    teams.insert(name, team);
                }
            }
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
    teams
}

fn team(reader: &mut Reader<'_>, item: &Item<'_>, named: &BTreeSet<Name>) -> Option<Team> {
    let mut table = reader.table(item)?;
    let access = match table.take("routes") {
        Some(item) => Access::Only(routes(reader, &item, named)),
        None => Access::AllRoutes,
    };
    let weight = table.take("weight").and_then(|item| reader.count(&item));
    let contact = table.take("contact").and_then(|item| reader.words(&item, LONGEST_CONTACT));
    let default_route = table.take("default_route").and_then(|item| default_route(reader, &item, named, &access));
    let former = super::names::former(reader, &mut table);
    let items = table.take("quotas").and_then(|item| reader.list(&item)).unwrap_or_default();
    reader.finish(table);
    let mut quotas: Vec<Quota> = Vec::new();
    let mut streams = AtOnce::default();
    for item in items {
        let quota = match limit(reader, &item) {
            None => continue,
            Some(Limit::InWindow(quota)) => quota,
            Some(Limit::AtOnce(whose, limit)) => {
                let place = if whose == Whose::Team { &mut streams.of_team } else { &mut streams.of_key };
                if place.replace(limit).is_some() {
                    let message = "there are two limits of streams for the same; keep one".to_owned();
                    reader.problem(&item.path, &item.span, message);
                }
                continue;
            }
        };
        if quotas.iter().any(|other| (other.measure, other.window) == (quota.measure, quota.window)) {
            let message =
                format!("there are two quotas of {} a {}; keep one", quota.measure.as_str(), quota.window.as_str());
            reader.problem(&item.path, &item.span, message);
        }
        quotas.push(quota);
    }
    Some(Team { access, quotas, streams, weight, contact, default_route, former })
}

fn routes(reader: &mut Reader<'_>, item: &Item<'_>, named: &BTreeSet<Name>) -> BTreeSet<Name> {
    let items = reader.list(item).unwrap_or_default();
    let existing = |text: &str| match named.get(text) {
        Some(name) => Ok(name.clone()),
        None => Err(no_such("route", text, named.iter().map(Name::as_str))),
    };
    items.iter().filter_map(|item| reader.parsed(item, existing)).collect()
}

/// The route of requests that name none: one that the team may use.
fn default_route(reader: &mut Reader<'_>, item: &Item<'_>, named: &BTreeSet<Name>, access: &Access) -> Option<Name> {
    reader.parsed(item, |text| match named.get(text) {
        None => Err(no_such("route", text, named.iter().map(Name::as_str))),
        Some(_) if !access.allows(text) => {
            Err(format!("the team may not use `{text}`: add it to `routes`, or take another"))
        }
        Some(name) => Ok(name.clone()),
    })
}

/// For whom requests at once are limited.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Whose {
    Team,
    Key,
}

enum Limit {
    InWindow(Quota),
    AtOnce(Whose, NonZeroU32),
}

fn limit(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<Limit> {
    let mut table = reader.table(item)?;
    let windowed = Measure::ALL.iter().map(|measure| (measure.as_str(), Some(*measure)));
    let measures: Vec<_> = windowed.chain([("streams", None)]).collect();
    let measure = reader.required(&mut table, "measure").and_then(|item| reader.word(&item, &measures));
    if measure == Some(None) {
        let whose = [("team", Whose::Team), ("key", Whose::Key)];
        let whose = reader.required(&mut table, "per").and_then(|item| reader.word(&item, &whose));
        let limit = reader.required(&mut table, "limit").and_then(|item| reader.count(&item));
        reader.finish(table);
        return Some(Limit::AtOnce(whose?, limit?));
    }
    let measure = measure.flatten();
    let windows: Vec<_> = Window::ALL.iter().map(|window| (window.as_str(), *window)).collect();
    let window = reader.required(&mut table, "per").and_then(|item| reader.word(&item, &windows));
    let decimals = if measure == Some(Measure::Cost) { COST_DECIMALS } else { 0 };
    let limit = reader.required(&mut table, "limit").and_then(|item| reader.decimal(&item, decimals, LARGEST_LIMIT));
    let at_limit = table.take("at_limit").and_then(|item| reader.word(&item, &AT_LIMITS)).unwrap_or_default();
    reader.finish(table);
    Some(Limit::InWindow(Quota { measure: measure?, window: window?, limit: limit?, at_limit }))
}
