//! The spool's one writer: takes what has come, writes it in one go, makes it durable as the setting says, lets the waiting ones go on.
//!
//! It writes at once when it is idle, and gathers only what comes while it writes. A write that fails is tried again with the same bytes
//! until it goes through: what was settled is not given up. Meanwhile admission refuses, and what waits keeps waiting.

use std::sync::atomic::Ordering;
use std::sync::{Arc, Condvar, Mutex};
use std::time::{Duration, Instant};

use super::segment::Segment;
use super::{Shared, SpoolSlot, Sync, disk, locked};

/// Pause before a failed write is tried again, and between looks at a disk without room.
const RETRY_PAUSE: Duration = Duration::from_millis(100);

/// Room on the disk is looked at so often at most: a system call a write would be one too many.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// What waits to be written.
#[derive(Debug, Default)]
pub(super) struct Queue {
    waiting: Mutex<Waiting>,
    has_some: Condvar,
}

#[derive(Debug, Default)]
struct Waiting {
    frames: Vec<(Arc<[u8]>, SpoolSlot)>,
    /// Entries that have ever come: the number of the last one.
    number: u64,
    /// Whether the writer sleeps until it is told.
    is_idle: bool,
    wants_rotation: bool,
    is_closed: bool,
}

/// What the writer takes in one go.
struct Taken {
    frames: Vec<(Arc<[u8]>, SpoolSlot)>,
    /// Of the last of them.
    number: u64,
    wants_rotation: bool,
    is_closed: bool,
}

impl Queue {
    /// Adds an entry. Gives its number, and whether the writer sleeps and must be told.
    pub(super) fn push(&self, frame: Arc<[u8]>, slot: SpoolSlot) -> (u64, bool) {
        let mut waiting = locked(&self.waiting);
        waiting.frames.push((frame, slot));
        waiting.number += 1;
        (waiting.number, waiting.is_idle)
    }

    /// Tells the writer that something has come.
    pub(super) fn tell(&self) {
        self.wake(locked(&self.waiting));
    }

    /// Asks for a new segment, so that a drained one can be deleted.
    pub(super) fn rotate(&self) {
        let mut waiting = locked(&self.waiting);
        waiting.wants_rotation = true;
        self.wake(waiting);
    }

    /// No entry comes any more: the writer ends once it has written what there is.
    pub(super) fn close(&self) {
        let mut waiting = locked(&self.waiting);
        waiting.is_closed = true;
        self.wake(waiting);
    }

    fn wake(&self, mut waiting: std::sync::MutexGuard<'_, Waiting>) {
        // A system call only where the writer sleeps.
        if std::mem::take(&mut waiting.is_idle) {
            drop(waiting);
            self.has_some.notify_one();
        }
    }

    /// Takes all there is, waiting for something for `patience` at most. `used` is let go of by whoever takes, without its memory.
    fn take(&self, patience: Option<Duration>, used: Vec<(Arc<[u8]>, SpoolSlot)>) -> Taken {
        let mut waiting = locked(&self.waiting);
        let mut has_waited = false;
        while waiting.frames.is_empty() && !waiting.wants_rotation && !waiting.is_closed && !has_waited {
            waiting.is_idle = true;
            waiting = match patience {
                None => self.has_some.wait(waiting).unwrap_or_else(std::sync::PoisonError::into_inner),
                Some(patience) => {
                    has_waited = true;
                    let woken = self.has_some.wait_timeout(waiting, patience);
                    woken.unwrap_or_else(std::sync::PoisonError::into_inner).0
                }
            };
            waiting.is_idle = false;
        }
        Taken {
            frames: std::mem::replace(&mut waiting.frames, used),
            number: waiting.number,
            wants_rotation: std::mem::take(&mut waiting.wants_rotation),
            is_closed: waiting.is_closed,
        }
    }
}

/// Writes until the queue is closed and empty.
pub(super) fn run(mut segment: Segment, shared: &Arc<Shared>) {
    let syncer = match shared.options.sync {
        Sync::Batch(after) => Some(Syncer::start(after)),
        Sync::Always | Sync::Never => None,
    };
    let (mut bytes, mut used) = (Vec::new(), Vec::new());
    let mut looked_at: Option<Instant> = None;
    loop {
        // Without room the disk is looked at again and again, since nothing else tells when there is some.
        let patience = (!shared.has_room.load(Ordering::Relaxed)).then_some(RETRY_PAUSE);
        let taken = shared.queue.take(patience, used);
        bytes.clear();
        for (frame, _) in &taken.frames {
            bytes.extend_from_slice(frame);
        }
        if segment.is_full() || (taken.wants_rotation && segment.is_begun()) {
            rotate(&mut segment, shared, syncer.as_ref());
        }
        if !bytes.is_empty() {
            write_until_done(&mut segment, &bytes, shared);
            if let Some(syncer) = &syncer {
                syncer.wrote(&segment);
            }
            *locked(&shared.written) = segment.place();
            shared.desks.written(taken.number);
            shared.has_more.notify_one();
        }
        if looked_at.is_none_or(|at| at.elapsed() >= LOOK_EVERY) || patience.is_some() {
            looked_at = Some(Instant::now());
            look_for_room(shared);
        }
        if taken.is_closed && taken.frames.is_empty() {
            shared.desks.close();
            return;
        }
        used = taken.frames;
        used.clear();
    }
}

