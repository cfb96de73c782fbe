//! Monthly partitions of the ledger and the request details, made before the first line of a month is inserted.

use chrono::{DateTime, Utc};
use wendor_core::quota::window::{Window, WindowSpan};

use crate::{Store, StoreError};

/// Any number does, as long as nothing else locks with it: it orders instances that make the same partition.
const PARTITION_LOCK: i64 = 7_420_001;

const TABLES: [&str; 2] = ["ledger", "request_detail"];

fn partition(table: &str, month: WindowSpan) -> String {
    format!("{table}_{}", month.start.format("%Y_%m"))
}

/// Makes sure that the month of each instant has its partitions.
pub(crate) async fn ensure(store: &Store, instants: impl Iterator<Item = DateTime<Utc>>) -> Result<(), StoreError> {
    let mut months: Vec<_> = instants.map(|at| Window::Month.around(at)).collect();
    months.sort_by_key(|month| month.start);
    months.dedup();
    for month in months {
        let partitions = TABLES.map(|table| partition(table, month));
        let exist: bool =
            sqlx::query_scalar("select bool_and(to_regclass(name) is not null) from unnest($1::text[]) name")
                .bind(&partitions[..])
                .fetch_one(&store.pool)
                .await?;
        if !exist {
            for table in TABLES {
                make(store, table, month).await?;
            }
        }
    }
    Ok(())
}

async fn make(store: &Store, table: &'static str, month: WindowSpan) -> Result<(), StoreError> {
    let mut transaction = store.pool.begin().await?;
    sqlx::query("select pg_advisory_xact_lock($1)").bind(PARTITION_LOCK).execute(&mut *transaction).await?;
    // Names and bounds of a partition cannot be bound; these come from a closed set and a calendar month.
    let mut statement = sqlx::QueryBuilder::<sqlx::Postgres>::new("create table if not exists ");
    statement.push(partition(table, month)).push(" partition of ").push(table).push(format!(
        " for values from ('{}') to ('{}')",
        month.start.to_rfc3339(),
        month.end.to_rfc3339()
    ));
    statement.build().execute(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(())
}
