//! Watches what comes of a revision for as long as the bounds hold that were set with it, and puts the one before it in force again when one
//! is passed.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_core::audit::Doer;
use wendor_core::catalog::difference;
use wendor_store::StoreError;
use wendor_store::revisions::NewRevision;

use super::revision_watch;
use crate::admin::revise::lines;
use crate::app::App;

/// How often it is looked.
const EVERY: Duration = Duration::from_millis(500);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(EVERY) => {}
        }
        match look(&app).await {
            // Somebody else, or another instance, was first.
            Ok(()) | Err(StoreError::Overtaken { .. }) => {}
            Err(error) => tracing::debug!(%error, "what came of the revision is not known; it is looked again"),
        }
    }
}

async fn look(app: &App) -> Result<(), StoreError> {
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    let guard = snapshot.guard.as_ref().filter(|guard| now < guard.until(snapshot.made_at));
    let Some(guard) = guard.filter(|_| snapshot.revision > 1) else { return Ok(()) };
    let outcome = app.store.outcome_of_revision(snapshot.revision, snapshot.made_at).await?;
    let Some(why) = guard.passed(&outcome) else { return Ok(()) };
    let undone = snapshot.revision;
    let (before, catalogue) = app.store.revision(undone - 1).await?;
    let changes = lines(difference::between(&snapshot.catalogue, &catalogue));
    let new = NewRevision {
        base: undone,
        catalogue: &catalogue,
        rates: &[],
        by: &Doer::service(now),
        note: &format!("revision {undone} undone, and revision {} restored, since {why}", before.number),
        changes: serde_json::to_value(&changes).unwrap_or_default(),
        guard: None,
        undoes: Some((undone, &why)),
    };
    let number = app.store.make_revision(new).await?;
    tracing::warn!(
        revision = undone,
        by = number,
        restored = before.number,
        why,
        "a revision was undone by its own bounds"
    );
    revision_watch::look(app).await
}
