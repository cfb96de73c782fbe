//! What upstreams serve, what changed there, and what has been proven of their offers.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use sqlx::types::Json;
use wendor_core::diagnosis::inventory::{Event, EventKind, Inventory};
use wendor_core::diagnosis::proof::{Kept, Outcome, Proof};
use wendor_core::name::{Name, OfferName};

use crate::row::name;
use crate::{Store, StoreError};

/// Changes kept in sight.
const EVENTS_SHOWN: i64 = 100;

/// What was seen at an upstream, and when.
#[derive(Clone, Debug)]
pub struct StoredInventory {
    /// When it was last looked at.
    pub looked_at: DateTime<Utc>,
    /// Why that look saw nothing, if so.
    pub failed: Option<String>,
    /// What was seen, then or before.
    pub seen: Inventory,
}

/// A change, and where and when it was noticed.
#[derive(Clone, Debug)]
pub struct StoredEvent {
    /// When.
    pub at: DateTime<Utc>,
    /// Where.
    pub upstream: Name,
    /// What.
    pub event: Event,
}

/// When an offer was last used, and by whom.
#[derive(Clone, Debug)]
pub struct LastUse {
    /// Its start, UTC.
    pub hour: DateTime<Utc>,
    /// Whose request was the last in that hour.
    pub team: String,
}

impl Store {
    /// Keeps what was seen of an upstream. Gives what has changed since the look before, by whichever instance that was; on the
    /// first look that sees something nothing has.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn keep_inventory(
        &self,
        upstream: &Name,
        seen: Result<&Inventory, &str>,
        at: DateTime<Utc>,
    ) -> Result<Vec<Event>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        // Orders those who look at the same upstream at once, also for the first time.
        sqlx::query("select pg_advisory_xact_lock(hashtext('inventory'), hashtext($1))")
            .bind(upstream.as_str())
            .execute(&mut *transaction)
            .await?;
        let before: Option<(Json<Inventory>, bool)> =
            sqlx::query_as("select seen, failed is not null from inventory where upstream = $1")
                .bind(upstream.as_str())
                .fetch_optional(&mut *transaction)
                .await?;
        // Who has never answered has nothing that could change; who answered with an empty list has.
        let known =
            before.filter(|(Json(seen), failed)| !failed || *seen != Inventory::default()).map(|(Json(seen), _)| seen);
        let now = seen.ok().or(known.as_ref()).cloned().unwrap_or_default();
        sqlx::query(
            "insert into inventory (upstream, looked_at, failed, seen) values ($1, $2, $3, $4)
             on conflict (upstream) do update set looked_at = excluded.looked_at, failed = excluded.failed, seen = excluded.seen",
        )
        .bind(upstream.as_str())
        .bind(at)
        .bind(seen.err())
        .bind(Json(&now))
        .execute(&mut *transaction)
        .await?;
        let events = known.map(|known| now.since(&known)).unwrap_or_default();
        for event in &events {
            sqlx::query("insert into inventory_event (at, upstream, model, kind, before, after) values ($1, $2, $3, $4, $5, $6)")
                .bind(at)
                .bind(upstream.as_str())
                .bind(&event.model)
                .bind(event.kind.as_str())
                .bind(&event.before)
                .bind(&event.after)
                .execute(&mut *transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(events)
    }

    /// What was seen of every upstream.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn inventories(&self) -> Result<BTreeMap<Name, StoredInventory>, StoreError> {
        type Row = (String, DateTime<Utc>, Option<String>, Json<Inventory>);
        let rows: Vec<Row> =
            sqlx::query_as("select upstream, looked_at, failed, seen from inventory").fetch_all(&self.pool).await?;
        let stored = |(upstream, looked_at, failed, seen): Row| {
            Ok((name(&upstream, "inventory.upstream")?, StoredInventory { looked_at, failed, seen: seen.0 }))
        };
        rows.into_iter().map(stored).collect()
    }

    /// The latest changes, newest first.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn inventory_events(&self) -> Result<Vec<StoredEvent>, StoreError> {
        type Row = (DateTime<Utc>, String, Option<String>, String, Option<String>, Option<String>);
        let rows: Vec<Row> = sqlx::query_as(
            "select at, upstream, model, kind, before, after from inventory_event order by at desc, id desc limit $1",
        )
        .bind(EVENTS_SHOWN)
        .fetch_all(&self.pool)
        .await?;
        let stored = |(at, upstream, model, kind, before, after): Row| {
            let kind = EventKind::parse(&kind).ok_or_else(|| StoreError::unreadable("inventory_event.kind", kind))?;
            let upstream = name(&upstream, "inventory_event.upstream")?;
            Ok(StoredEvent { at, upstream, event: Event { kind, model, before, after } })
        };
        rows.into_iter().map(stored).collect()
    }

    /// When each offer was last used, and by whom; what stands under the route `without` does not count.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn last_uses(
        &self,
        since: DateTime<Utc>,
        without: &str,
    ) -> Result<BTreeMap<String, LastUse>, StoreError> {
        let rows: Vec<(String, DateTime<Utc>, String)> = sqlx::query_as(
            "select distinct on (offer) offer, hour, team from usage_hour where hour >= $1 and offer <> '' and route <> $2
             order by offer, hour desc, requests desc",
        )
        .bind(since)
        .bind(without)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(offer, hour, team)| (offer, LastUse { hour, team })).collect())
    }

    /// Keeps a proof in place of the one before.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn keep_proof(&self, offer: &OfferName, proof: Proof, kept: &Kept, by: &str) -> Result<(), StoreError> {
        let absent = match &kept.outcome {
            Outcome::Proven => None,
            Outcome::Absent { why } => Some(why),
        };
        sqlx::query(
            "insert into ability_proof (offer, proof, at, by, absent, digest) values ($1, $2, $3, $4, $5, $6)
             on conflict (offer, proof) do update
             set at = excluded.at, by = excluded.by, absent = excluded.absent, digest = excluded.digest",
        )
        .bind(offer.to_string())
        .bind(proof.as_str())
        .bind(kept.at)
        .bind(by)
        .bind(absent)
        .bind(&kept.digest)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Every proof that is kept.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn proofs(&self) -> Result<BTreeMap<(OfferName, Proof), Kept>, StoreError> {
        type Row = (String, String, DateTime<Utc>, Option<String>, Option<String>);
        let rows: Vec<Row> =
            sqlx::query_as("select offer, proof, at, absent, digest from ability_proof").fetch_all(&self.pool).await?;
        let stored = |(offer, proof, at, absent, digest): Row| {
            let offer =
                OfferName::parse(&offer).map_err(|error| StoreError::unreadable("ability_proof.offer", error))?;
            let known = Proof::ALL.into_iter().find(|known| known.as_str() == proof);
            let proof = known.ok_or_else(|| StoreError::unreadable("ability_proof.proof", proof))?;
            let outcome = absent.map_or(Outcome::Proven, |why| Outcome::Absent { why });
            Ok(((offer, proof), Kept { at, outcome, digest }))
        };
        rows.into_iter().map(stored).collect()
    }
}
