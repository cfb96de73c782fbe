//! Sums of roll-ups over whole hours and days by fewer things than roll-ups tell apart, and of which of them a range is made: so that a
//! report over months reads thousands of rows where roll-ups are millions.
//!
//! A range becomes [`segments`]: whole thirds of months that are summed, whole days and hours that are, and hours of which only roll-ups
//! tell, or the ledger's lines. Figures are the same whichever they are read from, since all are folded by the same arithmetic.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use chrono::{DateTime, Datelike, TimeDelta, Utc};
use wendor_wire::worded;

use super::rollup::{RollUp, RollUpKey};
use crate::quota::window::{Window, WindowSpan};

/// What sums tell apart of who asks, for what, and where it is served. A key belongs to a team, so that what tells keys apart tells teams
/// apart too.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Apart {
    /// Teams.
    pub team: bool,
    /// Keys.
    pub key: bool,
    /// Routes.
    pub route: bool,
    /// Offers, and with them upstreams.
    pub offer: bool,
}

impl Apart {
    /// What is needed to tell all of these apart.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        let key = self.key || other.key;
        Self {
            team: self.team || other.team || key,
            key,
            route: self.route || other.route,
            offer: self.offer || other.offer,
        }
    }

    /// How it is written, a letter for each.
    #[must_use]
    pub fn code(self) -> &'static str {
        match (self.key, self.team, self.route, self.offer) {
            (true, _, false, false) => "k",
            (true, _, true, false) => "kr",
            (true, _, false, true) => "ko",
            (true, _, true, true) => "kro",
            (false, true, false, false) => "t",
            (false, true, true, false) => "tr",
            (false, true, false, true) => "to",
            (false, true, true, true) => "tro",
            (false, false, true, false) => "r",
            (false, false, false, true) => "o",
            (false, false, true, true) => "ro",
            (false, false, false, false) => "",
        }
    }

    /// The row of the span that begins at `start` which a roll-up belongs to.
    #[must_use]
    pub fn row_of(self, key: &RollUpKey, start: DateTime<Utc>) -> RollUpKey {
        let part = |is_told: bool, text: &String| if is_told { text.clone() } else { String::new() };
        RollUpKey {
            hour: start,
            team: part(self.team || self.key, &key.team),
            key: part(self.key, &key.key),
            route: part(self.route, &key.route),
            offer: part(self.offer, &key.offer),
        }
    }
}

worded! {
    /// A span of time that is summed whole; the larger is the later one.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
    pub enum Span {
        /// An hour.
        Hour = "hour",
        /// A day, UTC.
        Day = "day",
        /// A third of a month of the calendar, UTC: from its 1st, its 11th and its 21st day on. A month is three of them, and the last of
        /// them ends with it.
        Third = "third",
    }
}

/// What a code tells apart, as [`Apart::code`] writes it.
const fn apart(code: &str) -> Apart {
    let (mut apart, mut letters) = (Apart { team: false, key: false, route: false, offer: false }, code.as_bytes());
    while let [letter, rest @ ..] = letters {
        apart.team |= matches!(letter, b't' | b'k');
        apart.key |= *letter == b'k';
        apart.route |= *letter == b'r';
        apart.offer |= *letter == b'o';
        letters = rest;
    }
    apart
}

/// What days are summed by: everything that figures are told apart by or narrowed to.
const OF_DAYS: [Apart; 12] = [
    apart(""),
    apart("t"),
    apart("r"),
    apart("o"),
    apart("ro"),
    apart("tr"),
    apart("to"),
    apart("tro"),
    apart("k"),
    apart("kr"),
    apart("ko"),
    apart("kro"),
];

/// What hours are summed by: with more they would be as many as roll-ups.
const OF_HOURS: [Apart; 9] =
    [apart(""), apart("t"), apart("r"), apart("o"), apart("ro"), apart("tr"), apart("to"), apart("tro"), apart("k")];

/// Days of the first two thirds of a month.
const DAYS_OF_A_THIRD: u32 = 10;

