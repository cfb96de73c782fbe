//! Changes of single things: a JSON Patch (RFC 6902) of the catalogue's file, whose tables and lists are taken as JSON.
//!
//! The text of a file and some [`PatchOperation`]s enter, the text of the changed file leaves. It is read like any other file, so that every
//! rule of files holds for a single change too. Three things differ from a plain patch, since a catalogue refers to its parts by name:
//!
//! - `move` of an upstream, a route or a team to another name renames it: what refers to it follows, and it keeps its former name
//! - `remove` of an upstream, an offer or a route takes it out of the stages and access lists that name it
//! - `add` never takes the place of a thing that is there

pub use json_patch::PatchOperation;
use json_patch::jsonptr::Pointer;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use toml::de::{DeTable, DeValue};

/// The most bytes of a catalogue's file that are read.
pub const LARGEST_FILE: usize = 4 * 1024 * 1024;

/// A change that cannot be made, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadEdit {
    /// The pointer of the operation.
    pub pointer: String,
    /// What is wrong and what to do.
    pub message: String,
}

/// What somebody else changed meanwhile in a place that a change touches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clash {
    /// Pointer of the place.
    pub pointer: String,
    /// As it was when the change was begun; nothing where it was absent.
    pub was: Option<Value>,
    /// As it is now; nothing where it is gone.
    pub is: Option<Value>,
}

/// A file as JSON: numbers with a fraction are texts with all their digits, days are texts.
///
/// # Errors
/// The first fault of the TOML.
pub fn document(text: &str) -> Result<Value, String> {
    let table = DeTable::parse(text).map_err(|error| error.message().to_owned())?;
    Ok(of_table(table.get_ref()))
}

fn of_table(table: &DeTable<'_>) -> Value {
    Value::Object(table.iter().map(|(key, value)| (key.get_ref().to_string(), of_value(value.get_ref()))).collect())
}

fn of_value(value: &DeValue<'_>) -> Value {
    match value {
        DeValue::String(text) => Value::String(text.to_string()),
        DeValue::Integer(number) => match i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()) {
            Ok(whole) => Value::from(whole),
            Err(_) => Value::String(number.as_str().to_owned()),
        },
        DeValue::Float(number) => Value::String(number.as_str().to_owned()),
        DeValue::Boolean(flag) => Value::Bool(*flag),
        DeValue::Datetime(day) => Value::String(day.to_string()),
        DeValue::Array(values) => Value::Array(values.iter().map(|value| of_value(value.get_ref())).collect()),
        DeValue::Table(table) => of_table(table),
    }
}

/// The names of a pointer, in order.
fn tokens(pointer: &Pointer) -> Vec<String> {
    pointer.tokens().map(|token| token.decoded().into_owned()).collect()
}

/// The names that the text of a pointer leads through, in order; `None` where it is none.
#[must_use]
pub fn names_of(pointer: &str) -> Option<Vec<String>> {
    Pointer::parse(pointer).ok().map(tokens)
}

/// A pointer from names.
#[must_use]
pub fn pointer(names: &[&str]) -> String {
    json_patch::jsonptr::PointerBuf::from_tokens(names.iter().copied()).to_string()
}

/// The pointer of a place as messages write it, such as `teams.timetables.quotas[0].limit`; names with other characters stand in quotes:
/// `upstreams.quay.offers."dunlin/7b"`. A pointer stays one.
///
/// # Errors
/// A sentence with the text.
pub fn pointer_of(place: &str) -> Result<String, String> {
    if place.starts_with('/') {
        return Ok(place.to_owned());
    }
    let bad = || format!("`{}` is not a place: write `teams.timetables.quotas[0].limit`", place.escape_debug());
    let mut names: Vec<String> = Vec::new();
    let mut rest = place;
    loop {
        if let Some(quoted) = rest.strip_prefix('"') {
            let (name, after) = quoted.split_once('"').ok_or_else(bad)?;
            names.push(name.to_owned());
            rest = after;
        } else {
            let end = rest.find(['.', '[']).unwrap_or(rest.len());
            names.push(Some(&rest[..end]).filter(|name| !name.is_empty()).ok_or_else(bad)?.to_owned());
            rest = &rest[end..];
        }
        while let Some(indexed) = rest.strip_prefix('[') {
            let (index, after) = indexed.split_once(']').ok_or_else(bad)?;
            names.push(
                Some(index).filter(|index| index.parse::<usize>().is_ok() || *index == "-").ok_or_else(bad)?.to_owned(),
            );
            rest = after;
        }
        match rest.strip_prefix('.') {
            Some(after) => rest = after,
            None if rest.is_empty() => return Ok(pointer(&names.iter().map(String::as_str).collect::<Vec<_>>())),
            None => return Err(bad()),
        }
    }
}

