//! The management API under `/manage/v1`: thin handlers, each with a [`Principal`](principal::Principal), described by OpenAPI.
//!
//! [`routes`] is the whole API on one screen. A handler extracts, authorises, makes one call and maps the answer; errors are
//! [`Problem`](problem::Problem)s (RFC 9457). What it shows of money is text with all its digits.
//!
//! - [`sign_in`]: signing in, and again; [`session`]: who am I, password; [`tokens`]: one's own tokens; [`codes`]: authenticator apps; [`browser`]: the console's
//!   session; [`people`]: who there is
//! - [`keys`], [`teams`], [`routes_view`], [`upstreams`]: what is configured and how it is doing
//! - [`checking`], [`check_report`]: why an upstream does not answer; [`connecting`]: bringing one in; [`inventory`]: what they serve; [`draft`]: one as told
//! - [`making`]: routes and teams one at a time; [`client_code`]: code for a route
//! - [`catalogue`]: the catalogue as a file, and its revisions; [`revise`]: the way of every single change; [`effect`]: what it would have done
//! - [`now`], with [`findings`] and [`history`]: the morning look
//! - [`usage`], [`requests`], [`attempts`]: figures and what they are made of; [`under_way`]: what has not ended
//! - [`audit`]: what was done; [`events`]: what happened by itself, and who is told of it
//! - [`operations`]: the spool, refusals; [`secrets`]: what kept credentials are under

pub mod adjusting;
pub mod attempts;
pub mod audit;
pub mod browser;
pub mod catalogue;
pub mod check_report;
pub mod check_stream;
pub mod checking;
pub mod client_code;
pub mod codes;
pub mod connecting;
mod cookie;
pub mod cost;
mod document;
pub mod draft;
pub mod drain;
pub mod effect;
pub mod events;
pub mod explain;
mod export;
pub mod findings;
mod first_body;
pub mod health_view;
pub mod history;
pub mod inventory;
pub mod keys;
pub mod limits_view;
mod making;
mod named;
pub mod now;
pub mod operations;
mod passwords;
pub mod people;
pub mod plan_view;
pub mod presets;
pub mod principal;
pub mod problem;
mod refused;
pub mod requests;
pub mod revise;
pub mod routes_view;
pub mod secrets;
pub mod session;
pub mod sign_in;
pub mod teams;
pub mod tokens;
pub mod under_way;
pub mod upstreams;
pub mod usage;
mod uses;
mod wanted;

use actix_web::middleware::from_fn;
use actix_web::{HttpResponse, get, web};
use utoipa_actix_web::scope;
use utoipa_actix_web::service_config::ServiceConfig;

pub use document::Document;

/// The OpenAPI document of this API.
#[utoipa::path(tag = "about", responses((status = 200, description = "This document")), security(()))]
#[get("/openapi.json")]
pub(super) async fn openapi_document(document: web::Data<Document>) -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(document.as_str().to_owned())
}

/// The whole API.
pub fn routes(config: &mut ServiceConfig) {
    config.service(
        scope::scope("/manage/v1")
            .wrap(from_fn(browser::at_the_door))
            .service(openapi_document)
            .configure(of_people)
            .configure(of_configuration)
            .configure(of_what_happened),
    );
}

/// Who there is, and how they get in.
fn of_people(config: &mut ServiceConfig) {
    config
        .service(sign_in::sign_in)
        .service(browser::begin)
        .service(browser::end)
        .service(session::me)
        .service(sign_in::confirm)
        .service(codes::begin)
        .service(codes::set_up)
        .service(codes::remove)
        .service(codes::rule)
        .service(codes::set_rule)
        .service(session::set_password)
        .service(tokens::list_tokens)
        .service(tokens::issue_token)
        .service(tokens::end_token)
        .service(people::list)
        .service(people::add)
        .service(people::reset)
        .service(people::sign_out)
        .service(people::change);
}

/// What the service is told: keys, teams, routes, upstreams.
fn of_configuration(config: &mut ServiceConfig) {
    config
        .service(keys::list)
        .service(keys::issue)
        .service(keys::revoke)
        .service(teams::list)
        .service(routes_view::list)
        .service(routes_view::callers)
        .service(upstreams::list)
        .service(checking::check)
        .service(checking::cost_of_proof)
        .service(checking::mend)
        .service(connecting::add)
        .service(connecting::offer)
        .service(connecting::credential)
        .service(inventory::show)
        .service(inventory::refresh)
        .service(making::route)
        .service(explain::explain)
        .service(presets::attempt)
        .service(adjusting::adjust)
        .service(presets::versions)
        .service(drain::drain)
        .service(making::team)
        .service(client_code::code)
        .service(catalogue::export)
        .service(catalogue::diff)
        .service(catalogue::apply)
        .service(catalogue::revisions)
        .service(catalogue::of_revision)
        .service(catalogue::compare)
        .service(catalogue::uses)
        .service(secrets::show)
        .service(secrets::rotate);
}

/// Figures, requests, what was done, and how the service is.
fn of_what_happened(config: &mut ServiceConfig) {
    config
        .service(audit::list)
        .service(audit::verify)
        .service(audit::export)
        .service(now::show)
        .service(events::list)
        .service(events::webhooks)
        .service(events::deliveries)
        .service(events::try_one)
        .service(usage::usage)
        .service(usage::why::why)
        .service(export::ledger_export)
        .service(requests::list)
        .service(under_way::show)
        .service(requests::show)
        .service(operations::service)
        .service(operations::spool)
        .service(operations::retry_spool)
        .service(operations::partitions)
        .service(operations::refusals);
}
