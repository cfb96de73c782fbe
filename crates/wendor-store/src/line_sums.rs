//! Sums of the ledger's lines by whatever tells them apart, added by the database: a report over a day may be of hundreds of thousands of
//! lines, and what comes from there is as many rows as it has groups. Figures are those that [`RollUp::add`] makes of the same lines.

use std::collections::BTreeMap;
use std::ops::Range;

use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use wendor_core::catalog::former::Former;
use wendor_core::metering::end::End;
use wendor_core::metering::entry::EntryKind;
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::sketch::Sketch;

use crate::rolled::SumColumns;
use crate::row::count;
use crate::usage::{Dimension, MOST_GROUPS, UsageQuery};
use crate::{Store, StoreError};

/// Every sum of lines, but for those in which ends are named.
const SUMS: &str = "count(*) filter (where kind = 'request') as requests,
    count(*) filter (where kind = 'request' and tokens_estimated) as estimated,
    count(*) filter (where kind = 'check') as checks,
    count(*) filter (where kind = 'attempt') as attempts,
    count(*) filter (where line_cost is null) as unpriced,
    coalesce(sum(tokens_input) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_input,
    coalesce(sum(tokens_input_cached) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_input_cached,
    coalesce(sum(tokens_cache_written) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_cache_written,
    coalesce(sum(tokens_output) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_output,
    coalesce(sum(tokens_reasoning) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_reasoning,
    coalesce(sum(tokens_preset) filter (where kind = 'attempt'), 0)::bigint as attempt_tokens_preset,
    coalesce(sum(line_cost) filter (where kind = 'attempt'), 0) as attempt_cost,
    sum(images)::bigint as images, sum(tokens_input)::bigint as tokens_input, sum(tokens_input_cached)::bigint as tokens_input_cached,
    sum(tokens_cache_written)::bigint as tokens_cache_written, sum(tokens_output)::bigint as tokens_output,
    sum(tokens_reasoning)::bigint as tokens_reasoning, sum(tokens_preset)::bigint as tokens_preset,
    coalesce(sum(line_cost), 0) as cost, ";

/// Of a line; null where it has no price.
pub(crate) const LINE_COST: &str =
    "cost_input + cost_input_cached + cost_cache_written + cost_output + coalesce(cost_images, 0)";

/// The two names of a group; the second is empty where there is none.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, FromRow)]
struct GroupName {
    first: String,
    second: String,
}

#[derive(FromRow)]
struct Summed {
    #[sqlx(flatten)]
    name: GroupName,
    #[sqlx(flatten)]
    sums: SumColumns,
    /// A kind of one of its lines, or an end, that this release does not know and cannot count.
    unknown_kind: Option<String>,
    unknown_end: Option<String>,
}

impl Summed {
    fn read(self) -> Result<(GroupName, RollUp), StoreError> {
        let unknown = [("ledger.kind", self.unknown_kind), ("ledger.ended", self.unknown_end)];
        if let Some((column, value)) = unknown.into_iter().find_map(|(column, value)| Some((column, value?))) {
            return Err(StoreError::unreadable(column, value));
        }
        Ok((self.name, self.sums.read(Sketch::default(), Sketch::default())?))
    }
}

/// How many lines of a group took just so long.
#[derive(FromRow)]
struct Took {
    #[sqlx(flatten)]
    name: GroupName,
    is_first_token: bool,
    ms: i64,
    lines: i64,
}

impl Store {
    /// Hands the sums of the lines in a range to `fold`, by the names of their groups.
    pub(crate) async fn line_sums(
        &self,
        query: &UsageQuery,
        range: Range<DateTime<Utc>>,
        mut fold: impl FnMut(String, RollUp),
    ) -> Result<(), StoreError> {
        let mut transaction = self.reading().await?;
        read(&mut transaction, query, range, &mut fold).await
    }
}

/// The same within a transaction.
pub(crate) async fn read(
    connection: &mut PgConnection,
    query: &UsageQuery,
    range: Range<DateTime<Utc>>,
    fold: &mut impl FnMut(String, RollUp),
) -> Result<(), StoreError> {
    let mut groups: BTreeMap<GroupName, RollUp> = BTreeMap::new();
    {
        let mut select = QueryBuilder::<Postgres>::new("select ");
        select.push(SUMS);
        push_ends(&mut select);
        push_names(&mut select, query);
        select.push(" from (select kind, ended, images, tokens_estimated, tokens_input, tokens_input_cached, tokens_cache_written, ");
        select.push("tokens_output, tokens_reasoning, tokens_preset, ").push(LINE_COST).push(" as line_cost, ");
        push_groups(&mut select, query);
        select.push(" from ledger where true");
        push_narrowed(&mut select, query, &range);
        select.push(") as line group by by_first, by_second");
        let mut rows = select.build_query_as::<Summed>().fetch(&mut *connection);
        while let Some(summed) = rows.try_next().await? {
            let (name, sums) = summed.read()?;
            groups.insert(name, sums);
            if groups.len() > MOST_GROUPS {
                return Err(StoreError::TooManyGroups);
            }
        }
    }
    let mut select = QueryBuilder::<Postgres>::new("select is_first_token, ms, count(*) as lines, ");
    push_names(&mut select, query);
    select.push(" from (select first_token_ms, whole_ms, ");
    push_groups(&mut select, query);
    select.push(" from ledger where kind = 'request'");
    push_narrowed(&mut select, query, &range);
    select.push(
        ") as line cross join lateral (values (true, first_token_ms), (false, whole_ms)) as took (is_first_token, ms) ",
    );
    select.push("where ms is not null group by by_first, by_second, is_first_token, ms");
    let mut rows = select.build_query_as::<Took>().fetch(&mut *connection);
    while let Some(Took { name, is_first_token, ms, lines }) = rows.try_next().await? {
        let sums = groups.entry(name).or_default();
        let sketch = if is_first_token { &mut sums.first_token } else { &mut sums.whole };
        sketch.add_times(count(ms, "ledger.whole_ms")?, count(lines, "ledger")?);
    }
    let former = &query.filter.former;
    for (GroupName { first, second }, sums) in groups {
        let name = |by: Dimension, name: String| by.present(name, former);
        fold(query.named(name(query.by, first), query.then.map(|then| name(then, second))), sums);
    }
    Ok(())
}

/// The lines of a range that are asked for.
pub(crate) fn push_narrowed(select: &mut QueryBuilder<Postgres>, query: &UsageQuery, range: &Range<DateTime<Utc>>) {
    query.filter.lines(range.start, range.end).narrow(select);
    if let Some(names) = query.these() {
        select.push(" and (");
        push_group(select, Some(query.by), query);
        select.push(" in (select unnest(").push_bind(names).push("::text[]))) is true");
    }
}

/// What is counted by how requests ended, and what cannot be counted.
fn push_ends(select: &mut QueryBuilder<Postgres>) {
    let words = |is_meant: fn(&End) -> bool| -> Vec<&'static str> {
        End::ALL.into_iter().filter(is_meant).map(End::as_str).collect()
    };
    let kinds: Vec<&str> = EntryKind::ALL.into_iter().map(EntryKind::as_str).collect();
    let of_requests = " filter (where kind = 'request' and ended ";
    select.push("count(*)").push(of_requests).push("= any(").push_bind(words(|end| end.is_failure()));
    select.push(")) as failures, count(*)").push(of_requests).push("= ").push_bind(End::Cancelled.as_str());
    select.push(") as cancelled, max(kind) filter (where kind <> all(").push_bind(kinds);
    select.push(")) as unknown_kind, max(ended)").push(of_requests).push("<> all(").push_bind(words(|_| true));
    select.push(")) as unknown_end, ");
}

/// What tells lines apart, as `by_first` and `by_second`.
fn push_groups(select: &mut QueryBuilder<Postgres>, query: &UsageQuery) {
    push_group(select, Some(query.by), query);
    select.push(" as by_first, ");
    push_group(select, query.then, query);
    select.push(" as by_second");
}

fn push_group(select: &mut QueryBuilder<Postgres>, by: Option<Dimension>, query: &UsageQuery) {
    let Some(by) = by else {
        select.push("''");
        return;
    };
    match by {
        Dimension::Team => select.push("team"),
        Dimension::Route => select.push("route"),
        Dimension::Offer => select.push("coalesce(offer, '')"),
        Dimension::Key => select.push("key"),
        Dimension::Upstream => select.push("split_part(coalesce(offer, ''), '/', 1)"),
        Dimension::Day => select.push("date_trunc('day', at, 'UTC')"),
        Dimension::Hour => select.push("date_trunc('hour', at, 'UTC')"),
        Dimension::Minute => select.push("date_trunc('minute', at, 'UTC')"),
        Dimension::Run => select.push("coalesce(run, '')"),
        Dimension::End => select.push("case kind when 'request' then ended else kind end"),
        Dimension::Label => select.push("coalesce(labels ->> ").push_bind(query.label.clone()).push(", '')"),
    };
}

/// The names of both, as [`GroupName`] has them.
fn push_names(select: &mut QueryBuilder<Postgres>, query: &UsageQuery) {
    push_name(select, "by_first", Some(query.by));
    select.push(" as first, ");
    push_name(select, "by_second", query.then);
    select.push(" as second");
}

fn push_name(select: &mut QueryBuilder<Postgres>, column: &str, by: Option<Dimension>) {
    match by.and_then(Dimension::step) {
        None => select.push(column),
        Some(_) => select.push("to_char(").push(column).push(" at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"')"),
    };
}

impl Dimension {
    /// The present name of what lines have under that name; of a step of time, its name by its first instant.
    fn present(self, name: String, former: &Former) -> String {
        if let Some((step, first)) = self.step().zip(name.parse().ok()) {
            return (step.name_of)(first);
        }
        match self {
            Self::Team => former.team(&name).to_owned(),
            Self::Route => former.route(&name).to_owned(),
            Self::Offer => former.offer(&name).into_owned(),
            Self::Upstream => former.upstream(&name).to_owned(),
            Self::Key | Self::Day | Self::Hour | Self::Minute | Self::Run | Self::End | Self::Label => name,
        }
    }
}
