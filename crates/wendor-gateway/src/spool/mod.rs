//! The spool: the local append-only file that a ledger entry goes to before the database has it.
//!
//! 1. Admission takes a [`SpoolSlot`]; without a free one, or with a disk that takes nothing, requests are refused.
//! 2. Settling appends through the slot, which cannot fail for want of room, and gives a [`Written`] to wait for.
//! 3. One thread writes what has come since the last write in one go ([`writer`]), then lets the waiting ones go on.
//! 4. The drain task reads what is written ([`reader`]), puts it into the database and notes how far it is.
//!
//! There is no other way into the ledger. Killing the process leaves the segments, which the next start drains.

mod reader;
mod writer;

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};

use bytes::Bytes;
use tokio::sync::{Notify, oneshot};
use wendor_core::metering::spool_frame;

pub use reader::SpoolReader;
use writer::Job;

/// Requests under way and entries not yet written together: what the channel to the writer must be able to hold.
const SLOTS: usize = 65_536;

/// A place in the spool.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Place {
    pub(crate) segment: u64,
    pub(crate) offset: u64,
}

/// What writer, reader and everyone who asks share.
#[derive(Debug)]
pub(crate) struct Shared {
    folder: PathBuf,
    /// Entries appended and not yet in the database. Written by settling (+) and by the drain (-).
    pending: AtomicU64,
    /// Whether the last write went through. Written by the writer alone.
    is_writable: AtomicBool,
    /// How far whole frames are written. A mutex, because both numbers belong together.
    written: Mutex<Place>,
    /// Wakes the drain.
    has_more: Notify,
    /// Slots taken. Relaxed: a bound that is passed by a few for an instant is still a bound.
    taken: AtomicUsize,
}

/// Why the spool cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum SpoolError {
    /// The folder or a file in it cannot be used.
    #[error("the spool folder {folder} cannot be used: {source}")]
    Folder {
        /// Which.
        folder: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// Another service has it.
    #[error("the spool folder {0} is in use by another service; give each its own with --spool")]
    InUse(PathBuf),
}

/// There is no room for a further entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoSlot {
    /// Every slot is taken.
    #[error("{SLOTS} requests are under way already")]
    Full,
    /// The last write failed.
    #[error("the disk of the spool takes nothing at the moment")]
    NotWritable,
}

/// The writing side, shared by all requests.
#[derive(Debug)]
pub struct Spool {
    entrance: Arc<Entrance>,
    _lock: File,
}

/// Where entries go in. The writer's thread ends when nobody holds it any more.
#[derive(Debug)]
struct Entrance {
    jobs: SyncSender<Job>,
    shared: Arc<Shared>,
}

/// Room for one entry; dropping it gives it back.
#[derive(Debug)]
pub struct SpoolSlot(Arc<Entrance>);

