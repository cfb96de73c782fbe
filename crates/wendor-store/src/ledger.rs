//! Draining entries into the records: ledger lines, details, roll-ups, quota windows, and how far the spool is drained, in one
//! transaction.
//!
//! This is the only way into the ledger. Lines that are there already are left alone, and only lines that were new count in roll-ups
//! and windows, so draining a batch twice changes nothing. Nearly always all are new, and nothing is asked before they go in. A batch
//! goes in as one array a column: a statement is the same for every batch, is prepared once, and a batch takes a handful of round
//! trips whatever it holds.

use std::collections::BTreeSet;

use chrono::{DateTime, SubsecRound, Utc};
use sqlx::Arguments;
use sqlx::postgres::PgArguments;
use sqlx::types::Json;
use wendor_core::metering::entry::{LedgerEntry, Record, Spooled};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::Cost;
use wendor_core::name::OfferName;
use wendor_core::routing::queue::Lane;
use wendor_wire::failure::FailureKind;
use wendor_wire::usage::Counted;

use crate::row::{bigint, numeric};
use crate::{Store, StoreError, quotas, rollups};

/// The most entries of one batch: some megabytes with their details.
pub const MAX_BATCH: usize = 1_000;

/// Up to where a spool is drained.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SpoolPlace {
    /// The spool's own id.
    pub spool: String,
    /// Number of the segment.
    pub segment: u64,
    /// Bytes of it.
    pub offset: u64,
}

impl Store {
    /// Drains a batch of at most [`MAX_BATCH`] entries, and notes that the spool is drained up to `place`, if it is of one. Gives how
    /// many entries were new. Dropped midway it changes nothing.
    ///
    /// # Errors
    /// When the database is away, or refuses; nothing of the batch is in then.
    pub async fn drain(&self, batch: &[Spooled], place: Option<&SpoolPlace>) -> Result<u64, StoreError> {
        self.ensure_partitions(batch.iter().map(|settled| settled.entry.at)).await;
        let all: Vec<&Spooled> = batch.iter().collect();
        if self.drain_new(&all, place).await? {
            return Ok(u64::try_from(all.len()).unwrap_or(u64::MAX));
        }
        // Some are there already, which happens after a fault alone: looked for, left out, and tried again. Somebody else may drain the
        // same at the same time, so that more are there at the next look.
        loop {
            let fresh = self.unknown_of(batch).await?;
            if self.drain_new(&fresh, place).await? {
                return Ok(u64::try_from(fresh.len()).unwrap_or(u64::MAX));
            }
        }
    }

    /// Drains lines that are taken to be new. `false`, and nothing is changed, when one of them was there.
    async fn drain_new(&self, fresh: &[&Spooled], place: Option<&SpoolPlace>) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        if !fresh.is_empty() {
            if insert_lines(&mut transaction, fresh).await? != fresh.len() {
                transaction.rollback().await?;
                return Ok(false);
            }
            insert_details(&mut transaction, fresh).await?;
            rollups::add(&mut transaction, fresh.iter().map(|settled| &settled.entry)).await?;
            quotas::add_uses(&mut transaction, fresh.iter().flat_map(|settled| &settled.quotas)).await?;
        }
        if let Some(place) = place {
            note_place(&mut transaction, place).await?;
        }
        transaction.commit().await?;
        Ok(true)
    }

    /// Those of a batch that are not in the ledger, each once.
    async fn unknown_of<'b>(&self, batch: &'b [Spooled]) -> Result<Vec<&'b Spooled>, StoreError> {
        let known: Vec<(DateTime<Utc>, String)> = sqlx::query_as(
            "select at, entry_id from ledger
             where (at, entry_id) in (select at, entry_id from unnest($1::timestamptz[], $2::text[]) as wanted (at, entry_id))",
        )
        .bind(batch.iter().map(|settled| settled.entry.at).collect::<Vec<_>>())
        .bind(batch.iter().map(|settled| settled.entry.entry_id.as_str()).collect::<Vec<_>>())
        .fetch_all(&self.pool)
        .await?;
        let mut known: BTreeSet<(DateTime<Utc>, String)> = known.into_iter().collect();
        // The database keeps microseconds, and gives back what it keeps.
        let kept = |settled: &Spooled| (settled.entry.at.trunc_subsecs(6), settled.entry.entry_id.to_string());
        Ok(batch.iter().filter(|settled| known.insert(kept(settled))).collect())
    }

    /// Up to where that spool is drained; `None` for one that never was.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn spool_place(&self, spool: &str) -> Result<Option<SpoolPlace>, StoreError> {
        let row: Option<(i64, i64)> = sqlx::query_as("select segment, byte_offset from spool_place where spool = $1")
            .bind(spool)
            .fetch_optional(&self.pool)
            .await?;
        let place = |(segment, offset)| {
            Ok(SpoolPlace {
                spool: spool.to_owned(),
                segment: crate::row::count(segment, "spool_place.segment")?,
                offset: crate::row::count(offset, "spool_place.byte_offset")?,
            })
        };
        row.map(place).transpose()
    }

    /// The id of the installation that this database is of.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn installation(&self) -> Result<String, StoreError> {
        Ok(sqlx::query_scalar("select id from installation").fetch_one(&self.pool).await?)
    }
}

