//! Monthly partitions of what happened: made ahead of time, listed with their sizes, dropped when their time of keeping is over.
//!
//! Each table has a default partition beside, so that a line whose month has none still goes in: whoever drains never waits for a
//! partition. One whose month stands in the default partition already is not made any more; its lines stay there.

use std::collections::BTreeSet;
use std::sync::Mutex;
use std::time::Duration;

use chrono::{DateTime, Utc};
use wendor_core::quota::window::{Window, WindowSpan};

use crate::{Store, StoreError};

/// Any number does, as long as nothing else locks with it: it orders instances that make the same partition.
const PARTITION_LOCK: i64 = 7_420_001;

/// A table that comes in partitions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Partitioned {
    /// The ledger's lines.
    Ledger,
    /// What is kept beside them.
    Details,
    /// The hourly sums.
    RollUps,
}

impl Partitioned {
    /// Every one.
    pub const ALL: [Self; 3] = [Self::Ledger, Self::Details, Self::RollUps];

    /// The table's name.
    #[must_use]
    pub fn table(self) -> &'static str {
        match self {
            Self::Ledger => "ledger",
            Self::Details => "request_detail",
            Self::RollUps => "usage_hour",
        }
    }

    fn of_table(table: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|one| one.table() == table)
    }

    fn partition(self, month: WindowSpan) -> String {
        format!("{}_{}", self.table(), month.start.format("%Y_%m"))
    }
}

/// A month of a partitioned table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// Of which table.
    pub of: Partitioned,
    /// Table and month, as in the database.
    pub name: String,
    /// Its month; `None` for the default partition, which takes what has no other.
    pub month: Option<DateTime<Utc>>,
    /// Its size on disk with its indexes, in bytes.
    pub bytes: u64,
    /// Lines, as the database estimates them; `None` while it has not counted.
    pub lines: Option<u64>,
}

/// The months whose partitions are known to be there.
#[derive(Debug, Default)]
pub(crate) struct KnownMonths(Mutex<BTreeSet<DateTime<Utc>>>);

impl KnownMonths {
    fn has(&self, month: DateTime<Utc>) -> bool {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).contains(&month)
    }

    fn add(&self, month: DateTime<Utc>) {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(month);
    }

    fn forget(&self) {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clear();
    }
}

impl Store {
    /// Makes sure that the month of each instant has its partitions, as far as that can be done: where it cannot, lines go into the
    /// default partition, and it is said.
    pub async fn ensure_partitions(&self, instants: impl Iterator<Item = DateTime<Utc>>) {
        let mut months: Vec<WindowSpan> = instants.map(|at| Window::Month.around(at)).collect();
        months.sort_by_key(|month| month.start);
        months.dedup();
        for month in months.into_iter().filter(|month| !self.months.has(month.start)) {
            match ensure_month(self, month).await {
                Ok(()) => {}
                // The drain meets the same in a moment, and says it.
                Err(error) if error.is_away() => return,
                Err(error) => {
                    let month = month.start.format("%Y-%m");
                    tracing::warn!(%error, %month, "the partitions of a month cannot be made: its lines go into the default partition");
                }
            }
            // Once a month is enough, whatever came of it.
            self.months.add(month.start);
        }
    }

    /// Makes the partitions of the month of `now` and of the next, so that the first line of a month finds its own.
    ///
    /// # Errors
    /// When the database is away, or does not let them be made.
    pub async fn make_partitions_ahead(&self, now: DateTime<Utc>) -> Result<(), StoreError> {
        let month = Window::Month.around(now);
        for month in [month, Window::Month.around(month.end)] {
            ensure_month(self, month).await?;
            self.months.add(month.start);
        }
        Ok(())
    }

    /// Every partition, by table and month.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn partitions(&self) -> Result<Vec<Partition>, StoreError> {
        let rows: Vec<(String, String, i64, f32)> = sqlx::query_as(
            "select parent.relname::text, child.relname::text, pg_total_relation_size(child.oid), child.reltuples
             from pg_inherits join pg_class parent on parent.oid = inhparent join pg_class child on child.oid = inhrelid
             where parent.relname = any($1) and child.relkind = 'r' order by parent.relname, child.relname",
        )
        .bind(Partitioned::ALL.map(|one| one.table().to_owned()).to_vec())
        .fetch_all(&self.pool)
        .await?;
        let read = |(parent, name, bytes, lines): (String, String, i64, f32)| {
            let of = Partitioned::of_table(&parent)?;
            let month = month_of(name.strip_prefix(of.table())?);
            // The estimate is negative while nothing was counted, and a whole number in a float otherwise.
            let lines = (lines >= 0.0).then(|| Duration::from_secs_f32(lines).as_secs());
            Some(Partition { of, name, month, bytes: u64::try_from(bytes).unwrap_or(0), lines })
        };
        Ok(rows.into_iter().filter_map(read).collect())
    }

    /// Drops the partitions of `of` whose month was over before `before`. Gives their names.
    ///
    /// # Errors
    /// When the database is away, or does not let its partitions be dropped.
    pub async fn drop_partitions(&self, of: Partitioned, before: DateTime<Utc>) -> Result<Vec<String>, StoreError> {
        let is_over = |month: DateTime<Utc>| Window::Month.around(month).end <= before;
        let mut dropped = Vec::new();
        for partition in self.partitions().await?.into_iter().filter(|partition| partition.of == of) {
            let Some(month) = partition.month.filter(|month| is_over(*month)) else { continue };
            sqlx::query("select drop_month($1, $2)")
                .bind(of.table())
                .bind(month.date_naive())
                .execute(&self.pool)
                .await?;
            dropped.push(partition.name);
        }
        if !dropped.is_empty() {
            self.months.forget();
        }
        Ok(dropped)
    }
}

/// The month of a partition whose name ends in `_2026_11`.
fn month_of(suffix: &str) -> Option<DateTime<Utc>> {
    let day = format!("{}-01", suffix.strip_prefix('_')?.replace('_', "-"));
    let day: chrono::NaiveDate = day.parse().ok()?;
    Some(day.and_time(chrono::NaiveTime::MIN).and_utc())
}

async fn ensure_month(store: &Store, month: WindowSpan) -> Result<(), StoreError> {
    for table in Partitioned::ALL {
        let exists: bool = sqlx::query_scalar("select to_regclass($1) is not null")
            .bind(table.partition(month))
            .fetch_one(&store.pool)
            .await?;
        if !exists {
            make(store, table, month).await?;
        }
    }
    Ok(())
}

async fn make(store: &Store, table: Partitioned, month: WindowSpan) -> Result<(), StoreError> {
    let mut transaction = store.pool.begin().await?;
    sqlx::query("select pg_advisory_xact_lock($1)").bind(PARTITION_LOCK).execute(&mut *transaction).await?;
    sqlx::query("select make_month($1, $2)")
        .bind(table.table())
        .bind(month.start.date_naive())
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_month_of_a_partition_stands_in_its_name() {
        assert_eq!(month_of("_2026_11").map(|month| month.to_rfc3339()).as_deref(), Some("2026-11-01T00:00:00+00:00"));
        assert_eq!(month_of("_default"), None);
        assert_eq!(month_of("_2026_13"), None);
    }
}
