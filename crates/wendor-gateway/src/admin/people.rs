//! People: who there is and what they may do. The first owner is made on the server, never here.

use actix_web::{HttpResponse, get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::audit::Doer;
use wendor_core::catalog::role::{Role, Standing};
use wendor_core::name::Name;
use wendor_store::people::PersonChange;
use wendor_store::tokens::{NewToken, TokenKind};

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::tokens;
use crate::app::App;

/// How long a one-time sign-in waits to be used.
pub const ONE_TIME: TimeDelta = TimeDelta::hours(24);

/// Somebody who may sign in.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonLine {
    /// Signed in with, and shown in the audit.
    pub name: String,
    /// `owner`, `operator`, `lead` or `viewer`.
    pub role: String,
    /// The team of a lead or viewer.
    pub team: Option<String>,
    /// When they were added.
    pub added_at: DateTime<Utc>,
    /// Whether they have set a password.
    pub has_password: bool,
    /// Since when what they present is refused.
    pub disabled_at: Option<DateTime<Utc>>,
    /// Until when a one-time sign-in waits for them.
    pub one_time_until: Option<DateTime<Utc>>,
    /// Since when codes of an authenticator app are asked of them.
    pub codes_since: Option<DateTime<Utc>>,
}

/// What is to be changed of a person; what is absent stays.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonChanges {
    /// Another role.
    pub role: Option<String>,
    /// The team of a lead or viewer; goes with `role`.
    pub team: Option<String>,
    /// Whether what they present is refused from now on.
    pub disabled: Option<bool>,
}

/// A person who was signed out everywhere.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedOut {
    /// Whose sessions and tokens have ended.
    pub name: String,
    /// Sessions and tokens that ended.
    pub ended: u64,
}

/// A person to be added.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPerson {
    /// Their name, in the form of names.
    pub name: String,
    /// `owner`, `operator`, `lead` or `viewer`.
    pub role: String,
    /// The team of a lead or viewer.
    pub team: Option<String>,
}

/// A new person's way in, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AddedPerson {
    /// Signs in with it.
    pub name: String,
    /// Signs them in, once.
    pub one_time: String,
    /// Until when.
    pub expires_at: DateTime<Utc>,
}

/// Reads name, role and team of a person.
///
/// # Errors
/// A sentence that names the value and what would do.
pub fn read_person(name: &str, role: &str, team: Option<&str>) -> Result<(Name, Standing), (&'static str, String)> {
    let name = Name::parse(name).map_err(|error| ("name", error.to_string()))?;
    let unknown_role = || ("role", format!("`{role}` is not one of owner, operator, lead, viewer"));
    let role = Role::parse(role).ok_or_else(unknown_role)?;
    let team = team.map(Name::parse).transpose().map_err(|error| ("team", error.to_string()))?;
    match (role.needs_team(), &team) {
        (true, None) => Err(("team", format!("a {} belongs to a team: say which", role.as_str()))),
        (false, Some(_)) => Err(("team", format!("an {} belongs to no team: leave it out", role.as_str()))),
        (true, Some(_)) | (false, None) => Ok((name, Standing { role, team })),
    }
}

/// All people.
#[utoipa::path(tag = "people", responses((status = 200, body = Vec<PersonLine>, description = "By name")))]
#[get("/people")]
pub(super) async fn list(principal: Principal, app: web::Data<App>) -> Result<web::Json<Vec<PersonLine>>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see all people")?;
    let line = |person: wendor_store::people::Person| PersonLine {
        name: person.name,
        role: person.standing.role.as_str().to_owned(),
        team: person.standing.team.map(String::from),
        added_at: person.added_at,
        has_password: person.has_password,
        disabled_at: person.disabled_at,
        one_time_until: person.one_time_until,
        codes_since: person.codes_since,
    };
    Ok(web::Json(app.store.people().await?.into_iter().map(line).collect()))
}

/// Add a person.
#[utoipa::path(tag = "people", request_body = NewPerson, responses(
    (status = 200, body = AddedPerson, description = "Their one-time sign-in, this once"),
    (status = 409, body = ProblemDetails, description = "The name is taken")))]
