//! The spool: the local append-only file that a ledger entry goes to before the database has it.
//!
//! 1. The folder is claimed for this process ([`Claim`]), and opened once it is known how far the database has drained it.
//! 2. Admission takes a [`SpoolSlot`]; without a free one, or without room on the disk, requests are refused.
//! 3. Settling appends through the slot, which cannot fail for want of room, and gives a [`Written`] to wait for.
//! 4. One thread writes what has come since the last write in one go ([`writer`]), makes it durable as the setting says, then lets
//!    those who wait go on, a thread at a time ([`desk`]).
//! 5. The drain reads what is written ([`reader`]) and puts it into the database, together with the place that it has come to.
//!    What cannot be read, or what the database will never take, is set aside ([`aside`]).
//!
//! There is no other way into the ledger. Killing the process leaves the segments, which the next start drains; the segments of an
//! instance that never comes back are drained by another one of the same volume ([`claim::orphans`]).

pub mod aside;
pub mod claim;
mod desk;
mod disk;
mod reader;
mod segment;
mod writer;

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use aside::Aside;
use desk::Desks;
use tokio::sync::Notify;
use wendor_core::metering::spool_frame;
use writer::Queue;

pub use claim::Claim;
pub use reader::{Batch, SpoolReader};

/// Requests and attempts under way, and entries not yet written, together.
const SLOTS: usize = 65_536;

/// When what was written is made durable.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sync {
    /// Before the last byte of the answer goes out.
    Always,
    /// So long after it was written, at most.
    Batch(Duration),
    /// When the system sees fit.
    Never,
}

/// How a spool is kept.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// When what was written is made durable.
    pub sync: Sync,
    /// From this size on a new segment is begun, so that drained ones can be deleted.
    pub segment_bytes: u64,
    /// While less than this is free on the disk, requests are refused.
    pub keep_free_bytes: u64,
}

/// A place in the spool.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// Number of the segment.
    pub segment: u64,
    /// Bytes from its beginning.
    pub offset: u64,
}

/// What writer, reader and everyone who asks share.
#[derive(Debug)]
struct Shared {
    folder: PathBuf,
    options: Options,
    queue: Queue,
    desks: Desks,
    aside: Aside,
    /// Entries appended and not yet in the database. Written by settling (+) and by the drain (-).
    pending: AtomicU64,
    /// Whether the last write went through. Written by the writer alone.
    is_writable: AtomicBool,
    /// Whether enough is free on the disk. Written by the writer alone.
    has_room: AtomicBool,
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
    /// Its entries belong to another database.
    #[error(
        "the spool folder {folder} holds entries of another installation ({found}), not of this database ({wanted}): \
         start with the database that they belong to, or give another folder with --spool"
    )]
    OtherInstallation {
        /// Which.
        folder: PathBuf,
        /// Whose it is.
        found: String,
        /// Whose the database is.
        wanted: String,
    },
}

/// There is no room for a further entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoSlot {
    /// Every slot is taken.
    #[error("{SLOTS} requests are under way already")]
    Full,
    /// The last write failed.
    #[error("the disk of the spool is full or not writable")]
    NotWritable,
    /// What is free on the disk is kept for what is under way.
    #[error("the disk of the spool is nearly full")]
    NoRoom,
}

/// The writing side, shared by all requests.
#[derive(Debug)]
pub struct Spool {
    closing: Closing,
    claim: Claim,
}

/// Ends the writer's thread when it goes.
#[derive(Debug)]
struct Closing {
    shared: Arc<Shared>,
    writer: Option<std::thread::JoinHandle<()>>,
}

/// Room for one entry; dropping it gives it back.
#[derive(Debug)]
pub struct SpoolSlot(Arc<Shared>);

