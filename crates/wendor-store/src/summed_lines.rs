//! Sums of whole hours and days of the ledger's lines, by run, by end and by each label: made with the sums of their roll-ups, right as long as
//! these are, and read in the place of the lines.
//!
//! What has no run, or no such label, has no sum of its own: it is what all together have more than those that have one. All together are the
//! sums by end, since every line has one.

use std::collections::BTreeMap;
use std::ops::Range;

use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use wendor_core::metering::line_sums::{LeftOut, LineBy, LineSum, LineSums};
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sums::{Kept, Segment, Source, Span, Summed, segments};
use wendor_core::quota::window::Window;

use crate::requests::{COLUMNS, entry_of};
use crate::rolled::{AddedColumns, SUMMED, push_added, push_values};
use crate::summing::ROWS;
use crate::sums::summed;
use crate::usage::{Dimension, MOST_GROUPS, UsageQuery};
use crate::{Store, StoreError, line_sums};

/// Adds the lines of a range to `sums`.
pub(crate) async fn add(
    connection: &mut PgConnection,
    range: Range<DateTime<Utc>>,
    sums: &mut LineSums,
) -> Result<(), StoreError> {
    let mut select = QueryBuilder::<Postgres>::new("select ");
    select.push(COLUMNS).push(" from ledger where at >= ").push_bind(range.start);
    select.push(" and at < ").push_bind(range.end);
    let mut rows = select.build().fetch(connection);
    while let Some(row) = rows.try_next().await? {
        sums.add(&entry_of(&row)?);
    }
    Ok(())
}

/// Keeps the sums of the lines of a span in the place of those of before.
pub(crate) async fn keep(
    connection: &mut PgConnection,
    span: Span,
    start: DateTime<Utc>,
    sums: LineSums,
) -> Result<(), StoreError> {
    for clear in [
        "delete from line_sum where span = $1 and start = $2",
        "delete from line_sum_left_out where span = $1 and start = $2",
    ] {
        sqlx::query(clear).bind(span.as_str()).bind(start).execute(&mut *connection).await?;
    }
    let (kept, left_out) = sums.kept();
    for part in kept.chunks(ROWS) {
        insert(connection, span, start, part).await?;
    }
    for LeftOut { by, label, by_team } in left_out {
        let insert =
            "insert into line_sum_left_out (span, start, dimension, label, by_team) values ($1, $2, $3, $4, $5)";
        let insert = sqlx::query(insert).bind(span.as_str()).bind(start).bind(by.as_str()).bind(label).bind(by_team);
        insert.execute(&mut *connection).await?;
    }
    Ok(())
}

async fn insert(
    connection: &mut PgConnection,
    span: Span,
    start: DateTime<Utc>,
    sums: &[LineSum],
) -> Result<(), StoreError> {
    let text = |of: fn(&LineSum) -> &str| sums.iter().map(|sum| of(sum).to_owned()).collect::<Vec<String>>();
    let mut insert =
        QueryBuilder::<Postgres>::new("insert into line_sum (span, start, dimension, label, team, value, ");
    insert.push(SUMMED).push(") select ").push_bind(span.as_str()).push(", ").push_bind(start).push(", * from unnest(");
    let mut lists = insert.separated(", ");
    lists.push_bind(text(|sum| sum.by.as_str())).push_bind(text(|sum| &sum.label));
    lists.push_bind(text(|sum| &sum.team)).push_bind(text(|sum| &sum.value));
    push_values(&mut lists, &sums.iter().map(|sum| &sum.sums).collect::<Vec<_>>());
    insert.push(")").build().execute(connection).await?;
    Ok(())
}

/// How sums of lines answer a query.
#[derive(Clone, Copy, Debug)]
pub(crate) struct OfLines {
    /// By what of lines.
    pub by: LineBy,
    /// Whether steps of time are told apart as well.
    pub time: bool,
    /// The spans that can be read.
    pub kept: Kept,
}

