//! The spool's one writer: takes what has come, writes it in one go, lets the waiting ones go on.
//!
//! A write that fails is tried again with the same bytes until it goes through: what was settled is not given up. Meanwhile
//! admission refuses, and what waits keeps waiting.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::mpsc::Receiver;
use std::time::{Duration, Instant};

use bytes::Bytes;
use tokio::sync::oneshot;
use wendor_core::metering::spool_frame::SEGMENT_MAGIC;

use super::{Place, Shared, SpoolSlot, segment_path};

/// From this size on a new segment is begun, so that drained ones can be deleted.
const SEGMENT_BYTES: u64 = 64 * 1024 * 1024;

/// Entries written in one go at most; more only adds to the wait of the first.
const MAX_TOGETHER: usize = 512;

/// Writes are at least this far apart: one after a pause goes at once, under load each takes what has come meanwhile. Without it
/// every single request wakes this thread, which costs more than its entry.
const APART: Duration = Duration::from_millis(1);

/// Pause before a failed write is tried again.
const RETRY_PAUSE: Duration = Duration::from_millis(250);

/// One entry on its way.
#[derive(Debug)]
pub(super) struct Job {
    pub(super) frame: Bytes,
    pub(super) done: oneshot::Sender<()>,
    pub(super) _slot: SpoolSlot,
}

/// The segment that is written to.
#[derive(Debug)]
pub(super) struct Segment {
    folder: PathBuf,
    file: File,
    number: u64,
    length: u64,
}

impl Segment {
    pub(super) fn create(folder: &Path, number: u64) -> std::io::Result<Self> {
        let mut file = File::create_new(segment_path(folder, number))?;
        file.write_all(SEGMENT_MAGIC)?;
        let length = u64::try_from(SEGMENT_MAGIC.len()).unwrap_or(0);
        Ok(Self { folder: folder.to_owned(), file, number, length })
    }

    pub(super) fn place(&self) -> Place {
        Place { segment: self.number, offset: self.length }
    }

    /// Appends whole frames. After an error the segment is cut back to the last whole one.
    fn append(&mut self, frames: &[u8]) -> std::io::Result<()> {
        if self.length >= SEGMENT_BYTES {
            *self = Self::create(&self.folder, self.number + 1)?;
        }
        if let Err(error) = self.file.write_all(frames) {
            self.file.set_len(self.length)?;
            std::io::Seek::seek(&mut self.file, std::io::SeekFrom::Start(self.length))?;
            return Err(error);
        }
        self.length += u64::try_from(frames.len()).unwrap_or(0);
        Ok(())
    }
}

/// Writes until every sender is gone.
pub(super) fn run(mut segment: Segment, jobs: &Receiver<Job>, shared: &Shared) {
    let mut frames = Vec::new();
    let mut may_write_at = Instant::now();
    while let Ok(first) = jobs.recv() {
        std::thread::sleep(may_write_at.saturating_duration_since(Instant::now()));
        let together: Vec<Job> = std::iter::once(first).chain(jobs.try_iter().take(MAX_TOGETHER - 1)).collect();
        frames.clear();
        for job in &together {
            frames.extend_from_slice(&job.frame);
        }
        write_until_done(&mut segment, &frames, shared);
        may_write_at = Instant::now() + APART;
        *shared.written.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = segment.place();
        for job in together {
            // Whoever settled in `Drop` does not wait.
            let _nobody_waits = job.done.send(());
        }
        shared.has_more.notify_one();
    }
}

fn write_until_done(segment: &mut Segment, frames: &[u8], shared: &Shared) {
    while let Err(error) = segment.append(frames) {
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
