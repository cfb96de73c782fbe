//! Reading the spool for the drain: batch after batch, from where the database has everything before.
//!
//! Damage costs no more than what is damaged: reading goes on at the next place where a whole frame begins, and the bytes before it are
//! set aside. A frame that is cut at the end of an older segment was never acknowledged.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use wendor_core::metering::entry::Spooled;
use wendor_core::metering::spool_frame::{self, Frame, SEGMENT_MAGIC};

use super::{Place, Shared, locked, segment_path, segments_in};

/// Read at once: some thousand entries, and more than the longest frame.
const READ_BYTES: u64 = 20 * 1024 * 1024;

/// Read at first: what a usual batch takes. That much is kept to be read into again: memory that is let go of costs the kernel
/// more than the reading.
const FIRST_BYTES: u64 = 1024 * 1024;

/// A drained segment is let go of from this size on, when the disk is short of room.
const WORTH_ROTATING: u64 = 64 * 1024;

/// The reading side; the drain owns it.
#[derive(Debug)]
pub struct SpoolReader {
    shared: Arc<Shared>,
    id: String,
    /// Everything before is in the database.
    drained: Place,
    /// What is read into.
    window: Vec<u8>,
}

/// Some entries, and where the next batch begins.
#[derive(Debug)]
pub struct Batch {
    /// The entries, in order; empty when there is nothing to drain.
    pub entries: Vec<Spooled>,
    /// For each entry, where the one after it begins.
    ends: Vec<Place>,
    /// Whether it ends where the written entries did when it was read.
    pub is_all: bool,
    end: Place,
}

impl Batch {
    /// Up to where a spool is drained once the first `count` entries are.
    #[must_use]
    pub fn place_after(&self, count: usize) -> Place {
        match count.checked_sub(1).and_then(|last| self.ends.get(last)) {
            Some(place) if count < self.entries.len() => *place,
            Some(_) | None => self.end,
        }
    }
}

/// What reading at a place gave.
enum Step {
    /// Entries with the offset at which each ends.
    Entries(Vec<(Spooled, u64)>),
    /// Nothing to be read up to this offset; further on there may be.
    PassedOver(u64),
    /// Nothing more in this segment.
    SegmentEnds,
}

impl SpoolReader {
    pub(super) fn new(shared: Arc<Shared>, id: String, drained: Place) -> Self {
        Self { shared, id, drained, window: Vec::new() }
    }

    /// The id by which the database knows this spool.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Hands every entry that is not drained yet to `each`, and counts them as pending. For the start, before anything is
    /// drained.
    ///
    /// # Errors
    /// When a segment cannot be read.
    pub fn each_pending(&self, mut each: impl FnMut(&Spooled)) -> std::io::Result<u64> {
        let mut ahead = Self::new(self.shared.clone(), self.id.clone(), self.drained);
        let mut count = 0;
        loop {
            let batch = ahead.read(usize::MAX)?;
            if batch.entries.is_empty() {
                break;
            }
            batch.entries.iter().for_each(&mut each);
            count += u64::try_from(batch.entries.len()).unwrap_or(0);
            ahead.drained = batch.end;
        }
        self.shared.pending.fetch_add(count, Ordering::Relaxed);
        Ok(count)
    }

    /// The next entries, at most `limit`; none when the database has everything that is written.
    ///
    /// # Errors
    /// When a segment cannot be read, or what is damaged cannot be set aside.
    pub fn read(&mut self, limit: usize) -> std::io::Result<Batch> {
        let written = *locked(&self.shared.written);
        loop {
            let at = self.at_existing_segment(written)?;
            if at >= written {
                return Ok(Batch { entries: Vec::new(), ends: Vec::new(), is_all: true, end: at });
            }
            match self.step(at, written, limit)? {
                Step::Entries(found) => {
                    let place = |offset| Place { offset, ..at };
                    let ends: Vec<Place> = found.iter().map(|(_, end)| place(*end)).collect();
                    let end = ends.last().copied().unwrap_or(at);
                    let entries = found.into_iter().map(|(entry, _)| entry).collect();
                    return Ok(Batch { entries, ends, is_all: end >= written, end });
                }
                Step::PassedOver(offset) => self.drained = Place { offset, ..at },
                Step::SegmentEnds => self.drained = Place { segment: at.segment + 1, offset: 0 },
            }
        }
    }

    /// Where to go on: in the first segment that exists at or after the noted one, past its magic bytes.
    fn at_existing_segment(&self, written: Place) -> std::io::Result<Place> {
        let first = segments_in(&self.shared.folder)?.into_iter().find(|number| *number >= self.drained.segment);
        let segment = first.unwrap_or(written.segment);
        let offset = if segment == self.drained.segment { self.drained.offset } else { 0 };
        Ok(Place { segment, offset: offset.max(u64::try_from(SEGMENT_MAGIC.len()).unwrap_or(0)) })
    }

    fn step(&mut self, at: Place, written: Place, limit: usize) -> std::io::Result<Step> {
        let mut bytes = std::mem::take(&mut self.window);
        let step = self.step_in(&mut bytes, at, written, limit);
        bytes.clear();
        bytes.shrink_to(usize::try_from(FIRST_BYTES).unwrap_or(0));
        self.window = bytes;
        step
    }

