//! Looks for changes twice a second and replaces the snapshot whole; whoever makes a change here has it looked for at once. While the
//! database is away the last snapshot goes on serving.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;

use crate::app::App;
use crate::snapshot::Snapshot;

/// A revoked key is refused everywhere within a second: half of it for looking, half for reading.
const PERIOD: Duration = Duration::from_millis(500);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    let mut was_away = false;
    loop {
        tokio::select! {
            _stopped = stop.changed() => return,
            () = tokio::time::sleep(PERIOD) => {}
        }
        let looked = look(&app).await;
        // Said when it changes, not twice a second.
        match (&looked, was_away) {
            (Err(error), false) => {
                tracing::warn!(%error, "changes cannot be looked for; the state known so far goes on serving")
            }
            (Ok(()), true) => tracing::info!("changes are looked for again"),
            (Err(_), true) | (Ok(()), false) => {}
        }
        was_away = looked.is_err();
    }
}

/// Replaces the snapshot if something has changed since it was read.
///
/// # Errors
/// When the database is away or holds something unreadable.
pub async fn look(app: &App) -> Result<(), wendor_store::StoreError> {
    // One at a time: a look that began earlier must not put back what it read before a later one.
    let _turn = app.looking.lock().await;
    let (now, before) = (app.clock.now(), app.now_serving());
    let changes = app.store.changes().await?;
    if changes == before.changes {
        app.confirm(now);
        return Ok(());
    }
    if changes.are_of_keys_since(before.changes) {
        let snapshot = before.with_changed_keys(&app.store, changes).await?;
        app.confirm(now);
        app.snapshot.store(Arc::new(snapshot));
        return Ok(());
    }
    let snapshot = match Snapshot::read(&app.store, &app.keyring, &app.hosts, now).await {
        Ok(snapshot) => snapshot,
        Err(error) => {
            // A revision that cannot be read here must not keep a revoked key alive.
            if !error.is_away() && before.keys_changes != changes {
                app.snapshot.store(Arc::new(before.with_keys(&app.store, changes).await?));
                tracing::error!(%error, "a change cannot be read: the revision of before goes on serving, with the keys as they are now");
            }
            return Err(error);
        }
    };
    app.confirm(now);
    tracing::info!(revision = snapshot.revision, keys = snapshot.keys.len(), "now serving");
    app.snapshot.store(Arc::new(snapshot));
    app.look_soon.notify_one();
    Ok(())
}
