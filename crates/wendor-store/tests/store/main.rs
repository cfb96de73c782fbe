//! The records against a real PostgreSQL, without the service: what is drained, figures of any range, who overtakes whom, what is dropped.

#[cfg(test)]
mod changes;
#[cfg(test)]
mod events;
#[cfg(test)]
mod ledger;
#[cfg(test)]
mod months;
#[cfg(test)]
mod sums;
#[cfg(test)]
mod sums_of_lines;

#[cfg(test)]
use chrono::{DateTime, Utc};
#[cfg(test)]
use wendor_core::audit::Doer;
#[cfg(test)]
use wendor_postgres::Database;
#[cfg(test)]
use wendor_store::Store;

/// A database with the schema. It is gone with the first.
#[cfg(test)]
async fn fresh() -> (Database, Store) {
    let database = Database::fresh().await;
    let store = Store::new(&database.url).unwrap();
    store.migrate().await.unwrap();
    (database, store)
}

#[cfg(test)]
fn at(text: &str) -> DateTime<Utc> {
    text.parse().unwrap()
}

#[cfg(test)]
fn doer() -> Doer {
    Doer::service(at("2026-11-25T08:00:00Z"))
}
