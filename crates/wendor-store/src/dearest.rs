//! Which runs cost most, where there may be as many as requests: found by the database, so that no others come from there.

use rust_decimal::Decimal;
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use wendor_core::metering::line_sums::LineBy;
use wendor_core::metering::sums::{Segment, Source};

use crate::line_sums::{LINE_COST, push_narrowed};
use crate::row::{bigint, count};
use crate::summed_lines::{push_from, segments_of_lines};
use crate::usage::{Dimension, UsageQuery};
use crate::{Store, StoreError};

/// The dearest runs of a range.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Dearest {
    /// Their names, the dearest first, those that cost the same by name; empty for what has no run.
    pub names: Vec<String>,
    /// How many runs there are.
    pub all: usize,
}

/// Each run, and without a name what of the lines has none, which is found whatever it cost.
const OF_LINES: &str =
    "), run as (select name collate \"C\" as name, sum(cost) as cost from line group by name collate \"C\")
    select name, cost, count(*) over () as runs from run order by name <> '', cost desc, name limit ";

/// By what it shows that there is something that cost nothing.
const COUNTS: &str = "requests + checks + attempts + unpriced + images + tokens_input + tokens_output";

#[derive(FromRow)]
struct Run {
    name: String,
    cost: Decimal,
    runs: i64,
}

/// What has no run.
#[derive(Clone, Copy, Default, PartialEq, Eq, FromRow)]
struct Without {
    cost: Decimal,
    counts: i64,
}

impl Store {
    /// The `most` dearest runs of a range, whatever `query` tells apart otherwise.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn dearest_runs(&self, query: &UsageQuery, most: usize) -> Result<Dearest, StoreError> {
        let query = UsageQuery { by: Dimension::Run, then: None, ..query.clone() };
        let mut transaction = self.reading().await?;
        let whole = query.whole_hours().zip(query.of_lines());
        let mut segments: Vec<Segment> = Vec::new();
        let mut at = query.from;
        if let Some((hours, of)) = whole {
            segments.push((Source::Unsummed, query.from, hours.start));
            at = hours.end;
            segments.extend(segments_of_lines(&mut transaction, &query, of, hours).await?);
        }
        segments.push((Source::Unsummed, at, query.to));
        segments.retain(|(_, from, to)| from < to);
        if segments.is_empty() {
            return Ok(Dearest::default());
        }
        let mut select = QueryBuilder::<Postgres>::new("with line (name, cost) as (");
        for (number, segment) in segments.iter().enumerate() {
            select.push(if number == 0 { "" } else { " union all " });
            push_costs(&mut select, &query, *segment);
        }
        // What has none is found beside them.
        select.push(OF_LINES).push_bind(bigint(u64::try_from(most).unwrap_or(u64::MAX).saturating_add(1)));
        let runs: Vec<Run> = select.build_query_as().fetch_all(&mut *transaction).await?;
        let without = without_run(&mut transaction, &query, &segments).await?;
        dearest(runs, without, most)
    }
}

/// The costs of a segment by run.
fn push_costs(select: &mut QueryBuilder<Postgres>, query: &UsageQuery, segment: Segment) {
    let (source, from, to) = segment;
    match source {
        Source::Sums(span) => {
            select.push("select value, cost");
            push_from(select, query, span, LineBy::Run, &(from..to));
        }
        Source::Unsummed => {
            select.push("select coalesce(run, ''), coalesce(").push(LINE_COST).push(", 0) from ledger where true");
            push_narrowed(select, query, &(from..to));
        }
    }
}

/// What of the sums has no run: what there is in all, which has an end, less all runs. Apart from them, as the database would guess how many
/// runs there are from a row without a name, and sort them.
async fn without_run(
    connection: &mut PgConnection,
    query: &UsageQuery,
    segments: &[Segment],
) -> Result<Without, StoreError> {
    let mut select = QueryBuilder::<Postgres>::new(
        "select coalesce(sum(cost), 0) as cost, coalesce(sum(counts), 0)::bigint as counts from (",
    );
    let mut is_first = true;
    for (source, from, to) in segments {
        let Source::Sums(span) = *source else { continue };
        for (by, sign) in [(LineBy::End, ""), (LineBy::Run, "-")] {
            select.push(if std::mem::take(&mut is_first) { "" } else { " union all " });
            select
                .push("select ")
                .push(sign)
                .push("cost as cost, ")
                .push(sign)
                .push("(")
                .push(COUNTS)
                .push(") as counts");
            push_from(&mut select, query, span, by, &(*from..*to));
        }
    }
    if is_first {
        return Ok(Without::default());
    }
    Ok(select.push(") as line").build_query_as().fetch_one(connection).await?)
}

/// Of the runs that were found, and what has none of the sums.
fn dearest(mut runs: Vec<Run>, without: Without, most: usize) -> Result<Dearest, StoreError> {
    let mut all = runs.first().map_or(Ok(0), |run| count(run.runs, "run"))?;
    if without != Without::default() {
        match runs.first_mut().filter(|run| run.name.is_empty()) {
            Some(none) => none.cost += without.cost,
            None => {
                runs.push(Run { name: String::new(), cost: without.cost, runs: 0 });
                all += 1;
            }
        }
    }
    runs.sort_by(|a, b| b.cost.cmp(&a.cost).then_with(|| a.name.cmp(&b.name)));
    let names = runs.into_iter().take(most).map(|run| run.name).collect();
    Ok(Dearest { names, all: usize::try_from(all).unwrap_or(usize::MAX) })
}
