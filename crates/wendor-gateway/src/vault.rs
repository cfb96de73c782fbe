//! Upstreams' credentials at rest: encrypted with ChaCha20-Poly1305 (RFC 8439) under a key made of the service's secret. Id, upstream and
//! host of a credential are bound into it, so that none can be put in another's place or sent elsewhere.
//!
//! A service may have two secrets: the one in force, and the one before, by which is read what was not kept anew yet
//! ([`crate::credentials`]).

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{ChaCha20Poly1305, Nonce};
use sha2::{Digest, Sha256};
use wendor_core::base32;
use wendor_core::secret::Secret;

/// Bytes of a nonce.
const NONCE: usize = 12;

/// Told apart from any other use that the service's secret may have.
const PURPOSE: &[u8] = b"wendor upstream credentials, first form\0";
const MARK: &[u8] = b"wendor mark of a secret\0";

/// Bytes of a secret's mark: enough to tell two apart.
const MARK_BYTES: usize = 5;

/// What a credential is bound to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bound<'a> {
    /// Bound into the seal: under another id it does not open.
    pub id: &'a str,
    /// Bound into the seal: at another upstream it does not open.
    pub upstream: &'a str,
    /// The host that it is sent to.
    pub host: &'a str,
}

impl Bound<'_> {
    /// Each part with its length, so that no two are the same text.
    fn text(&self) -> Vec<u8> {
        [self.id, self.upstream, self.host]
            .iter()
            .flat_map(|part| format!("{}:{part}", part.len()).into_bytes())
            .collect()
    }
}

struct Key {
    mark: String,
    cipher: ChaCha20Poly1305,
}

impl Key {
    fn of(secret: &Secret) -> Self {
        let digest = |purpose: &[u8]| -> [u8; 32] {
            Sha256::new().chain_update(purpose).chain_update(secret.expose().as_bytes()).finalize().into()
        };
        let mark = base32::of_bytes(digest(MARK).get(..MARK_BYTES).unwrap_or_default());
        Self { mark, cipher: ChaCha20Poly1305::new(&digest(PURPOSE).into()) }
    }

    fn open(&self, bound: &[u8], sealed: &[u8]) -> Option<Secret> {
        let (nonce, text) = sealed.split_first_chunk::<NONCE>()?;
        let text = self.cipher.decrypt(&Nonce::from(*nonce), Payload { msg: text, aad: bound }).ok()?;
        String::from_utf8(text).map(Secret::new).ok()
    }
}

/// Encrypts and decrypts.
pub struct Vault {
    current: Option<Key>,
    before: Option<Key>,
}

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault(..)")
    }
}

/// Why a credential cannot be kept or read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum VaultError {
    /// `secret` is not set, so nothing can be sealed.
    #[error(
        "the service has no secret to encrypt it with: set WENDOR_SECRET (32 characters or more) and start it again"
    )]
    NoSecret,
    /// It was encrypted with another secret, or is damaged.
    #[error(
        "was kept under another WENDOR_SECRET: start the service with that one as WENDOR_SECRET_BEFORE, or set the credential again"
    )]
    OtherSecret,
}

impl Vault {
    /// With the service's secret and the one before, or without any.
    #[must_use]
    pub fn of(secret: Option<&Secret>, before: Option<&Secret>) -> Self {
        Self { current: secret.map(Key::of), before: before.map(Key::of) }
    }

    /// The mark of the secret in force.
    #[must_use]
    pub fn mark(&self) -> Option<&str> {
        self.current.as_ref().map(|key| key.mark.as_str())
    }

