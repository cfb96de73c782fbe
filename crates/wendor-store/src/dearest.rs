//! Which runs cost most, where there may be as many as requests: found by the database in one pass, so that no others come from there.

use rust_decimal::Decimal;
use sqlx::{FromRow, Postgres, QueryBuilder};
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

/// Each run, and without a name what has none: of sums that is everything, as these have nothing else of it.
const OF_LINES: &str = "), run as (
        select name collate \"C\" as name, sum(cost) as cost, sum(counts) as counts, sum(summed_cost) as summed_cost,
            sum(summed_counts) as summed_counts from line group by name collate \"C\"
    ) select name, cost, counts::bigint as counts, sum(summed_cost) over () as summed_cost,
        (sum(summed_counts) over ())::bigint as summed_counts, count(*) over () as runs
    from run order by name <> '', cost desc, name limit ";

/// By what it shows that there is something that cost nothing.
const COUNTS: &str = "requests + checks + attempts + unpriced + images + tokens_input + tokens_output";

#[derive(FromRow)]
struct Run {
    name: String,
    cost: Decimal,
    counts: i64,
    /// Of all runs, as far as it is of sums.
    summed_cost: Decimal,
    summed_counts: i64,
    runs: i64,
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
        let mut select =
            QueryBuilder::<Postgres>::new("with line (name, cost, counts, summed_cost, summed_counts) as (");
        for (number, segment) in segments.into_iter().enumerate() {
            select.push(if number == 0 { "" } else { " union all " });
            push_segment(&mut select, &query, segment);
        }
        // What has none is found apart.
        select.push(OF_LINES).push_bind(bigint(u64::try_from(most).unwrap_or(u64::MAX).saturating_add(1)));
        let runs: Vec<Run> = select.build_query_as().fetch_all(&mut *transaction).await?;
        dearest(runs, most)
    }
}

/// The lines of a segment, or the sums of them that there are.
fn push_segment(select: &mut QueryBuilder<Postgres>, query: &UsageQuery, segment: Segment) {
    let (source, from, to) = segment;
    match source {
        Source::Sums(span) => {
            select.push("select value, cost, ").push(COUNTS).push(", cost, ").push(COUNTS);
            push_from(select, query, span, LineBy::Run, &(from..to));
            // Every line has an end.
            select.push(" union all select '', cost, ").push(COUNTS).push(", 0::numeric, 0::bigint");
            push_from(select, query, span, LineBy::End, &(from..to));
        }
        Source::Unsummed => {
            select
                .push("select coalesce(run, ''), coalesce(")
                .push(LINE_COST)
                .push(", 0), 1::bigint, 0::numeric, 0::bigint");
            select.push(" from ledger where true");
            push_narrowed(select, query, &(from..to));
        }
    }
}

/// Of what was found, which has what has no run first.
fn dearest(mut runs: Vec<Run>, most: usize) -> Result<Dearest, StoreError> {
    let mut all = runs.first().map_or(Ok(0), |run| count(run.runs, "run"))?;
    if let Some(none) = runs.first_mut().filter(|run| run.name.is_empty()) {
        none.cost -= none.summed_cost;
        none.counts -= none.summed_counts;
        if none.cost.is_zero() && none.counts == 0 {
            runs.remove(0);
            all -= 1;
        }
    }
    runs.sort_by(|a, b| b.cost.cmp(&a.cost).then_with(|| a.name.cmp(&b.name)));
    let names = runs.into_iter().take(most).map(|run| run.name).collect();
    Ok(Dearest { names, all: usize::try_from(all).unwrap_or(usize::MAX) })
}
