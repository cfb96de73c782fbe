//! The audit: entries written as part of what they tell of, read back in pages. No entry is ever changed.

use chrono::{DateTime, Utc};
use sqlx::{Postgres, Transaction};
use wendor_core::audit::verify::{Verdict, Verifier};
use wendor_core::audit::{Action, Deed, Digest, Doer, Entry, Head};

use crate::store::{bump, bump_for_key};
use crate::{Store, StoreError};

/// Any number does, as long as nothing else locks with it: it orders those who write an entry.
const AUDIT_LOCK: i64 = 7_420_002;

/// Entries that are read at once where all are.
const AT_ONCE: i64 = 2_000;

/// Whether what was changed is read by every instance into memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tell<'a> {
    /// It is.
    Everyone,
    /// It is the key of this id and nothing else.
    OfKey(&'a str),
    /// It is asked of the database when it is needed.
    Nobody,
}

/// Which entries; what is absent narrows nothing.
#[derive(Clone, Debug, Default)]
pub struct AuditFilter<'a> {
    /// By this person.
    pub by: Option<&'a str>,
    /// Of this kind.
    pub action: Option<Action>,
    /// To this.
    pub subject: Option<&'a str>,
    /// At or after.
    pub from: Option<DateTime<Utc>>,
    /// Before.
    pub until: Option<DateTime<Utc>>,
    /// With a smaller number than this.
    pub below: Option<i64>,
}

#[derive(sqlx::FromRow)]
struct EntryRow {
    number: i64,
    at: DateTime<Utc>,
    by: String,
    address: String,
    through: String,
    action: String,
    subject: String,
    before: Option<String>,
    after: Option<String>,
    previous: Vec<u8>,
    hash: Vec<u8>,
}

fn digest(bytes: Vec<u8>) -> Result<Digest, StoreError> {
    bytes.try_into().map(Digest).map_err(|_| StoreError::unreadable("a hash of the audit", "it has not 32 bytes"))
}

impl TryFrom<EntryRow> for Entry {
    type Error = StoreError;
    fn try_from(row: EntryRow) -> Result<Self, StoreError> {
        let EntryRow { number, at, by, address, through, action, subject, before, after, previous, hash } = row;
        let (previous, hash) = (digest(previous)?, digest(hash)?);
        Ok(Self { number, at, by, address, through, action, subject, before, after, previous, hash })
    }
}

/// Ends a change: what was done goes into the audit, instances are told where they must be, and all of it is kept or none.
pub(crate) async fn commit(
    mut transaction: Transaction<'_, Postgres>,
    tell: Tell<'_>,
    doer: &Doer,
    deed: &Deed,
) -> Result<(), StoreError> {
    // In this order everywhere: the counter's row and the audit's lock are held by one after the other.
    match tell {
        Tell::Everyone => bump(&mut transaction).await?,
        Tell::OfKey(id) => bump_for_key(&mut transaction, id).await?,
        Tell::Nobody => {}
    }
    write(&mut transaction, doer, deed).await?;
    Ok(transaction.commit().await?)
}

async fn write(transaction: &mut Transaction<'_, Postgres>, doer: &Doer, deed: &Deed) -> Result<(), StoreError> {
    sqlx::query("select pg_advisory_xact_lock($1)").bind(AUDIT_LOCK).execute(&mut **transaction).await?;
    let entry = Entry::following(read_head(&mut **transaction).await?, doer, deed);
    sqlx::query(
        "insert into audit (number, at, by, address, through, action, subject, before, after, previous, hash)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
    )
    .bind(entry.number)
    .bind(entry.at)
    .bind(&entry.by)
    .bind(&entry.address)
    .bind(&entry.through)
    .bind(&entry.action)
    .bind(&entry.subject)
    .bind(&entry.before)
    .bind(&entry.after)
    .bind(&entry.previous.0[..])
    .bind(&entry.hash.0[..])
    .execute(&mut **transaction)
    .await?;
    // The log is another place than the database: whoever keeps it keeps a head of the chain with every entry.
    tracing::info!(by = entry.by, action = entry.action, subject = entry.subject, head = %entry.head(), "audit");
    Ok(())
}

async fn read_head(executor: impl sqlx::PgExecutor<'_>) -> Result<Head, StoreError> {
    let (number, hash): (i64, Vec<u8>) =
        sqlx::query_as("select number, hash from audit_head").fetch_one(executor).await?;
    Ok(Head { number, hash: digest(hash)? })
}

impl Store {
    /// Writes what changed nothing but must be known: a refusal, a look, an export.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn audit(&self, doer: &Doer, deed: &Deed) -> Result<(), StoreError> {
        commit(self.pool.begin().await?, Tell::Nobody, doer, deed).await
    }

    /// Entries, newest first.
    ///
    /// # Errors
    /// When the database is away or an entry cannot be read.
    pub async fn audit_entries(&self, filter: &AuditFilter<'_>, limit: i64) -> Result<Vec<Entry>, StoreError> {
        let rows: Vec<EntryRow> = sqlx::query_as(
            "select number, at, by, address, through, action, subject, before, after, previous, hash from audit
             where ($1::text is null or by = $1) and ($2::text is null or action = $2) and ($3::text is null or subject = $3)
               and ($4::timestamptz is null or at >= $4) and ($5::timestamptz is null or at < $5)
               and ($6::bigint is null or number < $6)
             order by number desc limit $7",
        )
        .bind(filter.by)
        .bind(filter.action.map(Action::as_str))
        .bind(filter.subject)
        .bind(filter.from)
        .bind(filter.until)
        .bind(filter.below)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(Entry::try_from).collect()
    }

    /// Entries after `number`, oldest first: so many as are read at once.
    ///
    /// # Errors
    /// When the database is away or an entry cannot be read.
    pub async fn audit_after(&self, number: i64) -> Result<Vec<Entry>, StoreError> {
        let rows: Vec<EntryRow> = sqlx::query_as(
            "select number, at, by, address, through, action, subject, before, after, previous, hash from audit
             where number > $1 order by number limit $2",
        )
        .bind(number)
        .bind(AT_ONCE)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(Entry::try_from).collect()
    }

    /// Looks the whole chain through. `known` is a head of it that was kept elsewhere.
    ///
    /// # Errors
    /// When the database is away or an entry cannot be read.
    pub async fn verify_audit(&self, known: Option<Head>) -> Result<Verdict, StoreError> {
        // Read first: what is added meanwhile is no fault.
        let kept = read_head(&self.pool).await?;
        let mut verifier = Verifier::new(known);
        let mut after = 0;
        loop {
            let entries = self.audit_after(after).await?;
            let Some(last) = entries.last().map(|entry| entry.number) else { break };
            entries.iter().filter(|entry| entry.number <= kept.number).for_each(|entry| verifier.look(entry));
            after = last;
        }
        Ok(verifier.end(Some(kept)))
    }
}
