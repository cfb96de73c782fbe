//! The secret that kept credentials are under: which is in force, and moving what is under another to it.

use std::collections::BTreeMap;

use actix_web::{get, post, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::codes;
use crate::credentials::{self, Which};

/// Kept credentials under one secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UnderSecret {
    /// The secret's mark, by which two can be told apart and nothing else; nothing for credentials of the first form.
    pub mark: Option<String>,
    /// How many credentials.
    pub credentials: u64,
    /// Codes of how many people.
    pub codes: u64,
}

/// The secret in force, and what is under which.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretLine {
    /// The mark of the secret in force; nothing where the service has none.
    pub mark: Option<String>,
    /// Whether the secret before is there too.
    pub has_before: bool,
    /// What is under which secret.
    pub kept: Vec<UnderSecret>,
}

/// How far moving to the secret in force has come.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretRotated {
    /// The mark of the secret in force.
    pub mark: String,
    /// Credentials, and codes of people, under it.
    pub done: u64,
    /// Credentials that are not yet: ask again.
    pub left: u64,
    /// Credentials that neither secret opens: they must be set again.
    pub unreadable: u64,
}

/// The secret in force, and which credentials are under which.
#[utoipa::path(tag = "secret", responses(
    (status = 200, body = SecretLine, description = "Marks and numbers; nothing of the secrets themselves"),
    (status = 403, body = ProblemDetails, description = "Owners only")))]
#[get("/secret")]
pub(super) async fn show(principal: Principal, app: web::Data<App>) -> Result<web::Json<SecretLine>, Problem> {
    principal.must(principal.standing.can_manage_secret(), "see what the service's secret protects")?;
    let mut kept: BTreeMap<Option<String>, (u64, u64)> = BTreeMap::new();
    for row in app.store.kept_credentials().await?.into_iter().filter(|row| row.sealed.is_some()) {
        kept.entry(row.kept_under).or_default().0 += 1;
    }
    for (_, _, kept_under) in app.store.all_codes().await? {
        kept.entry(kept_under).or_default().1 += 1;
    }
    let kept = kept.into_iter().map(|(mark, (credentials, codes))| UnderSecret { mark, credentials, codes });
    let mark = app.keyring.vault.mark().map(str::to_owned);
    let has_before = app.settings.secret_before.is_some();
    Ok(web::Json(SecretLine { mark, has_before, kept: kept.collect() }))
}

/// Move kept credentials to the secret in force, up to a hundred at once.
#[utoipa::path(tag = "secret", responses(
    (status = 200, body = SecretRotated, description = "How far it has come"),
    (status = 403, body = ProblemDetails, description = "Owners only"),
    (status = 409, body = ProblemDetails, description = "The service has no secret")))]
#[post("/secret/rotate")]
pub(super) async fn rotate(principal: Principal, app: web::Data<App>) -> Result<web::Json<SecretRotated>, Problem> {
    principal.must(principal.standing.can_manage_secret(), "move credentials to another secret")?;
    principal.must_be_confirmed(&app, "move credentials to another secret")?;
    let Some(mark) = app.keyring.vault.mark() else {
        let why = "the service has no secret to move them to: set WENDOR_SECRET and start it again";
        return Err(Problem::Conflict(why.to_owned()));
    };
    let snapshot = crate::admin::revise::fresh(&app).await?;
    let came =
        credentials::keep_anew(&app.store, &app.keyring.vault, &snapshot.catalogue, Which::All, &principal.doing(&app))
            .await?;
    let of_people = codes::keep_anew(&app.store, &app.keyring.vault, &principal.doing(&app)).await?;
    let credentials::KeptAnew { done, left, unreadable } = came.and(of_people);
    Ok(web::Json(SecretRotated { mark: mark.to_owned(), done, left, unreadable }))
}
