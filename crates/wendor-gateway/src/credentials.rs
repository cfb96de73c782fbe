//! Upstreams' credentials: where the service finds them, those that it keeps among them.
//!
//! A catalogue can name variables `WENDOR_UPSTREAM_*`, files of one folder (`credentials`), and kept credentials, of which each is bound to
//! the upstream and the host that it was given for. Nothing else of the service can be reached by naming it.

use std::collections::HashMap;
use std::path::PathBuf;

use chrono::{DateTime, Utc};
use rand::RngExt;
use wendor_core::audit::Doer;
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::upstream::{BASIC, CredentialSource, Upstream};
use wendor_core::catalog::webhook::{SHORTEST_SECRET, Webhook};
use wendor_core::diagnosis::seen::CredentialSeen;
use wendor_core::diagnosis::settings;
use wendor_core::name::Name;
use wendor_core::secret::Secret;
use wendor_store::credentials::{KeptCredential, Resealed};
use wendor_store::{Store, StoreError};

use crate::identity::Identity;
use crate::settings::Settings;
use crate::vault::{Bound, Vault};

/// Kept anew in one go; a call that asks for more is made again.
const AT_ONCE: usize = 100;

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

/// What credentials are found by.
#[derive(Debug)]
pub struct Keyring {
    /// Encrypts those that are kept.
    pub vault: Vault,
    /// The folder of files that hold some.
    pub folder: Option<PathBuf>,
}

impl Keyring {
    /// What the settings say.
    #[must_use]
    pub fn of(settings: &Settings) -> Self {
        let vault = Vault::of(settings.secret.as_ref(), settings.secret_before.as_ref());
        Self { vault, folder: settings.credentials.clone() }
    }

    /// What a webhook's messages are signed with.
    ///
    /// # Errors
    /// Why it is not found, or will not do.
    pub fn webhook_secret(&self, webhook: &Webhook) -> Result<Secret, String> {
        let text = match &webhook.secret {
            CredentialSource::Env(name) => {
                Webhook::secret_in(name).map_err(|why| format!("is not read: {why}"))?;
                std::env::var(name).map(Secret::new).map_err(|_| "is not set".to_owned())
            }
            CredentialSource::File(path) => self.file(path),
            CredentialSource::Kept(_) => Err("cannot be kept for a webhook".to_owned()),
        };
        let place = webhook.secret.place();
        let text = text.map_err(|why| format!("its secret is missing: {place} {why}"))?;
        match text.expose().trim() {
            secret if secret.len() < SHORTEST_SECRET => {
                Err(format!("its secret is too short: {place} must hold {SHORTEST_SECRET} characters or more"))
            }
            secret => Ok(Secret::new(secret)),
        }
    }

    /// The certificate by which Wendor says who it is to an upstream, if that wants one.
    ///
    /// # Errors
    /// Why it is not found.
    pub fn identity(&self, upstream: &Upstream) -> Result<Option<Identity>, String> {
        let Some(path) = &upstream.client_certificate else { return Ok(None) };
        let read = self.file(path).and_then(|text| Identity::read(text.expose()));
        read.map(Some).map_err(|why| format!("the client certificate in the file {path} {why}"))
    }

    /// The text of a file of the folder. Where it leads counts: a link out of the folder is not one of it.
    fn file(&self, path: &str) -> Result<Secret, String> {
        let folder =
            self.folder.as_ref().ok_or("is not read: the service has no folder of credentials (`credentials`)")?;
        let in_words = |error: std::io::Error| error.to_string();
        let folder =
            folder.canonicalize().map_err(|error| format!("is not read: the folder `credentials`: {error}"))?;
        let real_path = folder.join(path).canonicalize().map_err(in_words)?;
        if !real_path.starts_with(&folder) {
            return Err("is not read: it lies outside of the folder that `credentials` names".to_owned());
        }
        std::fs::read_to_string(real_path).map(Secret::new).map_err(in_words)
    }
}

