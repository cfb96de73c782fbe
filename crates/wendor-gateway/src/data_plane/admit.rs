//! Step 1, admit: takes a request as it arrived, gives an [`Admitted`] with its ticket, fails with a [`Refusal`].
//!
//! In this order, cheapest and most telling first: the page that asks, if it is one, the key (before the body is read, in memory, no database), our headers,
//! the body, the route and whether this key may use it, room in the spool, room in the quotas. **A quota says no here**
//! ([`reserve`]) for what does not depend on the offer; cost is asked when an offer's turn comes.

use std::sync::Arc;

use actix_web::dev::Payload;
use actix_web::http::header::{self, HeaderMap};
use bytes::Bytes;
use hyper::header::{HeaderName, HeaderValue};
use wendor_core::catalog::key::{AppKey, KeyState, KeyText};
use wendor_core::catalog::route::Route;
use wendor_core::catalog::team::Team;
use wendor_core::held;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::use_of::WorstCase;
use wendor_core::quota::{AtLimit, Measure, Quota};
use wendor_core::serving::fit::{Content, Unfit, mislabelled_image};
use wendor_core::serving::sending::is_choosy;
use wendor_core::trace::Trace;
use wendor_wire::asked::AppRequest;
use wendor_wire::bad_request::BadRequest;
use wendor_wire::conversation::Delivery;
use wendor_wire::embedding::EmbeddingRequest;
use wendor_wire::endpoint::{Endpoint, Kind, Passed};
use wendor_wire::refusal_code::RefusalCode;

use super::account::{Account, AskedFor, Output};
use super::body::{self, ReadBody};
use super::call::Call;
use super::images::{self, Fetched};
use super::marks::Marks;
use super::presented::{Query, key_of, key_text};
use super::preset::{self, WithPreset};
use super::reached::{self, Reached, access_of};
use super::refusal::{Caller, QuotaFull, Refusal, SecretHeld, StreamsFull};
use super::ticket::{HeldOfRequest, Taken, Ticket};
use crate::allowances::Held;
use crate::app::App;
use crate::sharing::{Connection, Place};
use crate::snapshot::Snapshot;
use crate::under_way::HowFar;

/// The header by which an app tells of its trace.
const TRACE: header::HeaderName = header::HeaderName::from_static("traceparent");

/// A request that will be served, if an offer answers.
#[derive(Debug)]
pub struct Admitted {
    /// Goes along until it is settled.
    pub ticket: Box<Ticket>,
    /// What the app asks.
    pub request: Arc<AppRequest>,
    /// What it holds, as far as that had to be looked at.
    pub content: Arc<Content>,
    /// The same with the images that were fetched for offers that are given bytes alone.
    pub fetched: Option<Fetched>,
    /// The offers that cannot serve it, and why.
    pub unfit: Vec<(OfferName, Unfit)>,
    /// Its body, for as long as another offer may need it.
    pub body: ReadBody,
    /// The content type of a form, which goes up with it.
    pub form: Option<hyper::header::HeaderValue>,
}

/// What a request's headers and address say, taken out of them.
#[derive(Debug)]
pub struct Asked {
    endpoint: Endpoint,
    content_type: Option<header::HeaderValue>,
    presented: Result<KeyText, Refusal>,
    marks: Result<Marks, Refusal>,
    trace: Option<Trace>,
    beta: Vec<(HeaderName, HeaderValue)>,
    declared_bytes: Option<usize>,
    /// The connection that it came on, where it is known.
    pub connection: Option<Arc<Connection>>,
}

impl Asked {
    /// Reads it. What is wrong is told in [`admit`], in the order of its steps.
    #[must_use]
    pub fn read(
        headers: &HeaderMap,
        query: Query<'_>,
        endpoint: Endpoint,
        connection: Option<Arc<Connection>>,
    ) -> Self {
        let declared = headers.get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
        // Only a form has to keep it: it says where its parts end.
        let is_form = endpoint.kind == Kind::Passed(Passed::Transcriptions);
        let content_type = headers.get(header::CONTENT_TYPE).filter(|_| is_form).cloned();
        Self {
            endpoint,
            content_type,
            presented: key_text(headers, query),
            marks: Marks::read(headers),
            trace: headers.get(TRACE).and_then(|header| Trace::parse(header.to_str().ok()?)),
            beta: beta_headers(headers),
            declared_bytes: declared,
            connection,
        }
    }
}

