//! Upstreams' credentials as Wendor keeps them: encrypted by the service before they come here. One that takes another's place leaves it
//! usable for a while.

use chrono::{DateTime, Utc};

use crate::store::bump;
use crate::{Store, StoreError};

/// A credential to be kept.
#[derive(Clone, Debug)]
pub struct NewCredential<'a> {
    /// Its id.
    pub id: &'a str,
    /// Of which upstream.
    pub upstream: &'a str,
    /// Encrypted.
    pub sealed: &'a [u8],
    /// The one that it takes the place of, and until when that can be used.
    pub replaces: Option<(&'a str, DateTime<Utc>)>,
    /// When.
    pub at: DateTime<Utc>,
    /// By whom.
    pub by: &'a str,
}

/// A kept credential.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct KeptCredential {
    /// Its id.
    pub id: String,
    /// Of which upstream.
    pub upstream: String,
    /// Encrypted; nothing once it is erased.
    pub sealed: Option<Vec<u8>>,
    /// When it was added.
    pub added_at: DateTime<Utc>,
    /// By whom.
    pub added_by: String,
    /// The one that it took the place of.
    pub replaces: Option<String>,
    /// Until when it can be used, where another has taken its place.
    pub usable_until: Option<DateTime<Utc>>,
}

impl Store {
    /// Keeps a credential.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn keep_credential(&self, new: NewCredential<'_>) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        if let Some((replaced, until)) = new.replaces {
            sqlx::query("update upstream_credential set usable_until = $2 where id = $1")
                .bind(replaced)
                .bind(until)
                .execute(&mut *transaction)
                .await?;
        }
        sqlx::query(
            "insert into upstream_credential (id, upstream, sealed, added_at, added_by, replaces)
             values ($1, $2, $3, $4, $5, (select id from upstream_credential where id = $6))",
        )
        .bind(new.id)
        .bind(new.upstream)
        .bind(new.sealed)
        .bind(new.at)
        .bind(new.by)
        .bind(new.replaces.map(|(id, _)| id))
        .execute(&mut *transaction)
        .await?;
        bump(&mut transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// All that are kept.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn kept_credentials(&self) -> Result<Vec<KeptCredential>, StoreError> {
        let rows = sqlx::query_as(
            "select id, upstream, sealed, added_at, added_by, replaces, usable_until from upstream_credential order by added_at",
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Erases what may not be used any more. Gives how many.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn erase_replaced_credentials(&self, now: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let erased =
            sqlx::query("update upstream_credential set sealed = null where usable_until <= $1 and sealed is not null")
                .bind(now)
                .execute(&mut *transaction)
                .await?
                .rows_affected();
        if erased > 0 {
            bump(&mut transaction).await?;
        }
        transaction.commit().await?;
        Ok(erased)
    }
}
