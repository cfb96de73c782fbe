//! Events, and their way to webhooks: each is written once, with a delivery for each webhook that wants it, in one transaction.

use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::catalog::event_kind::EventKind;
use wendor_core::watch::event::{Event, EventState};
use wendor_wire::worded;

use crate::{Store, StoreError};

/// An event as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredEvent {
    /// Its number.
    pub id: i64,
    /// As it happened.
    pub event: Event,
}

/// A message that has not reached its webhook, and whose wait is over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueDelivery {
    /// Its number.
    pub id: i64,
    /// Name in the catalogue at the time of the event.
    pub webhook: String,
    /// Tries before this one.
    pub attempts: u32,
    /// Of what.
    pub event: StoredEvent,
}

worded! {
    /// How far a delivery is.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum DeliveryState {
        /// It is tried, or tried again.
        Waiting = "waiting",
        /// The webhook took it.
        Delivered = "delivered",
        /// It is not tried any more.
        GivenUp = "given-up",
    }
}

/// A delivery, for the log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeliveryLogged {
    /// Its number.
    pub id: i64,
    /// Name in the catalogue at the time of the event.
    pub webhook: String,
    /// How far it is.
    pub state: DeliveryState,
    /// How often it was tried.
    pub attempts: u32,
    /// When it is tried next, while it waits.
    pub next_at: DateTime<Utc>,
    /// When it was tried last.
    pub tried_at: Option<DateTime<Utc>>,
    /// The status of the last answer.
    pub status: Option<u16>,
    /// Why there was none, or what was wrong with it.
    pub failed: Option<String>,
    /// Of what.
    pub event: StoredEvent,
}

/// What came of a try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tried {
    /// How far the delivery is now.
    pub state: DeliveryState,
    /// When it was.
    pub at: DateTime<Utc>,
    /// When it is tried next, if it waits.
    pub next_at: DateTime<Utc>,
    /// The status of the answer.
    pub status: Option<u16>,
    /// Why there was none, or what was wrong with it.
    pub failed: Option<String>,
}

/// While one instance tries a delivery, no other does for so long.
const CLAIMED_FOR: TimeDelta = TimeDelta::seconds(60);

/// An event's columns.
#[derive(sqlx::FromRow)]
struct EventRow {
    id: i64,
    key: String,
    at: DateTime<Utc>,
    kind: String,
    state: String,
    subject: String,
    says: String,
    why: String,
}

fn stored(row: EventRow) -> Result<StoredEvent, StoreError> {
    let EventRow { id, key, at, kind, state, subject, says, why } = row;
    let kind = EventKind::parse(&kind).ok_or_else(|| StoreError::unreadable("event.kind", kind))?;
    let state = EventState::parse(&state).ok_or_else(|| StoreError::unreadable("event.state", state))?;
    Ok(StoredEvent { id, event: Event { key, at, kind, state, subject, says, why } })
}

#[derive(sqlx::FromRow)]
struct DeliveryRow {
    delivery: i64,
    webhook: String,
    delivery_state: String,
    attempts: i32,
    next_at: DateTime<Utc>,
    tried_at: Option<DateTime<Utc>>,
    status: Option<i32>,
    failed: Option<String>,
    id: i64,
    key: String,
    at: DateTime<Utc>,
    kind: String,
    state: String,
    subject: String,
    says: String,
    why: String,
}

impl DeliveryRow {
    fn logged(self) -> Result<DeliveryLogged, StoreError> {
        let event = stored(EventRow {
            id: self.id,
            key: self.key,
            at: self.at,
            kind: self.kind,
            state: self.state,
            subject: self.subject,
            says: self.says,
            why: self.why,
        })?;
        Ok(DeliveryLogged {
            id: self.delivery,
            webhook: self.webhook,
            state: DeliveryState::parse(&self.delivery_state)
                .ok_or_else(|| StoreError::unreadable("delivery.state", self.delivery_state.clone()))?,
            attempts: u32::try_from(self.attempts).unwrap_or_default(),
            next_at: self.next_at,
            tried_at: self.tried_at,
            status: self.status.and_then(|status| u16::try_from(status).ok()),
            failed: self.failed,
            event,
        })
    }
}

