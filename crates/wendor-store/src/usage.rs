//! Figures over a range: whole hours from the roll-ups, what is left at both ends from the ledger's lines, merged by the same
//! arithmetic, so that any range equals the sum of its lines to the last digit.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, TimeDelta, Utc};
use futures_util::TryStreamExt;
use rust_decimal::Decimal;
use sqlx::{FromRow, Postgres, QueryBuilder};
use wendor_core::catalog::former::Former;
use wendor_core::metering::entry::{LedgerEntry, Record};
use wendor_core::metering::money::Money;
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sketch::Sketch;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_wire::usage::TokenCounts;
use wendor_wire::worded;

use crate::requests::RequestFilter;
use crate::row::count;
use crate::{Store, StoreError};

worded! {
    /// What figures are told apart by.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum Dimension {
        /// Who asked.
        Team = "team",
        /// What was asked for.
        Route = "route",
        /// What served it.
        Offer = "offer",
        /// With which key; its id.
        Key = "key",
        /// The server that it ran on.
        Upstream = "upstream",
        /// By day, UTC.
        Day = "day",
        /// By hour, UTC.
        Hour = "hour",
        /// By minute, UTC: from the ledger's lines alone.
        Minute = "minute",
        /// The app's run: from the ledger's lines alone, as the rest.
        Run = "run",
        /// How requests ended; what is no request stands under its kind.
        End = "end",
        /// The app's label of one name.
        Label = "label",
    }
}

impl Dimension {
    /// The step of time that it tells apart, if it is one.
    #[must_use]
    pub fn step(self) -> Option<Step> {
        let step = |window, length, name_of| Some(Step { window, length, name_of });
        match self {
            Self::Day => step(Window::Day, TimeDelta::days(1), day_name),
            Self::Hour => step(Window::Hour, TimeDelta::hours(1), hour_name),
            Self::Minute => step(Window::Minute, TimeDelta::minutes(1), minute_name),
            Self::Team
            | Self::Route
            | Self::Offer
            | Self::Key
            | Self::Upstream
            | Self::Run
            | Self::End
            | Self::Label => None,
        }
    }

    /// Whether roll-ups do not tell it apart.
    #[must_use]
    pub fn is_of_lines(self) -> bool {
        match self {
            Self::Minute | Self::Run | Self::End | Self::Label => true,
            Self::Team | Self::Route | Self::Offer | Self::Key | Self::Upstream | Self::Day | Self::Hour => false,
        }
    }

    fn of_line(self, entry: &LedgerEntry, query: &UsageQuery) -> String {
        let label = || entry.labels.get(query.label.as_deref()?);
        match self {
            Self::Minute => minute_name(entry.at),
            Self::Run => entry.run.clone().unwrap_or_default(),
            Self::Label => label().cloned().unwrap_or_default(),
            Self::End => match &entry.record {
                Record::Request(request) => request.end.as_str().to_owned(),
                Record::Attempt(_) | Record::Check(_) | Record::Adjustment(_) => {
                    entry.record.kind().as_str().to_owned()
                }
            },
            Self::Team | Self::Route | Self::Offer | Self::Key | Self::Upstream | Self::Day | Self::Hour => {
                self.of(&RollUpKey::of(entry), &query.filter.former)
            }
        }
    }

    fn of(self, key: &RollUpKey, former: &Former) -> String {
        match self {
            Self::Team => former.team(&key.team).to_owned(),
            Self::Route => former.route(&key.route).to_owned(),
            Self::Offer => former.offer(&key.offer).into_owned(),
            Self::Key => key.key.clone(),
            Self::Upstream => former.upstream(key.offer.split('/').next().unwrap_or_default()).to_owned(),
            Self::Day => day_name(key.hour),
            Self::Hour => hour_name(key.hour),
            // Roll-ups are not asked for these.
            Self::Minute | Self::Run | Self::End | Self::Label => String::new(),
        }
    }
}

/// A step of time.
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// The windows of which each is one step.
    pub window: Window,
    /// Of each step.
    pub length: TimeDelta,
    /// The name of the step that an instant is in.
    pub name_of: fn(DateTime<Utc>) -> String,
}

/// The name of the day of an instant in figures by day.
#[must_use]
pub fn day_name(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d").to_string()
}

/// The name of the hour of an instant in figures by hour.
#[must_use]
pub fn hour_name(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%dT%H:00Z").to_string()
}

/// The name of the minute of an instant in figures by minute.
#[must_use]
pub fn minute_name(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%dT%H:%MZ").to_string()
}

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

