use std::io::Write;
use std::path::Path;

use chrono::{DateTime, Utc};
use rstest::rstest;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::entry::{LedgerEntry, Settled};
use wendor_core::name::Name;
use wendor_core::request_id::RequestId;

use super::*;

const OPTIONS: Options = Options { sync: Sync::Never, segment_bytes: 64 * 1024, keep_free_bytes: 0 };

fn settled(number: u32) -> Settled {
    let at: DateTime<Utc> = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
    let id = RequestId::mint(at, 1, number);
    let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
    let entry = LedgerEntry::of_request(at, id, team, route);
    Settled { entry, detail: Some(RequestDetail::default()), quotas: vec![] }
}

fn frame(number: u32) -> Arc<[u8]> {
    let mut frame = Vec::new();
    spool_frame::write_settled(&settled(number), &mut frame);
    Arc::from(frame)
}

fn open_with(folder: &Path, drained: Option<Place>, options: Options) -> (Spool, SpoolReader) {
    Spool::open(Claim::take(folder).unwrap(), drained, options).unwrap()
}

fn open(folder: &Path) -> (Spool, SpoolReader) {
    open_with(folder, None, OPTIONS)
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
        ids.extend(batch.entries.iter().map(|settled| settled.entry.request));
        reader.done(batch.place_after(batch.entries.len()), batch.entries.len()).unwrap();
    }
}

fn ids(numbers: std::ops::Range<u32>) -> Vec<RequestId> {
    numbers.map(|number| settled(number).entry.request).collect()
}

#[tokio::test]
async fn entries_are_drained_once_in_order_and_across_starts() {
    let folder = tempfile::tempdir().unwrap();
    let place = {
        let (spool, mut reader) = open(folder.path());
        append(&spool, 0..5).await;
        assert_eq!(spool.pending(), 5);
        let first = reader.read(2).unwrap();
        let place = first.place_after(2);
        reader.done(place, 2).unwrap();
        assert_eq!((first.entries.len(), first.is_all, spool.pending()), (2, false, 3));
        place
    };
    let (spool, mut reader) = open_with(folder.path(), Some(place), OPTIONS);
    append(&spool, 5..7).await;
    let mut pending = Vec::new();
    assert_eq!(reader.each_pending(|settled| pending.push(settled.entry.request)).unwrap(), 5);
    assert_eq!(pending, ids(2..7));
    // The rest of the first segment is not all: the drain must not wait for more after it.
    let of_first_segment = reader.read(100).unwrap();
    assert_eq!((of_first_segment.entries.len(), of_first_segment.is_all), (3, false));
    assert_eq!(drain(&mut reader, 3), ids(2..7));
    append(&spool, 7..8).await;
    assert!(reader.read(100).unwrap().is_all);
    assert!(segments_in(folder.path()).unwrap().len() == 1, "what is drained is deleted");
}

/// The place that stands in the database may lie anywhere between two entries: what is before it is not drained again.
#[tokio::test]
async fn a_batch_may_be_drained_in_parts() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, mut reader) = open(folder.path());
    append(&spool, 0..6).await;
    let batch = reader.read(100).unwrap();
    for part in 1..=6usize {
        let rest = open_reader(folder.path(), batch.place_after(part));
        assert_eq!(rest, ids(u32::try_from(part).unwrap()..6), "after {part}");
    }
    drop(spool);
}

/// What a reader that begins at `place` finds in a copy of the folder.
fn open_reader(folder: &Path, place: Place) -> Vec<RequestId> {
    let copy = tempfile::tempdir().unwrap();
    for number in segments_in(folder).unwrap() {
        std::fs::copy(segment_path(folder, number), segment_path(copy.path(), number)).unwrap();
    }
    let (_spool, mut reader) = open_with(copy.path(), Some(place), OPTIONS);
    drain(&mut reader, 100)
}

#[tokio::test]
async fn a_second_service_does_not_get_the_folder_until_the_first_is_gone() {
    let folder = tempfile::tempdir().unwrap();
    let first = open(folder.path());
    assert!(matches!(Claim::take(folder.path()), Err(SpoolError::InUse(_))));
    drop(first);
    assert!(Claim::take(folder.path()).is_ok());
}

#[test]
fn a_folder_stays_with_its_installation_and_keeps_its_id() {
    let folder = tempfile::tempdir().unwrap();
    let first = Claim::take(folder.path()).unwrap();
    first.bind("stack-isle").unwrap();
    let id = first.id().to_owned();
    drop(first);
    let again = Claim::take(folder.path()).unwrap();
    assert_eq!(again.id(), id);
    assert!(again.bind("stack-isle").is_ok());
    assert!(
        matches!(again.bind("gull-sound"), Err(SpoolError::OtherInstallation { found, .. }) if found == "stack-isle")
    );
}

