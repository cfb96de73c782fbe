//! The catalogue as a file: exported, compared with what is in force, applied as a new revision.

use actix_web::{get, post, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::difference::{self, Change, ChangeKind};
use wendor_core::catalog::file::{self, CatalogueFile};
use wendor_core::metering::rate::Rate;
use wendor_core::name::OfferName;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails, plain};
use super::revise;
use crate::app::App;
use crate::snapshot::Snapshot;
use crate::tasks::revision_watch;

/// Revisions that are listed.
const REVISIONS_SHOWN: i64 = 200;

/// A catalogue as a file.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueText {
    /// The revision that it is; 0 when there is none yet.
    pub revision: i64,
    /// The file.
    pub text: String,
}

/// A file to be compared.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueDraft {
    /// The file.
    pub text: String,
}

/// A file to be applied.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueApplication {
    /// The file.
    pub text: String,
    /// The revision that its difference was looked at against; the call fails if another is in force by now.
    pub base: i64,
    /// Why, for whoever reads the revisions.
    #[serde(default)]
    pub note: String,
}

/// One field that changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldChangeLine {
    /// Which.
    pub field: String,
    /// Before.
    pub before: Option<String>,
    /// After.
    pub after: Option<String>,
}

/// One thing that changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeLine {
    /// `added`, `removed` or `changed`.
    pub kind: String,
    /// Which, such as `route night-sailings`.
    pub thing: String,
    /// Its fields.
    pub fields: Vec<FieldChangeLine>,
}

/// What changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueDifference {
    /// The revision in force, to be given as `base` when applying.
    pub base: i64,
    /// What changes; nothing when empty.
    pub changes: Vec<ChangeLine>,
}

/// What was applied.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueApplied {
    /// The revision in force now.
    pub revision: i64,
    /// What changed; when empty no revision was made.
    pub changes: Vec<ChangeLine>,
}

/// One revision.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionLine {
    /// Its number.
    pub number: i64,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub note: String,
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

struct Compared {
    file: CatalogueFile,
    changes: Vec<ChangeLine>,
    new_rates: Vec<(OfferName, Rate)>,
}

fn compare(text: &str, snapshot: &Snapshot) -> Result<Compared, Problem> {
    let file = file::read(text).map_err(Problem::BadCatalogue)?;
    let changed_rates = file.changed_rates(&snapshot.rates);
    if !changed_rates.is_empty() {
        return Err(Problem::BadCatalogue(changed_rates));
    }
    let mut changes = difference::between(&snapshot.catalogue, &file.catalogue);
    let (rate_changes, new_rates) = difference::new_rates(&snapshot.rates, &file.rates);
    changes.extend(rate_changes);
    Ok(Compared { file, changes: changes.into_iter().map(ChangeLine::from).collect(), new_rates })
}

/// The state in force, read anew: what another instance applied a moment ago counts.
pub(super) async fn fresh(app: &App) -> Result<std::sync::Arc<Snapshot>, Problem> {
    revision_watch::look(app).await?;
    Ok(app.now_serving())
}

/// The catalogue in force as a file.
#[utoipa::path(tag = "catalogue", responses((status = 200, body = CatalogueText, description = "The file")))]
#[get("/catalogue")]
pub(super) async fn export(principal: Principal, app: web::Data<App>) -> Result<web::Json<CatalogueText>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see the catalogue")?;
    let snapshot = fresh(&app).await?;
    let text = file::write(&snapshot.catalogue, &snapshot.rates);
    let deed = Deed::of(Action::CatalogueExported, format!("revision {}", snapshot.revision));
    app.store.audit(&principal.doing(&app), &deed).await?;
    Ok(web::Json(CatalogueText { revision: snapshot.revision, text }))
}

/// What a file would change.
#[utoipa::path(tag = "catalogue", request_body = CatalogueDraft, responses(
    (status = 200, body = CatalogueDifference, description = "The difference"),
    (status = 422, body = ProblemDetails, description = "The file has problems")))]
#[post("/catalogue/difference")]
pub(super) async fn diff(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CatalogueDraft>,
) -> Result<web::Json<CatalogueDifference>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see the catalogue")?;
    let snapshot = fresh(&app).await?;
    let compared = compare(&body.text, &snapshot)?;
    Ok(web::Json(CatalogueDifference { base: snapshot.revision, changes: compared.changes }))
}

/// Apply a file: a new revision, unless nothing changes.
#[utoipa::path(tag = "catalogue", request_body = CatalogueApplication, responses(
    (status = 200, body = CatalogueApplied, description = "Applied"),
    (status = 409, body = ProblemDetails, description = "Another revision is in force by now"),
    (status = 422, body = ProblemDetails, description = "The file has problems")))]
#[post("/catalogue")]
pub(super) async fn apply(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CatalogueApplication>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    plain("note", Some(&body.note))?;
    principal.must(principal.standing.can_change_catalogue(), "change the catalogue")?;
    let snapshot = fresh(&app).await?;
    let Compared { file, changes, new_rates } = compare(&body.text, &snapshot)?;
    if changes.is_empty() {
        return Ok(web::Json(CatalogueApplied { revision: snapshot.revision, changes }));
    }
    let change =
        revise::Change { base: body.base, catalogue: &file.catalogue, rates: &new_rates, note: &body.note, changes };
    revise::make(&app, &principal, &snapshot, change).await.map(web::Json)
}

/// Revisions, newest first.
#[utoipa::path(tag = "catalogue", responses((status = 200, body = Vec<RevisionLine>, description = "The latest revisions")))]
#[get("/revisions")]
pub(super) async fn revisions(
    principal: Principal,
    app: web::Data<App>,
) -> Result<web::Json<Vec<RevisionLine>>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see revisions")?;
    let revisions = app.store.revisions(REVISIONS_SHOWN).await?;
    let line = |revision: wendor_store::revisions::Revision| RevisionLine {
        number: revision.number,
        made_at: revision.made_at,
        made_by: revision.made_by,
        note: revision.note,
    };
    Ok(web::Json(revisions.into_iter().map(line).collect()))
}