#[derive(FromRow)]
struct Row {
    hour: DateTime<Utc>,
    value: String,
    #[sqlx(flatten)]
    added: AddedColumns,
}

impl Store {
    /// Hands the sums of the lines of whole hours to `fold`, by the names of their groups.
    pub(crate) async fn fold_summed_lines(
        &self,
        query: &UsageQuery,
        of: OfLines,
        range: Range<DateTime<Utc>>,
        mut fold: impl FnMut(String, RollUp),
    ) -> Result<(), StoreError> {
        let mut transaction = self.reading().await?;
        for (source, from, to) in segments_of_lines(&mut transaction, query, of, range).await? {
            match source {
                Source::Sums(span) => {
                    Part { span, range: from..to, query, of }.read(&mut transaction, &mut fold).await?;
                }
                Source::Unsummed => line_sums::read(&mut transaction, query, from..to, &mut fold).await?,
            }
        }
        Ok(())
    }

    /// Forgets the sums of the lines of what was over before that instant, as the lines are forgotten.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn forget_line_sums(&self, before: DateTime<Utc>) -> Result<(), StoreError> {
        let before = Window::Month.around(before).start;
        for forget in ["delete from line_sum where start < $1", "delete from line_sum_left_out where start < $1"] {
            sqlx::query(forget).bind(before).execute(&self.pool).await?;
        }
        Ok(())
    }
}

/// Of what whole hours of lines are read.
pub(crate) async fn segments_of_lines(
    connection: &mut PgConnection,
    query: &UsageQuery,
    of: OfLines,
    hours: Range<DateTime<Utc>>,
) -> Result<Vec<Segment>, StoreError> {
    let mut summed = summed(connection, &hours).await?;
    let with_lines = with_lines(connection, query, of, &hours).await?;
    summed.retain(|span| with_lines.contains(span));
    Ok(segments(hours, of.kept, &summed))
}

/// Of the spans in a range those whose sums of lines tell apart what is asked for. Whatever has lines has sums by end: where these are missing,
/// nobody has summed its lines, or they are forgotten.
async fn with_lines(
    connection: &mut PgConnection,
    query: &UsageQuery,
    of: OfLines,
    range: &Range<DateTime<Utc>>,
) -> Result<Summed, StoreError> {
    let kept: Vec<(String, DateTime<Utc>)> = sqlx::query_as(
        "select distinct span, start from line_sum as kept
         where span in ('hour', 'day') and dimension = 'end' and label = '' and team = '' and start >= $4 and start < $5
         and not exists (select from line_sum_left_out as out where out.span = kept.span and out.start = kept.start
            and out.dimension = $1 and out.label in ($2, '') and out.by_team = $3)",
    )
    .bind(of.by.as_str())
    .bind(query.label_of(of.by))
    .bind(query.filter.team.is_some() || of.by == LineBy::Run)
    .bind(range.start)
    .bind(range.end)
    .fetch_all(connection)
    .await?;
    Ok(kept.into_iter().filter_map(|(span, start)| Some((Span::parse(&span)?, start))).collect())
}

/// Sums of spans, read from a part of a range.
struct Part<'a> {
    span: Span,
    range: Range<DateTime<Utc>>,
    query: &'a UsageQuery,
    of: OfLines,
}

/// Which rows of a part, and how they are added up.
#[derive(Clone, Copy)]
enum Rows<'n> {
    /// All, by value.
    Each,
    /// Those of these values.
    These(&'n [String]),
    /// All, whatever their value.
    Together,
}

/// What is left of each step of time once all that has a value is taken away.
type Left = BTreeMap<Option<DateTime<Utc>>, (DateTime<Utc>, RollUp)>;

