//! What changes from one catalogue to another, thing by thing and field by field.
//!
//! Two states enter, a list of [`Change`]s leaves, empty when they are the same. It is taken from the JSON form, so that no
//! field can be forgotten; shown before a catalogue is applied.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use wendor_wire::failure::FailureKind;

use super::document::Catalogue;
use super::file::time;
use crate::metering::rate::{Rate, RateCard};
use crate::name::OfferName;
use crate::quota::AtLimit;

/// What happens to a thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeKind {
    /// It is new.
    Added,
    /// It goes.
    Removed,
    /// It stays, with other fields.
    Changed,
}

/// A field of the file, with its text before and after.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FieldChange {
    /// Where in the thing, such as `stage 1.pick`.
    pub field: String,
    /// Before; `None` when it was absent.
    pub before: Option<String>,
    /// After; `None` when it goes.
    pub after: Option<String>,
}

/// One thing that changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// How.
    pub kind: ChangeKind,
    /// Which, such as `route night-sailings`.
    pub thing: String,
    /// Its fields that change; for a new thing its fields as they will be, for one that goes as they were.
    pub fields: Vec<FieldChange>,
}

/// What changes from `before` to `after`.
///
/// # Panics
/// Never: a catalogue always has a JSON form.
#[must_use]
pub fn between(before: &Catalogue, after: &Catalogue) -> Vec<Change> {
    let (before, after) = (form(before), form(after));
    let mut changes = Vec::new();
    compare_things("currency", "", "", before.get("currency"), after.get("currency"), &mut changes);
    for (group, word) in [("upstreams", "upstream"), ("routes", "route"), ("teams", "team"), ("webhooks", "webhook")] {
        let (old, new) = (before.get(group), after.get(group));
        let renamed = renamed(old, new);
        for name in keys_of_both(old, new) {
            if renamed.values().any(|earlier| *earlier == name) {
                continue;
            }
            let of = |state: Option<&Value>, name: &str| state.and_then(|things| things.get(name)).cloned();
            let earlier = renamed.get(&name).unwrap_or(&name);
            compare_things(word, earlier, &name, of(old, earlier).as_ref(), of(new, &name).as_ref(), &mut changes);
        }
    }
    changes
}

/// Things that go under a name that another keeps as a former one: their present names with those of before.
fn renamed(old: Option<&Value>, new: Option<&Value>) -> BTreeMap<String, String> {
    let is_there = |things: Option<&Value>, name: &str| things.is_some_and(|things| things.get(name).is_some());
    let things = new.and_then(Value::as_object).into_iter().flatten();
    let earlier = things.filter(|(name, _)| !is_there(old, name)).filter_map(|(name, thing)| {
        let former = thing.get("former")?.as_array()?.iter().rev();
        let mut names = former.filter_map(|entry| entry.get("name").unwrap_or(entry).as_str());
        let earlier = names.find(|former| is_there(old, former) && !is_there(new, former))?;
        Some((name.clone(), earlier.to_owned()))
    });
    earlier.collect()
}

/// The JSON form, with quotas named by what they are: their place in a list says nothing to whoever reads.
fn form(catalogue: &Catalogue) -> Value {
    let mut form = serde_json::to_value(catalogue).expect("a catalogue has a JSON form");
    for (name, team) in &catalogue.teams {
        let named = team.quotas.iter().map(|quota| {
            let name = format!("{} a {}", quota.measure.as_str(), quota.window.as_str());
            let mut fields = serde_json::Map::new();
            fields.insert("limit".to_owned(), Value::String(quota.limit.to_string()));
            if quota.at_limit == AtLimit::Warn {
                fields.insert("at_limit".to_owned(), Value::String("warn".to_owned()));
            }
            (name, Value::Object(fields))
        });
        form["teams"][name.as_str()]["quotas"] = Value::Object(named.collect());
    }
    // The place of an offer in its stage says nothing either, and a stage is known by its number from 1.
    for (name, route) in &catalogue.routes {
        let stages = route.stages.iter().enumerate().map(|(index, stage)| {
            let offers = stage.offers.iter().map(|entry| {
                let share = entry.share.map_or_else(|| "offered".to_owned(), |share| format!("share {share}"));
                (entry.offer.to_string(), Value::String(share))
            });
            let mut fields = form["routes"][name.as_str()]["stages"][index].clone();
            fields["offers"] = Value::Object(offers.collect());
            // Deadlines as the file has them.
            if let Some(fields) = fields.as_object_mut() {
                fields.remove("deadlines");
                let times = stage.deadlines.named().into_iter();
                fields.extend(times.filter_map(|(name, millis)| Some((name.to_owned(), Value::String(time(millis?))))));
            }
            // What nearly every stage has says nothing.
            if stage.moves_on == FailureKind::usual_moves()
                && let Some(fields) = fields.as_object_mut()
            {
                fields.remove("moves_on");
            }
            (format!("stage {}", index + 1), fields)
        });
        let stages: serde_json::Map<String, Value> = stages.collect();
        if let Some(fields) = form["routes"][name.as_str()].as_object_mut() {
            fields.remove("stages");
            fields.extend(stages);
        }
    }
    // An offer that says nothing of itself is an offer all the same, and has to show when it comes or goes.
    for (name, upstream) in &catalogue.upstreams {
        for model in upstream.offers.keys() {
            form["upstreams"][name.as_str()]["offers"][model.as_str()]["offered"] = Value::String("yes".to_owned());
        }
    }
    form
}

