//! Sums of whole hours and days ([`wendor_core::metering::sums`]): made behind the roll-ups that they sum, and read in their place.
//!
//! Whether a span's sums are right is told by a mark beside them. What changes a roll-up takes the marks of its hour and day away in the same
//! transaction (by a trigger, so that it holds for every release), and shares a lock with others who do; whoever sums holds that lock alone.
//! So a mark that is seen is right, and what is read with it in one snapshot equals the roll-ups.

use std::ops::Range;

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use futures_util::TryStreamExt;
use rust_decimal::Decimal;
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sums::{Apart, Source, Span, Summed, Sums, segments};
use wendor_core::quota::window::{Window, WindowSpan};

use crate::rolled::{Grouped, GroupedRow, ROLLED, RolledRow, push_group_by, push_sums};
use crate::row::{bigint, numeric};
use crate::usage::UsageFilter;
use crate::{Store, StoreError};

/// How long after its end a span is summed: what is drained late would take the sums out of use again.
const AFTER: TimeDelta = TimeDelta::minutes(2);

/// Rows of one statement.
const ROWS: usize = 2_000;

/// Sums of one team on one day.
#[derive(Clone, Debug, FromRow)]
pub struct TeamDay {
    /// Who.
    pub team: String,
    /// The day, UTC.
    pub day: chrono::NaiveDate,
    /// Requests admitted.
    pub requests: Decimal,
    /// Input tokens of all kinds.
    pub input_tokens: Decimal,
    /// Of that day, thinking included.
    pub output_tokens: Decimal,
    /// Money.
    pub cost: Decimal,
}

impl TeamDay {
    /// Adds those of another name of the same team.
    pub fn add(&mut self, other: &Self) {
        self.requests += other.requests;
        self.input_tokens += other.input_tokens;
        self.output_tokens += other.output_tokens;
        self.cost += other.cost;
    }
}

/// How sums of whole hours are told apart.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Told {
    /// What comes back.
    pub grouped: Grouped,
    /// What sums must tell apart for that and for the filter.
    pub needed: Apart,
    /// Whether days must be told apart by their hours.
    pub hours: bool,
}

/// What is selected of a day behind the instant of a row.
const TEAM_DAY: &str = " at time zone 'utc')::date as day, sum(requests) as requests,
    sum(tokens_input + tokens_input_cached + tokens_cache_written) as input_tokens,
    sum(tokens_output) as output_tokens, sum(cost) as cost from ";