/// A value as it stands in a file, such as `12`, `"on-site"` or `["a", "b"]`; what is no TOML is taken as a text.
#[must_use]
pub fn value_of(text: &str) -> Value {
    let line = document(&format!("value = {text}")).ok();
    let value = line.and_then(|mut line| line.as_object_mut()?.remove("value").filter(|_| !text.contains('\n')));
    value.unwrap_or_else(|| Value::String(text.to_owned()))
}

/// The kinds of things that have names, and what a message calls one.
const KINDS: [(&str, &str); 4] =
    [("upstreams", "upstream"), ("routes", "route"), ("teams", "team"), ("webhooks", "webhook")];

/// The kind and the name of the thing that a pointer leads to, if it leads to a whole one: `("route", "manifests")`.
fn thing(names: &[String]) -> Option<(&'static str, String)> {
    match names {
        [kind, name] => KINDS.iter().find(|(group, _)| group == kind).map(|(_, word)| (*word, name.clone())),
        [group, upstream, offers, model] if group == "upstreams" && offers == "offers" => {
            Some(("offer", format!("{upstream}/{model}")))
        }
        _ => None,
    }
}

/// The text of the file after some changes, one after the other. `Ok` says nothing of whether it is a valid catalogue.
///
/// # Errors
/// The first change that cannot be made.
pub fn applied(text: &str, edits: &[PatchOperation]) -> Result<String, BadEdit> {
    let whole = |message: String| BadEdit { pointer: String::new(), message };
    let mut document = document(text).map_err(whole)?;
    for edit in edits {
        let wrong = |message: String| BadEdit { pointer: edit.path().to_string(), message };
        one(&mut document, edit).map_err(wrong)?;
    }
    toml::to_string(&document).map_err(|error| whole(format!("a value cannot stand in a file: {error}")))
}

fn one(document: &mut Value, edit: &PatchOperation) -> Result<(), String> {
    let names = tokens(edit.path());
    match edit {
        PatchOperation::Add(_) => {
            if let Some((word, name)) = thing(&names).filter(|_| document.pointer(edit.path().as_str()).is_some()) {
                return Err(format!("there is {} `{name}` already; choose another name", with_article(word)));
            }
            make_way(document, &names);
            patched(document, edit)
        }
        PatchOperation::Remove(_) => {
            if names.iter().any(|name| name == "rates") {
                return Err(
                    "a rate stays: requests were priced with it. Add one that takes its place from a day on".to_owned()
                );
            }
            patched(document, edit)?;
            match names.as_slice() {
                [kind, name] if kind == "upstreams" => {
                    forget_offers(document, &|offer| {
                        offer.split_once('/').is_some_and(|(upstream, _)| upstream == name)
                    });
                }
                [kind, name] if kind == "routes" => forget_route(document, name),
                [_, upstream, offers, model] if offers == "offers" => {
                    let gone = format!("{upstream}/{model}");
                    forget_offers(document, &|offer| offer == gone);
                }
                _ => {}
            }
            Ok(())
        }
        PatchOperation::Move(moved) => match (tokens(&moved.from).as_slice(), names.as_slice()) {
            ([kind, name], [same, other]) if kind == same && KINDS.iter().any(|(group, _)| group == kind) => {
                rename(document, kind, name, other)
            }
            _ => patched(document, edit),
        },
        PatchOperation::Replace(_) | PatchOperation::Copy(_) | PatchOperation::Test(_) => patched(document, edit),
    }
}

fn patched(document: &mut Value, edit: &PatchOperation) -> Result<(), String> {
    json_patch::patch(document, std::slice::from_ref(edit)).map_err(|error| in_words(error.kind))
}