/// By which an app asks for features that a service has not settled yet: they mean something to upstreams of the app's dialect alone.
fn beta_headers(headers: &HeaderMap) -> Vec<(HeaderName, HeaderValue)> {
    let own = |(name, value): (&header::HeaderName, &header::HeaderValue)| {
        let name = HeaderName::from_bytes(name.as_str().as_bytes()).ok()?;
        Some((name, HeaderValue::from_bytes(value.as_bytes()).ok()?))
    };
    headers.iter().filter(|(name, _)| name.as_str().ends_with("-beta")).filter_map(own).collect()
}

/// Admits a request.
///
/// # Errors
/// The [`Refusal`] that the app is told.
pub async fn admit(app: &Arc<App>, call: &Call, asked: Asked, payload: &mut Payload) -> Result<Admitted, Refusal> {
    let snapshot = app.now_serving();
    if app.is_out_of_date(call.arrived_at) {
        return Err(Refusal::OutOfDate);
    }
    Refusal::of_page(call.page.foreign())?;
    let key = key_of(&snapshot, asked.presented, call)?.clone();
    counted(app, &snapshot, asked.connection.as_ref(), &key)?;
    let mut marks = asked.marks?;
    // What a key is given for its requests they cannot leave by a word of their own.
    marks.lane = marks.lane.max(key.lane);
    let body = body::read(app, payload, asked.declared_bytes, &key.team).await?;
    let form = asked.content_type.as_ref().and_then(|kind| kind.to_str().ok());
    let read = reached::read(&snapshot, &key, asked.endpoint, body.bytes, form).map_err(Refusal::BadRequest)?;
    let reached = access_of(&snapshot, &key, &read.request.route, call.arrived_at.date_naive())?;
    let Reached { team, name: route_name, route, leaving } = reached.told_of_default(read.is_default);
    Refusal::of_page(call.page.foreign_to(route))?;
    let WithPreset { request, body: bytes, preset } =
        preset::added(route, route_name, &marks, read.request, read.body)?;
    let (request, body) = (Arc::new(request), ReadBody { bytes, share: body.share });
    // As it will leave: what fills the variables of a preset came in a header.
    holds_no_secret(app, &snapshot, call, &body).await?;
    let mut content = content_of(&snapshot, route, &request, &body.bytes)?;
    preset.iter().for_each(|preset| preset.complete(&mut content));
    let places = places(app, &key, team, route_name)?;
    let fetched = images::fetched(app, &snapshot, route, &content, &key.team).await?;
    let slot = app.spool.take_slot().map_err(Refusal::NoSpool)?;
    let asked_for = asked_for(&request);
    let worst = worst_case(app, &snapshot, route, asked_for);
    let (held, spare) = reserve(app, call, &key, &snapshot, route_name, worst).await?;
    let account = Account {
        app: app.clone(),
        call: call.clone(),
        route: route_name.clone(),
        asked_as: (route_name.as_str() != request.route).then(|| request.route.clone()),
        leaving,
        streamed: request.delivery != Delivery::Whole,
        snapshot: snapshot.clone(),
        key,
        marks,
        trace: asked.trace,
        beta: asked.beta,
        preset,
        asked_for,
        teaches: teaches(&request),
        sends_cap: sends_cap(team, asked_for),
        how_far: HowFar::default(),
    };
    let ticket = Ticket::open(account, slot, Taken { held, spare, places });
    let form = asked.content_type.and_then(|form| hyper::header::HeaderValue::from_bytes(form.as_bytes()).ok());
    Ok(Admitted { ticket, request, content: shared(content), fetched, unfit: Vec::new(), body, form })
}

