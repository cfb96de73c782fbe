//! `wendor route preset`: what a route adds to requests, set as any other change, tried on a question, and as it was.

use std::io::Read;
use std::path::Path;

use serde_json::{Map, Value, json};
use wendor_core::catalog::edit::pointer;
use wendor_core::words::{money, seconds};
use wendor_gateway::admin::presets::{PresetTried, PresetVersionLine};

use super::change::{Wanted, look, run as change, show};
use super::now;
use super::things::{current, must_be_there, nothing_to_change, number, texts};
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::presets::{PresetCommand, PresetSetArgs};
use crate::output::{self, Column, Reader};
use crate::words;

pub(super) async fn run(command: PresetCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        PresetCommand::Show { route } => shown(&route, management, reader).await,
        PresetCommand::Set(args) => set(*args, management, reader).await,
        PresetCommand::Try { route, question, trial, variable } => {
            let values = variable.iter().map(|pair| filled(pair)).collect::<Result<Map<String, Value>, Failure>>()?;
            let ask = json!({ "question": question, "variables": values, "offer": trial.offer, "team": trial.team });
            told(&asked(&route, &ask, management).await?, reader)
        }
        PresetCommand::Versions { route } => versions(&route, management, reader).await,
        PresetCommand::Restore { route, revision, how } => {
            let versions = versions_of(&route, management).await?;
            let version = versions.iter().find(|version| version.revision == revision).ok_or_else(|| {
                Failure::NoSuch(format!("No version {revision}; `wendor route preset versions {route}` lists them."))
            })?;
            let path = pointer(&["routes", &route, "preset"]);
            let edit = match &version.preset {
                Some(preset) => json!({ "op": "add", "path": path, "value": preset }),
                None => json!({ "op": "remove", "path": path }),
            };
            change(management, Wanted::edits(vec![edit]), &how, reader).await
        }
        PresetCommand::Remove { route, how } => {
            preset_of(&route, management).await?.ok_or_else(|| no_preset(&route))?;
            let edit = json!({ "op": "remove", "path": pointer(&["routes", &route, "preset"]) });
            change(management, Wanted::edits(vec![edit]), &how, reader).await
        }
    }
}

fn no_preset(route: &str) -> Failure {
    Failure::NoSuch(format!("Route {route} has no preset; see `wendor route preset set --help`."))
}

/// The preset in force, in the form of the file.
async fn preset_of(route: &str, management: &Management) -> Result<Option<Value>, Failure> {
    let document = current(management).await?.document;
    must_be_there(&document, "routes", route)?;
    Ok(document["routes"][route].get("preset").cloned())
}

async fn shown(route: &str, management: &Management, reader: Reader) -> Result<(), Failure> {
    let preset = preset_of(route, management).await?;
    if reader == Reader::Program {
        return output::json(&preset);
    }
    let preset = preset.ok_or_else(|| no_preset(route))?;
    let lines: Vec<String> =
        preset.as_object().into_iter().flatten().map(|(part, value)| shown_part(part, value)).collect();
    output::print(&(lines.join("\n") + "\n"))
}

fn shown_part(part: &str, value: &Value) -> String {
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let several: Vec<String> = match value {
        Value::Array(items) if part == "examples" => {
            let example =
                |item: &Value| format!("{}\n{}", indented(&text(&item["user"])), indented(&text(&item["assistant"])));
            return format!("examples:\n{}", items.iter().map(example).collect::<Vec<_>>().join("\n  --\n"));
        }
        Value::String(lines) if lines.contains('\n') => return format!("{part}:\n{}", indented(lines)),
        Value::Array(items) => items.iter().map(text).collect(),
        Value::Object(pairs) => pairs.iter().map(|(name, value)| format!("{name}={}", text(value))).collect(),
        Value::String(_) | Value::Null | Value::Bool(_) | Value::Number(_) => vec![text(value)],
    };
    format!("{part}: {}", several.join(", "))
}

fn indented(text: &str) -> String {
    text.lines().map(|line| format!("  {line}")).collect::<Vec<_>>().join("\n")
}

async fn set(args: PresetSetArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let (route, question) = (args.route.clone(), args.question.clone());
    let (trial, how) = (args.trial.clone(), args.how.clone());
    let before = preset_of(&route, management).await?;
    let after = changed(before.as_ref(), args)?;
    let path = pointer(&["routes", &route, "preset"]);
    let edit = match (&before, after.is_empty()) {
        (Some(_), true) => json!({ "op": "remove", "path": path }),
        (None, true) => return Err(nothing_to_change()),
        (_, false) => json!({ "op": "add", "path": path, "value": after }),
    };
    let Some(question) = question else {
        return change(management, Wanted::edits(vec![edit]), &how, reader).await;
    };
    if reader == Reader::Person {
        show(&look(management, &Wanted::edits(vec![edit.clone()])).await?)?;
    }
    let required = after.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str);
    let stand_ins: Map<String, Value> = required.map(|name| (name.to_owned(), name.into())).collect();
    let ask = json!({
        "question": question, "variables": stand_ins, "edits": [edit], "offer": trial.offer, "team": trial.team,
    });
    told(&asked(&route, &ask, management).await?, reader)?;
    if reader == Reader::Person { output::line("Nothing was changed: --try.") } else { Ok(()) }
}

