//! `wendor catalogue`: the catalogue as a file, checked here, compared and applied by the service.

use std::io::{BufRead, IsTerminal};
use std::path::Path;

use serde_json::json;
use wendor_core::catalog::file;
use wendor_gateway::admin::catalogue::{CatalogueDifference, CatalogueText, RevisionLine};
use wendor_gateway::admin::revise::{CatalogueApplied, ChangeLine};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::CatalogueCommand;
use crate::output::{self, Column, Reader};
use crate::profile::Profile;
use crate::words;

pub(super) async fn run(command: CatalogueCommand, reader: Reader) -> Result<(), Failure> {
    let management = || Management::new(Profile::find()?);
    match command {
        CatalogueCommand::Export => {
            let export: CatalogueText = management()?.get("/catalogue", &[]).await?;
            match reader {
                Reader::Program => output::json(&export),
                // A file has to read back as it was; a catalogue holds no letter that does anything to a terminal.
                Reader::Person => output::print(&format!("# Revision {}.\n{}", export.revision, export.text)),
            }
        }
        CatalogueCommand::Check { file } => check(&file, reader),
        CatalogueCommand::Diff { file } => {
            let difference = difference(&management()?, &read(&file)?).await?;
            match reader {
                Reader::Program => output::json(&difference),
                Reader::Person => output::print(&told(&difference)),
            }
        }
        CatalogueCommand::Apply { file, note, yes } => apply(&management()?, &read(&file)?, &note, yes, reader).await,
        CatalogueCommand::Revisions => {
            let revisions: Vec<RevisionLine> = management()?.get("/revisions", &[]).await?;
            match reader {
                Reader::Program => output::json(&revisions),
                Reader::Person => show_revisions(&revisions),
            }
        }
    }
}

fn read(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path)
        .map_err(|error| Failure::NotUnderstood(format!("{} cannot be read: {error}", path.display())))
}

fn check(path: &Path, reader: Reader) -> Result<(), Failure> {
    let problems = match file::read(&read(path)?) {
        Ok(file) => {
            let catalogue = file.catalogue;
            let counts = (
                catalogue.upstreams.len(),
                catalogue.offer_names().len(),
                catalogue.routes.len(),
                catalogue.teams.len(),
            );
            return match reader {
                Reader::Program => output::json(&json!({ "problems": [] })),
                Reader::Person => output::line(&format!(
                    "Valid: {} upstreams with {} offers, {} routes, {} teams.",
                    counts.0, counts.1, counts.2, counts.3
                )),
            };
        }
        Err(problems) => problems,
    };
    if reader == Reader::Program {
        output::json(&json!({ "problems": problems }))?;
    }
    let lines: Vec<String> = problems.iter().map(|problem| format!("  {problem}")).collect();
    let count = if problems.len() == 1 { "1 problem".to_owned() } else { format!("{} problems", problems.len()) };
    Err(Failure::NotUnderstood(format!("{} has {count}:\n{}", path.display(), lines.join("\n"))))
}

async fn difference(management: &Management, text: &str) -> Result<CatalogueDifference, Failure> {
    management.post("/catalogue/difference", &json!({ "text": text })).await
}

async fn apply(management: &Management, text: &str, note: &str, yes: bool, reader: Reader) -> Result<(), Failure> {
    let difference = difference(management, text).await?;
    if reader == Reader::Person {
        output::print(&told(&difference))?;
    }
    if !difference.changes.is_empty() && !yes {
        confirm("Apply this?")?;
    }
    let body = json!({ "text": text, "base": difference.base, "note": note });
    let applied: CatalogueApplied = management.post("/catalogue", &body).await?;
    match reader {
        Reader::Program => output::json(&applied),
        Reader::Person if applied.changes.is_empty() => Ok(()),
        Reader::Person => output::line(&format!("Revision {} is in force.", applied.revision)),
    }
}

pub(super) fn confirm(question: &str) -> Result<(), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::NotUnderstood("Not a terminal: pass --yes to confirm.".to_owned()));
    }
    output::note(&format!("{question} Type y or yes:"));
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).map_err(|error| Failure::Own(error.to_string()))?;
    match answer.trim().to_ascii_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(Failure::NotUnderstood("Cancelled: nothing was changed.".to_owned())),
    }
}

/// The difference in lines: `+` comes, `-` goes, `~` changes.
fn told(difference: &CatalogueDifference) -> String {
    if difference.changes.is_empty() {
        return format!("No changes: the file equals revision {}.\n", difference.base);
    }
    let mut text = format!("Against revision {}:\n", difference.base);
    for change in &difference.changes {
        text.push_str(&told_change(change));
    }
    text
}

pub(super) fn told_change(change: &ChangeLine) -> String {
    let sign = match change.kind.as_str() {
        "added" => '+',
        "removed" => '-',
        _ => '~',
    };
    let mut text = format!("{sign} {}\n", change.thing);
    for field in &change.fields {
        let values = match (&field.before, &field.after) {
            (Some(before), Some(after)) => format!("{before} -> {after}"),
            (None, Some(after)) if sign == '+' => after.clone(),
            (None, Some(after)) => format!("(absent) -> {after}"),
            (Some(before), None) if sign == '-' => before.clone(),
            (Some(before), None) => format!("{before} -> (absent)"),
            (None, None) => continue,
        };
        let name = if field.field.is_empty() { String::new() } else { format!("{}: ", field.field) };
        text.push_str(&format!("    {name}{values}\n"));
    }
    text
}

fn show_revisions(revisions: &[RevisionLine]) -> Result<(), Failure> {
    let columns = [Column::Number("revision"), Column::Text("made"), Column::Text("by"), Column::Text("note")];
    let rows = revisions.iter().map(|revision| {
        vec![
            revision.number.to_string(),
            words::ago(revision.made_at, now()),
            revision.made_by.clone(),
            revision.note.clone(),
        ]
    });
    output::table(&columns, rows.collect(), "There is no revision yet. Apply a catalogue: wendor catalogue apply FILE")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::Value;

    fn change(kind: &str, fields: &Value) -> ChangeLine {
        serde_json::from_value(json!({ "kind": kind, "thing": "upstream quarry", "fields": fields })).unwrap()
    }

    #[test]
    fn a_difference_reads_like_one() {
        let changes = vec![
            change("added", &json!([{ "field": "streams", "before": null, "after": "8" }])),
            change("removed", &json!([{ "field": "streams", "before": "8", "after": null }])),
            change(
                "changed",
                &json!([
                    { "field": "streams", "before": "8", "after": "12" },
                    { "field": "place", "before": null, "after": "inland" },
                    { "field": "auth", "before": "bearer", "after": null }
                ]),
            ),
        ];
        let words = told(&CatalogueDifference { base: 4, changes });
        let expected = "Against revision 4:\n+ upstream quarry\n    streams: 8\n- upstream quarry\n    streams: 8\n~ upstream quarry\n    streams: 8 -> 12\n    place: (absent) -> inland\n    auth: bearer -> (absent)\n";
        assert_eq!(words, expected);
    }
}
