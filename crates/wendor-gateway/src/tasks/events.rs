//! Looks time and again over what may need attention, and writes what has changed, and every other event, with a delivery for each webhook that
//! wants it.

use std::sync::Arc;
use std::time::Duration;

use chrono::TimeDelta;
use tokio::sync::watch;
use tokio::time::Instant;
use wendor_core::watch::conditions::Conditions;
use wendor_store::StoreError;

use crate::admin::findings;
use crate::app::App;

/// When what could not be written is tried again.
const AGAIN: Duration = Duration::from_secs(2);

/// How long events are kept.
const KEPT: TimeDelta = TimeDelta::days(90);

/// How often old ones are forgotten.
const FORGET_EVERY: Duration = Duration::from_secs(3_600);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    let mut conditions = Conditions::default();
    let every = app.settings.timing.look_every;
    let (mut look_at, mut forget_at) = (Instant::now() + every, Instant::now());
    loop {
        let is_behind = write(&app).await.is_err();
        let next = if is_behind { Instant::now() + AGAIN } else { look_at };
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => break,
            () = app.events.come.notified(), if !is_behind => {}
            () = tokio::time::sleep_until(next) => {}
        }
        let now = Instant::now();
        if now >= look_at {
            look(&app, &mut conditions).await;
            look_at = Instant::now() + every;
        }
        if now >= forget_at {
            // Tried again the next time.
            if let Err(error) = app.store.forget_events(app.clock.now() - KEPT).await {
                tracing::debug!(%error, "old events could not be forgotten");
            }
            forget_at = now + FORGET_EVERY;
        }
    }
    // What came last is not lost with the process, if the database takes it.
    if let Err(error) = write(&app).await {
        tracing::warn!(%error, "the last events could not be written and are lost");
    }
}

async fn look(app: &App, conditions: &mut Conditions) {
    let now = app.clock.now();
    let currency = app.now_serving().catalogue.currency.clone();
    let findings = match findings::all(app, now).await {
        Ok(found) => found,
        // What needs the database is not known; what does not is told all the same.
        Err(_) => findings::of_spool(app, false),
    };
    for event in conditions.look(&app.ids.instance(), &findings, now, &currency) {
        app.events.happened(event);
    }
}

/// Writes what there is, in the order in which it came.
async fn write(app: &App) -> Result<(), StoreError> {
    while let Some(event) = app.events.first() {
        let snapshot = app.now_serving();
        let wants = snapshot.catalogue.webhooks.iter().filter(|(_, webhook)| webhook.wants(event.kind));
        let webhooks: Vec<&str> = wants.map(|(name, _)| name.as_str()).collect();
        let written = app.store.add_event(&event, &webhooks, event.at).await?;
        if written.is_some_and(|deliveries| !deliveries.is_empty()) {
            app.events.due.notify_one();
        }
        app.events.written(&event);
    }
    Ok(())
}
