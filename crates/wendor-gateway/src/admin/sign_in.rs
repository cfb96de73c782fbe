//! Signing in: with a one-time text, or with a password and, where its person has an authenticator app, a code of it; and signing in again
//! as oneself before something that is guarded.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::Deserialize;
use serde_json::json;
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::key::{KeyKind, KeyText};
use wendor_store::tokens::{NewToken, TokenKind};

use super::first_body;
use super::passwords::with_password;
use super::principal::Arriving;
use super::problem::{Problem, ProblemDetails};
use super::tokens::{IssuedToken, SESSION, issue};
use crate::app::App;
use crate::caller::address_of;
use crate::codes;
use crate::guesses::Guesser;

/// How someone signs in: with `one_time`, or with `name` and `password`.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The text that `wendor person add` printed; works once.
    pub one_time: Option<String>,
    /// The person's name.
    pub name: Option<String>,
    /// Needed unless `one_time` is given.
    pub password: Option<String>,
    /// A code of their authenticator app, or a recovery code, where they have set one up.
    pub code: Option<String>,
}

/// How someone shows that it is still them.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Confirmation {
    /// As when signing in.
    pub password: String,
    /// A code of their authenticator app, or a recovery code, where they have set one up.
    pub code: Option<String>,
}

/// Whoever wants to sign in.
#[derive(Clone, Debug)]
pub(super) struct Visitor {
    /// Of the client; guesses are counted by it.
    pub address: String,
    /// By what: `console` or `program`.
    pub through: &'static str,
}

impl Visitor {
    /// Whoever makes this call.
    pub(super) fn of(request: &HttpRequest, app: &App, through: &'static str) -> Self {
        Self { address: address_of(request, app), through }
    }

    fn doing(&self, name: &str, at: DateTime<Utc>) -> Doer {
        Doer { name: name.to_owned(), address: self.address.clone(), through: self.through.to_owned(), at }
    }
}

/// How somebody got in.
struct Entered {
    person: String,
    with: &'static str,
    wrong_before: u32,
}

/// Checks a sign-in and begins a session.
pub(super) async fn signed_in(app: &App, presented: SignIn, visitor: &Visitor) -> Result<IssuedToken, Problem> {
    let entered = match presented {
        SignIn { one_time: Some(text), name: None, password: None, code: None } => {
            let person = with_one_time(app, &text).await?;
            Entered { person, with: "one-time sign-in", wrong_before: 0 }
        }
        SignIn { one_time: None, name: Some(name), password: Some(password), code } => {
            guessed(app, name, password, code, visitor).await?
        }
        SignIn { .. } => {
            return Err(Problem::BadValue {
                field: "body",
                message: "send `one_time`, or `name` and `password`".to_owned(),
            });
        }
    };
    let Entered { person, with, wrong_before } = entered;
    let doer = visitor.doing(&person, app.clock.now());
    let expires_at = Some(doer.at + SESSION);
    let (kind, confirmed_at) = (TokenKind::Session, Some(doer.at));
    let token = NewToken { person: &person, kind, label: with, expires_at, confirmed_at, is_unasked: false };
    Ok(IssuedToken { wrong_before, ..issue(app, token, &doer).await? })
}

/// A sign-in with a password, which waits the longer the more wrong ones came before it.
async fn guessed(
    app: &App,
    name: String,
    password: String,
    code: Option<String>,
    visitor: &Visitor,
) -> Result<Entered, Problem> {
    let guessers = [Guesser::Name(name.clone()), Guesser::Address(visitor.address.clone())];
    let wait = app.sign_ins.guesses.wait(&guessers, app.clock.now());
    if wait > TimeDelta::zero() {
        let seconds = wait.num_seconds() + 1;
        return Err(Problem::TooMany(
            format!("too many wrong passwords came before: try again in {seconds} s"),
            seconds,
        ));
    }
    match proven(app, &name, password, code.as_deref()).await {
        Ok(with) => Ok(Entered { wrong_before: app.sign_ins.guesses.right(&guessers[0]), person: name, with }),
        Err(problem @ (Problem::NotSignedIn(_) | Problem::WrongCode(_))) => {
            let count = app.sign_ins.guesses.wrong(&guessers, app.clock.now());
            tracing::warn!(?guessers, count, "a sign-in with a wrong password or code");
            refused(app, &guessers, count, &name, &problem, visitor).await?;
            Err(problem)
        }
        Err(problem) => Err(problem),
    }
}

