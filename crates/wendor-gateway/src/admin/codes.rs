//! Codes of an authenticator app: a person sets theirs up and takes them away; owners say who must have them.

use actix_web::{HttpResponse, delete, get, post, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::role::Role;
use wendor_store::codes::NewCodes;

use super::principal::{Arriving, Principal};
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::codes;

/// What an authenticator app is set up by, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CodesSetup {
    /// To be typed into the app.
    pub secret: String,
    /// The same as an `otpauth:` address.
    pub address: String,
    /// The address as a square to be scanned: rows of dark (`1`) and light (`0`) fields.
    pub picture: Vec<String>,
}

/// The first code that the app shows.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FirstCode {
    /// Six digits.
    pub code: String,
}

/// Codes for whoever has lost the app, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// Each works once.
    pub codes: Vec<String>,
}

/// Who must have an authenticator app.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignInRule {
    /// Roles: owner, operator, lead, viewer.
    pub codes_required: Vec<String>,
}

/// Begin to set up an authenticator app. Codes are not asked for until the first one has come.
#[utoipa::path(tag = "session", responses(
    (status = 200, body = CodesSetup, description = "What the app is set up by, this once"),
    (status = 409, body = ProblemDetails, description = "One is set up already, or the service has no secret")))]
#[post("/me/codes")]
pub(super) async fn begin(arriving: Arriving, app: web::Data<App>) -> Result<web::Json<CodesSetup>, Problem> {
    // With a session of before, a thief would shut its person out.
    arriving.principal.must_be_confirmed(&app, "set up an authenticator app")?;
    let name = arriving.principal.name;
    let seed = codes::draw();
    let vault = &app.keyring.vault;
    let no_secret = |error: crate::vault::VaultError| Problem::Conflict(format!("codes cannot be kept: {error}"));
    let sealed = codes::seal(vault, &name, &seed).map_err(no_secret)?;
    let kept_under = vault.mark().unwrap_or_default();
    app.store.begin_codes(&name, &NewCodes { sealed: &sealed, kept_under }).await?;
    let codes::Setup { secret, address, picture } = codes::setup(&seed, &name).ok_or(Problem::Internal)?;
    Ok(web::Json(CodesSetup { secret, address, picture }))
}

/// Send the first code: from now on one is asked for at every sign-in.
#[utoipa::path(tag = "session", request_body = FirstCode, responses(
    (status = 200, body = RecoveryCodes, description = "Recovery codes, this once"),
    (status = 400, body = ProblemDetails, description = "It is not the code that the app shows"),
    (status = 409, body = ProblemDetails, description = "Nothing is being set up")))]
#[post("/me/codes/first")]
pub(super) async fn set_up(
    arriving: Arriving,
    app: web::Data<App>,
    body: web::Json<FirstCode>,
) -> Result<web::Json<RecoveryCodes>, Problem> {
    let principal = arriving.principal;
    let kept = app.store.codes_of(&principal.name).await?;
    let nothing = || Problem::Conflict("no authenticator app is being set up: start again".to_owned());
    let sealed = kept.sealed.filter(|_| kept.since.is_none()).ok_or_else(nothing)?;
    let seed = codes::open(&app.keyring.vault, &principal.name, &sealed).map_err(|_| nothing())?;
    let now = app.clock.now();
    let wrong = || {
        let message = "is not the code that the app shows now; look whether the clocks agree".to_owned();
        Problem::BadValue { field: "code", message }
    };
    let step = codes::step_of(&seed, &body.code, now).ok_or_else(wrong)?;
    let (codes, hashes) = codes::recovery_codes();
    app.store.set_up_codes(&principal.name, step, &hashes, &principal.doing(&app)).await?;
    Ok(web::Json(RecoveryCodes { codes }))
}

/// Take one's authenticator app away.
#[utoipa::path(tag = "session", responses(
    (status = 204, description = "No code is asked for any more"),
    (status = 403, body = ProblemDetails, description = "Sign in again as yourself first"),
    (status = 404, body = ProblemDetails, description = "None is set up")))]
#[delete("/me/codes")]
pub(super) async fn remove(arriving: Arriving, app: web::Data<App>) -> Result<HttpResponse, Problem> {
    let principal = arriving.principal;
    principal.must_be_confirmed(&app, "take your authenticator app away")?;
    app.store.remove_codes(&principal.name, &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Who must have an authenticator app.
#[utoipa::path(tag = "people", responses((status = 200, body = SignInRule, description = "By role")))]
#[get("/sign-in-rule")]
pub(super) async fn rule(principal: Principal, app: web::Data<App>) -> Result<web::Json<SignInRule>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see who must have an authenticator app")?;
    let codes_required = app.store.codes_required().await?.iter().map(|role| role.as_str().to_owned()).collect();
    Ok(web::Json(SignInRule { codes_required }))
}

/// Say who must have an authenticator app. Whoever has none can do nothing else until it is set up.
#[utoipa::path(tag = "people", request_body = SignInRule, responses(
    (status = 204, description = "In force"),
    (status = 400, body = ProblemDetails, description = "Invalid value"),
    (status = 403, body = ProblemDetails, description = "Owners only, who signed in again as themselves"),
    (status = 409, body = ProblemDetails, description = "You would lock yourself out")))]
#[post("/sign-in-rule")]
pub(super) async fn set_rule(
    arriving: Arriving,
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<SignInRule>,
) -> Result<HttpResponse, Problem> {
    principal.must(principal.standing.can_manage_people(), "say who must have an authenticator app")?;
    principal.must_be_confirmed(&app, "say who must have an authenticator app")?;
    let read = |word: &String| {
        let message = || format!("`{word}` is not one of owner, operator, lead, viewer");
        Role::parse(word).ok_or_else(|| Problem::BadValue { field: "codes_required", message: message() })
    };
    let roles = body.codes_required.iter().map(read).collect::<Result<Vec<Role>, _>>()?;
    if roles.contains(&principal.standing.role) && arriving.bearer.person.codes_since.is_none() {
        let why = "you have no authenticator app yourself: set yours up before you ask it of your own role";
        return Err(Problem::Conflict(why.to_owned()));
    }
    app.store.require_codes(&roles, &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().finish())
}