#[expect(clippy::wildcard_enum_match_arm, reason = "what a later version of the library tells is told in its words")]
fn in_words(kind: json_patch::PatchErrorKind) -> String {
    match kind {
        json_patch::PatchErrorKind::TestFailed => "it is not what the change expects any more".to_owned(),
        json_patch::PatchErrorKind::InvalidPointer | json_patch::PatchErrorKind::InvalidFromPointer => {
            "there is nothing at this place; look at the catalogue for what there is".to_owned()
        }
        kind => kind.to_string(),
    }
}

/// A thing, its list of offers and its lists are made where a change adds the first of them: a file leaves out what is empty.
fn make_way(document: &mut Value, names: &[String]) {
    const LISTS: [&str; 4] = ["quotas", "origins", "rates", "former"];
    let Some((_, above)) = names.split_last() else { return };
    let mut place = document;
    for (depth, name) in above.iter().enumerate() {
        let is_known = match depth {
            0 => KINDS.iter().any(|(group, _)| group == name),
            1 => false,
            _ => true,
        };
        if place.is_array() {
            let Some(next) = name.parse::<usize>().ok().and_then(|index| place.get_mut(index)) else { return };
            place = next;
            continue;
        }
        let Some(table) = place.as_object_mut() else { return };
        if !table.contains_key(name) {
            if !is_known {
                return;
            }
            let empty =
                if LISTS.contains(&name.as_str()) { Value::Array(Vec::new()) } else { Value::Object(Map::new()) };
            table.insert(name.clone(), empty);
        }
        let Some(next) = table.get_mut(name) else { return };
        place = next;
    }
}

fn with_article(word: &str) -> String {
    let article = if word.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
    format!("{article} {word}")
}

/// The tables of every thing of a kind.
fn things_mut<'d>(document: &'d mut Value, kind: &str) -> impl Iterator<Item = &'d mut Map<String, Value>> {
    document
        .get_mut(kind)
        .and_then(Value::as_object_mut)
        .into_iter()
        .flat_map(|things| things.values_mut().filter_map(Value::as_object_mut))
}

fn list_mut<'d>(table: &'d mut Map<String, Value>, name: &str) -> Option<&'d mut Vec<Value>> {
    table.get_mut(name).and_then(Value::as_array_mut)
}

/// The text of the offer in an entry of a stage: `"upstream/model"`, or the member `offer` of a table.
fn offer_text(entry: &mut Value) -> Option<&mut Value> {
    if entry.is_object() { entry.get_mut("offer") } else { Some(entry) }
}

/// Takes offers out of the stages that name them, and out of a route the stages that are empty then. A route that would have none keeps
/// its last: what it leads to is a decision of whoever removes.
fn forget_offers(document: &mut Value, is_gone: &dyn Fn(&str) -> bool) {
    for route in things_mut(document, "routes") {
        let Some(stages) = list_mut(route, "stages") else { continue };
        let is_kept = |entry: &Value| {
            let text = entry.get("offer").unwrap_or(entry).as_str();
            text.is_none_or(|text| !is_gone(text))
        };
        let has_other = |stage: &Value| {
            stage.get("offers").and_then(Value::as_array).is_none_or(|offers| offers.iter().any(is_kept))
        };
        if !stages.iter().any(has_other) {
            continue;
        }
        stages.retain(has_other);
        for offers in stages.iter_mut().filter_map(Value::as_object_mut).filter_map(|stage| list_mut(stage, "offers")) {
            offers.retain(is_kept);
        }
    }
}

fn forget_route(document: &mut Value, name: &str) {
    for team in things_mut(document, "teams") {
        if let Some(routes) = list_mut(team, "routes") {
            routes.retain(|route| route != name);
        }
        if team.get("default_route").is_some_and(|route| route == name) {
            team.remove("default_route");
        }
    }
    for route in things_mut(document, "routes") {
        if route.get("successor").is_some_and(|route| route == name) {
            route.remove("successor");
        }
    }
}

