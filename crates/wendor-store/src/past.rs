//! Requests of the past, read in bulk: as far as they can be planned anew, and who asked for a route.

use chrono::{DateTime, Utc};
use sqlx::types::Json;
use sqlx::{FromRow, Postgres, QueryBuilder, Row};
use wendor_core::catalog::preset::Preset;
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::name::Name;
use wendor_core::request_id::RequestId;
use wendor_wire::usage::TokenCounts;

use crate::requests::{COLUMNS, MAX_PAGE, PageMark, RequestFilter, TokenColumns, entry_of, tokens_of};
use crate::row::{bigint, name};
use crate::{Store, StoreError};

/// A request as far as it can be planned anew.
#[derive(Clone, Debug)]
pub struct PastLine {
    /// When it arrived.
    pub at: DateTime<Utc>,
    /// Its id.
    pub id: RequestId,
    /// Who pays, as recorded.
    pub team: Name,
    /// Id of the key.
    pub key: String,
    /// The route, as recorded.
    pub route: Name,
    /// What it used.
    pub tokens: TokenCounts,
}

/// Who asked for a route.
#[derive(Clone, Debug, FromRow)]
pub struct Caller {
    /// Who pays, as recorded.
    pub team: String,
    /// Id of the key.
    pub key: String,
    /// The route, as recorded.
    pub route: String,
    /// The name that was asked for, where it was another.
    pub asked_as: Option<String>,
    /// How many.
    pub requests: i64,
    /// The latest.
    pub last_at: DateTime<Utc>,
}

/// The preset of a route as it stands from a revision on.
#[derive(Clone, Debug)]
pub struct PresetVersion {
    /// The revision.
    pub revision: i64,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub note: String,
    /// The preset; nothing where it was taken away.
    pub preset: Option<Preset>,
}

impl Store {
    /// Requests of a range in the order in which they arrived, one of `every`: which ones is decided by their ids, so that asking again gives
    /// the same.
    ///
    /// # Errors
    /// When the database is away or a line cannot be read.
    pub async fn past_requests(
        &self,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        every: u64,
    ) -> Result<Vec<PastLine>, StoreError> {
        let rows = sqlx::query(
            "select at, entry_id, team, key, route, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output,
             tokens_reasoning, tokens_preset, tokens_estimated from ledger
             where kind = 'request' and at >= $1 and at < $2 and abs(hashtext(entry_id)::bigint) % $3 = 0 order by at, entry_id",
        );
        let rows = rows.bind(from).bind(to).bind(bigint(every.max(1))).fetch_all(&self.pool).await?;
        let line = |row: &sqlx::postgres::PgRow| {
            let id: String = row.try_get("entry_id")?;
            Ok(PastLine {
                at: row.try_get("at")?,
                id: RequestId::parse(&id).ok_or_else(|| StoreError::unreadable("ledger.entry_id", &id))?,
                team: name(&row.try_get::<String, _>("team")?, "ledger.team")?,
                key: row.try_get("key")?,
                route: name(&row.try_get::<String, _>("route")?, "ledger.route")?,
                tokens: tokens_of(&TokenColumns::from_row(row)?)?,
            })
        };
        rows.iter().map(line).collect()
    }

    /// A page of the ledger's lines of all kinds, in the order in which they arrived, behind a mark: a range of any length is read page by page.
    ///
    /// # Errors
    /// When the database is away or a line cannot be read.
    pub async fn lines_after(
        &self,
        filter: &RequestFilter,
        mark: Option<&PageMark>,
    ) -> Result<Vec<LedgerEntry>, StoreError> {
        let mut query = QueryBuilder::<Postgres>::new("select ");
        query.push(COLUMNS).push(" from ledger where true");
        filter.narrow(&mut query);
        if let Some(PageMark { at, entry_id }) = mark {
            // Said apart, so that months before it are not looked at.
            query.push(" and at >= ").push_bind(at);
            query.push(" and (at, entry_id) > (").push_bind(at).push(", ").push_bind(entry_id).push(")");
        }
        query.push(" order by at, entry_id limit ").push_bind(MAX_PAGE);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(entry_of).collect()
    }

    /// The revisions in which the preset of a route changed, the latest first. Its names are the present one and its former ones.
    ///
    /// # Errors
    /// When the database is away or a preset cannot be read.
    pub async fn preset_versions(&self, names: &[String]) -> Result<Vec<PresetVersion>, StoreError> {
        let rows = sqlx::query(
            "with state as (
                select number, made_at, made_by, note, (select document -> 'routes' -> name -> 'preset'
                    from unnest($1::text[]) with ordinality as names (name, place)
                    where document -> 'routes' ? name order by place limit 1) as preset
                from revision),
             step as (select *, lag(preset) over (order by number) as before from state)
             select number, made_at, made_by, note, preset from step
             where preset is distinct from before order by number desc limit 200",
        );
        let rows = rows.bind(names).fetch_all(&self.pool).await?;
        let version = |row: &sqlx::postgres::PgRow| {
            Ok(PresetVersion {
                revision: row.try_get("number")?,
                made_at: row.try_get("made_at")?,
                made_by: row.try_get("made_by")?,
                note: row.try_get("note")?,
                preset: row.try_get::<Option<Json<Preset>>, _>("preset")?.map(|preset| preset.0),
            })
        };
        rows.iter().map(version).collect()
    }

    /// Who asked for a route, which may stand under several names, since an instant: by team, key and the name that was asked for.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn callers(&self, routes: &[String], since: DateTime<Utc>) -> Result<Vec<Caller>, StoreError> {
        let callers = sqlx::query_as(
            "select line.team, line.key, line.route, kept.detail ->> 'asked_as' as asked_as, count(*) as requests,
             max(line.at) as last_at
             from ledger line left join request_detail kept on kept.at = line.at and kept.entry_id = line.entry_id
             where line.kind = 'request' and line.route = any($1) and line.at >= $2
             group by line.team, line.key, line.route, asked_as order by last_at desc limit 500",
        );
        Ok(callers.bind(routes).bind(since).fetch_all(&self.pool).await?)
    }
}
