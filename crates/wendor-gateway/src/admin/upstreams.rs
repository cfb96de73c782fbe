//! Upstreams: how each is, what it failed of last, and what it offers at which rate.

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::ability::Ability;
use wendor_core::catalog::upstream::{Hosting, Offer, Upstream};
use wendor_core::metering::calibration::Calibration;
use wendor_core::metering::rate::Rate;
use wendor_core::name::{Name, OfferName};

use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::credentials::Credential;
use crate::fleet::OfferState;
use crate::snapshot::Snapshot;

/// The last failure of an upstream since the service began.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LastFailureLine {
    /// When.
    pub at: DateTime<Utc>,
    /// At which model.
    pub model: String,
    /// The failure kind.
    pub kind: String,
    /// What was seen.
    pub detail: String,
}

/// What an offer costs per million tokens.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RateLine {
    /// First day in force.
    pub from: chrono::NaiveDate,
    /// Input.
    pub input: String,
    /// Input from the cache; as input when absent.
    pub input_cached: Option<String>,
    /// Input written to the cache; as input when absent.
    pub cache_written: Option<String>,
    /// Output.
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

/// An offer.
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
}

/// An upstream.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UpstreamLine {
    /// Its name.
    pub name: String,
    /// Its address.
    pub address: String,
    /// What it speaks: `chat-completions`, `responses`, `messages`, `generate-content` or `local-chat`.
    pub dialect: String,
    /// `own` or `hosted`.
    pub hosting: String,
    /// A label such as `on-site`.
    pub place: Option<String>,
    /// `not asked yet`, `well`, `degraded` or `failing`.
    pub state: String,
    /// Since when it fails without a success between, or is well without a failure; absent before it was asked.
    pub since: Option<DateTime<Utc>>,
    /// `none`, `found`, or what is missing.
    pub credential: String,
    /// Streams that it carries now.
    pub streams_open: u32,
    /// Streams that it can carry.
    pub streams: Option<u32>,
    /// Recent wait for a first token, in milliseconds.
    pub first_token_ms: Option<u64>,
    /// Until when it asked to be left alone.
    pub rests_until: Option<DateTime<Utc>>,
    /// Its last failure since the service began.
    pub last_failure: Option<LastFailureLine>,
    /// Its offers.
    pub offers: Vec<OfferLine>,
}

/// Upstreams by name.
#[utoipa::path(tag = "upstreams", responses((status = 200, body = Vec<UpstreamLine>, description = "The upstreams")))]
#[get("/upstreams")]
pub(super) async fn list(principal: Principal, app: web::Data<App>) -> Result<web::Json<Vec<UpstreamLine>>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see upstreams")?;
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    let line = |(name, upstream): (&Name, &Upstream)| upstream_line(&app, &snapshot, (name, upstream), now);
    Ok(web::Json(snapshot.catalogue.upstreams.iter().map(line).collect()))
}

fn upstream_line(
    app: &App,
    snapshot: &Snapshot,
    (name, upstream): (&Name, &Upstream),
    now: DateTime<Utc>,
) -> UpstreamLine {
    let state = app.fleet.upstream(name);
    let health = state.health().clone();
    let last_failure = health.last_failure().map(|last| LastFailureLine {
        at: last.at,
        model: last.model.clone(),
        kind: last.failure.kind.to_string(),
        detail: last.failure.detail.clone(),
    });
    let offers = upstream
        .offers
        .iter()
        .map(|(model, offer)| offer_line((snapshot, &state.offer(model)), (name, model, offer), now));
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
        state: health.state().as_str().to_owned(),
        since: health.since(),
        credential: match snapshot.credential(name) {
            Credential::None => "none".to_owned(),
            Credential::Found(_) => "found".to_owned(),
            Credential::Missing(why) => why.clone(),
        },
        streams_open: state.streams(),
        streams: upstream.streams.map(std::num::NonZeroU32::get),
        first_token_ms: health.first_token_ms(),
        rests_until: health.rests_until(now),
        last_failure,
        offers: offers.collect(),
    }
}

fn offer_line(
    (snapshot, known): (&Snapshot, &OfferState),
    (upstream, model, offer): (&Name, &str, &Offer),
    now: DateTime<Utc>,
) -> OfferLine {
    let name = OfferName::new(upstream.clone(), model).ok();
    let rate = name.and_then(|name| snapshot.rates.in_force(&name, now.date_naive()).map(rate_line));
    let words = |abilities: &Vec<Ability>| abilities.iter().map(|ability| ability.as_str().to_owned()).collect();
    OfferLine {
        model: model.to_owned(),
        output_cap: offer.output_cap.map(std::num::NonZeroU32::get),
        context_window: offer.context_window.map(std::num::NonZeroU32::get),
        abilities: offer.abilities.as_ref().map(words),
        rate,
        input_counting: input_counting(known.calibration()),
        reports_usage: !known.keeps_usage(),
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