/// Counts a connection for the team that asks on it.
fn counted(app: &App, snapshot: &Snapshot, connection: Option<&Arc<Connection>>, key: &AppKey) -> Result<(), Refusal> {
    let Some(connection) = connection else { return Ok(()) };
    let caller = || Caller { key: Some(key.id.clone()), ..Caller::default() };
    let counted = connection.asked_by(&key.team, &app.crowd.connections, snapshot.catalogue.teams.len());
    counted.map_err(|_| Refusal::TooManyConnections(caller()))
}

/// A place among the requests under way, where the team says how many there may be at once.
fn places(app: &App, key: &AppKey, team: &Team, route: &Name) -> Result<Vec<Place>, Refusal> {
    let full = |is_of_key: bool, limit: u32| {
        let caller = Caller { key: Some(key.id.clone()), route: Some(route.to_string()), wanted: None };
        Refusal::StreamsFull(Box::new(StreamsFull { team: key.team.clone(), is_of_key, limit, caller }))
    };
    let mut places = Vec::new();
    if let Some(limit) = team.streams.of_key {
        places.push(app.crowd.under_way.of_key(&key.id, limit.get()).ok_or_else(|| full(true, limit.get()))?);
    }
    if let Some(limit) = team.streams.of_team {
        places.push(app.crowd.under_way.of_team(&key.team, limit.get()).ok_or_else(|| full(false, limit.get()))?);
    }
    Ok(places)
}

/// A body that holds a live key or token of this installation, or the credential of an upstream, does not leave: whoever runs the model's
/// server would have it.
async fn holds_no_secret(app: &App, snapshot: &Snapshot, call: &Call, body: &ReadBody) -> Result<(), Refusal> {
    for found in snapshot.guarded.held_in(&body.bytes) {
        match found {
            held::Held::Key(text) => {
                let is_live = |key: &Arc<AppKey>| key.state(call.arrived_at) == KeyState::Good;
                if snapshot.keys.get(&text.hash).is_some_and(is_live) {
                    return Err(Refusal::SecretInBody(SecretHeld::Key(text.id.to_string())));
                }
            }
            // Where nobody can say whether it is live it is taken for that.
            held::Held::Token(text) => match app.store.person_of_token(&text, call.arrived_at).await {
                Ok(None) => {}
                Ok(Some(_)) | Err(_) => return Err(Refusal::SecretInBody(SecretHeld::Token(text.id.to_string()))),
            },
            held::Held::Credential(upstream) => {
                tracing::warn!(request = %call.id, %upstream, "a request held the credential of an upstream and was refused");
                return Err(Refusal::SecretInBody(SecretHeld::Credential));
            }
        }
    }
    Ok(())
}

/// What a request holds. Most are not looked into: where every offer speaks the app's dialect and takes all that it has, and there is
/// nothing in it that reaches beyond itself.
///
/// # Errors
/// [`Refusal::BadRequest`] for what cannot be understood.
pub fn content_of(snapshot: &Snapshot, route: &Route, request: &AppRequest, body: &Bytes) -> Result<Content, Refusal> {
    let dialect = request.endpoint.dialect;
    let has_to_look = |name| snapshot.catalogue.offer(name).is_some_and(|(up, offer)| is_choosy(offer, up, dialect));
    content_if(request, body, || route.offers().any(has_to_look))
}

/// The same, where an offer makes it necessary to look into the request, or not.
///
/// # Errors
/// When what must be read cannot be.
pub fn content_if(request: &AppRequest, body: &Bytes, is_choosy: impl FnOnce() -> bool) -> Result<Content, Refusal> {
    if let Kind::Embed(form, _) = &request.endpoint.kind {
        let embedding = EmbeddingRequest::read(*form, body).map_err(Refusal::BadRequest)?;
        return Ok(Content::Embedding(Box::new(embedding)));
    }
    let is_chat = matches!(request.endpoint.kind, Kind::Chat(_));
    let has_to = is_chat && (request.has_to_be_understood(body) || is_choosy());
    if !has_to {
        return Ok(Content::NotLookedAt);
    }
    let conversation = request.understood(body).map_err(Refusal::BadRequest)?;
    if let Some((path, said, is)) = mislabelled_image(&conversation) {
        let message = format!("`{path}` says {said}, but its bytes are {is}; say what it is");
        return Err(Refusal::BadRequest(BadRequest { param: Some(path), code: RefusalCode::ImageKind, message }));
    }
    Ok(Content::Conversation(Box::new(conversation)))
}