impl Store {
    /// Sums one span that is over and is not summed, the latest first, none of the months before that of `since`. Gives which; `None` when
    /// nothing is left, or somebody else is at it.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn sum_up(
        &self,
        now: DateTime<Utc>,
        since: Option<DateTime<Utc>>,
    ) -> Result<Option<(Span, DateTime<Utc>)>, StoreError> {
        let Some(first) = self.first_hour().await? else { return Ok(None) };
        // What is older may be left in no partition of its own: its sums would be forgotten again and again.
        let first = since.map_or(first, |since| first.max(Window::Month.around(since).start));
        let mut transaction = self.pool.begin().await?;
        let until = now - AFTER;
        // Days have their hours summed with them, so that of hours only those of a day that is not over are looked for.
        let today = Window::Day.around(until).start;
        let day = unsummed(&mut transaction, Span::Day, Window::Day.around(first).start, today).await?;
        let hour = unsummed(&mut transaction, Span::Hour, today.max(first), Window::Hour.around(until).start).await?;
        let (span, start) = match (hour, day) {
            (Some(hour), _) => (Span::Hour, hour),
            (None, Some(day)) => (Span::Day, day),
            (None, None) => return Ok(None),
        };
        let WindowSpan { start, end } = span.window().around(start);
        let may: bool = sqlx::query_scalar("select may_sum($1, $2)")
            .bind(start)
            .bind(i32::try_from((end - start).num_hours()).unwrap_or(1))
            .fetch_one(&mut *transaction)
            .await?;
        if !may {
            return Ok(None);
        }
        sum(&mut transaction, span, start, end).await?;
        transaction.commit().await?;
        Ok(Some((span, start)))
    }

    /// Forgets the sums of what was over before that instant, as its roll-ups are forgotten.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn forget_sums(&self, before: DateTime<Utc>) -> Result<(), StoreError> {
        let before = Window::Month.around(before).start;
        let mut transaction = self.pool.begin().await?;
        sqlx::query("delete from usage_summed where start < $1").bind(before).execute(&mut *transaction).await?;
        sqlx::query("delete from usage_sum where start < $1").bind(before).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Hands sums of whole hours to `fold`, by groups, from sums of days as far as there are. The filter needs told apart what it narrows.
    pub(crate) async fn rolled(
        &self,
        range: Range<DateTime<Utc>>,
        told: Told,
        filter: &UsageFilter,
        mut fold: impl FnMut(RollUpKey, RollUp),
    ) -> Result<(), StoreError> {
        let mut transaction = self.reading().await?;
        let summed = summed(&mut transaction, &range).await?;
        let Told { grouped, needed, hours } = told;
        for (source, from, to) in segments(range, needed, hours, &summed) {
            let start = if source == Source::RollUps { "hour" } else { "start" };
            let mut select = QueryBuilder::<Postgres>::new("select ");
            push_sums(&mut select, start, grouped);
            match source {
                Source::Sums(span) => {
                    select.push(" from usage_sum where span = ").push_bind(span.as_str());
                    select.push(" and apart = ").push_bind(needed.code()).push(" and ");
                }
                Source::RollUps => {
                    select.push(" from usage_hour where ");
                }
            }
            select.push(start).push(" >= ").push_bind(from).push(" and ").push(start).push(" < ").push_bind(to);
            narrow(&mut select, filter);
            push_group_by(&mut select, start, grouped);
            let mut rows = select.build_query_as::<GroupedRow>().fetch(&mut *transaction);
            while let Some(row) = rows.try_next().await? {
                let (key, sums) = row.read()?;
                fold(key, sums);
            }
        }
        Ok(())
    }

    /// Sums by team and day of whole days, without latencies: what a month is judged by.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn team_days(&self, from: NaiveDate, to: NaiveDate) -> Result<Vec<TeamDay>, StoreError> {
        let at = |day: NaiveDate| day.and_time(chrono::NaiveTime::MIN).and_utc();
        let range = at(from)..at(to);
        let mut transaction = self.reading().await?;
        let summed = summed(&mut transaction, &range).await?;
        let team = Apart { team: true, ..Apart::default() };
        let mut days: Vec<TeamDay> = Vec::new();
        for (source, from, to) in segments(range, team, false, &summed) {
            let (from_where, at) = match source {
                Source::Sums(Span::Day) => ("usage_sum where span = 'day' and apart = 't' and ", "start"),
                Source::Sums(Span::Hour) => ("usage_sum where span = 'hour' and apart = 't' and ", "start"),
                Source::RollUps => ("usage_hour where ", "hour"),
            };
            let mut select = QueryBuilder::<Postgres>::new("select team, (");
            select.push(at).push(TEAM_DAY).push(from_where).push(at).push(" >= ").push_bind(from).push(" and ");
            select.push(at).push(" < ").push_bind(to).push(" group by team, day");
            let part: Vec<TeamDay> = select.build_query_as().fetch_all(&mut *transaction).await?;
            for day in part {
                // A day may be read in parts.
                match days.iter_mut().find(|known| known.day == day.day && known.team == day.team) {
                    Some(known) => known.add(&day),
                    None => days.push(day),
                }
            }
        }
        days.sort_by(|a, b| (&a.team, a.day).cmp(&(&b.team, b.day)));
        Ok(days)
    }

    /// A transaction in which everything is as at one instant.
    pub(crate) async fn reading(&self) -> Result<sqlx::Transaction<'static, Postgres>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only").execute(&mut *transaction).await?;
        Ok(transaction)
    }
}

