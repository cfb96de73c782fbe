use chrono::{DateTime, Utc};
use proptest::prelude::*;
use rstest::rstest;
use rust_decimal::Decimal;
use wendor_wire::change::RequestChange;
use wendor_wire::failure::FailureKind;
use wendor_wire::images::{ImageSize, Images};
use wendor_wire::usage::{Counted, TokenCounts};

use super::*;
use crate::metering::detail::RequestDetail;
use crate::metering::end::End;
use crate::metering::entry::{AdjustmentRecord, AttemptRecord, CheckRecord, Latency, Record, RequestRecord};
use crate::metering::money::Money;
use crate::metering::rate::Cost;
use crate::name::{Name, OfferName};
use crate::quota::QuotaId;
use crate::request_id::RequestId;
use crate::routing::queue::Lane;

fn at() -> DateTime<Utc> {
    DateTime::from_timestamp_micros(1_790_000_000_123_456).unwrap()
}

fn latency() -> Latency {
    Latency { admitted_ms: 1, waited_ms: 0, answering_ms: Some(2), first_token_ms: None, whole_ms: 70_000 }
}

fn settled(record: Record) -> Settled {
    let id = RequestId::mint(at(), 1, 1);
    let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
    let part = |text: &str| Money::parse(text).unwrap();
    let entry = LedgerEntry {
        entry_id: RequestId::mint(at(), 1, 2),
        run: Some("run-1".to_owned()),
        labels: [("feature".to_owned(), "search".to_owned())].into(),
        key: "k7".into(),
        offer: Some(OfferName::parse("farlight/fulmar/large").unwrap()),
        revision: 7,
        tokens: TokenCounts { input: 1, input_cached: 2, cache_written: 3, output: 400_000, reasoning: 5, preset: 0 },
        images: Images { count: 2, size: Some(ImageSize::parse("1024x768").unwrap()) },
        counted: Counted::Estimated,
        cost: Some(Cost {
            input: part("0.000000000001"),
            output: part("-3.5"),
            images: part("0.08"),
            ..Cost::default()
        }),
        record,
        ..LedgerEntry::of_request(at(), id, team, route)
    };
    let detail = RequestDetail { changes: vec![RequestChange::new("model", "a", "b")], ..RequestDetail::default() };
    let window_start = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
    let quota = QuotaId::from_store("timetables/requests/day");
    Settled { entry, detail: Some(detail), quotas: vec![QuotaUse { quota, window_start, amount: Decimal::ONE }] }
}

fn request() -> Record {
    Record::Request(RequestRecord {
        attempts: 3,
        streamed: true,
        end: End::Abandoned,
        failure: Some(FailureKind::TimedOut),
        latency: latency(),
        lane: Lane::default(),
    })
}

fn waited() -> Record {
    let Record::Request(request) = request() else { panic!("it is a request") };
    Record::Request(RequestRecord {
        latency: Latency { waited_ms: 1_200, ..request.latency },
        lane: Lane::Batch,
        ..request
    })
}

#[rstest]
#[case::request(request())]
#[case::one_that_waited(waited())]
#[case::attempt(Record::Attempt(AttemptRecord { number: 2, streamed: false, failure: None, began_ms: 4, ended_ms: 9 }))]
#[case::check(Record::Check(CheckRecord { streamed: true, end: End::Proper, latency: latency() }))]
#[case::adjustment(Record::Adjustment(AdjustmentRecord { reason: "charged twice".to_owned() }))]
fn a_frame_is_read_back(#[case] record: Record) {
    let settled = settled(record);
    let mut bytes = Vec::new();
    write_settled(&settled, &mut bytes);
    let Frame::Whole(found, taken) = read(&bytes) else { panic!("the frame is whole") };
    assert_eq!((taken, *found), (bytes.len(), settled.spooled()));
}