impl Part<'_> {
    async fn read(
        &self,
        connection: &mut PgConnection,
        fold: &mut impl FnMut(String, RollUp),
    ) -> Result<(), StoreError> {
        let Self { query, of, .. } = self;
        let name = |hour: DateTime<Utc>, value: &str| {
            let name = |by: Dimension| by.step().map_or_else(|| value.to_owned(), |step| (step.name_of)(hour));
            query.named(name(query.by), query.then.map(name))
        };
        let these = query.these();
        let mut left = self.without_value(connection, these.as_deref()).await?;
        let rows = these.as_deref().map_or(Rows::Each, Rows::These);
        self.rows(connection, of.by, rows, |hour, value, sums| {
            if let Some((_, left)) = left.get_mut(&of.time.then_some(hour)).filter(|_| these.is_none()) {
                left.take_away(&sums);
            }
            fold(name(hour, &value), sums);
        })
        .await?;
        for (hour, left) in left.into_values().filter(|(_, left)| *left != RollUp::default()) {
            fold(name(hour, ""), left);
        }
        Ok(())
    }

    /// What there is in all, from which all that has a value is still to be taken away; where these values alone are read, what has none.
    async fn without_value(&self, connection: &mut PgConnection, these: Option<&[String]>) -> Result<Left, StoreError> {
        let Self { of, .. } = self;
        let mut left = Left::new();
        if of.by == LineBy::End || these.is_some_and(|these| !these.iter().any(String::is_empty)) {
            return Ok(left);
        }
        self.rows(connection, LineBy::End, Rows::Each, |hour, _, sums| {
            left.entry(of.time.then_some(hour)).or_insert_with(|| (hour, RollUp::default())).1.merge(&sums);
        })
        .await?;
        if these.is_some() {
            self.rows(connection, of.by, Rows::Together, |hour, _, sums| {
                if let Some((_, left)) = left.get_mut(&of.time.then_some(hour)) {
                    left.take_away(&sums);
                }
            })
            .await?;
        }
        Ok(left)
    }

    async fn rows(
        &self,
        connection: &mut PgConnection,
        by: LineBy,
        rows: Rows<'_>,
        mut each: impl FnMut(DateTime<Utc>, String, RollUp),
    ) -> Result<(), StoreError> {
        let mut select = QueryBuilder::<Postgres>::new("select ");
        select.push(if self.of.time { "start" } else { "min(start)" }).push(" as hour, ");
        select.push(if matches!(rows, Rows::Together) { "'' as value" } else { "value" });
        push_added(&mut select);
        push_from(&mut select, self.query, self.span, by, &self.range);
        // Looked up in a table of its own for each row: as a condition of the index, it would be gone through once for each name.
        if let Rows::These(values) = rows {
            select.push(" and (value in (select unnest(").push_bind(values.to_vec()).push("::text[]))) is true");
        }
        select.push(match (rows, self.of.time) {
            (Rows::Each | Rows::These(_), true) => " group by value, start",
            (Rows::Each | Rows::These(_), false) => " group by value",
            (Rows::Together, true) => " group by start",
            (Rows::Together, false) => " having count(*) > 0",
        });
        let mut found = select.build_query_as::<Row>().fetch(connection);
        let mut count = 0;
        while let Some(Row { hour, value, added }) = found.try_next().await? {
            count += 1;
            if count > MOST_GROUPS {
                return Err(StoreError::TooManyGroups);
            }
            each(hour, value, added.read()?);
        }
        Ok(())
    }
}

/// The sums of the lines of a span, as far as the query asks for them.
pub(crate) fn push_from(
    select: &mut QueryBuilder<Postgres>,
    query: &UsageQuery,
    span: Span,
    by: LineBy,
    range: &Range<DateTime<Utc>>,
) {
    select.push(" from line_sum where span = ").push_bind(span.as_str());
    select.push(" and dimension = ").push_bind(by.as_str());
    select.push(" and label = ").push_bind(query.label_of(by).to_owned());
    match &query.filter.team {
        Some(team) => select.push(" and team = any(").push_bind(query.filter.former.teams_of(team)).push(")"),
        // Runs are there by team alone.
        None if by == LineBy::Run => &mut *select,
        None => select.push(" and team = ''"),
    };
    select.push(" and start >= ").push_bind(range.start).push(" and start < ").push_bind(range.end);
}