/// What narrows figures: what roll-ups are kept by, and nothing else.
#[derive(Clone, Debug, Default)]
pub struct UsageFilter {
    /// Name of a team; all without.
    pub team: Option<Name>,
    /// By the key of this id.
    pub key: Option<String>,
    /// Name of a route; all without.
    pub route: Option<Name>,
    /// As `upstream/model`; all without.
    pub offer: Option<OfferName>,
    /// At an offer of this upstream.
    pub upstream: Option<Name>,
    /// Names that things had: figures under each count for the present one.
    pub former: Arc<Former>,
}

impl UsageFilter {
    /// The lines of the ledger that it leaves, from one instant to another.
    fn lines(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> RequestFilter {
        let Self { team, key, route, offer, upstream, former } = self.clone();
        let (from, to) = (Some(from), Some(to));
        RequestFilter { from, to, team, key, route, offer, upstream, former, ..RequestFilter::default() }
    }
}

/// Stands between the two names of a group that is told apart by two things: no name has it.
pub const PAIR: char = '\u{1f}';

/// Figures of a range and what narrows them.
#[derive(Clone, Debug)]
pub struct UsageQuery {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// What to tell apart by.
    pub by: Dimension,
    /// What to tell apart by within that; names of both stand together then, with [`PAIR`] between them.
    pub then: Option<Dimension>,
    /// The name of the label, where it is told apart by one.
    pub label: Option<String>,
    /// What narrows them.
    pub filter: UsageFilter,
}

/// The columns of [`RollUpRow`].
const SELECT_HOURS: &str = "select hour, team, key, route, offer, requests, failures, cancelled, unpriced, estimated, checks, attempts, \
    attempt_tokens_input, attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output, \
    attempt_tokens_reasoning, attempt_tokens_preset, attempt_cost, images, tokens_input, tokens_input_cached, tokens_cache_written, \
    tokens_output, tokens_reasoning, tokens_preset, cost, first_token, whole from usage_hour";

#[derive(FromRow)]
struct RollUpRow {
    hour: DateTime<Utc>,
    team: String,
    key: String,
    route: String,
    offer: String,
    requests: i64,
    failures: i64,
    cancelled: i64,
    unpriced: i64,
    estimated: i64,
    checks: i64,
    attempts: i64,
    attempt_tokens_input: i64,
    attempt_tokens_input_cached: i64,
    attempt_tokens_cache_written: i64,
    attempt_tokens_output: i64,
    attempt_tokens_reasoning: i64,
    attempt_tokens_preset: i64,
    attempt_cost: Decimal,
    images: i64,
    tokens_input: i64,
    tokens_input_cached: i64,
    tokens_cache_written: i64,
    tokens_output: i64,
    tokens_reasoning: i64,
    tokens_preset: i64,
    cost: Decimal,
    first_token: Vec<u8>,
    whole: Vec<u8>,
}

impl RollUpRow {
    fn sums(&self) -> Result<RollUp, StoreError> {
        let sketch =
            |bytes: &[u8]| Sketch::from_bytes(bytes).map_err(|error| StoreError::unreadable("usage_hour", error));
        Ok(RollUp {
            requests: count(self.requests, "requests")?,
            failures: count(self.failures, "failures")?,
            cancelled: count(self.cancelled, "cancelled")?,
            unpriced: count(self.unpriced, "unpriced")?,
            estimated: count(self.estimated, "estimated")?,
            checks: count(self.checks, "checks")?,
            attempts: count(self.attempts, "attempts")?,
            attempt_tokens: TokenCounts {
                input: count(self.attempt_tokens_input, "attempt_tokens_input")?,
                input_cached: count(self.attempt_tokens_input_cached, "attempt_tokens_input_cached")?,
                cache_written: count(self.attempt_tokens_cache_written, "attempt_tokens_cache_written")?,
                output: count(self.attempt_tokens_output, "attempt_tokens_output")?,
                reasoning: count(self.attempt_tokens_reasoning, "attempt_tokens_reasoning")?,
                preset: count(self.attempt_tokens_preset, "attempt_tokens_preset")?,
            },
            attempt_cost: Money::new(self.attempt_cost),
            images: count(self.images, "images")?,
            tokens: TokenCounts {
                input: count(self.tokens_input, "tokens_input")?,
                input_cached: count(self.tokens_input_cached, "tokens_input_cached")?,
                cache_written: count(self.tokens_cache_written, "tokens_cache_written")?,
                output: count(self.tokens_output, "tokens_output")?,
                reasoning: count(self.tokens_reasoning, "tokens_reasoning")?,
                preset: count(self.tokens_preset, "tokens_preset")?,
            },
            cost: Money::new(self.cost),
            first_token: sketch(&self.first_token)?,
            whole: sketch(&self.whole)?,
        })
    }
}

impl UsageQuery {
    /// Figures of a range by one thing.
    #[must_use]
    pub fn of(from: DateTime<Utc>, to: DateTime<Utc>, by: Dimension, filter: UsageFilter) -> Self {
        Self { from, to, by, then: None, label: None, filter }
    }