#[test]
fn the_tokens_of_a_preset_are_kept() {
    let mut settled = settled(request());
    settled.entry.tokens.preset = 300;
    let mut bytes = Vec::new();
    write_settled(&settled, &mut bytes);
    assert_eq!(bytes[HEAD_BYTES], WITH_PRESET);
    let Frame::Whole(found, taken) = read(&bytes) else { panic!("the frame is whole") };
    assert_eq!((taken, *found), (bytes.len(), settled.spooled()));
    assert!(could_begin(&bytes));
}

#[test]
fn every_cut_and_flipped_bit_is_seen() {
    let mut bytes = Vec::new();
    write_settled(&settled(request()), &mut bytes);
    for length in 0..bytes.len() {
        assert!(matches!(read(&bytes[..length]), Frame::Cut), "cut at {length}");
    }
    for place in 0..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[place] ^= 1;
        assert!(!matches!(read(&damaged), Frame::Whole(..)), "flipped at {place}");
    }
}

#[test]
fn a_detail_past_the_bound_is_left_out_and_the_line_stays() {
    let settled = settled(request());
    let mut bytes = Vec::new();
    write(&settled.entry, Some(&"x".repeat(MAX_BODY_BYTES)), &settled.quotas, &mut bytes);
    assert!(bytes.len() < HEAD_BYTES + MAX_BODY_BYTES);
    let Frame::Whole(found, _) = read(&bytes) else { panic!("the frame is whole") };
    assert_eq!((found.entry, found.detail), (settled.entry, None));
}

/// Written by the first release.
const FIRST: &str = r#"{"entry":{"at":"2026-09-21T14:13:20Z","entry_id":"1JC0D9-G000040001","kind":"check","request":"1JC0D9-G000040001","labels":{"feature":"search"},"team":"timetables","key":"k7","route":"night-sailings","offer":"quarry/fulmar-mini","revision":7,"attempts":1,"streamed":true,"tokens":{"input":1,"input_cached":2,"cache_written":3,"output":4,"reasoning":0},"counted":"estimated","cost":{"input":"0.1","input_cached":"0","cache_written":"0","output":"2"},"end":"proper","latency":{"admitted_ms":1,"whole_ms":9}},"detail":{"plan":[],"attempts":[],"changes":[]},"quotas":[{"quota":"timetables/requests/day","window_start":START,"amount":"1"}]}"#;

