//! Sums by run, end and label, which are made of the lines: whatever of them there is, figures are those of the lines.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::TimeDelta;
use rand::SeedableRng;
use rand::rngs::SmallRng;
use wendor_core::metering::entry::{LedgerEntry, Spooled};
use wendor_core::metering::rollup::RollUp;
use wendor_core::name::Name;
use wendor_store::dearest::Dearest;
use wendor_store::usage::{Dimension, MOST_GROUPS, UsageFilter, UsageQuery, Wanted};
use wendor_store::{Store, StoreError};

use crate::ledger::settled;
use crate::sums::{LABEL, ROUTES, TEAMS, entries, figures, lines_of_all_kinds, sum_all};
use crate::{at, fresh};

/// By run, end and label, alone and by step of time, with and without a team or something else that narrows them.
fn queries_of_lines(ranges: &[(&str, &str)]) -> Vec<UsageQuery> {
    let filters = [
        UsageFilter::default(),
        UsageFilter { team: Name::parse(TEAMS[0]).ok(), ..UsageFilter::default() },
        UsageFilter { route: Name::parse(ROUTES[1]).ok(), ..UsageFilter::default() },
    ];
    let mut queries = Vec::new();
    for by in [Dimension::Run, Dimension::End, Dimension::Label] {
        for then in [None, Some(Dimension::Day), Some(Dimension::Hour), Some(Dimension::Team)] {
            for (filter, (from, to)) in
                filters.iter().flat_map(|filter| ranges.iter().map(move |range| (filter, range)))
            {
                let label = Some(LABEL.to_owned());
                queries.push(UsageQuery { then, label, ..UsageQuery::of(at(from), at(to), by, filter.clone()) });
            }
        }
    }
    queries
}

/// Figures of some groups are those among all, and the dearest runs are the dearest of all.
async fn parts_and_the_dearest_are_right(store: &Store, query: &UsageQuery, all: &BTreeMap<String, RollUp>) {
    if (query.by, query.then) == (Dimension::Run, None) {
        let mut names: Vec<String> = all.keys().cloned().collect();
        names.sort_by(|a, b| all[b].cost.cmp(&all[a].cost).then_with(|| a.cmp(b)));
        for most in [names.len(), 3] {
            let dearest = Dearest { names: names.iter().take(most).cloned().collect(), all: names.len() };
            assert_eq!(store.dearest_runs(query, most).await.unwrap(), dearest, "{query:?}");
        }
    }
    // With what has none, which comes first, and without it.
    for skipped in [0, 1] {
        let part: BTreeMap<String, RollUp> = all.clone().into_iter().skip(skipped).step_by(2).collect();
        let wanted = Wanted::Of(Arc::new(part.keys().cloned().collect()));
        assert_eq!(store.usage(&UsageQuery { wanted, ..query.clone() }).await.unwrap(), part, "{query:?}");
    }
}

#[tokio::test]
async fn figures_by_run_end_and_label_are_those_of_the_lines_whatever_is_summed() {
    let (database, store) = fresh().await;
    let mut lines = lines_of_all_kinds(&mut SmallRng::seed_from_u64(31));
    let late = lines.split_off(380);
    let queries = queries_of_lines(&[
        ("2026-11-23T22:00:00Z", "2026-11-26T10:00:00Z"),
        ("2026-11-24T00:00:00Z", "2026-11-26T00:00:00Z"),
        ("2026-11-23T23:20:00Z", "2026-11-25T18:40:00Z"),
    ]);
    let are_right = async |lines: &[Spooled], when: &str| {
        for query in &queries {
            let expected = figures(query, lines);
            assert_eq!(store.usage(query).await.unwrap(), expected, "{when}: {query:?}");
            parts_and_the_dearest_are_right(&store, query, &expected).await;
        }
    };
    store.drain(&lines, None).await.unwrap();
    let now = at("2026-11-26T09:30:00Z");
    sum_all(&store, now).await;
    are_right(&lines, "all is summed").await;
    store.drain(&late, None).await.unwrap();
    lines.extend(late);
    are_right(&lines, "some came late").await;
    sum_all(&store, now).await;
    are_right(&lines, "what came late is summed").await;
    // What is read of whole days is their sums: without the lines it is the same.
    let gone = "delete from ledger where at < '2026-11-26T00:00:00Z'";
    sqlx::query(gone).execute(&mut database.connect().await).await.unwrap();
    let filter = UsageFilter { team: Name::parse(TEAMS[0]).ok(), ..UsageFilter::default() };
    for (by, filter) in
        [(Dimension::Run, UsageFilter::default()), (Dimension::Label, filter.clone()), (Dimension::End, filter)]
    {
        let of_days = UsageQuery::of(at("2026-11-24T00:00:00Z"), at("2026-11-26T00:00:00Z"), by, filter);
        let query = UsageQuery { label: Some(LABEL.to_owned()), ..of_days };
        assert_eq!(store.usage(&query).await.unwrap(), figures(&query, &lines), "{query:?}");
    }
    store.forget_line_sums(at("2026-12-10T00:00:00Z")).await.unwrap();
    let forgotten =
        UsageQuery::of(at("2026-11-24T00:00:00Z"), at("2026-11-26T00:00:00Z"), Dimension::End, UsageFilter::default());
    assert_eq!(store.usage(&forgotten).await.unwrap(), BTreeMap::new(), "with the lines their sums go");
}

