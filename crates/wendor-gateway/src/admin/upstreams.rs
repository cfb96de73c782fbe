//! Upstreams: how each is, what it failed of last, and what it offers at which rate.

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::upstream::{Hosting, Offer, Upstream};
use wendor_core::metering::calibration::Calibration;
use wendor_core::metering::rate::Rate;
use wendor_core::name::{Name, OfferName};
use wendor_core::routing::health::{Health, overall};
use wendor_wire::ability::Ability;

use super::health_view::{HealthLine, LastFailureLine, health_line, last_failure};
use super::limits_view::{LimitLine, limit_line};
use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::credentials::Credential;
use crate::fleet::OfferState;
use crate::snapshot::Snapshot;

/// What an offer costs per million tokens.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RateLine {
    /// First day in force.
    pub from: chrono::NaiveDate,
    /// Per million tokens.
    pub input: String,
    /// Input from the cache; as input when absent.
    pub input_cached: Option<String>,
    /// Input written to the cache; as input when absent.
    pub cache_written: Option<String>,
    /// Per million tokens, thinking included.
    pub output: String,
    /// An image; unpriced when absent.
    pub image: Option<String>,
    /// An image of a size, where that differs.
    pub image_sizes: std::collections::BTreeMap<String, String>,
}

/// How an offer counts input, learnt from what its upstream reports since the service began.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InputCounting {
    /// Bytes of a request that make one token.
    pub bytes_a_token: String,
    /// How far estimates are off on average, in per cent.
    pub error_percent: String,
}

/// A model at an upstream, with its state and rates.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct OfferLine {
    /// The upstream's name for the model.
    pub model: String,
    /// The most output tokens of one choice.
    pub output_cap: Option<u32>,
    /// Tokens of prompt and answer together; null: none told.
    pub context_window: Option<u32>,
    /// What it can do; null: all that its dialect has.
    pub abilities: Option<Vec<String>>,
    /// Its rate today; unpriced when absent.
    pub rate: Option<RateLine>,
    /// How it counts input; absent before it is known.
    pub input_counting: Option<InputCounting>,
    /// Whether its last whole answer told what it used; when not, its lines are estimates.
    pub reports_usage: bool,
    /// How it is.
    pub health: HealthLine,
    /// Since when its server loads the model.
    pub loading_since: Option<DateTime<Utc>>,
    /// How often the model was loaded while requests came, since the service began.
    pub cold_starts: u64,
    /// How long that took the last time, in milliseconds.
    pub cold_start_ms: Option<u64>,
    /// Limits of its own by the minute.
    pub limits: Vec<LimitLine>,
    /// The usual wait for a first token of late, in milliseconds.
    pub first_token_ms: Option<u64>,
}

/// A model server, with its state and offers.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UpstreamLine {
    /// In the catalogue.
    pub name: String,
    /// Without a credential.
    pub address: String,
    /// What it speaks: `chat-completions`, `responses`, `messages`, `generate-content` or `local-chat`.
    pub dialect: String,
    /// `own` or `hosted`.
    pub hosting: String,
    /// A label such as `on-site`.
    pub place: Option<String>,
    /// `no traffic yet`, `well`, `degraded`, `on trial` or `failing`: what its connections and its offers are together.
    pub state: String,
    /// Since when; absent before it was asked.
    pub since: Option<DateTime<Utc>>,
    /// State of connecting alone, apart from its offers' answers.
    pub connections: HealthLine,
    /// Whether it takes no new requests.
    pub drained: bool,
    /// `none`, `found`, or what is missing.
    pub credential: String,
    /// Streams that it carries now.
    pub streams_open: u32,
    /// Streams that it can carry.
    pub streams: Option<u32>,
    /// The usual wait for a first token of late at the offer that was asked last, in milliseconds.
    pub first_token_ms: Option<u64>,
    /// Tokens under way there, as they are estimated.
    pub tokens_open: u64,
    /// Tokens that it can have under way.
    pub tokens: Option<u32>,
    /// Requests that wait for room there.
    pub waiting: u32,
    /// Limits by the minute of all of it.
    pub limits: Vec<LimitLine>,
    /// The last failure of its connections and offers since the service began.
    pub last_failure: Option<LastFailureLine>,
    /// In the order of the catalogue.
    pub offers: Vec<OfferLine>,
}

