//! A catalogue that somebody wants: a whole file, changes of single places, or a revision of before; made into a proposal for the state in
//! force, with what others changed meanwhile.

use chrono::NaiveDate;
use serde_json::Value;
use wendor_core::catalog::edit::{self, Clash, PatchOperation};
use wendor_core::catalog::{Catalogue, difference, file};

use super::catalogue::{CatalogueDraft, EditLine};
use super::principal::Principal;
use super::problem::Problem;
use super::revise::{ChangeLine, Proposal, fresh, lines};
use crate::app::App;
use crate::snapshot::Snapshot;

/// A catalogue that is wanted, with what has to be known for it.
pub(super) struct Wanted {
    form: Form,
    /// The revision that it was made from, if another is in force.
    made_from: Option<(i64, Catalogue)>,
}

enum Form {
    Text(String),
    Edits(Vec<PatchOperation>),
    Revision(i64, Catalogue),
}

impl Wanted {
    pub(super) async fn read(principal: &Principal, app: &App, draft: CatalogueDraft) -> Result<Self, Problem> {
        principal.must(principal.standing.can_change_catalogue(), "change the catalogue")?;
        let form = match (draft.text, draft.edits, draft.revision) {
            (Some(text), None, None) => Form::Text(text),
            (None, Some(edits), None) => Form::Edits(operations(&edits)?),
            (None, None, Some(number)) => Form::Revision(number, app.store.revision(number).await?.1),
            _ => {
                let message = "give one of `text`, `edits` and `revision`".to_owned();
                return Err(Problem::BadValue { field: "body", message });
            }
        };
        let in_force = fresh(app).await?.revision;
        let made_from = match draft.made_from.filter(|number| *number != in_force && *number != 0) {
            Some(number) => Some((number, app.store.revision(number).await?.1)),
            None => None,
        };
        Ok(Self { form, made_from })
    }

    /// What others changed since it was begun.
    pub(super) fn since(&self, before: &Snapshot) -> Vec<ChangeLine> {
        let made_from = self.made_from.as_ref();
        made_from.map(|(_, base)| lines(difference::between(base, &before.catalogue))).unwrap_or_default()
    }

    /// What it makes of the state in force.
    pub(super) fn proposal(&self, before: &Snapshot, today: NaiveDate) -> Result<Proposal, Problem> {
        let proposal = match (&self.form, &self.made_from) {
            (Form::Text(text), None) => Proposal::of_file(text, before.revision, before)?,
            (Form::Edits(edits), None) => Proposal::of_edits(edits, before)?,
            (Form::Revision(_, catalogue), _) => Proposal::of_catalogue(catalogue.clone(), before),
            (Form::Text(text), Some((number, base))) => {
                file::read(text).map_err(Problem::BadCatalogue)?;
                let edits = edit::between(&file::write(base, &before.rates), text).map_err(|_| Problem::Internal)?;
                merged(&edits, *number, base, before)?
            }
            (Form::Edits(edits), Some((number, base))) => merged(edits, *number, base, before)?,
        };
        proposal.rates_begin_from(today, before)?;
        Ok(proposal)
    }

    /// What the revision says of itself where nobody said why.
    pub(super) fn note(&self) -> String {
        match &self.form {
            Form::Revision(number, _) => format!("revision {number} restored"),
            Form::Text(_) | Form::Edits(_) => String::new(),
        }
    }
}

fn operations(edits: &[EditLine]) -> Result<Vec<PatchOperation>, Problem> {
    let one = |edit: &EditLine| {
        let mut form = serde_json::to_value(edit).map_err(|_| Problem::Internal)?;
        // A value that is null is left out above, and asked for by the operations that need one.
        if let Some(form) = form.as_object_mut().filter(|_| matches!(edit.op.as_str(), "add" | "replace" | "test")) {
            form.entry("value").or_insert(Value::Null);
        }
        serde_json::from_value(form).map_err(|error| Problem::BadValue {
            field: "edits",
            message: format!("{}: not an operation of a JSON Patch (RFC 6902): {error}", edit.path.escape_debug()),
        })
    };
    edits.iter().map(one).collect()
}

/// Changes that were made from an earlier revision, where they do not touch what others changed since.
/// They were made from revision `number`, whose state was `base`.
fn merged(edits: &[PatchOperation], number: i64, base: &Catalogue, before: &Snapshot) -> Result<Proposal, Problem> {
    let (was, is) = (file::write(base, &before.rates), file::write(&before.catalogue, &before.rates));
    let clashes = edit::clashes(&was, &is, edits).map_err(|_| Problem::Internal)?;
    if clashes.is_empty() {
        return Proposal::of_edits(edits, before);
    }
    let side = |value: &Option<Value>| match value {
        None => "absent".to_owned(),
        Some(Value::String(text)) => format!("`{text}`"),
        Some(other) => format!("`{other}`"),
    };
    let told = |clash: &Clash| format!("{} was {} and is {} now", clash.pointer, side(&clash.was), side(&clash.is));
    let places: Vec<String> = clashes.iter().map(told).collect();
    Err(Problem::Conflict(format!(
        "revision {} is in force, and since revision {number}, which this was made from, somebody else changed the same: {}. Look \
         at the catalogue in force and make the change anew",
        before.revision,
        places.join("; ")
    )))
}
