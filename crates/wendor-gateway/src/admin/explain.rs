//! What would become of a request: every offer of its route taken or left, in order, with the reasons. Nothing is sent, and nothing taken.

use std::sync::Arc;

use actix_web::{post, web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;
use wendor_core::catalog::key::AppKey;
use wendor_core::catalog::preset::Preset;
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::team::Access;
use wendor_core::name::{Name, OfferName};
use wendor_core::routing::plan::{PlannedOffer, Standing};
use wendor_core::routing::queue::Lane;
use wendor_wire::asked::AppRequest;
use wendor_wire::endpoint::{Hints, resolve};

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::routes_view::pick_word;
use crate::app::App;
use crate::data_plane::account::Account;
use crate::data_plane::admit::{asked_for, content_of};
use crate::data_plane::call::Call;
use crate::data_plane::marks::Marks;
use crate::data_plane::plan::{Subject, opening_of, plan_of};
use crate::data_plane::preset::{self, WithPreset};
use crate::data_plane::refusal::Refusal;
use crate::snapshot::Snapshot;
use crate::under_way::HowFar;

/// What is asked when nothing else is said.
const USUAL_TEXT: &str = "When is the last ferry?";

/// A request that somebody may make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExplainAsk {
    /// The team that would ask.
    pub team: String,
    /// Its body, as an app would send it; a short question when absent.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub request: Option<Value>,
    /// The path that it would be sent to; `/v1/chat/completions` when absent.
    #[serde(default)]
    pub path: Option<String>,
}

/// An offer of the plan.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ExplainLine {
    /// In which turn it would be asked, from 1; absent where it would not.
    pub turn: Option<usize>,
    /// From 1.
    pub stage: usize,
    /// How that stage picks.
    pub pick: String,
    /// As `upstream/model`.
    pub offer: String,
    /// Why it is taken, or left.
    pub reason: String,
    /// What the request would cost there at most.
    pub expected_cost: Option<String>,
    /// How it is: `no traffic yet`, `well`, `degraded`, `on trial` or `failing`.
    pub state: String,
    /// Streams of its upstream under way.
    pub streams_open: u32,
    /// Streams that its upstream can carry.
    pub streams: Option<u32>,
    /// Requests that wait for room at its upstream.
    pub waiting: u32,
    /// How long the request would wait for room there at most, in milliseconds.
    pub room_ms: u64,
    /// The usual wait for a first token of late, in milliseconds.
    pub first_token_ms: Option<u64>,
}

/// What would become of a request.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Explained {
    /// That was asked about.
    pub route: String,
    /// As whom the question was answered.
    pub team: String,
    /// In a sentence.
    pub summary: String,
    /// Input tokens, as its bytes tell.
    pub input_tokens: u64,
    /// Code of the currency.
    pub currency: String,
    /// The offers, in the order of the plan.
    pub offers: Vec<ExplainLine>,
}

/// What would become of a request to a route, as things are now. Nothing is sent.
#[utoipa::path(tag = "routes", params(("name" = String, Path, description = "The route")), request_body = ExplainAsk, responses(
    (status = 200, body = Explained, description = "The plan"),
    (status = 404, body = ProblemDetails, description = "No such route or team")))]
#[post("/routes/{name}/explain")]
pub(super) async fn explain(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
    body: web::Json<ExplainAsk>,
) -> Result<web::Json<Explained>, Problem> {
    let snapshot = app.now_serving();
    let ask = body.into_inner();
    let team = named::team(&principal, &snapshot, &ask.team)?;
    let route = named::route_of(&principal, &team, &snapshot, &name)?;
    let (request, bytes) = read(&ask, &route)?;
    let bad = |refusal: Refusal| Problem::BadValue { field: "request", message: refusal.message() };
    let held = snapshot.catalogue.routes.get(&route).ok_or(Problem::Internal)?;
    let variables = held.preset.as_ref().map(Preset::stand_ins).unwrap_or_default();
    let marks = Marks { variables, ..Marks::default() };
    let added = preset::added(held, &route, &marks, request, bytes).map_err(bad)?;
    let WithPreset { request, body: bytes, preset } = added;
    let account = Account { preset, ..account(&app.into_inner(), &snapshot, &team, &route, &request) };
    let content = content_of(&snapshot, held, &request, &bytes).map_err(bad)?;
    let content = Arc::new(content);
    let opening = opening_of(&account, &bytes);
    let subject = Subject { account: &account, request: &request, content: &content, fetched: None, opening };
    let (plan, _) = plan_of(subject);
    let mut turn = 0;
    let line = |planned: &PlannedOffer| {
        let taken = planned.standing == Standing::Taken;
        turn += usize::from(taken);
        explain_line(&account, planned, taken.then_some(turn))
    };
    let offers: Vec<ExplainLine> = plan.offers.iter().map(line).collect();
    Ok(web::Json(Explained {
        summary: summary(&offers, &route),
        route: route.to_string(),
        team: team.to_string(),
        input_tokens: request.input_tokens,
        currency: snapshot.catalogue.currency.clone(),
        offers,
    }))
}

