//! Sums of whole hours and days: whatever of them there is, figures are those of the lines.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{
    AdjustmentRecord, AttemptRecord, CheckRecord, Latency, LedgerEntry, Record, RequestRecord, Spooled,
};
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sums::Span;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_store::Store;
use wendor_store::usage::{Dimension, PAIR, UsageFilter, UsageQuery, day_name, hour_name, minute_name};
use wendor_wire::usage::Counted;

use crate::ledger::{request, settled};
use crate::{at, fresh};

pub(crate) const TEAMS: [&str; 2] = ["timetables", "freight-desk"];
pub(crate) const ROUTES: [&str; 2] = ["night-sailings", "manifests"];
const OFFERS: [&str; 3] = ["quarry/fulmar-large", "quarry/fulmar-mini", "quayside/dunlin-7b"];

fn begin() -> DateTime<Utc> {
    at("2026-11-23T22:00:00Z")
}

/// Of some days, with a key of each team.
pub(crate) fn entries(random: &mut SmallRng, numbers: std::ops::Range<u32>) -> Vec<Spooled> {
    numbers
        .map(|number| {
            let mut one = settled(number, begin() + TimeDelta::seconds(random.random_range(0..60 * 3_600)));
            let team = random.random_range(0..2);
            one.entry.team = Name::parse(TEAMS[team]).unwrap();
            one.entry.key = format!("k{team}{}", random.random_range(0..2)).into();
            one.entry.route = Name::parse(ROUTES[random.random_range(0..2)]).unwrap();
            one.entry.offer = OfferName::parse(OFFERS[random.random_range(0..3)]).ok();
            one.entry.tokens.input = random.random_range(0..5_000);
            one.entry.record = wendor_core::metering::entry::Record::Request(request(random.random_range(0..60_000)));
            one
        })
        .collect()
}

fn name_of(by: Dimension, entry: &LedgerEntry) -> String {
    let offer = entry.offer.as_ref();
    match by {
        Dimension::Team => entry.team.to_string(),
        Dimension::Route => entry.route.to_string(),
        Dimension::Offer => offer.map(ToString::to_string).unwrap_or_default(),
        Dimension::Key => entry.key.to_string(),
        Dimension::Upstream => offer.map(|offer| offer.upstream().to_string()).unwrap_or_default(),
        Dimension::Day => day_name(entry.at),
        Dimension::Hour => hour_name(Window::Hour.around(entry.at).start),
        Dimension::Minute => minute_name(entry.at),
        Dimension::Run => entry.run.clone().unwrap_or_default(),
        Dimension::End => match &entry.record {
            Record::Request(request) => request.end.as_str().to_owned(),
            Record::Attempt(_) | Record::Check(_) | Record::Adjustment(_) => entry.record.kind().as_str().to_owned(),
        },
        Dimension::Label => entry.labels.get(LABEL).cloned().unwrap_or_default(),
    }
}

/// The label by which figures are told apart here.
pub(crate) const LABEL: &str = "feature";

/// Of every kind, with every end, with and without prices, runs, labels.
pub(crate) fn lines_of_all_kinds(random: &mut SmallRng) -> Vec<Spooled> {
    let mut lines = entries(random, 0..400);
    for line in &mut lines {
        let entry = &mut line.entry;
        entry.tokens.output = random.random_range(0..900);
        entry.tokens.input_cached = random.random_range(0..50);
        entry.tokens.cache_written = random.random_range(0..50);
        entry.tokens.reasoning = random.random_range(0..9);
        entry.tokens.preset = random.random_range(0..5);
        entry.images.count = random.random_range(0..3);
        entry.cost = entry.cost.filter(|_| random.random_bool(0.8));
        if random.random_bool(0.3) {
            entry.counted = Counted::Estimated;
        }
        entry.run = random.random_bool(0.6).then(|| format!("run-{}", random.random_range(0..5)));
        if random.random_bool(0.7) {
            entry.labels.insert(LABEL.to_owned(), ["search", "chat"][random.random_range(0..2)].to_owned());
        }
        let first_token_ms = random.random_bool(0.7).then(|| random.random_range(0..9_000));
        let latency = Latency { first_token_ms, whole_ms: random.random_range(0..90_000), ..Latency::default() };
        let end = End::ALL[random.random_range(0..End::ALL.len())];
        entry.record = match random.random_range(0..10) {
            0 => Record::Attempt(AttemptRecord { number: 1, streamed: true, failure: None, began_ms: 0, ended_ms: 4 }),
            1 => Record::Check(CheckRecord { streamed: false, end, latency }),
            2 => Record::Adjustment(AdjustmentRecord { reason: "a wrong rate".to_owned() }),
            _ => Record::Request(RequestRecord { end, latency, ..request(0) }),
        };
    }
    lines
}

