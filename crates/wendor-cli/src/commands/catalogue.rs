//! `wendor catalogue`: the catalogue as a file, checked here, compared and applied by the service; its single values; its revisions.

use std::io::{Read, Write};
use std::path::Path;

use serde_json::json;
use wendor_core::catalog::edit::{LARGEST_FILE, pointer_of, value_of};
use wendor_core::catalog::file;
use wendor_gateway::admin::catalogue::{CatalogueDifference, CatalogueText, RevisionLine};

use super::change::{self, Wanted};
use super::{now, things};
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::CatalogueCommand;
use crate::grammar::changing::ChangeArgs;
use crate::output::{self, Column, Reader};
use crate::profile::Profile;
use crate::words;

/// How an exported file begins: the revision that it was made from.
const HEAD: &str = "# Revision ";

pub(super) async fn run(command: CatalogueCommand, reader: Reader) -> Result<(), Failure> {
    if let CatalogueCommand::Check { file } = &command {
        return check(file, reader);
    }
    let management = Management::new(Profile::find()?)?;
    match command {
        CatalogueCommand::Check { .. } => Ok(()),
        CatalogueCommand::Export => show(&management.get("/catalogue", &[]).await?, reader),
        CatalogueCommand::Show { revision } => show(&of_revision(&management, revision).await?, reader),
        CatalogueCommand::Diff { what, revision, lines } => {
            let difference = compared(&management, &what, revision).await?;
            match reader {
                Reader::Program => output::json(&difference),
                Reader::Person if lines => output::print(&difference.file_difference),
                Reader::Person => change::show(&difference),
            }
        }
        CatalogueCommand::Apply { file, how } => apply(&management, &read(&file)?, &how, reader).await,
        CatalogueCommand::Edit { how } => edit(&management, &how, reader).await,
        CatalogueCommand::Set { place, value, how } => {
            let path = pointer_of(&place).map_err(Failure::NotUnderstood)?;
            // What is there is replaced: to add to a list before an entry would be a surprise.
            let is_there = things::current(&management).await?.document.pointer(&path).is_some();
            let op = if is_there { "replace" } else { "add" };
            let edit = json!({ "op": op, "path": path, "value": value_of(&value) });
            change::run(&management, Wanted::edits(vec![edit]), &how, reader).await
        }
        CatalogueCommand::Unset { place, how } => {
            let path = pointer_of(&place).map_err(Failure::NotUnderstood)?;
            change::run(&management, Wanted::edits(vec![json!({ "op": "remove", "path": path })]), &how, reader).await
        }
        CatalogueCommand::Uses { place } => {
            let uses = things::uses(&management, &pointer_of(&place).map_err(Failure::NotUnderstood)?).await?;
            match reader {
                Reader::Program => output::json(&uses),
                Reader::Person => output::print(&things::told_uses(&uses)),
            }
        }
        CatalogueCommand::Restore { revision, how } => {
            change::run(&management, Wanted::revision(revision), &how, reader).await
        }
        CatalogueCommand::Revisions => {
            let revisions: Vec<RevisionLine> = management.get("/revisions", &[]).await?;
            match reader {
                Reader::Program => output::json(&revisions),
                Reader::Person => show_revisions(&revisions),
            }
        }
    }
}

fn show(catalogue: &CatalogueText, reader: Reader) -> Result<(), Failure> {
    match reader {
        Reader::Program => output::json(catalogue),
        // A file has to read back as it was; a catalogue holds no letter that does anything to a terminal.
        Reader::Person => output::print_raw(&with_head(catalogue)),
    }
}

fn with_head(catalogue: &CatalogueText) -> String {
    format!("{HEAD}{}.\n{}", catalogue.revision, catalogue.text)
}

/// The revision that a file says it was exported from.
fn made_from(text: &str) -> Option<i64> {
    text.lines().next()?.strip_prefix(HEAD)?.strip_suffix('.')?.parse().ok()
}

async fn of_revision(management: &Management, revision: Option<i64>) -> Result<CatalogueText, Failure> {
    match revision {
        Some(number) => management.get(&format!("/revisions/{number}"), &[]).await,
        None => things::current(management).await,
    }
}

