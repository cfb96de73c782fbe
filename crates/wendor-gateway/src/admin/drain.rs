//! Draining an upstream: it takes no new requests, those under way go on; and taking it back.

use actix_web::{put, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::revise::{Mode, revise};
use crate::admin::revise::CatalogueApplied;
use crate::app::App;

/// Whether an upstream takes new requests.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrainAsk {
    /// `true`: it takes none; `false`: it does again.
    pub drained: bool,
}

/// Drain an upstream, or take it back. Requests under way go on; `streams_open` of the upstream tells how many are left.
#[utoipa::path(tag = "upstreams", params(("name" = String, Path, description = "The upstream")), request_body = DrainAsk, responses(
    (status = 200, body = CatalogueApplied, description = "The revision in force; no changes when it was so already"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[put("/upstreams/{name}/drained")]
pub(super) async fn drain(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
    body: web::Json<DrainAsk>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let name = named::upstream(&principal, "drain upstreams", &app.now_serving(), &name)?;
    let drained = body.drained;
    let note = if drained { format!("upstream {name} drained") } else { format!("upstream {name} taken back") };
    let applied = revise(&app, &principal, &note, Mode::Apply, |catalogue, _| {
        if let Some(upstream) = catalogue.upstreams.get_mut(&name) {
            upstream.is_drained = drained;
        }
        Ok(Vec::new())
    });
    Ok(web::Json(applied.await?))
}
