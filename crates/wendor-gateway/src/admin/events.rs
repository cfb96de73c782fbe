//! Events, the webhooks that are told of them, and the log of deliveries.

use actix_web::{get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wendor_core::catalog::event_kind::EventKind;
use wendor_core::watch::event::Event;
use wendor_store::events::{DeliveryLogged, DueDelivery, StoredEvent};

use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::tasks::deliveries::deliver;

/// Events or deliveries in one answer.
const PAGE: i64 = 50;

/// A longer list is not given at a time.
const MOST: i64 = 200;

/// The task leaves a test alone for so long: whoever tries the webhook delivers it.
const TRIED_HERE: TimeDelta = TimeDelta::seconds(60);

/// Narrows and pages events.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct EventParams {
    /// Only of this kind: `health`, `slow`, `spool`, `quota`, `expiry`, `models`, `fault` or `test`.
    pub kind: Option<String>,
    /// Only those with a smaller number: `next` of the page before.
    pub below: Option<i64>,
    /// How many; 50 when absent, 200 at most.
    pub limit: Option<i64>,
}

/// Which deliveries.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct DeliveryParams {
    /// How many; 50 when absent, 200 at most.
    pub limit: Option<i64>,
}

/// Something that happened, with how it went to webhooks.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EventLine {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// `health`, `slow`, `spool`, `quota`, `expiry`, `models`, `fault` or `test`.
    pub kind: String,
    /// `began`, `ended` or `happened`.
    pub state: String,
    /// What it is about, by name.
    pub subject: String,
    /// What is the matter: goes on after the subject.
    pub says: String,
    /// What else is known; may be empty.
    pub why: String,
}

/// A page of events, newest first.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EventPage {
    /// Newest first.
    pub events: Vec<EventLine>,
    /// Goes on after this page, as `below`; nothing follows when absent.
    pub next: Option<i64>,
}

/// A delivery of an event to a webhook.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DeliveryLine {
    /// Its number, which the message carries as `wendor-delivery`.
    pub id: i64,
    /// Name in the catalogue.
    pub webhook: String,
    /// `waiting`, `delivered` or `given-up`.
    pub state: String,
    /// How often it was tried.
    pub attempts: u32,
    /// When it is tried next, while it waits.
    pub next_at: Option<DateTime<Utc>>,
    /// When it was tried last.
    pub tried_at: Option<DateTime<Utc>>,
    /// The status of the last answer.
    pub status: Option<u16>,
    /// Why it was not delivered.
    pub failed: Option<String>,
    /// Of what.
    pub event: EventLine,
}

/// Where messages go, and how the last ones fared.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct WebhookLine {
    /// In the catalogue.
    pub name: String,
    /// Where events are told.
    pub address: String,
    /// The kinds of events that it is told of.
    pub events: Vec<String>,
    /// `found`, or why what its messages are signed with is not.
    pub secret: String,
    /// Deliveries that wait.
    pub waiting: i64,
    /// Its last delivery, whatever came of it.
    pub last: Option<DeliveryLine>,
}

fn event_line(stored: StoredEvent) -> EventLine {
    let Event { at, kind, state, subject, says, why, .. } = stored.event;
    let (kind, state) = (kind.as_str().to_owned(), state.as_str().to_owned());
    EventLine { id: stored.id, at, kind, state, subject, says, why }
}

fn delivery_line(logged: DeliveryLogged) -> DeliveryLine {
    let is_waiting = logged.state == wendor_store::events::DeliveryState::Waiting;
    DeliveryLine {
        id: logged.id,
        webhook: logged.webhook,
        state: logged.state.as_str().to_owned(),
        attempts: logged.attempts,
        next_at: is_waiting.then_some(logged.next_at),
        tried_at: logged.tried_at,
        status: logged.status,
        failed: logged.failed,
        event: event_line(logged.event),
    }
}

fn sees_all(principal: &Principal) -> Result<(), Problem> {
    principal.must(principal.standing.only_team().is_none(), "see events")
}

/// What began, ended or happened.
#[utoipa::path(tag = "events", params(EventParams), responses(
    (status = 200, body = EventPage, description = "The events"),
    (status = 400, body = ProblemDetails, description = "No such kind")))]
