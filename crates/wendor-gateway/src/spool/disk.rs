//! What the spool asks of the file system: room kept in advance, room that is left, folders made durable.

use std::fs::File;
use std::path::Path;

use rustix::fs::{FallocateFlags, fallocate, statvfs};

/// Keeps room for `bytes` of a file without changing its length. File systems that cannot do so leave it as it is; the mark below
/// which requests are refused is kept all the same.
pub(super) fn keep_room(file: &File, bytes: u64) -> std::io::Result<()> {
    match fallocate(file, FallocateFlags::KEEP_SIZE, 0, bytes) {
        Err(error) if error == rustix::io::Errno::OPNOTSUPP || error == rustix::io::Errno::NOSYS => Ok(()),
        kept => Ok(kept?),
    }
}

/// Bytes that are free for the likes of us on the disk of `folder`; `None` where the system does not tell.
pub(super) fn free_bytes(folder: &Path) -> Option<u64> {
    let stats = statvfs(folder).ok()?;
    stats.f_bavail.checked_mul(stats.f_frsize)
}

/// Makes durable which files there are in `folder`.
pub(super) fn sync_folder(folder: &Path) -> std::io::Result<()> {
    File::open(folder)?.sync_all()
}
