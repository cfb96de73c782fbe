//! What quota windows hold, so that a restart does not forget what was used.

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use wendor_core::metering::entry::QuotaUse;
use wendor_core::quota::QuotaId;

use crate::row::numeric;
use crate::{Store, StoreError};

/// What is used of a quota in one window.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WindowUse {
    /// Counted against this one.
    pub quota: QuotaId,
    /// UTC; with the quota it is the key of the row.
    pub window_start: DateTime<Utc>,
    /// Used.
    pub settled: Decimal,
}

impl Store {
    /// What is used in all windows that began at `since` or later.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn window_uses(&self, since: DateTime<Utc>) -> Result<Vec<WindowUse>, StoreError> {
        let rows: Vec<(String, DateTime<Utc>, Decimal)> =
            sqlx::query_as("select quota, window_start, settled from quota_window where window_start >= $1")
                .bind(since)
                .fetch_all(&self.pool)
                .await?;
        let of_row = |(quota, window_start, settled)| WindowUse { quota: QuotaId::from(quota), window_start, settled };
        Ok(rows.into_iter().map(of_row).collect())
    }
}

/// Adds amounts to their windows; part of the drain's transaction. In the order of their keys, so that two drains never wait for
/// each other in a ring.
pub(crate) async fn add_uses(
    connection: &mut sqlx::PgConnection,
    uses: impl Iterator<Item = &QuotaUse>,
) -> Result<(), StoreError> {
    let mut sums = std::collections::BTreeMap::new();
    for quota_use in uses {
        *sums.entry((quota_use.quota.as_str(), quota_use.window_start)).or_insert(Decimal::ZERO) += quota_use.amount;
    }
    let (mut quotas, mut starts, mut amounts) = (Vec::new(), Vec::new(), Vec::new());
    for ((quota, window_start), amount) in sums {
        quotas.push(quota.to_owned());
        starts.push(window_start);
        amounts.push(numeric(amount));
    }
    sqlx::query(
        "insert into quota_window (quota, window_start, settled)
         select quota, window_start, amount
         from unnest($1::text[], $2::timestamptz[], $3::numeric[]) as used (quota, window_start, amount) order by quota, window_start
         on conflict (quota, window_start) do update set settled = quota_window.settled + excluded.settled",
    )
    .bind(quotas)
    .bind(starts)
    .bind(amounts)
    .execute(connection)
    .await?;
    Ok(())
}