impl Drop for SpoolSlot {
    fn drop(&mut self) {
        self.0.taken.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Becomes ready when an entry is in the spool, as durable as the setting says.
#[derive(Debug)]
pub struct Written {
    shared: Arc<Shared>,
    number: u64,
}

impl Written {
    /// Whether the entry is in the spool.
    pub fn poll_written(&mut self, context: &mut Context<'_>) -> Poll<()> {
        self.shared.desks.poll(self.number, &self.shared, context)
    }

    /// Waits until the entry is in the spool. Dropped midway it changes nothing: the entry is on its way.
    pub async fn wait(mut self) {
        std::future::poll_fn(|context| self.poll_written(context)).await;
    }
}

impl Spool {
    /// Opens a claimed spool, of which everything before `drained` is in the database: starts a new segment and the writer's thread.
    ///
    /// # Errors
    /// [`SpoolError`] when the folder cannot be used.
    pub fn open(claim: Claim, drained: Option<Place>, options: Options) -> Result<(Self, SpoolReader), SpoolError> {
        let folder = claim.folder().to_owned();
        let failed = |source| SpoolError::Folder { folder: folder.clone(), source };
        let drained = claim.begins_at(drained).map_err(failed)?;
        let aside = Aside::open(&folder).map_err(failed)?;
        // Numbers never come back, whatever was deleted: a place noted in the database must mean one place.
        let last = segments_in(&folder).map_err(failed)?.last().copied().unwrap_or(0);
        let number = last.max(drained.segment).max(aside.last_segment()) + 1;
        let segment = segment::Segment::create(&folder, number, options).map_err(failed)?;
        let shared = Arc::new(Shared {
            options,
            queue: Queue::default(),
            desks: Desks::default(),
            aside,
            pending: AtomicU64::new(0),
            is_writable: AtomicBool::new(true),
            has_room: AtomicBool::new(disk::free_bytes(&folder).is_none_or(|free| free >= options.keep_free_bytes)),
            written: Mutex::new(segment.place()),
            has_more: Notify::new(),
            taken: AtomicUsize::new(0),
            folder: folder.clone(),
        });
        let reader = SpoolReader::new(shared.clone(), claim.id().to_owned(), drained);
        let for_thread = shared.clone();
        let writer = std::thread::Builder::new()
            .name("spool-writer".to_owned())
            .spawn(move || writer::run(segment, &for_thread))
            .map_err(failed)?;
        Ok((Self { closing: Closing { shared, writer: Some(writer) }, claim }, reader))
    }

    fn shared(&self) -> &Arc<Shared> {
        &self.closing.shared
    }

    /// Takes room for one entry.
    ///
    /// # Errors
    /// [`NoSlot`] when there is none.
    pub fn take_slot(&self) -> Result<SpoolSlot, NoSlot> {
        let shared = self.shared();
        // Relaxed: each flag stands alone, and an instant more or less does not matter.
        if !shared.is_writable.load(Ordering::Relaxed) {
            return Err(NoSlot::NotWritable);
        }
        if !shared.has_room.load(Ordering::Relaxed) {
            return Err(NoSlot::NoRoom);
        }
        // Made before it is looked at whether there was room, so that it is given back if there was none.
        let taken_before = shared.taken.fetch_add(1, Ordering::Relaxed);
        let slot = SpoolSlot(shared.clone());
        if taken_before < SLOTS { Ok(slot) } else { Err(NoSlot::Full) }
    }

    /// Entries that the database does not have yet, those set aside not counted.
    #[must_use]
    pub fn pending(&self) -> u64 {
        self.shared().pending.load(Ordering::Relaxed)
    }

    /// Whether requests are taken: the last write went through, and the disk has room.
    #[must_use]
    pub fn is_writable(&self) -> bool {
        self.shared().is_writable.load(Ordering::Relaxed) && self.shared().has_room.load(Ordering::Relaxed)
    }

    /// The folder as it is claimed.
    #[must_use]
    pub fn claim(&self) -> &Claim {
        &self.claim
    }

    /// Ends the spool, and keeps its folder. The writer has written what was appended.
    #[must_use]
    pub fn into_claim(self) -> Claim {
        let Self { claim, closing } = self;
        drop(closing);
        claim
    }

    /// What was set aside.
    #[must_use]
    pub fn aside(&self) -> &Aside {
        &self.shared().aside
    }

    /// Bytes of all segments on the disk.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn bytes(&self) -> std::io::Result<u64> {
        let sizes = segments_in(&self.shared().folder)?.into_iter().map(|number| {
            // A segment may be drained and gone between the listing and this.
            std::fs::metadata(segment_path(&self.shared().folder, number)).map_or(0, |file| file.len())
        });
        Ok(sizes.sum())
    }

    /// Bytes that are free on its disk, if the system tells.
    #[must_use]
    pub fn free_bytes(&self) -> Option<u64> {
        disk::free_bytes(&self.shared().folder)
    }
}

impl Drop for Closing {
    fn drop(&mut self) {
        self.shared.queue.close();
        // A writer that cannot write never ends; what it holds is lost with the process then, and it has said so.
        if self.shared.is_writable.load(Ordering::Relaxed)
            && let Some(writer) = self.writer.take()
            && writer.join().is_err()
        {
            tracing::error!("the spool's writer has panicked");
        }
    }
}

impl SpoolSlot {
    /// Appends an entry as its frame. The slot is free again once it is written.
    #[must_use]
    pub fn append(self, frame: Arc<[u8]>) -> Written {
        let shared = self.0.clone();
        // Relaxed: a count to be looked at; the queue orders the entry itself.
        shared.pending.fetch_add(1, Ordering::Relaxed);
        let (number, has_to_be_told) = shared.queue.push(frame, self);
        if has_to_be_told && !shared.desks.tell_soon(&shared) {
            shared.queue.tell();
        }
        Written { shared, number }
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

/// A lock that outlives a panic of whoever held it: what stands behind each here is whole at every step.
fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests;
