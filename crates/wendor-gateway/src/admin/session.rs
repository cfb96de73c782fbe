//! Signing in with a one-time text or a password, who am I, and a person's own tokens.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::key::{KeyKind, KeyText, id_in};
use wendor_core::catalog::role::Standing;
use wendor_store::people::{NewToken, TokenKind};

use super::first_body;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails, plain};
use crate::app::App;
use crate::guesses::Guesser;

/// How long a session lasts: a working day.
pub(super) const SESSION: TimeDelta = TimeDelta::hours(12);

/// Shortest password.
const PASSWORD_LENGTH: usize = 12;

/// Longest: what is hashed and looked at is bounded.
const LONGEST_PASSWORD: usize = 200;

/// How someone signs in: with `one_time`, or with `name` and `password`.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The text that `wendor person add` printed; works once.
    pub one_time: Option<String>,
    /// The person's name.
    pub name: Option<String>,
    /// Their password.
    pub password: Option<String>,
}

/// A token, shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct IssuedToken {
    /// The part that may be shown again.
    pub id: String,
    /// The token itself.
    pub token: String,
    /// Whose it is.
    pub person: String,
    /// Until when it works; for ever when absent.
    pub expires_at: Option<DateTime<Utc>>,
    /// Wrong passwords for this person before this sign-in, at this instance.
    #[serde(default)]
    pub wrong_before: u32,
}

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
}

impl Me {
    /// The person of that name and standing.
    #[must_use]
    pub fn of(name: String, standing: &Standing) -> Self {
        let team = standing.team.as_ref().map(ToString::to_string);
        Self { name, role: standing.role.as_str().to_owned(), team, wrong_before: 0 }
    }
}

/// A token to be issued.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPersonalToken {
    /// What it is for.
    pub label: String,
    /// Until when it works; as long as tokens may last when absent.
    pub expires_at: Option<DateTime<Utc>>,
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
    /// When it was issued.
    pub issued_at: DateTime<Utc>,
    /// Until when it works.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since when it does not.
    pub ended_at: Option<DateTime<Utc>>,
}

/// A password to be set.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPassword {
    /// The password.
    pub password: String,
    /// The one before, where there is one.
    #[serde(default)]
    pub old: Option<String>,
}

/// Makes and keeps a token.
pub(super) async fn issue(app: &App, token: NewToken<'_>) -> Result<IssuedToken, Problem> {
    let (secret, text) = KeyText::mint(KeyKind::Person, &rand::random());
    app.store.add_token(&text, &token).await?;
    let (person, expires_at) = (token.person.to_owned(), token.expires_at);
    Ok(IssuedToken { id: text.id, token: secret.expose().to_owned(), person, expires_at, wrong_before: 0 })
}

/// Checks a sign-in and begins a session.
pub(super) async fn signed_in(app: &App, presented: SignIn, address: String) -> Result<IssuedToken, Problem> {
    let now = app.clock.now();
    let (person, wrong_before) = match presented {
        SignIn { one_time: Some(text), name: None, password: None } => (with_one_time(app, &text, now).await?, 0),
        SignIn { one_time: None, name: Some(name), password: Some(password) } => {
            guessed(app, name, password, address).await?
        }
        SignIn { .. } => {
            return Err(Problem::BadValue {
                field: "body",
                message: "send `one_time`, or `name` and `password`".to_owned(),
            });
        }
    };
    let token =
        NewToken { person: &person, kind: TokenKind::Session, label: "", at: now, expires_at: Some(now + SESSION) };
    Ok(IssuedToken { wrong_before, ..issue(app, token).await? })
}

