//! The `[teams.*]` tables of a catalogue file: access and quotas.

use std::collections::{BTreeMap, BTreeSet};

use super::reader::{Item, Reader, no_such};
use crate::catalog::team::{Access, Team};
use crate::name::Name;
use crate::quota::window::Window;
use crate::quota::{AtLimit, Measure, Quota};

/// Decimals that a limit may have: whole numbers for counts, cents and a little more for money.
const COST_DECIMALS: u32 = 6;

/// The largest limit: a million million, of whatever is counted.
const LARGEST_LIMIT: u64 = 1_000_000_000_000;

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
    let items = table.take("quotas").and_then(|item| reader.list(&item)).unwrap_or_default();
    reader.finish(table);
    let mut quotas: Vec<Quota> = Vec::new();
    for item in items {
        let Some(quota) = quota(reader, &item) else { continue };
        if quotas.iter().any(|other| (other.measure, other.window) == (quota.measure, quota.window)) {
            let message =
                format!("there are two quotas of {} a {}; keep one", quota.measure.as_str(), quota.window.as_str());
            reader.problem(&item.path, &item.span, message);
        }
        quotas.push(quota);
    }
    Some(Team { access, quotas })
}

fn routes(reader: &mut Reader<'_>, item: &Item<'_>, named: &BTreeSet<Name>) -> BTreeSet<Name> {
    let items = reader.list(item).unwrap_or_default();
    let existing = |text: &str| match named.get(text) {
        Some(name) => Ok(name.clone()),
        None => Err(no_such("route", text, named.iter().map(Name::as_str))),
    };
    items.iter().filter_map(|item| reader.parsed(item, existing)).collect()
}

fn quota(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<Quota> {
    let mut table = reader.table(item)?;
    let measures: Vec<_> = Measure::ALL.iter().map(|measure| (measure.as_str(), *measure)).collect();
    let windows: Vec<_> = Window::ALL.iter().map(|window| (window.as_str(), *window)).collect();
    let measure = reader.required(&mut table, "measure").and_then(|item| reader.word(&item, &measures));
    let window = reader.required(&mut table, "per").and_then(|item| reader.word(&item, &windows));
    let decimals = if measure == Some(Measure::Cost) { COST_DECIMALS } else { 0 };
    let limit = reader.required(&mut table, "limit").and_then(|item| reader.decimal(&item, decimals, LARGEST_LIMIT));
    let at_limit = table.take("at_limit").and_then(|item| reader.word(&item, &AT_LIMITS)).unwrap_or_default();
    reader.finish(table);
    Some(Quota { measure: measure?, window: window?, limit: limit?, at_limit })
}