#[tokio::test]
async fn segments_are_rotated_and_their_numbers_never_come_back() {
    let folder = tempfile::tempdir().unwrap();
    let small = Options { segment_bytes: 600, ..OPTIONS };
    let place = {
        let (spool, mut reader) = open_with(folder.path(), None, small);
        append(&spool, 0..20).await;
        assert!(segments_in(folder.path()).unwrap().len() > 3);
        assert_eq!(drain(&mut reader, 3), ids(0..20));
        *locked(&spool.shared().written)
    };
    for number in segments_in(folder.path()).unwrap() {
        std::fs::remove_file(segment_path(folder.path(), number)).unwrap();
    }
    let (spool, mut reader) = open_with(folder.path(), Some(place), small);
    append(&spool, 20..21).await;
    assert_eq!(drain(&mut reader, 3), ids(20..21), "a place that was noted is never passed by a later entry");
    assert!(segments_in(folder.path()).unwrap()[0] > place.segment);
}

/// What a failed rotation leaves does not stand in the way of the next.
#[tokio::test]
async fn what_a_failed_rotation_left_is_taken_over() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(folder.path()).unwrap();
    std::fs::write(folder.path().join("spare"), vec![7; 4_096]).unwrap();
    let (spool, mut reader) = open(folder.path());
    append(&spool, 0..3).await;
    assert_eq!(drain(&mut reader, 100), ids(0..3));
}

/// What a crash leaves at the end of a segment, and what a bad disk leaves in the middle.
#[rstest]
#[case::cut_in_the_middle_of_an_entry(&[9, 0, 0, 0, 1, 2, 3, 4, 2], 0)]
#[case::cut_in_the_head_of_an_entry(&[9, 0], 0)]
#[case::never_written(&[0; 5_000], 0)]
#[case::damaged(&[2, 0, 0, 0, 1, 2, 3, 4, 2, 2], 1)]
#[case::a_length_that_cannot_be(&[255, 255, 255, 255, 0, 0, 0, 0], 1)]
#[tokio::test]
async fn a_bad_end_of_a_segment_costs_no_other_entry(#[case] tail: &[u8], #[case] set_aside: u64) {
    let folder = tempfile::tempdir().unwrap();
    {
        let (spool, _reader) = open(folder.path());
        append(&spool, 0..3).await;
    }
    let segment = segment_path(folder.path(), 1);
    std::fs::OpenOptions::new().append(true).open(&segment).unwrap().write_all(tail).unwrap();
    let (spool, mut reader) = open(folder.path());
    append(&spool, 3..5).await;
    assert_eq!(drain(&mut reader, 100), ids(0..5));
    assert_eq!(spool.aside().count(), set_aside, "what is damaged is kept for looking at");
}

/// Every byte of an entry in the middle of the segment that is written to is damaged in turn: nothing else is lost.
#[tokio::test]
async fn a_damaged_entry_is_passed_over_alone() {
    let damaged = frame(1).len();
    for place in 0..damaged {
        let folder = tempfile::tempdir().unwrap();
        let (spool, mut reader) = open(folder.path());
        append(&spool, 0..4).await;
        let path = segment_path(folder.path(), 1);
        let mut bytes = std::fs::read(&path).unwrap();
        bytes[8 + frame(0).len() + place] ^= 0x41;
        std::fs::write(&path, &bytes).unwrap();
        assert_eq!(drain(&mut reader, 100), [ids(0..1), ids(2..4)].concat(), "byte {place}");
        assert_eq!(spool.aside().count(), 1, "byte {place}");
        append(&spool, 4..5).await;
        assert_eq!(drain(&mut reader, 100), ids(4..5), "the segment goes on being written and read");
    }
}

#[tokio::test]
async fn what_is_set_aside_is_named_counted_and_read_back() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, reader) = open(folder.path());
    for _ in 0..2 {
        reader.set_aside(&settled(7).spooled(), "the database refused it").unwrap();
    }
    assert_eq!(spool.aside().count(), 1, "doing so again changes nothing");
    drop((spool, reader));
    let (spool, _reader) = open(folder.path());
    assert_eq!(spool.aside().count(), 1, "and it is still there after a start");
    let things = spool.aside().list(10).unwrap();
    assert_eq!(
        (things[0].why.as_str(), things[0].entry.as_deref()),
        ("the database refused it", Some(&settled(7).spooled()))
    );
    spool.aside().done(&things[0]).unwrap();
    assert_eq!((spool.aside().count(), spool.aside().list(10).unwrap().len()), (0, 0));
}