/// The preset with the parts that were named.
fn changed(before: Option<&Value>, args: PresetSetArgs) -> Result<Map<String, Value>, Failure> {
    let instructions = match &args.instructions_from {
        Some(path) => Some(text_of(path)?),
        None => args.instructions,
    };
    let list = |values: Vec<String>| (!values.is_empty()).then(|| texts(values));
    let examples = args.example.chunks(2).filter_map(|pair| match pair {
        [user, assistant] if !user.is_empty() => Some(json!({ "user": user, "assistant": assistant })),
        _ => None,
    });
    let examples = (!args.example.is_empty()).then(|| Value::from(examples.collect::<Vec<_>>()));
    let parts = [
        ("instructions", instructions.map(Value::from)),
        ("examples", examples),
        ("temperature", args.temperature.map(Value::from)),
        ("top_p", args.top_p.map(Value::from)),
        ("seed", number(args.seed)),
        ("presence_penalty", args.presence_penalty.map(Value::from)),
        ("frequency_penalty", args.frequency_penalty.map(Value::from)),
        ("output_limit", number(args.output_limit)),
        ("stop", list(args.stop)),
        ("fixed", args.fixed.map(texts)),
    ];
    if args.variable.is_empty() && parts.iter().all(|(_, value)| value.is_none()) {
        return Err(nothing_to_change());
    }
    let mut preset = before.and_then(Value::as_object).cloned().unwrap_or_default();
    for (part, value) in parts {
        if let Some(value) = value {
            put(&mut preset, part, value);
        }
    }
    args.variable.iter().for_each(|variable| declare(&mut preset, variable));
    Ok(preset)
}

/// Sets a member, or takes it away where it is empty.
fn put(preset: &mut Map<String, Value>, part: &str, value: Value) {
    let is_empty =
        value == "" || value.as_array().is_some_and(Vec::is_empty) || value.as_object().is_some_and(Map::is_empty);
    if is_empty {
        preset.remove(part);
    } else {
        preset.insert(part.to_owned(), value);
    }
}

/// `name=value` is a usual value, `name` alone has to be given by each request.
fn declare(preset: &mut Map<String, Value>, variable: &str) {
    let (name, value) = variable.split_once('=').map_or((variable, None), |(name, value)| (name, Some(value)));
    let mut required: Vec<Value> = preset.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
    let mut usual = preset.get("variables").and_then(Value::as_object).cloned().unwrap_or_default();
    required.retain(|known| known != name);
    usual.remove(name);
    match value {
        Some(value) => {
            usual.insert(name.to_owned(), value.into());
        }
        None => required.push(name.into()),
    }
    put(preset, "required", required.into());
    put(preset, "variables", usual.into());
}

fn text_of(path: &Path) -> Result<String, Failure> {
    let mut text = String::new();
    let read = if path == Path::new("-") {
        std::io::stdin().lock().read_to_string(&mut text).map(|_| text)
    } else {
        std::fs::read_to_string(path)
    };
    read.map_err(|error| Failure::NotUnderstood(format!("Cannot read {}: {error}.", path.display())))
}

fn filled(pair: &str) -> Result<(String, Value), Failure> {
    let shape = || Failure::NotUnderstood(format!("`{pair}` is not a variable with its value: write `name=value`."));
    pair.split_once('=').map(|(name, value)| (name.to_owned(), value.into())).ok_or_else(shape)
}

async fn asked(route: &str, ask: &Value, management: &Management) -> Result<PresetTried, Failure> {
    management.post(&format!("/routes/{}/preset/trial", part(route)), ask).await
}

fn told(tried: &PresetTried, reader: Reader) -> Result<(), Failure> {
    if reader == Reader::Program {
        return output::json(tried);
    }
    output::print(&format!("{}\n\n", tried.answer.trim_end()))?;
    if !tried.summary.is_empty() {
        output::sentence(&tried.summary)?;
    }
    let amount = |cost: &String| format!("{} {}", money(cost, 6), tried.currency);
    let cost = tried.cost.as_ref().map_or_else(|| "unpriced".to_owned(), amount);
    output::note(&format!(
        "{} answered in {}: {} tokens in, {} out, {cost}.",
        tried.offer,
        seconds(tried.whole_ms),
        words::grouped(tried.tokens.all_input),
        words::grouped(tried.tokens.output),
    ));
    Ok(())
}

async fn versions_of(route: &str, management: &Management) -> Result<Vec<PresetVersionLine>, Failure> {
    management.get(&format!("/routes/{}/preset/versions", part(route)), &[]).await
}

async fn versions(route: &str, management: &Management, reader: Reader) -> Result<(), Failure> {
    let versions = versions_of(route, management).await?;
    if reader == Reader::Program {
        return output::json(&versions);
    }
    let columns = [
        Column::Number("revision"),
        Column::Text("made"),
        Column::Text("by"),
        Column::Text("adds"),
        Column::Text("why"),
    ];
    let adds = |version: &PresetVersionLine| version.adds.clone().unwrap_or_else(|| "nothing".to_owned());
    let rows = versions.iter().map(|version| {
        vec![
            version.revision.to_string(),
            words::ago(version.made_at, now()),
            version.made_by.clone(),
            adds(version),
            version.note.clone(),
        ]
    });
    output::table(&columns, rows.collect(), "This route never had a preset.")
}
