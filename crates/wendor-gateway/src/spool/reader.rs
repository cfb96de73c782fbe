//! Reading the spool for the drain: batch after batch, from where the database has everything before.
//!
//! How far it is stands in the file `drained`. It is written after the database has a batch, so a crash between the two
//! repeats the batch, which changes nothing. A frame that is cut at the end of an older segment was never acknowledged; a
//! damaged one cannot be passed over, since its length may be wrong: its segment is set aside under another name, with what
//! follows, and that is said.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use wendor_core::metering::entry::Spooled;
use wendor_core::metering::spool_frame::{self, Frame, SEGMENT_MAGIC};

use super::{Place, Shared, segment_path, segments_in};

/// Read at once: some thousand entries.
const READ_BYTES: u64 = 4 * 1024 * 1024;

/// Of what was read into, kept for the next batch: memory that is let go of costs the kernel more than the reading.
const WINDOW_KEPT: usize = 1024 * 1024;

/// The reading side; the drain owns it.
#[derive(Debug)]
pub struct SpoolReader {
    shared: Arc<Shared>,
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
    /// Whether it ends where the written entries did when it was read.
    pub is_all: bool,
    end: Place,
}

/// What reading at a place gave.
enum Step {
    Entries(Vec<Spooled>, u64),
    /// Nothing more in this segment.
    SegmentEnds,
}

impl SpoolReader {
    pub(super) fn open(shared: Arc<Shared>) -> std::io::Result<Self> {
        let noted = std::fs::read_to_string(shared.folder.join("drained")).unwrap_or_default();
        let mut numbers = noted.split_whitespace().filter_map(|number| number.parse().ok());
        let drained = Place { segment: numbers.next().unwrap_or(0), offset: numbers.next().unwrap_or(0) };
        Ok(Self { shared, drained, window: Vec::new() })
    }

    /// Hands every entry that is not drained yet to `each`, and counts them as pending. For the start, before anything is
    /// drained.
    ///
    /// # Errors
    /// When a segment cannot be read.
    pub fn each_pending(&self, mut each: impl FnMut(&Spooled)) -> std::io::Result<u64> {
        let mut ahead = Self { shared: self.shared.clone(), drained: self.drained, window: Vec::new() };
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
    /// When a segment cannot be read.
    pub fn read(&mut self, limit: usize) -> std::io::Result<Batch> {
        let written = *self.shared.written.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        loop {
            let at = self.at_existing_segment(written)?;
            if at >= written {
                return Ok(Batch { entries: Vec::new(), is_all: true, end: at });
            }
            match self.step(at, written, limit)? {
                Step::Entries(entries, length) => {
                    let end = Place { offset: at.offset + length, ..at };
                    return Ok(Batch { entries, is_all: end >= written, end });
                }
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
        let step = self.step_in(&mut bytes, (at, written), limit);
        bytes.clear();
        bytes.shrink_to(WINDOW_KEPT);
        self.window = bytes;
        step
    }

    fn step_in(&self, bytes: &mut Vec<u8>, (at, written): (Place, Place), limit: usize) -> std::io::Result<Step> {
        let path = segment_path(&self.shared.folder, at.segment);
        let mut file = File::open(&path)?;
        let end = if at.segment == written.segment { written.offset } else { file.metadata()?.len() };
        let mut window = READ_BYTES;
        loop {
            bytes.clear();
            file.seek(SeekFrom::Start(at.offset))?;
            Read::by_ref(&mut file).take(window.min(end.saturating_sub(at.offset))).read_to_end(bytes)?;
            let (entries, length, stopped) = frames_of(bytes, limit);
            if !entries.is_empty() {
                return Ok(Step::Entries(entries, length));
            }
            match stopped {
                Frame::Damaged(why) => return self.set_aside(&path, at, why).map(|()| Step::SegmentEnds),
                Frame::Cut if at.offset + window < end => window *= 4,
                Frame::Cut | Frame::Whole(..) => {
                    if !bytes.is_empty() {
                        tracing::warn!(
                            segment = at.segment,
                            bytes = bytes.len(),
                            "a spool segment ends in a cut entry, which was never acknowledged"
                        );
                    }
                    return Ok(Step::SegmentEnds);
                }
            }
        }
    }

    fn set_aside(&self, path: &std::path::Path, at: Place, why: &str) -> std::io::Result<()> {
        let aside = path.with_extension(format!("damaged-at-{}", at.offset));
        tracing::error!(segment = at.segment, offset = at.offset, why, aside = %aside.display(), "a spool segment is damaged: it is kept aside, entries before that place are drained");
        std::fs::rename(path, aside)
    }

    /// Notes that the database has `batch`, and deletes the segments before it.
    ///
    /// # Errors
    /// When the note cannot be written; the batch will be drained again then, which changes nothing.
    pub fn done(&mut self, batch: &Batch) -> std::io::Result<()> {
        let count = u64::try_from(batch.entries.len()).unwrap_or(0);
        self.shared.pending.fetch_sub(count, Ordering::Relaxed);
        self.drained = batch.end;
        let note: PathBuf = self.shared.folder.join("drained.new");
        std::fs::write(&note, format!("{} {}\n", self.drained.segment, self.drained.offset))?;
        std::fs::rename(&note, self.shared.folder.join("drained"))?;
        for number in segments_in(&self.shared.folder)? {
            if number < self.drained.segment {
                std::fs::remove_file(segment_path(&self.shared.folder, number))?;
            }
        }
        Ok(())
    }

    /// Keeps an entry that the database refuses in a file beside the segments, as a line of JSON. Gives the file.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn set_entry_aside(&self, settled: &Spooled) -> std::io::Result<PathBuf> {
        let path = self.shared.folder.join("refused-entries.jsonl");
        let mut file = std::fs::OpenOptions::new().create(true).append(true).open(&path)?;
        let mut line = serde_json::to_vec(settled)?;
        line.push(b'\n');
        std::io::Write::write_all(&mut file, &line)?;
        Ok(path)
    }

    /// Waits until something is written. Dropped midway it loses nothing: the next call looks again.
    pub async fn has_more(&self) {
        self.shared.has_more.notified().await;
    }
}

/// The whole frames at the start of `bytes`, how many bytes they take, and what stopped the reading.
fn frames_of(bytes: &[u8], limit: usize) -> (Vec<Spooled>, u64, Frame) {
    let (mut entries, mut at) = (Vec::new(), 0);
    loop {
        match spool_frame::read(bytes.get(at..).unwrap_or_default()) {
            Frame::Whole(settled, length) if entries.len() < limit => {
                entries.push(*settled);
                at += length;
            }
            stopped @ (Frame::Whole(..) | Frame::Cut | Frame::Damaged(_)) => {
                return (entries, u64::try_from(at).unwrap_or(0), stopped);
            }
        }
    }
}