impl Store {
    /// Writes an event that is not known yet, with a delivery to each of these webhooks, due at `due_at`. Gives the deliveries' numbers; `None` when it was
    /// known.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn add_event(
        &self,
        event: &Event,
        webhooks: &[&str],
        due_at: DateTime<Utc>,
    ) -> Result<Option<Vec<i64>>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let id: Option<i64> = sqlx::query_scalar(
            "insert into event (key, at, kind, state, subject, says, why) values ($1, $2, $3, $4, $5, $6, $7)
             on conflict (key) do nothing returning id",
        )
        .bind(&event.key)
        .bind(event.at)
        .bind(event.kind.as_str())
        .bind(event.state.as_str())
        .bind(&event.subject)
        .bind(&event.says)
        .bind(&event.why)
        .fetch_optional(&mut *transaction)
        .await?;
        let Some(id) = id else { return Ok(None) };
        let mut deliveries = Vec::new();
        for webhook in webhooks {
            let delivery: i64 =
                sqlx::query_scalar("insert into delivery (event, webhook, next_at) values ($1, $2, $3) returning id")
                    .bind(id)
                    .bind(webhook)
                    .bind(due_at)
                    .fetch_one(&mut *transaction)
                    .await?;
            deliveries.push(delivery);
        }
        transaction.commit().await?;
        Ok(Some(deliveries))
    }

    /// Deliveries that are due; nobody else tries them for a while.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn due_deliveries(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<DueDelivery>, StoreError> {
        let rows: Vec<DeliveryRow> = sqlx::query_as(
            "with due as (
                 select id from delivery where state = 'waiting' and next_at <= $1
                 order by next_at, id limit $2 for update skip locked
             ), claimed as (
                 update delivery set next_at = $3 from due where delivery.id = due.id returning delivery.*
             )
             select claimed.id as delivery, webhook, claimed.state as delivery_state, attempts, next_at, tried_at, status, failed,
                    event.id, key, at, kind, event.state, subject, says, why
             from claimed join event on event.id = claimed.event order by claimed.id",
        )
        .bind(now)
        .bind(most)
        .bind(now + CLAIMED_FOR)
        .fetch_all(&self.pool)
        .await?;
        let due = |logged: DeliveryLogged| DueDelivery {
            id: logged.id,
            webhook: logged.webhook,
            attempts: logged.attempts,
            event: logged.event,
        };
        rows.into_iter().map(|row| row.logged().map(due)).collect()
    }

    /// Writes down what came of a try.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn tried_delivery(&self, id: i64, tried: &Tried) -> Result<(), StoreError> {
        sqlx::query(
            "update delivery set state = $2, attempts = attempts + 1, tried_at = $3, next_at = $4, status = $5, failed = $6
             where id = $1 and state = 'waiting'",
        )
        .bind(id)
        .bind(tried.state.as_str())
        .bind(tried.at)
        .bind(tried.next_at)
        .bind(tried.status.map(i32::from))
        .bind(&tried.failed)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The latest deliveries, newest first; to one webhook, or to all.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn deliveries(&self, webhook: Option<&str>, most: i64) -> Result<Vec<DeliveryLogged>, StoreError> {
        let rows: Vec<DeliveryRow> = sqlx::query_as(
            "select delivery.id as delivery, webhook, delivery.state as delivery_state, attempts, next_at, tried_at, status, failed,
                    event.id, key, at, kind, event.state, subject, says, why
             from delivery join event on event.id = delivery.event
             where $1::text is null or webhook = $1 order by delivery.id desc limit $2",
        )
        .bind(webhook)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(DeliveryRow::logged).collect()
    }

    /// How many deliveries wait, by webhook.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn waiting_deliveries(&self) -> Result<Vec<(String, i64)>, StoreError> {
        let waiting = "select webhook, count(*) from delivery where state = 'waiting' group by webhook";
        Ok(sqlx::query_as(waiting).fetch_all(&self.pool).await?)
    }

    /// The latest events, newest first; of one kind or all, and before one, for the next page.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn events(
        &self,
        kind: Option<EventKind>,
        below: Option<i64>,
        most: i64,
    ) -> Result<Vec<StoredEvent>, StoreError> {
        let rows: Vec<EventRow> = sqlx::query_as(
            "select id, key, at, kind, state, subject, says, why from event
             where ($1::text is null or kind = $1) and ($2::bigint is null or id < $2) order by id desc limit $3",
        )
        .bind(kind.map(EventKind::as_str))
        .bind(below)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(stored).collect()
    }

    /// Forgets events that are older. Gives how many.
    ///
    /// # Errors
    /// When the database is away, or they are too young to be forgotten.
    pub async fn forget_events(&self, before: DateTime<Utc>) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar("select forget_events($1)").bind(before).fetch_one(&self.pool).await?)
    }
}
