//! The certificate by which Wendor says who it is to an upstream that wants to know, and whether one was asked for.

use std::hash::{Hash, Hasher};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rustls::SignatureScheme;
use rustls::client::ResolvesClientCert;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::CertifiedKey;
use wendor_core::catalog::upstream::Fingerprint;

use crate::trust::fingerprint;

/// A certificate of ours with its private key.
#[derive(Clone, Debug)]
pub struct Identity {
    key: Arc<CertifiedKey>,
    fingerprint: Fingerprint,
}

impl Identity {
    /// Reads one from a PEM file's text, with the certificates up to its authority, if they are there.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(text: &str) -> Result<Self, String> {
        let chain: Vec<_> = CertificateDer::pem_slice_iter(text.as_bytes())
            .collect::<Result<_, _>>()
            .map_err(|error| format!("is not a PEM file: {error}"))?;
        let own = chain.first().ok_or("holds no certificate")?;
        let fingerprint = fingerprint(own);
        let key = PrivateKeyDer::from_pem_slice(text.as_bytes()).map_err(|_| "holds no private key".to_owned())?;
        let key = CertifiedKey::from_der(chain, key, &rustls::crypto::ring::default_provider())
            .map_err(|error| format!("cannot be used: {error}"))?;
        Ok(Self { key: Arc::new(key), fingerprint })
    }
}

impl PartialEq for Identity {
    fn eq(&self, other: &Self) -> bool {
        self.fingerprint == other.fingerprint
    }
}

impl Eq for Identity {}

impl Hash for Identity {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.fingerprint.hash(state);
    }
}

/// Shows an identity to whoever asks for one, if there is one, and keeps whether somebody did.
#[derive(Debug, Default)]
pub struct Showing {
    identity: Option<Identity>,
    was_asked: AtomicBool,
}

impl Showing {
    /// Shows that one.
    #[must_use]
    pub fn of(identity: Option<&Identity>) -> Self {
        Self { identity: identity.cloned(), was_asked: AtomicBool::new(false) }
    }

    /// Whether somebody asked.
    #[must_use]
    pub fn was_asked(&self) -> bool {
        self.was_asked.load(Ordering::Relaxed)
    }
}

impl ResolvesClientCert for Showing {
    fn resolve(&self, _authorities: &[&[u8]], _schemes: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        self.was_asked.store(true, Ordering::Relaxed);
        self.identity.as_ref().map(|identity| identity.key.clone())
    }

    fn has_certs(&self) -> bool {
        self.identity.is_some()
    }
}