impl Span {
    /// What it is summed by.
    #[must_use]
    pub fn apart(self) -> &'static [Apart] {
        match self {
            Self::Hour => &OF_HOURS,
            Self::Day | Self::Third => &OF_DAYS,
        }
    }

    /// The span that `at` lies in.
    ///
    /// ```
    /// use wendor_core::metering::sums::Span;
    /// let third = Span::Third.around("2026-02-24T09:30:12Z".parse().unwrap());
    /// assert_eq!(third.start.to_rfc3339(), "2026-02-21T00:00:00+00:00");
    /// assert_eq!(third.end.to_rfc3339(), "2026-03-01T00:00:00+00:00");
    /// ```
    #[must_use]
    pub fn around(self, at: DateTime<Utc>) -> WindowSpan {
        match self {
            Self::Hour => Window::Hour.around(at),
            Self::Day => Window::Day.around(at),
            Self::Third => {
                let month = Window::Month.around(at);
                let before = (at.day0() / DAYS_OF_A_THIRD).min(2);
                let after = |thirds: u32| month.start + TimeDelta::days(i64::from(thirds * DAYS_OF_A_THIRD));
                WindowSpan { start: after(before), end: if before == 2 { month.end } else { after(before + 1) } }
            }
        }
    }
}

/// Of which spans there are sums that tell something apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Kept {
    /// Thirds of months.
    pub thirds: bool,
    /// Days.
    pub days: bool,
    /// Hours.
    pub hours: bool,
}

impl Kept {
    /// Those that tell `needed` apart.
    #[must_use]
    pub fn of(needed: Apart) -> Self {
        let is_kept = |span: Span| span.apart().iter().any(|apart| apart.code() == needed.code());
        Self { thirds: is_kept(Span::Third), days: is_kept(Span::Day), hours: is_kept(Span::Hour) }
    }

    /// Those of them that tell steps of time apart that are as long as one of `span`; all where it is none.
    #[must_use]
    pub fn within(self, span: Option<Span>) -> Self {
        let is_within = |own: Span| span.is_none_or(|span| own <= span);
        Self { thirds: self.thirds && is_within(Span::Third), days: self.days && is_within(Span::Day), ..self }
    }

    fn has(self, span: Span) -> bool {
        match span {
            Span::Hour => self.hours,
            Span::Day => self.days,
            Span::Third => self.thirds,
        }
    }
}

/// The sums of a span by everything that it is summed by.
#[derive(Clone, Debug, Default)]
pub struct Sums(BTreeMap<(Apart, RollUpKey), RollUp>);

impl Sums {
    /// Adds a roll-up of the span that begins at `start`.
    pub fn add(&mut self, span: Span, start: DateTime<Utc>, key: &RollUpKey, sums: &RollUp) {
        for apart in span.apart() {
            self.0.entry((*apart, apart.row_of(key, start))).or_default().merge(sums);
        }
    }

    /// Every row, by what it is summed by.
    #[must_use]
    pub fn rows(self) -> BTreeMap<(Apart, RollUpKey), RollUp> {
        self.0
    }
}

/// From what a part of a range is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// Sums of whole spans.
    Sums(Span),
    /// What these are made of.
    Unsummed,
}

/// A part of a range: from its first instant to the first one after.
pub type Segment = (Source, DateTime<Utc>, DateTime<Utc>);

/// The spans that are summed, each by where it begins.
pub type Summed = BTreeSet<(Span, DateTime<Utc>)>;