#[rstest]
#[case::seconds("1790000000")]
#[case::written_out("\"2026-09-21T14:13:20Z\"")]
fn a_frame_of_the_first_release_is_read(#[case] start: &str) {
    let body = FIRST.replace("START", start);
    let length = u32::try_from(body.len()).unwrap().to_le_bytes();
    let frame = [&length[..], &crc32fast::hash(body.as_bytes()).to_le_bytes(), body.as_bytes()].concat();
    let Frame::Whole(found, _) = read(&frame) else { panic!("the frame is whole") };
    assert_eq!(found.quotas[0].window_start.timestamp(), 1_790_000_000);
    assert_eq!(found.entry.cost.map(|cost| cost.total().to_string()).as_deref(), Some("2.1"));
    assert!(matches!(found.entry.record, Record::Check(CheckRecord { end: End::Proper, .. })));
    assert_eq!(found.detail.as_deref(), Some(r#"{"plan":[],"attempts":[],"changes":[]}"#));
}

proptest! {
    /// Bytes that nobody wrote cost nothing but themselves.
    #[test]
    fn garbage_is_never_an_entry_and_never_a_panic(body in prop::collection::vec(any::<u8>(), 1..300)) {
        let length = u32::try_from(body.len()).unwrap().to_le_bytes();
        let frame = [&length[..], &crc32fast::hash(&body).to_le_bytes(), &body].concat();
        let _not_a_panic = read(&frame);
    }
}

#[rstest]
#[case::whole(0, 0, true)]
#[case::with_more_behind_it(0, 9, true)]
#[case::cut(1, 0, false)]
#[case::cut_to_its_head(usize::MAX, 0, false)]
fn a_frame_could_begin_where_all_of_it_is(#[case] cut: usize, #[case] more: usize, #[case] could: bool) {
    let adjusted = Record::Adjustment(AdjustmentRecord { reason: "priced anew".to_owned() });
    let mut bytes = Vec::new();
    write_settled(&settled(adjusted), &mut bytes);
    bytes.truncate(bytes.len().saturating_sub(cut).max(HEAD_BYTES));
    bytes.extend(std::iter::repeat_n(0, more));
    assert_eq!(could_begin(&bytes), could);
}

#[rstest]
#[case::no_length(&[0; 64])]
#[case::another_version(&[1, 0, 0, 0, 9, 9, 9, 9, 250, 0, 0])]
#[case::nothing(&[])]
fn other_bytes_begin_no_frame(#[case] bytes: &[u8]) {
    assert!(!could_begin(bytes));
}

#[test]
fn the_name_of_a_segment_has_its_number() {
    assert_eq!(segment_number(&segment_name(42)), Some(42));
    assert_eq!(segment_number("aside.spool"), None);
}

/// Bytes of a frame that has a detail of so many, written behind another.
fn written(detail_bytes: usize) -> Vec<u8> {
    let settled = settled(request());
    let mut out = vec![0; 50_000];
    write(&settled.entry, Some(&"d".repeat(detail_bytes)), &settled.quotas, &mut out);
    out.split_off(50_000)
}

#[test]
fn a_body_at_its_bound_keeps_its_detail_and_one_above_goes_without() {
    let around = MAX_BODY_BYTES - 2_000;
    let beside = written(around).len() - HEAD_BYTES - around;
    let most = MAX_BODY_BYTES - beside;
    assert_eq!(written(most).len(), HEAD_BYTES + MAX_BODY_BYTES);
    assert!(written(most + 1).len() < 1_000);
}

#[rstest]
#[case::of_nothing(0, true)]
#[case::as_long_as_any_was(FIRST_RELEASE_BYTES, false)]
#[case::longer(FIRST_RELEASE_BYTES + 1, true)]
fn a_length_that_cannot_be_right_is_seen(#[case] length: usize, #[case] is_damaged: bool) {
    let mut bytes = vec![0; HEAD_BYTES + 4];
    bytes[..4].copy_from_slice(&u32::try_from(length).unwrap().to_le_bytes());
    assert_eq!(matches!(read(&bytes), Frame::Damaged(_, None)), is_damaged);
}

#[test]
fn a_frame_of_no_length_begins_nowhere() {
    let mut bytes = [0; HEAD_BYTES + 4];
    bytes[HEAD_BYTES] = VERSION;
    assert!(!could_begin(&bytes));
}

fn of_lane(waited_ms: u64, lane: Lane) -> Record {
    let Record::Request(request) = request() else { panic!("it is a request") };
    Record::Request(RequestRecord { latency: Latency { waited_ms, ..request.latency }, lane, ..request })
}

/// Most requests wait for nothing: they are written without the wait, as they were before there was one.
#[rstest]
#[case::usual(0, Lane::Interactive, true)]
#[case::waited(5, Lane::Interactive, false)]
#[case::of_the_other_lane(0, Lane::Batch, false)]
fn a_wait_is_written_where_there_was_one(#[case] waited_ms: u64, #[case] lane: Lane, #[case] is_short: bool) {
    let length = |record: Record| {
        let mut out = Vec::new();
        write_settled(&settled(record), &mut out);
        out.len()
    };
    let record = of_lane(waited_ms, lane);
    assert_eq!(length(record.clone()) == length(of_lane(0, Lane::Interactive)), is_short);
    let mut out = Vec::new();
    write_settled(&settled(record.clone()), &mut out);
    let Frame::Whole(spooled, _) = read(&out) else { panic!("it is whole") };
    assert_eq!(spooled.entry.record, record);
}