async fn note_place(connection: &mut sqlx::PgConnection, place: &SpoolPlace) -> Result<(), StoreError> {
    sqlx::query(
        "insert into spool_place (spool, segment, byte_offset, drained_at) values ($1, $2, $3, now())
         on conflict (spool) do update
         set segment = excluded.segment, byte_offset = excluded.byte_offset, drained_at = excluded.drained_at",
    )
    .bind(&place.spool)
    .bind(bigint(place.segment))
    .bind(bigint(place.offset))
    .execute(connection)
    .await?;
    Ok(())
}

const INSERT_LINES: &str = "insert into ledger (at, entry_id, kind, request, run, step, labels, team, key, route, offer,
    revision, attempts, streamed, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning,
    tokens_estimated, images, image_size, cost_input, cost_input_cached, cost_cache_written, cost_output, cost_images, ended, failure,
    admitted_ms, answering_ms, first_token_ms, whole_ms, reason, waited_ms, lane, tokens_preset)
    select * from unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::jsonb[],
    $8::text[], $9::text[], $10::text[], $11::text[], $12::bigint[], $13::int[], $14::bool[], $15::bigint[], $16::bigint[],
    $17::bigint[], $18::bigint[], $19::bigint[], $20::bool[], $21::bigint[], $22::text[], $23::numeric[], $24::numeric[],
    $25::numeric[], $26::numeric[], $27::numeric[], $28::text[], $29::text[], $30::bigint[], $31::bigint[], $32::bigint[],
    $33::bigint[], $34::text[], $35::bigint[], $36::text[], $37::bigint[])
    on conflict do nothing";

/// The columns that depend on what a line records.
struct RecordColumns<'a> {
    attempts: u32,
    streamed: bool,
    ended: Option<&'static str>,
    failure: Option<FailureKind>,
    admitted_ms: u64,
    answering_ms: Option<u64>,
    first_token_ms: Option<u64>,
    whole_ms: u64,
    reason: Option<&'a str>,
    waited_ms: u64,
    lane: Lane,
}

impl<'a> RecordColumns<'a> {
    fn of(entry: &'a LedgerEntry) -> Self {
        let none = Self {
            attempts: 0,
            streamed: false,
            ended: None,
            failure: None,
            admitted_ms: 0,
            answering_ms: None,
            first_token_ms: None,
            whole_ms: 0,
            reason: None,
            waited_ms: 0,
            lane: Lane::default(),
        };
        match &entry.record {
            Record::Request(request) => Self {
                attempts: request.attempts,
                streamed: request.streamed,
                ended: Some(request.end.as_str()),
                failure: request.failure,
                lane: request.lane,
                ..none.timed(request.latency)
            },
            Record::Check(check) => Self {
                attempts: 1,
                streamed: check.streamed,
                ended: Some(check.end.as_str()),
                ..none.timed(check.latency)
            },
            Record::Attempt(attempt) => Self {
                attempts: attempt.number,
                streamed: attempt.streamed,
                failure: attempt.failure,
                admitted_ms: attempt.began_ms,
                whole_ms: attempt.ended_ms,
                ..none
            },
            Record::Adjustment(adjustment) => Self { reason: Some(&adjustment.reason), ..none },
        }
    }

    fn timed(self, latency: wendor_core::metering::entry::Latency) -> Self {
        Self {
            admitted_ms: latency.admitted_ms,
            answering_ms: latency.answering_ms,
            first_token_ms: latency.first_token_ms,
            whole_ms: latency.whole_ms,
            waited_ms: latency.waited_ms,
            ..self
        }
    }
}

/// What a usual line takes as arguments: 36 columns, each value with its length before it.
const LINE_BYTES: usize = 640;

/// What the line of a detail takes beside the detail: a time, an id, the lengths.
const DETAIL_LINE_BYTES: usize = 64;

