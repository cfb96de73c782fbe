//! Partitions by month: made ahead, dropped when their month is over and what it held may be forgotten.

use wendor_store::partitions::Partitioned;

use crate::{at, fresh};

#[tokio::test]
async fn months_are_made_ahead_and_dropped_once_they_are_over() {
    let (_database, store) = fresh().await;
    store.make_partitions_ahead(at("2026-09-20T10:00:00Z")).await.unwrap();
    let months = async |of: Partitioned| {
        let all = store.partitions().await.unwrap();
        let months = all.into_iter().filter(|partition| partition.of == of).filter_map(|partition| partition.month);
        months.map(|month| month.format("%Y-%m").to_string()).collect::<Vec<String>>()
    };
    let made = |found: Vec<String>| ["2026-09", "2026-10"].iter().all(|month| found.iter().any(|found| found == month));
    for of in Partitioned::ALL {
        assert!(made(months(of).await), "{of:?}");
    }
    let dropped = store.drop_partitions(Partitioned::Details, at("2026-10-31T23:59:59Z")).await.unwrap();
    assert!(dropped.iter().any(|name| name.contains("2026_09") || name.contains("202609")), "{dropped:?}");
    let left = months(Partitioned::Details).await;
    assert!(!left.iter().any(|month| month == "2026-09") && left.iter().any(|month| month == "2026-10"), "{left:?}");
    assert!(made(months(Partitioned::Ledger).await), "the ledger is kept longer");
    // A month that is not quite over holds lines that are still wanted.
    assert!(store.drop_partitions(Partitioned::Details, at("2026-10-31T23:59:59Z")).await.unwrap().is_empty());
}
