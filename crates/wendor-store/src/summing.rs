//! Summing spans of time up: hours and days of their roll-ups and of the ledger's lines, thirds of months of their days.

use chrono::{DateTime, TimeDelta, Utc};
use futures_util::TryStreamExt;
use sqlx::{PgConnection, Postgres, QueryBuilder};
use wendor_core::metering::line_sums::LineSums;
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sums::{Apart, Span, Sums};
use wendor_core::quota::window::{Window, WindowSpan};

use crate::rolled::{Grouped, GroupedRow, RolledRow, SUMMED, push_group_by, push_sums, push_values};
use crate::{Store, StoreError, summed_lines};

/// How long after its end a span is summed: what is drained late would take the sums out of use again.
const AFTER: TimeDelta = TimeDelta::minutes(2);

/// Rows of one statement.
pub(crate) const ROWS: usize = 2_000;

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
        let Some((span, start)) = next(&mut transaction, first, now - AFTER).await? else { return Ok(None) };
        let end = span.around(start).end;
        let may: bool = sqlx::query_scalar("select may_sum($1, $2)")
            .bind(start)
            .bind(i32::try_from((end - start).num_hours()).unwrap_or(1))
            .fetch_one(&mut *transaction)
            .await?;
        if !may {
            return Ok(None);
        }
        sum(&mut transaction, span, WindowSpan { start, end }).await?;
        transaction.commit().await?;
        Ok(Some((span, start)))
    }
}

/// What is summed next. Days have their hours summed with them, so that of hours only those of a day that is not over are looked for.
async fn next(
    connection: &mut PgConnection,
    first: DateTime<Utc>,
    until: DateTime<Utc>,
) -> Result<Option<(Span, DateTime<Utc>)>, StoreError> {
    let today = Window::Day.around(until).start;
    if let Some(hour) = unsummed(connection, Span::Hour, today.max(first), Window::Hour.around(until).start).await? {
        return Ok(Some((Span::Hour, hour)));
    }
    if let Some(third) = third_of_days(connection, Span::Third.around(first).start, until).await? {
        return Ok(Some((Span::Third, third)));
    }
    let day = unsummed(connection, Span::Day, Window::Day.around(first).start, today).await?;
    Ok(day.map(|day| (Span::Day, day)))
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
    .bind(if span == Span::Hour { TimeDelta::hours(1) } else { TimeDelta::days(1) })
    .bind(span.as_str())
    .fetch_one(connection)
    .await?;
    Ok(latest)
}

/// The latest third of a month that is not summed and of which all days are.
async fn third_of_days(
    connection: &mut PgConnection,
    from: DateTime<Utc>,
    until: DateTime<Utc>,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    let complete: Vec<(DateTime<Utc>, i64)> = sqlx::query_as(
        "select third_of(start) as third, count(*) from usage_summed as day where span = 'day' and start >= $1
         and not exists (select from usage_summed as summed where span = 'third' and summed.start = third_of(day.start))
         group by third order by third desc",
    )
    .bind(from)
    .fetch_all(connection)
    .await?;
    let is_whole = |(third, days): &(DateTime<Utc>, i64)| {
        let WindowSpan { start, end } = Span::Third.around(*third);
        end <= until && *days == (end - start).num_days()
    };
    Ok(complete.into_iter().find(is_whole).map(|(third, _)| third))
}

/// Sums a span, a day with its hours.
async fn sum(connection: &mut PgConnection, span: Span, of: WindowSpan) -> Result<(), StoreError> {
    if span == Span::Third {
        return sum_days(connection, of).await;
    }
    let hours = std::iter::successors(Some(of.start), |hour| Some(*hour + TimeDelta::hours(1)));
    let hours: Vec<DateTime<Utc>> = hours.take_while(|hour| *hour < of.end).collect();
    let (mut whole, mut whole_lines) = (Sums::default(), LineSums::default());
    for hour in &hours {
        let (mut own, mut lines) = (Sums::default(), LineSums::default());
        {
            let mut select = QueryBuilder::<Postgres>::new("select hour, team, key, route, offer, ");
            select.push(SUMMED).push(" from usage_hour where hour = ").push_bind(*hour);
            let mut rows = select.build_query_as::<RolledRow>().fetch(&mut *connection);
            while let Some(row) = rows.try_next().await? {
                let (key, sums) = row.read()?;
                own.add(Span::Hour, *hour, &key, &sums);
                if span == Span::Day {
                    whole.add(Span::Day, of.start, &key, &sums);
                }
            }
        }
        summed_lines::add(connection, *hour..*hour + TimeDelta::hours(1), &mut lines).await?;
        if span == Span::Day {
            whole_lines.merge(&lines);
        }
        keep(connection, Span::Hour, *hour, own).await?;
        summed_lines::keep(connection, Span::Hour, *hour, lines).await?;
        mark(connection, Span::Hour, *hour).await?;
    }
    if span == Span::Day {
        keep(connection, Span::Day, of.start, whole).await?;
        summed_lines::keep(connection, Span::Day, of.start, whole_lines).await?;
        mark(connection, Span::Day, of.start).await?;
    }
    Ok(())
}

