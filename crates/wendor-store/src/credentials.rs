//! Upstreams' credentials as Wendor keeps them: encrypted by the service before they come here. One that takes another's place leaves it
//! usable for a while.

use chrono::{DateTime, TimeDelta, Utc};
use serde_json::json;
use wendor_core::audit::{Action, Deed, Doer};

use crate::audit::{Tell, commit};
use crate::{Store, StoreError};

/// A credential to be kept.
#[derive(Clone, Debug)]
pub struct NewCredential<'a> {
    /// Random; the catalogue refers to it.
    pub id: &'a str,
    /// The only one that may use it.
    pub upstream: &'a str,
    /// Sealed; the database never sees the value.
    pub kept: &'a Resealed<'a>,
    /// The one that it takes the place of, and until when that can be used.
    pub replaces: Option<(&'a str, DateTime<Utc>)>,
    /// By whom, and when.
    pub by: &'a Doer,
}

/// A credential as it is kept.
#[derive(Clone, Debug)]
pub struct Resealed<'a> {
    /// Encrypted.
    pub sealed: Vec<u8>,
    /// The host that it is bound to.
    pub host: &'a str,
    /// The mark of the secret that it is under.
    pub kept_under: &'a str,
}

/// Sealed, with what it is for.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct KeptCredential {
    /// The catalogue refers to it.
    pub id: String,
    /// The only one that may use it.
    pub upstream: String,
    /// Encrypted; nothing once it is erased.
    pub sealed: Option<Vec<u8>>,
    /// The host that it is bound to; nothing in the first form.
    pub host: Option<String>,
    /// The mark of the secret that it is under; nothing in the first form.
    pub kept_under: Option<String>,
    /// By the database's clock.
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
            "insert into upstream_credential (id, upstream, sealed, host, kept_under, added_at, added_by, replaces)
             values ($1, $2, $3, $4, $5, $6, $7, (select id from upstream_credential where id = $8))",
        )
        .bind(new.id)
        .bind(new.upstream)
        .bind(&new.kept.sealed)
        .bind(new.kept.host)
        .bind(new.kept.kept_under)
        .bind(new.by.at)
        .bind(&new.by.name)
        .bind(new.replaces.map(|(id, _)| id))
        .execute(&mut *transaction)
        .await?;
        let after = json!({ "credential": "changed", "id": new.id, "host": new.kept.host });
        let before = new.replaces.map(|(id, until)| json!({ "id": id, "usable_until": until }));
        let deed =
            Deed { before, ..Deed::of(Action::CredentialKept, format!("upstream {}", new.upstream)).after(after) };
        commit(transaction, Tell::Everyone, new.by, &deed).await
    }

    /// All that are kept.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn kept_credentials(&self) -> Result<Vec<KeptCredential>, StoreError> {
        let rows = sqlx::query_as(
            "select id, upstream, sealed, host, kept_under, added_at, added_by, replaces, usable_until from upstream_credential order by added_at",
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Keeps one anew, or erases it, unless somebody else has done either since it was read.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn reseal_credential(
        &self,
        id: &str,
        was: &[u8],
        anew: Option<Resealed<'_>>,
        doer: &Doer,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let (sealed, host, kept_under) = match &anew {
            Some(anew) => (Some(&anew.sealed), Some(anew.host), Some(anew.kept_under)),
            None => (None, None, None),
        };
        let moved = sqlx::query(
            "update upstream_credential set sealed = $3, host = $4, kept_under = $5 where id = $1 and sealed = $2",
        )
        .bind(id)
        .bind(was)
        .bind(sealed)
        .bind(host)
        .bind(kept_under)
        .execute(&mut *transaction)
        .await?;
        if moved.rows_affected() == 0 {
            return Ok(());
        }
        let deed = Deed::of(Action::CredentialsMoved, format!("credential {id}"))
            .after(json!({ "host": host, "under": kept_under }));
        commit(transaction, Tell::Everyone, doer, &deed).await
    }

    /// Erases what may not be used any more: whose time after another took its place is over, and what no upstream of the catalogue has
    /// used for an hour. Gives how many.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn erase_unused_credentials(&self, in_use: &[&str], doer: &Doer) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let erased: Vec<String> = sqlx::query_scalar(
            "update upstream_credential set sealed = null
             where sealed is not null and (usable_until <= $1
                or (usable_until is null and added_at < $2 and not (id = any($3))))
             returning id",
        )
        .bind(doer.at)
        .bind(doer.at - TimeDelta::hours(1))
        .bind(in_use)
        .fetch_all(&mut *transaction)
        .await?;
        if !erased.is_empty() {
            let deed = Deed::of(Action::CredentialsErased, "credentials").before(json!({ "ids": erased }));
            commit(transaction, Tell::Everyone, doer, &deed).await?;
        }
        Ok(erased.len() as u64)
    }
}
