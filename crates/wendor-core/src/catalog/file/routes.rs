//! The `[routes.*]` tables of a catalogue file: stages, how they pick, when they move on, their deadlines.

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;
use wendor_wire::failure::FailureKind;

use super::presets;
use super::reader::{Item, Reader, no_such};
use crate::catalog::origin::Origin;
use crate::catalog::route::{FormerName, Pick, Route, Stage, StageDeadlines, StageOffer};
use crate::name::{Name, OfferName};

const PICKS: [(&str, Pick); 5] = [
    ("share", Pick::Share),
    ("room", Pick::Room),
    ("speed", Pick::Speed),
    ("cost", Pick::Cost),
    ("together", Pick::Together),
];

/// Characters of whom to ask, and of what it is for.
const LONGEST_OWNER: usize = 200;
const LONGEST_PURPOSE: usize = 500;

/// The routes, and the names of all that the file holds, also of those with problems.
pub(super) fn read(
    reader: &mut Reader<'_>,
    item: &Item<'_>,
    known: &BTreeSet<OfferName>,
) -> (BTreeMap<Name, Route>, BTreeSet<Name>) {
    let (mut routes, mut named) = (BTreeMap::new(), BTreeSet::new());
    let Some(table) = reader.table(item) else { return (routes, named) };
    let entries = table.entries();
    named.extend(entries.iter().filter_map(|(name, ..)| Name::parse(name).ok()));
    for (name, span, item) in entries {
        match Name::parse(&name) {
            Ok(name) => {
                if let Some(route) = route(reader, &item, &name, Known { offers: known, routes: &named }) {
                    routes.insert(name, route);
                }
            }
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
    (routes, named)
}

/// What a route may refer to.
#[derive(Clone, Copy)]
struct Known<'k> {
    offers: &'k BTreeSet<OfferName>,
    routes: &'k BTreeSet<Name>,
}

fn route(reader: &mut Reader<'_>, item: &Item<'_>, name: &Name, known: Known<'_>) -> Option<Route> {
    let Known { offers: known, routes: named } = known;
    let mut table = reader.table(item)?;
    let stages_item = reader.required(&mut table, "stages");
    let is_strict = table.take("strict").and_then(|item| reader.flag(&item)).unwrap_or(false);
    let listed = table.take("origins").and_then(|item| reader.list(&item)).unwrap_or_default();
    let origins = listed.iter().filter_map(|item| reader.parsed(item, Origin::parse)).collect();
    let about = About {
        owner: table.take("owner").and_then(|item| reader.words(&item, LONGEST_OWNER)),
        purpose: table.take("purpose").and_then(|item| reader.words(&item, LONGEST_PURPOSE)),
        retires_on: table.take("retires").and_then(|item| reader.day(&item)),
        successor: table.take("successor").and_then(|item| other_route(reader, &item, name, named)),
    };
    let preset = table.take("preset").and_then(|item| presets::read(reader, &item));
    let former = table.take("former").and_then(|item| reader.list(&item)).unwrap_or_default();
    let former = former.iter().filter_map(|item| former_name(reader, item)).collect();
    reader.finish(table);
    let stages_item = stages_item?;
    let items = reader.list(&stages_item)?;
    if items.is_empty() {
        reader.problem(&stages_item.path, &stages_item.span, "a route needs at least one stage");
    }
    let stages = items.iter().filter_map(|item| stage(reader, item, known)).collect();
    let About { owner, purpose, retires_on, successor } = about;
    Some(Route { stages, is_strict, origins, owner, purpose, retires_on, successor, former, preset })
}

/// What is known of a route beside where it leads.
struct About {
    owner: Option<String>,
    purpose: Option<String>,
    retires_on: Option<NaiveDate>,
    successor: Option<Name>,
}

/// The route that takes the place of `own`.
fn other_route(reader: &mut Reader<'_>, item: &Item<'_>, own: &Name, named: &BTreeSet<Name>) -> Option<Name> {
    reader.parsed(item, |text| match named.get(text) {
        None => Err(no_such("route", text, named.iter().map(Name::as_str))),
        Some(name) if name == own => Err(format!("`{text}` is the route itself; name another")),
        Some(name) => Ok(name.clone()),
    })
}

/// `"name"`, or `{ name = "name", until = 2026-12-31 }`.
fn former_name(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<FormerName> {
    if !item.is_table() {
        return reader.parsed(item, Name::parse).map(|name| FormerName { name, until: None });
    }
    let mut table = reader.table(item)?;
    let name = reader.required(&mut table, "name").and_then(|item| reader.parsed(&item, Name::parse));
    let until = table.take("until").and_then(|item| reader.day(&item));
    reader.finish(table);
    Some(FormerName { name: name?, until })
}

fn stage(reader: &mut Reader<'_>, item: &Item<'_>, known: &BTreeSet<OfferName>) -> Option<Stage> {
    let mut table = reader.table(item)?;
    let offers_item = reader.required(&mut table, "offers");
    let pick = table.take("pick").and_then(|item| reader.word(&item, &PICKS)).unwrap_or_default();
    let moves_on = match table.take("moves_on") {
        Some(item) => failure_kinds(reader, &item),
        None => FailureKind::usual_moves(),
    };
    let deadlines = StageDeadlines {
        connect_ms: table.take("connect").and_then(|item| reader.duration_ms(&item)),
        first_event_ms: table.take("first_event").and_then(|item| reader.duration_ms(&item)),
        reply_ms: table.take("reply").and_then(|item| reader.duration_ms(&item)),
        between_events_ms: table.take("between_events").and_then(|item| reader.duration_ms(&item)),
        whole_ms: table.take("whole").and_then(|item| reader.duration_ms(&item)),
        room_ms: table.take("room").and_then(|item| reader.duration_or_none_ms(&item)),
        loading_ms: table.take("loading").and_then(|item| reader.duration_or_none_ms(&item)),
    };
    let is_hedged = table.take("hedge").and_then(|item| reader.flag(&item)).unwrap_or(false);
    reader.finish(table);
    let offers_item = offers_item?;
    let items = reader.list(&offers_item)?;
    if items.is_empty() {
        reader.problem(&offers_item.path, &offers_item.span, "a stage needs at least one offer");
    }
    let offers = items.iter().filter_map(|item| stage_offer(reader, item, known)).collect();
    Some(Stage { offers, pick, moves_on, deadlines, is_hedged })
}

fn failure_kinds(reader: &mut Reader<'_>, item: &Item<'_>) -> Vec<FailureKind> {
    let nameable = FailureKind::ALL.into_iter().filter(|kind| kind.may_move_on());
    let words: Vec<(&str, FailureKind)> = nameable.map(|kind| (kind.as_str(), kind)).collect();
    let items = reader.list(item).unwrap_or_default();
    items.iter().filter_map(|item| reader.word(item, &words)).collect()
}

/// `"upstream/model"`, or `{ offer = "upstream/model", share = 3 }`.
fn stage_offer(reader: &mut Reader<'_>, item: &Item<'_>, known: &BTreeSet<OfferName>) -> Option<StageOffer> {
    let (name_item, share) = if item.is_table() {
        let mut table = reader.table(item)?;
        let name = reader.required(&mut table, "offer");
        let share = table.take("share").and_then(|item| reader.count_or_none(&item));
        reader.finish(table);
        (name?, share)
    } else {
        (item.again(), None)
    };
    let existing = |text: &str| {
        let name = OfferName::parse(text).map_err(|error| error.to_string())?;
        let names: Vec<String> = known.iter().map(ToString::to_string).collect();
        if known.contains(&name) { Ok(name) } else { Err(no_such("offer", text, names.iter().map(String::as_str))) }
    };
    reader.parsed(&name_item, existing).map(|offer| StageOffer { offer, share })
}