/// The rates of `wanted` that `known` does not have yet, as changes and as what to append.
#[must_use]
pub fn new_rates(known: &RateCard, wanted: &RateCard) -> (Vec<Change>, Vec<(OfferName, Rate)>) {
    let new: Vec<_> = wanted
        .iter()
        .filter(|(offer, rate)| known.of_day(offer, rate.effective_on).is_none())
        .map(|(offer, rate)| (offer.clone(), rate.clone()))
        .collect();
    let as_change = |(offer, rate): &(OfferName, Rate)| {
        let field =
            |field: &str, value: String| FieldChange { field: field.to_owned(), before: None, after: Some(value) };
        let mut fields = vec![field("input", rate.input.to_string())];
        fields.extend(rate.input_cached.map(|value| field("input_cached", value.to_string())));
        fields.extend(rate.cache_written.map(|value| field("cache_written", value.to_string())));
        fields.push(field("output", rate.output.to_string()));
        Change { kind: ChangeKind::Added, thing: format!("rate of {offer} from {}", rate.effective_on), fields }
    };
    (new.iter().map(as_change).collect(), new)
}

/// Compares a thing by its names before and after.
fn compare_things(
    word: &str,
    earlier: &str,
    name: &str,
    old: Option<&Value>,
    new: Option<&Value>,
    changes: &mut Vec<Change>,
) {
    let kind = match (old, new) {
        (None, None) => return,
        (None, Some(_)) => ChangeKind::Added,
        (Some(_), None) => ChangeKind::Removed,
        (Some(_), Some(_)) => ChangeKind::Changed,
    };
    let mut fields = Vec::new();
    if earlier != name {
        let (before, after) = (Some(earlier.to_owned()), Some(name.to_owned()));
        fields.push(FieldChange { field: "name".to_owned(), before, after });
    }
    compare_values("", old, new, &mut fields);
    if !fields.is_empty() || kind != ChangeKind::Changed {
        changes.push(Change { kind, thing: format!("{word} {name}").trim_end().to_owned(), fields });
    }
}

fn compare_values(path: &str, old: Option<&Value>, new: Option<&Value>, fields: &mut Vec<FieldChange>) {
    if old == new {
        return;
    }
    let is_branch = |value: Option<&Value>| value.is_none_or(|value| value.is_object() || is_list_of_tables(value));
    if is_branch(old) && is_branch(new) {
        for key in keys_of_both(old, new) {
            let of = |value: Option<&Value>| match value {
                Some(Value::Object(map)) => map.get(&key).cloned(),
                Some(Value::Array(list)) => key.parse::<usize>().ok().and_then(|index| list.get(index)).cloned(),
                _ => None,
            };
            let is_list = old.or(new).is_some_and(Value::is_array);
            let deeper = match (is_list, path.is_empty()) {
                (true, _) => format!("{path}[{key}]"),
                (false, true) => key.clone(),
                (false, false) => format!("{path}.{key}"),
            };
            compare_values(&deeper, of(old).as_ref(), of(new).as_ref(), fields);
        }
        return;
    }
    fields.push(FieldChange { field: path.to_owned(), before: old.map(shown), after: new.map(shown) });
}

fn is_list_of_tables(value: &Value) -> bool {
    value.as_array().is_some_and(|list| !list.is_empty() && list.iter().all(Value::is_object))
}