/// Writes a refused sign-in down: each of a person; of names that nobody has, whatever was typed there, only so many as tell of it.
async fn refused(
    app: &App,
    guessers: &[Guesser; 2],
    count: u32,
    name: &str,
    problem: &Problem,
    visitor: &Visitor,
) -> Result<(), Problem> {
    let is_known = app.store.has_person(name).await?;
    let of_address = app.sign_ins.guesses.count(&guessers[1]);
    if !is_known && !of_address.is_power_of_two() {
        return Ok(());
    }
    let subject = if is_known { format!("person {name}") } else { "nobody who is known".to_owned() };
    let what = if matches!(problem, Problem::WrongCode(_)) { "code" } else { "password" };
    let after = json!({ "wrong": what, "of_the_name": count, "from_the_address": of_address });
    let doer = visitor.doing("somebody", app.clock.now());
    Ok(app.store.audit(&doer, &Deed::of(Action::SignInRefused, subject).after(after)).await?)
}

/// Goes on only with the right password and, where it is asked for, a code. Gives what was shown.
async fn proven(app: &App, name: &str, password: String, code: Option<&str>) -> Result<&'static str, Problem> {
    with_password(app, name, password).await?;
    let kept = app.store.codes_of(name).await?;
    let (Some(sealed), Some(_)) = (&kept.sealed, kept.since) else { return Ok("password") };
    let needed = || {
        let what = "send a code of your authenticator app too (`code`), or one of your recovery codes";
        Problem::CodeNeeded(what.to_owned())
    };
    let code = code.filter(|code| !code.trim().is_empty()).ok_or_else(needed)?;
    if app.store.use_recovery_code(name, codes::recovery_hash(code), app.clock.now()).await? {
        return Ok("password and recovery code");
    }
    let seed = codes::open(&app.keyring.vault, name, sealed)
        .map_err(|error| Problem::Conflict(format!("the authenticator seed of {name} {error}")))?;
    let wrong = || Problem::WrongCode("this code is not the current one of your app, or was used already".to_owned());
    let step = codes::step_of(&seed, code, app.clock.now()).ok_or_else(wrong)?;
    if app.store.use_code(name, step).await? { Ok("password and code") } else { Err(wrong()) }
}

/// Signs in, by a one-time text or by name and password, and counts wrong guesses.
#[utoipa::path(tag = "session", request_body = SignIn, security(()), responses(
    (status = 200, body = IssuedToken, description = "A session's token"),
    (status = 401, body = ProblemDetails, description = "Wrong credentials, or a code is needed (`urn:wendor:problem:code-needed`)"),
    (status = 413, body = ProblemDetails, description = "The body is larger than 64 KiB"),
    (status = 429, body = ProblemDetails, description = "Too many requests")))]
#[post("/sign-in")]
pub(super) async fn sign_in(
    request: HttpRequest,
    app: web::Data<App>,
    body: web::Payload,
) -> Result<web::Json<IssuedToken>, Problem> {
    let presented = first_body::read(&app, body).await?;
    signed_in(&app, presented, &Visitor::of(&request, &app, "program")).await.map(web::Json)
}

/// Sign in again as oneself: for ten minutes keys of others, people and secrets can be changed with this token.
#[utoipa::path(tag = "session", request_body = Confirmation, responses(
    (status = 204, description = "It is you"),
    (status = 401, body = ProblemDetails, description = "Wrong credentials, or a code is needed"),
    (status = 409, body = ProblemDetails, description = "You have no password"),
    (status = 429, body = ProblemDetails, description = "Too many requests")))]
#[post("/me/confirm")]
pub(super) async fn confirm(
    request: HttpRequest,
    arriving: Arriving,
    app: web::Data<App>,
    body: web::Json<Confirmation>,
) -> Result<HttpResponse, Problem> {
    let principal = arriving.principal;
    if !arriving.bearer.person.has_password {
        let why =
            "you have no password to confirm with: set one (`wendor me password`, or in the console), or sign in again";
        return Err(Problem::Conflict(why.to_owned()));
    }
    let Confirmation { password, code } = body.into_inner();
    let visitor = Visitor::of(&request, &app, if principal.is_console { "console" } else { "program" });
    let entered = guessed(&app, principal.name.clone(), password, code, &visitor).await;
    if let Err(Problem::NotSignedIn(_)) = entered {
        return Err(Problem::NotSignedIn("this is not your password".to_owned()));
    }
    entered?;
    app.store.confirm_token(&principal.name, &principal.token, &principal.doing(&app)).await?;
    Ok(HttpResponse::NoContent().insert_header((header::CACHE_CONTROL, "no-store")).finish())
}

async fn with_one_time(app: &App, text: &str) -> Result<String, Problem> {
    let text = KeyText::parse(KeyKind::Person, text.trim()).map_err(|_| {
        Problem::NotSignedIn("this one-time sign-in is mistyped or cut; copy it again in full".to_owned())
    })?;
    let used = || {
        Problem::NotSignedIn(
            "this one-time sign-in was used or has expired; `wendor person sign-in NAME` on the server makes another"
                .to_owned(),
        )
    };
    app.store.use_one_time(&text, app.clock.now()).await?.ok_or_else(used)
}
