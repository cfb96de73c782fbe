//! What upstreams serve beside what their offers promise, what changed there, and what is proven.

use std::collections::BTreeMap;

use actix_web::{get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::upstream::Upstream;
use wendor_core::diagnosis::inventory::{EventKind, Inventory, Promise, promise};
use wendor_core::diagnosis::listing::is_called;
use wendor_core::diagnosis::proof::{Kept, Outcome, Proof, Standing};
use wendor_core::name::{Name, OfferName};
use wendor_core::words;
use wendor_store::inventory::{LastUse, StoredInventory};

use super::check_report::{ModelLine, model_line};
use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::checks::spending::ROUTE;
use crate::tasks;
use crate::tasks::inventory::Which;

/// How far back a last use is looked for.
const LAST_USE_DAYS: i64 = 90;

/// A proof of an ability.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ProofLine {
    /// Of what: tools, images-in, json, reasoning, embeddings, context.
    pub proof: String,
    /// `proven`, `absent` or `unproven`.
    pub standing: String,
    /// When it was last tried.
    pub at: Option<DateTime<Utc>>,
    /// What came instead.
    pub why: Option<String>,
}

/// A model, as it is served and as it is offered.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ServedLine {
    /// The name of the model.
    pub model: String,
    /// As it is served; null when it is not.
    pub served: Option<ModelLine>,
    /// Whether it is offered.
    pub offered: bool,
    /// `kept`, `gone`, `other weights` or `not known`; empty for what is not offered.
    pub promise: String,
    /// The same in a sentence, where someone should know.
    pub says: Option<String>,
    /// The hour in which it was last used through here.
    pub last_used: Option<DateTime<Utc>>,
    /// Whose request used it last in that hour.
    pub last_team: Option<String>,
    /// What is proven of it.
    pub proofs: Vec<ProofLine>,
}

/// What one upstream serves.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InventoryLine {
    /// Which.
    pub upstream: String,
    /// When it was last looked at; never when absent.
    pub looked_at: Option<DateTime<Utc>>,
    /// Why that look saw nothing, if so; what is told is from before then.
    pub failed: Option<String>,
    /// Why it is not looked at by itself at the moment, if it is not.
    pub held_back: Option<String>,
    /// The server's version, where it tells it.
    pub server_version: Option<String>,
    /// The memory that loaded models hold, where it tells that.
    pub loaded_bytes: Option<u64>,
    /// Its models, offered ones first.
    pub models: Vec<ServedLine>,
}

/// Something that changed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InventoryEventLine {
    /// When it was noticed.
    pub at: DateTime<Utc>,
    /// Where.
    pub upstream: String,
    /// `appeared`, `vanished`, `weights`, `size` or `version`.
    pub kind: String,
    /// In a sentence.
    pub says: String,
}

/// What all upstreams serve.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InventoryShown {
    /// One line for each in the catalogue.
    pub upstreams: Vec<InventoryLine>,
    /// Recent changes, newest first.
    pub events: Vec<InventoryEventLine>,
}

/// What to look at.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RefreshAsk {
    /// One upstream; every one when absent.
    #[serde(default)]
    pub upstream: Option<String>,
}

/// What upstreams serve beside what is offered.
#[utoipa::path(tag = "upstreams", responses((status = 200, body = InventoryShown, description = "What they serve")))]
#[get("/inventory")]
pub(super) async fn show(principal: Principal, app: web::Data<App>) -> Result<web::Json<InventoryShown>, Problem> {
    principal.must(principal.standing.only_team().is_none(), "see what upstreams serve")?;
    Ok(web::Json(shown(&app).await?))
}

/// Look at once.
#[utoipa::path(tag = "upstreams", request_body = RefreshAsk, responses(
    (status = 200, body = InventoryShown, description = "What they serve now"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/inventory/refresh")]
pub(super) async fn refresh(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<RefreshAsk>,
) -> Result<web::Json<InventoryShown>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "look at upstreams")?;
    let snapshot = crate::admin::revise::fresh(&app).await?;
    let only = body
        .upstream
        .as_ref()
        .map(|name| named::upstream(&principal, "look at upstreams", &snapshot, name))
        .transpose()?;
    let subject = only.as_ref().map_or_else(|| "every upstream".to_owned(), |name| format!("upstream {name}"));
    app.store.audit(&principal.doing(&app), &Deed::of(Action::InventoryRefreshed, subject)).await?;
    // What was put off is looked at by the service itself, later.
    let _put_off = tasks::inventory::refresh(&app, only.as_ref().map_or(Which::Every, Which::One)).await;
    Ok(web::Json(shown(&app).await?))
}

struct Known {
    inventories: BTreeMap<Name, StoredInventory>,
    proofs: BTreeMap<(OfferName, Proof), Kept>,
    uses: BTreeMap<String, LastUse>,
    now: DateTime<Utc>,
}

async fn shown(app: &App) -> Result<InventoryShown, Problem> {
    let now = app.clock.now();
    let known = Known {
        inventories: app.store.inventories().await?,
        proofs: app.store.proofs().await?,
        uses: app.store.last_uses(now - TimeDelta::days(LAST_USE_DAYS), ROUTE).await?,
        now,
    };
    let events = app.store.inventory_events().await?;
    let snapshot = app.now_serving();
    let upstreams = snapshot.catalogue.upstreams.iter().map(|(name, upstream)| line(app, &known, name, upstream));
    let event = |stored: wendor_store::inventory::StoredEvent| InventoryEventLine {
        at: stored.at,
        kind: stored.event.kind.as_str().to_owned(),
        says: event_words(&stored),
        upstream: stored.upstream.to_string(),
    };
    Ok(InventoryShown { upstreams: upstreams.collect(), events: events.into_iter().map(event).collect() })
}