/// A kept credential, opened.
#[derive(Debug)]
struct Opened {
    upstream: String,
    host: Option<String>,
    text: Result<Secret, String>,
    /// Whether no secret of the service opens it.
    is_locked: bool,
}

/// Credentials as they were found for one state of the catalogue.
#[derive(Debug)]
pub struct Kept<'k> {
    keyring: &'k Keyring,
    opened: HashMap<String, Opened>,
    followed: HashMap<String, (String, Option<DateTime<Utc>>)>,
}

impl<'k> Kept<'k> {
    /// None that Wendor keeps.
    #[must_use]
    pub fn none(keyring: &'k Keyring) -> Self {
        Self { keyring, opened: HashMap::new(), followed: HashMap::new() }
    }

    /// Those that the catalogue refers to, and those whose place they took.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn read(store: &Store, keyring: &'k Keyring, catalogue: &Catalogue) -> Result<Self, StoreError> {
        let mut kept = Self::none(keyring);
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
            kept.opened.insert(row.id.clone(), opened(row, &keyring.vault));
        }
        Ok(kept)
    }

    /// The text that a source leads to for that upstream, as it stands there. What is not in the catalogue yet has no name.
    fn text(&self, name: Option<&Name>, upstream: &Upstream, source: &CredentialSource) -> Result<Secret, String> {
        match source {
            CredentialSource::Env(name) => {
                CredentialSource::env(name).map_err(|why| format!("is not read: {why}"))?;
                std::env::var(name).map(Secret::new).map_err(|_| "is not set".to_owned())
            }
            CredentialSource::File(path) => self.keyring.file(path),
            CredentialSource::Kept(id) => {
                let opened = self.opened.get(id).ok_or("is not kept here")?;
                opened.of(name, upstream)
            }
        }
    }

    /// An upstream's credential as requests need it.
    #[must_use]
    pub fn find(&self, name: Option<&Name>, upstream: &Upstream) -> Credential {
        let Some(source) = &upstream.credential else { return Credential::None };
        let text = self.text(name, upstream, source).and_then(|text| match text.expose().trim() {
            "" => Err("is empty".to_owned()),
            text if !text.strip_prefix(BASIC).unwrap_or(text).bytes().all(|byte| byte.is_ascii_graphic()) => {
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
    pub fn seen(&self, name: Option<&Name>, upstream: &Upstream) -> CredentialSeen {
        let Some(source) = &upstream.credential else { return CredentialSeen::None };
        let place = source.place();
        match self.text(name, upstream, source) {
            Err(why) => CredentialSeen::Missing(format!("{place} {why}")),
            Ok(text) if text.expose().trim().is_empty() => CredentialSeen::Missing(format!("{place} is empty")),
            Ok(text) => CredentialSeen::There { place, oddity: settings::oddity(text.expose()) },
        }
    }

    /// Upstreams whose kept credential no secret of the service opens: they were kept under another one.
    #[must_use]
    pub fn locked(&self, catalogue: &Catalogue) -> Vec<Name> {
        let is_locked = |upstream: &Upstream| match &upstream.credential {
            Some(CredentialSource::Kept(id)) => self.opened.get(id).is_some_and(|opened| opened.is_locked),
            Some(CredentialSource::Env(_) | CredentialSource::File(_)) | None => false,
        };
        let upstreams = catalogue.upstreams.iter().filter(|(_, upstream)| is_locked(upstream));
        upstreams.map(|(name, _)| name.clone()).collect()
    }

    /// The credential that the present one has taken the place of, and until when it may be used, while it may.
    #[must_use]
    pub fn previous(&self, name: &Name, upstream: &Upstream, now: DateTime<Utc>) -> Option<(Secret, DateTime<Utc>)> {
        let Some(CredentialSource::Kept(id)) = &upstream.credential else { return None };
        let (before, until) = self.followed.get(id)?;
        let until = until.filter(|until| *until > now)?;
        Some((self.opened.get(before)?.of(Some(name), upstream).ok()?, until))
    }
}

fn opened(row: &KeptCredential, vault: &Vault) -> Opened {
    let text = match (&row.sealed, &row.host) {
        (None, _) => Err("was erased, since no upstream used it any more".to_owned()),
        (Some(_), None) => {
            Err("is of an older form that could not be kept anew at the service's start: set it again".to_owned())
        }
        (Some(sealed), Some(host)) => {
            let bound = Bound { id: &row.id, upstream: &row.upstream, host };
            vault.open(bound, sealed).map_err(|error| error.to_string())
        }
    };
    let is_locked = row.host.is_some() && row.sealed.is_some() && text.is_err();
    Opened { upstream: row.upstream.clone(), host: row.host.clone(), text, is_locked }
}

impl Opened {
    /// It goes to the upstream and the host that it was given for, and nowhere else. A draft has no name; for it the host counts.
    fn of(&self, name: Option<&Name>, upstream: &Upstream) -> Result<Secret, String> {
        let host = upstream.address.host();
        let bound = self.host.as_deref().unwrap_or_default();
        let is_for =
            name.is_none_or(|name| upstream.former.iter().chain([name]).any(|name| name.as_str() == self.upstream));
        match &self.text {
            Ok(_) if !is_for || !bound.eq_ignore_ascii_case(host) => {
                Err(format!("is for {} at {bound} and is not sent elsewhere: set the one for {host}", self.upstream))
            }
            text => text.clone(),
        }
    }
}

/// How far keeping everything under the secret in force has come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KeptAnew {
    /// Kept under it.
    pub done: u64,
    /// Not yet.
    pub left: u64,
    /// Neither secret opens these.
    pub unreadable: u64,
}

impl KeptAnew {
    /// Together with another.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self {
            done: self.done + other.done,
            left: self.left + other.left,
            unreadable: self.unreadable + other.unreadable,
        }
    }
}