    fn group_of(&self, of: impl Fn(Dimension) -> String) -> String {
        let first = of(self.by);
        match self.then {
            None => first,
            Some(then) => format!("{first}{PAIR}{}", of(then)),
        }
    }

    fn is_of_lines(&self) -> bool {
        self.by.is_of_lines() || self.then.is_some_and(Dimension::is_of_lines)
    }
}

impl Store {
    /// The figures of a range, by group.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read.
    pub async fn usage(&self, query: &UsageQuery) -> Result<BTreeMap<String, RollUp>, StoreError> {
        let mut groups: BTreeMap<String, RollUp> = BTreeMap::new();
        let first_hour = Window::Hour.around(query.from);
        let first_whole = if first_hour.start == query.from { query.from } else { first_hour.end };
        let last_whole = Window::Hour.around(query.to).start;
        if first_whole >= last_whole || query.is_of_lines() {
            self.fold_lines(query, query.from, query.to, &mut groups).await?;
            return Ok(groups);
        }
        self.fold_lines(query, query.from, first_whole, &mut groups).await?;
        self.fold_hours(query, first_whole, last_whole, &mut groups).await?;
        self.fold_lines(query, last_whole, query.to, &mut groups).await?;
        Ok(groups)
    }

    /// Waits until nobody else corrects what was priced, and has others wait for as long as what it gives is kept: two corrections at once
    /// would both find the same difference.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn correcting(&self) -> Result<sqlx::Transaction<'static, Postgres>, StoreError> {
        let mut turn = self.pool.begin().await?;
        sqlx::query("select pg_advisory_xact_lock(hashtext('correcting'))").execute(&mut *turn).await?;
        Ok(turn)
    }

    /// Hands every line at an offer to `fold`, whatever names that had.
    ///
    /// # Errors
    /// When the database is away or a line cannot be read.
    pub async fn lines_at(
        &self,
        offer: &OfferName,
        former: &Arc<Former>,
        range: std::ops::Range<DateTime<Utc>>,
        fold: impl FnMut(&LedgerEntry),
    ) -> Result<(), StoreError> {
        let filter = UsageFilter { offer: Some(offer.clone()), former: former.clone(), ..UsageFilter::default() };
        self.each_entry(&filter.lines(range.start, range.end), fold).await
    }

    /// The hour in which history begins; nothing while there is none.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn first_hour(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        Ok(sqlx::query_scalar("select min(hour) from usage_hour").fetch_one(&self.pool).await?)
    }

    /// Sums by team and day of whole days, without latencies: what a month is judged by.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn team_days(&self, from: chrono::NaiveDate, to: chrono::NaiveDate) -> Result<Vec<TeamDay>, StoreError> {
        let days = sqlx::query_as(
            "select team, (hour at time zone 'utc')::date as day, sum(requests) as requests,
             sum(tokens_input + tokens_input_cached + tokens_cache_written) as input_tokens,
             sum(tokens_output) as output_tokens, sum(cost) as cost
             from usage_hour where hour >= $1 and hour < $2 group by team, day order by team, day",
        )
        .bind(from.and_time(chrono::NaiveTime::MIN).and_utc())
        .bind(to.and_time(chrono::NaiveTime::MIN).and_utc())
        .fetch_all(&self.pool)
        .await?;
        Ok(days)
    }

    async fn fold_lines(
        &self,
        query: &UsageQuery,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        groups: &mut BTreeMap<String, RollUp>,
    ) -> Result<(), StoreError> {
        if from >= to {
            return Ok(());
        }
        self.each_entry(&query.filter.lines(from, to), |entry| {
            groups.entry(query.group_of(|by| by.of_line(entry, query))).or_default().add(entry);
        })
        .await
    }

    async fn fold_hours(
        &self,
        query: &UsageQuery,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        groups: &mut BTreeMap<String, RollUp>,
    ) -> Result<(), StoreError> {
        let mut select = QueryBuilder::<Postgres>::new(SELECT_HOURS);
        select.push(" where hour >= ");
        select.push_bind(from).push(" and hour < ").push_bind(to);
        let UsageFilter { team, key, route, offer, upstream, former } = &query.filter;
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
        let mut rows = select.build_query_as::<RollUpRow>().fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            let sums = row.sums()?;
            let key = RollUpKey { hour: row.hour, team: row.team, key: row.key, route: row.route, offer: row.offer };
            groups.entry(query.group_of(|by| by.of(&key, &query.filter.former))).or_default().merge(&sums);
        }
        Ok(())
    }
}