fn rename(document: &mut Value, kind: &str, name: &str, other: &str) -> Result<(), String> {
    let word = KINDS.iter().find(|(group, _)| *group == kind).map_or("thing", |(_, word)| word);
    let things = document.get_mut(kind).and_then(Value::as_object_mut);
    let things = things.filter(|things| things.contains_key(name));
    let things = things.ok_or_else(|| format!("there is no {word} `{name}`"))?;
    if things.contains_key(other) {
        return Err(format!("there is {} `{other}` already; choose another name", with_article(word)));
    }
    let Some(mut thing) = things.remove(name) else { return Ok(()) };
    if let Some(table) = thing.as_object_mut().filter(|_| kind != "webhooks") {
        let former = table.entry("former").or_insert_with(|| Value::Array(Vec::new()));
        if let Some(former) = former.as_array_mut() {
            former.retain(|entry| entry.get("name").unwrap_or(entry) != other);
            former.push(Value::String(name.to_owned()));
        }
    }
    things.insert(other.to_owned(), thing);
    match kind {
        "upstreams" => offers_follow(document, name, other),
        "routes" => {
            for table in things_mut(document, "teams") {
                for route in list_mut(table, "routes").into_iter().flatten().filter(|route| *route == name) {
                    *route = Value::String(other.to_owned());
                }
                follows(table, "default_route", name, other);
            }
            for table in things_mut(document, "routes") {
                follows(table, "successor", name, other);
            }
        }
        _ => {}
    }
    Ok(())
}

fn follows(table: &mut Map<String, Value>, member: &str, name: &str, other: &str) {
    if let Some(value) = table.get_mut(member).filter(|value| *value == name) {
        *value = Value::String(other.to_owned());
    }
}

fn offers_follow(document: &mut Value, name: &str, other: &str) {
    for route in things_mut(document, "routes") {
        let stages = list_mut(route, "stages").into_iter().flatten().filter_map(Value::as_object_mut);
        for entry in stages.filter_map(|stage| list_mut(stage, "offers")).flatten() {
            let Some(text) = offer_text(entry) else { continue };
            if let Some((upstream, model)) =
                text.as_str().and_then(|text| text.split_once('/')).filter(|(upstream, _)| *upstream == name)
            {
                debug_assert_eq!(upstream, name);
                *text = Value::String(format!("{other}/{model}"));
            }
        }
    }
}

/// The changes that make one file of another.
///
/// # Errors
/// A fault of the TOML of either.
pub fn between(before: &str, after: &str) -> Result<Vec<PatchOperation>, String> {
    Ok(json_patch::diff(&document(before)?, &document(after)?).0)
}

/// Where somebody else's changes, from `base` to `current`, touch what `edits` touch. A list counts as one place: its entries have no names
/// that could be told apart.
///
/// # Errors
/// A fault of the TOML of either.
pub fn clashes(base: &str, current: &str, edits: &[PatchOperation]) -> Result<Vec<Clash>, String> {
    let (base, current) = (document(base)?, document(current)?);
    let theirs: Vec<Vec<String>> = json_patch::diff(&base, &current).0.iter().flat_map(places).collect();
    let mut clashes = Vec::new();
    for mine in edits.iter().flat_map(places) {
        for their in theirs.iter().filter(|their| mine.starts_with(their) || their.starts_with(&mine)) {
            let deeper = if mine.len() > their.len() { &mine } else { their };
            let names: Vec<&str> = deeper.iter().map(String::as_str).collect();
            let place = pointer(&names);
            let clash =
                Clash { was: base.pointer(&place).cloned(), is: current.pointer(&place).cloned(), pointer: place };
            // Both may have made the same of it.
            if !clashes.contains(&clash) {
                clashes.push(clash);
            }
        }
    }
    Ok(clashes)
}

/// The places that a change touches, up to the first list on the way.
fn places(edit: &PatchOperation) -> Vec<Vec<String>> {
    let up_to_list = |pointer: &Pointer| {
        let mut names = tokens(pointer);
        // The keys of the tables on the first four levels are names that people give, numbers too.
        let index = names.iter().enumerate().skip(2).find(|(depth, name)| {
            let is_offer = *depth == 3 && names.get(2).is_some_and(|list| list == "offers");
            !is_offer && (*name == "-" || name.parse::<usize>().is_ok())
        });
        if let Some((depth, _)) = index {
            names.truncate(depth);
        }
        names
    };
    match edit {
        PatchOperation::Move(moved) => vec![up_to_list(&moved.from), up_to_list(&moved.path)],
        PatchOperation::Copy(copied) => vec![up_to_list(&copied.path)],
        PatchOperation::Add(_) | PatchOperation::Remove(_) | PatchOperation::Replace(_) | PatchOperation::Test(_) => {
            vec![up_to_list(edit.path())]
        }
    }
}

#[cfg(test)]
mod tests;