#[post("/people")]
pub(super) async fn add(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<NewPerson>,
) -> Result<web::Json<AddedPerson>, Problem> {
    principal.must(principal.standing.can_manage_people(), "add people")?;
    principal.must_be_confirmed(&app, "add people")?;
    let read = read_person(&body.name, &body.role, body.team.as_deref());
    let (name, standing) = read.map_err(|(field, message)| Problem::BadValue { field, message })?;
    let doer = principal.doing(&app);
    app.store.add_person(name.as_str(), &standing, &doer).await?;
    one_time(&app, name.as_str(), &doer).await.map(web::Json)
}

/// A one-time sign-in; those before it work no more.
async fn one_time(app: &App, name: &str, doer: &Doer) -> Result<AddedPerson, Problem> {
    let expires_at = doer.at + ONE_TIME;
    let token = NewToken {
        person: name,
        kind: TokenKind::OneTime,
        label: "",
        expires_at: Some(expires_at),
        confirmed_at: None,
        is_unasked: false,
    };
    let issued = tokens::issue(app, token, doer).await?;
    Ok(AddedPerson { name: name.to_owned(), one_time: issued.token, expires_at })
}

/// Change a person's role and team, or refuse what they present. It is in force everywhere at once.
#[utoipa::path(tag = "people", params(("name" = String, Path, description = "Their name")), request_body = PersonChanges, responses(
    (status = 204, description = "Changed"),
    (status = 400, body = ProblemDetails, description = "Invalid value"),
    (status = 403, body = ProblemDetails, description = "Owners only"),
    (status = 404, body = ProblemDetails, description = "No such person or team"),
    (status = 409, body = ProblemDetails, description = "No owner would be left")))]
#[post("/people/{name}")]
pub(super) async fn change(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
    body: web::Json<PersonChanges>,
) -> Result<HttpResponse, Problem> {
    principal.must(principal.standing.can_manage_people(), "change people")?;
    principal.must_be_confirmed(&app, "change people")?;
    let PersonChanges { role, team, disabled } = body.into_inner();
    let read = match (&role, &team) {
        (Some(role), team) => read_person(&name, role, team.as_deref()).map(|(_, standing)| Some(standing)),
        (None, Some(_)) => Err(("team", "goes with a `role`".to_owned())),
        (None, None) => Ok(None),
    };
    let standing = read.map_err(|(field, message)| Problem::BadValue { field, message })?;
    let change = PersonChange { standing: standing.as_ref(), disabled };
    app.store.change_person(&name, &change, &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Take a person's password and tokens away, and give them a one-time sign-in.
#[utoipa::path(tag = "people", params(("name" = String, Path, description = "Their name")), responses(
    (status = 200, body = AddedPerson, description = "Their one-time sign-in, this once"),
    (status = 403, body = ProblemDetails, description = "Owners only"),
    (status = 404, body = ProblemDetails, description = "No such person")))]
#[post("/people/{name}/reset")]
pub(super) async fn reset(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<web::Json<AddedPerson>, Problem> {
    principal.must(principal.standing.can_manage_people(), "reset people")?;
    principal.must_be_confirmed(&app, "reset people")?;
    let doer = principal.doing(&app);
    app.store.reset_person(&name, &doer).await?;
    one_time(&app, &name, &doer).await.map(web::Json)
}

/// End every session and token of a person.
#[utoipa::path(tag = "people", params(("name" = String, Path, description = "Their name")), responses(
    (status = 200, body = SignedOut, description = "How many ended"),
    (status = 403, body = ProblemDetails, description = "Owners only"),
    (status = 404, body = ProblemDetails, description = "No such person")))]
#[post("/people/{name}/sign-out")]
pub(super) async fn sign_out(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<web::Json<SignedOut>, Problem> {
    principal.must(principal.standing.can_manage_people(), "sign people out")?;
    principal.must_be_confirmed(&app, "sign people out")?;
    let ended = app.store.end_tokens(&name, &principal.doing(&app)).await?;
    Ok(web::Json(SignedOut { name: name.into_inner(), ended }))
}