fn keys_of_both(old: Option<&Value>, new: Option<&Value>) -> Vec<String> {
    let keys = |value: Option<&Value>| -> Vec<String> {
        match value {
            Some(Value::Object(map)) => map.keys().cloned().collect(),
            Some(Value::Array(list)) => (0..list.len()).map(|index| index.to_string()).collect(),
            _ => Vec::new(),
        }
    };
    let mut all = keys(old);
    for key in keys(new) {
        if !all.contains(&key) {
            all.push(key);
        }
    }
    all
}

fn shown(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(list) => list.iter().map(shown).collect::<Vec<_>>().join(", "),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::Object(_) => value.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::file;
    use rstest::rstest;

    const BASE: &str = r#"
[upstreams.quarry]
address = "http://quarry.example"
hosting = "hosted"
headers = { x-harbour = "a" }
offers.fulmar-mini = { output_cap = 5 }

[routes.manifests]
stages = [{ offers = ["quarry/fulmar-mini"] }]

[teams.timetables]
quotas = [{ measure = "requests", per = "minute", limit = 5 }, { measure = "cost", per = "month", limit = 9 }]
"#;

    /// Each change as `kind thing: field before>after, ..`.
    fn told(after: &str) -> Vec<String> {
        let catalogue = |text: &str| file::read(text).unwrap_or_else(|problems| panic!("{problems:#?}")).catalogue;
        let side = |value: &Option<String>| value.clone().unwrap_or_default();
        let field = |field: &FieldChange| format!("{} {}>{}", field.field, side(&field.before), side(&field.after));
        let changes = between(&catalogue(BASE), &catalogue(after));
        let line = |change: &Change| {
            format!(
                "{:?} {}: {}",
                change.kind,
                change.thing,
                change.fields.iter().map(field).collect::<Vec<_>>().join(", ")
            )
        };
        changes.iter().map(line).collect()
    }

    #[rstest]
    #[case::nothing("", "", &[])]
    #[case::a_field("output_cap = 5", "output_cap = 6", &["Changed upstream quarry: offers.fulmar-mini.output_cap 5>6"])]
    #[case::a_field_that_comes("hosting = \"hosted\"", "hosting = \"hosted\"\nplace = \"inland\"", &["Changed upstream quarry: place >inland"])]
    #[case::a_field_that_goes("headers = { x-harbour = \"a\" }", "", &["Changed upstream quarry: headers.x-harbour a>"])]
    #[case::a_stage(
        "\"quarry/fulmar-mini\"] }]",
        "\"quarry/fulmar-mini\"], pick = \"cost\" }]",
        &["Changed route manifests: stage 1.pick room>cost"]
    )]
    #[case::the_order_of_quotas_says_nothing(
        "{ measure = \"requests\", per = \"minute\", limit = 5 }, { measure = \"cost\", per = \"month\", limit = 9 }",
        "{ measure = \"cost\", per = \"month\", limit = 9 }, { measure = \"requests\", per = \"minute\", limit = 5 }",
        &[]
    )]
    #[case::a_quota_that_goes(", { measure = \"cost\", per = \"month\", limit = 9 }", "", &["Changed team timetables: quotas.cost a month.limit 9>"])]
    #[case::a_team("[teams.timetables]", "[teams.data-lab]\n[teams.timetables]", &["Added team data-lab: access >all-routes"])]
    #[case::an_offer_that_says_nothing(
        "offers.fulmar-mini",
        "offers.knot = {}\noffers.fulmar-mini",
        &["Changed upstream quarry: offers.knot.offered >yes"]
    )]
    #[case::an_offer_of_a_stage(
        "[\"quarry/fulmar-mini\"] }]",
        "[{ offer = \"quarry/fulmar-mini\", share = 3 }] }, { offers = [\"quarry/fulmar-mini\"] }]",
        &["Changed route manifests: stage 1.offers.quarry/fulmar-mini offered>share 3, stage 2.offers.quarry/fulmar-mini >offered, stage 2.pick >room"]
    )]
    #[case::a_name("[teams.timetables]", "[teams.boards]\nformer = [\"timetables\"]", &["Changed team boards: name timetables>boards, former >timetables"])]
    #[case::the_currency("\n[upstreams", "currency = \"SEK\"\n[upstreams", &["Changed currency:  EUR>SEK"])]
    fn changes_name_the_thing_and_the_field(#[case] right: &str, #[case] other: &str, #[case] expected: &[&str]) {
        assert!(BASE.contains(right));
        assert_eq!(told(&BASE.replacen(right, other, 1)), expected);
    }
}