/// Sums a third of a month: of its days, whose sums are right, and stay so while their hours are locked.
async fn sum_days(connection: &mut PgConnection, third: WindowSpan) -> Result<(), StoreError> {
    clear(connection, Span::Third, third.start).await?;
    for apart in Span::Third.apart() {
        let grouped = Grouped { apart: *apart, time: false };
        let mut select = QueryBuilder::<Postgres>::new("declare days no scroll cursor for select ");
        push_sums(&mut select, "start", grouped);
        select.push(" from usage_sum where span = ").push_bind(Span::Day.as_str());
        select.push(" and apart = ").push_bind(apart.code());
        select.push(" and start >= ").push_bind(third.start).push(" and start < ").push_bind(third.end);
        push_group_by(&mut select, "start", grouped);
        select.build().persistent(false).execute(&mut *connection).await?;
        loop {
            // It would give the columns of before, if it were prepared once.
            let next = sqlx::query_as::<_, GroupedRow>("fetch 2000 from days").persistent(false);
            let rows = next.fetch_all(&mut *connection).await?;
            if rows.is_empty() {
                break;
            }
            let rows = rows.into_iter().map(|row| row.read().map(|(key, sums)| ((*apart, key), sums)));
            insert(connection, Span::Third, third.start, &rows.collect::<Result<Vec<_>, StoreError>>()?).await?;
        }
        sqlx::query("close days").execute(&mut *connection).await?;
    }
    mark(connection, Span::Third, third.start).await
}

/// Keeps the sums of an hour or a day in the place of those of before.
async fn keep(connection: &mut PgConnection, span: Span, start: DateTime<Utc>, sums: Sums) -> Result<(), StoreError> {
    clear(connection, span, start).await?;
    let rows: Vec<((Apart, RollUpKey), RollUp)> = sums.rows().into_iter().collect();
    for part in rows.chunks(ROWS) {
        insert(connection, span, start, part).await?;
    }
    Ok(())
}

async fn clear(connection: &mut PgConnection, span: Span, start: DateTime<Utc>) -> Result<(), StoreError> {
    let codes: Vec<&str> = span.apart().iter().map(|apart| apart.code()).collect();
    sqlx::query("delete from usage_sum where span = $1 and apart = any($2) and start = $3")
        .bind(span.as_str())
        .bind(codes)
        .bind(start)
        .execute(connection)
        .await?;
    Ok(())
}

async fn mark(connection: &mut PgConnection, span: Span, start: DateTime<Utc>) -> Result<(), StoreError> {
    sqlx::query("insert into usage_summed (span, start) values ($1, $2) on conflict do nothing")
        .bind(span.as_str())
        .bind(start)
        .execute(connection)
        .await?;
    Ok(())
}

async fn insert(
    connection: &mut PgConnection,
    span: Span,
    start: DateTime<Utc>,
    rows: &[((Apart, RollUpKey), RollUp)],
) -> Result<(), StoreError> {
    let text =
        |of: fn(&RollUpKey) -> &String| rows.iter().map(|((_, key), _)| of(key).clone()).collect::<Vec<String>>();
    let mut insert =
        QueryBuilder::<Postgres>::new("insert into usage_sum (span, start, apart, team, key, route, offer, ");
    insert.push(SUMMED).push(") select ").push_bind(span.as_str()).push(", ").push_bind(start).push(", * from unnest(");
    let mut lists = insert.separated(", ");
    lists.push_bind(rows.iter().map(|((apart, _), _)| apart.code()).collect::<Vec<_>>());
    lists.push_bind(text(|key| &key.team)).push_bind(text(|key| &key.key));
    lists.push_bind(text(|key| &key.route)).push_bind(text(|key| &key.offer));
    push_values(&mut lists, &rows.iter().map(|(_, sums)| sums).collect::<Vec<_>>());
    insert.push(")").build().execute(connection).await?;
    Ok(())
}
