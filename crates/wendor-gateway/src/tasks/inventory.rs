//! Looks at what every upstream serves, now and then and on demand: free calls alone, which load nothing. What has changed is kept and
//! logged; what replaced credentials are not usable any more is erased on the way.

use std::sync::Arc;

use tokio::sync::watch;
use wendor_core::audit::Doer;
use wendor_core::catalog::upstream::{Address, CredentialSource, Fingerprint, Upstream};
use wendor_core::diagnosis::inventory::{Event, EventKind, Inventory};
use wendor_core::diagnosis::speech::{Found, Lists, dialects_of_listing, listing_path};
use wendor_core::name::Name;
use wendor_core::watch::event;
use wendor_store::StoreError;

use crate::app::App;
use crate::checks::talk::{Credentials, Peer};
use crate::checks::{dial, look};
use crate::credentials::Credential;
use crate::hosts::Led;
use crate::snapshot::Snapshot;

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    remember(&app).await;
    let mut which = Which::Every;
    loop {
        tokio::select! {
            _stopped = stop.changed() => return,
            () = refresh(&app, which) => {}
        }
        if let Err(error) = erase_unused(&app).await {
            tracing::warn!(%error, "credentials that nobody uses could not be erased; tried again later");
        }
        which = tokio::select! {
            _stopped = stop.changed() => return,
            () = app.look_soon.notified() => Which::New,
            () = tokio::time::sleep(app.settings.inventory_every) => Which::Every,
        };
    }
}

/// Erases kept credentials that no upstream uses.
async fn erase_unused(app: &App) -> Result<(), StoreError> {
    let snapshot = app.now_serving();
    let kept = snapshot.catalogue.upstreams.values().filter_map(|upstream| match &upstream.credential {
        Some(CredentialSource::Kept(id)) => Some(id.as_str()),
        Some(CredentialSource::Env(_) | CredentialSource::File(_)) | None => None,
    });
    app.store.erase_unused_credentials(&kept.collect::<Vec<_>>(), &Doer::service(app.clock.now())).await?;
    Ok(())
}

/// Which upstreams are looked at.
#[derive(Clone, Copy, Debug)]
pub enum Which<'a> {
    /// All of them.
    Every,
    /// Those that nobody has looked at yet.
    New,
    /// This one.
    One(&'a Name),
}

/// What was seen before this start, so that a pinned offer stays stopped through it.
async fn remember(app: &App) {
    match app.store.inventories().await {
        Ok(known) => known.into_iter().for_each(|(name, stored)| app.fleet.upstream(&name).looked(stored.seen)),
        Err(error) => tracing::warn!(%error, "what upstreams served before could not be read; they are looked at anew"),
    }
}

/// Looks at upstreams.
pub async fn refresh(app: &App, which: Which<'_>) {
    let snapshot = app.now_serving();
    let is_wanted = |name: &Name| match which {
        Which::Every => true,
        Which::New => app.fleet.upstream(name).inventory().is_none(),
        Which::One(only) => only == name,
    };
    for (name, upstream) in snapshot.catalogue.upstreams.iter().filter(|(name, _)| is_wanted(name)) {
        let seen = look_at(app, &snapshot, (name, upstream)).await;
        if let Err(error) = keep(app, name, seen).await {
            tracing::warn!(upstream = %name, %error, "what it serves could not be kept");
        }
    }
}

/// Keeps what was seen, and tells what has changed.
///
/// # Errors
/// When the database is away.
pub async fn keep(app: &App, name: &Name, seen: Result<Inventory, String>) -> Result<Vec<Event>, StoreError> {
    let at = app.clock.now();
    let events = app.store.keep_inventory(name, seen.as_ref().map_err(String::as_str), at).await?;
    for event in &events {
        app.events.happened(event::Event::of_inventory(name.as_str(), at, event));
        let model = event.model.as_deref().unwrap_or_default();
        match event.kind {
            EventKind::Vanished | EventKind::Weights => {
                tracing::warn!(upstream = %name, model, what = event.kind.as_str(), "what an upstream serves has changed");
            }
            EventKind::Appeared | EventKind::Size | EventKind::Version => {
                tracing::info!(upstream = %name, model, what = event.kind.as_str(), "what an upstream serves has changed");
            }
        }
    }
    if let Ok(inventory) = seen {
        app.fleet.upstream(name).looked(inventory);
    }
    Ok(events)
}

/// An address of an upstream that is open.
pub(super) async fn peer_of(app: &App, upstream: &Upstream) -> Result<Peer, String> {
    let peer = peer_at(app, &upstream.address, upstream.certificate.as_ref()).await?;
    Ok(peer.with_headers(&upstream.headers))
}

/// An address of a server that is open.
pub(super) async fn peer_at(app: &App, address: &Address, certificate: Option<&Fingerprint>) -> Result<Peer, String> {
    let Led { to: addresses, refused } = app.hosts.look_up(address.host()).await;
    if let Some((ip, why)) = refused {
        return Err(format!("its host leads to {ip}, {why}"));
    }
    let dialled = dial::each(&addresses, address.port()).await;
    let to = dial::open_one(&dialled).ok_or_else(|| format!("no connection to {}", address.authority()))?;
    let peer = Peer::plain(to, address);
    Ok(match address.is_encrypted() {
        true => peer.encrypted(app.trust.config(app.trust.verifier(certificate))),
        false => peer,
    })
}

async fn look_at(app: &App, snapshot: &Snapshot, (name, upstream): (&Name, &Upstream)) -> Result<Inventory, String> {
    let credential = match snapshot.credential(name) {
        Credential::None => None,
        Credential::Found(_) if upstream.exposes_credential() => {
            return Err("its key would cross a network unencrypted".to_owned());
        }
        Credential::Found(secret) => Some(secret.clone()),
        Credential::Missing(why) => return Err(why.clone()),
    };
    let peer = peer_of(app, upstream).await?;
    let url = upstream.address.endpoint(listing_path(upstream.dialect));
    let credentials = Credentials::of(credential.as_ref(), &upstream.auth);
    let heard = peer.get(&url, credentials).await.map_err(|_| "the listing is not answered".to_owned())?;
    if dialects_of_listing(&heard).is_empty() {
        return Err(match heard.status {
            404 | 405 => "the server has no listing".to_owned(),
            status => format!("the listing is answered with {status}"),
        });
    }
    let found = Found { address: upstream.address.clone(), dialect: upstream.dialect, lists: Lists::Openly };
    Ok(look::read(&peer, &found, &heard, credential.as_ref(), &upstream.auth).await)
}