/// The request with the route in its place.
fn read(ask: &ExplainAsk, route: &Name) -> Result<(AppRequest, bytes::Bytes), Problem> {
    let bad = |field, message: String| Problem::BadValue { field, message };
    let usual = || json!({ "messages": [{ "role": "user", "content": USUAL_TEXT }], "stream": true });
    let mut body = ask.request.clone().unwrap_or_else(usual);
    let path = ask.path.as_deref().unwrap_or("/v1/chat/completions");
    let endpoint = resolve("POST", path, Hints::default())
        .map_err(|_| bad("path", format!("nothing is asked with POST at `{}`", path.escape_debug())))?;
    let members = body.as_object_mut().ok_or_else(|| bad("request", "must be a JSON object".to_owned()))?;
    members.insert("model".to_owned(), json!(route.as_str()));
    let bytes = bytes::Bytes::from(body.to_string());
    let request = AppRequest::read(endpoint, &bytes).map_err(|wrong| bad("request", wrong.message))?;
    Ok((request, bytes))
}

/// As if a key of the team asked.
fn account(app: &Arc<App>, snapshot: &Arc<Snapshot>, team: &Name, route: &Name, request: &AppRequest) -> Account {
    let key = AppKey {
        id: String::new(),
        team: team.clone(),
        label: String::new(),
        access: Access::AllRoutes,
        lane: Lane::default(),
        expires_at: None,
        revoked_at: None,
    };
    Account {
        app: app.clone(),
        call: Call::asked_about(app, request.endpoint.dialect),
        snapshot: snapshot.clone(),
        key: Arc::new(key),
        marks: Marks::default(),
        trace: None,
        beta: Vec::new(),
        route: route.clone(),
        asked_as: None,
        leaving: None,
        preset: None,
        streamed: true,
        asked_for: asked_for(request),
        teaches: false,
        sends_cap: false,
        how_far: HowFar::default(),
    }
}

fn explain_line(account: &Account, planned: &PlannedOffer, turn: Option<usize>) -> ExplainLine {
    let upstream = account.app.fleet.upstream(planned.offer.upstream());
    let fullness = upstream.gate().fullness();
    let of_offer = account.snapshot.catalogue.offer(&planned.offer).and_then(|(upstream, _)| upstream.streams);
    let stages = account.snapshot.catalogue.routes.get(&account.route).map_or(&[][..], |route| &route.stages);
    let stage = planned.stage.checked_sub(1).and_then(|index| stages.get(index));
    let room = stage.map_or_else(Deadlines::default, |stage| stage.deadlines.into()).room;
    ExplainLine {
        turn,
        stage: planned.stage,
        pick: pick_word(planned.pick).to_owned(),
        offer: planned.offer.to_string(),
        reason: planned.reason.words(),
        expected_cost: planned.expected_cost.map(|cost| cost.to_string()),
        state: state_of(account, &planned.offer),
        streams_open: fullness.streams,
        streams: of_offer.map(std::num::NonZeroU32::get),
        waiting: fullness.waiting,
        room_ms: u64::try_from(room.as_millis()).unwrap_or(u64::MAX),
        first_token_ms: upstream.offer(planned.offer.model()).waits_ms().usual,
    }
}

fn state_of(account: &Account, offer: &OfferName) -> String {
    let upstream = account.app.fleet.upstream(offer.upstream());
    let (connections, own) = (upstream.connections().state(), upstream.offer(offer.model()).health().state());
    wendor_core::routing::health::overall(connections, std::iter::once(own)).as_str().to_owned()
}

fn summary(offers: &[ExplainLine], route: &Name) -> String {
    let mut taken = offers.iter().filter(|line| line.turn.is_some());
    let Some(first) = taken.next() else {
        return format!(
            "No offer of {route} would be asked: the request would be refused, unless one of those that rest serves it."
        );
    };
    match taken.next() {
        Some(next) => format!("{} would be asked first, and {} if that fails.", first.offer, next.offer),
        None => format!("Only {} would be asked.", first.offer),
    }
}
