//! What is set aside: entries that the database will never take, and bytes of a segment that cannot be read. Each is a file of its own
//! in the folder `aside`, with the reason; nothing of it is ever overwritten, and all of it is counted until it is gone.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use serde::{Deserialize, Serialize};
use wendor_core::metering::entry::Spooled;
use wendor_core::metering::spool_frame::{self, Frame};

use super::Place;

/// What was set aside.
#[derive(Debug)]
pub struct Aside {
    folder: PathBuf,
    /// Things that are there. Written by the drain (+) and by who tries again (-).
    count: AtomicU64,
}

/// One thing that was set aside.
#[derive(Clone, Debug)]
pub struct Thing {
    /// Its file's name.
    pub name: String,
    /// What kept it from the ledger.
    pub why: String,
    /// Size on the disk.
    pub bytes: u64,
    /// The entry, where it is one that can be read.
    pub entry: Option<Box<Spooled>>,
}

/// What stands in the first line of a file.
#[derive(Serialize, Deserialize)]
struct Head {
    why: String,
}

const ENTRY: &str = "entry";
const DAMAGED: &str = "damaged";

impl Aside {
    pub(super) fn open(spool: &Path) -> std::io::Result<Self> {
        let aside = Self { folder: spool.join("aside"), count: AtomicU64::new(0) };
        let count = u64::try_from(aside.names()?.len()).unwrap_or(0);
        aside.count.store(count, Ordering::Relaxed);
        Ok(aside)
    }

    /// How many things are there.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.count.load(Ordering::Relaxed)
    }

    /// Where things that were put aside lie.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The highest segment that anything here came from.
    pub(super) fn last_segment(&self) -> u64 {
        let of_name = |name: &String| name.strip_prefix("segment-")?.split('-').next()?.parse().ok();
        self.names().unwrap_or_default().iter().filter_map(of_name).max().unwrap_or(0)
    }

    /// Sets an entry aside that the database refuses. Doing so again changes nothing.
    ///
    /// # Errors
    /// When the file cannot be written; then the entry must stay where it is.
    pub fn entry(&self, settled: &Spooled, why: &str) -> std::io::Result<PathBuf> {
        let mut frame = Vec::new();
        spool_frame::write(&settled.entry, settled.detail.as_deref(), &settled.quotas, &mut frame);
        self.put(&format!("{}.{ENTRY}", settled.entry.entry_id), why, &frame)
    }

    /// Sets aside bytes of a segment that cannot be read.
    ///
    /// # Errors
    /// When the file cannot be written; then they must stay where they are.
    pub(super) fn damaged(&self, at: Place, bytes: &[u8], why: &str) -> std::io::Result<PathBuf> {
        // Numbers of segments never come back, so the name is theirs alone.
        self.put(&format!("segment-{:010}-at-{}.{DAMAGED}", at.segment, at.offset), why, bytes)
    }

    fn put(&self, name: &str, why: &str, bytes: &[u8]) -> std::io::Result<PathBuf> {
        std::fs::create_dir_all(&self.folder)?;
        let path = self.folder.join(name);
        if path.exists() {
            return Ok(path);
        }
        let new = path.with_extension("new");
        let mut file = std::fs::File::create(&new)?;
        let mut head = serde_json::to_vec(&Head { why: why.to_owned() })?;
        head.push(b'\n');
        file.write_all(&head)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        std::fs::rename(&new, &path)?;
        super::disk::sync_folder(&self.folder)?;
        self.count.fetch_add(1, Ordering::Relaxed);
        Ok(path)
    }

    /// The first `limit` things, oldest names first.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn list(&self, limit: usize) -> std::io::Result<Vec<Thing>> {
        let names = self.names()?;
        // Somebody may have taken one away by hand.
        self.count.store(u64::try_from(names.len()).unwrap_or(0), Ordering::Relaxed);
        names.into_iter().take(limit).map(|name| self.read(name)).collect()
    }

    fn read(&self, name: String) -> std::io::Result<Thing> {
        let bytes = std::fs::read(self.folder.join(&name))?;
        let head_end = bytes.iter().position(|byte| *byte == b'\n').unwrap_or(bytes.len());
        let (head, rest) = bytes.split_at(head_end);
        let rest = rest.get(1..).unwrap_or_default();
        let why = serde_json::from_slice::<Head>(head)
            .map_or_else(|_| "its reason cannot be read".to_owned(), |head| head.why);
        let entry = match spool_frame::read(rest) {
            Frame::Whole(entry, _) => Some(entry),
            Frame::Cut | Frame::Damaged(..) => None,
        };
        Ok(Thing { name, why, bytes: u64::try_from(rest.len()).unwrap_or(0), entry })
    }

    /// A thing is in the database after all, and needed here no more.
    ///
    /// # Errors
    /// When its file cannot be deleted.
    pub fn done(&self, thing: &Thing) -> std::io::Result<()> {
        std::fs::remove_file(self.folder.join(&thing.name))?;
        self.count.fetch_sub(1, Ordering::Relaxed);
        Ok(())
    }

    fn names(&self) -> std::io::Result<Vec<String>> {
        let files = match std::fs::read_dir(&self.folder) {
            Ok(files) => files,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let mut names = Vec::new();
        for file in files {
            let name = file?.file_name().to_string_lossy().into_owned();
            let is_ours = [ENTRY, DAMAGED].iter().any(|kind| name.ends_with(&format!(".{kind}")));
            names.extend(is_ours.then_some(name));
        }
        names.sort_unstable();
        Ok(names)
    }
}
