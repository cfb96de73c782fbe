//! Looks at what every upstream serves, now and then and on demand: free calls alone, which load nothing. What has changed is kept and
//! logged; what replaced credentials are not usable any more is erased on the way.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::{Instant, sleep, sleep_until};
use wendor_core::audit::Doer;
use wendor_core::catalog::upstream::{Address, CredentialSource, Fingerprint, Upstream};
use wendor_core::diagnosis::inventory::{Event, EventKind, Inventory};
use wendor_core::diagnosis::speech::{Found, Lists, dialects_of_listing, listing_path};
use wendor_core::name::Name;
use wendor_core::watch::event;
use wendor_store::StoreError;

use crate::app::App;
use crate::checks::quiet::{Busy, Quiet};
use crate::checks::spending::OPERATORS;
use crate::checks::talk::{Credentials, Peer};
use crate::checks::{dial, look};
use crate::credentials::Credential;
use crate::hosts::Led;
use crate::identity::{Identity, Showing};
use crate::snapshot::Snapshot;

/// How soon it is looked again at what had answers under way that a look could have ended.
const PUT_OFF: Duration = Duration::from_secs(5);

/// How long somebody who asks for a look waits for it.
const WAIT: Duration = Duration::from_secs(10);

/// Runs until `stop` says so.
pub async fn run(app: Arc<App>, mut stop: watch::Receiver<bool>) {
    remember(&app).await;
    let mut every_at = Instant::now();
    let mut put_off = BTreeSet::new();
    let mut next = Next::Every;
    loop {
        if matches!(next, Next::Every) {
            every_at = Instant::now() + app.settings.inventory_every;
        }
        let which = match next {
            Next::Every => Which::Every,
            Next::New => Which::New,
            Next::PutOff => Which::These(&put_off),
        };
        let left = tokio::select! {
            _stopped = stop.changed() => return,
            left = refresh(&app, which) => left,
        };
        put_off = left;
        if let Err(error) = erase_unused(&app).await {
            tracing::warn!(%error, "credentials that nobody uses could not be erased; tried again later");
        }
        next = tokio::select! {
            _stopped = stop.changed() => return,
            () = app.look_soon.notified() => Next::New,
            () = sleep_until(every_at) => Next::Every,
            () = sleep(PUT_OFF), if !put_off.is_empty() => Next::PutOff,
        };
    }
}

