//! Sums up whole hours and days behind the requests, so that reports over months read little ([`wendor_store::sums`]). One span after the
//! other, the latest first, on the threads that give way to requests.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_store::partitions::Partitioned;

use crate::app::App;

/// How often it is looked for what is over and not summed: a report reads what is not summed by the hour meanwhile.
const EVERY: Duration = Duration::from_secs(30);

/// Between two spans of a backlog, so that it takes the database from nobody for long.
const PAUSE: Duration = Duration::from_millis(50);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    let mut is_failing = false;
    loop {
        let now = app.clock.now();
        let since = app.settings.kept_since(Partitioned::RollUps, now);
        let wait = match app.store.sum_up(now, since).await {
            Ok(Some(_)) => PAUSE,
            Ok(None) => EVERY,
            Err(error) => {
                // Said once an outage, not once a try.
                if !std::mem::replace(&mut is_failing, true) {
                    tracing::warn!(%error, "hours and days could not be summed up; reports over long ranges take longer until they are");
                }
                EVERY
            }
        };
        is_failing &= wait == EVERY;
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(wait) => {}
        }
    }
}