/// By everything that tells lines apart, and by each pair of them, over ranges that hold no whole hour.
#[tokio::test]
async fn the_database_adds_lines_as_the_core_does() {
    let (_database, store) = fresh().await;
    let mut lines = lines_of_all_kinds(&mut SmallRng::seed_from_u64(29));
    // All within two hours, of which none is whole in the range.
    for (number, line) in lines.iter_mut().enumerate() {
        let second = i64::try_from(number).unwrap() * 17;
        line.entry.at = at("2026-11-23T23:05:00Z") + TimeDelta::seconds(second);
    }
    store.drain(&lines, None).await.unwrap();
    let (from, to) = (at("2026-11-23T23:20:00Z"), at("2026-11-24T00:50:00Z"));
    let filter = UsageFilter { team: Name::parse(TEAMS[0]).ok(), ..UsageFilter::default() };
    for by in Dimension::ALL {
        for then in std::iter::once(None).chain(Dimension::ALL.into_iter().filter(|then| *then != by).map(Some)) {
            for filter in [UsageFilter::default(), filter.clone()] {
                let label = Some(LABEL.to_owned());
                let query = UsageQuery { then, label, ..UsageQuery::of(from, to, by, filter) };
                assert_eq!(store.usage(&query).await.unwrap(), figures(&query, &lines), "{by:?} then {then:?}");
            }
        }
    }
}

fn is_left(filter: &UsageFilter, entry: &LedgerEntry) -> bool {
    let offer = entry.offer.as_ref();
    filter.team.as_ref().is_none_or(|team| *team == entry.team)
        && filter.route.as_ref().is_none_or(|route| *route == entry.route)
        && filter.key.as_ref().is_none_or(|key| *key == entry.key)
        && filter.offer.as_ref().is_none_or(|wanted| offer == Some(wanted))
        && filter.upstream.as_ref().is_none_or(|wanted| offer.is_some_and(|offer| offer.upstream() == wanted))
}

/// Every way to tell figures apart, with and without a second one, and every filter, over ranges that cut days and hours.
fn queries() -> Vec<UsageQuery> {
    let dimensions = [
        Dimension::Team,
        Dimension::Route,
        Dimension::Offer,
        Dimension::Key,
        Dimension::Upstream,
        Dimension::Day,
        Dimension::Hour,
    ];
    let filters = [
        UsageFilter::default(),
        UsageFilter { team: Name::parse(TEAMS[0]).ok(), ..UsageFilter::default() },
        UsageFilter { route: Name::parse(ROUTES[1]).ok(), ..UsageFilter::default() },
        UsageFilter { key: Some("k10".to_owned()), ..UsageFilter::default() },
        UsageFilter { offer: OfferName::parse(OFFERS[0]).ok(), ..UsageFilter::default() },
        UsageFilter {
            upstream: Name::parse("quarry").ok(),
            team: Name::parse(TEAMS[1]).ok(),
            ..UsageFilter::default()
        },
    ];
    let ranges = [("23T22:00:00", "26T10:00:00"), ("24T00:00:00", "26T00:00:00"), ("23T23:20:00", "25T18:40:00")];
    let mut queries = Vec::new();
    for (number, by) in dimensions.into_iter().enumerate() {
        for (other, filter) in filters.iter().enumerate() {
            let (from, to) = ranges[(number + other) % ranges.len()];
            let (from, to) = (at(&format!("2026-11-{from}Z")), at(&format!("2026-11-{to}Z")));
            let alone = UsageQuery::of(from, to, by, filter.clone());
            let then = Some(dimensions[(number + other + 1) % dimensions.len()]).filter(|then| *then != by);
            queries.extend([alone.clone(), UsageQuery { then, ..alone }]);
        }
    }
    queries
}

/// What the core makes of the same lines.
pub(crate) fn figures(query: &UsageQuery, entries: &[Spooled]) -> BTreeMap<String, RollUp> {
    let mut figures: BTreeMap<String, RollUp> = BTreeMap::new();
    for entry in entries.iter().map(|settled| &settled.entry) {
        if (query.from..query.to).contains(&entry.at) && is_left(&query.filter, entry) {
            let first = name_of(query.by, entry);
            let name = query.then.map_or(first.clone(), |then| format!("{first}{PAIR}{}", name_of(then, entry)));
            figures.entry(name).or_default().add(entry);
        }
    }
    figures
}

