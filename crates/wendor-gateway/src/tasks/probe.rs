//! Tries the connections to upstreams that rest or that nobody asks: a connection, encrypted where it must be, and any answer to a free look
//! without the credential. So one that is mended is found without a request that waits for it, and one that is gone before a request is.

use std::sync::Arc;
use std::time::Duration;

use futures_util::future::join_all;
use tokio::sync::watch;
use tokio::time::timeout;
use wendor_core::catalog::upstream::{Hosting, Upstream};
use wendor_core::diagnosis::speech::listing_path;
use wendor_core::name::Name;
use wendor_wire::failure::{Failure, FailureKind};

use super::inventory::peer_of;
use crate::app::App;
use crate::checks::talk::Credentials;
use crate::health_changes::tell;

/// How often it is looked which are due.
const TICK: Duration = Duration::from_secs(1);

/// So much more seldom a hosted one is probed that nobody asks: it is somebody else's.
const HOSTED_LESS: u32 = 6;

/// How long a probe may take.
const PATIENCE: Duration = Duration::from_secs(3);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = tokio::time::sleep(TICK) => {}
        }
        tokio::select! {
            _stopped = stop.wait_for(|stop| *stop) => return,
            () = probe_due(&app) => {}
        }
    }
}

async fn probe_due(app: &App) {
    let (snapshot, now) = (app.now_serving(), app.clock.now());
    let every = |upstream: &Upstream| match upstream.hosting {
        Hosting::Own => app.settings.timing.probe_every,
        Hosting::Hosted => app.settings.timing.probe_every * HOSTED_LESS,
    };
    let is_due = |(name, upstream): &(&Name, &Upstream)| {
        let state = app.fleet.upstream(name);
        // On a server that serves one request at a time a probe could end an answer, whose end tells as much.
        let may = !upstream.is_not_looked_at
            && state.looks().may_look(now)
            && (upstream.serves_several() || state.gate().fullness().streams == 0);
        may && state.takes_probe(now, every(upstream))
    };
    let due = snapshot.catalogue.upstreams.iter().filter(is_due);
    join_all(due.map(|(name, upstream)| probe(app, name, upstream))).await;
}

async fn probe(app: &App, name: &Name, upstream: &Upstream) {
    let seen = timeout(PATIENCE, answers(app, name, upstream)).await;
    let late = || Err(format!("no answer to a probe within {}", humantime::format_duration(PATIENCE)));
    let failed = |why: String| Failure::new(FailureKind::Unreachable, why);
    let change =
        app.fleet.upstream(name).probed(app.clock.now(), seen.unwrap_or_else(|_elapsed| late()).map_err(failed));
    tell(app, change.map(|change| (name, None, change)));
}

/// Whether anybody answers there, whatever the answer is.
async fn answers(app: &App, name: &Name, upstream: &Upstream) -> Result<(), String> {
    let peer = peer_of(app, upstream).await?;
    let url = upstream.address.endpoint(listing_path(upstream.dialect));
    let heard = peer.get(&url, Credentials::None).await;
    let heard = heard.map_err(|_| format!("no answer from {}", upstream.address.authority()))?;
    if heard.status == 429 {
        app.fleet.upstream(name).looks().refused(app.clock.now(), heard.retry_after);
    }
    Ok(())
}
