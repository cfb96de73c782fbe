//! Requests that are under way at this instance, and those that have ended since one looked last.

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wendor_core::metering::detail::WaitFor;
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::name::{Name, OfferName};
use wendor_core::request_id::RequestId;

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::requests::{RequestLine, request_line};
use crate::app::App;
use crate::under_way::{Running, Step};

/// Requests that are told at once; the count says how many there are.
const TOLD: usize = 200;

/// Which requests.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct UnderWayParams {
    /// Only of this team.
    pub team: Option<String>,
    /// Only to this route.
    pub route: Option<String>,
    /// Only those that are at this upstream, or have ended there.
    pub upstream: Option<String>,
    /// Only this one.
    pub request: Option<String>,
    /// `cursor` of the look before: those that have ended since are told too.
    pub after: Option<u64>,
}

/// A request that is under way.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UnderWayLine {
    /// The one that the ledger will have.
    pub id: String,
    /// When it arrived.
    pub at: DateTime<Utc>,
    /// Whose key it came with.
    pub team: String,
    /// Id of its key.
    pub key: String,
    /// The route asked.
    pub route: String,
    /// `interactive` or `batch`.
    pub lane: String,
    /// The app's `wendor-run`.
    pub run: Option<String>,
    /// Whether as a stream.
    pub streamed: bool,
    /// `planned`, `waiting for room`, `waiting for a load`, `sent` or `answering`.
    pub step: String,
    /// Where it waits, was sent to, or is answered.
    pub offer: Option<String>,
    /// Its place in the queue, while it waits for room.
    pub place: Option<usize>,
    /// The number of the attempt, while it is sent.
    pub attempt: Option<u32>,
    /// How long it has been at this step, in milliseconds.
    pub step_ms: u64,
    /// How long ago it arrived, in milliseconds.
    pub whole_ms: u64,
    /// Output tokens that have come, about; while it is answered.
    pub output_tokens: Option<u64>,
}

/// Requests that have not ended, and those that wait for room.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UnderWayShown {
    /// When it was looked.
    pub at: DateTime<Utc>,
    /// The requests under way, the oldest first; 200 at most.
    pub requests: Vec<UnderWayLine>,
    /// How many there are.
    pub count: usize,
    /// Those that have ended since the look before, in the order in which they ended; 200 at most.
    pub ended: Vec<RequestLine>,
    /// To be given as `after` next time.
    pub cursor: u64,
    /// Code of the currency.
    pub currency: String,
}

struct Wanted {
    team: Option<Name>,
    route: Option<Name>,
    upstream: Option<Name>,
    request: Option<RequestId>,
}

impl Wanted {
    fn is(&self, team: &Name, route: &Name, id: &RequestId, offer: Option<&OfferName>) -> bool {
        self.team.as_ref().is_none_or(|wanted| wanted == team)
            && self.route.as_ref().is_none_or(|wanted| wanted == route)
            && self.request.as_ref().is_none_or(|wanted| wanted == id)
            && self.upstream.as_ref().is_none_or(|wanted| offer.is_some_and(|offer| offer.upstream() == wanted))
    }
}

/// Requests under way at this instance: how far each is. What it was made of stands in its record once it has ended.
#[utoipa::path(tag = "figures", params(UnderWayParams), responses(
    (status = 200, body = UnderWayShown, description = "What is under way"),
    (status = 404, body = ProblemDetails, description = "No such team, route or upstream")))]
#[get("/requests/under-way")]
pub(super) async fn show(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<UnderWayParams>,
) -> Result<web::Json<UnderWayShown>, Problem> {
    let wanted = read(&principal, &app, &params).await?;
    let (ended, cursor) = app.recent.since(params.after.unwrap_or(u64::MAX), TOLD);
    let is_ended = |entry: &LedgerEntry| {
        entry.asked().is_some() && wanted.is(&entry.team, &entry.route, &entry.request, entry.offer.as_ref())
    };
    let ended = ended.iter().map(|spooled| &spooled.entry).filter(|entry| is_ended(entry)).map(request_line).collect();
    // One that ends between the two looks is among those that have ended the next time.
    let all = app.under_way.all();
    let lines: Vec<UnderWayLine> = all.iter().filter_map(|running| line(running.as_ref(), &wanted)).collect();
    let count = lines.len();
    Ok(web::Json(UnderWayShown {
        at: app.clock.now(),
        requests: lines.into_iter().take(TOLD).collect(),
        count,
        ended,
        cursor,
        currency: app.now_serving().catalogue.currency.clone(),
    }))
}

async fn read(principal: &Principal, app: &App, params: &UnderWayParams) -> Result<Wanted, Problem> {
    let snapshot = app.now_serving();
    let team = params.team.as_deref().map(|team| named::recorded_team(principal, &snapshot, team)).transpose()?;
    let route = params.route.as_deref().map(|route| named::recorded_route(&snapshot, route)).transpose()?;
    let upstream = params.upstream.as_deref();
    let upstream = upstream.map(|name| named::recorded_upstream(&snapshot, name)).transpose()?;
    // Only what is there can be under way.
    let narrowed = named::Narrowed {
        team: team.as_ref(),
        upstream: upstream.as_ref(),
        route: route.as_ref().filter(|_| principal.standing.only_team().is_none()),
        ..named::Narrowed::default()
    };
    named::must_be_there(principal, app, narrowed).await?;
    let id = |text: &str| {
        let missing = || Problem::NoSuch { what: "request", name: text.to_owned(), nearest: None };
        RequestId::parse(text).ok_or_else(missing)
    };
    Ok(Wanted {
        team: principal.narrow(team)?,
        route,
        upstream,
        request: params.request.as_deref().map(id).transpose()?,
    })
}

fn line(running: &dyn Running, wanted: &Wanted) -> Option<UnderWayLine> {
    let seen = running.seen();
    let (step, since_ms) = seen.how_far.now();
    let whole_ms = seen.whole_ms;
    let mut line = UnderWayLine {
        id: seen.id.to_string(),
        at: seen.at,
        team: seen.team.to_string(),
        key: seen.key.to_owned(),
        route: seen.route.to_string(),
        lane: seen.lane.as_str().to_owned(),
        run: seen.run.map(str::to_owned),
        streamed: seen.is_streamed,
        step: "planned".to_owned(),
        offer: None,
        place: None,
        attempt: None,
        step_ms: whole_ms.saturating_sub(since_ms),
        whole_ms,
        output_tokens: None,
    };
    let offer = match step {
        Step::Planned => None,
        Step::Waiting(WaitFor::Room, offer, place) => {
            line.step = "waiting for room".to_owned();
            line.place = place.and_then(|place| place.number());
            Some(offer)
        }
        Step::Waiting(WaitFor::Load, offer, _) => {
            line.step = "waiting for a load".to_owned();
            Some(offer)
        }
        Step::Sent(offer, number) => {
            line.step = "sent".to_owned();
            line.attempt = Some(number);
            Some(offer)
        }
        Step::Answering(offer, tokens) => {
            line.step = "answering".to_owned();
            line.output_tokens = Some(tokens);
            Some(offer)
        }
    };
    line.offer = offer.as_ref().map(ToString::to_string);
    wanted.is(seen.team, seen.route, seen.id, offer.as_ref()).then_some(line)
}
