//! `wendor audit`: what was done, whether that record was touched, and the record itself.

use std::io::{BufRead, BufReader};
use std::path::Path;

use serde_json::Value;
use wendor_core::audit::verify::Verifier;
use wendor_core::audit::{Entry, Head};
use wendor_gateway::admin::audit::{AuditFault, AuditLine, AuditPage, AuditVerdict};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::{AuditCommand, AuditListArgs};
use crate::output::{self, Column, Reader};
use crate::{range, words};

pub(super) async fn run(
    command: AuditCommand,
    management: impl FnOnce() -> Result<Management, Failure>,
    reader: Reader,
) -> Result<(), Failure> {
    match command {
        AuditCommand::List(args) => list(*args, &management()?, reader).await,
        AuditCommand::Verify { head, file: Some(file) } => told(&of_file(&file, head.as_deref())?, reader),
        AuditCommand::Verify { head, file: None } => {
            told(&management()?.get("/audit/verify", &[("head", head)]).await?, reader)
        }
        AuditCommand::Export => management()?.print("/audit/export", &[]).await,
    }
}

/// Changed things of a revision that a line names.
const THINGS: usize = 4;

async fn list(args: AuditListArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let range = range::read(&args.range, now())?;
    let query = [
        ("by", args.by),
        ("action", args.action),
        ("subject", args.subject),
        ("from", range.map(|range| range.from.to_rfc3339())),
        ("until", range.map(|range| range.to.to_rfc3339())),
        ("limit", Some(args.limit.to_string())),
    ];
    let page: AuditPage = management.get("/audit", &query).await?;
    if reader == Reader::Program {
        return output::json(&page);
    }
    let columns = [
        Column::Number("entry"),
        Column::Text("when"),
        Column::Text("by"),
        Column::Text("from"),
        Column::Text("what"),
        Column::Text("to"),
        Column::Text("before and after"),
    ];
    let row = |line: &AuditLine| {
        let number = u64::try_from(line.number).map_or_else(|_| line.number.to_string(), words::grouped);
        let at = words::instant(line.at);
        let from = if line.address.is_empty() { line.through.clone() } else { line.address.clone() };
        vec![number, at, line.by.clone(), from, line.action.clone(), line.subject.clone(), changed(line)]
    };
    output::table(&columns, page.entries.iter().map(row).collect(), "No matching entries.")?;
    if page.has_more {
        output::note("There are older entries: raise --limit, or choose a range with --from and --to.");
    }
    Ok(())
}

/// What changed, field by field: of a field that was there before, both values.
fn changed(line: &AuditLine) -> String {
    let read = |raw: &Option<Box<serde_json::value::RawValue>>| -> Value {
        raw.as_ref().and_then(|raw| serde_json::from_str(raw.get()).ok()).unwrap_or_default()
    };
    let (before, after) = (read(&line.before), read(&line.after));
    let empty = serde_json::Map::new();
    let (before, after) = (before.as_object().unwrap_or(&empty), after.as_object().unwrap_or(&empty));
    let names = after.keys().chain(before.keys().filter(|name| !after.contains_key(*name)));
    let parts = names.filter_map(|name| match (before.get(name), after.get(name)) {
        (Some(was), Some(is)) if was == is => None,
        (None, Some(Value::Bool(false))) => None,
        (Some(Value::Null) | None, Some(Value::Null) | None) => None,
        (None, Some(is)) => Some(format!("{} {}", named(name), short(is))),
        (Some(was), Some(is)) => Some(format!("{} {} -> {}", named(name), short(was), short(is))),
        (Some(was), None) => Some(format!("{} was {}", named(name), short(was))),
    });
    let text = parts.collect::<Vec<_>>().join(", ");
    if text.is_empty() { "-".to_owned() } else { text }
}

fn named(field: &str) -> String {
    if field == "expires_at" { "until".to_owned() } else { field.replace('_', " ") }
}

fn short(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Null => "none".to_owned(),
        Value::Array(items) if items.iter().all(Value::is_object) && !items.is_empty() => {
            let things = items.iter().filter_map(|item| {
                let thing = item.get("thing")?.as_str()?;
                Some(format!("{thing} {}", item.get("kind")?.as_str()?))
            });
            let more = items.len().saturating_sub(THINGS);
            let shown = things.take(THINGS).collect::<Vec<_>>().join("; ");
            if more > 0 { format!("{shown} and {more} more") } else { shown }
        }
        Value::Array(items) => items.iter().map(short).collect::<Vec<_>>().join(" "),
        Value::Bool(_) | Value::Number(_) | Value::Object(_) => value.to_string(),
    }
}

fn told(verdict: &AuditVerdict, reader: Reader) -> Result<(), Failure> {
    if reader == Reader::Program {
        output::json(verdict)?;
    } else {
        let faults = verdict.faults.iter();
        faults.clone().try_for_each(|fault| output::line(&format!("At {}: {}.", fault.number, fault.words)))?;
        let entries = if verdict.entries == 1 {
            "1 entry".to_owned()
        } else {
            format!("{} entries", words::grouped(verdict.entries))
        };
        if verdict.faults.is_empty() {
            output::line(&format!("{entries}, hash chain intact."))?;
        }
        output::line(&format!("Head: {}", verdict.head))?;
    }
    if verdict.faults.is_empty() {
        return Ok(());
    }
    Err(Failure::Own("The audit was altered: it was changed in the database.".to_owned()))
}

/// Looks an exported file through.
fn of_file(path: &Path, head: Option<&str>) -> Result<AuditVerdict, Failure> {
    let known: Option<Head> = head.map(str::parse).transpose().map_err(Failure::NotUnderstood)?;
    let unreadable = |error: std::io::Error| Failure::NotUnderstood(format!("{}: {error}", path.display()));
    let file = std::fs::File::open(path).map_err(unreadable)?;
    let mut verifier = Verifier::new(known);
    for (index, line) in BufReader::new(file).lines().enumerate() {
        let entry: Entry = serde_json::from_str(&line.map_err(unreadable)?).map_err(|error| {
            Failure::NotUnderstood(format!("{}, line {}: not an audit entry: {error}", path.display(), index + 1))
        })?;
        verifier.look(&entry);
    }
    let verdict = verifier.end(None);
    let faults = verdict.faults.iter().map(AuditFault::from).collect();
    Ok(AuditVerdict { entries: verdict.entries, head: verdict.head.to_string(), faults })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;
    use serde_json::value::to_raw_value;

    #[rstest]
    #[case::new(json!(null), json!({ "role": "lead", "team": null }), "role lead")]
    #[case::changed(json!({ "role": "lead", "disabled": false }), json!({ "role": "viewer", "disabled": false }), "role lead -> viewer")]
    #[case::gone(json!({ "token": "t1" }), json!(null), "token was t1")]
    #[case::things(json!(null), json!({ "changes": [{ "thing": "route a", "kind": "added" }] }), "changes route a added")]
    #[case::nothing(json!(null), json!(null), "-")]
    fn what_changed_in_words(#[case] before: Value, #[case] after: Value, #[case] words: &str) {
        let raw = |value: &Value| (!value.is_null()).then(|| to_raw_value(value).unwrap());
        let line = AuditLine {
            number: 1,
            at: now(),
            by: String::new(),
            address: String::new(),
            through: String::new(),
            action: String::new(),
            subject: String::new(),
            before: raw(&before),
            after: raw(&after),
            hash: String::new(),
        };
        assert_eq!(changed(&line), words);
    }
}
