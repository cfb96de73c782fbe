//! The segment that is written to, and the spare that takes its place.
//!
//! The spare is a file whose room is kept in advance, so that a rotation needs nothing of a full disk: it is renamed, and only then a
//! new spare is made, which may fail and be tried again. Appending cuts back to the last whole frame when a write fails midway.

use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use wendor_core::metering::spool_frame::SEGMENT_MAGIC;

use super::{Options, Place, Sync, disk, segment_path};

/// The file that is the next segment.
const SPARE: &str = "spare";

/// The segment that is written to.
#[derive(Debug)]
pub(super) struct Segment {
    folder: PathBuf,
    options: Options,
    file: File,
    number: u64,
    length: u64,
}

impl Segment {
    /// Begins the segment `number`.
    pub(super) fn create(folder: &Path, number: u64, options: Options) -> std::io::Result<Self> {
        if !folder.join(SPARE).exists() {
            make_spare(folder, options)?;
        }
        // The magic bytes go in before the name, so that whatever is named as a segment begins as one.
        let path = folder.join(SPARE);
        let mut file = File::options().read(true).write(true).open(&path)?;
        file.set_len(0)?;
        disk::keep_room(&file, options.segment_bytes)?;
        file.write_all(SEGMENT_MAGIC)?;
        std::fs::rename(&path, segment_path(folder, number))?;
        if options.sync != Sync::Never {
            file.sync_all()?;
            disk::sync_folder(folder)?;
        }
        let length = u64::try_from(SEGMENT_MAGIC.len()).unwrap_or(0);
        // The next rotation has a spare to take, if there is room for one now; if not, it is made before that one.
        if let Err(error) = make_spare(folder, options) {
            tracing::debug!(%error, "no room for a spare segment yet");
        }
        Ok(Self { folder: folder.to_owned(), options, file, number, length })
    }

    pub(super) fn place(&self) -> Place {
        Place { segment: self.number, offset: self.length }
    }

    pub(super) fn is_full(&self) -> bool {
        self.length >= self.options.segment_bytes
    }

    /// Whether anything stands in it.
    pub(super) fn is_begun(&self) -> bool {
        self.length > u64::try_from(SEGMENT_MAGIC.len()).unwrap_or(0)
    }

    /// The file, for whoever makes it durable beside the writer.
    pub(super) fn file(&self) -> std::io::Result<File> {
        self.file.try_clone()
    }

    /// Goes on in the next segment.
    pub(super) fn rotate(&mut self) -> std::io::Result<()> {
        *self = Self::create(&self.folder, self.number + 1, self.options)?;
        Ok(())
    }

    /// Appends whole frames. After an error the segment is cut back to the last whole one.
    pub(super) fn append(&mut self, frames: &[u8]) -> std::io::Result<()> {
        if let Err(error) = self.file.write_all(frames) {
            self.file.set_len(self.length)?;
            self.file.seek(SeekFrom::Start(self.length))?;
            return Err(error);
        }
        self.length += u64::try_from(frames.len()).unwrap_or(0);
        Ok(())
    }

    /// Makes durable what was appended.
    pub(super) fn sync(&self) -> std::io::Result<()> {
        self.file.sync_data()
    }
}

/// Makes the spare with its room. What is left of a try that failed is taken over.
fn make_spare(folder: &Path, options: Options) -> std::io::Result<()> {
    let spare = File::options().create(true).truncate(false).write(true).open(folder.join(SPARE))?;
    disk::keep_room(&spare, options.segment_bytes)
}
