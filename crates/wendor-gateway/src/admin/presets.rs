//! Presets of routes: tried on a question before they are applied, and as they were in each revision that changed them.

use std::collections::BTreeMap;
use std::time::Duration;

use actix_web::{get, post, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::route::Route;
use wendor_core::metering::preset::{PresetOnRecord, words_of};
use wendor_core::metering::rate::Cost;
use wendor_core::name::OfferName;
use wendor_store::past::PresetVersion;

use super::catalogue::{CatalogueDraft, EditLine};
use super::checking::{CheckAsk, payer, subject};
use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::requests::{PresetLine, preset_line};
use super::revise::fresh;
use super::usage::TokensByKind;
use super::wanted::Wanted;
use crate::app::App;
use crate::checks::Time;
use crate::checks::rehearsal::Rehearsal;
use crate::snapshot::Snapshot;

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(120);

/// Characters of a question.
const LONGEST_QUESTION: usize = 8_000;

/// A question on which the preset of a route is tried.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PresetTrialAsk {
    /// What is asked.
    pub question: String,
    /// What its variables are filled with; usual values where absent.
    #[serde(default)]
    pub variables: BTreeMap<String, String>,
    /// Changes of the catalogue that have not been applied, so that the preset is tried as it would be; as it is when absent.
    #[serde(default)]
    pub edits: Option<Vec<EditLine>>,
    /// The offer that is asked; the first of the route that is there when absent.
    #[serde(default)]
    pub offer: Option<String>,
    /// The team that pays; that of whoever asks when absent.
    #[serde(default)]
    pub team: Option<String>,
}

/// What came of it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PresetTried {
    /// What the offer answered.
    pub answer: String,
    /// The offer that was asked.
    pub offer: String,
    /// What was added, in sentences.
    pub summary: String,
    /// What was added, part by part.
    pub preset: Vec<PresetLine>,
    /// The body as an app would have sent it that said all of it itself, in the upstream's dialect.
    pub sent: String,
    /// What it used.
    pub tokens: TokensByKind,
    /// Whether that is an estimate.
    pub estimated: bool,
    /// What it cost, all digits; unpriced when absent.
    pub cost: Option<String>,
    /// Code of the currency.
    pub currency: String,
    /// How long it took, in milliseconds.
    pub whole_ms: u64,
}

/// The preset of a route as it stands from a revision on.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PresetVersionLine {
    /// The revision, by which the version is known.
    pub revision: i64,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub note: String,
    /// What it adds, within a sentence; absent where it was taken away.
    pub adds: Option<String>,
    /// The preset in the form of the file; null where it was taken away.
    #[schema(value_type = Option<Object>)]
    pub preset: Option<Value>,
}

/// Try the preset of a route on a question: one request to one of its offers, paid as a check is. With `edits` it is tried as it would be.
#[utoipa::path(tag = "routes", params(("name" = String, Path, description = "The route")), request_body = PresetTrialAsk, responses(
    (status = 200, body = PresetTried, description = "The answer"),
    (status = 400, body = ProblemDetails, description = "Invalid value, or no answer"),
    (status = 404, body = ProblemDetails, description = "No such route or offer")))]