    fn step_in(&self, bytes: &mut Vec<u8>, at: Place, written: Place, limit: usize) -> std::io::Result<Step> {
        let mut file = File::open(segment_path(&self.shared.folder, at.segment))?;
        let is_live = at.segment == written.segment;
        let end = if is_live { written.offset } else { file.metadata()?.len() };
        let mut window = FIRST_BYTES;
        loop {
            let wanted = window.min(end.saturating_sub(at.offset));
            bytes.clear();
            bytes.reserve_exact(usize::try_from(wanted.max(FIRST_BYTES)).unwrap_or(0));
            file.seek(SeekFrom::Start(at.offset))?;
            Read::by_ref(&mut file).take(wanted).read_to_end(bytes)?;
            if bytes.is_empty() {
                return Ok(Step::SegmentEnds);
            }
            let is_all = u64::try_from(bytes.len()).unwrap_or(0) >= end.saturating_sub(at.offset);
            let (found, stopped) = frames_of(bytes, at.offset, limit);
            if !found.is_empty() {
                return Ok(Step::Entries(found));
            }
            if matches!(stopped, Frame::Cut) && !is_all && window < READ_BYTES {
                window = READ_BYTES;
                continue;
            }
            return self.pass_over(bytes, at, &stopped, is_all);
        }
    }

    /// What stands at `at` is no frame. Goes on where the next one begins.
    fn pass_over(&self, bytes: &[u8], at: Place, stopped: &Frame, is_all: bool) -> std::io::Result<Step> {
        let next = next_frame(bytes);
        let why = match (stopped, next) {
            (Frame::Damaged(why, _), _) => *why,
            // Its length cannot be right, since an entry stands inside what it would take.
            (Frame::Cut | Frame::Whole(..), Some(_)) => "its length is wrong",
            (Frame::Cut | Frame::Whole(..), None) => {
                let (segment, bytes) = (at.segment, bytes.len());
                tracing::warn!(segment, bytes, "a spool segment ends in a cut entry, which was never acknowledged");
                return Ok(Step::SegmentEnds);
            }
        };
        let passed = next.unwrap_or(bytes.len());
        let damaged = bytes.get(..passed).unwrap_or_default();
        // Zeros are what a loss of power leaves where nothing was written yet.
        if damaged.iter().any(|byte| *byte != 0) {
            let aside = self.shared.aside.damaged(at, damaged, why)?;
            tracing::error!(
                segment = at.segment, offset = at.offset, bytes = passed, why, aside = %aside.display(),
                "a part of a spool segment cannot be read: it is set aside, what follows is drained"
            );
        }
        if next.is_some() || !is_all {
            Ok(Step::PassedOver(at.offset + u64::try_from(passed).unwrap_or(0)))
        } else {
            Ok(Step::SegmentEnds)
        }
    }

    /// Notes that the database has everything up to `place`, `count` entries more than before, and deletes the segments before it.
    ///
    /// # Errors
    /// When a segment cannot be deleted; it will be at the next time.
    pub fn done(&mut self, place: Place, count: usize) -> std::io::Result<()> {
        self.shared.pending.fetch_sub(u64::try_from(count).unwrap_or(0), Ordering::Relaxed);
        self.drained = place;
        self.let_go()
    }

    /// Deletes the segments that are drained. When the disk is short of room the one that is written to is let go of too.
    ///
    /// # Errors
    /// When a segment cannot be deleted.
    pub fn let_go(&self) -> std::io::Result<()> {
        for number in segments_in(&self.shared.folder)? {
            if number < self.drained.segment {
                std::fs::remove_file(segment_path(&self.shared.folder, number))?;
            }
        }
        let written = *locked(&self.shared.written);
        let is_drained = self.drained >= written || (self.drained.segment < written.segment && written.offset <= 8);
        if is_drained && written.offset >= WORTH_ROTATING && !self.shared.has_room.load(Ordering::Relaxed) {
            self.shared.queue.rotate();
        }
        Ok(())
    }

    /// Sets an entry aside that the database refuses.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn set_aside(&self, settled: &Spooled, why: &str) -> std::io::Result<std::path::PathBuf> {
        self.shared.aside.entry(settled, why)
    }

    /// Waits until something is written. Dropped midway it loses nothing: the next call looks again.
    pub async fn has_more(&self) {
        self.shared.has_more.notified().await;
    }
}

/// The whole frames at the start of `bytes`, which stand at `offset`, with where each ends, and what stopped the reading.
fn frames_of(bytes: &[u8], offset: u64, limit: usize) -> (Vec<(Spooled, u64)>, Frame) {
    let (mut found, mut at) = (Vec::new(), 0);
    loop {
        match spool_frame::read(bytes.get(at..).unwrap_or_default()) {
            Frame::Whole(settled, length) if found.len() < limit => {
                at += length;
                found.push((*settled, offset + u64::try_from(at).unwrap_or(0)));
            }
            stopped @ (Frame::Whole(..) | Frame::Cut | Frame::Damaged(..)) => return (found, stopped),
        }
    }
}

/// Where the next whole frame begins behind the first byte, if one does.
fn next_frame(bytes: &[u8]) -> Option<usize> {
    (1..bytes.len()).find(|start| {
        let rest = bytes.get(*start..).unwrap_or_default();
        spool_frame::could_begin(rest) && matches!(spool_frame::read(rest), Frame::Whole(..))
    })
}