/// Of what whole `hours` are read, in order: the longest spans that are `kept` and `summed`.
#[must_use]
pub fn segments(hours: Range<DateTime<Utc>>, kept: Kept, summed: &Summed) -> Vec<Segment> {
    let mut segments: Vec<Segment> = Vec::new();
    let (mut at, to) = (hours.start, hours.end);
    while at < to {
        let whole = [Span::Third, Span::Day, Span::Hour].into_iter().find_map(|span| {
            let WindowSpan { start, end } = span.around(at);
            let is_whole = kept.has(span) && start == at && end <= to && summed.contains(&(span, start));
            is_whole.then_some((Source::Sums(span), end))
        });
        // As far as the next span that is summed: a range may be of thousands of years.
        let (source, end) = whole.unwrap_or_else(|| {
            let after = at + TimeDelta::hours(1);
            let next = |span: Span| {
                summed.range((span, after)..).next().filter(|(other, _)| *other == span).map(|(_, start)| *start)
            };
            let kept = [Span::Third, Span::Day, Span::Hour].into_iter().filter(|span| kept.has(*span));
            (Source::Unsummed, kept.filter_map(next).min().map_or(to, |start| start.min(to)))
        });
        match segments.last_mut() {
            Some((last, _, last_end)) if *last == source => *last_end = end,
            Some(_) | None => segments.push((source, at, end)),
        }
        at = end;
    }
    segments
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn hour(hours: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::hours(hours)
    }

    fn summed(days: &[i64], hours: std::ops::Range<i64>) -> Summed {
        let days = days.iter().map(|day| (Span::Day, hour(day * 24)));
        days.chain(hours.map(|at| (Span::Hour, hour(at)))).collect()
    }

    /// All of a month of thirty days, which begins at hour 0 of what is counted here.
    fn a_month() -> Summed {
        let thirds = [0, 10, 20].map(|day| (Span::Third, hour(day * 24)));
        summed(&(0..31).collect::<Vec<_>>(), 0..31 * 24).into_iter().chain(thirds).collect()
    }

    const DAYS: Source = Source::Sums(Span::Day);
    const HOURS: Source = Source::Sums(Span::Hour);
    const THIRDS: Source = Source::Sums(Span::Third);
    const TEAM: Kept = Kept { thirds: true, days: true, hours: true };
    const ALL: Kept = Kept { thirds: true, days: true, hours: false };

    #[rstest]
    #[case::nothing_is_summed((0, 48), TEAM, summed(&[], 0..0), &[(Source::Unsummed, 0, 48)])]
    #[case::whole_days((0, 48), TEAM, summed(&[0, 1], 0..48), &[(DAYS, 0, 48)])]
    #[case::parts_of_days((20, 30), TEAM, summed(&[0, 1], 0..48), &[(HOURS, 20, 30)])]
    #[case::a_day_within((20, 72), TEAM, summed(&[0, 1, 2], 0..72), &[(HOURS, 20, 24), (DAYS, 24, 72)])]
    #[case::hours_are_told_apart((0, 48), TEAM.within(Some(Span::Hour)), summed(&[0, 1], 0..48), &[(HOURS, 0, 48)])]
    #[case::a_day_that_changed((0, 72), TEAM, summed(&[0, 2], 0..30), &[(DAYS, 0, 24), (HOURS, 24, 30), (Source::Unsummed, 30, 48), (DAYS, 48, 72)])]
    #[case::hours_do_not_tell_it((20, 48), ALL, summed(&[0, 1], 0..48), &[(Source::Unsummed, 20, 24), (DAYS, 24, 48)])]
    #[case::thousands_of_years((0, 70_000_000), TEAM, summed(&[3], 0..0), &[(Source::Unsummed, 0, 72), (DAYS, 72, 96), (Source::Unsummed, 96, 70_000_000)])]
    #[case::an_empty_range((5, 5), TEAM, summed(&[0], 0..24), &[])]
    #[case::a_whole_month((0, 31 * 24), TEAM, a_month(), &[(THIRDS, 0, 31 * 24)])]
    #[case::a_third_within((24, 21 * 24), TEAM, a_month(), &[(DAYS, 24, 240), (THIRDS, 240, 480), (DAYS, 480, 504)])]
    #[case::the_last_third_ends_with_the_month((480, 30 * 24), TEAM, a_month(), &[(DAYS, 480, 720)])]
    #[case::days_are_told_apart((0, 31 * 24), TEAM.within(Some(Span::Day)), a_month(), &[(DAYS, 0, 31 * 24)])]
    fn a_range_is_read_from_what_is_there(
        #[case] (from, to): (i64, i64),
        #[case] kept: Kept,
        #[case] summed: Summed,
        #[case] expected: &[(Source, i64, i64)],
    ) {
        let expected: Vec<Segment> =
            expected.iter().map(|(source, from, to)| (*source, hour(*from), hour(*to))).collect();
        assert_eq!(segments(hour(from)..hour(to), kept, &summed), expected);
    }

    fn any_apart() -> impl Strategy<Value = Apart> {
        any::<[bool; 4]>()
            .prop_map(|[team, key, route, offer]| Apart::default().with(Apart { team, key, route, offer }))
    }

    proptest! {
        #[test]
        fn segments_lie_end_to_end(from in 0i64..60, length in 0i64..90, days in prop::collection::btree_set(0i64..6, 0..6), needed in any_apart()) {
            let days: Vec<i64> = days.into_iter().collect();
            let (kept, summed) = (Kept::of(needed), summed(&days, 10..80));
            let mut at = hour(from);
            for (source, begins, ends) in segments(hour(from)..hour(from + length), kept, &summed) {
                prop_assert!(begins == at && ends > begins);
                let is_missed = |(span, start): &(Span, DateTime<Utc>)| {
                    kept.has(*span) && (begins..ends).contains(start) && span.around(*start).end <= hour(from + length)
                };
                prop_assert!(source != Source::Unsummed || !summed.iter().any(is_missed));
                at = ends;
            }
            prop_assert_eq!(at, hour(from + length));
        }

        /// Whatever figures are told apart by, days and thirds of months keep it.
        #[test]
        fn days_are_summed_by_everything(needed in any_apart()) {
            let Kept { thirds, days, hours: _ } = Kept::of(needed);
            prop_assert!(thirds && days);
        }

        /// Thirds lie end to end, each of whole days within one month.
        #[test]
        fn thirds_lie_end_to_end(hours in 0i64..40_000_000) {
            let at = hour(hours);
            let WindowSpan { start, end } = Span::Third.around(at);
            prop_assert!(start <= at && at < end && Span::Third.around(end).start == end);
            prop_assert_eq!(Span::Third.around(start), WindowSpan { start, end });
            prop_assert!(start.month() == (end - TimeDelta::hours(1)).month() && (8..=11).contains(&(end - start).num_days()));
            prop_assert_eq!(Window::Day.around(start).start, start);
        }
    }

    #[test]
    fn a_roll_up_counts_in_each_row_that_it_belongs_to() {
        let key = |team: &str, key: &str, offer: &str| RollUpKey {
            hour: hour(30),
            team: team.to_owned(),
            key: key.to_owned(),
            route: "night-sailings".to_owned(),
            offer: offer.to_owned(),
        };
        let mut sums = Sums::default();
        let one = RollUp { requests: 2, ..RollUp::default() };
        sums.add(Span::Day, hour(24), &key("timetables", "k1", "quarry/fulmar"), &one);
        sums.add(Span::Day, hour(24), &key("timetables", "k2", "quarry/fulmar"), &one);
        let rows = sums.rows();
        let of = |code: &str| {
            let rows = rows.iter().filter(|((apart, _), _)| apart.code() == code);
            rows.map(|((_, key), sums)| (key.team.as_str(), key.key.as_str(), key.offer.as_str(), sums.requests))
                .collect::<Vec<_>>()
        };
        assert_eq!(of(""), [("", "", "", 4)]);
        assert_eq!(of("t"), [("timetables", "", "", 4)]);
        assert_eq!(of("k"), [("timetables", "k1", "", 2), ("timetables", "k2", "", 2)]);
        assert_eq!(of("o"), [("", "", "quarry/fulmar", 4)]);
        assert!(rows.keys().all(|(_, key)| key.hour == hour(24)));
    }
}
