//! Whether the service lives, whether it is ready, and its metrics: for load balancers and whoever watches.

use std::time::Duration;

use actix_web::{HttpResponse, Resource, Route, guard, web};
use serde::Serialize;
use wendor_core::name::Name;
use wendor_core::words::listed;

use crate::app::App;

/// How long the database may take to say that it is there.
const PATIENCE: Duration = Duration::from_millis(60);

#[derive(Debug, Serialize)]
struct Readiness {
    ready: bool,
    /// What is not ready; the service serves all the same when only the database is away.
    not_ready: Vec<String>,
    revision: i64,
    /// For how long it is not known whether that state is the database's, in milliseconds.
    state_age_ms: u64,
    spool_pending: u64,
    spool_set_aside: u64,
}

/// A path that is looked at with `GET` or `HEAD`.
pub fn looked_at() -> Route {
    web::route().guard(guard::Any(guard::Get()).or(guard::Head()))
}

/// `/livez` by itself.
pub(crate) fn livez_resource() -> Resource {
    web::resource("/livez").route(looked_at().to(livez))
}

/// `GET /livez`: the process answers.
pub async fn livez() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("alive\n")
}

/// `GET /readyz` for whoever need not know more: whether requests can be served.
pub async fn ready(app: web::Data<App>) -> HttpResponse {
    let is_opened = app.now_serving().locked.is_empty();
    if app.spool.is_writable() && is_opened && !app.stopping.is_announced() && !app.is_out_of_date(app.clock.now()) {
        HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n")
    } else {
        HttpResponse::ServiceUnavailable().content_type("text/plain; charset=utf-8").body("not ready\n")
    }
}

/// `GET /readyz`: 200 when requests can be served, 503 when not, with what is missing in both.
pub async fn readyz(app: web::Data<App>) -> HttpResponse {
    let mut not_ready = Vec::new();
    let snapshot = app.now_serving();
    let mut ready = true;
    if !app.spool.is_writable() {
        ready = false;
        not_ready.push("spool: the disk is nearly full or not writable, requests are refused".to_owned());
    }
    if app.stopping.is_announced() {
        ready = false;
        not_ready.push("service: it stops, what is under way goes on".to_owned());
    }
    let now = app.clock.now();
    if app.is_out_of_date(now) {
        ready = false;
        not_ready.push(
            "state: it could not be compared with the database for too long (serve_stale), requests are refused"
                .to_owned(),
        );
    }
    if !snapshot.locked.is_empty() {
        ready = false;
        let upstreams: Vec<&str> = snapshot.locked.iter().map(Name::as_str).collect();
        let upstreams = listed(&upstreams);
        not_ready.push(format!(
            "secret: the credentials of {upstreams} were kept under another WENDOR_SECRET; start the service with that one as \
             WENDOR_SECRET_BEFORE, or set them again (`wendor upstream credential NAME`)"
        ));
    }
    if snapshot.revision == 0 {
        not_ready.push("catalogue: there is no revision yet; apply one with `wendor catalogue apply`".to_owned());
    }
    let error = match tokio::time::timeout(PATIENCE, app.store.ping()).await {
        Ok(Ok(())) => None,
        Ok(Err(error)) => Some(error.to_string()),
        Err(_elapsed) => Some(format!("it does not answer within {} ms", PATIENCE.as_millis())),
    };
    if let Some(error) = error {
        not_ready.push(format!("database: {error}; known keys are served, entries wait in the spool"));
    }
    let body = Readiness {
        ready,
        not_ready,
        revision: snapshot.revision,
        state_age_ms: u64::try_from(app.state_age(now).as_millis()).unwrap_or(u64::MAX),
        spool_pending: app.spool.pending(),
        spool_set_aside: app.spool.aside().count(),
    };
    if ready { HttpResponse::Ok().json(body) } else { HttpResponse::ServiceUnavailable().json(body) }
}

/// `GET /metrics`, in the Prometheus text form.
pub async fn metrics(app: web::Data<App>) -> HttpResponse {
    app.metrics.spool_pending.set(i64::try_from(app.spool.pending()).unwrap_or(i64::MAX));
    app.metrics.spool_aside.set(i64::try_from(app.spool.aside().count()).unwrap_or(i64::MAX));
    HttpResponse::Ok().content_type("text/plain; version=0.0.4; charset=utf-8").body(app.metrics.text())
}
