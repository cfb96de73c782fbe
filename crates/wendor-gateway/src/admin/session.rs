//! Who am I, and one's own password.

use actix_web::{HttpResponse, get, post, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_store::people::Bearer;

use super::passwords::{hashed, is_hard_to_guess, with_password};
use super::principal::Arriving;
use super::problem::Problem;
use crate::app::App;

/// Who calls.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The person's name.
    pub name: String,
    /// `owner`, `operator`, `lead` or `viewer`.
    pub role: String,
    /// The team of a lead or viewer.
    pub team: Option<String>,
    /// Wrong passwords for this person before this sign-in, at this instance; 0 at any other time.
    #[serde(default)]
    pub wrong_before: u32,
    /// Whether they have set a password.
    pub has_password: bool,
    /// Since when codes of their authenticator app are asked for.
    pub codes_since: Option<DateTime<Utc>>,
    /// Recovery codes that they have left.
    pub recovery_codes: i64,
    /// Whether an authenticator app must be set up before anything else.
    pub lacks_codes: bool,
}

impl Me {
    /// Whoever came with a token.
    #[must_use]
    pub fn of_bearer(bearer: Bearer) -> Self {
        let Bearer { person, lacks_codes, .. } = bearer;
        Self {
            name: person.name,
            role: person.standing.role.as_str().to_owned(),
            team: person.standing.team.map(String::from),
            wrong_before: 0,
            has_password: person.has_password,
            codes_since: person.codes_since,
            recovery_codes: person.recovery_codes,
            lacks_codes,
        }
    }
}

/// A password to be set.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPassword {
    /// At least 12 characters; kept only as a hash.
    pub password: String,
    /// The one before, where there is one.
    #[serde(default)]
    pub old: Option<String>,
}

/// Who the token belongs to.
#[utoipa::path(tag = "session", responses((status = 200, body = Me, description = "The person")))]
#[get("/me")]
pub(super) async fn me(arriving: Arriving) -> web::Json<Me> {
    web::Json(Me::of_bearer(arriving.bearer))
}

/// Set one's own password. Other sessions and tokens end.
#[utoipa::path(tag = "session", request_body = NewPassword, responses((status = 204, description = "Set")))]
#[post("/me/password")]
pub(super) async fn set_password(
    arriving: Arriving,
    app: web::Data<App>,
    body: web::Json<NewPassword>,
) -> Result<HttpResponse, Problem> {
    let principal = arriving.principal;
    let NewPassword { password, old } = body.into_inner();
    is_hard_to_guess(&password, &principal.name).map_err(|message| Problem::BadValue { field: "password", message })?;
    if app.store.password_hash(&principal.name).await?.is_some() {
        let missing =
            || Problem::BadValue { field: "old", message: "send the password that is in force too".to_owned() };
        let is_right = with_password(&app, &principal.name, old.ok_or_else(missing)?).await;
        if let Err(Problem::NotSignedIn(_)) = is_right {
            return Err(Problem::BadValue { field: "old", message: "is not the password that is in force".to_owned() });
        }
        is_right?;
    }
    let hash = hashed(&app, password).await?;
    app.store.set_password_hash(&principal.name, &hash, &principal.token, &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().finish())
}
