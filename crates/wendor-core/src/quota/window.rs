//! Windows of quotas: fixed, in UTC. An instant enters, the window it lies in leaves.

use chrono::{DateTime, Datelike, DurationRound, Months, NaiveTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

/// The length of a window.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Window {
    /// A minute of the clock.
    Minute,
    /// An hour of the clock.
    Hour,
    /// A day in UTC.
    Day,
    /// A month of the calendar in UTC.
    Month,
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
    /// Every window.
    pub const ALL: [Self; 4] = [Self::Minute, Self::Hour, Self::Day, Self::Month];

    /// The window's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Minute => "minute",
            Self::Hour => "hour",
            Self::Day => "day",
            Self::Month => "month",
        }
    }

    /// Reads a window's word.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|window| window.as_str() == text)
    }

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
