//! Bringing an upstream in, offering more of its models, and giving it another credential.

use actix_web::{post, web};
use chrono::{DateTime, TimeDelta, Utc};
use rand::RngExt;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::base32;
use wendor_core::catalog::upstream::{CredentialSource, Offer};
use wendor_core::diagnosis::listing::ModelSeen;
use wendor_core::name::Name;
use wendor_core::secret::Secret;
use wendor_store::credentials::{NewCredential, Resealed};

use super::draft::{self, UpstreamDraft};
use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::revise::{Mode, revise};
use crate::admin::revise::CatalogueApplied;
use crate::app::App;
use crate::vault::Bound;

/// The longest that a replaced credential may be used on.
const LONGEST_OVERLAP: i64 = 7 * 24 * 3_600;

/// An upstream to be added.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UpstreamAddition {
    /// 1 to 64 of a-z, 0-9, `.`, `_` and `-`; not yet in the catalogue.
    pub name: String,
    /// Its settings, with the offers to be made. A credential's value is kept encrypted.
    pub settings: UpstreamDraft,
    /// Only tell what would change.
    #[serde(default)]
    pub look: bool,
}

/// Models to be offered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OfferAddition {
    /// The upstream's names for them; what is known of them goes into the offers.
    pub models: Vec<String>,
    /// Only tell what would change.
    #[serde(default)]
    pub look: bool,
}

/// A secret goes in and is never given back.
fn never<S: serde::Serializer>(_: &str, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str("")
}

/// A credential to be kept.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialAddition {
    /// The credential itself. It is never given back.
    #[serde(serialize_with = "never")]
    #[schema(write_only)]
    pub value: String,
    /// For how many seconds the one before may still be used where this one is refused.
    #[serde(default)]
    pub overlap_seconds: i64,
}

/// Kept encrypted; its value never comes back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CredentialKept {
    /// For the catalogue: `credential = { kept = "ID" }`.
    pub id: String,
    /// The revision that refers to it.
    pub revision: i64,
    /// Until when the one before may be used.
    pub previous_until: Option<DateTime<Utc>>,
}

fn mode(look: bool) -> Mode {
    if look { Mode::Look } else { Mode::Apply }
}

/// Add an upstream.
#[utoipa::path(tag = "upstreams", request_body = UpstreamAddition, responses(
    (status = 200, body = CatalogueApplied, description = "Added, or what would be"),
    (status = 400, body = ProblemDetails, description = "Invalid value"),
    (status = 409, body = ProblemDetails, description = "The name is taken")))]
#[post("/upstreams")]
pub(super) async fn add(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<UpstreamAddition>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "add upstreams")?;
    let UpstreamAddition { name, settings, look } = body.into_inner();
    let name = Name::parse(&name).map_err(|error| Problem::BadValue { field: "name", message: error.to_string() })?;
    let drafted = draft::check(&settings)?;
    if drafted.stated.is_none() {
        let message = "what it speaks is not known: check it first, or say its dialect".to_owned();
        return Err(Problem::BadValue { field: "dialect", message });
    }
    let mut upstream = drafted.upstream;
    if app.now_serving().catalogue.upstreams.contains_key(name.as_str()) {
        return Err(Problem::Conflict(format!("there is an upstream `{name}` already; give this one another name")));
    }
    if let Some(value) = &drafted.value {
        let id = credential_id();
        // Looked at only, nothing is kept; that it could be is found out all the same.
        let bound = Bound { id: &id, upstream: name.as_str(), host: upstream.address.host() };
        sealed(&app, bound, value)?;
        if !look {
            keep(&app, &principal, bound, value, None).await?;
        }
        upstream.credential = Some(CredentialSource::Kept(id));
    }
    let note = format!("{name} brought in");
    let applied = revise(&app, &principal, &note, mode(look), |catalogue, _| {
        catalogue.upstreams.insert(name, upstream);
        Ok(Vec::new())
    });
    Ok(web::Json(applied.await?))
}

