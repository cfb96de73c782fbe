//! The console's session: the same sign-in as the client's, kept in a cookie that scripts cannot read.
//!
//! The cookie is `SameSite=Strict` and goes to the management API alone. A call that changes something and comes with it must
//! also say that a page of this service made it ([`super::cookie::is_own_page`]): pages of other ports on the same host are the same site.

use actix_web::body::MessageBody;
use actix_web::cookie::time::Duration;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header;
use actix_web::middleware::Next;
use actix_web::{HttpRequest, HttpResponse, ResponseError, delete, post, web};
use wendor_core::catalog::key::{KeyKind, KeyText};

use super::cookie::cookie_of;
use super::first_body;
use super::principal::Arriving;
use super::problem::{Problem, ProblemDetails};
use super::session::Me;
use super::sign_in::{SignIn, Visitor, signed_in};
use super::tokens::SESSION;
use crate::app::App;
use crate::caller::{is_own, is_plain};

/// Sign in as a browser: the token goes into a cookie and is not shown.
#[utoipa::path(tag = "session", request_body = SignIn, security(()), responses(
    (status = 200, body = Me, description = "Who is signed in"),
    (status = 401, body = ProblemDetails, description = "Wrong credentials, or a code is needed (`urn:wendor:problem:code-needed`)"),
    (status = 413, body = ProblemDetails, description = "The body is larger than 64 KiB"),
    (status = 429, body = ProblemDetails, description = "Too many requests")))]
#[post("/session")]
pub(super) async fn begin(
    request: HttpRequest,
    app: web::Data<App>,
    body: web::Payload,
) -> Result<HttpResponse, Problem> {
    let presented: SignIn = first_body::read(&app, body).await?;
    let issued = signed_in(&app, presented, &Visitor::of(&request, &app, "console")).await?;
    let text = KeyText::parse(KeyKind::Person, &issued.token).map_err(|_| Problem::Internal)?;
    let bearer = app.store.person_of_token(&text, app.clock.now()).await?.ok_or(Problem::Internal)?;
    let mut cookie = cookie_of(&request, &app, issued.token.clone());
    cookie.set_max_age(Duration::seconds(SESSION.num_seconds()));
    let me = Me { wrong_before: issued.wrong_before, ..Me::of_bearer(bearer) };
    Ok(HttpResponse::Ok().cookie(cookie).json(me))
}

/// Sign out: the session ends, here and wherever its token was copied to.
#[utoipa::path(tag = "session", responses((status = 204, description = "Signed out")))]
#[delete("/session")]
pub(super) async fn end(
    request: HttpRequest,
    arriving: Arriving,
    app: web::Data<App>,
) -> Result<HttpResponse, Problem> {
    let principal = arriving.principal;
    app.store.end_token(&principal.name, &principal.token, &principal.doing(&app)).await?;
    let mut gone = cookie_of(&request, &app, String::new());
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}

/// Refuses what a page of another site asks, before anything of it is read: whatever it sends along, a sign-in included; and addresses
/// that the database could make nothing of.
pub(super) async fn at_the_door(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    if request.uri().path_and_query().is_some_and(|text| text.as_str().contains("%00")) {
        let message = "it holds `%00`, which cannot be stored".to_owned();
        let problem = Problem::BadValue { field: "address", message };
        return Ok(request.into_response(problem.error_response()).map_into_right_body());
    }
    // Whoever stands in front may let nothing through that begins so: written otherwise it is something else.
    if !is_plain(request.head()) {
        return Ok(request.into_response(HttpResponse::NotFound().finish()).map_into_right_body());
    }
    let app = request.app_data::<web::Data<App>>().cloned().ok_or(Problem::Internal)?;
    match request
        .headers()
        .get(header::ORIGIN)
        .filter(|origin| !is_own(request.head(), origin, &app.settings.listening))
    {
        Some(origin) => {
            let origin = origin.to_str().unwrap_or_default();
            let why = format!(
                "a page of {origin:?} asks; the management API accepts calls of programs and of its own console only"
            );
            Ok(request.into_response(Problem::NotAllowed(why).error_response()).map_into_right_body())
        }
        None => next.call(request).await.map(ServiceResponse::map_into_left_body),
    }
}
