use std::io::Write;

use chrono::{DateTime, Utc};
use rstest::rstest;
use wendor_core::metering::entry::{LedgerEntry, RequestDetail, Settled};
use wendor_core::name::Name;
use wendor_core::request_id::RequestId;

use super::*;

fn settled(number: u32) -> Settled {
    let at: DateTime<Utc> = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
    let id = RequestId::mint(at, 1, number);
    let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
    let entry = LedgerEntry::of_request(at, id, team, route);
    Settled { entry, detail: RequestDetail::default(), quotas: vec![] }
}

fn frame(number: u32) -> Bytes {
    let mut frame = Vec::new();
    spool_frame::write(&settled(number), &mut frame);
    Bytes::from(frame)
}

async fn append(spool: &Spool, numbers: std::ops::Range<u32>) {
    for number in numbers {
        spool.take_slot().unwrap().append(frame(number)).wait().await;
    }
}

/// Reads everything in batches of `limit`, noting each as drained.
fn drain(reader: &mut SpoolReader, limit: usize) -> Vec<RequestId> {
    let mut ids = Vec::new();
    loop {
        let batch = reader.read(limit).unwrap();
        if batch.entries.is_empty() {
            return ids;
        }
        ids.extend(batch.entries.iter().map(|settled| settled.entry.request.clone()));
        reader.done(&batch).unwrap();
    }
}

fn ids(numbers: std::ops::Range<u32>) -> Vec<RequestId> {
    numbers.map(|number| settled(number).entry.request.clone()).collect()
}

#[tokio::test]
async fn entries_are_drained_once_in_order_and_across_starts() {
    let folder = tempfile::tempdir().unwrap();
    {
        let (spool, mut reader) = Spool::open(folder.path()).unwrap();
        append(&spool, 0..5).await;
        assert_eq!(spool.pending(), 5);
        let first = reader.read(2).unwrap();
        reader.done(&first).unwrap();
        assert_eq!((first.entries.len(), first.is_all, spool.pending()), (2, false, 3));
    }
    let (spool, mut reader) = Spool::open(folder.path()).unwrap();
    append(&spool, 5..7).await;
    let mut pending = Vec::new();
    assert_eq!(reader.each_pending(|settled| pending.push(settled.entry.request.clone())).unwrap(), 5);
    assert_eq!(pending, ids(2..7));
    // The rest of the first segment is not all: the drain must not wait for more after it.
    let of_first_segment = reader.read(100).unwrap();
    assert_eq!((of_first_segment.entries.len(), of_first_segment.is_all), (3, false));
    assert_eq!(drain(&mut reader, 3), ids(2..7));
    append(&spool, 7..8).await;
    assert!(reader.read(100).unwrap().is_all);
    assert!(segments_in(folder.path()).unwrap().len() == 1, "what is drained is deleted");
}

#[tokio::test]
async fn a_second_service_does_not_get_the_folder_until_the_first_is_gone() {
    let folder = tempfile::tempdir().unwrap();
    let (first, _reader) = Spool::open(folder.path()).unwrap();
    assert!(matches!(Spool::open(folder.path()), Err(SpoolError::InUse(_))));
    drop(first);
    assert!(Spool::open(folder.path()).is_ok());
}

/// What a crash leaves at the end of a segment, and what a bad disk leaves in the middle.
#[rstest]
#[case::cut_in_the_middle_of_an_entry(&[9, 0, 0, 0, 1, 2, 3, 4, b'{'], 0)]
#[case::cut_in_the_head_of_an_entry(&[9, 0], 0)]
#[case::damaged(&[2, 0, 0, 0, 1, 2, 3, 4, b'{', b'}'], 1)]
#[case::a_length_that_cannot_be(&[255, 255, 255, 255, 0, 0, 0, 0], 1)]
#[tokio::test]
async fn a_bad_end_of_a_segment_costs_no_other_entry(#[case] tail: &[u8], #[case] set_aside: usize) {
    let folder = tempfile::tempdir().unwrap();
    {
        let (spool, _reader) = Spool::open(folder.path()).unwrap();
        append(&spool, 0..3).await;
    }
    let segment = segment_path(folder.path(), 1);
    std::fs::OpenOptions::new().append(true).open(&segment).unwrap().write_all(tail).unwrap();
    let (spool, mut reader) = Spool::open(folder.path()).unwrap();
    append(&spool, 3..5).await;
    assert_eq!(drain(&mut reader, 100), ids(0..5));
    let aside = std::fs::read_dir(folder.path())
        .unwrap()
        .filter(|file| file.as_ref().unwrap().file_name().to_string_lossy().contains("damaged-at"));
    assert_eq!(aside.count(), set_aside, "what is damaged is kept for looking at");
}

#[tokio::test]
async fn slots_bound_what_is_under_way_and_come_back() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _reader) = Spool::open(folder.path()).unwrap();
    let slots: Vec<SpoolSlot> = std::iter::from_fn(|| spool.take_slot().ok()).collect();
    assert_eq!(slots.len(), SLOTS);
    assert!(matches!(spool.take_slot(), Err(NoSlot::Full)));
    drop(slots);
    append(&spool, 0..1).await;
}
