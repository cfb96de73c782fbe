//! The catalogue as a file: exported, compared with what is in force, applied as a new revision.

use actix_web::{get, post, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::file;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails, plain};
use super::revise::{CatalogueApplied, ChangeLine, Mode, Proposal, commit, fresh};
use crate::app::App;
use crate::snapshot::Snapshot;

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

/// What changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueDifference {
    /// The revision in force, to be given as `base` when applying.
    pub base: i64,
    /// What changes; nothing when empty.
    pub changes: Vec<ChangeLine>,
}

/// A catalogue that was in force, or is.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionLine {
    /// Counts up from 1.
    pub number: i64,
    /// In force from this moment until the next one.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub note: String,
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
    let propose = |before: &Snapshot| Proposal::of_file(&body.text, before.revision, before);
    let CatalogueApplied { revision, changes } = commit(&app, &principal, "", Mode::Look, propose).await?;
    Ok(web::Json(CatalogueDifference { base: revision, changes }))
}

/// Apply a file: a new revision, unless nothing changes.
#[utoipa::path(tag = "catalogue", request_body = CatalogueApplication, responses(
    (status = 200, body = CatalogueApplied, description = "Applied"),
    (status = 409, body = ProblemDetails, description = "Another revision is in force"),
    (status = 422, body = ProblemDetails, description = "The file has problems")))]
#[post("/catalogue")]
pub(super) async fn apply(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CatalogueApplication>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    plain("note", Some(&body.note))?;
    let propose = |before: &Snapshot| Proposal::of_file(&body.text, body.base, before);
    commit(&app, &principal, &body.note, Mode::Apply, propose).await.map(web::Json)
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