impl Drop for SpoolSlot {
    fn drop(&mut self) {
        self.0.shared.taken.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Becomes ready when an entry is in the spool.
#[derive(Debug)]
pub struct Written(oneshot::Receiver<()>);

impl Written {
    /// Whether the entry is in the spool.
    pub fn poll_written(&mut self, context: &mut Context<'_>) -> Poll<()> {
        // A writer that is gone will never answer; the process is ending then, and waiting would only hold it up.
        std::pin::Pin::new(&mut self.0).poll(context).map(|_| ())
    }

    /// Waits until the entry is in the spool. Dropped midway it changes nothing: the entry is on its way.
    pub async fn wait(mut self) {
        std::future::poll_fn(|context| self.poll_written(context)).await;
    }
}

impl Spool {
    /// Opens the spool in `folder`: takes it for this process, starts a new segment and the writer's thread.
    ///
    /// # Errors
    /// [`SpoolError`] when the folder cannot be used or is in use.
    pub fn open(folder: &Path) -> Result<(Self, SpoolReader), SpoolError> {
        let failed = |source| SpoolError::Folder { folder: folder.to_owned(), source };
        std::fs::create_dir_all(folder).map_err(failed)?;
        let lock = File::create(folder.join("lock")).map_err(failed)?;
        lock.try_lock().map_err(|error| match error {
            std::fs::TryLockError::WouldBlock => SpoolError::InUse(folder.to_owned()),
            std::fs::TryLockError::Error(source) => failed(source),
        })?;
        let segments = segments_in(folder).map_err(failed)?;
        let number = segments.last().map_or(1, |last| last + 1);
        let segment = writer::Segment::create(folder, number).map_err(failed)?;
        let shared = Arc::new(Shared {
            folder: folder.to_owned(),
            pending: AtomicU64::new(0),
            is_writable: AtomicBool::new(true),
            written: Mutex::new(segment.place()),
            has_more: Notify::new(),
            taken: AtomicUsize::new(0),
        });
        let reader = SpoolReader::open(shared.clone()).map_err(failed)?;
        let (jobs, incoming) = sync_channel(SLOTS);
        let for_thread = shared.clone();
        std::thread::Builder::new()
            .name("spool-writer".to_owned())
            .spawn(move || writer::run(segment, &incoming, &for_thread))
            .map_err(failed)?;
        Ok((Self { entrance: Arc::new(Entrance { jobs, shared }), _lock: lock }, reader))
    }

    /// Takes room for one entry.
    ///
    /// # Errors
    /// [`NoSlot`] when there is none.
    pub fn take_slot(&self) -> Result<SpoolSlot, NoSlot> {
        let shared = &self.entrance.shared;
        // Relaxed: the flag stands alone, and an instant more or less does not matter.
        if !shared.is_writable.load(Ordering::Relaxed) {
            return Err(NoSlot::NotWritable);
        }
        // Made before it is looked at whether there was room, so that it is given back if there was none.
        let taken_before = shared.taken.fetch_add(1, Ordering::Relaxed);
        let slot = SpoolSlot(self.entrance.clone());
        if taken_before < SLOTS { Ok(slot) } else { Err(NoSlot::Full) }
    }

    /// Entries that the database does not have yet.
    #[must_use]
    pub fn pending(&self) -> u64 {
        self.entrance.shared.pending.load(Ordering::Relaxed)
    }

    /// Whether the last write went through.
    #[must_use]
    pub fn is_writable(&self) -> bool {
        self.entrance.shared.is_writable.load(Ordering::Relaxed)
    }

    /// Bytes of all segments on the disk.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn bytes(&self) -> std::io::Result<u64> {
        let sizes = segments_in(&self.entrance.shared.folder)?.into_iter().map(|number| {
            // A segment may be drained and gone between the listing and this.
            std::fs::metadata(segment_path(&self.entrance.shared.folder, number)).map_or(0, |file| file.len())
        });
        Ok(sizes.sum())
    }
}

impl SpoolSlot {
    /// Appends an entry as its frame. The slot is free again once it is written.
    #[must_use]
    pub fn append(self, frame: Bytes) -> Written {
        let (done, written) = oneshot::channel();
        let entrance = self.0.clone();
        // Relaxed: a count to be looked at; the channel orders the entry itself.
        entrance.shared.pending.fetch_add(1, Ordering::Relaxed);
        let job = Job { frame, done, _slot: self };
        // There are as many places in the channel as slots, so it is never full; it is closed only when the writer died,
        // which drops the job and lets whoever waits go on.
        if entrance.jobs.try_send(job).is_err() {
            tracing::error!("the spool's writer is gone: an entry is lost");
        }
        Written(written)
    }
}

fn segment_path(folder: &Path, number: u64) -> PathBuf {
    folder.join(spool_frame::segment_name(number))
}

/// The numbers of all segments in `folder`, in order.
fn segments_in(folder: &Path) -> std::io::Result<Vec<u64>> {
    let mut numbers = Vec::new();
    for file in std::fs::read_dir(folder)? {
        let name = file?.file_name();
        numbers.extend(name.to_str().and_then(spool_frame::segment_number));
    }
    numbers.sort_unstable();
    Ok(numbers)
}

#[cfg(test)]
mod tests;
