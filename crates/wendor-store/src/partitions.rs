//! Monthly partitions of the ledger and the request details, made before the first line of a month is inserted.

use chrono::{DateTime, Utc};
use wendor_core::quota::window::Window;

use crate::{Store, StoreError};

/// Any number does, as long as nothing else locks with it: it orders instances that make the same partition.
const PARTITION_LOCK: i64 = 7_420_001;

/// Makes sure that the month of each instant has its partitions.
pub(crate) async fn ensure(store: &Store, instants: impl Iterator<Item = DateTime<Utc>>) -> Result<(), StoreError> {
    let mut months: Vec<_> = instants.map(|at| Window::Month.around(at)).collect();
    months.sort_by_key(|month| month.start);
    months.dedup();
    for month in months {
        for table in ["ledger", "request_detail"] {
            let partition = format!("{table}_{}", month.start.format("%Y_%m"));
            let exists: bool = sqlx::query_scalar("select to_regclass($1) is not null")
                .bind(&partition)
                .fetch_one(&store.pool)
                .await?;
            if !exists {
                make(store, table, month).await?;
            }
        }
    }
    Ok(())
}

async fn make(
    store: &Store,
    table: &'static str,
    month: wendor_core::quota::window::WindowSpan,
) -> Result<(), StoreError> {
    let mut transaction = store.pool.begin().await?;
    sqlx::query("select pg_advisory_xact_lock($1)").bind(PARTITION_LOCK).execute(&mut *transaction).await?;
    // Names and bounds of a partition cannot be bound; these come from a closed set and a calendar month.
    let mut statement = sqlx::QueryBuilder::<sqlx::Postgres>::new("create table if not exists ");
    statement
        .push(format!("{table}_{}", month.start.format("%Y_%m")))
        .push(" partition of ")
        .push(table)
        .push(format!(" for values from ('{}') to ('{}')", month.start.to_rfc3339(), month.end.to_rfc3339()));
    statement.build().execute(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(())
}
