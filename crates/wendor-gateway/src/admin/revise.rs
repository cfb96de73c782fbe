//! Revisions: every change of the catalogue takes this way, of a whole file or of one thing. [`commit`] is the one place where access is asked,
//! the difference is looked at, and a revision is written.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::difference::{self, Change, ChangeKind};
use wendor_core::catalog::edit::{self, PatchOperation};
use wendor_core::catalog::guard::Guard;
use wendor_core::catalog::{Catalogue, file};
use wendor_core::metering::rate::{Rate, RateCard};
use wendor_core::name::{Name, OfferName};
use wendor_store::revisions::NewRevision;

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::snapshot::Snapshot;
use crate::tasks::revision_watch;

/// Things that a revision names where nobody said why.
const NAMED: usize = 3;

/// What a revision says of itself where nobody said why: `route manifests changed, team data-lab removed`.
fn named(changes: &[ChangeLine]) -> String {
    let words = changes.iter().map(|change| format!("{} {}", change.thing, change.kind));
    let more = if changes.len() > NAMED { format!(" and {} more", changes.len() - NAMED) } else { String::new() };
    format!("{}{more}", words.take(NAMED).collect::<Vec<_>>().join(", "))
}

/// A field of the catalogue, with its text before and after.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldChangeLine {
    /// Which.
    pub field: String,
    /// As in the file; nothing where the field is new.
    pub before: Option<String>,
    /// As in the file; nothing where the field goes.
    pub after: Option<String>,
}

/// One thing that changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeLine {
    /// `added`, `removed` or `changed`.
    pub kind: String,
    /// Which, such as `route night-sailings`.
    pub thing: String,
    /// Those that differ; of what is new or goes, all that it has.
    pub fields: Vec<FieldChangeLine>,
}

/// The revision that is in force now, and how it differs.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueApplied {
    /// The revision in force now.
    pub revision: i64,
    /// What changed; when empty no revision was made.
    pub changes: Vec<ChangeLine>,
}

/// Changes as they are told.
pub(crate) fn lines(changes: Vec<Change>) -> Vec<ChangeLine> {
    changes.into_iter().map(ChangeLine::from).collect()
}

impl From<Change> for ChangeLine {
    fn from(change: Change) -> Self {
        let kind = match change.kind {
            ChangeKind::Added => "added",
            ChangeKind::Removed => "removed",
            ChangeKind::Changed => "changed",
        };
        let field = |field: difference::FieldChange| FieldChangeLine {
            field: field.field,
            before: field.before,
            after: field.after,
        };
        Self { kind: kind.to_owned(), thing: change.thing, fields: change.fields.into_iter().map(field).collect() }
    }
}

/// The state in force, read anew: what another instance applied a moment ago counts.
pub(super) async fn fresh(app: &App) -> Result<std::sync::Arc<Snapshot>, Problem> {
    revision_watch::look(app).await?;
    Ok(app.now_serving())
}

/// Whether a change is only looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// Its difference is told, nothing is written.
    Look,
    /// It becomes a revision.
    Apply,
}

/// A credential that may cross a network unencrypted from now on is never a quiet change, whatever way it took.
fn tell_of_plain_http(before: &Catalogue, after: &Catalogue, by: &str) {
    let allows = |catalogue: &Catalogue, name: &Name| {
        catalogue.upstreams.get(name).is_some_and(|upstream| upstream.allows_plain_http)
    };
    for name in after.upstreams.keys().filter(|name| allows(after, name) && !allows(before, name)) {
        tracing::warn!(upstream = %name, by, "the credential may cross a network unencrypted from now on");
    }
}

/// A catalogue that is to be in force.
pub(super) struct Proposal {
    /// The revision that it was made against.
    pub base: i64,
    /// The whole.
    pub catalogue: Catalogue,
    /// Rates to append.
    pub rates: Vec<(OfferName, Rate)>,
    /// Against the revision in force.
    pub changes: Vec<ChangeLine>,
    /// Bounds with which it undoes itself.
    pub guard: Option<Guard>,
}

impl Proposal {
    /// A whole file, made against revision `base`.
    ///
    /// # Errors
    /// The file's problems, or rates of before that it changes.
    pub(super) fn of_file(text: &str, base: i64, before: &Snapshot) -> Result<Self, Problem> {
        let file = file::read(text).map_err(Problem::BadCatalogue)?;
        let changed_rates = file.changed_rates(&before.rates);
        if !changed_rates.is_empty() {
            return Err(Problem::BadCatalogue(changed_rates));
        }
        let (catalogue, rates) = (file.catalogue, file.rates);
        Ok(Self::between(before, catalogue, &rates, base))
    }