/// Which credentials are kept anew.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// Those that are bound to no host yet.
    FirstForm,
    /// All that are not under the secret in force.
    All,
}

/// Keeps up to [`AT_ONCE`] credentials anew that are of the first form or under another secret; those of upstreams that are gone are erased.
/// Whoever calls it again goes on where it was left.
///
/// # Errors
/// When the database is away.
pub async fn keep_anew(
    store: &Store,
    vault: &Vault,
    catalogue: &Catalogue,
    which: Which,
    doer: &Doer,
) -> Result<KeptAnew, StoreError> {
    let mut came = KeptAnew::default();
    let Some(mark) = vault.mark() else { return Ok(came) };
    let mut written = 0;
    for row in store.kept_credentials().await? {
        let Some(sealed) = &row.sealed else { continue };
        if row.host.is_some() && (which == Which::FirstForm || row.kept_under.as_deref() == Some(mark)) {
            came.done += 1;
            continue;
        }
        let text = match &row.host {
            Some(host) => vault.open(Bound { id: &row.id, upstream: &row.upstream, host }, sealed),
            None => vault.open_first_form(&row.id, sealed),
        };
        let Ok(text) = text else {
            came.unreadable += 1;
            continue;
        };
        if written == AT_ONCE {
            came.left += 1;
            continue;
        }
        let now_at =
            || catalogue.upstreams.get(row.upstream.as_str()).map(|upstream| upstream.address.host().to_owned());
        let host = row.host.clone().or_else(now_at);
        let anew = host.as_deref().and_then(|host| {
            let bound = Bound { id: &row.id, upstream: &row.upstream, host };
            Some(Resealed { sealed: vault.seal(bound, &text, rand::rng().random()).ok()?, host, kept_under: mark })
        });
        store.reseal_credential(&row.id, sealed, anew, doer).await?;
        (came.done, written) = (came.done + 1, written + 1);
    }
    Ok(came)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::catalog::upstream::{Address, Hosting};
    use wendor_wire::dialect::Dialect;

    fn upstream(credential: Option<CredentialSource>) -> Upstream {
        let address = Address::parse("http://quarry.example").unwrap();
        Upstream { credential, ..Upstream::at(address, Dialect::ChatCompletions, Hosting::Hosted) }
    }

    fn keyring(folder: Option<&std::path::Path>) -> Keyring {
        Keyring { vault: Vault::of(None, None), folder: folder.map(PathBuf::from) }
    }

    fn found(keyring: &Keyring, source: CredentialSource) -> Result<String, String> {
        match Kept::none(keyring).find(None, &upstream(Some(source))) {
            Credential::Found(secret) => Ok(secret.expose().to_owned()),
            Credential::Missing(why) => Err(why),
            Credential::None => panic!("one is named"),
        }
    }

    #[rstest]
    #[case::plain("s3cret", Ok("s3cret"))]
    #[case::with_a_newline("s3cret\n", Ok("s3cret"))]
    #[case::empty(" \n", Err("is empty"))]
    #[case::two_lines("one\ntwo", Err("holds a character that no credential has"))]
    fn a_credential_in_a_file(#[case] text: &str, #[case] expected: Result<&str, &str>) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("quarry"), text).unwrap();
        let named = ["quarry".to_owned(), folder.path().join("quarry").to_str().unwrap().to_owned()];
        for path in named {
            match (found(&keyring(Some(folder.path())), CredentialSource::File(path)), expected) {
                (Ok(secret), Ok(expected)) => assert_eq!(secret, expected),
                (Err(told), Err(why)) => assert!(told.contains(why) && !told.contains("two"), "{told}"),
                (other, _) => panic!("{other:?}"),
            }
        }
    }

    #[test]
    fn nothing_but_credentials_can_be_named() {
        let outside = tempfile::tempdir().unwrap();
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(outside.path().join("secret"), "s3cret").unwrap();
        std::os::unix::fs::symlink(outside.path().join("secret"), folder.path().join("link")).unwrap();
        let refusal = |folder: Option<&std::path::Path>, source| found(&keyring(folder), source).unwrap_err();
        let file = |path: &str| CredentialSource::File(path.to_owned());
        let absolute = outside.path().join("secret").to_str().unwrap().to_owned();
        assert!(refusal(Some(folder.path()), file(&absolute)).contains("outside of the folder"));
        assert!(refusal(Some(folder.path()), file("link")).contains("outside of the folder"));
        assert!(refusal(None, file(&absolute)).contains("has no folder of credentials"));
        assert!(
            refusal(None, CredentialSource::Env("PATH".into())).contains("`PATH` is not a variable for a credential")
        );
        let variable = "WENDOR_UPSTREAM_NO_SUCH";
        assert!(refusal(None, CredentialSource::Env(variable.into())).contains("WENDOR_UPSTREAM_NO_SUCH is not set"));
        assert!(refusal(None, CredentialSource::Kept("crd-1".into())).contains("is not kept here"));
    }

    #[rstest]
    #[case::its_own(Some("quarry"), "quarry.example", true)]
    #[case::renamed(Some("pit"), "quarry.example", true)]
    #[case::a_draft_at_its_host(None, "QUARRY.example", true)]
    #[case::another_upstream(Some("farlight"), "quarry.example", false)]
    #[case::another_host(Some("quarry"), "gulls.example", false)]
    #[case::a_draft_elsewhere(None, "gulls.example", false)]
    fn a_kept_one_goes_where_it_was_given_for(#[case] name: Option<&str>, #[case] host: &str, #[case] goes: bool) {
        let opened = Opened {
            upstream: "quarry".into(),
            host: Some("quarry.example".into()),
            text: Ok(Secret::new("s3cret")),
            is_locked: false,
        };
        let name = name.map(|name| Name::parse(name).unwrap());
        let former = if name.as_ref().is_some_and(|name| name.as_str() == "pit") { "quarry" } else { "hole" };
        let address = Address::parse(&format!("http://{host}")).unwrap();
        let upstream = Upstream {
            former: vec![Name::parse(former).unwrap()],
            ..Upstream::at(address, Dialect::ChatCompletions, Hosting::Hosted)
        };
        match opened.of(name.as_ref(), &upstream) {
            Ok(_) => assert!(goes),
            Err(why) => assert!(!goes && why.contains("is for quarry at quarry.example"), "{why}"),
        }
    }
}
