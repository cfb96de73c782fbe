//! What requests are served by: the revision in force, keys, rates and credentials, immutable and replaced whole. A request pins
//! the one it began with.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::key::{AppKey, KeyHash};
use wendor_core::catalog::team::Team;
use wendor_core::catalog::upstream::{CredentialSource, Upstream};
use wendor_core::diagnosis::seen::CredentialSeen;
use wendor_core::diagnosis::settings;
use wendor_core::metering::rate::RateCard;
use wendor_core::name::Name;
use wendor_core::quota::{Quota, QuotaId};
use wendor_core::secret::Secret;
use wendor_core::wire::seal::SealDomain;
use wendor_store::{Store, StoreError};

use crate::data_plane::outlet::Outlet;
use crate::vault::Vault;

/// An upstream's credential as it was found.
#[derive(Clone, Debug)]
pub enum Credential {
    /// None is sent.
    None,
    /// This one is sent.
    Found(Secret),
    /// It should be there and is not; why.
    Missing(String),
}

/// One state of everything that requests are served by.
#[derive(Debug, Default)]
pub struct Snapshot {
    /// Value of the change counter when it was read.
    pub change: i64,
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
    /// In the order of each team's quotas.
    quota_ids: HashMap<Name, Vec<QuotaId>>,
}

