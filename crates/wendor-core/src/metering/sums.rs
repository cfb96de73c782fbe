//! Sums of roll-ups over whole hours and days by fewer things than roll-ups tell apart, and of which of them a range is made: so that a
//! report over months reads thousands of rows where roll-ups are millions.
//!
//! A range becomes [`segments`]: whole days that are summed, whole hours that are, and hours of which only roll-ups tell. Figures are the
//! same whichever they are read from, since sums are folded from roll-ups by the same arithmetic.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use chrono::{DateTime, TimeDelta, Utc};

use super::rollup::{RollUp, RollUpKey};
use crate::quota::window::Window;

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

/// A span of time that is summed whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Span {
    /// An hour.
    Hour,
    /// A day, UTC.
    Day,
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

impl Span {
    /// Both.
    pub const ALL: [Self; 2] = [Self::Hour, Self::Day];

    /// How it is written.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Hour => "hour",
            Self::Day => "day",
        }
    }

    /// What it is summed by.
    #[must_use]
    pub fn apart(self) -> &'static [Apart] {
        match self {
            Self::Hour => &OF_HOURS,
            Self::Day => &OF_DAYS,
        }
    }

    /// Of the windows that it is one of.
    #[must_use]
    pub fn window(self) -> Window {
        match self {
            Self::Hour => Window::Hour,
            Self::Day => Window::Day,
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
    /// Roll-ups.
    RollUps,
}

/// A part of a range: from its first instant to the first one after.
pub type Segment = (Source, DateTime<Utc>, DateTime<Utc>);

/// The spans that are summed, by where they begin.
#[derive(Clone, Debug, Default)]
pub struct Summed {
    /// Hours.
    pub hours: BTreeSet<DateTime<Utc>>,
    /// Days.
    pub days: BTreeSet<DateTime<Utc>>,
}

/// Of what whole `hours` are read that tell `needed` apart, in order; `tells_hours` where hours of a day must be told
/// apart as well.
#[must_use]
pub fn segments(hours: Range<DateTime<Utc>>, needed: Apart, tells_hours: bool, summed: &Summed) -> Vec<Segment> {
    let is_kept = |span: Span| span.apart().iter().any(|apart| apart.code() == needed.code());
    let (of_days, of_hours) = (is_kept(Span::Day) && !tells_hours, is_kept(Span::Hour));
    let mut segments: Vec<Segment> = Vec::new();
    let (mut at, to) = (hours.start, hours.end);
    while at < to {
        let day = Window::Day.around(at);
        let is_day = of_days && day.start == at && day.end <= to && summed.days.contains(&at);
        let (source, end) = if is_day {
            (Source::Sums(Span::Day), day.end)
        } else if of_hours && summed.hours.contains(&at) {
            (Source::Sums(Span::Hour), at + TimeDelta::hours(1))
        } else {
            (Source::RollUps, at + TimeDelta::hours(1))
        };
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
        Summed { days: days.iter().map(|day| hour(day * 24)).collect(), hours: hours.map(hour).collect() }
    }

    const DAYS: Source = Source::Sums(Span::Day);
    const HOURS: Source = Source::Sums(Span::Hour);
    const TEAM: Apart = apart("t");
    const ALL: Apart = apart("kro");

    #[rstest]
    #[case::nothing_is_summed((0, 48), TEAM, false, summed(&[], 0..0), &[(Source::RollUps, 0, 48)])]
    #[case::whole_days((0, 48), TEAM, false, summed(&[0, 1], 0..48), &[(DAYS, 0, 48)])]
    #[case::parts_of_days((20, 30), TEAM, false, summed(&[0, 1], 0..48), &[(HOURS, 20, 30)])]
    #[case::a_day_within((20, 72), TEAM, false, summed(&[0, 1, 2], 0..72), &[(HOURS, 20, 24), (DAYS, 24, 72)])]
    #[case::hours_are_told_apart((0, 48), TEAM, true, summed(&[0, 1], 0..48), &[(HOURS, 0, 48)])]
    #[case::a_day_that_changed((0, 72), TEAM, false, summed(&[0, 2], 0..30), &[(DAYS, 0, 24), (HOURS, 24, 30), (Source::RollUps, 30, 48), (DAYS, 48, 72)])]
    #[case::hours_do_not_tell_it((20, 48), ALL, false, summed(&[0, 1], 0..48), &[(Source::RollUps, 20, 24), (DAYS, 24, 48)])]
    #[case::an_empty_range((5, 5), TEAM, false, summed(&[0], 0..24), &[])]
    fn a_range_is_read_from_what_is_there(
        #[case] (from, to): (i64, i64),
        #[case] needed: Apart,
        #[case] tells_hours: bool,
        #[case] summed: Summed,
        #[case] expected: &[(Source, i64, i64)],
    ) {
        let expected: Vec<Segment> =
            expected.iter().map(|(source, from, to)| (*source, hour(*from), hour(*to))).collect();
        assert_eq!(segments(hour(from)..hour(to), needed, tells_hours, &summed), expected);
    }

    fn any_apart() -> impl Strategy<Value = Apart> {
        any::<[bool; 4]>()
            .prop_map(|[team, key, route, offer]| Apart::default().with(Apart { team, key, route, offer }))
    }

    proptest! {
        #[test]
        fn segments_lie_end_to_end(from in 0i64..60, length in 0i64..90, days in prop::collection::btree_set(0i64..6, 0..6), needed in any_apart()) {
            let days: Vec<i64> = days.into_iter().collect();
            let found = segments(hour(from)..hour(from + length), needed, false, &summed(&days, 10..80));
            let mut at = hour(from);
            for (_, begins, ends) in found {
                prop_assert!(begins == at && ends > begins);
                at = ends;
            }
            prop_assert_eq!(at, hour(from + length));
        }

        /// Whatever figures are told apart by, days keep it.
        #[test]
        fn days_are_summed_by_everything(needed in any_apart()) {
            prop_assert!(Span::Day.apart().iter().any(|apart| apart.code() == needed.code()));
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
