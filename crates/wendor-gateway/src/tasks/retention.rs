//! Keeps what happened for as long as the settings say, by whole months, and makes the partitions of the months to come.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use wendor_store::StoreError;
use wendor_store::partitions::Partitioned;

use crate::app::App;

/// How often partitions are looked at: months pass slowly.
const EVERY: Duration = Duration::from_secs(3_600);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    loop {
        if let Err(error) = keep(&app).await {
            tracing::warn!(%error, "partitions could not be made or dropped; it is tried again in an hour");
        }
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(EVERY) => {}
        }
    }
}

/// Makes what is needed soon and drops what was kept long enough.
async fn keep(app: &App) -> Result<(), StoreError> {
    let now = app.clock.now();
    app.store.make_partitions_ahead(now).await?;
    for table in Partitioned::ALL {
        let Some(before) = app.settings.kept_since(table, now) else { continue };
        for partition in app.store.drop_partitions(table, before).await? {
            tracing::info!(partition, "a month was kept long enough: its partition is dropped");
        }
        match table {
            Partitioned::RollUps => app.store.forget_sums(before).await?,
            Partitioned::Ledger => app.store.forget_line_sums(before).await?,
            Partitioned::Details => {}
        }
    }
    Ok(())
}