async fn are_right(store: &Store, entries: &[Spooled], when: &str) {
    for query in queries() {
        assert_eq!(store.usage(&query).await.unwrap(), figures(&query, entries), "{when}: {query:?}");
    }
    let days = store.team_days("2026-11-24".parse().unwrap(), "2026-11-27".parse().unwrap()).await.unwrap();
    let requests: u64 = days.iter().map(|day| u64::try_from(day.requests).unwrap()).sum();
    let expected = entries.iter().filter(|settled| settled.entry.at >= at("2026-11-24T00:00:00Z")).count() as u64;
    assert_eq!(requests, expected, "{when}: by team and day");
}

/// A month is three sums, each of whole days.
#[tokio::test]
async fn thirds_of_months_are_read_in_the_place_of_their_days() {
    let (database, store) = fresh().await;
    let mut random = SmallRng::seed_from_u64(41);
    let mut all = entries(&mut random, 0..200);
    for line in &mut all {
        line.entry.at = at("2026-10-18T00:00:00Z") + TimeDelta::seconds(random.random_range(0..27 * 86_400));
    }
    let late = all.split_off(199);
    store.drain(&all, None).await.unwrap();
    let now = at("2026-11-14T00:30:00Z");
    let thirds = async || {
        let summed = sum_all(&store, now).await;
        summed.into_iter().filter(|(span, _)| *span == Span::Third).map(|(_, start)| start).collect::<Vec<_>>()
    };
    // Of the last third of October eleven days, of the one before it those from the 18th on alone.
    assert_eq!(thirds().await, [at("2026-11-01T00:00:00Z"), at("2026-10-21T00:00:00Z")]);
    let queries = || {
        [Dimension::Key, Dimension::Offer, Dimension::Day].into_iter().flat_map(|by| {
            let route = UsageFilter { route: Name::parse(ROUTES[0]).ok(), ..UsageFilter::default() };
            [UsageFilter::default(), route]
                .map(|filter| UsageQuery::of(at("2026-10-19T06:10:00Z"), at("2026-11-13T10:00:00Z"), by, filter))
        })
    };
    let are_right = async |all: &[Spooled], when: &str| {
        for query in queries() {
            assert_eq!(store.usage(&query).await.unwrap(), figures(&query, all), "{when}: {query:?}");
        }
    };
    are_right(&all, "all is summed").await;
    let mut late = late;
    late[0].entry.at = at("2026-10-31T23:59:00Z");
    store.drain(&late, None).await.unwrap();
    all.extend(late);
    assert_eq!(thirds().await, [at("2026-10-21T00:00:00Z")], "of the day that changed");
    are_right(&all, "what came late is summed").await;
    let gone = "delete from usage_sum where span <> 'third' and start between '2026-10-21' and '2026-11-10' and apart in ('k', 'o', 'ro', 'kr')";
    sqlx::query(gone).execute(&mut database.connect().await).await.unwrap();
    let by_key =
        UsageQuery::of(at("2026-10-21T00:00:00Z"), at("2026-11-11T00:00:00Z"), Dimension::Key, UsageFilter::default());
    assert_eq!(store.usage(&by_key).await.unwrap(), figures(&by_key, &all), "thirds are read");
}

pub(crate) async fn sum_all(store: &Store, now: DateTime<Utc>) -> Vec<(Span, DateTime<Utc>)> {
    let mut summed = Vec::new();
    while let Some(one) = store.sum_up(now, None).await.unwrap() {
        summed.push(one);
    }
    summed
}

#[tokio::test]
async fn figures_are_those_of_the_lines_whatever_is_summed() {
    let (database, store) = fresh().await;
    let mut random = SmallRng::seed_from_u64(19);
    let mut all = entries(&mut random, 0..600);
    store.drain(&all, None).await.unwrap();
    are_right(&store, &all, "nothing is summed").await;
    let now = at("2026-11-26T09:30:00Z");
    let summed = sum_all(&store, now).await;
    let of = |span| summed.iter().filter(|(of, _)| *of == span).count();
    assert_eq!((of(Span::Day), of(Span::Hour)), (3, 9), "days that are over, and the hours of the one that is not");
    are_right(&store, &all, "all is summed").await;
    assert_eq!(sum_all(&store, now).await, [], "nothing is left to do");
    let late = entries(&mut random, 600..640);
    store.drain(&late, None).await.unwrap();
    all.extend(late);
    are_right(&store, &all, "some came late").await;
    assert!(!sum_all(&store, now).await.is_empty());
    are_right(&store, &all, "what came late is summed").await;
    // What is read of whole days is their sums: without the roll-ups it is the same.
    let mut connection = database.connect().await;
    let gone = "delete from usage_hour where hour < '2026-11-26T00:00:00Z'";
    sqlx::query(gone).execute(&mut connection).await.unwrap();
    let (from, to) = (at("2026-11-24T00:00:00Z"), at("2026-11-26T00:00:00Z"));
    let by_key = store.usage(&UsageQuery::of(from, to, Dimension::Key, UsageFilter::default())).await.unwrap();
    let requests: u64 = by_key.values().map(|sums| sums.requests).sum();
    assert_eq!(requests, all.iter().filter(|one| (from..to).contains(&one.entry.at)).count() as u64);
}

