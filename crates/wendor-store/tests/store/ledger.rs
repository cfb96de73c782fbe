//! Lines of the ledger, roll-ups and quotas: each line counts once, and figures of any range are the sums of the lines in it.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use rust_decimal::Decimal;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{Latency, LedgerEntry, QuotaUse, Record, RequestRecord, Settled, Spooled};
use wendor_core::metering::rate::Cost;
use wendor_core::metering::rollup::RollUp;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::QuotaId;
use wendor_core::request_id::RequestId;
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery};
use wendor_wire::usage::TokenCounts;

use crate::{at, fresh};

pub fn request(whole_ms: u64) -> RequestRecord {
    let latency = Latency { first_token_ms: Some(20), whole_ms, ..Latency::default() };
    let lane = wendor_core::routing::queue::Lane::default();
    RequestRecord { attempts: 1, streamed: true, end: End::Proper, failure: None, latency, lane }
}

pub fn settled(number: u32, at: DateTime<Utc>) -> Spooled {
    let id = RequestId::mint(at, 1, number);
    let cost =
        Cost { output: "0.000015".parse().map(wendor_core::metering::money::Money::new).unwrap(), ..Cost::default() };
    let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
    let entry = LedgerEntry {
        offer: OfferName::parse("quarry/fulmar-large").ok(),
        tokens: TokenCounts { input: 5, output: 1, ..TokenCounts::default() },
        cost: Some(cost),
        record: Record::Request(request(30)),
        ..LedgerEntry::of_request(at, id, team, route)
    };
    let quota = QuotaId::from_store("timetables/requests/day");
    let quotas = vec![QuotaUse { quota, window_start: DateTime::UNIX_EPOCH, amount: Decimal::ONE }];
    Settled { entry, detail: Some(RequestDetail::default()), quotas }.spooled()
}

/// Batches that overlap, come twice, and span months; instants finer than the database keeps them.
#[tokio::test]
async fn draining_twice_is_harmless() {
    let (database, store) = fresh().await;
    let at: DateTime<Utc> = "2026-10-31T23:59:59.123456789Z".parse().unwrap();
    let batch: Vec<Spooled> =
        (0..6).map(|number| settled(number, at + TimeDelta::milliseconds(i64::from(number) * 300))).collect();
    assert_eq!(store.drain(&batch[..4], None).await.unwrap(), 4);
    assert_eq!(store.drain(&batch[..4], None).await.unwrap(), 0);
    assert_eq!(store.drain(&batch[2..], None).await.unwrap(), 2);
    let mut connection = database.connect().await;
    let rollups: (i64, Decimal) = sqlx::query_as("select sum(requests)::bigint, sum(cost) from usage_hour")
        .fetch_one(&mut connection)
        .await
        .unwrap();
    assert_eq!(rollups, (6, "0.000090".parse().unwrap()));
    let used: Decimal =
        sqlx::query_scalar("select settled from quota_window").fetch_one(&mut connection).await.unwrap();
    assert_eq!(used, Decimal::from(6));
    let (found, detail) = store.request(&batch[5].entry.request).await.unwrap().unwrap();
    assert_eq!((found.tokens, detail), (batch[5].entry.tokens, Some(RequestDetail::default())));
}

/// Figures of any range, however it cuts hours, equal the sum of the lines in it; a seed picks entries and ranges.
#[tokio::test]
async fn any_range_of_usage_equals_its_lines() {
    let (_database, store) = fresh().await;
    let mut random = SmallRng::seed_from_u64(11);
    let begin: DateTime<Utc> = "2026-10-31T20:00:00Z".parse().unwrap();
    let instant = |random: &mut SmallRng| begin + TimeDelta::milliseconds(random.random_range(0..8 * 3_600_000));
    let mut entries: Vec<Spooled> = (0..300).map(|number| settled(number, instant(&mut random))).collect();
    for settled in &mut entries {
        settled.entry.tokens.input = random.random_range(0..5_000);
        settled.entry.key = format!("k{}", random.random_range(0..3)).into();
        settled.entry.record = Record::Request(request(random.random_range(0..60_000)));
    }
    for batch in entries.chunks(70) {
        store.drain(batch, None).await.unwrap();
    }
    for _ in 0..40 {
        let (mut from, mut to) = (instant(&mut random), instant(&mut random));
        if random.random_bool(0.3) {
            from = wendor_core::quota::window::Window::Hour.around(from).start;
        }
        if from > to {
            std::mem::swap(&mut from, &mut to);
        }
        let query = UsageQuery::of(from, to, Dimension::Key, UsageFilter::default());
        let rows = store.usage(&query).await.unwrap();
        let mut expected: BTreeMap<String, RollUp> = BTreeMap::new();
        for settled in entries.iter().filter(|settled| (from..to).contains(&settled.entry.at)) {
            expected.entry(settled.entry.key.to_string()).or_default().add(&settled.entry);
        }
        assert_eq!(rows, expected, "{from} to {to}");
    }
}