/// A label that every request has a value of its own for would be as many sums as there are lines.
#[tokio::test]
async fn what_is_no_less_when_it_is_summed_is_read_from_the_lines() {
    let (database, store) = fresh().await;
    let mut random = SmallRng::seed_from_u64(37);
    let mut lines = entries(&mut random, 0..1_100);
    for (number, line) in lines.iter_mut().enumerate() {
        line.entry.at = at("2026-11-24T00:00:00Z") + TimeDelta::seconds(i64::try_from(number).unwrap() * 70);
        line.entry.run = Some(format!("run-{}", number / 10));
        line.entry.labels.insert(LABEL.to_owned(), format!("ticket-{number}"));
    }
    // The only one without a run is the cheapest of all.
    let LedgerEntry { run, cost, .. } = &mut lines[7].entry;
    (*run, *cost) = (None, None);
    store.drain(&lines, None).await.unwrap();
    sum_all(&store, at("2026-11-25T00:30:00Z")).await;
    let mut connection = database.connect().await;
    let sums: Vec<(String, String, bool, i64)> = sqlx::query_as(
        "select dimension, span, team <> '' as by_team, count(*) from line_sum
         where span = 'day' group by 1, 2, 3 order by 1, 3",
    )
    .fetch_all(&mut connection)
    .await
    .unwrap();
    let kept = |dimension: &str, by_team, count| (dimension.to_owned(), "day".to_owned(), by_team, count);
    assert_eq!(sums[..2], [kept("end", false, 1), kept("end", true, 2)]);
    assert!(sums[2..].iter().all(|(dimension, ..)| dimension == "run"), "{sums:?}");
    let are_right = async || {
        for query in queries_of_lines(&[("2026-11-24T00:00:00Z", "2026-11-25T00:00:00Z")]) {
            let expected = figures(&query, &lines);
            assert_eq!(store.usage(&query).await.unwrap(), expected, "{query:?}");
            parts_and_the_dearest_are_right(&store, &query, &expected).await;
        }
    };
    are_right().await;
    // Where nobody has summed the lines, whatever else is summed, they are read.
    sqlx::query("delete from line_sum where span = 'day'").execute(&mut connection).await.unwrap();
    are_right().await;
}

/// Each group takes memory that requests need, and nobody reads so many.
#[tokio::test]
async fn a_report_of_too_many_groups_is_refused() {
    let (database, store) = fresh().await;
    store.drain(&[settled(1, at("2026-11-23T23:05:00Z"))], None).await.unwrap();
    // In `from`, where it is made once for each row; as a list of columns it would be made once for each of these.
    let many = "insert into ledger select copy.* from ledger as line cross join generate_series(1, $1) as n
        cross join lateral jsonb_populate_record(line, jsonb_build_object('entry_id', 'E' || n, 'run', 'run-' || n)) as copy";
    sqlx::query(many).bind(i32::try_from(MOST_GROUPS).unwrap()).execute(&mut database.connect().await).await.unwrap();
    let by = |by| UsageQuery::of(at("2026-11-23T23:00:00Z"), at("2026-11-23T23:30:00Z"), by, UsageFilter::default());
    // With what has no run it is one more than the most.
    assert!(matches!(store.usage(&by(Dimension::Run)).await, Err(StoreError::TooManyGroups)));
    let dearest = store.dearest_runs(&by(Dimension::Run), 2).await.unwrap();
    assert_eq!((dearest.names.len(), dearest.all), (2, MOST_GROUPS + 1), "the dearest of them are not too many");
    assert_eq!(store.usage(&by(Dimension::End)).await.unwrap().len(), 1, "the same lines in one group");
}
