//! Sums of whole hours, days and thirds of months ([`wendor_core::metering::sums`]): made behind the roll-ups that they sum, and read in
//! their place.
//!
//! Whether a span's sums are right is told by a mark beside them. What changes a roll-up takes the marks of its spans away in the same
//! transaction (by a trigger, so that it holds for every release), and shares a lock with others who do; whoever sums holds that lock alone.
//! So a mark that is seen is right, and what is read with it in one snapshot equals the roll-ups.

use std::ops::Range;

use chrono::{DateTime, NaiveDate, Utc};
use futures_util::TryStreamExt;
use rust_decimal::Decimal;
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sums::{Apart, Kept, Source, Span, Summed, segments};
use wendor_core::quota::window::Window;

use crate::rolled::{Grouped, GroupedRow, push_group_by, push_sums};
use crate::usage::{MOST_GROUPS, UsageFilter};
use crate::{Store, StoreError};

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
    /// The spans that can be read.
    pub kept: Kept,
}

/// What is selected of a day behind the instant of a row.
const TEAM_DAY: &str = " at time zone 'utc')::date as day, sum(requests) as requests,
    sum(tokens_input + tokens_input_cached + tokens_cache_written) as input_tokens,
    sum(tokens_output) as output_tokens, sum(cost) as cost from ";

impl Store {
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
        let Told { grouped, needed, kept } = told;
        for (source, from, to) in segments(range, kept, &summed) {
            let start = if source == Source::Unsummed { "hour" } else { "start" };
            let mut select = QueryBuilder::<Postgres>::new("select ");
            push_sums(&mut select, start, grouped);
            match source {
                Source::Sums(span) => {
                    select.push(" from usage_sum where span = ").push_bind(span.as_str());
                    select.push(" and apart = ").push_bind(needed.code()).push(" and ");
                }
                Source::Unsummed => {
                    select.push(" from usage_hour where ");
                }
            }
            select.push(start).push(" >= ").push_bind(from).push(" and ").push(start).push(" < ").push_bind(to);
            narrow(&mut select, filter);
            push_group_by(&mut select, start, grouped);
            let mut rows = select.build_query_as::<GroupedRow>().fetch(&mut *transaction);
            let mut groups = 0;
            while let Some(row) = rows.try_next().await? {
                groups += 1;
                if groups > MOST_GROUPS {
                    return Err(StoreError::TooManyGroups);
                }
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
        for (source, from, to) in segments(range, Kept::of(team).within(Some(Span::Day)), &summed) {
            let at = if source == Source::Unsummed { "hour" } else { "start" };
            let mut select = QueryBuilder::<Postgres>::new("select team, (");
            select.push(at).push(TEAM_DAY);
            match source {
                Source::Sums(span) => {
                    select.push("usage_sum where apart = ").push_bind(team.code());
                    select.push(" and span = ").push_bind(span.as_str()).push(" and ")
                }
                Source::Unsummed => select.push("usage_hour where "),
            };
            select.push(at).push(" >= ").push_bind(from).push(" and ");
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
        // Room for a table of some ten thousand groups: without it they are sorted, through files. And nothing is compiled for one reading:
        // over twenty million lines that took 80 ms of a report by run, and saved none.
        let set = "select set_config('work_mem', '32MB', true), set_config('jit', 'off', true)";
        sqlx::query(set).execute(&mut *transaction).await?;
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
pub(crate) async fn summed(connection: &mut PgConnection, range: &Range<DateTime<Utc>>) -> Result<Summed, StoreError> {
    let marks: Vec<(String, DateTime<Utc>)> =
        sqlx::query_as("select span, start from usage_summed where start >= $1 and start < $2")
            .bind(range.start)
            .bind(range.end)
            .fetch_all(connection)
            .await?;
    // One that this release does not know is not read.
    Ok(marks.into_iter().filter_map(|(span, start)| Some((Span::parse(&span)?, start))).collect())
}
