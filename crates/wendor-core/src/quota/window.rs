//! Windows of quotas: fixed, in UTC. An instant enters, the window it lies in leaves.

use chrono::{DateTime, Datelike, DurationRound, Months, NaiveTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::worded;

worded! {
    /// The length of a window.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Window {
        /// A minute of the clock.
        Minute = "minute",
        /// An hour of the clock.
        Hour = "hour",
        /// A day in UTC.
        Day = "day",
        /// A month of the calendar in UTC.
        Month = "month",
    }
}

/// One window, from its start to the instant at which the next begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WindowSpan {
    /// First instant inside.
    pub start: DateTime<Utc>,
    /// First instant after.
    pub end: DateTime<Utc>,
}

impl Window {
    /// The window that `at` lies in.
    ///
    /// ```
    /// use wendor_core::quota::window::Window;
    /// let at = "2026-02-14T09:30:12Z".parse().unwrap();
    /// let month = Window::Month.around(at);
    /// assert_eq!(month.start.to_rfc3339(), "2026-02-01T00:00:00+00:00");
    /// assert_eq!(month.end.to_rfc3339(), "2026-03-01T00:00:00+00:00");
    /// ```
    #[must_use]
    pub fn around(self, at: DateTime<Utc>) -> WindowSpan {
        let fixed = |length: TimeDelta| {
            let start = at.duration_trunc(length).unwrap_or(at);
            WindowSpan { start, end: start + length }
        };
        match self {
            Self::Minute => fixed(TimeDelta::minutes(1)),
            Self::Hour => fixed(TimeDelta::hours(1)),
            Self::Day => fixed(TimeDelta::days(1)),
            Self::Month => {
                let first = at.date_naive().with_day(1).expect("every month has a first day");
                let next = first.checked_add_months(Months::new(1)).expect("instants lie far from the end of time");
                WindowSpan {
                    start: first.and_time(NaiveTime::MIN).and_utc(),
                    end: next.and_time(NaiveTime::MIN).and_utc(),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::minute(Window::Minute, "2026-11-25T08:10:00Z", "2026-11-25T08:11:00Z")]
    #[case::hour(Window::Hour, "2026-11-25T08:00:00Z", "2026-11-25T09:00:00Z")]
    #[case::day(Window::Day, "2026-11-25T00:00:00Z", "2026-11-26T00:00:00Z")]
    #[case::month(Window::Month, "2026-11-01T00:00:00Z", "2026-12-01T00:00:00Z")]
    fn windows_are_those_of_the_clock_and_the_calendar(#[case] window: Window, #[case] start: &str, #[case] end: &str) {
        let span = window.around("2026-11-25T08:10:40.5Z".parse().unwrap());
        assert_eq!(span, WindowSpan { start: start.parse().unwrap(), end: end.parse().unwrap() });
        assert_eq!(window.around(span.start), span, "the first instant is inside");
        assert_eq!(window.around(span.end).start, span.end, "the last one is the next window's first");
    }

    #[rstest]
    #[case::leap_year("2028-02-29T23:59:59Z", "2028-03-01T00:00:00Z")]
    #[case::end_of_the_year("2026-12-31T23:59:59Z", "2027-01-01T00:00:00Z")]
    fn months_have_their_own_lengths(#[case] at: &str, #[case] end: &str) {
        assert_eq!(Window::Month.around(at.parse().unwrap()).end, end.parse::<DateTime<Utc>>().unwrap());
    }

    proptest! {
        #[test]
        fn every_instant_lies_in_its_window(seconds in -4_000_000_000i64..8_000_000_000, nanos in 0u32..1_000_000_000) {
            let at = DateTime::from_timestamp(seconds, nanos).unwrap();
            for window in Window::ALL {
                let span = window.around(at);
                prop_assert!(span.start <= at && at < span.end, "{window:?} of {at}: {span:?}");
            }
        }
    }
}