/// The conditions of a filter.
fn narrow(select: &mut QueryBuilder<Postgres>, filter: &UsageFilter) {
    let UsageFilter { team, key, route, offer, upstream, former } = filter;
    let narrow = [
        (" and team = any(", team.as_ref().map(|team| former.teams_of(team))),
        (" and key = any(", key.clone().map(|key| vec![key])),
        (" and route = any(", route.as_ref().map(|route| former.routes_of(route))),
        (" and offer = any(", offer.as_ref().map(|offer| former.offers_of(offer))),
        (" and split_part(offer, '/', 1) = any(", upstream.as_ref().map(|upstream| former.upstreams_of(upstream))),
    ];
    for (condition, values) in narrow {
        if let Some(values) = values {
            select.push(condition).push_bind(values).push(")");
        }
    }
}

/// The spans in a range whose sums are right.
async fn summed(connection: &mut PgConnection, range: &Range<DateTime<Utc>>) -> Result<Summed, StoreError> {
    let marks: Vec<(String, DateTime<Utc>)> =
        sqlx::query_as("select span, start from usage_summed where start >= $1 and start < $2")
            .bind(range.start)
            .bind(range.end)
            .fetch_all(connection)
            .await?;
    let mut summed = Summed::default();
    for (span, start) in marks {
        if span == Span::Day.as_str() {
            summed.days.insert(start)
        } else {
            summed.hours.insert(start)
        };
    }
    Ok(summed)
}

/// The latest span of a range that is not summed.
async fn unsummed(
    connection: &mut PgConnection,
    span: Span,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    let latest: Option<DateTime<Utc>> = sqlx::query_scalar(
        "select max(begun) from generate_series($1::timestamptz, $2::timestamptz - $3::interval, $3::interval) as begun
         where not exists (select from usage_summed where span = $4 and start = begun)",
    )
    .bind(from)
    .bind(to)
    .bind(match span {
        Span::Hour => TimeDelta::hours(1),
        Span::Day => TimeDelta::days(1),
    })
    .bind(span.as_str())
    .fetch_one(connection)
    .await?;
    Ok(latest)
}

/// Sums a span, a day with its hours.
async fn sum(
    connection: &mut PgConnection,
    span: Span,
    start: DateTime<Utc>,
    end: DateTime<Utc>,
) -> Result<(), StoreError> {
    let hours = std::iter::successors(Some(start), |hour| Some(*hour + TimeDelta::hours(1)));
    let hours: Vec<DateTime<Utc>> = hours.take_while(|hour| *hour < end).collect();
    let mut whole = Sums::default();
    for hour in &hours {
        let mut own = Sums::default();
        {
            let mut select = QueryBuilder::<Postgres>::new("select hour, ");
            select.push(ROLLED).push(" from usage_hour where hour = ").push_bind(*hour);
            let mut rows = select.build_query_as::<RolledRow>().fetch(&mut *connection);
            while let Some(row) = rows.try_next().await? {
                let (key, sums) = row.read()?;
                own.add(Span::Hour, *hour, &key, &sums);
                if span == Span::Day {
                    whole.add(Span::Day, start, &key, &sums);
                }
            }
        }
        keep(connection, Span::Hour, *hour, own).await?;
    }
    if span == Span::Day {
        keep(connection, Span::Day, start, whole).await?;
    }
    Ok(())
}

/// Keeps the sums of a span in the place of those of before, and marks them as right.
async fn keep(connection: &mut PgConnection, span: Span, start: DateTime<Utc>, sums: Sums) -> Result<(), StoreError> {
    let codes: Vec<&str> = span.apart().iter().map(|apart| apart.code()).collect();
    sqlx::query("delete from usage_sum where span = $1 and apart = any($2) and start = $3")
        .bind(span.as_str())
        .bind(codes)
        .bind(start)
        .execute(&mut *connection)
        .await?;
    let rows: Vec<((Apart, RollUpKey), RollUp)> = sums.rows().into_iter().collect();
    for part in rows.chunks(ROWS) {
        insert(connection, span, start, part).await?;
    }
    sqlx::query("insert into usage_summed (span, start) values ($1, $2) on conflict do nothing")
        .bind(span.as_str())
        .bind(start)
        .execute(connection)
        .await?;
    Ok(())
}

