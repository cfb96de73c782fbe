//! The service's own certificates: read from files, and again when they change. Open connections keep what they began with, new ones get
//! the new one; where the new files will not do, the old ones stay in force and the log says why.

use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use sha2::{Digest, Sha256};
use tokio::sync::watch;

use crate::settings::listening::CertificateFiles;

/// How often the files are looked at: a few kilobytes, read and compared.
const LOOKED_AT: Duration = Duration::from_secs(1);

/// Why a certificate cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{file}: {why}")]
pub struct BadCertificate {
    file: String,
    why: String,
}

/// A certificate in force, which can be replaced.
#[derive(Debug)]
pub struct Certificate {
    files: CertificateFiles,
    in_force: Arc<InForce>,
}

#[derive(Debug)]
struct InForce(ArcSwap<CertifiedKey>);

impl ResolvesServerCert for InForce {
    fn resolve(&self, _hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.load_full())
    }
}

impl Certificate {
    /// Reads it.
    ///
    /// # Errors
    /// [`BadCertificate`] when a file cannot be read, or the two do not belong together.
    pub fn read(files: &CertificateFiles) -> Result<Self, BadCertificate> {
        let key = certified(files, &contents(files)?)?;
        Ok(Self { files: files.clone(), in_force: Arc::new(InForce(ArcSwap::from_pointee(key))) })
    }

    /// How a listener encrypts with it.
    ///
    /// # Panics
    /// Never: the provider has both versions.
    #[must_use]
    pub fn config(&self) -> ServerConfig {
        ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()
            .expect("the provider has the usual versions")
            .with_no_client_auth()
            .with_cert_resolver(self.in_force.clone())
    }

    /// Takes what the files hold whenever they have changed, until it is told to stop.
    pub async fn follow(self, mut stop: watch::Receiver<bool>) {
        let digest = |read: &Contents| -> [u8; 32] {
            Sha256::new().chain_update(&read.certificate).chain_update([0]).chain_update(&read.key).finalize().into()
        };
        let mut seen = contents(&self.files).ok().map(|read| digest(&read));
        loop {
            tokio::select! {
                _stopped = stop.wait_for(|stop| *stop) => return,
                () = tokio::time::sleep(LOOKED_AT) => {}
            }
            // Between two files that are replaced one after the other they may not fit; then it is looked at again.
            let Ok(read) = contents(&self.files) else { continue };
            let now = digest(&read);
            if seen == Some(now) {
                continue;
            }
            seen = Some(now);
            match certified(&self.files, &read) {
                Ok(key) => {
                    self.in_force.0.store(Arc::new(key));
                    tracing::info!(file = %self.files.certificate.display(), "the certificate was replaced");
                }
                Err(error) => {
                    tracing::warn!(%error, "the new certificate cannot be used; the one before stays in force")
                }
            }
        }
    }
}

struct Contents {
    certificate: Vec<u8>,
    key: Vec<u8>,
}

fn contents(files: &CertificateFiles) -> Result<Contents, BadCertificate> {
    let read = |path: &std::path::Path| {
        let bad = |error: std::io::Error| BadCertificate {
            file: path.display().to_string(),
            why: format!("cannot be read: {error}"),
        };
        std::fs::read(path).map_err(bad)
    };
    Ok(Contents { certificate: read(&files.certificate)?, key: read(&files.key)? })
}

fn certified(files: &CertificateFiles, read: &Contents) -> Result<CertifiedKey, BadCertificate> {
    let bad = |path: &std::path::Path, why: String| BadCertificate { file: path.display().to_string(), why };
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(&read.certificate)
        .collect::<Result<_, _>>()
        .map_err(|error| bad(&files.certificate, format!("is not a PEM file: {error}")))?;
    if chain.is_empty() {
        return Err(bad(&files.certificate, "holds no certificate".to_owned()));
    }
    let key = PrivateKeyDer::from_pem_slice(&read.key)
        .map_err(|error| bad(&files.key, format!("holds no key in PEM: {error}")))?;
    let key = ring::sign::any_supported_type(&key)
        .map_err(|error| bad(&files.key, format!("holds a key of a kind that is not known here: {error}")))?;
    let certified = CertifiedKey::new(chain, key);
    certified
        .keys_match()
        .map_err(|error| bad(&files.key, format!("is not the key of {}: {error}", files.certificate.display())))?;
    Ok(certified)
}
