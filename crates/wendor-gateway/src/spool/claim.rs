//! Whose a spool folder is: of which process, of which installation, and which spool it is.
//!
//! A folder holds a lock that a living process keeps, an id by which the database knows how far it is drained, and the id of the
//! installation whose database it is drained into. A folder without a living process, of the same installation and beside our own, is an
//! orphan: another instance may claim it and drain it.

use std::fs::{File, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use rand::RngExt;

use super::{Place, SpoolError, segments_in};

/// How far the first release had drained, which it noted here.
const OLD_NOTE: &str = "drained";

/// How long a start waits for a folder that another instance drains as an orphan: it takes no longer than that to read a segment.
const PATIENCE: Duration = Duration::from_secs(10);

/// A folder that is this process' own as long as this lives.
#[derive(Debug)]
pub struct Claim {
    folder: PathBuf,
    id: String,
    _lock: File,
}

/// What waits in a spool is read by the service alone: labels, runs and teams of everybody stand in it. Files are made so, since
/// the service gives nobody else anything; those of before are made so here. A folder that somebody else uses too stays as it is.
fn only_ours(folder: &Path) -> std::io::Result<()> {
    let is_empty = std::fs::read_dir(folder)?.next().is_none();
    if !is_empty && !folder.join("lock").exists() {
        return Ok(());
    }
    std::fs::set_permissions(folder, Permissions::from_mode(0o700))?;
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let mode = if entry.file_type()?.is_dir() { 0o700 } else { 0o600 };
        match std::fs::set_permissions(entry.path(), Permissions::from_mode(mode)) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error),
            Ok(()) | Err(_) => {}
        }
    }
    Ok(())
}

impl Claim {
    /// Claims `folder`, making it where it is missing.
    ///
    /// # Errors
    /// [`SpoolError`] when it cannot be used, or is in use.
    pub fn take(folder: &Path) -> Result<Self, SpoolError> {
        let failed = |source| SpoolError::Folder { folder: folder.to_owned(), source };
        std::fs::create_dir_all(folder).map_err(failed)?;
        only_ours(folder).map_err(failed)?;
        let lock = open_lock(folder).map_err(failed)?;
        let since = std::time::Instant::now();
        loop {
            match lock.try_lock() {
                Ok(()) => break,
                Err(std::fs::TryLockError::Error(source)) => return Err(failed(source)),
                Err(std::fs::TryLockError::WouldBlock) if is_adopted(folder) && since.elapsed() < PATIENCE => {
                    std::thread::sleep(Duration::from_millis(50));
                }
                Err(std::fs::TryLockError::WouldBlock) => return Err(SpoolError::InUse(folder.to_owned())),
            }
        }
        Self::of_locked(folder, lock).map_err(failed)
    }

    fn of_locked(folder: &Path, lock: File) -> std::io::Result<Self> {
        let path = folder.join("id");
        let id = match std::fs::read_to_string(&path) {
            Ok(id) if !id.trim().is_empty() => id.trim().to_owned(),
            Ok(_) => new_id(&path)?,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => new_id(&path)?,
            Err(error) => return Err(error),
        };
        Ok(Self { folder: folder.to_owned(), id, _lock: lock })
    }

    /// Locked for this process until the claim is dropped.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The id by which the database knows it.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Binds the folder to an installation.
    ///
    /// # Errors
    /// [`SpoolError::OtherInstallation`] when it is bound to another one.
    pub fn bind(&self, installation: &str) -> Result<(), SpoolError> {
        let failed = |source| SpoolError::Folder { folder: self.folder.clone(), source };
        match bound_to(&self.folder).map_err(failed)? {
            Some(found) if found == installation => Ok(()),
            Some(found) => Err(SpoolError::OtherInstallation {
                folder: self.folder.clone(),
                found,
                wanted: installation.to_owned(),
            }),
            None => write_whole(&self.folder.join("installation"), installation).map_err(failed),
        }
    }

    /// Where draining begins: at the place that the database has, or at the one that the first release noted.
    pub(super) fn begins_at(&self, drained: Option<Place>) -> std::io::Result<Place> {
        if let Some(place) = drained {
            return Ok(place);
        }
        match std::fs::read_to_string(self.folder.join(OLD_NOTE)) {
            Ok(note) => {
                let mut numbers = note.split_whitespace().map(|number| number.parse().unwrap_or(0));
                Ok(Place { segment: numbers.next().unwrap_or(0), offset: numbers.next().unwrap_or(0) })
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Place::default()),
            Err(error) => Err(error),
        }
    }
}

/// Claims of the folders beside `own` that hold entries of `installation` and have had no living process for `gone_for`.
pub fn orphans(own: &Claim, installation: &str, gone_for: Duration) -> std::io::Result<Vec<Claim>> {
    let own_folder = own.folder.canonicalize()?;
    let Some(parent) = own_folder.parent() else { return Ok(Vec::new()) };
    let mut claims = Vec::new();
    for entry in std::fs::read_dir(parent)? {
        let folder = entry?.path();
        if folder == own_folder || !is_orphan(&folder, installation, gone_for) {
            continue;
        }
        let lock = open_lock(&folder)?;
        // Taken, and looked at again: its instance may have come back in between.
        if lock.try_lock().is_ok() && is_orphan(&folder, installation, gone_for) {
            write_whole(&folder.join("adopted"), own.id())?;
            claims.push(Claim::of_locked(&folder, lock)?);
        }
    }
    Ok(claims)
}

impl Claim {
    /// Gives an adopted folder back, drained: its instance may come again.
    ///
    /// # Errors
    /// When its files cannot be deleted.
    pub fn give_back(self) -> std::io::Result<()> {
        for number in segments_in(&self.folder)? {
            std::fs::remove_file(super::segment_path(&self.folder, number))?;
        }
        std::fs::remove_file(self.folder.join("adopted"))
    }
}

fn is_adopted(folder: &Path) -> bool {
    folder.join("adopted").exists()
}

fn is_orphan(folder: &Path, installation: &str, gone_for: Duration) -> bool {
    let is_ours = bound_to(folder).ok().flatten().as_deref() == Some(installation);
    let holds_entries = || segments_in(folder).is_ok_and(|segments| !segments.is_empty());
    is_ours && holds_entries() && last_change(folder).is_some_and(|ago| ago >= gone_for)
}

/// How long ago any file of `folder` was changed last.
fn last_change(folder: &Path) -> Option<Duration> {
    let changed =
        std::fs::read_dir(folder).ok()?.filter_map(|file| file.ok()?.metadata().ok()?.modified().ok()).max()?;
    SystemTime::now().duration_since(changed).ok()
}

fn bound_to(folder: &Path) -> std::io::Result<Option<String>> {
    match std::fs::read_to_string(folder.join("installation")) {
        Ok(text) => Ok(Some(text.trim().to_owned()).filter(|text| !text.is_empty())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

fn open_lock(folder: &Path) -> std::io::Result<File> {
    File::options().create(true).truncate(false).write(true).open(folder.join("lock"))
}

fn new_id(path: &Path) -> std::io::Result<String> {
    let id = format!("{:016x}", rand::rng().random::<u64>());
    write_whole(path, &id)?;
    Ok(id)
}

/// Writes a small file so that it is there whole or not at all.
fn write_whole(path: &Path, text: &str) -> std::io::Result<()> {
    let new = path.with_extension("new");
    std::fs::write(&new, format!("{text}\n"))?;
    File::open(&new)?.sync_all()?;
    std::fs::rename(&new, path)?;
    path.parent().map_or(Ok(()), super::disk::sync_folder)
}
