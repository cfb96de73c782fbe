//! An entry as a frame of the spool file: length, checksum, JSON.
//!
//! A segment begins with eight magic bytes that hold the version; each frame is `length: u32`, `crc32: u32` (both
//! little-endian), then that many bytes. Reading stops at the first frame that is cut or damaged and says where.

use super::entry::{Settled, Spooled};

/// The first bytes of a segment: name and version of the form.
pub const SEGMENT_MAGIC: &[u8; 8] = b"WDRSPL01";

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

/// Longest frame that is believed: a damaged length must not become a huge allocation.
const MAX_FRAME_BYTES: u32 = 16 * 1024 * 1024;

const HEAD_BYTES: usize = 8;

/// What stands at a place of a segment.
#[derive(Debug)]
pub enum Frame {
    /// An entry, and how many bytes its frame takes.
    Whole(Box<Spooled>, usize),
    /// The rest is shorter than a frame: the writer is still at it, or was cut.
    Cut,
    /// The bytes are not a frame.
    Damaged(&'static str),
}

/// Appends the frame of `settled` to `out`.
///
/// # Panics
/// Never: every part of an entry has a JSON form.
pub fn write(settled: &Settled, out: &mut Vec<u8>) {
    let body = serde_json::to_vec(settled).expect("every part of an entry has a JSON form");
    let length = u32::try_from(body.len()).expect("an entry is far below 4 GiB");
    out.extend_from_slice(&length.to_le_bytes());
    out.extend_from_slice(&crc32fast::hash(&body).to_le_bytes());
    out.extend_from_slice(&body);
}

/// Reads the frame at the start of `bytes`.
#[must_use]
pub fn read(bytes: &[u8]) -> Frame {
    let Some((head, rest)) = bytes.split_at_checked(HEAD_BYTES) else { return Frame::Cut };
    let number = |range: std::ops::Range<usize>| {
        head.get(range).and_then(|part| part.try_into().ok()).map_or(u32::MAX, u32::from_le_bytes)
    };
    let (length, checksum) = (number(0..4), number(4..8));
    if length > MAX_FRAME_BYTES {
        return Frame::Damaged("its length cannot be right");
    }
    let length = usize::try_from(length).unwrap_or(usize::MAX);
    let Some(body) = rest.get(..length) else { return Frame::Cut };
    if crc32fast::hash(body) != checksum {
        return Frame::Damaged("its checksum is wrong");
    }
    match serde_json::from_slice(body) {
        Ok(settled) => Frame::Whole(Box::new(settled), HEAD_BYTES + length),
        Err(_) => Frame::Damaged("its entry cannot be read"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::entry::{LedgerEntry, QuotaUse, RequestDetail};
    use crate::name::Name;
    use crate::quota::QuotaId;
    use crate::request_id::RequestId;
    use chrono::DateTime;
    use rust_decimal::Decimal;

    fn settled() -> Settled {
        let at = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let id = RequestId::mint(at, 1, 1);
        let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
        let labels = [("feature".to_owned(), "search".to_owned())].into();
        let entry = LedgerEntry { labels, ..LedgerEntry::of_request(at, id, team, route) };
        let quota = QuotaId::from_store("timetables/requests/day".into());
        let quotas = vec![QuotaUse { quota, window_start: at, amount: Decimal::ONE }];
        Settled { entry, detail: RequestDetail::default(), quotas }
    }

    #[test]
    fn a_frame_of_the_first_release_is_read() {
        let mut body = serde_json::to_value(settled()).unwrap();
        body["quotas"][0]["window_start"] = serde_json::json!("2026-09-21T14:13:20Z");
        let body = body.to_string();
        let length = u32::try_from(body.len()).unwrap().to_le_bytes();
        let frame = [&length[..], &crc32fast::hash(body.as_bytes()).to_le_bytes(), body.as_bytes()].concat();
        assert!(matches!(read(&frame), Frame::Whole(found, _) if found.quotas == settled().quotas));
    }

    #[test]
    fn a_frame_is_read_back_and_every_cut_and_flipped_bit_is_seen() {
        let mut bytes = Vec::new();
        write(&settled(), &mut bytes);
        let Frame::Whole(found, taken) = read(&bytes) else { panic!("the frame is whole") };
        assert_eq!(taken, bytes.len());
        assert_eq!(Settled::from_spooled(*found).unwrap(), settled());
        for length in 0..bytes.len() {
            assert!(matches!(read(&bytes[..length]), Frame::Cut), "cut at {length}");
        }
        for place in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[place] ^= 1;
            assert!(!matches!(read(&damaged), Frame::Whole(..)), "flipped at {place}");
        }
    }
}
