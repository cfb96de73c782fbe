//! Drains the spool into the database, in order; while that is away, waits and tries again.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_core::metering::entry::Spooled;
use wendor_store::ledger::MAX_BATCH;
use wendor_store::{Store, StoreError};

use crate::app::App;
use crate::spool::SpoolReader;

/// Entries of one transaction: large enough that a backlog drains quickly, small enough that one failure repeats little.
const BATCH: usize = MAX_BATCH;

/// How long entries are gathered before they are drained: a transaction costs much the same for one as for hundreds, and nobody
/// reads the records sooner than this.
const GATHER: Duration = Duration::from_millis(100);

/// First and longest pause after a failure.
const PAUSES: (Duration, Duration) = (Duration::from_millis(250), Duration::from_secs(5));

#[derive(Debug, thiserror::Error)]
enum DrainError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the spool cannot be read: {0}")]
    Spool(#[from] std::io::Error),
}

/// Runs until `stop` says so, then drains what is left once, without trying again.
/// `store` has connections of its own, since it is used after the server's workers are gone.
pub async fn run(app: Arc<App>, store: Store, mut reader: SpoolReader, mut stop: watch::Receiver<bool>) {
    let mut pause = PAUSES.0;
    let mut is_failing = false;
    loop {
        // Read before the drain: what was settled before the signal is in the spool by then.
        let is_last = *stop.borrow();
        match drain_all(&store, &mut reader, is_last).await {
            Ok(()) => {
                if std::mem::take(&mut is_failing) {
                    tracing::info!("the spool drains again");
                }
                pause = PAUSES.0;
                if is_last {
                    return;
                }
                tokio::select! {
                    _stopped = stop.changed() => {}
                    () = async { reader.has_more().await; tokio::time::sleep(GATHER).await } => {}
                }
            }
            Err(error) => {
                // Said once an outage, not once a try.
                if !std::mem::replace(&mut is_failing, true) {
                    tracing::warn!(%error, pending = app.spool.pending(), "the spool does not drain; it grows until it can");
                }
                if is_last {
                    return;
                }
                tokio::select! {
                    _stopped = stop.changed() => {}
                    () = tokio::time::sleep(pause) => {}
                }
                pause = (pause * 2).min(PAUSES.1);
            }
        }
    }
}

/// Drains what there is. What comes meanwhile is gathered for the next time, unless this `is_last`.
async fn drain_all(store: &Store, reader: &mut SpoolReader, is_last: bool) -> Result<(), DrainError> {
    loop {
        // A read of a local file that was just written: it comes from the page cache.
        let batch = reader.read(BATCH)?;
        if batch.entries.is_empty() {
            return Ok(());
        }
        match store.drain(&batch.entries).await {
            Ok(_new) => {}
            Err(error) if error.is_away() => return Err(error.into()),
            // One entry that the database will never take must not keep all others out.
            Err(_refused) => drain_singly(store, reader, &batch.entries).await?,
        }
        reader.done(&batch)?;
        if batch.is_all && !is_last {
            return Ok(());
        }
    }
}

/// Drains entry by entry; what the database refuses is set aside, and said.
async fn drain_singly(store: &Store, reader: &SpoolReader, entries: &[Spooled]) -> Result<(), DrainError> {
    for settled in entries {
        match store.drain(std::slice::from_ref(settled)).await {
            Ok(_new) => {}
            Err(error) if error.is_away() => return Err(error.into()),
            Err(error) => {
                let aside = reader.set_entry_aside(settled)?;
                tracing::error!(request = %settled.entry.request, %error, aside = %aside.display(), "the database refuses an entry: it is set aside");
            }
        }
    }
    Ok(())
}
