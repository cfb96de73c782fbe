//! Keys of apps: kept as hashes, revoked and never deleted.

use chrono::{DateTime, SubsecRound, Utc};
use serde_json::json;
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::key::{AppKey, KeyHash, KeyText};
use wendor_core::catalog::team::Access;
use wendor_core::name::Name;

use crate::audit::{Tell, commit};
use crate::row::{lane, name};
use crate::{Store, StoreError};

/// A key with what is recorded of its making.
#[derive(Clone, Debug)]
pub struct StoredKey {
    /// What it may do.
    pub key: AppKey,
    /// The key itself is not kept.
    pub hash: KeyHash,
    /// By the database's clock.
    pub issued_at: DateTime<Utc>,
    /// By whom.
    pub issued_by: String,
}

#[derive(sqlx::FromRow)]
struct KeyRow {
    id: String,
    hash: Vec<u8>,
    team: String,
    label: String,
    routes: Option<Vec<String>>,
    issued_at: DateTime<Utc>,
    issued_by: String,
    expires_at: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
    lane: Option<String>,
}

impl TryFrom<KeyRow> for StoredKey {
    type Error = StoreError;
    fn try_from(row: KeyRow) -> Result<Self, StoreError> {
        let hash = row.hash.try_into().map_err(|_| StoreError::unreadable("app_key.hash", "it has not 32 bytes"))?;
        let access = match row.routes {
            None => Access::AllRoutes,
            Some(routes) => {
                Access::Only(routes.iter().map(|route| name(route, "app_key.routes")).collect::<Result<_, _>>()?)
            }
        };
        let key = AppKey {
            id: row.id,
            team: name(&row.team, "app_key.team")?,
            label: row.label,
            access,
            lane: lane(row.lane, "app_key.lane")?,
            expires_at: row.expires_at,
            revoked_at: row.revoked_at,
        };
        Ok(Self { key, hash: KeyHash(hash), issued_at: row.issued_at, issued_by: row.issued_by })
    }
}

impl Store {
    /// Keeps a new key.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such team.
    pub async fn add_key(&self, text: &KeyText, key: &AppKey, doer: &Doer) -> Result<(), StoreError> {
        let routes: Option<Vec<&str>> = match &key.access {
            Access::AllRoutes => None,
            Access::Only(routes) => Some(routes.iter().map(Name::as_str).collect()),
        };
        let mut transaction = self.pool.begin().await?;
        let added = sqlx::query(
            "insert into app_key (id, hash, team, label, routes, issued_at, issued_by, expires_at, lane)
             select $1, $2, name, $4, $5, $6, $7, $8, $9 from team where name = $3",
        )
        .bind(text.id.as_str())
        .bind(&text.hash.0[..])
        .bind(key.team.as_str())
        .bind(&key.label)
        .bind(&routes)
        .bind(doer.at)
        .bind(&doer.name)
        .bind(key.expires_at)
        .bind((!key.lane.is_usual()).then(|| key.lane.as_str()))
        .execute(&mut *transaction)
        .await?;
        if added.rows_affected() == 0 {
            return Err(StoreError::Missing { what: "team", name: key.team.to_string() });
        }
        let after = json!({ "team": key.team, "label": key.label, "routes": routes, "lane": key.lane.as_str(), "expires_at": key.expires_at.map(|at| at.trunc_subsecs(0)) });
        let deed = Deed::of(Action::KeyIssued, format!("key {}", text.id)).after(after);
        commit(transaction, Tell::OfKey(&text.id), doer, &deed).await
    }

    /// All keys, by team and then newest first; revoked ones too, since they are told apart when they are presented.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn keys(&self) -> Result<Vec<StoredKey>, StoreError> {
        let rows: Vec<KeyRow> = sqlx::query_as(
            "select id, hash, team, label, routes, issued_at, issued_by, expires_at, revoked_at, lane
             from app_key order by team, issued_at desc, id",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(StoredKey::try_from).collect()
    }

    /// The keys that were changed after the change of that number.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn keys_changed_after(&self, change: i64) -> Result<Vec<StoredKey>, StoreError> {
        let rows: Vec<KeyRow> = sqlx::query_as(
            "select id, hash, team, label, routes, issued_at, issued_by, expires_at, revoked_at, lane
             from app_key where changed > $1",
        )
        .bind(change)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(StoredKey::try_from).collect()
    }

    /// Revokes a key; doing it again changes nothing. Gives when it was revoked.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such key.
    pub async fn revoke_key(&self, id: &str, doer: &Doer) -> Result<DateTime<Utc>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let row: Option<(String, Option<DateTime<Utc>>)> =
            sqlx::query_as("select team, revoked_at from app_key where id = $1 for update")
                .bind(id)
                .fetch_optional(&mut *transaction)
                .await?;
        let missing = || StoreError::Missing { what: "key", name: id.to_owned() };
        let (team, revoked_at) = row.ok_or_else(missing)?;
        if let Some(revoked_at) = revoked_at {
            return Ok(revoked_at);
        }
        let revoked_at = doer.at.trunc_subsecs(6);
        sqlx::query("update app_key set revoked_at = $2, revoked_by = $3 where id = $1")
            .bind(id)
            .bind(revoked_at)
            .bind(&doer.name)
            .execute(&mut *transaction)
            .await?;
        let deed = Deed::of(Action::KeyRevoked, format!("key {id}"))
            .before(json!({ "team": team, "revoked": false }))
            .after(json!({ "team": team, "revoked": true }));
        commit(transaction, Tell::OfKey(id), doer, &deed).await?;
        Ok(revoked_at)
    }
}