impl Snapshot {
    /// Reads the state in force at `now`.
    ///
    /// # Errors
    /// When the database is away or holds something unreadable.
    pub async fn read(store: &Store, vault: &Vault, now: DateTime<Utc>) -> Result<Self, StoreError> {
        // The counter first: a change while the rest is read makes it read again.
        let change = store.change_counter().await?;
        let current = store.current_revision().await?;
        let keys = store.keys().await?.into_iter().map(|stored| (stored.hash, Arc::new(stored.key))).collect();
        let rates = store.rate_card().await?;
        let (revision, made_at, catalogue) = match current {
            Some((revision, catalogue)) => (revision.number, revision.made_at, catalogue),
            None => (0, DateTime::UNIX_EPOCH, Catalogue::default()),
        };
        let kept = Kept::read(store, vault, &catalogue).await?;
        let credentials: HashMap<Name, Credential> =
            catalogue.upstreams.iter().map(|(name, upstream)| (name.clone(), kept.find(upstream))).collect();
        let outlet = |(name, credential): (&Name, &Credential)| {
            Some((name.clone(), outlet_of(catalogue.upstreams.get(name)?, credential)))
        };
        let outlets = credentials.iter().filter_map(outlet).collect();
        let previous = |(name, upstream): (&Name, &Upstream)| {
            let (previous, until) = kept.previous(upstream, now)?;
            Some((name.clone(), (outlet_of(upstream, &Credential::Found(previous)).ok()?, until)))
        };
        let previous_outlets = catalogue.upstreams.iter().filter_map(previous).collect();
        let domain = |(name, upstream): (&Name, &Upstream)| {
            (name.clone(), SealDomain::named(upstream.seals.as_deref().unwrap_or(name.as_str())))
        };
        let seals = catalogue.upstreams.iter().map(domain).collect();
        let ids = |(name, team): (&Name, &Team)| {
            (name.clone(), team.quotas.iter().map(|quota| QuotaId::of_team(name, quota)).collect())
        };
        let quota_ids = catalogue.teams.iter().map(ids).collect();
        Ok(Self {
            change,
            revision,
            made_at,
            catalogue,
            keys,
            rates,
            credentials,
            outlets,
            previous_outlets,
            seals,
            quota_ids,
        })
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

fn outlet_of(upstream: &Upstream, credential: &Credential) -> Result<Outlet, String> {
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

/// Credentials that Wendor keeps, opened.
#[derive(Debug, Default)]
pub struct Kept {
    opened: HashMap<String, Result<Secret, String>>,
    followed: HashMap<String, (String, Option<DateTime<Utc>>)>,
}

impl Kept {
    /// Those that the catalogue refers to, and those whose place they took.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn read(store: &Store, vault: &Vault, catalogue: &Catalogue) -> Result<Self, StoreError> {
        let mut kept = Self::default();
        let is_kept = |upstream: &Upstream| matches!(upstream.credential, Some(CredentialSource::Kept(_)));
        if !catalogue.upstreams.values().any(is_kept) {
            return Ok(kept);
        }
        let rows = store.kept_credentials().await?;
        for row in &rows {
            let before = row.replaces.as_ref().and_then(|id| rows.iter().find(|other| other.id == *id));
            if let Some(before) = before {
                kept.followed.insert(row.id.clone(), (before.id.clone(), before.usable_until));
            }
            let text = match &row.sealed {
                Some(sealed) => vault.open(&row.id, sealed).map_err(|error| error.to_string()),
                None => Err("was erased after another took its place".to_owned()),
            };
            kept.opened.insert(row.id.clone(), text);
        }
        Ok(kept)
    }

    /// The text that a source leads to, as it stands there.
    fn text(&self, source: &CredentialSource) -> Result<Secret, String> {
        match source {
            CredentialSource::Env(name) => std::env::var(name).map(Secret::new).map_err(|_| "is not set".to_owned()),
            CredentialSource::File(path) => {
                std::fs::read_to_string(path).map(Secret::new).map_err(|error| error.to_string())
            }
            CredentialSource::Kept(id) => {
                self.opened.get(id).cloned().unwrap_or_else(|| Err("is not kept here".to_owned()))
            }
        }
    }

    /// An upstream's credential as requests need it.
    #[must_use]
    pub fn find(&self, upstream: &Upstream) -> Credential {
        let Some(source) = &upstream.credential else { return Credential::None };
        let text = self.text(source).and_then(|text| match text.expose().trim() {
            "" => Err("is empty".to_owned()),
            text if !text.bytes().all(|byte| byte.is_ascii_graphic()) => {
                Err("holds a character that no credential has".to_owned())
            }
            text => Ok(Secret::new(text)),
        });
        match text {
            Ok(text) => Credential::Found(text),
            Err(why) => Credential::Missing(format!("our credential is missing: {} {why}", source.place())),
        }
    }

    /// The same as a check looks at it.
    #[must_use]
    pub fn seen(&self, upstream: &Upstream) -> CredentialSeen {
        let Some(source) = &upstream.credential else { return CredentialSeen::None };
        let place = source.place();
        match self.text(source) {
            Err(why) => CredentialSeen::Missing(format!("{place} {why}")),
            Ok(text) if text.expose().trim().is_empty() => CredentialSeen::Missing(format!("{place} is empty")),
            Ok(text) => CredentialSeen::There { place, oddity: settings::oddity(text.expose()) },
        }
    }

    /// The credential that the present one has taken the place of, and until when it may be used, while it may.
    fn previous(&self, upstream: &Upstream, now: DateTime<Utc>) -> Option<(Secret, DateTime<Utc>)> {
        let Some(CredentialSource::Kept(id)) = &upstream.credential else { return None };
        let (before, until) = self.followed.get(id)?;
        let until = until.filter(|until| *until > now)?;
        Some((self.opened.get(before)?.clone().ok()?, until))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::catalog::upstream::{Address, Dialect, Hosting};

    fn upstream(credential: Option<CredentialSource>) -> Upstream {
        let address = Address::parse("http://quarry.example").unwrap();
        Upstream { credential, ..Upstream::at(address, Dialect::ChatCompletions, Hosting::Hosted) }
    }

    #[rstest]
    #[case::plain("s3cret", Some("s3cret"), "")]
    #[case::with_a_newline("s3cret\n", Some("s3cret"), "")]
    #[case::empty(" \n", None, "is empty")]
    #[case::two_lines("one\ntwo", None, "holds a character that no credential has")]
    fn a_credential_in_a_file(#[case] text: &str, #[case] found: Option<&str>, #[case] why: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("credential");
        std::fs::write(&path, text).unwrap();
        let source = CredentialSource::File(path.to_str().unwrap().to_owned());
        match (Kept::default().find(&upstream(Some(source))), found) {
            (Credential::Found(secret), Some(expected)) => assert_eq!(secret.expose(), expected),
            (Credential::Missing(told), None) => {
                assert!(told.contains(why) && !told.contains("two"), "{told}");
            }
            (other, _) => panic!("{other:?}"),
        }
    }

    #[test]
    fn one_that_is_not_there_says_where_it_was_looked_for() {
        let missing = |source| match Kept::default().find(&upstream(Some(source))) {
            Credential::Missing(why) => why,
            other @ (Credential::None | Credential::Found(_)) => panic!("{other:?}"),
        };
        assert!(
            missing(CredentialSource::Env("WENDOR_TEST_NO_SUCH_VARIABLE".into()))
                .contains("WENDOR_TEST_NO_SUCH_VARIABLE is not set")
        );
        assert!(missing(CredentialSource::File("/nowhere/credential".into())).contains("the file /nowhere/credential"));
        assert!(matches!(Kept::default().find(&upstream(None)), Credential::None));
    }
}
