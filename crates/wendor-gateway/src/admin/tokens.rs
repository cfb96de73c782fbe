//! Tokens: made and kept, and a person's own.

use actix_web::{HttpResponse, delete, get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::audit::Doer;
use wendor_core::catalog::key::{KeyKind, KeyText, id_in};
use wendor_store::tokens::{NewToken, TokenKind};

use super::principal::Principal;
use super::problem::{Problem, plain};
use crate::app::App;

/// How long a session lasts: a working day.
pub(super) const SESSION: TimeDelta = TimeDelta::hours(12);

/// A token, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct IssuedToken {
    /// The part that may be shown again.
    pub id: String,
    /// The token itself.
    pub token: String,
    /// Whose it is.
    pub person: String,
    /// Until when it works; without expiry when absent.
    pub expires_at: Option<DateTime<Utc>>,
    /// Wrong passwords for this person before this sign-in, at this instance.
    #[serde(default)]
    pub wrong_before: u32,
}

/// A token to be issued.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPersonalToken {
    /// What it is for.
    pub label: String,
    /// Until when it works; as long as tokens may last when absent.
    pub expires_at: Option<DateTime<Utc>>,
    /// Whether programs may do with it what people have to sign in again for: keys of others, people and secrets.
    #[serde(default)]
    pub unasked: bool,
}

/// A token without its secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenLine {
    /// The part that may be shown.
    pub id: String,
    /// `session` or `personal`.
    pub kind: String,
    /// What it is for.
    pub label: String,
    /// RFC 3339, UTC.
    pub issued_at: DateTime<Utc>,
    /// Until when it works.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since when it does not.
    pub ended_at: Option<DateTime<Utc>>,
    /// Whether programs may do with it what people have to sign in again for.
    pub unasked: bool,
}

/// Makes and keeps a token.
pub(super) async fn issue(app: &App, token: NewToken<'_>, doer: &Doer) -> Result<IssuedToken, Problem> {
    let (secret, text) = KeyText::mint(KeyKind::Person, &rand::random());
    app.store.add_token(&text, &token, doer).await?;
    let (person, expires_at) = (token.person.to_owned(), token.expires_at);
    Ok(IssuedToken { id: text.id.to_string(), token: secret.expose().to_owned(), person, expires_at, wrong_before: 0 })
}

/// One's own tokens and sessions.
#[utoipa::path(tag = "session", responses((status = 200, body = Vec<TokenLine>, description = "Newest first")))]
#[get("/tokens")]
pub(super) async fn list_tokens(
    principal: Principal,
    app: web::Data<App>,
) -> Result<web::Json<Vec<TokenLine>>, Problem> {
    let tokens = app.store.tokens_of(&principal.name).await?;
    let line = |token: wendor_store::tokens::PersonToken| TokenLine {
        id: token.id,
        kind: token.kind,
        label: token.label,
        issued_at: token.issued_at,
        expires_at: token.expires_at,
        ended_at: token.ended_at,
        unasked: token.is_unasked,
    };
    Ok(web::Json(tokens.into_iter().map(line).collect()))
}

/// Issue a token for programs.
#[utoipa::path(tag = "session", request_body = NewPersonalToken, responses((status = 200, body = IssuedToken, description = "The token, this once")))]
#[post("/tokens")]
pub(super) async fn issue_token(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<NewPersonalToken>,
) -> Result<web::Json<IssuedToken>, Problem> {
    let NewPersonalToken { label, expires_at, unasked } = body.into_inner();
    if unasked {
        principal.must_be_confirmed(&app, "issue a token that is asked for nothing more")?;
    }
    plain("label", Some(&label))?;
    let doer = principal.doing(&app);
    if expires_at.is_some_and(|at| at <= doer.at) {
        let message = "lies in the past: the token would never work".to_owned();
        return Err(Problem::BadValue { field: "expires_at", message });
    }
    let longest = TimeDelta::from_std(app.settings.access.token_life).unwrap_or(TimeDelta::MAX);
    let latest = doer.at.checked_add_signed(longest).unwrap_or(DateTime::<Utc>::MAX_UTC);
    if expires_at.is_some_and(|expires_at| expires_at > latest) {
        let life = humantime::format_duration(app.settings.access.token_life);
        let message = format!("is later than tokens may last here ({life}); the setting `token_life` says how long");
        return Err(Problem::BadValue { field: "expires_at", message });
    }
    let expires_at = Some(expires_at.unwrap_or(latest));
    let token = NewToken {
        person: &principal.name,
        kind: TokenKind::Personal,
        label: &label,
        expires_at,
        confirmed_at: principal.confirmed_at,
        is_unasked: unasked,
    };
    issue(&app, token, &doer).await.map(web::Json)
}

/// End one of one's own tokens.
#[utoipa::path(tag = "session", params(("id" = String, Path, description = "Its id")), responses((status = 204, description = "Ended")))]
#[delete("/tokens/{id}")]
pub(super) async fn end_token(
    principal: Principal,
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    app.store.end_token(&principal.name, id_in(&id), &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().finish())
}