    /// Encrypts `text` under the secret in force. `nonce` must be drawn for it alone.
    ///
    /// # Errors
    /// [`VaultError::NoSecret`].
    pub fn seal(&self, bound: Bound<'_>, text: &Secret, nonce: [u8; NONCE]) -> Result<Vec<u8>, VaultError> {
        let key = self.current.as_ref().ok_or(VaultError::NoSecret)?;
        let payload = Payload { msg: text.expose().as_bytes(), aad: &bound.text() };
        // Fails only for texts of many gigabytes.
        let sealed = key.cipher.encrypt(&Nonce::from(nonce), payload).map_err(|_| VaultError::NoSecret)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Decrypts what is bound so, under either secret.
    ///
    /// # Errors
    /// [`VaultError`].
    pub fn open(&self, bound: Bound<'_>, sealed: &[u8]) -> Result<Secret, VaultError> {
        self.with_either(&bound.text(), sealed)
    }

    /// Decrypts what was kept in the first form, which was bound to its id alone: to keep it anew, and for nothing else.
    ///
    /// # Errors
    /// [`VaultError`].
    pub fn open_first_form(&self, id: &str, sealed: &[u8]) -> Result<Secret, VaultError> {
        self.with_either(id.as_bytes(), sealed)
    }

    fn with_either(&self, bound: &[u8], sealed: &[u8]) -> Result<Secret, VaultError> {
        let current = self.current.as_ref().ok_or(VaultError::NoSecret)?;
        let keys = [Some(current), self.before.as_ref()];
        keys.into_iter().flatten().find_map(|key| key.open(bound, sealed)).ok_or(VaultError::OtherSecret)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn secret(text: &str) -> Secret {
        Secret::new(text.repeat(4))
    }

    const BOUND: Bound<'static> = Bound { id: "crd-1", upstream: "quarry", host: "quarry.example" };

    #[rstest]
    #[case::its_place(BOUND, Ok("s3cret"))]
    #[case::another_id(Bound { id: "crd-2", ..BOUND }, Err(VaultError::OtherSecret))]
    #[case::another_upstream(Bound { upstream: "farlight", ..BOUND }, Err(VaultError::OtherSecret))]
    #[case::another_host(Bound { host: "gulls.example", ..BOUND }, Err(VaultError::OtherSecret))]
    #[case::parts_moved(Bound { upstream: "quarr", host: "yquarry.example", ..BOUND }, Err(VaultError::OtherSecret))]
    fn what_is_kept_opens_in_its_own_place(#[case] bound: Bound<'_>, #[case] expected: Result<&str, VaultError>) {
        let vault = Vault::of(Some(&secret("tide-and-time")), None);
        let sealed = vault.seal(BOUND, &Secret::new("s3cret"), [7; 12]).unwrap();
        assert!(!sealed.windows(6).any(|part| part == b"s3cret"));
        assert_eq!(vault.open(bound, &sealed).map(|text| text.expose().to_owned()), expected.map(str::to_owned));
    }

    #[test]
    fn either_secret_opens_and_the_one_in_force_seals() {
        let (old, new) = (secret("tide-and-time"), secret("another-tide!"));
        let before = Vault::of(Some(&old), None);
        let sealed = before.seal(BOUND, &Secret::new("s3cret"), [7; 12]).unwrap();
        let both = Vault::of(Some(&new), Some(&old));
        assert_eq!(both.open(BOUND, &sealed).unwrap().expose(), "s3cret");
        let anew = both.seal(BOUND, &Secret::new("s3cret"), [8; 12]).unwrap();
        let after = Vault::of(Some(&new), None);
        assert_eq!(after.open(BOUND, &anew).unwrap().expose(), "s3cret");
        assert_eq!(after.open(BOUND, &sealed).unwrap_err(), VaultError::OtherSecret);
        assert_eq!(before.open(BOUND, &anew).unwrap_err(), VaultError::OtherSecret);
        assert_eq!((both.mark(), both.mark() == before.mark()), (after.mark(), false));
        assert_eq!(Vault::of(None, None).open(BOUND, &sealed).unwrap_err(), VaultError::NoSecret);
    }

    #[test]
    fn what_is_damaged_does_not_open() {
        let vault = Vault::of(Some(&secret("tide-and-time")), None);
        let mut sealed = vault.seal(BOUND, &Secret::new("s3cret"), [7; 12]).unwrap();
        assert_eq!(vault.open(BOUND, &sealed[..5]).unwrap_err(), VaultError::OtherSecret);
        sealed[20] ^= 1;
        assert_eq!(vault.open(BOUND, &sealed).unwrap_err(), VaultError::OtherSecret);
    }
}