/// A sign-in with a password, which waits the longer the more wrong ones came before it. Gives who it is, and how many those were.
async fn guessed(app: &App, name: String, password: String, address: String) -> Result<(String, u32), Problem> {
    let guessers = [Guesser::Name(name.clone()), Guesser::Address(address)];
    let wait = app.sign_ins.guesses.wait(&guessers, app.clock.now());
    if wait > TimeDelta::zero() {
        let seconds = wait.num_seconds() + 1;
        return Err(Problem::TooMany(
            format!("too many wrong passwords came before: try again in {seconds} s"),
            seconds,
        ));
    }
    match with_password(app, name, password).await {
        Ok(person) => Ok((person, app.sign_ins.guesses.right(&guessers[0]))),
        Err(problem @ Problem::NotSignedIn(_)) => {
            let count = app.sign_ins.guesses.wrong(&guessers, app.clock.now());
            tracing::warn!(?guessers, count, "a sign-in with a wrong password");
            Err(problem)
        }
        Err(problem) => Err(problem),
    }
}

/// The address that a call comes from.
pub(super) fn address_of(request: &HttpRequest) -> String {
    request.peer_addr().map(|peer| peer.ip().to_string()).unwrap_or_default()
}

/// Sign in.
#[utoipa::path(tag = "session", request_body = SignIn, security(()), responses(
    (status = 200, body = IssuedToken, description = "A session's token"),
    (status = 401, body = ProblemDetails, description = "Not these"),
    (status = 413, body = ProblemDetails, description = "The body is larger than 64 KiB"),
    (status = 429, body = ProblemDetails, description = "Too many at once")))]
#[post("/sign-in")]
pub(super) async fn sign_in(
    request: HttpRequest,
    app: web::Data<App>,
    body: web::Payload,
) -> Result<web::Json<IssuedToken>, Problem> {
    let presented = first_body::read(&app, body).await?;
    signed_in(&app, presented, address_of(&request)).await.map(web::Json)
}

async fn with_one_time(app: &App, text: &str, now: DateTime<Utc>) -> Result<String, Problem> {
    let text = KeyText::parse(KeyKind::Person, text.trim()).map_err(|_| {
        Problem::NotSignedIn("this one-time sign-in is mistyped or cut; copy it again in full".to_owned())
    })?;
    let used = || {
        Problem::NotSignedIn(
            "this one-time sign-in was used or has expired; `wendor person sign-in NAME` on the server makes another"
                .to_owned(),
        )
    };
    app.store.use_one_time(&text, now).await?.ok_or_else(used)
}

async fn with_password(app: &App, name: String, password: String) -> Result<String, Problem> {
    let stored = app.store.password_hash(&name).await?;
    // Hashing takes some 40 ms of a core: never on a worker. Someone unknown costs as much as someone known.
    let _place = place_to_hash(app)?;
    let is_right = web::block(move || match stored.as_deref().map(PasswordHash::new) {
        Some(Ok(hash)) => Argon2::default().verify_password(password.as_bytes(), &hash).is_ok(),
        Some(Err(_)) | None => {
            let _same_time = Argon2::default().hash_password(password.as_bytes());
            false
        }
    });
    let is_right = is_right.await.map_err(|_| Problem::Internal)?;
    let wrong = || Problem::NotSignedIn("no person has this name and password".to_owned());
    is_right.then_some(name).ok_or_else(wrong)
}

/// Hashing takes megabytes and a core: so many at once, and no queue, which anybody could make long.
fn place_to_hash(app: &App) -> Result<tokio::sync::SemaphorePermit<'_>, Problem> {
    app.sign_ins.hashing.try_acquire().map_err(|_| {
        Problem::TooMany("too many people sign in at this moment; try again in a few seconds".to_owned(), 2)
    })
}

/// Who the token belongs to.
#[utoipa::path(tag = "session", responses((status = 200, body = Me, description = "The person")))]
#[get("/me")]
pub(super) async fn me(principal: Principal) -> web::Json<Me> {
    web::Json(Me::of(principal.name, &principal.standing))
}