const INSERT: &str = "insert into usage_sum (span, start, apart, team, key, route, offer, requests, failures, cancelled, unpriced, estimated,
    checks, attempts, attempt_tokens_input, attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output,
    attempt_tokens_reasoning, attempt_tokens_preset, attempt_cost, images, tokens_input, tokens_input_cached, tokens_cache_written,
    tokens_output, tokens_reasoning, tokens_preset, cost, first_token, whole)
    select $1, $2, * from unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::bigint[], $9::bigint[], $10::bigint[],
    $11::bigint[], $12::bigint[], $13::bigint[], $14::bigint[], $15::bigint[], $16::bigint[], $17::bigint[], $18::bigint[], $19::bigint[],
    $20::bigint[], $21::numeric[], $22::bigint[], $23::bigint[], $24::bigint[], $25::bigint[], $26::bigint[], $27::bigint[], $28::bigint[],
    $29::numeric[], $30::bytea[], $31::bytea[])";

async fn insert(
    connection: &mut PgConnection,
    span: Span,
    start: DateTime<Utc>,
    rows: &[((Apart, RollUpKey), RollUp)],
) -> Result<(), StoreError> {
    let text = |of: fn(&RollUpKey) -> &String| rows.iter().map(|((_, key), _)| of(key).as_str()).collect::<Vec<&str>>();
    let counts = |of: fn(&RollUp) -> u64| rows.iter().map(|(_, sums)| bigint(of(sums))).collect::<Vec<i64>>();
    let money = |of: fn(&RollUp) -> Decimal| rows.iter().map(|(_, sums)| numeric(of(sums))).collect::<Vec<_>>();
    let sketches = |of: fn(&RollUp) -> Vec<u8>| rows.iter().map(|(_, sums)| of(sums)).collect::<Vec<_>>();
    sqlx::query(INSERT)
        .bind(span.as_str())
        .bind(start)
        .bind(rows.iter().map(|((apart, _), _)| apart.code()).collect::<Vec<_>>())
        .bind(text(|key| &key.team))
        .bind(text(|key| &key.key))
        .bind(text(|key| &key.route))
        .bind(text(|key| &key.offer))
        .bind(counts(|sums| sums.requests))
        .bind(counts(|sums| sums.failures))
        .bind(counts(|sums| sums.cancelled))
        .bind(counts(|sums| sums.unpriced))
        .bind(counts(|sums| sums.estimated))
        .bind(counts(|sums| sums.checks))
        .bind(counts(|sums| sums.attempts))
        .bind(counts(|sums| sums.attempt_tokens.input))
        .bind(counts(|sums| sums.attempt_tokens.input_cached))
        .bind(counts(|sums| sums.attempt_tokens.cache_written))
        .bind(counts(|sums| sums.attempt_tokens.output))
        .bind(counts(|sums| sums.attempt_tokens.reasoning))
        .bind(counts(|sums| sums.attempt_tokens.preset))
        .bind(money(|sums| sums.attempt_cost.amount()))
        .bind(counts(|sums| sums.images))
        .bind(counts(|sums| sums.tokens.input))
        .bind(counts(|sums| sums.tokens.input_cached))
        .bind(counts(|sums| sums.tokens.cache_written))
        .bind(counts(|sums| sums.tokens.output))
        .bind(counts(|sums| sums.tokens.reasoning))
        .bind(counts(|sums| sums.tokens.preset))
        .bind(money(|sums| sums.cost.amount()))
        .bind(sketches(|sums| sums.first_token.to_bytes()))
        .bind(sketches(|sums| sums.whole.to_bytes()))
        .execute(connection)
        .await?;
    Ok(())
}
