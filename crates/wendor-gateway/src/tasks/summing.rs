//! Sums up whole hours and days behind the requests, so that reports over months read little ([`wendor_store::sums`]). One span after the
//! other, the latest first, on the threads that give way to requests.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, Utc};
use tokio::sync::watch;
use wendor_core::metering::sums::Span;
use wendor_store::partitions::Partitioned;

use crate::app::App;

/// How often it is looked for what is over and not summed: a report reads what is not summed by the hour meanwhile.
const EVERY: Duration = Duration::from_secs(30);

/// Between two spans of a backlog, so that it takes the database from nobody for long.
const PAUSE: Duration = Duration::from_millis(50);

/// Paces the work: a span that has to be summed once more at once is one that entries still come into, as when a spool is drained that had to
/// wait. Whoever drains it waits for whoever sums it, so it is left alone for a while.
#[derive(Debug, Default)]
struct Pace(BTreeSet<(Span, DateTime<Utc>)>);

impl Pace {
    /// What is waited after that was summed; after nothing was, or could be, where it is `None`.
    fn after(&mut self, summed: Option<(Span, DateTime<Utc>)>) -> Duration {
        if summed.is_some_and(|span| self.0.insert(span)) {
            return PAUSE;
        }
        self.0.clear();
        EVERY
    }
}

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    let (mut is_failing, mut pace) = (false, Pace::default());
    loop {
        let now = app.clock.now();
        let since = app.settings.kept_since(Partitioned::RollUps, now);
        let summed = app.store.sum_up(now, since).await;
        if let Err(error) = &summed
            // Said once an outage, not once a try.
            && !is_failing
        {
            tracing::warn!(%error, "hours and days could not be summed up; reports over long ranges take longer until they are");
        }
        is_failing = summed.is_err();
        let wait = pace.after(summed.unwrap_or_default());
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(wait) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_to_be_summed_again_at_once_is_left_alone_for_a_while() {
        let hour = |at: &str| Some((Span::Hour, at.parse().unwrap()));
        let (eight, nine) = (hour("2026-11-25T08:00:00Z"), hour("2026-11-25T09:00:00Z"));
        let mut pace = Pace::default();
        let waits = [nine, eight, nine, eight, None, eight].map(|summed| pace.after(summed));
        assert_eq!(waits, [PAUSE, PAUSE, EVERY, PAUSE, EVERY, PAUSE]);
    }
}