/// Begins a new segment. Where that fails the old one goes on growing, and it is tried again at the next write.
fn rotate(segment: &mut Segment, shared: &Shared, syncer: Option<&Syncer>) {
    if let Some(syncer) = syncer {
        // What stands in the old one must be durable before it is let go of.
        syncer.finish();
    }
    match segment.rotate() {
        Ok(()) => *locked(&shared.written) = segment.place(),
        Err(error) => tracing::warn!(%error, "no new segment of the spool can be begun; the old one goes on"),
    }
    shared.has_more.notify_one();
}

fn write_until_done(segment: &mut Segment, frames: &[u8], shared: &Shared) {
    let mut is_written = false;
    loop {
        let tried = if is_written { Ok(()) } else { segment.append(frames) };
        // What was appended once must not be again, whatever comes of making it durable.
        is_written |= tried.is_ok();
        let tried = tried.and_then(|()| match shared.options.sync {
            Sync::Always => segment.sync(),
            Sync::Batch(_) | Sync::Never => Ok(()),
        });
        let Err(error) = tried else { break };
        // Said once a failure, not once a try.
        if shared.is_writable.swap(false, Ordering::Relaxed) {
            tracing::error!(%error, "the spool cannot be written: requests are refused until it can");
        }
        std::thread::sleep(RETRY_PAUSE);
    }
    if !shared.is_writable.swap(true, Ordering::Relaxed) {
        tracing::info!("the spool is written again");
    }
}

fn look_for_room(shared: &Shared) {
    let keep = shared.options.keep_free_bytes;
    let free = disk::free_bytes(&shared.folder);
    let has_room = free.is_none_or(|free| free >= keep);
    if shared.has_room.swap(has_room, Ordering::Relaxed) == has_room {
        return;
    }
    if has_room {
        tracing::info!(free, "the disk of the spool has room again")
    } else {
        tracing::error!(free, keep, "the disk of the spool is nearly full: requests are refused until it has room");
        // The drain may have nothing to read, and still something to delete.
        shared.has_more.notify_one();
    }
}

/// Makes durable what was written, beside the writer, so long after it was written at most.
#[derive(Debug)]
struct Syncer {
    shared: Arc<Syncing>,
}

#[derive(Debug, Default)]
struct Unsynced {
    file: Option<std::fs::File>,
    is_syncing: bool,
    is_closed: bool,
}

/// What the thread that syncs shares with the one that writes.
#[derive(Debug, Default)]
struct Syncing {
    unsynced: Mutex<Unsynced>,
    changed: Condvar,
}

impl Syncer {
    fn start(after: Duration) -> Self {
        let shared: Arc<Syncing> = Arc::default();
        let for_thread = shared.clone();
        let started = std::thread::Builder::new().name("spool-sync".to_owned()).spawn(move || sync(&for_thread, after));
        if let Err(error) = started {
            tracing::error!(%error, "the thread that makes the spool durable cannot be started");
        }
        Self { shared }
    }

    /// Something was written to `segment`.
    fn wrote(&self, segment: &Segment) {
        let mut unsynced = locked(&self.shared.unsynced);
        if unsynced.file.is_none() {
            unsynced.file = segment.file().ok();
            self.shared.changed.notify_all();
        }
    }

    /// Waits until all that was written is durable.
    fn finish(&self) {
        let mut unsynced = locked(&self.shared.unsynced);
        if let Some(file) = unsynced.file.take() {
            drop(unsynced);
            tell_failure(file.sync_data());
            unsynced = locked(&self.shared.unsynced);
        }
        while unsynced.is_syncing {
            unsynced = self.shared.changed.wait(unsynced).unwrap_or_else(std::sync::PoisonError::into_inner);
        }
    }
}

impl Drop for Syncer {
    fn drop(&mut self) {
        self.finish();
        locked(&self.shared.unsynced).is_closed = true;
        self.shared.changed.notify_all();
    }
}

fn sync(syncing: &Syncing, after: Duration) {
    let Syncing { unsynced, changed } = syncing;
    let mut guard = locked(unsynced);
    loop {
        while guard.file.is_none() && !guard.is_closed {
            guard = changed.wait(guard).unwrap_or_else(std::sync::PoisonError::into_inner);
        }
        if guard.is_closed {
            return;
        }
        drop(guard);
        std::thread::sleep(after);
        guard = locked(unsynced);
        let Some(file) = guard.file.take() else { continue };
        guard.is_syncing = true;
        drop(guard);
        tell_failure(file.sync_data());
        guard = locked(unsynced);
        guard.is_syncing = false;
        changed.notify_all();
    }
}

fn tell_failure(synced: std::io::Result<()>) {
    if let Err(error) = synced {
        tracing::error!(%error, "the spool could not be made durable: a loss of power would lose what was written last");
    }
}