/// Offer further models of an upstream.
#[utoipa::path(tag = "upstreams", request_body = OfferAddition, responses(
    (status = 200, body = CatalogueApplied, description = "Offered, or what would be"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/upstreams/{name}/offers")]
pub(super) async fn offer(
    principal: Principal,
    app: web::Data<App>,
    path: web::Path<String>,
    body: web::Json<OfferAddition>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let OfferAddition { models, look } = body.into_inner();
    let name = named::upstream(&principal, "change the catalogue", &app.now_serving(), &path)?;
    let inventory = app.fleet.upstream(&name).inventory();
    let note = format!("{} of {name} offered", models.join(", "));
    let applied = revise(&app, &principal, &note, mode(look), |catalogue, _| {
        let upstream = catalogue.upstreams.get_mut(&name).ok_or(Problem::Internal)?;
        for model in &models {
            if upstream.offers.contains_key(model) {
                return Err(Problem::Conflict(format!("{name}/{model} is offered already")));
            }
            let seen = inventory.as_ref().and_then(|inventory| inventory.model(model));
            upstream.offers.insert(model.clone(), seen.map(learnt).unwrap_or_default());
        }
        Ok(Vec::new())
    });
    Ok(web::Json(applied.await?))
}

/// An offer with what its server tells of the model.
#[must_use]
pub fn learnt(model: &ModelSeen) -> Offer {
    Offer {
        context_window: model.context_window.and_then(std::num::NonZeroU32::new),
        output_cap: model.output_cap.and_then(std::num::NonZeroU32::new),
        abilities: model.abilities.clone(),
        about: model.about.clone(),
        ..Offer::default()
    }
}

/// Give an upstream another credential, which Wendor keeps encrypted.
#[utoipa::path(tag = "upstreams", request_body = CredentialAddition, responses(
    (status = 200, body = CredentialKept, description = "Kept"),
    (status = 400, body = ProblemDetails, description = "It cannot be taken, or not be kept"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/upstreams/{name}/credential")]
pub(super) async fn credential(
    principal: Principal,
    app: web::Data<App>,
    path: web::Path<String>,
    body: web::Json<CredentialAddition>,
) -> Result<web::Json<CredentialKept>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "set credentials of upstreams")?;
    principal.must_be_confirmed(&app, "set credentials of upstreams")?;
    let CredentialAddition { value, overlap_seconds } = body.into_inner();
    if !(0..=LONGEST_OVERLAP).contains(&overlap_seconds) {
        let message = format!("{overlap_seconds} is invalid; use 0 to {LONGEST_OVERLAP} seconds");
        return Err(Problem::BadValue { field: "overlap_seconds", message });
    }
    let value = draft::cleaned(&value)?;
    let snapshot = crate::admin::revise::fresh(&app).await?;
    let name = named::upstream(&principal, "set credentials of upstreams", &snapshot, &path)?;
    let upstream = snapshot.catalogue.upstreams.get(&name).ok_or(Problem::Internal)?;
    let before = match upstream.credential.clone() {
        Some(CredentialSource::Kept(id)) => Some(id),
        Some(CredentialSource::Env(_) | CredentialSource::File(_)) | None => None,
    };
    let until = app.clock.now() + TimeDelta::seconds(overlap_seconds);
    let id = credential_id();
    let replaces = before.as_deref().map(|before| (before, until));
    let bound = Bound { id: &id, upstream: name.as_str(), host: upstream.address.host() };
    keep(&app, &principal, bound, &value, replaces).await?;
    let note = format!("{name} has another credential");
    let source = CredentialSource::Kept(id.clone());
    let applied = revise(&app, &principal, &note, Mode::Apply, |catalogue, _| {
        catalogue.upstreams.get_mut(&name).ok_or(Problem::Internal)?.credential = Some(source);
        Ok(Vec::new())
    });
    let revision = applied.await?.revision;
    let previous_until = before.filter(|_| overlap_seconds > 0).map(|_| until);
    Ok(web::Json(CredentialKept { id, revision, previous_until }))
}

fn credential_id() -> String {
    let bytes: [u8; 10] = rand::rng().random();
    format!("crd-{}", base32::of_bytes(&bytes))
}

fn sealed(app: &App, bound: Bound<'_>, value: &Secret) -> Result<Vec<u8>, Problem> {
    let sealed = app.keyring.vault.seal(bound, value, rand::rng().random());
    sealed.map_err(|error| Problem::BadValue { field: "credential", message: error.to_string() })
}

async fn keep(
    app: &App,
    principal: &Principal,
    bound: Bound<'_>,
    value: &Secret,
    replaces: Option<(&str, DateTime<Utc>)>,
) -> Result<(), Problem> {
    let sealed = sealed(app, bound, value)?;
    let Bound { id, upstream, host } = bound;
    let kept_under = app.keyring.vault.mark().unwrap_or_default();
    let anew = Resealed { sealed, host, kept_under };
    let new = NewCredential { id, upstream, kept: &anew, replaces, by: &principal.doing(app) };
    app.store.keep_credential(new).await?;
    Ok(())
}
