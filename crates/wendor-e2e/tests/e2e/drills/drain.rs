//! How fast a backlog drains. The figure is told, not asserted: a busy machine says nothing about the code.

use chrono::{TimeDelta, Utc};
use rust_decimal::Decimal;
use wendor_core::metering::detail::{Attempt, RequestDetail};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{Latency, LedgerEntry, QuotaUse, Record, RequestRecord, Settled, Spooled};
use wendor_core::metering::rate::Cost;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::QuotaId;
use wendor_core::request_id::RequestId;
use wendor_core::routing::queue::Lane;
use wendor_postgres::Database;
use wendor_store::Store;
use wendor_store::ledger::{MAX_BATCH, SpoolPlace};
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::usage::TokenCounts;

use super::{of, tell};

/// A usual entry: two attempts, three quotas, one of five teams and three routes.
fn entry(number: u32, begun: chrono::DateTime<Utc>) -> Spooled {
    let at = begun + TimeDelta::milliseconds(i64::from(number) / 10);
    let team = ["timetables", "freight-desk", "passenger-care", "harbour-ops", "data-lab"][number as usize % 5];
    let route = ["night-sailings", "manifests", "lost-luggage"][number as usize % 3];
    let offer = OfferName::parse("quarry/fulmar-large").unwrap();
    let latency =
        Latency { admitted_ms: 1, waited_ms: 0, answering_ms: Some(2), first_token_ms: Some(200), whole_ms: 1_500 };
    let part = |digits: i64| wendor_core::metering::money::Money::new(Decimal::new(digits, 9));
    let entry = LedgerEntry {
        key: format!("key-of-{team}").into(),
        offer: Some(offer.clone()),
        revision: 7,
        tokens: TokenCounts { input: 800, input_cached: 200, output: 300, ..TokenCounts::default() },
        cost: Some(Cost { input: part(2_400_000), output: part(4_500_000), ..Cost::default() }),
        record: Record::Request(RequestRecord {
            attempts: 2,
            streamed: true,
            end: End::Proper,
            failure: None,
            latency,
            lane: Lane::default(),
        }),
        ..LedgerEntry::of_request(
            at,
            RequestId::mint(at, number >> 20, number),
            Name::parse(team).unwrap(),
            Name::parse(route).unwrap(),
        )
    };
    let attempt = |failure: Option<Failure>| Attempt {
        offer: offer.clone(),
        began_ms: 2,
        ended_ms: 1_500,
        failure,
        spent: None,
        served_from: None,
    };
    let attempts = vec![attempt(Some(Failure::new(FailureKind::TimedOut, "no first token within 2s"))), attempt(None)];
    let detail = RequestDetail { attempts, reserved_cost: Some(part(9_000_000)), ..RequestDetail::default() };
    let quotas = ["requests/minute", "tokens/day", "cost/month"].map(|quota| QuotaUse {
        quota: QuotaId::from_store(&format!("{team}/{quota}")),
        window_start: chrono::DateTime::UNIX_EPOCH,
        amount: Decimal::ONE,
    });
    Settled { entry, detail: Some(detail), quotas: quotas.into() }.spooled()
}

#[tokio::test]
async fn a_backlog_drains_whole_and_its_pace_is_told() {
    let count: u32 = of(5_000, 100_000);
    let database = Database::fresh().await;
    let store = Store::new(&database.url).unwrap();
    store.migrate().await.unwrap();
    let begun = Utc::now();
    let entries: Vec<Spooled> = (0..count).map(|number| entry(number, begun)).collect();
    let began = std::time::Instant::now();
    let mut drained = 0;
    for (number, batch) in entries.chunks(MAX_BATCH).enumerate() {
        let place = SpoolPlace { spool: "drill".to_owned(), segment: 1, offset: number as u64 };
        drained += store.drain(batch, Some(&place)).await.unwrap();
    }
    let took = began.elapsed();
    assert_eq!(drained, u64::from(count));
    let mut connection = database.connect().await;
    let rows: (i64, i64) =
        sqlx::query_as("select (select count(*) from request_detail), (select sum(requests)::bigint from usage_hour)")
            .fetch_one(&mut connection)
            .await
            .unwrap();
    assert_eq!(rows, (i64::from(count), i64::from(count)));
    tell(&format!("drain: {count} entries in {took:.2?}, {:.0} a second", f64::from(count) / took.as_secs_f64()));
}