#[get("/events")]
pub(super) async fn list(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<EventParams>,
) -> Result<web::Json<EventPage>, Problem> {
    sees_all(&principal)?;
    let kind = |text: &str| {
        let known: Vec<&str> = EventKind::WORDS.iter().map(|(word, _)| *word).collect();
        let message = format!("`{text}` is not one of {}, test", known.join(", "));
        EventKind::parse(text).ok_or(Problem::BadValue { field: "kind", message })
    };
    let kind = params.kind.as_deref().map(kind).transpose()?;
    let limit = params.limit.unwrap_or(PAGE).clamp(1, MOST);
    let events = app.store.events(kind, params.below, limit).await?;
    let is_full = i64::try_from(events.len()).is_ok_and(|length| length == limit);
    let next = events.last().filter(|_| is_full).map(|last| last.id);
    Ok(web::Json(EventPage { events: events.into_iter().map(event_line).collect(), next }))
}

/// The webhooks of the catalogue, each with what waits for it and its last delivery.
#[utoipa::path(tag = "events", responses((status = 200, body = Vec<WebhookLine>, description = "The webhooks")))]
#[get("/webhooks")]
pub(super) async fn webhooks(
    principal: Principal,
    app: web::Data<App>,
) -> Result<web::Json<Vec<WebhookLine>>, Problem> {
    sees_all(&principal)?;
    let waiting = app.store.waiting_deliveries().await?;
    let snapshot = app.now_serving();
    let mut lines = Vec::new();
    for (name, webhook) in &snapshot.catalogue.webhooks {
        let last = app.store.deliveries(Some(name.as_str()), 1).await?.pop();
        let wanted = EventKind::WORDS.iter().filter(|(_, kind)| webhook.wants(*kind));
        lines.push(WebhookLine {
            name: name.to_string(),
            address: webhook.address.as_str().to_owned(),
            events: wanted.map(|(word, _)| (*word).to_owned()).collect(),
            secret: app.keyring.webhook_secret(webhook).map_or_else(|why| why, |_| "found".to_owned()),
            waiting: waiting.iter().find(|(webhook, _)| webhook == name.as_str()).map_or(0, |(_, count)| *count),
            last: last.map(delivery_line),
        });
    }
    Ok(web::Json(lines))
}

/// The latest deliveries to a webhook, newest first.
#[utoipa::path(tag = "events", params(("name" = String, Path, description = "The webhook"), DeliveryParams), responses(
    (status = 200, body = Vec<DeliveryLine>, description = "The deliveries"),
    (status = 404, body = ProblemDetails, description = "No such webhook")))]
#[get("/webhooks/{name}/deliveries")]
pub(super) async fn deliveries(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
    params: web::Query<DeliveryParams>,
) -> Result<web::Json<Vec<DeliveryLine>>, Problem> {
    sees_all(&principal)?;
    let name = named::webhook(&app.now_serving(), &name)?;
    let limit = params.limit.unwrap_or(PAGE).clamp(1, MOST);
    let logged = app.store.deliveries(Some(name.as_str()), limit).await?;
    Ok(web::Json(logged.into_iter().map(delivery_line).collect()))
}

/// Try a webhook: it is sent an event of the kind `test` now, and what came of that is told.
#[utoipa::path(tag = "events", params(("name" = String, Path, description = "The webhook")), responses(
    (status = 200, body = DeliveryLine, description = "What came of it"),
    (status = 404, body = ProblemDetails, description = "No such webhook")))]
#[post("/webhooks/{name}/try")]
pub(super) async fn try_one(
    principal: Principal,
    app: web::Data<App>,
    name: web::Path<String>,
) -> Result<web::Json<DeliveryLine>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "try webhooks")?;
    let name = named::webhook(&app.now_serving(), &name)?;
    let now = app.clock.now();
    let event = Event::of_test(name.as_str(), &principal.name, now);
    let written = app.store.add_event(&event, &[name.as_str()], now + TRIED_HERE).await?.unwrap_or_default();
    let id = *written.first().ok_or(Problem::Internal)?;
    let logged = async || {
        let logged = app.store.deliveries(Some(name.as_str()), MOST).await?;
        logged.into_iter().find(|logged| logged.id == id).ok_or(Problem::Internal)
    };
    let due = DueDelivery { id, webhook: name.to_string(), attempts: 0, event: logged().await?.event };
    deliver(&app, &due).await;
    Ok(web::Json(delivery_line(logged().await?)))
}
