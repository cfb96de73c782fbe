//! Drains the spool into the database, in order. Whatever keeps the database from taking entries is waited for; only an entry whose own
//! values it refuses is set aside, found by halving its batch.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::entry::Spooled;
use wendor_store::ledger::{MAX_BATCH, SpoolPlace};
use wendor_store::{Store, StoreError};

use crate::app::App;
use crate::spool::{Batch, Place, SpoolReader};

/// Entries of one transaction: large enough that a backlog drains quickly, small enough that one failure repeats little.
const BATCH: usize = MAX_BATCH;

/// How long entries are gathered before they are drained: a transaction costs much the same for one as for hundreds, and nobody
/// reads the records sooner than this.
const GATHER: Duration = Duration::from_millis(100);

/// First and longest pause after a failure.
const PAUSES: (Duration, Duration) = (Duration::from_millis(250), Duration::from_secs(5));

/// Why draining stopped before the end.
#[derive(Debug, thiserror::Error)]
pub enum DrainError {
    /// The database takes nothing at the moment.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The spool cannot be read, or what is refused cannot be set aside.
    #[error("the spool cannot be read or written: {0}")]
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
///
/// # Errors
/// When the database takes nothing, or the spool cannot be read; what was drained before is noted.
pub async fn drain_all(store: &Store, reader: &mut SpoolReader, is_last: bool) -> Result<(), DrainError> {
    loop {
        // A read of a local file that was just written: it comes from the page cache.
        let batch = reader.read(BATCH)?;
        if batch.entries.is_empty() {
            // Something may be left to delete that could not be before.
            return Ok(reader.let_go()?);
        }
        drain_batch(store, reader, &batch).await?;
        if batch.is_all && !is_last {
            return Ok(());
        }
    }
}

/// Drains a batch, in halves where the database refuses something in it, down to the entry that it refuses.
async fn drain_batch(store: &Store, reader: &mut SpoolReader, batch: &Batch) -> Result<(), DrainError> {
    let spool = reader.id().to_owned();
    let noted = |place: Place| SpoolPlace { spool: spool.clone(), segment: place.segment, offset: place.offset };
    let (mut from, mut size) = (0, batch.entries.len());
    while let Some(part) =
        batch.entries.get(from..(from + size).min(batch.entries.len())).filter(|part| !part.is_empty())
    {
        let place = batch.place_after(from + part.len());
        match store.drain(part, Some(&noted(place))).await {
            Ok(_new) => {}
            Err(error) if !error.is_about_values() => return Err(error.into()),
            Err(_) if part.len() > 1 => {
                size = part.len() / 2;
                continue;
            }
            Err(error) => {
                for refused in part {
                    drain_refused(store, reader, refused, &error, &noted(place)).await?;
                }
            }
        }
        reader.done(place, part.len())?;
        from += part.len();
        // One bad entry was passed; the rest may be fine together.
        size = batch.entries.len();
    }
    Ok(())
}

/// An entry that the database refuses by itself. Nearly always it is the detail that it cannot take: then the line goes in without it.
async fn drain_refused(
    store: &Store,
    reader: &SpoolReader,
    entry: &Spooled,
    error: &StoreError,
    place: &SpoolPlace,
) -> Result<(), DrainError> {
    let request = &entry.entry.request;
    let why = format!("the database refused the detail: {error}");
    let without = Spooled { detail: Some(RequestDetail::refused(&why).to_json()), ..entry.clone() };
    match store.drain(std::slice::from_ref(&without), Some(place)).await {
        Ok(_new) => {
            tracing::error!(%request, %error, "the database refuses the detail of an entry: its line is recorded without it");
            return Ok(());
        }
        Err(error) if !error.is_about_values() => return Err(error.into()),
        Err(_) => {}
    }
    let aside = reader.set_aside(entry, &error.to_string())?;
    tracing::error!(%request, %error, aside = %aside.display(), "the database refuses an entry: it is set aside");
    store.drain(&[], Some(place)).await?;
    Ok(())
}
