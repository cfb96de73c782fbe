//! What requests are served by: the revision in force, keys, rates and credentials, immutable and replaced whole. A request pins
//! the one it began with.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use actix_web::http::header::HeaderValue;
use chrono::{DateTime, Utc};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::former::Former;
use wendor_core::catalog::guard::Guard;
use wendor_core::catalog::key::{AppKey, KeyHash};
use wendor_core::catalog::team::{Access, Team};
use wendor_core::catalog::upstream::Upstream;
use wendor_core::held::Guarded;
use wendor_core::metering::rate::RateCard;
use wendor_core::name::Name;
use wendor_core::quota::{Quota, QuotaId};
use wendor_core::secret::Secret;
use wendor_store::keys::StoredKey;
use wendor_store::{Changes, Store, StoreError};
use wendor_wire::seal::SealDomain;

use crate::credentials::{Credential, Kept, Keyring};
use crate::data_plane::outlet::Outlet;
use crate::hosts::Hosts;
use crate::identity::Identity;
use crate::keys::Keys;

/// One state of everything that requests are served by.
#[derive(Clone, Debug, Default)]
pub struct Snapshot {
    /// Changes up to which it was read.
    pub changes: Changes,
    /// The same of its keys, which may be newer than the rest.
    pub keys_changes: Changes,
    /// Number of the revision; 0 before the first.
    pub revision: i64,
    /// The same as answers tell it, made once it is told.
    revision_told: OnceLock<HeaderValue>,
    /// By this instance's clock.
    pub made_at: DateTime<Utc>,
    /// Bounds with which the revision undoes itself.
    pub guard: Option<Guard>,
    /// The revision that this one undid by itself, and why.
    pub undid: Option<(i64, String)>,
    /// Upstreams, routes, teams.
    pub catalogue: Arc<Catalogue>,
    /// Keys.
    pub keys: Keys,
    /// The rate card.
    pub rates: Arc<RateCard>,
    /// How each upstream of the catalogue is reached.
    ways: Arc<HashMap<Name, Way>>,
    /// What must not leave in a body.
    pub guarded: Arc<Guarded>,
    /// Upstreams whose kept credential no secret of the service opens.
    pub locked: Vec<Name>,
    /// Names that things had.
    pub former: Arc<Former>,
    /// In the order of each team's quotas.
    quota_ids: Arc<HashMap<Name, Vec<QuotaId>>>,
}

/// How an upstream is reached.
#[derive(Clone, Debug)]
struct Way {
    credential: Credential,
    /// Or why nothing can be sent there.
    outlet: Result<Outlet, String>,
    /// With the credential that another has just taken the place of, and until when that may be used.
    previous: Option<(Outlet, DateTime<Utc>)>,
    /// Whose seals it makes and recognises.
    seals: SealDomain,
    /// By which Wendor says who it is.
    identity: Option<Identity>,
}

impl Snapshot {
    /// Reads the state in force at `now`.
    ///
    /// # Errors
    /// When the database is away or holds something unreadable.
    pub async fn read(store: &Store, keyring: &Keyring, hosts: &Hosts, now: DateTime<Utc>) -> Result<Self, StoreError> {
        // The counter first: a change while the rest is read makes it read again.
        let changes = store.changes().await?;
        let current = store.current_revision().await?;
        let stored_keys = store.keys().await?;
        let rates = store.rate_card().await?;
        let (in_force, catalogue) = current.unzip();
        let catalogue = catalogue.unwrap_or_default();
        let (revision, made_at) = in_force.as_ref().map_or((0, DateTime::UNIX_EPOCH), |of| (of.number, of.made_at));
        let (guard, undid) = in_force.map_or((None, None), |of| (of.guard, of.undid));
        let keys = Keys::of(named(stored_keys, &catalogue));
        let former = Arc::new(Former::of(&catalogue));
        let kept = Kept::read(store, keyring, &catalogue).await?;
        let way = |(name, upstream): (&Name, &Upstream)| {
            let credential = kept.find(Some(name), upstream);
            let previous = kept.previous(name, upstream, now);
            (name.clone(), Way::of(name, upstream, Sent { credential, previous, keyring, hosts }))
        };
        let ways: HashMap<Name, Way> = catalogue.upstreams.iter().map(way).collect();
        let guarded = Arc::new(guarded(&ways));
        let quota_ids = Arc::new(quota_ids(&catalogue));
        let locked = kept.locked(&catalogue);
        let (catalogue, rates, ways) = (Arc::new(catalogue), Arc::new(rates), Arc::new(ways));
        Ok(Self {
            changes,
            keys_changes: changes,
            revision,
            revision_told: OnceLock::new(),
            made_at,
            guard,
            undid,
            catalogue,
            keys,
            rates,
            ways,
            locked,
            guarded,
            former,
            quota_ids,
        })
    }