/// Whether a password is long, and none of those that are tried first.
fn is_hard_to_guess(password: &str, name: &str) -> Result<(), String> {
    if password.chars().count() < PASSWORD_LENGTH {
        return Err(format!("has to have at least {PASSWORD_LENGTH} characters"));
    }
    if password.chars().count() > LONGEST_PASSWORD {
        return Err(format!("has to have at most {LONGEST_PASSWORD} characters"));
    }
    let guessed = zxcvbn::zxcvbn(password, &[name, "wendor"]);
    if guessed.score() < zxcvbn::Score::Two {
        return Err("is among the first that are guessed; take several words that have nothing to do with each other"
            .to_owned());
    }
    Ok(())
}

/// Set one's own password. Other sessions and tokens end.
#[utoipa::path(tag = "session", request_body = NewPassword, responses((status = 204, description = "Set")))]
#[post("/me/password")]
pub(super) async fn set_password(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<NewPassword>,
) -> Result<HttpResponse, Problem> {
    let NewPassword { password, old } = body.into_inner();
    is_hard_to_guess(&password, &principal.name).map_err(|message| Problem::BadValue { field: "password", message })?;
    if app.store.password_hash(&principal.name).await?.is_some() {
        let missing =
            || Problem::BadValue { field: "old", message: "send the password that is in force too".to_owned() };
        let is_right = with_password(&app, principal.name.clone(), old.ok_or_else(missing)?).await;
        if let Err(Problem::NotSignedIn(_)) = is_right {
            return Err(Problem::BadValue { field: "old", message: "is not the password that is in force".to_owned() });
        }
        is_right?;
    }
    let _place = place_to_hash(&app)?;
    let hash = web::block(move || Argon2::default().hash_password(password.as_bytes()).map(|hash| hash.to_string()));
    let hash = hash.await.map_err(|_| Problem::Internal)?.map_err(|_| Problem::Internal)?;
    app.store.set_password_hash(&principal.name, &hash).await?;
    // Whoever knew the one before is signed out.
    app.store.end_tokens(&principal.name, Some(&principal.token), app.clock.now()).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// One's own tokens and sessions.
#[utoipa::path(tag = "session", responses((status = 200, body = Vec<TokenLine>, description = "Newest first")))]
#[get("/tokens")]
pub(super) async fn list_tokens(
    principal: Principal,
    app: web::Data<App>,
) -> Result<web::Json<Vec<TokenLine>>, Problem> {
    let tokens = app.store.tokens_of(&principal.name).await?;
    let line = |token: wendor_store::people::PersonToken| TokenLine {
        id: token.id,
        kind: token.kind,
        label: token.label,
        issued_at: token.issued_at,
        expires_at: token.expires_at,
        ended_at: token.ended_at,
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
    let NewPersonalToken { label, expires_at } = body.into_inner();
    plain("label", Some(&label))?;
    let (person, at) = (principal.name.as_str(), app.clock.now());
    let longest = TimeDelta::from_std(app.settings.access.token_life).unwrap_or(TimeDelta::MAX);
    let latest = at.checked_add_signed(longest).unwrap_or(DateTime::<Utc>::MAX_UTC);
    if expires_at.is_some_and(|expires_at| expires_at > latest) {
        let life = humantime::format_duration(app.settings.access.token_life);
        let message = format!("is later than tokens may last here ({life}); the setting `token_life` says how long");
        return Err(Problem::BadValue { field: "expires_at", message });
    }
    let expires_at = Some(expires_at.unwrap_or(latest));
    let token = NewToken { person, kind: TokenKind::Personal, label: &label, at, expires_at };
    issue(&app, token).await.map(web::Json)
}

/// End one of one's own tokens.
#[utoipa::path(tag = "session", params(("id" = String, Path, description = "Its id")), responses((status = 204, description = "Ended")))]
#[delete("/tokens/{id}")]
pub(super) async fn end_token(
    principal: Principal,
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    app.store.end_token(&principal.name, id_in(&id), app.clock.now()).await?;
    Ok(HttpResponse::NoContent().finish())
}
