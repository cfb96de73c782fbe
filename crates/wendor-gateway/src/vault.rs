//! Upstreams' credentials at rest: encrypted with ChaCha20-Poly1305 (RFC 8439) under a key made of the service's secret. The id of a
//! credential is bound into it, so that one cannot be put in another's place.

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{ChaCha20Poly1305, Nonce};
use sha2::{Digest, Sha256};
use wendor_core::secret::Secret;

/// Bytes of a nonce.
const NONCE: usize = 12;

/// Told apart from any other use that the service's secret may have.
const PURPOSE: &[u8] = b"wendor upstream credentials, first form\0";

/// Encrypts and decrypts.
pub struct Vault(Option<ChaCha20Poly1305>);

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault(..)")
    }
}

/// Why a credential cannot be kept or read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum VaultError {
    /// There is no secret.
    #[error(
        "the service has no secret to encrypt it with: set WENDOR_SECRET (32 characters or more) and start it again"
    )]
    NoSecret,
    /// It was encrypted with another secret, or is damaged.
    #[error("was kept under another WENDOR_SECRET: start the service with that one, or set the credential again")]
    OtherSecret,
}

impl Vault {
    /// With the service's secret, or without any.
    #[must_use]
    pub fn of(secret: Option<&Secret>) -> Self {
        Self(secret.map(|secret| {
            let key = Sha256::new().chain_update(PURPOSE).chain_update(secret.expose().as_bytes()).finalize();
            let key: [u8; 32] = key.into();
            ChaCha20Poly1305::new(&key.into())
        }))
    }

    /// Encrypts `text` as the credential `id`. `nonce` has to be drawn for it alone.
    ///
    /// # Errors
    /// [`VaultError::NoSecret`].
    pub fn seal(&self, id: &str, text: &Secret, nonce: [u8; NONCE]) -> Result<Vec<u8>, VaultError> {
        let cipher = self.0.as_ref().ok_or(VaultError::NoSecret)?;
        let payload = Payload { msg: text.expose().as_bytes(), aad: id.as_bytes() };
        // Fails only for texts of many gigabytes.
        let sealed = cipher.encrypt(&Nonce::from(nonce), payload).map_err(|_| VaultError::NoSecret)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Decrypts the credential `id`.
    ///
    /// # Errors
    /// [`VaultError`].
    pub fn open(&self, id: &str, sealed: &[u8]) -> Result<Secret, VaultError> {
        let cipher = self.0.as_ref().ok_or(VaultError::NoSecret)?;
        let (nonce, text) = sealed.split_first_chunk::<NONCE>().ok_or(VaultError::OtherSecret)?;
        let payload = Payload { msg: text, aad: id.as_bytes() };
        let text = cipher.decrypt(&Nonce::from(*nonce), payload).map_err(|_| VaultError::OtherSecret)?;
        String::from_utf8(text).map(Secret::new).map_err(|_| VaultError::OtherSecret)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_opens_with_the_same_secret_and_in_its_own_place() {
        let secret = |text: &str| Secret::new(text.repeat(4));
        let vault = Vault::of(Some(&secret("tide-and-time")));
        let sealed = vault.seal("cred-1", &Secret::new("s3cret"), [7; 12]).unwrap();
        assert_eq!(vault.open("cred-1", &sealed).unwrap().expose(), "s3cret");
        assert!(!sealed.windows(6).any(|part| part == b"s3cret"));
        assert_eq!(vault.open("cred-2", &sealed).unwrap_err(), VaultError::OtherSecret);
        assert_eq!(
            Vault::of(Some(&secret("another-tide!"))).open("cred-1", &sealed).unwrap_err(),
            VaultError::OtherSecret
        );
        assert_eq!(Vault::of(None).open("cred-1", &sealed).unwrap_err(), VaultError::NoSecret);
        assert_eq!(vault.open("cred-1", &sealed[..5]).unwrap_err(), VaultError::OtherSecret);
        let mut damaged = sealed;
        damaged[20] ^= 1;
        assert_eq!(vault.open("cred-1", &damaged).unwrap_err(), VaultError::OtherSecret);
    }
}
