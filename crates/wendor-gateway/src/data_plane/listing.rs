//! `GET /v1/models` and `GET /v1/models/{route}`: the routes that a key may use. And what is told at a path where nothing is.

use actix_web::{HttpRequest, HttpResponse, ResponseError, web};
use serde::Serialize;
use wendor_core::name::nearest;
use wendor_core::wire::chat_completions::models::{Model, ModelList};

use super::Call;
use super::admit::{key_of, no_such_route, presented_key, routes_of};
use super::refusal::{Refusal, identify};
use crate::admin::problem::Problem;
use crate::app::App;

/// Every path of the data plane, for whoever took a wrong one.
pub const PATHS: [&str; 3] = ["/v1/chat/completions", "/v1/models", "/v1/models/{route}"];

/// `GET /v1/models`.
pub async fn models(request: HttpRequest, app: web::Data<App>) -> HttpResponse {
    let call = Call::begin(&app);
    let snapshot = app.now_serving();
    let listed = key_of(&snapshot, presented(&request), &call).map(|key| {
        let created = snapshot.made_at.timestamp();
        let models = routes_of(&snapshot, key).into_iter().map(|name| Model::of_route(name.as_str(), created));
        answer(&call, &ModelList::of(models.collect()))
    });
    listed.unwrap_or_else(|refusal| refusal.answer(&app, &call))
}

/// `GET /v1/models/{route}`.
pub async fn model(request: HttpRequest, wanted: web::Path<String>, app: web::Data<App>) -> HttpResponse {
    let call = Call::begin(&app);
    let snapshot = app.now_serving();
    let shown = key_of(&snapshot, presented(&request), &call).and_then(|key| {
        let allowed = routes_of(&snapshot, key);
        let found = allowed.iter().find(|name| name.as_str() == wanted.as_str());
        let name = found.ok_or_else(|| no_such_route(key, &wanted, &allowed))?;
        Ok(answer(&call, &Model::of_route(name.as_str(), snapshot.made_at.timestamp())))
    });
    shown.unwrap_or_else(|refusal| refusal.answer(&app, &call))
}

/// A path that is asked with the wrong method.
pub async fn wrong_method(request: HttpRequest, app: web::Data<App>) -> HttpResponse {
    let right = if request.path() == PATHS[0] { "POST" } else { "GET" };
    Refusal::WrongMethod(request.path().to_owned(), right).answer(&app, &Call::begin(&app))
}

/// Any path where nothing is.
pub async fn nothing_here(request: HttpRequest, app: web::Data<App>) -> HttpResponse {
    if request.path().starts_with("/manage/") {
        let name = format!("{} {}", request.method(), request.path());
        return Problem::NoSuch { what: "call", name, nearest: Some("GET /manage/v1/openapi.json".to_owned()) }
            .error_response();
    }
    let call = Call::begin(&app);
    // A path may be as long as a request's head, and may hold a key in its query, which is not shown.
    let path: String = request.path().chars().take(120).collect();
    let nearest = nearest(&path, PATHS).and_then(|near| PATHS.into_iter().find(|known| *known == near));
    Refusal::NoSuchPath(path, nearest).answer(&app, &call)
}

fn answer(call: &Call, body: &impl Serialize) -> HttpResponse {
    let mut response = HttpResponse::Ok();
    identify(&mut response, call);
    response.json(body)
}

fn presented(request: &HttpRequest) -> Result<String, Refusal> {
    presented_key(request.headers(), request.query_string())
}