    /// Changes of single things of the file in force.
    ///
    /// # Errors
    /// What cannot be changed, at its place; the file's problems afterwards.
    pub(super) fn of_edits(edits: &[PatchOperation], before: &Snapshot) -> Result<Self, Problem> {
        let text = file::write(&before.catalogue, &before.rates);
        let wrong = |bad: edit::BadEdit| Problem::BadValue {
            field: "edits",
            message: if bad.pointer.is_empty() { bad.message } else { format!("{}: {}", bad.pointer, bad.message) },
        };
        let text = edit::applied(&text, edits).map_err(wrong)?;
        Self::of_file(&text, before.revision, before).map_err(|problem| {
            let Problem::BadCatalogue(problems) = problem else { return problem };
            // Whoever sent changes has never seen the text.
            let placed = problems.into_iter().map(|problem| file::Problem { line: 0, column: 0, ..problem });
            Problem::BadCatalogue(placed.collect())
        })
    }

    /// Goes on only if no rate takes the place of one on a day that has passed: requests of that day are priced.
    ///
    /// # Errors
    /// The rate, and from when on it may be.
    pub(super) fn rates_begin_from(&self, today: NaiveDate, before: &Snapshot) -> Result<(), Problem> {
        let is_late = |(offer, rate): &&(OfferName, Rate)| {
            rate.effective_on < today && before.rates.in_force(offer, rate.effective_on).is_some()
        };
        let Some((offer, rate)) = self.rates.iter().find(is_late) else { return Ok(()) };
        Err(Problem::BadValue {
            field: "rates",
            message: format!(
                "the rate of {offer} from {} on lies in the past, and requests since then are priced with the one before: let it \
                 begin on {today} or later, and record the difference for those: `wendor rate adjust {offer} --from {}`",
                rate.effective_on, rate.effective_on
            ),
        })
    }

    /// A whole state of before; rates stay as they are, since they are only added.
    pub(super) fn of_catalogue(catalogue: Catalogue, before: &Snapshot) -> Self {
        Self::between(before, catalogue, &RateCard::default(), before.revision)
    }

    /// One change: the state in force is changed in memory, written as a file and read again, so that every rule of files holds.
    fn of_edit(
        edit: impl FnOnce(&mut Catalogue, &RateCard) -> Result<Vec<(OfferName, Rate)>, Problem>,
        before: &Snapshot,
    ) -> Result<Self, Problem> {
        let (mut catalogue, mut rates) = (Catalogue::clone(&before.catalogue), RateCard::clone(&before.rates));
        for (offer, rate) in edit(&mut catalogue, &before.rates)? {
            rates.add(offer, rate);
        }
        let catalogue = file::read(&file::write(&catalogue, &rates)).map_err(Problem::BadCatalogue)?.catalogue;
        Ok(Self::between(before, catalogue, &rates, before.revision))
    }

    fn between(before: &Snapshot, catalogue: Catalogue, rates: &RateCard, base: i64) -> Self {
        let mut changes = difference::between(&before.catalogue, &catalogue);
        let (of_rates, rates) = difference::new_rates(&before.rates, rates);
        changes.extend(of_rates);
        Self { base, catalogue, rates, changes: lines(changes), guard: None }
    }
}

/// Applies `edit`, which gives the rates to be added.
///
/// # Errors
/// What stands in the way, by name; nothing is changed then.
pub async fn revise(
    app: &App,
    principal: &Principal,
    note: &str,
    mode: Mode,
    edit: impl FnOnce(&mut Catalogue, &RateCard) -> Result<Vec<(OfferName, Rate)>, Problem>,
) -> Result<CatalogueApplied, Problem> {
    commit(app, principal, note, mode, |before| Proposal::of_edit(edit, before)).await
}

/// Makes a revision of what is proposed for the state in force, unless nothing changes or it is only looked at.
///
/// # Errors
/// What stands in the way; nothing is changed then.
pub(super) async fn commit(
    app: &App,
    principal: &Principal,
    note: &str,
    mode: Mode,
    propose: impl FnOnce(&Snapshot) -> Result<Proposal, Problem>,
) -> Result<CatalogueApplied, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "change the catalogue")?;
    let before = fresh(app).await?;
    let Proposal { base, catalogue, rates, changes, guard } = propose(&before)?;
    if changes.is_empty() || mode == Mode::Look {
        return Ok(CatalogueApplied { revision: before.revision, changes });
    }
    let note = if note.is_empty() { named(&changes) } else { note.to_owned() };
    let changes_json = serde_json::to_value(&changes).map_err(|_| Problem::Internal)?;
    let by = principal.doing(app);
    let new = NewRevision {
        base,
        catalogue: &catalogue,
        rates: &rates,
        by: &by,
        note: &note,
        changes: changes_json,
        guard: guard.as_ref(),
        undoes: None,
    };
    let revision = app.store.make_revision(new).await?;
    tell_of_plain_http(&before.catalogue, &catalogue, &principal.name);
    revision_watch::look(app).await?;
    Ok(CatalogueApplied { revision, changes })
}