    /// The same with the keys as they are after those `changes`, of which all since the last were of keys.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn with_changed_keys(&self, store: &Store, changes: Changes) -> Result<Self, StoreError> {
        let changed = store.keys_changed_after(self.keys_changes.all).await?;
        let keys = self.keys.with(named(changed, &self.catalogue));
        Ok(Self { keys, changes, keys_changes: changes, ..self.clone() })
    }

    /// The same with all keys as they are after those `changes`: whatever becomes of the rest, a revoked key opens nothing.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn with_keys(&self, store: &Store, changes: Changes) -> Result<Self, StoreError> {
        let keys = Keys::of(named(store.keys().await?, &self.catalogue));
        Ok(Self { keys, keys_changes: changes, ..self.clone() })
    }

    /// The number of the revision, as answers tell it.
    #[must_use]
    pub fn revision_told(&self) -> HeaderValue {
        self.revision_told.get_or_init(|| HeaderValue::from(self.revision)).clone()
    }

    /// The quotas of a team with their ids.
    pub fn quotas(&self, team: &Name) -> impl Iterator<Item = (&QuotaId, &Quota)> {
        let quotas = self.catalogue.teams.get(team).map_or(&[][..], |team| &team.quotas);
        let ids = self.quota_ids.get(team).map_or(&[][..], Vec::as_slice);
        ids.iter().zip(quotas)
    }

    /// Where requests go with the credential that another has taken the place of, while that may still be used.
    #[must_use]
    pub fn previous_outlet(&self, upstream: &Name, now: DateTime<Utc>) -> Option<&Outlet> {
        let previous = self.ways.get(upstream)?.previous.as_ref();
        previous.filter(|(_, until)| *until > now).map(|(outlet, _)| outlet)
    }

    /// Whose seals an upstream makes and recognises.
    #[must_use]
    pub fn seals(&self, upstream: &Name) -> SealDomain {
        self.ways.get(upstream).map_or_else(SealDomain::unmarked, |way| way.seals.clone())
    }

    /// By which Wendor says who it is to an upstream that wants to know.
    #[must_use]
    pub fn identity(&self, upstream: &Name) -> Option<&Identity> {
        self.ways.get(upstream)?.identity.as_ref()
    }

    /// The credential of an upstream.
    #[must_use]
    pub fn credential(&self, upstream: &Name) -> &Credential {
        self.ways.get(upstream).map_or(&Credential::None, |way| &way.credential)
    }

    /// Where requests to an upstream go, or why none can.
    #[must_use]
    pub fn outlet(&self, upstream: &Name) -> Option<&Result<Outlet, String>> {
        self.ways.get(upstream).map(|way| &way.outlet)
    }
}

fn named(stored: Vec<StoredKey>, catalogue: &Catalogue) -> impl Iterator<Item = (KeyHash, AppKey)> {
    stored.into_iter().map(|stored| (stored.hash, named_as_now(stored.key, catalogue)))
}

/// The key with the names that its team and its routes have now: it was issued under those of its day.
#[must_use]
pub fn named_as_now(key: AppKey, catalogue: &Catalogue) -> AppKey {
    let team = catalogue.team_name(key.team.as_str()).cloned().unwrap_or(key.team);
    let access = match key.access {
        Access::AllRoutes => Access::AllRoutes,
        Access::Only(routes) => {
            let now = |route: Name| catalogue.route_name(route.as_str()).cloned().unwrap_or(route);
            Access::Only(routes.into_iter().map(now).collect())
        }
    };
    AppKey { team, access, ..key }
}

fn quota_ids(catalogue: &Catalogue) -> HashMap<Name, Vec<QuotaId>> {
    let ids = |(name, team): (&Name, &Team)| {
        (name.clone(), team.quotas.iter().map(|quota| QuotaId::of_team(team.counted_as(name), quota)).collect())
    };
    catalogue.teams.iter().map(ids).collect()
}

/// What must not leave in a body.
fn guarded(ways: &HashMap<Name, Way>) -> Guarded {
    Guarded::of(ways.iter().filter_map(|(name, way)| match &way.credential {
        Credential::Found(secret) => Some((name, secret)),
        Credential::None | Credential::Missing(_) => None,
    }))
}

/// What is sent to an upstream, and where from it is found.
struct Sent<'a> {
    credential: Credential,
    /// The one whose place it has taken, and until when that may be used.
    previous: Option<(Secret, DateTime<Utc>)>,
    keyring: &'a Keyring,
    hosts: &'a Hosts,
}

impl Way {
    fn of(name: &Name, upstream: &Upstream, sent: Sent<'_>) -> Self {
        let Sent { credential, previous, keyring, hosts } = sent;
        let identity = keyring.identity(upstream);
        let outlet = identity.as_ref().map_err(String::clone).and_then(|_| outlet_of(upstream, &credential, hosts));
        let previous = previous.and_then(|(previous, until)| {
            Some((outlet_of(upstream, &Credential::Found(previous), hosts).ok()?, until))
        });
        let seals = SealDomain::named(upstream.seals.as_deref().unwrap_or(name.as_str()));
        Self { credential, outlet, previous, seals, identity: identity.ok().flatten() }
    }
}

fn outlet_of(upstream: &Upstream, credential: &Credential, hosts: &Hosts) -> Result<Outlet, String> {
    // Names are looked up at connect time.
    if let Some(why) = hosts.refuses(upstream.address.host()) {
        return Err(format!(
            "nothing is sent to {}, {why}; the setting `reach` allows ranges",
            upstream.address.host()
        ));
    }
    let credential = match credential {
        Credential::None => None,
        Credential::Found(_) if upstream.exposes_credential() => {
            return Err(
                "our credential would cross a network unencrypted: use https, or allow it (`plain_http`)".to_owned()
            );
        }
        Credential::Found(secret) => Some(secret),
        Credential::Missing(why) => return Err(why.clone()),
    };
    Outlet::prepare(upstream, credential).map_err(|error| error.to_string())
}
