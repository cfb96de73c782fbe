//! A ledger entry as a frame of the spool: length, checksum, and a body whose first byte is its version.
//!
//! A segment begins with eight magic bytes; each frame is `length: u32`, `crc32: u32` (both little-endian), then that many bytes of
//! body: [`line`], or the JSON of the [`first`] release, which begins with a brace. What is written is never longer than what is
//! read: both go by [`MAX_BODY_BYTES`], and whatever makes an entry bounds its parts.

mod first;
mod line;

use super::entry::{LedgerEntry, QuotaUse, Settled, Spooled};

/// The first bytes of a segment.
pub const SEGMENT_MAGIC: &[u8; 8] = b"WDRSPL02";

/// Largest body: a detail of [`super::detail::MAX_DETAIL_BYTES`] and the line with every part at its bound, with room to spare.
pub const MAX_BODY_BYTES: usize = 1024 * 1024;

/// Length and checksum.
pub const HEAD_BYTES: usize = 8;

/// The first byte of a body.
const VERSION: u8 = 2;

/// The same, with the tokens of a preset behind it.
const WITH_PRESET: u8 = 3;

/// The file name of a segment; in the order of numbers, names are in order too.
#[must_use]
pub fn segment_name(number: u64) -> String {
    format!("segment-{number:010}.spool")
}

/// The number of the segment of that file name; `None` for another file.
#[must_use]
pub fn segment_number(name: &str) -> Option<u64> {
    name.strip_prefix("segment-")?.strip_suffix(".spool")?.parse().ok()
}

/// What stands at a place of a segment.
#[derive(Debug)]
pub enum Frame {
    /// An entry, and how many bytes its frame takes.
    Whole(Box<Spooled>, usize),
    /// The rest is shorter than a frame: the writer is still at it, or was cut.
    Cut,
    /// The bytes are not a frame: why, and where the next one begins if the length can be believed.
    Damaged(&'static str, Option<usize>),
}

/// Appends the frame of an entry with its detail as JSON to `out`. A body that would pass its bound goes without its detail.
///
/// # Panics
/// Never: every part of a line has a form, and a line alone is far below the bound.
pub fn write(entry: &LedgerEntry, detail: Option<&str>, quotas: &[QuotaUse], out: &mut Vec<u8>) {
    let start = out.len();
    out.extend_from_slice(&[0; HEAD_BYTES]);
    out.push(if entry.tokens.preset > 0 { WITH_PRESET } else { VERSION });
    line::write(entry, detail, quotas, out);
    if out.len() - start - HEAD_BYTES > MAX_BODY_BYTES {
        out.truncate(start + HEAD_BYTES + 1);
        line::write(entry, None, quotas, out);
    }
    let body = out.get(start + HEAD_BYTES..).unwrap_or_default();
    let length = u32::try_from(body.len()).expect("a body is far below 4 GiB");
    let checksum = crc32fast::hash(body);
    if let Some(head) = out.get_mut(start..start + HEAD_BYTES) {
        let (for_length, for_checksum) = head.split_at_mut(4);
        for_length.copy_from_slice(&length.to_le_bytes());
        for_checksum.copy_from_slice(&checksum.to_le_bytes());
    }
}

/// Appends the frame of `settled`, whose detail is written here, to `out`.
pub fn write_settled(settled: &Settled, out: &mut Vec<u8>) {
    let spooled = settled.detail.as_ref().map(super::detail::RequestDetail::to_json);
    write(&settled.entry, spooled.as_deref(), &settled.quotas, out);
}

/// Reads the frame at the start of `bytes`.
#[must_use]
pub fn read(bytes: &[u8]) -> Frame {
    let Some((head, rest)) = bytes.split_at_checked(HEAD_BYTES) else { return Frame::Cut };
    let number = |range: std::ops::Range<usize>| {
        head.get(range).and_then(|part| part.try_into().ok()).map_or(u32::MAX, u32::from_le_bytes)
    };
    let (length, checksum) = (usize::try_from(number(0..4)).unwrap_or(usize::MAX), number(4..8));
    // The first release let larger ones through, of which none can be longer than this.
    if length == 0 || length > FIRST_RELEASE_BYTES {
        return Frame::Damaged("its length cannot be right", None);
    }
    let Some(body) = rest.get(..length) else { return Frame::Cut };
    let next = HEAD_BYTES + length;
    if crc32fast::hash(body) != checksum {
        return Frame::Damaged("its checksum is wrong", Some(next));
    }
    let settled = match body.split_first() {
        Some((&VERSION, line)) => line::read(line, false),
        Some((&WITH_PRESET, line)) => line::read(line, true),
        Some((b'{', _)) => first::read(body),
        Some(_) | None => return Frame::Damaged("its version is unknown; a newer release wrote it", Some(next)),
    };
    match settled {
        Some(settled) => Frame::Whole(Box::new(settled), next),
        None => Frame::Damaged("its entry cannot be read", Some(next)),
    }
}

/// Whether a frame could begin at the start of `bytes`, as far as its first bytes tell: cheap, for whoever looks for one.
#[must_use]
pub fn could_begin(bytes: &[u8]) -> bool {
    let length = bytes.get(..4).and_then(|length| length.try_into().ok()).map_or(0, u32::from_le_bytes);
    let is_plausible =
        length > 0 && usize::try_from(length).is_ok_and(|length| length <= bytes.len().saturating_sub(HEAD_BYTES));
    is_plausible && matches!(bytes.get(HEAD_BYTES), Some(&(VERSION | WITH_PRESET | b'{')))
}

/// Longest body that the first release read.
const FIRST_RELEASE_BYTES: usize = 16 * 1024 * 1024;

#[cfg(test)]
mod tests;
