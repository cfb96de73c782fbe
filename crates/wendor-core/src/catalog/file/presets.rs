//! The `preset` table of a route.

use std::collections::{BTreeMap, BTreeSet};

use rust_decimal::Decimal;
use wendor_wire::nearest::nearest;
use wendor_wire::preset::{ExampleTurn, PresetPart};

use super::reader::{Item, Reader, Table};
use super::write::{line, quoted};
use crate::catalog::preset::{LONGEST_VALUE, Preset, variables_in};

/// Characters of instructions, and of each side of an example.
const LONGEST_TEXT: usize = 32_000;

/// Examples of one preset.
const MOST_EXAMPLES: usize = 20;

/// Variables of one preset.
const MOST_VARIABLES: usize = 32;

/// What services take at most.
const MOST_STOPS: usize = 4;

/// Characters of a text at which an answer ends.
const LONGEST_STOP: usize = 100;

/// Letters of a variable's name.
const LONGEST_NAME: usize = 40;

/// Reads it.
pub(super) fn read(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<Preset> {
    let mut table = reader.table(item)?;
    let (variables, required) = variables(reader, &mut table);
    let mut preset = Preset { variables, required, ..Preset::default() };
    preset.instructions = table.take("instructions").and_then(|item| text(reader, &item, &preset));
    let examples = table.take("examples").and_then(|item| at_most(reader, &item, MOST_EXAMPLES, "examples"));
    preset.examples = examples.unwrap_or_default().iter().filter_map(|item| example(reader, item, &preset)).collect();
    preset.temperature = table.take("temperature").and_then(|item| reader.decimal(&item, 4, 2));
    preset.top_p = table.take("top_p").and_then(|item| reader.decimal(&item, 4, 1));
    preset.seed = table.take("seed").and_then(|item| reader.count_or_none(&item));
    preset.presence_penalty = table.take("presence_penalty").and_then(|item| penalty(reader, &item));
    preset.frequency_penalty = table.take("frequency_penalty").and_then(|item| penalty(reader, &item));
    preset.output_limit = table.take("output_limit").and_then(|item| reader.count(&item));
    let stops = table.take("stop").and_then(|item| at_most(reader, &item, MOST_STOPS, "texts")).unwrap_or_default();
    preset.stop = stops.iter().filter_map(|item| reader.lines(item, LONGEST_STOP)).collect();
    let fixed = table.take("fixed").and_then(|item| reader.list(&item)).unwrap_or_default();
    preset.fixed = fixed.iter().filter_map(|item| fixed_part(reader, item, &preset)).collect();
    reader.finish(table);
    if preset.parts().is_empty() {
        reader.problem(
            &item.path,
            &item.span,
            "adds nothing: give it instructions, examples or parameters, or leave it out",
        );
    }
    Some(preset)
}

fn variables(reader: &mut Reader<'_>, table: &mut Table<'_>) -> (BTreeMap<String, String>, BTreeSet<String>) {
    let mut variables = BTreeMap::new();
    if let Some(item) = table.take("variables")
        && let Some(values) = reader.table(&item)
    {
        for (name, span, value) in values.entries() {
            match variable(&name) {
                Ok(name) => {
                    variables.extend(reader.lines_or_none(&value, LONGEST_VALUE).map(|value| (name, value)));
                }
                Err(why) => reader.problem(&value.path, &span, why),
            }
        }
    }
    let required_item = table.take("required");
    let listed = required_item.as_ref().and_then(|item| reader.list(item)).unwrap_or_default();
    let required: BTreeSet<String> = listed.iter().filter_map(|item| reader.parsed(item, variable)).collect();
    if let Some((item, name)) = required_item.as_ref().zip(required.iter().find(|name| variables.contains_key(*name))) {
        let message = format!("`{name}` has a usual value under `variables`; leave it out there or here");
        reader.problem(&item.path, &item.span, message);
    }
    if variables.len() + required.len() > MOST_VARIABLES {
        reader.problem(&table.path, &table.span, format!("has more than {MOST_VARIABLES} variables"));
    }
    (variables, required)
}

fn variable(name: &str) -> Result<String, String> {
    let is_right = name.starts_with(|first: char| first.is_ascii_lowercase())
        && name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
        && name.len() <= LONGEST_NAME;
    if is_right {
        Ok(name.to_owned())
    } else {
        Err(format!("`{name}` is no name for a variable: a-z, 0-9 and _, a letter first, up to {LONGEST_NAME}"))
    }
}

/// A text whose variables are known.
fn text(reader: &mut Reader<'_>, item: &Item<'_>, preset: &Preset) -> Option<String> {
    let text = reader.lines(item, LONGEST_TEXT)?.trim().to_owned();
    if text.is_empty() {
        reader.problem(&item.path, &item.span, "is empty; leave it out");
    }
    let unknown = variables_in(&text).find(|name| !preset.knows(name));
    if let Some(name) = unknown {
        let remedy = match nearest(name, preset.names()) {
            Some(near) => format!("did you mean `{{{{{near}}}}}`?"),
            None => "give it a usual value under `variables`, or list it under `required`".to_owned(),
        };
        let message = format!("unknown variable `{{{{{name}}}}}`; {remedy}");
        reader.problem(&item.path, &item.span, message);
        return None;
    }
    Some(text)
}

fn example(reader: &mut Reader<'_>, item: &Item<'_>, preset: &Preset) -> Option<ExampleTurn> {
    let mut table = reader.table(item)?;
    let user = reader.required(&mut table, "user").and_then(|item| text(reader, &item, preset));
    let assistant = reader.required(&mut table, "assistant").and_then(|item| text(reader, &item, preset));
    reader.finish(table);
    Some(ExampleTurn { user: user?, assistant: assistant? })
}

fn at_most<'d>(reader: &mut Reader<'_>, item: &Item<'d>, most: usize, what: &str) -> Option<Vec<Item<'d>>> {
    let items = reader.list(item)?;
    if items.len() > most {
        reader.problem(&item.path, &item.span, format!("has {} {what}; at most {most} are taken", items.len()));
    }
    Some(items)
}

fn penalty(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<Decimal> {
    reader.decimal_between(item, Decimal::from(-2), Decimal::from(2), 4)
}

/// A part that is fixed has to be there.
fn fixed_part(reader: &mut Reader<'_>, item: &Item<'_>, preset: &Preset) -> Option<PresetPart> {
    let words: Vec<(&str, PresetPart)> = PresetPart::ALL.into_iter().map(|part| (part.as_str(), part)).collect();
    let part = reader.word(item, &words)?;
    if !preset.parts().iter().any(|(there, _)| *there == part) {
        reader.problem(&item.path, &item.span, format!("`{part}` is fixed, and the preset does not set it"));
    }
    Some(part)
}

/// Writes it, under the head of its route.
pub(super) fn write(out: &mut String, head: &str, preset: &Preset) {
    line(out, &format!("\n[{head}.preset]"));
    if let Some(instructions) = &preset.instructions {
        line(out, &format!("instructions = {}", quoted(instructions)));
    }
    if !preset.variables.is_empty() {
        let pairs: Vec<String> =
            preset.variables.iter().map(|(name, value)| format!("{name} = {}", one_line(value))).collect();
        line(out, &format!("variables = {{ {} }}", pairs.join(", ")));
    }
    if !preset.required.is_empty() {
        line(out, &format!("required = [{}]", words(preset.required.iter().map(String::as_str))));
    }
    if !preset.examples.is_empty() {
        line(out, "examples = [");
        for ExampleTurn { user, assistant } in &preset.examples {
            line(out, &format!("  {{ user = {}, assistant = {} }},", one_line(user), one_line(assistant)));
        }
        line(out, "]");
    }
    for (name, value) in [
        ("temperature", preset.temperature),
        ("top_p", preset.top_p),
        ("presence_penalty", preset.presence_penalty),
        ("frequency_penalty", preset.frequency_penalty),
    ] {
        if let Some(value) = value {
            line(out, &format!("{name} = {}", quoted(&value.to_string())));
        }
    }
    if let Some(seed) = preset.seed {
        line(out, &format!("seed = {seed}"));
    }
    if let Some(limit) = preset.output_limit {
        line(out, &format!("output_limit = {limit}"));
    }
    if !preset.stop.is_empty() {
        line(out, &format!("stop = [{}]", words(preset.stop.iter().map(String::as_str))));
    }
    if !preset.fixed.is_empty() {
        line(out, &format!("fixed = [{}]", words(preset.fixed.iter().map(|part| part.as_str()))));
    }
}

/// In one line, whatever it holds: JSON's escapes are TOML's too.
fn one_line(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

fn words<'w>(words: impl Iterator<Item = &'w str>) -> String {
    words.map(one_line).collect::<Vec<_>>().join(", ")
}