/// Upstreams by name.
#[utoipa::path(tag = "upstreams", responses((status = 200, body = Vec<UpstreamLine>, description = "The upstreams")))]
#[get("/upstreams")]
pub(super) async fn list(principal: Principal, app: web::Data<App>) -> Result<web::Json<Vec<UpstreamLine>>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see upstreams")?;
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    let line = |(name, upstream): (&Name, &Upstream)| upstream_line(&app, &snapshot, name, upstream, now);
    Ok(web::Json(snapshot.catalogue.upstreams.iter().map(line).collect()))
}

fn upstream_line(app: &App, snapshot: &Snapshot, name: &Name, upstream: &Upstream, now: DateTime<Utc>) -> UpstreamLine {
    let state = app.fleet.upstream(name);
    let connections = state.connections();
    let of_offers: Vec<Health> = upstream.offers.keys().map(|model| state.offer(model).health()).collect();
    let overall = overall(connections.state(), of_offers.iter().map(Health::state));
    let all = || std::iter::once(&connections).chain(&of_offers);
    let fullness = state.gate().fullness();
    let offers =
        upstream.offers.iter().map(|(model, offer)| offer_line(snapshot, &state.offer(model), name, model, offer, now));
    UpstreamLine {
        name: name.to_string(),
        address: upstream.address.as_str().to_owned(),
        dialect: upstream.dialect.as_str().to_owned(),
        hosting: match upstream.hosting {
            Hosting::Own => "own",
            Hosting::Hosted => "hosted",
        }
        .to_owned(),
        place: upstream.place.clone(),
        state: overall.as_str().to_owned(),
        since: all().filter(|health| health.state() == overall).filter_map(Health::since).max(),
        connections: health_line(&connections, now),
        drained: upstream.is_drained,
        credential: match snapshot.credential(name) {
            Credential::None => "none".to_owned(),
            Credential::Found(_) => "found".to_owned(),
            Credential::Missing(why) => why.clone(),
        },
        streams_open: fullness.streams,
        streams: upstream.streams.map(std::num::NonZeroU32::get),
        first_token_ms: of_offers
            .iter()
            .max_by_key(|health| health.last_success())
            .and_then(|health| health.waits().usual_ms()),
        tokens_open: fullness.tokens,
        tokens: upstream.tokens.map(std::num::NonZeroU32::get),
        waiting: fullness.waiting,
        limits: state.gate().standings(upstream.a_minute()).iter().map(limit_line).collect(),
        last_failure: all().filter_map(last_failure).max_by_key(|failure| failure.at),
        offers: offers.collect(),
    }
}

fn offer_line(
    snapshot: &Snapshot,
    known: &OfferState,
    upstream: &Name,
    model: &str,
    offer: &Offer,
    now: DateTime<Utc>,
) -> OfferLine {
    let name = OfferName::new(upstream.clone(), model).ok();
    let rate = name.and_then(|name| snapshot.rates.in_force(&name, now.date_naive()).map(rate_line));
    let words = |abilities: &Vec<Ability>| abilities.iter().map(|ability| ability.as_str().to_owned()).collect();
    let (health, loading) = (known.health(), known.loading());
    OfferLine {
        loading_since: loading.since(now),
        cold_starts: loading.cold_starts(),
        cold_start_ms: loading.last().map(|cold| cold.took_ms),
        model: model.to_owned(),
        output_cap: offer.output_cap.map(std::num::NonZeroU32::get),
        context_window: offer.context_window.map(std::num::NonZeroU32::get),
        abilities: offer.abilities.as_ref().map(words),
        rate,
        input_counting: input_counting(known.calibration()),
        reports_usage: !known.keeps_usage(),
        health: health_line(&health, now),
        limits: known
            .gate(offer.a_minute())
            .map_or_else(Vec::new, |gate| gate.standings(offer.a_minute()).iter().map(limit_line).collect()),
        first_token_ms: health.waits().usual_ms(),
    }
}

fn input_counting(known: Calibration) -> Option<InputCounting> {
    let (bytes, error) = (known.bytes_a_token_hundredths()?, known.error_permille()?);
    Some(InputCounting {
        bytes_a_token: format!("{}.{:02}", bytes / 100, bytes % 100),
        error_percent: format!("{}.{}", error / 10, error % 10),
    })
}

/// A rate as it is shown.
#[must_use]
pub fn rate_line(rate: &Rate) -> RateLine {
    RateLine {
        from: rate.effective_on,
        input: rate.input.to_string(),
        input_cached: rate.input_cached.map(|value| value.to_string()),
        cache_written: rate.cache_written.map(|value| value.to_string()),
        output: rate.output.to_string(),
        image: rate.image.map(|value| value.to_string()),
        image_sizes: rate.image_sizes.iter().map(|(size, value)| (size.to_string(), value.to_string())).collect(),
    }
}
