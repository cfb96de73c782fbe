//! Figures over a range: whole hours from the roll-ups, what is left at both ends from the ledger's lines, merged by the same
//! arithmetic, so that any range equals the sum of its lines to the last digit.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use chrono::{DateTime, TimeDelta, Utc};
use sqlx::Postgres;
use wendor_core::catalog::former::Former;
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::metering::line_sums::LineBy;
use wendor_core::metering::rollup::{RollUp, RollUpKey};
use wendor_core::metering::sums::{Apart, Kept, Span};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_wire::worded;

use crate::requests::RequestFilter;
use crate::rolled::Grouped;
use crate::summed_lines::OfLines;
use crate::sums::Told;
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
        /// The app's run: from the ledger's lines or sums of them, as the rest.
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

    /// By what of lines there are sums that tell it apart.
    fn of_lines(self) -> Option<LineBy> {
        match self {
            Self::Run => Some(LineBy::Run),
            Self::End => Some(LineBy::End),
            Self::Label => Some(LineBy::Label),
            Self::Team
            | Self::Route
            | Self::Offer
            | Self::Key
            | Self::Upstream
            | Self::Day
            | Self::Hour
            | Self::Minute => None,
        }
    }

    /// What must be told apart of whole hours.
    fn apart(self) -> Apart {
        let none = Apart::default();
        match self {
            Self::Team => Apart { team: true, ..none },
            Self::Key => Apart { key: true, ..none },
            Self::Route => Apart { route: true, ..none },
            Self::Offer | Self::Upstream => Apart { offer: true, ..none },
            Self::Day | Self::Hour | Self::Minute | Self::Run | Self::End | Self::Label => none,
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
    #[must_use]
    pub fn lines(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> RequestFilter {
        let Self { team, key, route, offer, upstream, former } = self.clone();
        let (from, to) = (Some(from), Some(to));
        RequestFilter { from, to, team, key, route, offer, upstream, former, ..RequestFilter::default() }
    }
}

/// Stands between the two names of a group that is told apart by two things: no name has it.
pub const PAIR: char = '\u{1f}';

/// Which figures of the groups are wanted.
#[derive(Clone, Debug, Default)]
pub enum Wanted {
    /// All of them.
    #[default]
    All,
    /// All, of the groups of these names.
    Of(Arc<BTreeSet<String>>),
}

/// Groups of a report at most: each takes some hundred bytes here, and nobody reads so many.
pub const MOST_GROUPS: usize = 250_000;

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
    /// Which of them.
    pub wanted: Wanted,
}

impl UsageQuery {
    /// Figures of a range by one thing.
    #[must_use]
    pub fn of(from: DateTime<Utc>, to: DateTime<Utc>, by: Dimension, filter: UsageFilter) -> Self {
        Self { from, to, by, then: None, label: None, filter, wanted: Wanted::All }
    }

    /// The name of a group by the names of what tells it apart.
    pub(crate) fn named(&self, first: String, second: Option<String>) -> String {
        match second {
            None => first,
            Some(second) => format!("{first}{PAIR}{second}"),
        }
    }

    /// The whole hours in its range; nothing where there are none.
    pub(crate) fn whole_hours(&self) -> Option<Range<DateTime<Utc>>> {
        let first = Window::Hour.around(self.from);
        let start = if first.start == self.from { self.from } else { first.end };
        let end = Window::Hour.around(self.to).start;
        (start < end).then_some(start..end)
    }

    /// How whole hours are told apart.
    fn told(&self) -> Told {
        let filter = &self.filter;
        let narrowed = Apart {
            team: filter.team.is_some(),
            key: filter.key.is_some(),
            route: filter.route.is_some(),
            offer: filter.offer.is_some() || filter.upstream.is_some(),
        };
        let apart = self.dimensions().fold(Apart::default(), |apart, by| apart.with(by.apart()));
        let needed = narrowed.with(apart);
        Told { grouped: Grouped { apart, time: self.tells_time() }, needed, kept: Kept::of(needed).within(self.step()) }
    }

    fn dimensions(&self) -> impl Iterator<Item = Dimension> {
        std::iter::once(self.by).chain(self.then)
    }

    fn tells_time(&self) -> bool {
        self.dimensions().any(|by| by.step().is_some())
    }

    /// The longest spans that tell its steps of time apart; nothing where any do.
    fn step(&self) -> Option<Span> {
        let steps = self.dimensions().filter_map(|by| match by {
            Dimension::Hour => Some(Span::Hour),
            Dimension::Day => Some(Span::Day),
            Dimension::Minute
            | Dimension::Team
            | Dimension::Route
            | Dimension::Offer
            | Dimension::Key
            | Dimension::Upstream
            | Dimension::Run
            | Dimension::End
            | Dimension::Label => None,
        });
        steps.min()
    }

    fn is_of_lines(&self) -> bool {
        self.dimensions().any(Dimension::is_of_lines)
    }

    /// How sums of lines answer it; nothing where they do not tell apart what it asks for.
    pub(crate) fn of_lines(&self) -> Option<OfLines> {
        let UsageFilter { team: _, key, route, offer, upstream, former: _ } = &self.filter;
        let is_narrowed = key.is_some() || route.is_some() || offer.is_some() || upstream.is_some();
        let by = self.dimensions().find_map(Dimension::of_lines).filter(|_| !is_narrowed)?;
        let is_told = |other: Dimension| {
            other.of_lines() == Some(by) || other.step().is_some_and(|step| step.window >= Window::Hour)
        };
        let kept = Kept { thirds: false, days: true, hours: true }.within(self.step());
        self.dimensions().all(is_told).then_some(OfLines { by, time: self.tells_time(), kept })
    }

    /// The names that lines themselves have of the groups that are wanted, where not all are.
    pub(crate) fn these(&self) -> Option<Vec<String>> {
        let Wanted::Of(names) = &self.wanted else { return None };
        let are_of_lines = self.then.is_none() && matches!(self.by, Dimension::Run | Dimension::End | Dimension::Label);
        are_of_lines.then(|| names.iter().cloned().collect())
    }

    /// The name of the label where it is told apart by one; empty for everything else.
    pub(crate) fn label_of(&self, by: LineBy) -> &str {
        self.label.as_deref().filter(|_| by == LineBy::Label).unwrap_or_default()
    }
}

impl Store {
    /// The figures of a range, by group.
    ///
    /// # Errors
    /// When the database is away or a row cannot be read; [`StoreError::TooManyGroups`].
    pub async fn usage(&self, query: &UsageQuery) -> Result<BTreeMap<String, RollUp>, StoreError> {
        let mut groups: BTreeMap<String, RollUp> = BTreeMap::new();
        self.fold(query, &mut groups).await?;
        if let Wanted::Of(names) = &query.wanted {
            groups.retain(|name, _| names.contains(name));
        }
        Ok(groups)
    }

    async fn fold(&self, query: &UsageQuery, groups: &mut BTreeMap<String, RollUp>) -> Result<(), StoreError> {
        let of_lines = query.of_lines();
        let hours = query.whole_hours().filter(|_| of_lines.is_some() || !query.is_of_lines());
        let Some(hours) = hours else { return self.fold_lines(query, query.from, query.to, groups).await };
        self.fold_lines(query, query.from, hours.start, groups).await?;
        match of_lines {
            Some(of) => {
                let fold = |name, sums: RollUp| groups.entry(name).or_default().merge(&sums);
                self.fold_summed_lines(query, of, hours.clone(), fold).await?;
            }
            None => self.fold_hours(query, hours.start, hours.end, groups).await?,
        }
        self.fold_lines(query, hours.end, query.to, groups).await
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
        range: Range<DateTime<Utc>>,
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
        self.line_sums(query, from..to, |name, sums| groups.entry(name).or_default().merge(&sums)).await
    }

    async fn fold_hours(
        &self,
        query: &UsageQuery,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        groups: &mut BTreeMap<String, RollUp>,
    ) -> Result<(), StoreError> {
        self.rolled(from..to, query.told(), &query.filter, |key, sums| {
            let name = |by: Dimension| by.of(&key, &query.filter.former);
            groups.entry(query.named(name(query.by), query.then.map(name))).or_default().merge(&sums);
        })
        .await
    }
}