/// While entries come late from everywhere, sums are made of the same hours again and again: whichever are in use at the end are right.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_summed_while_it_changes_is_right_or_not_in_use() {
    let (_database, store) = fresh().await;
    let mut random = SmallRng::seed_from_u64(23);
    let all = entries(&mut random, 0..900);
    let now = at("2026-11-27T00:00:00Z");
    let drains = all.chunks(300).map(|part| async {
        for batch in part.chunks(4) {
            store.drain(batch, None).await.unwrap();
        }
    });
    let summing = async {
        let mut times = 0;
        while times < 60 {
            // Where somebody changes them it comes to nothing, and is tried again.
            times += usize::from(store.sum_up(now, None).await.unwrap().is_some());
            tokio::task::yield_now().await;
            if store.usage(&queries()[0]).await.unwrap().values().map(|sums| sums.requests).sum::<u64>() == 900 {
                return;
            }
        }
    };
    tokio::join!(futures_util::future::join_all(drains), summing);
    are_right(&store, &all, "at the end").await;
}

#[tokio::test]
async fn an_hour_that_somebody_changes_is_not_summed() {
    let (database, store) = fresh().await;
    store.drain(&[settled(1, at("2026-11-25T08:10:00Z"))], None).await.unwrap();
    let now = at("2026-11-25T09:30:00Z");
    let mut connection = database.connect().await;
    let change = "begin; update usage_hour set requests = requests where hour = '2026-11-25T08:00:00Z'";
    sqlx::raw_sql(change).execute(&mut connection).await.unwrap();
    assert_eq!(store.sum_up(now, None).await.unwrap(), None);
    sqlx::raw_sql("commit").execute(&mut connection).await.unwrap();
    assert_eq!(store.sum_up(now, None).await.unwrap(), Some((Span::Hour, at("2026-11-25T08:00:00Z"))));
}

/// An instance of a release that knows no sums drains beside newer ones while they are brought up to date.
#[rstest::rstest]
#[case::more_of_a_row("update usage_hour set requests = requests + 1 where hour = '2026-11-24T08:00:00Z'")]
#[case::a_new_row(
    "insert into usage_hour (hour, team, key, route, offer, requests, first_token, whole)
     select hour, team, key, 'manifests', offer, 1, first_token, whole from usage_hour where hour = '2026-11-24T08:00:00Z'"
)]
#[tokio::test]
async fn whoever_changes_an_hour_takes_its_sums_out_of_use(#[case] change: &'static str) {
    let (database, store) = fresh().await;
    store.drain(&[settled(1, at("2026-11-24T08:10:00Z"))], None).await.unwrap();
    let now = at("2026-11-25T00:30:00Z");
    sum_all(&store, now).await;
    let changed = sqlx::query(change).execute(&mut database.connect().await).await.unwrap();
    assert_eq!(changed.rows_affected(), 1);
    let of_day =
        UsageQuery::of(at("2026-11-24T00:00:00Z"), at("2026-11-25T00:00:00Z"), Dimension::Team, UsageFilter::default());
    let requests = async || store.usage(&of_day).await.unwrap().values().map(|sums| sums.requests).collect::<Vec<_>>();
    assert_eq!(requests().await, [2], "before it is summed anew");
    assert_eq!(sum_all(&store, now).await, [(Span::Day, at("2026-11-24T00:00:00Z"))]);
    assert_eq!(requests().await, [2], "summed anew");
}

#[tokio::test]
async fn sums_are_forgotten_with_what_they_sum() {
    let (database, store) = fresh().await;
    let old = settled(1, at("2026-09-25T08:10:00Z"));
    store.drain(&[old, settled(2, at("2026-11-24T08:10:00Z"))], None).await.unwrap();
    sum_all(&store, at("2026-11-26T00:00:00Z")).await;
    store.forget_sums(at("2026-11-10T12:00:00Z")).await.unwrap();
    let mut connection = database.connect().await;
    for first in ["select min(start) from usage_sum", "select min(start) from usage_summed"] {
        let begun: DateTime<Utc> = sqlx::query_scalar(first).fetch_one(&mut connection).await.unwrap();
        assert!(begun >= at("2026-11-01T00:00:00Z"), "{first}: {begun}");
    }
    let again = store.sum_up(at("2026-11-26T00:00:00Z"), Some(at("2026-11-10T12:00:00Z"))).await.unwrap();
    assert_eq!(again, None, "what is forgotten is not summed again");
}