/// A filter leaves the same lines in whole hours and in parts of hours.
#[tokio::test]
async fn a_filter_holds_for_whole_hours_and_parts() {
    let (_database, store) = fresh().await;
    let begin = at("2026-11-25T07:30:00Z");
    let mut entries: Vec<Spooled> =
        (0..60).map(|number| settled(number, begin + TimeDelta::minutes(i64::from(number) * 4))).collect();
    for (number, settled) in entries.iter_mut().enumerate() {
        let name = |names: [&str; 2]| Name::parse(names[number % 2]).unwrap();
        settled.entry.team = name(["timetables", "freight-desk"]);
        settled.entry.route = name(["night-sailings", "manifests"]);
        settled.entry.key = ["k1", "k2", "k3"][number % 3].into();
        settled.entry.offer = OfferName::parse(["quarry/fulmar-large", "quayside/dunlin-7b"][number % 2]).ok();
    }
    store.drain(&entries, None).await.unwrap();
    let filters = [
        UsageFilter { team: Name::parse("timetables").ok(), ..UsageFilter::default() },
        UsageFilter { route: Name::parse("manifests").ok(), ..UsageFilter::default() },
        UsageFilter { key: Some("k2".to_owned()), ..UsageFilter::default() },
        UsageFilter { offer: OfferName::parse("quarry/fulmar-large").ok(), ..UsageFilter::default() },
        UsageFilter { upstream: Name::parse("quayside").ok(), ..UsageFilter::default() },
    ];
    for filter in filters {
        let is_left = |entry: &LedgerEntry| {
            let offer = entry.offer.as_ref();
            filter.team.as_ref().is_none_or(|team| *team == entry.team)
                && filter.route.as_ref().is_none_or(|route| *route == entry.route)
                && filter.key.as_ref().is_none_or(|key| *key == entry.key)
                && filter.offer.as_ref().is_none_or(|wanted| offer == Some(wanted))
                && filter.upstream.as_ref().is_none_or(|wanted| offer.is_some_and(|offer| offer.upstream() == wanted))
        };
        for (from, to) in
            [("07:00:00", "12:00:00"), ("08:00:00", "10:00:00"), ("07:41:00", "10:13:00"), ("09:03:00", "09:40:00")]
        {
            let (from, to) = (at(&format!("2026-11-25T{from}Z")), at(&format!("2026-11-25T{to}Z")));
            let query = UsageQuery::of(from, to, Dimension::Team, filter.clone());
            let requests: u64 = store.usage(&query).await.unwrap().values().map(|sums| sums.requests).sum();
            let lines = entries.iter().map(|settled| &settled.entry);
            let expected = lines.filter(|entry| (from..to).contains(&entry.at) && is_left(entry)).count() as u64;
            assert_eq!(requests, expected, "{filter:?} from {from} to {to}");
        }
    }
}

/// A kind that this binary does not know is an error, and no request.
#[tokio::test]
async fn a_line_of_an_unknown_kind_cannot_be_read() {
    let (database, store) = fresh().await;
    let entry = settled(1, at("2026-11-25T08:10:00Z"));
    store.drain(std::slice::from_ref(&entry), None).await.unwrap();
    let mut connection = database.connect().await;
    sqlx::query("alter table ledger drop constraint if exists ledger_kind_check")
        .execute(&mut connection)
        .await
        .unwrap();
    sqlx::query("update ledger set kind = 'refund'").execute(&mut connection).await.unwrap();
    let (from, to) = (at("2026-11-25T08:05:00Z"), at("2026-11-25T08:20:00Z"));
    let query = UsageQuery::of(from, to, Dimension::Team, UsageFilter::default());
    let error = store.usage(&query).await.unwrap_err();
    assert!(error.to_string().contains("refund"), "{error}");
}
