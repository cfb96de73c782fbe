//! Every leaf of a request's JSON survives in -> neutral -> same dialect, or stands in the list of losses.

use std::collections::BTreeMap;

use serde_json::Value;
use wendor_wire::dialects;
use wendor_wire::verdict::Target;

use crate::vectors::{all, target};

/// What does not come back, each with its reason: a vector (or `*`), a member, why.
const LOSSES: &str = include_str!("losses.txt");

/// A text stands in a turn as it is or in a part of one of these kinds.
const FORMS_OF_TEXT: [&str; 4] = ["text", "input_text", "output_text", "message"];

/// Names that say the same: a text may stand as it is or in a part.
fn same_word(name: &str) -> &str {
    match name {
        "content" | "text" | "input" | "instructions" | "system" | "output" | "result" => "text",
        "max_tokens" | "max_completion_tokens" => "output limit",
        "filename" | "title" => "name",
        other => other,
    }
}

/// The leaves of a value, as name and value; numbers by their value.
fn leaves(name: &str, value: &Value, into: &mut BTreeMap<(String, String), usize>) {
    match value {
        Value::Object(members) => {
            for (name, value) in members {
                leaves(&camel(name), value, into);
            }
        }
        Value::Array(values) => values.iter().for_each(|value| leaves(name, value, into)),
        // Null and false say what is said by leaving them out; the kind of a text is told by where it stands.
        Value::Null | Value::Bool(false) => {}
        Value::String(kind) if name == "type" && FORMS_OF_TEXT.contains(&kind.as_str()) => {}
        Value::Bool(_) | Value::Number(_) | Value::String(_) => {
            // Numbers count by their value: one client writes 40 as 40.0.
            let text = value.as_f64().map_or_else(|| value.to_string(), |number| number.to_string());
            *into.entry((same_word(name).to_owned(), text)).or_default() += 1;
        }
    }
}

/// The same name for `snake_case` and `camelCase`, which some clients mix.
fn camel(name: &str) -> String {
    if !name.contains('_') {
        let mut snake = String::new();
        for letter in name.chars() {
            if letter.is_ascii_uppercase() {
                snake.push('_');
            }
            snake.push(letter.to_ascii_lowercase());
        }
        return snake;
    }
    name.to_owned()
}

fn is_listed(losses: &str, vector: &str, name: &str, value: &str) -> bool {
    losses.lines().filter(|line| !line.starts_with('#') && !line.is_empty()).any(|line| {
        let mut words = line.splitn(4, ' ');
        let (of, member, text) = (words.next().unwrap(), words.next().unwrap(), words.next().unwrap());
        assert!(words.next().is_some(), "a loss needs its reason: {line}");
        (of == "*" || of == vector) && (member == name) && (text == "*" || text == value)
    })
}

/// Every leaf that does not come back, as vector, name and value.
fn lost_leaves() -> Vec<(String, String, String)> {
    let mut lost = Vec::new();
    for vector in all().into_iter().filter(|vector| vector.is_chat()) {
        let codec = dialects::of(vector.dialect);
        let conversation =
            vector.conversation().unwrap_or_else(|wrong| panic!("{} {}: {wrong}", vector.dialect, vector.name));
        let target = Target { model: &conversation.model, ..target(vector.dialect) };
        let written = codec.write_request(&conversation, &target);
        let written: Value = serde_json::from_str(&written).unwrap();
        let (mut before, mut after) = (BTreeMap::new(), BTreeMap::new());
        leaves("", &vector.body, &mut before);
        leaves("", &written, &mut after);
        for ((name, value), count) in before {
            let left = after.get(&(name.clone(), value.clone())).copied().unwrap_or(0);
            if left < count {
                lost.push((format!("{}/{}", vector.dialect, vector.name), name, value));
            }
        }
    }
    lost
}

#[test]
fn every_leaf_survives_or_is_listed() {
    let unlisted: Vec<_> =
        lost_leaves().into_iter().filter(|(vector, name, value)| !is_listed(LOSSES, vector, name, value)).collect();
    assert!(unlisted.is_empty(), "lost on the way: {unlisted:#?}");
}

#[test]
fn a_loss_that_is_none_any_more_is_struck_off_the_list() {
    let lost = lost_leaves();
    let lines: Vec<&str> = LOSSES.lines().filter(|line| !line.starts_with('#') && !line.is_empty()).collect();
    assert!(lines.len() <= 12, "the list is to stay short; it has {} lines", lines.len());
    for line in lines {
        let is_lost = lost.iter().any(|(vector, name, value)| is_listed(line, vector, name, value));
        assert!(is_lost, "nothing is lost of this any more: {line}");
    }
}
