//! Drains the spools of instances that never came back, where they lie on the same volume as our own, each once.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_store::Store;

use super::spool_drain::{DrainError, drain_all};
use crate::app::App;
use crate::spool::{Claim, Options, Place, Spool, Sync, claim};

/// How often it is looked for orphans at most; an instance that was gone for a shorter time than that is asked for more often.
const LOOK_EVERY: Duration = Duration::from_secs(60);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, store: Store, mut stop: watch::Receiver<bool>) {
    let gone_for = app.settings.spool_adopt_after;
    loop {
        if let Err(error) = adopt(&app, &store, gone_for).await {
            tracing::warn!(%error, "a spool without its instance could not be drained; it is tried again");
        }
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(LOOK_EVERY.min(gone_for.max(Duration::from_millis(100)))) => {}
        }
    }
}

async fn adopt(app: &App, store: &Store, gone_for: Duration) -> Result<(), DrainError> {
    let installation = store.installation().await?;
    let own = app.spool.claim();
    for orphan in claim::orphans(own, &installation, gone_for)? {
        let folder = orphan.folder().display().to_string();
        let drained = drain_orphan(store, orphan).await?;
        tracing::info!(folder, drained, "the spool of an instance that is gone is drained");
    }
    Ok(())
}

/// Drains a claimed spool and gives its folder back. A failure leaves it to be claimed again.
async fn drain_orphan(store: &Store, orphan: Claim) -> Result<u64, DrainError> {
    let place = store.spool_place(orphan.id()).await?;
    let place = place.map(|place| Place { segment: place.segment, offset: place.offset });
    // Nothing is written to it, so nothing must be kept free or made durable.
    let options = Options { sync: Sync::Never, segment_bytes: 4_096, keep_free_bytes: 0 };
    let (spool, mut reader) = Spool::open(orphan, place, options).map_err(std::io::Error::other)?;
    let drained = reader.each_pending(|_| {})?;
    drain_all(store, &mut reader, true).await?;
    drop(reader);
    spool.into_claim().give_back()?;
    Ok(drained)
}
