//! Listings of the routes that a key may use, in the shape that each dialect's clients read; and what is told at a path where nothing is.
//!
//! `GET /v1/models` is asked by the clients of three dialects, who get three shapes (`docs/protocols.md` section 1.2).

use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::{HttpMessage, HttpResponse, ResponseError, web};
use chrono::{DateTime, Utc};
use wendor_core::catalog::key::AppKey;
use wendor_core::name::Name;
use wendor_wire::endpoint::{Endpoint, Kind, NoEndpoint};
use wendor_wire::listing::{Listed, loaded, one, shape, shown, version};
use wendor_wire::members::members;

use super::body;
use super::call::Call;
use super::presented::{Query, key_of, key_text};
use super::reached::{access_of, no_such_route, routes_of};
use super::refusal::{Refusal, identify};
use crate::admin::problem::Problem;
use crate::app::App;
use crate::caller::is_encrypted_here;
use crate::snapshot::Snapshot;

/// A body that only names a model is small.
const MAX_BODY: usize = 64 * 1024;

/// A body that takes longer to arrive is refused.
const BODY_TIME: Duration = Duration::from_secs(10);

/// Answers what is asked about models.
///
/// # Errors
/// When the service was put together wrongly: its state is missing.
pub async fn answer(mut request: ServiceRequest, endpoint: Endpoint) -> Result<ServiceResponse, actix_web::Error> {
    let missing = || actix_web::error::ErrorInternalServerError("the state of the service is missing");
    let app = request.app_data::<web::Data<App>>().cloned().ok_or_else(missing)?;
    let call = Call::begin(&app, endpoint.dialect, request.head(), is_encrypted_here(request.request()));
    let wanted = match &endpoint.kind {
        Kind::Model(name) => Some(name.clone()),
        // Whoever has no key is told so before anything is read.
        Kind::ShowModel => match allowed(&app, &request, &call).map(|_| ()) {
            Ok(()) => Some(named_in_body(&app, &mut request).await),
            Err(refusal) => return Ok(request.into_response(refusal.answer(&app, &call))),
        },
        Kind::Models
        | Kind::Loaded
        | Kind::Version
        | Kind::Chat(_)
        | Kind::Count(_)
        | Kind::Embed(..)
        | Kind::Passed(_) => None,
    };
    let listed = list(&app, &request, &call, &endpoint.kind, wanted.as_deref());
    let response = match listed {
        Ok(body) => {
            let mut response = HttpResponse::Ok();
            identify(&mut response, &call);
            response.content_type("application/json").body(body)
        }
        Err(refusal) => refusal.answer(&app, &call),
    };
    Ok(request.into_response(response))
}

/// The key that asks, in the state in force.
fn allowed(app: &App, request: &ServiceRequest, call: &Call) -> Result<(Arc<Snapshot>, Arc<AppKey>), Refusal> {
    let snapshot = app.now_serving();
    Refusal::of_page(call.page.foreign())?;
    let key = key_of(&snapshot, key_text(request.headers(), Query::of(app, request.query_string())), call)?.clone();
    Ok((snapshot, key))
}

fn list(
    app: &App,
    request: &ServiceRequest,
    call: &Call,
    kind: &Kind,
    wanted: Option<&str>,
) -> Result<String, Refusal> {
    let (snapshot, key) = allowed(app, request, call)?;
    let today = call.arrived_at.date_naive();
    let (key, allowed) = (&*key, routes_of(&snapshot, &key, today));
    let made_at = snapshot.made_at;
    let all = || allowed.iter().map(|name| listed(&snapshot, name, made_at)).collect::<Vec<Listed<'_>>>();
    let route_named = |wanted: &str| {
        // Local servers write a tag behind names, and clients of generate-content a prefix before them.
        let bare = wanted.strip_prefix("models/").unwrap_or(wanted);
        let bare = bare.strip_suffix(":latest").unwrap_or(bare);
        if let Some(name) = allowed.iter().find(|name| name.as_str() == wanted || name.as_str() == bare) {
            return Ok(listed(&snapshot, name, made_at));
        }
        // By a former name it is told as what it is now, and one that is gone as a request would be.
        match access_of(&snapshot, key, bare, today) {
            Ok(reached) => Ok(listed(&snapshot, reached.name, made_at)),
            Err(gone @ Refusal::RouteGone(_)) => Err(gone),
            Err(_) => Err(no_such_route(key, wanted, &allowed)),
        }
    };
    match kind {
        Kind::Version => Ok(version(env!("CARGO_PKG_VERSION"))),
        Kind::Loaded => Ok(loaded()),
        Kind::ShowModel => Ok(shown(&route_named(wanted.unwrap_or_default())?)),
        Kind::Model(_) => Ok(one(call.dialect, &route_named(wanted.unwrap_or_default())?)),
        Kind::Models | Kind::Chat(_) | Kind::Count(_) | Kind::Embed(..) | Kind::Passed(_) => {
            Ok(shape(call.dialect, &all()))
        }
    }
}

/// What is told of a route: the smallest window and cap among its offers, so that an app that keeps to them is right at each.
fn listed<'n>(snapshot: &Snapshot, name: &'n Name, made_at: DateTime<Utc>) -> Listed<'n> {
    let route = snapshot.catalogue.routes.get(name);
    let offers =
        || route.into_iter().flat_map(|route| route.offers()).filter_map(|name| snapshot.catalogue.offer(name));
    let context_window = offers().filter_map(|(_, offer)| offer.context_window).min().map(u32::from);
    let output_cap = offers().filter_map(|(_, offer)| offer.output_cap).min().map(u32::from);
    Listed { name: name.as_str(), made_at, context_window, output_cap }
}

/// The model that a body names.
async fn named_in_body(app: &App, request: &mut ServiceRequest) -> String {
    let read = body::read_within(app, &mut request.take_payload(), None, None, MAX_BODY, BODY_TIME).await;
    let body = read.map(|read| read.bytes).unwrap_or_default();
    let fields = members(&body).unwrap_or_default();
    let member = fields.iter().find(|member| member.name == "model" || member.name == "name");
    member.and_then(|member| serde_json::from_str(member.value).ok()).unwrap_or_default()
}

/// Any path where nothing is, or that was asked with the wrong method.
///
/// # Errors
/// When the service was put together wrongly: its state is missing.
pub fn nothing_here(request: ServiceRequest, none: NoEndpoint) -> Result<ServiceResponse, actix_web::Error> {
    if request.path().starts_with("/manage/") {
        let name = format!("{} {}", request.method(), request.path());
        let problem = Problem::NoSuch { what: "call", name, nearest: Some("GET /manage/v1/openapi.json".to_owned()) };
        return Ok(request.into_response(problem.error_response()));
    }
    let missing = || actix_web::error::ErrorInternalServerError("the state of the service is missing");
    let app = request.app_data::<web::Data<App>>().cloned().ok_or_else(missing)?;
    // A path may be as long as a request's head, and may hold a key in its query, which is not shown.
    let path: String = request.path().chars().take(120).collect();
    let (dialect, refusal) = match none {
        NoEndpoint::NoSuchPath(dialect, nearest) => (dialect, Refusal::NoSuchPath(path, nearest)),
        NoEndpoint::WrongMethod(dialect, right) => (dialect, Refusal::WrongMethod(path, right)),
    };
    let response =
        refusal.answer(&app, &Call::begin(&app, dialect, request.head(), is_encrypted_here(request.request())));
    Ok(request.into_response(response))
}