#[tokio::test]
async fn slots_bound_what_is_under_way_and_come_back() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _reader) = open(folder.path());
    let slots: Vec<SpoolSlot> = std::iter::from_fn(|| spool.take_slot().ok()).collect();
    assert_eq!(slots.len(), SLOTS);
    assert!(matches!(spool.take_slot(), Err(NoSlot::Full)));
    drop(slots);
    append(&spool, 0..1).await;
}

#[tokio::test]
async fn below_the_mark_requests_are_refused_and_what_is_under_way_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, mut reader) = open_with(folder.path(), None, Options { keep_free_bytes: u64::MAX, ..OPTIONS });
    assert!(matches!(spool.take_slot(), Err(NoSlot::NoRoom)));
    let slot = SpoolSlot(spool.shared().clone());
    spool.shared().taken.fetch_add(1, Ordering::Relaxed);
    slot.append(frame(0)).wait().await;
    assert_eq!(drain(&mut reader, 10), ids(0..1));
}

/// Many waiters on several threads, each let go on exactly when its own entry is in the file.
#[rstest]
#[case::always(Sync::Always)]
#[case::batch(Sync::Batch(std::time::Duration::from_millis(1)))]
#[case::never(Sync::Never)]
#[tokio::test(flavor = "multi_thread", worker_threads = 3)]
async fn everyone_who_waits_goes_on_once_the_entry_is_written(#[case] sync: Sync) {
    let folder = tempfile::tempdir().unwrap();
    let (spool, mut reader) = open_with(folder.path(), None, Options { sync, ..OPTIONS });
    let spool = Arc::new(spool);
    let waits = (0..400).map(|number| {
        let spool = spool.clone();
        tokio::spawn(async move { spool.take_slot().unwrap().append(frame(number)).wait().await })
    });
    for wait in waits.collect::<Vec<_>>() {
        wait.await.unwrap();
    }
    let mut drained = drain(&mut reader, 100);
    drained.sort_unstable();
    assert_eq!(drained, ids(0..400));
}

/// One who waits and goes away takes nobody with it, and a thread whose runtime ended wakes no one of the next.
#[test]
fn waiting_survives_those_who_leave_and_runtimes_that_end() {
    let folder = tempfile::tempdir().unwrap();
    let mut spool = None;
    for round in 0..3u32 {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (spool, _reader) = spool.get_or_insert_with(|| open(folder.path()));
            let mut left = spool.take_slot().unwrap().append(frame(round * 2));
            let _polled = futures_util::poll!(std::future::poll_fn(|context| left.poll_written(context)));
            drop(left);
            spool.take_slot().unwrap().append(frame(round * 2 + 1)).wait().await;
        });
    }
    let (_, mut reader) = spool.unwrap();
    assert_eq!(drain(&mut reader, 100), ids(0..6));
}

#[test]
fn the_spools_of_instances_that_are_gone_are_found_once() {
    let volume = tempfile::tempdir().unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let make = |name: &str, installation: &str, entries: u32| {
        let claim = Claim::take(&volume.path().join(name)).unwrap();
        claim.bind(installation).unwrap();
        let (spool, reader) = Spool::open(claim, None, OPTIONS).unwrap();
        runtime.block_on(append(&spool, 0..entries));
        (spool, reader)
    };
    let (own, _) = make("own", "stack-isle", 1);
    let living = make("living", "stack-isle", 1);
    drop(make("gone", "stack-isle", 2));
    drop(make("of-others", "gull-sound", 1));
    let none = std::time::Duration::ZERO;
    assert!(
        claim::orphans(own.claim(), "stack-isle", std::time::Duration::from_secs(60)).unwrap().is_empty(),
        "gone for too short"
    );
    let mut orphans = claim::orphans(own.claim(), "stack-isle", none).unwrap();
    assert_eq!(orphans.len(), 1);
    assert!(orphans[0].folder().ends_with("gone"));
    assert!(claim::orphans(own.claim(), "stack-isle", none).unwrap().is_empty(), "somebody has it");
    let (spool, mut reader) = Spool::open(orphans.remove(0), None, OPTIONS).unwrap();
    assert_eq!(drain(&mut reader, 10), ids(0..2));
    spool.into_claim().give_back().unwrap();
    assert!(claim::orphans(own.claim(), "stack-isle", none).unwrap().is_empty(), "there is nothing left in it");
    drop(living);
}