fn line(app: &App, known: &Known, name: &Name, upstream: &Upstream) -> InventoryLine {
    let stored = known.inventories.get(name);
    let seen = stored.map(|stored| &stored.seen);
    let mut models: Vec<ServedLine> =
        upstream.offers.keys().map(|model| served_line(known, name, upstream, model, seen)).collect();
    for model in seen.iter().flat_map(|seen| &seen.models) {
        if !upstream.offers.keys().any(|offered| is_called(&model.name, offered)) {
            models.push(served_line(known, name, upstream, &model.name, seen));
        }
    }
    let loaded: Vec<u64> = seen.iter().flat_map(|seen| &seen.models).filter_map(|model| model.loaded_bytes).collect();
    InventoryLine {
        upstream: name.to_string(),
        looked_at: stored.map(|stored| stored.looked_at),
        failed: stored.and_then(|stored| stored.failed.clone()),
        held_back: held_back(app, name, upstream),
        server_version: seen.and_then(|seen| seen.server_version.clone()),
        loaded_bytes: (!loaded.is_empty()).then(|| loaded.iter().sum()),
        models,
    }
}

/// Why it is not looked at by itself at the moment, if it is not.
fn held_back(app: &App, name: &Name, upstream: &Upstream) -> Option<String> {
    if upstream.is_not_looked_at {
        return Some("not looked at by itself (`looks`)".to_owned());
    }
    let state = app.fleet.upstream(name);
    if !upstream.serves_several() && state.answers() > 0 {
        return Some(
            "looked at once the answers there are over; if it serves several at once, say so (`streams`)".to_owned(),
        );
    }
    let until = state.looks().not_before()?;
    (until > app.clock.now()).then(|| format!("asked too often; not looked at before {} UTC", until.format("%H:%M")))
}

fn served_line(known: &Known, name: &Name, upstream: &Upstream, model: &str, seen: Option<&Inventory>) -> ServedLine {
    let served = seen.and_then(|seen| seen.model(model));
    let offer = upstream.offers.get(model);
    let (word, says) = match offer.map(|offer| promise(model, offer, seen)) {
        None => ("", None),
        Some(Promise::Kept) => ("kept", None),
        Some(Promise::Unknown) => ("not known", None),
        Some(Promise::Gone) => ("gone", Some(format!("{name} does not serve {model} any more; requests for it fail."))),
        Some(Promise::OtherWeights { pinned, found, otherwise }) => {
            let then = match otherwise {
                wendor_core::catalog::weights::OtherWeights::Stop => "no request goes there",
                wendor_core::catalog::weights::OtherWeights::Warn => "requests go on",
            };
            let says = format!("pinned to {}, and {} is there: {then}.", words::digest(&pinned), words::digest(&found));
            ("other weights", Some(says))
        }
    };
    let full = OfferName::new(name.clone(), model).ok();
    let last = full.as_ref().and_then(|full| known.uses.get(&full.to_string()));
    let digest = served.and_then(|served| served.digest.as_deref());
    let kept = |proof: Proof| known.proofs.get(&(full.clone()?, proof));
    let is_shown = |proof: &Proof| {
        let is_asked = offer.is_some_and(|offer| proof.is_asked(offer, upstream.dialect));
        is_asked || kept(*proof).is_some()
    };
    let proofs = Proof::ALL.into_iter().filter(is_shown).map(|proof| proof_line(kept(proof), proof, digest, known.now));
    ServedLine {
        model: model.to_owned(),
        served: served.map(model_line),
        offered: offer.is_some(),
        promise: word.to_owned(),
        says,
        last_used: last.map(|last| last.hour),
        last_team: last.map(|last| last.team.clone()),
        proofs: proofs.collect(),
    }
}

fn proof_line(kept: Option<&Kept>, proof: Proof, digest: Option<&str>, now: DateTime<Utc>) -> ProofLine {
    let why = kept.and_then(|kept| match &kept.outcome {
        Outcome::Proven => None,
        Outcome::Absent { why } => Some(why.clone()),
    });
    ProofLine {
        proof: proof.as_str().to_owned(),
        standing: Standing::of(kept, digest, now).as_str().to_owned(),
        at: kept.map(|kept| kept.at),
        why,
    }
}

fn event_words(stored: &wendor_store::inventory::StoredEvent) -> String {
    let event = &stored.event;
    let model = event.model.as_deref().unwrap_or("the server");
    let digest = |text: &Option<String>| text.as_deref().map_or_else(|| "unknown weights".to_owned(), words::digest);
    let plain = |text: &Option<String>| text.clone().unwrap_or_default();
    let upstream = &stored.upstream;
    match event.kind {
        EventKind::Appeared => format!("{model} appeared at {upstream}; it must be offered before it can be used"),
        EventKind::Vanished => format!("{model} vanished from {upstream}"),
        EventKind::Weights => {
            format!(
                "{model} at {upstream} stands for other weights: {} before, {} now",
                digest(&event.before),
                digest(&event.after)
            )
        }
        EventKind::Size => {
            format!(
                "{model} at {upstream} has another size: {} bytes before, {} now",
                plain(&event.before),
                plain(&event.after)
            )
        }
        EventKind::Version => {
            format!("{upstream} has another version: {} before, {} now", plain(&event.before), plain(&event.after))
        }
    }
}