#[post("/routes/{name}/preset/trial")]
pub(super) async fn attempt(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
    body: web::Json<PresetTrialAsk>,
) -> Result<web::Json<PresetTried>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "try a preset")?;
    let ask = body.into_inner();
    let length = ask.question.trim().chars().count();
    if length == 0 || length > LONGEST_QUESTION {
        let message = format!("must have 1 to {LONGEST_QUESTION} characters, not {length}");
        return Err(Problem::BadValue { field: "question", message });
    }
    let before = fresh(&app).await?;
    let draft = CatalogueDraft { edits: Some(ask.edits.unwrap_or_default()), ..CatalogueDraft::default() };
    let wanted = Wanted::read(&principal, &app, draft).await?;
    let catalogue = wanted.proposal(&before, app.clock.now().date_naive())?.catalogue;
    let route = route_in(&catalogue, &name)?;
    let preset = route.preset.clone().unwrap_or_default();
    let addition = preset.filled(&ask.variables, false);
    let bad = |field, message: String| Problem::BadValue { field, message };
    let addition = addition.map_err(|why| bad("variables", why.to_string()))?;
    let offer = offer_of(route, &before, ask.offer.as_deref())?;
    let payer = payer(&app, &principal, ask.team.as_deref())?;
    let check = CheckAsk { name: Some(offer.upstream().to_string()), ..CheckAsk::default() };
    let subject = subject(&app, &principal, &payer, &check).await?;
    let deed = Deed::of(Action::PresetTried, format!("route {name}"))
        .after(json!({ "offer": offer.to_string(), "paid_by": payer.team }));
    app.store.audit(&principal.doing(&app), &deed).await?;
    let rehearsal = Rehearsal { app: &app, subject: &subject, offer: &offer, payer: &payer, time: Time::of(PATIENCE) };
    let tried = rehearsal.ask(&addition, ask.question.trim()).await.map_err(|why| bad("question", why))?;
    let on_record = PresetOnRecord::of(&preset, &tried.lines, Vec::new());
    Ok(web::Json(PresetTried {
        summary: on_record.words(tried.tokens.preset, tried.tokens.all_input()),
        answer: tried.answer,
        offer: offer.to_string(),
        preset: on_record.parts.into_iter().map(preset_line).collect(),
        sent: tried.sent,
        tokens: tried.tokens.into(),
        estimated: tried.is_estimated,
        cost: tried.cost.map(Cost::total).map(|cost| cost.to_string()),
        currency: before.catalogue.currency.clone(),
        whole_ms: tried.whole_ms,
    }))
}

/// The route in the catalogue that is wanted: a draft may have made or renamed it.
fn route_in<'c>(catalogue: &'c Catalogue, name: &str) -> Result<&'c Route, Problem> {
    let known = catalogue.route_name(name).and_then(|name| catalogue.routes.get(name));
    known.ok_or_else(|| Problem::NoSuch { what: "route", name: name.to_owned(), nearest: None })
}

/// The offer that is asked: it has to be in force, since a draft has neither address nor credential yet.
fn offer_of(route: &Route, before: &Snapshot, wanted: Option<&str>) -> Result<OfferName, Problem> {
    let bad = |message: String| Problem::BadValue { field: "offer", message };
    if let Some(text) = wanted {
        let offer = OfferName::parse(text).map_err(|error| bad(error.to_string()))?;
        let is_there = before.catalogue.offer(&offer).is_some();
        return if is_there {
            Ok(offer)
        } else {
            Err(Problem::NoSuch { what: "offer", name: text.to_owned(), nearest: None })
        };
    }
    let is_ready = |offer: &&OfferName| before.catalogue.offer(offer).is_some_and(|(upstream, _)| !upstream.is_drained);
    let first = route.offers().find(is_ready).cloned();
    first.ok_or_else(|| {
        bad("no offer of this route is in force: apply it first, or name one as `upstream/model`".to_owned())
    })
}

/// The revisions in which the preset of a route changed, the latest first.
#[utoipa::path(tag = "routes", params(("name" = String, Path, description = "The route")), responses(
    (status = 200, body = Vec<PresetVersionLine>, description = "The versions"),
    (status = 404, body = ProblemDetails, description = "No such route")))]
#[get("/routes/{name}/preset/versions")]
pub(super) async fn versions(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<web::Json<Vec<PresetVersionLine>>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see the presets of routes")?;
    let snapshot = app.now_serving();
    let route = named::route(&snapshot, &name)?;
    let versions = app.store.preset_versions(&snapshot.former.routes_of(&route)).await?;
    Ok(web::Json(versions.into_iter().map(version_line).collect()))
}

fn version_line(version: PresetVersion) -> PresetVersionLine {
    let PresetVersion { revision, made_at, made_by, note, preset } = version;
    let adds = preset.as_ref().map(words_of);
    PresetVersionLine {
        revision,
        made_at,
        made_by,
        note,
        adds,
        preset: preset.and_then(|preset| serde_json::to_value(preset).ok()),
    }
}