/// Shared from here on. Of most requests it is nothing, which each thread has once.
fn shared(content: Content) -> Arc<Content> {
    thread_local! {
        static NOT_LOOKED_AT: Arc<Content> = Arc::new(Content::NotLookedAt);
    }
    match content {
        Content::NotLookedAt => NOT_LOOKED_AT.with(Arc::clone),
        content @ (Content::Conversation(_) | Content::Embedding(_)) => Arc::new(content),
    }
}

/// How much a request asks for.
#[must_use]
pub fn asked_for(request: &AppRequest) -> AskedFor {
    let output = match (&request.endpoint.kind, request.output_limit) {
        // Vectors and counts put out no tokens.
        (Kind::Embed(..) | Kind::Count(_), _) => Output::None,
        (Kind::Chat(_) | Kind::Passed(_), Some(limit)) => Output::Limited(limit),
        (Kind::Chat(_) | Kind::Passed(_), None)
        | (Kind::Models | Kind::Model(_) | Kind::ShowModel | Kind::Loaded | Kind::Version, _) => Output::Uncapped,
    };
    AskedFor { input_estimate: request.input_tokens, output, choices: request.choices, images: request.images }
}

/// The most that any offer of the route makes of it: what is reserved before it is known which one serves.
fn worst_case(app: &App, snapshot: &Snapshot, route: &Route, asked_for: AskedFor) -> WorstCase {
    let at_offers = route.offers().map(|offer| asked_for.worst_at(&app.fleet.offer(offer), snapshot, offer));
    at_offers.reduce(WorstCase::or).unwrap_or(WorstCase {
        input_tokens: asked_for.input_estimate,
        output_tokens: 0,
        images: asked_for.images,
    })
}

/// Whether the offer's cap must be sent with a request whose app set no limit: something is refused past a limit that its output
/// counts against.
fn sends_cap(team: &Team, asked_for: AskedFor) -> bool {
    let counts_output = |quota: &Quota| match quota.measure {
        Measure::OutputTokens | Measure::Tokens | Measure::Cost => quota.at_limit == AtLimit::Refuse,
        Measure::Requests | Measure::InputTokens => false,
    };
    asked_for.output == Output::Uncapped && team.quotas.iter().any(counts_output)
}

/// Whether its input tells how an offer counts: text alone, of a kind whose usage is told in tokens of that text.
fn teaches(request: &AppRequest) -> bool {
    matches!(request.endpoint.kind, Kind::Chat(_) | Kind::Embed(..) | Kind::Passed(Passed::Completions))
}

/// Takes room in every quota of the team that does not depend on the offer: for the request itself, and for what its attempts use. When
/// one has none, the others get back what was taken: the guards are dropped.
async fn reserve(
    app: &App,
    call: &Call,
    key: &AppKey,
    snapshot: &Snapshot,
    route: &Name,
    worst: WorstCase,
) -> Result<(HeldOfRequest, Vec<Held>), Refusal> {
    // As large as they get: they are kept for as long as a stream is open.
    let is_of_request = |quota: &Quota| quota.measure == Measure::Requests;
    let of_attempts = snapshot.quotas(&key.team).filter(|(_, quota)| !is_of_request(quota)).count();
    let (mut held, mut spare) = (HeldOfRequest::new(), Vec::with_capacity(of_attempts));
    for (id, quota) in snapshot.quotas(&key.team) {
        let Some(amount) = worst.of(quota.measure) else { continue };
        let taken = app.allowances.reserve(id, quota, amount, call.arrived_at).await;
        let full = |over| QuotaFull {
            team: key.team.to_string(),
            over,
            now: call.arrived_at,
            caller: Caller { key: Some(key.id.clone()), route: Some(route.to_string()), wanted: None },
        };
        let taken = taken.map_err(|over| Refusal::OverQuota(Box::new(full(over))))?;
        if is_of_request(quota) { held.push(taken) } else { spare.push(taken) }
    }
    Ok((held, spare))
}