/// Inserts lines. Gives how many were new.
async fn insert_lines(connection: &mut sqlx::PgConnection, batch: &[&Spooled]) -> Result<usize, StoreError> {
    fn column<'b, T>(batch: &[&'b Spooled], of: impl Fn(&'b LedgerEntry) -> T) -> Vec<T> {
        batch.iter().map(|spooled| of(&spooled.entry)).collect()
    }
    let cost = |part: fn(&Cost) -> Money| {
        column(batch, move |entry| entry.cost.as_ref().map(|cost| numeric(part(cost).amount())))
    };
    let records: Vec<RecordColumns<'_>> = column(batch, RecordColumns::of);
    let inserted = sqlx::query_with(INSERT_LINES, room(36, batch.len() * LINE_BYTES))
        .bind(column(batch, |entry| entry.at))
        .bind(column(batch, |entry| entry.entry_id.as_str()))
        .bind(column(batch, |entry| entry.record.kind().as_str()))
        .bind(column(batch, |entry| entry.request.as_str()))
        .bind(column(batch, |entry| entry.run.as_deref()))
        .bind(column(batch, |entry| entry.step.as_deref()))
        .bind(column(batch, |entry| Json(&entry.labels)))
        .bind(column(batch, |entry| entry.team.as_str()))
        .bind(column(batch, |entry| entry.key.as_str()))
        .bind(column(batch, |entry| entry.route.as_str()))
        .bind(column(batch, |entry| entry.offer.as_ref().map(OfferName::as_str)))
        .bind(column(batch, |entry| entry.revision))
        .bind(records.iter().map(|record| i32::try_from(record.attempts).unwrap_or(i32::MAX)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| record.streamed).collect::<Vec<_>>())
        .bind(column(batch, |entry| bigint(entry.tokens.input)))
        .bind(column(batch, |entry| bigint(entry.tokens.input_cached)))
        .bind(column(batch, |entry| bigint(entry.tokens.cache_written)))
        .bind(column(batch, |entry| bigint(entry.tokens.output)))
        .bind(column(batch, |entry| bigint(entry.tokens.reasoning)))
        .bind(column(batch, |entry| entry.counted == Counted::Estimated))
        .bind(column(batch, |entry| i64::from(entry.images.count)))
        .bind(column(batch, |entry| entry.images.size.map(|size| size.to_string())))
        .bind(cost(|cost| cost.input))
        .bind(cost(|cost| cost.input_cached))
        .bind(cost(|cost| cost.cache_written))
        .bind(cost(|cost| cost.output))
        .bind(cost(|cost| cost.images))
        .bind(records.iter().map(|record| record.ended).collect::<Vec<_>>())
        .bind(records.iter().map(|record| record.failure.map(FailureKind::as_str)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| bigint(record.admitted_ms)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| record.answering_ms.map(bigint)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| record.first_token_ms.map(bigint)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| bigint(record.whole_ms)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| record.reason).collect::<Vec<_>>())
        .bind(records.iter().map(|record| bigint(record.waited_ms)).collect::<Vec<_>>())
        .bind(records.iter().map(|record| (!record.lane.is_usual()).then(|| record.lane.as_str())).collect::<Vec<_>>())
        .bind(column(batch, |entry| bigint(entry.tokens.preset)))
        .execute(connection)
        .await?;
    Ok(usize::try_from(inserted.rows_affected()).unwrap_or(usize::MAX))
}

/// Arguments with room for so many of together so many bytes: megabytes that grow by doubling are copied as they grow.
fn room(count: usize, bytes: usize) -> PgArguments {
    let mut arguments = PgArguments::default();
    arguments.reserve(count, bytes);
    arguments
}

/// The details go in as the bytes that the spool held: the database alone reads them.
async fn insert_details(connection: &mut sqlx::PgConnection, fresh: &[&Spooled]) -> Result<(), StoreError> {
    let mut columns: (Vec<DateTime<Utc>>, Vec<&str>, Vec<&str>) = Default::default();
    for (entry, detail) in fresh.iter().filter_map(|spooled| Some((&spooled.entry, spooled.detail.as_deref()?))) {
        columns.0.push(entry.at);
        columns.1.push(entry.entry_id.as_str());
        columns.2.push(detail);
    }
    let bytes = columns.2.iter().map(|detail| detail.len() + DETAIL_LINE_BYTES).sum();
    sqlx::query_with(
        "insert into request_detail (at, entry_id, detail)
         select at, entry_id, detail::jsonb from unnest($1::timestamptz[], $2::text[], $3::text[]) as fresh (at, entry_id, detail)
         on conflict do nothing",
        room(3, bytes),
    )
    .bind(columns.0)
    .bind(columns.1)
    .bind(columns.2)
    .execute(connection)
    .await?;
    Ok(())
}
