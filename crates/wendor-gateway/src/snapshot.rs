//! What requests are served by: the revision in force, keys, rates and credentials, immutable and replaced whole. A request pins
//! the one it began with.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::key::{AppKey, KeyHash};
use wendor_core::catalog::upstream::{CredentialSource, Upstream};
use wendor_core::metering::rate::RateCard;
use wendor_core::name::Name;
use wendor_core::secret::Secret;
use wendor_core::wire::seal::SealDomain;
use wendor_store::{Store, StoreError};

use crate::data_plane::outlet::Outlet;

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
    seals: HashMap<Name, SealDomain>,
}

impl Snapshot {
    /// Reads the state in force.
    ///
    /// # Errors
    /// When the database is away or holds something unreadable.
    pub async fn read(store: &Store) -> Result<Self, StoreError> {
        // The counter first: a change while the rest is read makes it read again.
        let change = store.change_counter().await?;
        let current = store.current_revision().await?;
        let keys = store.keys().await?.into_iter().map(|stored| (stored.hash, Arc::new(stored.key))).collect();
        let rates = store.rate_card().await?;
        let (revision, made_at, catalogue) = match current {
            Some((revision, catalogue)) => (revision.number, revision.made_at, catalogue),
            None => (0, DateTime::UNIX_EPOCH, Catalogue::default()),
        };
        let credentials: HashMap<Name, Credential> =
            catalogue.upstreams.iter().map(|(name, upstream)| (name.clone(), find(upstream))).collect();
        let outlet = |(name, credential): (&Name, &Credential)| {
            Some((name.clone(), outlet_of(catalogue.upstreams.get(name)?, credential)))
        };
        let outlets = credentials.iter().filter_map(outlet).collect();
        let domain = |(name, upstream): (&Name, &Upstream)| {
            (name.clone(), SealDomain::named(upstream.seals.as_deref().unwrap_or(name.as_str())))
        };
        let seals = catalogue.upstreams.iter().map(domain).collect();
        Ok(Self { change, revision, made_at, catalogue, keys, rates, credentials, outlets, seals })
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
        Credential::Found(secret) => Some(secret),
        Credential::Missing(why) => return Err(why.clone()),
    };
    Outlet::prepare(upstream, credential).map_err(|error| error.to_string())
}

fn find(upstream: &Upstream) -> Credential {
    let (text, where_from) = match &upstream.credential {
        None => return Credential::None,
        Some(CredentialSource::Env(name)) => {
            (std::env::var(name).map_err(|_| "is not set".to_owned()), format!("the service's variable {name}"))
        }
        Some(CredentialSource::File(path)) => {
            (std::fs::read_to_string(path).map_err(|error| error.to_string()), format!("the file {path}"))
        }
    };
    let text = text.map(|text| text.trim().to_owned()).and_then(|text| match text.as_str() {
        "" => Err("is empty".to_owned()),
        _ if !text.bytes().all(|byte| byte.is_ascii_graphic()) => {
            Err("holds a character that no credential has".to_owned())
        }
        _ => Ok(text),
    });
    match text {
        Ok(text) => Credential::Found(Secret::new(text)),
        Err(why) => Credential::Missing(format!("our credential is missing: {where_from} {why}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::catalog::upstream::{Address, Auth, Dialect, Hosting};

    fn upstream(credential: Option<CredentialSource>) -> Upstream {
        Upstream {
            address: Address::parse("http://quarry.example").unwrap(),
            dialect: Dialect::ChatCompletions,
            hosting: Hosting::Hosted,
            place: None,
            streams: None,
            credential,
            auth: Auth::Bearer,
            headers: Default::default(),
            seals: None,
            offers: Default::default(),
        }
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
        match (find(&upstream(Some(source))), found) {
            (Credential::Found(secret), Some(expected)) => assert_eq!(secret.expose(), expected),
            (Credential::Missing(told), None) => {
                assert!(told.contains(why) && !told.contains("two"), "{told}");
            }
            (other, _) => panic!("{other:?}"),
        }
    }

    #[test]
    fn one_that_is_not_there_says_where_it_was_looked_for() {
        let missing = |source| match find(&upstream(Some(source))) {
            Credential::Missing(why) => why,
            other @ (Credential::None | Credential::Found(_)) => panic!("{other:?}"),
        };
        assert!(
            missing(CredentialSource::Env("WENDOR_TEST_NO_SUCH_VARIABLE".into()))
                .contains("WENDOR_TEST_NO_SUCH_VARIABLE is not set")
        );
        assert!(missing(CredentialSource::File("/nowhere/credential".into())).contains("the file /nowhere/credential"));
        assert!(matches!(find(&upstream(None)), Credential::None));
    }
}
