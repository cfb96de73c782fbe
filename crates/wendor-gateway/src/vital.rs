//! Whether the service lives, whether it is ready, and its metrics: for load balancers and whoever watches.

use actix_web::{HttpResponse, web};
use serde::Serialize;

use crate::app::App;

#[derive(Debug, Serialize)]
struct Readiness {
    ready: bool,
    /// What is not ready; the service serves all the same when only the database is away.
    not_ready: Vec<String>,
    revision: i64,
    spool_pending: u64,
    spool_set_aside: u64,
}

/// `GET /livez`: the process answers.
pub async fn livez() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("alive\n")
}

/// `GET /readyz` for whoever need not know more: whether requests can be served.
pub async fn ready(app: web::Data<App>) -> HttpResponse {
    match app.spool.is_writable() {
        true => HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"),
        false => HttpResponse::ServiceUnavailable().content_type("text/plain; charset=utf-8").body("not ready\n"),
    }
}

/// `GET /readyz`: 200 when requests can be served, 503 when not, with what is missing in both.
pub async fn readyz(app: web::Data<App>) -> HttpResponse {
    let mut not_ready = Vec::new();
    let snapshot = app.now_serving();
    let mut ready = true;
    if !app.spool.is_writable() {
        ready = false;
        not_ready.push("spool: the disk takes nothing or is nearly full, requests are refused".to_owned());
    }
    if snapshot.revision == 0 {
        not_ready.push("catalogue: there is no revision yet; apply one with `wendor catalogue apply`".to_owned());
    }
    if let Err(error) = app.store.ping().await {
        not_ready.push(format!("database: {error}; known keys are served, entries wait in the spool"));
    }
    let body = Readiness {
        ready,
        not_ready,
        revision: snapshot.revision,
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