/// A file against what is in force, or a revision against another.
async fn compared(management: &Management, what: &str, later: Option<i64>) -> Result<CatalogueDifference, Failure> {
    let Ok(earlier) = what.parse::<i64>() else {
        if later.is_some() {
            return Err(Failure::NotUnderstood(format!("`{what}` is not a revision; give two numbers, or one file.")));
        }
        return change::look(management, &Wanted::text(&read(Path::new(what))?)).await;
    };
    let later = match later {
        Some(later) => later,
        None => things::current(management).await?.revision,
    };
    management.get(&format!("/revisions/{later}/difference"), &[("with", Some(earlier.to_string()))]).await
}

fn read(path: &Path) -> Result<String, Failure> {
    let unread = |error: std::io::Error| Failure::NotUnderstood(format!("{} cannot be read: {error}", path.display()));
    let mut text = String::new();
    let most = u64::try_from(LARGEST_FILE).unwrap_or(u64::MAX);
    std::fs::File::open(path).map_err(unread)?.take(most + 1).read_to_string(&mut text).map_err(unread)?;
    if text.len() > LARGEST_FILE {
        let most = words::disk_size(most);
        return Err(Failure::NotUnderstood(format!(
            "{} is larger than {most}, the most that a catalogue may be.",
            path.display()
        )));
    }
    Ok(text)
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

async fn apply(management: &Management, text: &str, how: &ChangeArgs, reader: Reader) -> Result<(), Failure> {
    let difference = change::look(management, &Wanted::text(text)).await?;
    if let Some(number) = made_from(text).filter(|number| *number < difference.base) {
        // What changed since would be undone: whoever applies an old file may not know of it.
        let since: CatalogueDifference = management
            .get(&format!("/revisions/{}/difference", difference.base), &[("with", Some(number.to_string()))])
            .await?;
        let things: Vec<&str> = since.changes.iter().map(|change| change.thing.as_str()).collect();
        output::note(&format!(
            "The file was exported from revision {number}, and revision {} is in force. Changed since: {}. Applying the file \
             undoes that; to keep it, export anew or use `wendor catalogue edit`.",
            difference.base,
            if things.is_empty() { "nothing".to_owned() } else { things.join(", ") }
        ));
    }
    change::make(management, Wanted::text(text), &difference, how, reader).await
}

/// Opens the catalogue in the editor, and applies what comes back. A file with problems is kept, so that no typing is lost.
async fn edit(management: &Management, how: &ChangeArgs, reader: Reader) -> Result<(), Failure> {
    let current = things::current(management).await?;
    let own = |error: std::io::Error| Failure::Own(format!("cannot keep the file to edit: {error}"));
    let mut file = tempfile::Builder::new().prefix("wendor-catalogue-").suffix(".toml").tempfile().map_err(own)?;
    file.write_all(with_head(&current).as_bytes()).and_then(|()| file.flush()).map_err(own)?;
    let editor =
        ["VISUAL", "EDITOR"].iter().find_map(|name| std::env::var(name).ok()).filter(|editor| !editor.is_empty());
    let editor = editor.ok_or_else(|| {
        Failure::NotUnderstood("No editor: set EDITOR, such as `EDITOR=vi wendor catalogue edit`.".to_owned())
    })?;
    // The variable may hold arguments, as in `code --wait`: a shell takes it apart.
    let mut command = tokio::process::Command::new("sh");
    command.arg("-c").arg(format!("{editor} \"$1\"")).arg("sh").arg(file.path());
    let status = command.status().await.map_err(|error| Failure::Own(format!("`{editor}` does not start: {error}")))?;
    if !status.success() {
        return Err(Failure::NotUnderstood(format!("`{editor}` ended with {status}: nothing was changed.")));
    }
    let text = read(file.path())?;
    if text == with_head(&current) {
        return output::line("Nothing was changed.");
    }
    let from = made_from(&text).unwrap_or(current.revision);
    let applied = change::run(management, Wanted::text_from(&text, from), how, reader).await;
    if applied.is_err()
        && let Ok((_, path)) = file.keep()
    {
        output::note(&format!("What you wrote is kept in {}.", path.display()));
    }
    applied
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
    use rstest::rstest;

    #[rstest]
    #[case::exported("# Revision 12.\ncurrency = \"EUR\"\n", Some(12))]
    #[case::written("currency = \"EUR\"\n", None)]
    #[case::other_words("# Revision of spring.\n", None)]
    #[case::empty("", None)]
    fn a_file_says_what_it_was_exported_from(#[case] text: &str, #[case] revision: Option<i64>) {
        assert_eq!(made_from(text), revision);
    }
}
