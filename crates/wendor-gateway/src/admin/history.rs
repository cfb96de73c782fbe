//! The last weeks by team and day: what days and months are compared with.

use std::collections::BTreeMap;

use chrono::{DateTime, Days, NaiveDate, Utc};
use rust_decimal::Decimal;
use wendor_core::quota::Measure;
use wendor_core::watch::expected::{Daily, WEEKS};
use wendor_store::StoreError;
use wendor_store::sums::TeamDay;

use crate::app::App;

/// In strips of days.
pub const DAYS_DRAWN: u64 = 30;

/// The last weeks up to, and without, today.
#[derive(Debug)]
pub struct History {
    /// The first day with records.
    pub since: NaiveDate,
    /// By the time zone of figures, UTC.
    pub today: NaiveDate,
    by_team: BTreeMap<String, Vec<TeamDay>>,
}

impl History {
    /// Reads it.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn read(app: &App, now: DateTime<Utc>) -> Result<Self, StoreError> {
        let today = now.date_naive();
        // Yesterday is compared with its weekdays before.
        let from = today.checked_sub_days(Days::new(7 * WEEKS + 2)).unwrap_or(today);
        let former = app.now_serving().former.clone();
        let days = app.store.team_days(from, today).await?;
        let since = days.iter().map(|day| day.day).min().unwrap_or(today);
        let mut by_team: BTreeMap<String, Vec<TeamDay>> = BTreeMap::new();
        for day in days {
            // On the day of a renaming there are two.
            let days = by_team.entry(former.team(&day.team).to_owned()).or_default();
            match days.iter_mut().find(|earlier| earlier.day == day.day) {
                Some(earlier) => earlier.add(&day),
                None => days.push(day),
            }
        }
        Ok(Self { since, today, by_team })
    }

    /// What a team used of `measure`, by day.
    #[must_use]
    pub fn daily(&self, team: &str, measure: Measure) -> Daily {
        let amount = |day: &TeamDay| -> Decimal {
            match measure {
                Measure::Requests => day.requests,
                Measure::InputTokens => day.input_tokens,
                Measure::OutputTokens => day.output_tokens,
                Measure::Tokens => day.input_tokens + day.output_tokens,
                Measure::Cost => day.cost,
            }
        };
        self.by_team.get(team).into_iter().flatten().map(|day| (day.day, amount(day))).collect()
    }

    /// The days that are drawn, oldest first; yesterday is the last.
    pub fn drawn(&self) -> impl Iterator<Item = NaiveDate> + use<> {
        let today = self.today;
        (1..=DAYS_DRAWN).rev().filter_map(move |back| today.checked_sub_days(Days::new(back)))
    }
}