/// What is looked at next.
#[derive(Clone, Copy, Debug)]
enum Next {
    Every,
    New,
    PutOff,
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
    /// These, which were put off.
    These(&'a BTreeSet<Name>),
    /// This one, since somebody asks for it.
    One(&'a Name),
}

/// What was seen before this start, so that a pinned offer stays stopped through it.
async fn remember(app: &App) {
    match app.store.inventories().await {
        Ok(known) => known.into_iter().for_each(|(name, stored)| app.fleet.upstream(&name).looked(stored.seen)),
        Err(error) => tracing::warn!(%error, "what upstreams served before could not be read; they are looked at anew"),
    }
}

/// Looks at upstreams. Gives those that must be looked at later, since a look could have ended an answer there.
pub async fn refresh(app: &App, which: Which<'_>) -> BTreeSet<Name> {
    let snapshot = app.now_serving();
    let now = app.clock.now();
    let is_wanted = |(name, upstream): &(&Name, &Upstream)| {
        let state = app.fleet.upstream(name);
        let by_itself = || !upstream.is_not_looked_at && state.looks().may_look(now);
        match which {
            Which::Every => by_itself(),
            Which::New => by_itself() && state.inventory().is_none(),
            Which::These(names) => by_itself() && names.contains(*name),
            Which::One(only) => only == *name,
        }
    };
    let mut put_off = BTreeSet::new();
    for (name, upstream) in snapshot.catalogue.upstreams.iter().filter(is_wanted) {
        // What nobody waits for waits for nobody.
        let wait = if matches!(which, Which::One(_)) { WAIT } else { Duration::ZERO };
        let seen = match look_at(app, &snapshot, name, upstream, wait).await {
            Err(NotSeen::Busy(_)) if !matches!(which, Which::One(_)) => {
                put_off.insert(name.clone());
                continue;
            }
            Err(NotSeen::Busy(answers)) => Err(format!(
                "{answers} of Wendor's requests are being answered there, and a look could end them; it is looked at once they are over"
            )),
            Err(NotSeen::Failed(why)) => Err(why),
            Ok(inventory) => Ok(inventory),
        };
        if let Err(error) = keep(app, name, seen).await {
            tracing::warn!(upstream = %name, %error, "what it serves could not be stored");
        }
    }
    put_off
}

/// Why nothing was seen.
enum NotSeen {
    /// So many answers were under way there.
    Busy(u32),
    /// It came to nothing.
    Failed(String),
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
    let identity = app.keyring.identity(upstream)?;
    let peer = peer_at(app, &upstream.address, upstream.certificate.as_ref(), identity.as_ref()).await?;
    Ok(peer.with_headers(&upstream.headers))
}

/// An address of a server that is open: one that is trusted by that certificate, and that is shown that identity.
pub(super) async fn peer_at(
    app: &App,
    address: &Address,
    certificate: Option<&Fingerprint>,
    identity: Option<&Identity>,
) -> Result<Peer, String> {
    let Led { to: addresses, refused } = app.hosts.look_up(address.host()).await;
    if let Some((ip, why)) = refused {
        return Err(format!("its host leads to {ip}, {why}"));
    }
    let dialled = dial::each(&addresses, address.port()).await;
    let to = dial::open_one(&dialled).ok_or_else(|| format!("no connection to {}", address.authority()))?;
    let peer = Peer::plain(to, address);
    let config = || app.trust.config_showing(app.trust.verifier(certificate), Arc::new(Showing::of(identity)));
    Ok(if address.is_encrypted() { peer.encrypted(config()) } else { peer })
}

async fn look_at(
    app: &App,
    snapshot: &Snapshot,
    name: &Name,
    upstream: &Upstream,
    wait: Duration,
) -> Result<Inventory, NotSeen> {
    let failed = NotSeen::Failed;
    let credential = match snapshot.credential(name) {
        Credential::None => None,
        Credential::Found(_) if upstream.exposes_credential() => {
            return Err(failed("its key would cross a network unencrypted".to_owned()));
        }
        Credential::Found(secret) => Some(secret.clone()),
        Credential::Missing(why) => return Err(failed(why.clone())),
    };
    let peer = peer_of(app, upstream).await.map_err(failed)?;
    let url = upstream.address.endpoint(listing_path(upstream.dialect));
    let credentials = Credentials::of(credential.as_ref(), &upstream.auth);
    let who = Name::parse(OPERATORS).map_err(|error| failed(error.to_string()))?;
    let quiet = Quiet::at(app, name, upstream, &who);
    let room = quiet.look(Instant::now() + wait).await.map_err(|Busy(answers)| NotSeen::Busy(answers))?;
    let heard = peer.get(&url, credentials).await.map_err(|_| failed("the listing is not answered".to_owned()))?;
    drop(room);
    let state = app.fleet.upstream(name);
    if heard.status == 429 {
        state.looks().refused(app.clock.now(), heard.retry_after);
    }
    if dialects_of_listing(&heard).is_empty() {
        return Err(failed(match heard.status {
            404 | 405 => "the server has no listing".to_owned(),
            429 => "the server is asked too often (429); it is looked at again later".to_owned(),
            status => format!("the listing is answered with {status}"),
        }));
    }
    state.looks().taken();
    let api = Found { address: upstream.address.clone(), dialect: upstream.dialect, lists: Lists::Openly };
    let peer = peer.quietly(Some(quiet));
    Ok(look::read(&peer, &api, &heard, credential.as_ref(), &upstream.auth).await)
}
