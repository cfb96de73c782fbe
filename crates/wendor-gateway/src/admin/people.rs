//! People: who there is and what they may do. The first owner is made on the server, never here.

use actix_web::{get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::role::{Role, Standing};
use wendor_core::name::Name;
use wendor_store::people::{NewToken, TokenKind};

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::session;
use crate::app::App;

/// How long a one-time sign-in waits to be used.
pub const ONE_TIME: TimeDelta = TimeDelta::hours(24);

/// A person.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonLine {
    /// Their name.
    pub name: String,
    /// `owner`, `operator`, `lead` or `viewer`.
    pub role: String,
    /// The team of a lead or viewer.
    pub team: Option<String>,
    /// When they were added.
    pub added_at: DateTime<Utc>,
    /// Whether they have set a password.
    pub has_password: bool,
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
    /// Their name.
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
    let unknown_role = || ("role", format!("`{role}` is none of owner, operator, lead, viewer"));
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
    let read = read_person(&body.name, &body.role, body.team.as_deref());
    let (name, standing) = read.map_err(|(field, message)| Problem::BadValue { field, message })?;
    let now = app.clock.now();
    app.store.add_person(name.as_str(), &standing, &principal.name, now).await?;
    let expires_at = now + ONE_TIME;
    let token =
        NewToken { person: name.as_str(), kind: TokenKind::OneTime, label: "", at: now, expires_at: Some(expires_at) };
    let issued = session::issue(&app, token).await?;
    Ok(web::Json(AddedPerson { name: name.to_string(), one_time: issued.token, expires_at }))
}
