//! What requests are served by: the revision in force, keys, rates and credentials, immutable and replaced whole. A request pins
//! the one it began with.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::key::{AppKey, KeyHash};
use wendor_core::catalog::team::Team;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::held::Guarded;
use wendor_core::metering::rate::RateCard;
use wendor_core::name::Name;
use wendor_core::quota::{Quota, QuotaId};
use wendor_store::{Store, StoreError};
use wendor_wire::seal::SealDomain;

use crate::credentials::{Credential, Kept, Keyring};
use crate::data_plane::outlet::Outlet;
use crate::hosts::Hosts;
use crate::identity::Identity;

/// One state of everything that requests are served by.
#[derive(Clone, Debug, Default)]
pub struct Snapshot {
    /// Value of the change counter when it was read.
    pub change: i64,
    /// The same of its keys, which may be newer than the rest.
    pub keys_change: i64,
    /// Number of the revision; 0 before the first.
    pub revision: i64,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// Upstreams, routes, teams.
    pub catalogue: Catalogue,
    /// Keys by their hash, revoked ones too, so that they are told apart.
    pub keys: HashMap<KeyHash, Arc<AppKey>>,
    /// The rate card.
    pub rates: RateCard,
    credentials: HashMap<Name, Credential>,
    /// Or why nothing can be sent there.
    outlets: HashMap<Name, Result<Outlet, String>>,
    /// With the credential that another has just taken the place of, and until when that may be used.
    previous_outlets: HashMap<Name, (Outlet, DateTime<Utc>)>,
    seals: HashMap<Name, SealDomain>,
    /// By which Wendor says who it is.
    identities: HashMap<Name, Identity>,
    /// What must not leave in a body.
    pub guarded: Guarded,
    /// In the order of each team's quotas.
    quota_ids: HashMap<Name, Vec<QuotaId>>,
}

impl Snapshot {
    /// Reads the state in force at `now`.
    ///
    /// # Errors
    /// When the database is away or holds something unreadable.
    pub async fn read(store: &Store, keyring: &Keyring, hosts: &Hosts, now: DateTime<Utc>) -> Result<Self, StoreError> {
        // The counter first: a change while the rest is read makes it read again.
        let change = store.change_counter().await?;
        let current = store.current_revision().await?;
        let keys = keys(store).await?;
        let rates = store.rate_card().await?;
        let (revision, made_at, catalogue) = match current {
            Some((revision, catalogue)) => (revision.number, revision.made_at, catalogue),
            None => (0, DateTime::UNIX_EPOCH, Catalogue::default()),
        };
        let kept = Kept::read(store, keyring, &catalogue).await?;
        let credentials: HashMap<Name, Credential> = catalogue
            .upstreams
            .iter()
            .map(|(name, upstream)| (name.clone(), kept.find(Some(name), upstream)))
            .collect();
        let mut outlets = HashMap::new();
        let mut identities = HashMap::new();
        for (name, upstream) in &catalogue.upstreams {
            let identity = keyring.identity(upstream);
            let credential = credentials.get(name).unwrap_or(&Credential::None);
            let outlet = identity.as_ref().map_err(String::clone).and_then(|_| outlet_of(upstream, credential, hosts));
            outlets.insert(name.clone(), outlet);
            identities.extend(identity.ok().flatten().map(|identity| (name.clone(), identity)));
        }
        let previous = |(name, upstream): (&Name, &Upstream)| {
            let (previous, until) = kept.previous(name, upstream, now)?;
            Some((name.clone(), (outlet_of(upstream, &Credential::Found(previous), hosts).ok()?, until)))
        };
        let previous_outlets = catalogue.upstreams.iter().filter_map(previous).collect();
        let seals = seals(&catalogue);
        let guarded = guarded(&credentials);
        let quota_ids = quota_ids(&catalogue);
        Ok(Self {
            change,
            keys_change: change,
            revision,
            made_at,
            catalogue,
            keys,
            rates,
            credentials,
            outlets,
            previous_outlets,
            seals,
            identities,
            guarded,
            quota_ids,
        })
    }

    /// The same with the keys as they are at `change`: whatever becomes of the rest, a revoked key opens nothing.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn with_keys(&self, store: &Store, change: i64) -> Result<Self, StoreError> {
        Ok(Self { keys: keys(store).await?, keys_change: change, ..self.clone() })
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
        self.previous_outlets.get(upstream).filter(|(_, until)| *until > now).map(|(outlet, _)| outlet)
    }

    /// Whose seals an upstream makes and recognises.
    #[must_use]
    pub fn seals(&self, upstream: &Name) -> SealDomain {
        self.seals.get(upstream).cloned().unwrap_or_else(SealDomain::unmarked)
    }

    /// By which Wendor says who it is to an upstream that wants to know.
    #[must_use]
    pub fn identity(&self, upstream: &Name) -> Option<&Identity> {
        self.identities.get(upstream)
    }

    /// The credential of an upstream.
    #[must_use]
    pub fn credential(&self, upstream: &Name) -> &Credential {
        self.credentials.get(upstream).unwrap_or(&Credential::None)
    }

    /// Where requests to an upstream go, or why none can.
    #[must_use]
    pub fn outlet(&self, upstream: &Name) -> Option<&Result<Outlet, String>> {
        self.outlets.get(upstream)
    }
}

async fn keys(store: &Store) -> Result<HashMap<KeyHash, Arc<AppKey>>, StoreError> {
    Ok(store.keys().await?.into_iter().map(|stored| (stored.hash, Arc::new(stored.key))).collect())
}

fn seals(catalogue: &Catalogue) -> HashMap<Name, SealDomain> {
    let domain = |(name, upstream): (&Name, &Upstream)| {
        (name.clone(), SealDomain::named(upstream.seals.as_deref().unwrap_or(name.as_str())))
    };
    catalogue.upstreams.iter().map(domain).collect()
}

fn quota_ids(catalogue: &Catalogue) -> HashMap<Name, Vec<QuotaId>> {
    let ids = |(name, team): (&Name, &Team)| {
        (name.clone(), team.quotas.iter().map(|quota| QuotaId::of_team(name, quota)).collect())
    };
    catalogue.teams.iter().map(ids).collect()
}

/// What must not leave in a body.
fn guarded(credentials: &HashMap<Name, Credential>) -> Guarded {
    Guarded::of(credentials.iter().filter_map(|(name, credential)| match credential {
        Credential::Found(secret) => Some((name, secret)),
        Credential::None | Credential::Missing(_) => None,
    }))
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
