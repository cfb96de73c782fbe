//! Delivers events to webhooks: signed, at least once, again after waits that grow, until the webhook takes it or a day has passed.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use chrono::TimeDelta;
use futures_util::future::join_all;
use serde_json::json;
use tokio::sync::watch;
use wendor_core::catalog::webhook::Webhook;
use wendor_core::watch::event::Event;
use wendor_core::watch::signature::sign;
use wendor_store::events::{DeliveryState, DueDelivery, StoredEvent, Tried};

use super::inventory::peer_at;
use crate::app::App;
use crate::checks::talk::Credentials;

/// How often it is looked what is due, beside being told.
const EVERY: Duration = Duration::from_secs(2);

/// How long a webhook may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// Delivered at once.
const AT_ONCE: i64 = 16;

/// The first wait before it is tried again; each is twice as long as the one before.
const FIRST_WAIT: TimeDelta = TimeDelta::seconds(5);

/// Waits double with each failure, up to this.
const LONGEST_WAIT: TimeDelta = TimeDelta::hours(1);

/// What could not be delivered for so long is given up.
const GIVEN_UP_AFTER: TimeDelta = TimeDelta::hours(24);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = app.events.due.notified() => {}
            () = tokio::time::sleep(EVERY) => {}
        }
        if app.now_serving().catalogue.webhooks.is_empty() {
            continue;
        }
        match app.store.due_deliveries(app.clock.now(), AT_ONCE).await {
            Ok(due) => tokio::select! {
                // What is under way then is due again after a while, and may come twice.
                _stopped = stop.wait_for(|stop| *stop) => return,
                _tried = join_all(due.iter().map(|due| deliver(&app, due))) => {}
            },
            Err(error) => tracing::debug!(%error, "deliveries could not be read; they are tried again"),
        }
    }
}

/// Tries a delivery, and writes down what came of it.
pub async fn deliver(app: &App, due: &DueDelivery) -> Tried {
    let sent = match app.now_serving().catalogue.webhooks.get(due.webhook.as_str()) {
        Some(webhook) => send(app, webhook, due).await,
        None => Err((None, "the webhook is not in the catalogue any more".to_owned())),
    };
    let at = app.clock.now();
    let (status, failed) = match sent {
        Ok(status) => (Some(status), None),
        Err((status, why)) => (status, Some(why)),
    };
    let wait = (FIRST_WAIT * (1 << due.attempts.min(12))).min(LONGEST_WAIT);
    let is_over = at + wait - due.event.event.at > GIVEN_UP_AFTER;
    let state = match &failed {
        None => DeliveryState::Delivered,
        Some(_) if is_over => DeliveryState::GivenUp,
        Some(_) => DeliveryState::Waiting,
    };
    if let Some(why) = &failed {
        tracing::warn!(
            webhook = due.webhook,
            delivery = due.id,
            why,
            state = state.as_str(),
            "an event was not delivered"
        );
    }
    let tried = Tried { state, at, next_at: at + wait, status, failed };
    if let Err(error) = app.store.tried_delivery(due.id, &tried).await {
        // It is due again, and then delivered twice: at least once is what is promised.
        tracing::warn!(%error, delivery = due.id, "what came of a delivery could not be written");
    }
    tried
}

type NotSent = (Option<u16>, String);

async fn send(app: &App, webhook: &Webhook, due: &DueDelivery) -> Result<u16, NotSent> {
    let secret = app.keyring.webhook_secret(webhook).map_err(|why| (None, why))?;
    let peer = peer_at(app, webhook.address.server(), None, None).await.map_err(|why| (None, why))?;
    let body = body_of(&due.event);
    let delivery = due.id.to_string();
    let signed = sign(&secret, &due.webhook, &delivery, &body, app.clock.now());
    let headers: BTreeMap<String, String> = [
        ("wendor-event", due.event.event.kind.as_str().to_owned()),
        ("wendor-delivery", delivery),
        ("content-digest", signed.content_digest),
        ("signature-input", signed.input),
        ("signature", signed.signature),
    ]
    .into_iter()
    .map(|(name, value)| (name.to_owned(), value))
    .collect();
    let heard = peer.with_headers(&headers).post(webhook.address.as_str(), Credentials::None, body, PATIENCE).await;
    match heard {
        Ok(heard) if (200..300).contains(&heard.status) => Ok(heard.status),
        Ok(heard) => Err((Some(heard.status), format!("it answered {}", heard.status))),
        Err(_) => Err((None, format!("no answer from {}", webhook.address.server().authority()))),
    }
}

/// The message.
#[must_use]
pub fn body_of(stored: &StoredEvent) -> Bytes {
    let Event { at, kind, state, subject, says, why, .. } = &stored.event;
    let message = json!({
        "id": stored.id,
        "at": at,
        "kind": kind,
        "state": state,
        "subject": subject,
        "says": says,
        "why": why,
    });
    Bytes::from(message.to_string())
}
