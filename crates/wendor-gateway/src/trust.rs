//! Whom upstreams are trusted as: the known authorities and those of the installation, or the one certificate that an upstream is
//! pinned to. Requests and checks take their verifiers from here, so that what a check accepts a request does.

use std::path::Path;
use std::sync::{Arc, Mutex};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use sha2::{Digest, Sha256};
use wendor_core::catalog::upstream::Fingerprint;

use crate::identity::Showing;

/// Authorities that are believed.
#[derive(Clone, Debug)]
pub struct Trust {
    /// Believes what the authorities vouch for. Made once: there are many of them.
    usual: Arc<dyn ServerCertVerifier>,
    provider: Arc<CryptoProvider>,
}

/// Why the installation's own authorities cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("authorities: {path} {why}")]
pub struct BadAuthorities {
    path: String,
    why: String,
}

impl Trust {
    /// The known authorities, and those of a PEM file.
    ///
    /// # Errors
    /// [`BadAuthorities`] when the file cannot be read or holds none.
    ///
    /// # Panics
    /// Never: there are always the known authorities.
    pub fn with_authorities(file: Option<&Path>) -> Result<Self, BadAuthorities> {
        let mut roots = RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
        if let Some(path) = file {
            let bad = |why: String| BadAuthorities { path: path.display().to_string(), why };
            let text = std::fs::read(path).map_err(|error| bad(format!("cannot be read: {error}")))?;
            let certificates: Vec<_> = CertificateDer::pem_slice_iter(&text)
                .collect::<Result<_, _>>()
                .map_err(|error| bad(format!("is not a PEM file: {error}")))?;
            let (added, _ignored) = roots.add_parsable_certificates(certificates);
            if added == 0 {
                return Err(bad("holds no certificate".to_owned()));
            }
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let usual = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
            .build()
            .expect("there are known authorities");
        Ok(Self { usual, provider })
    }

    /// What checks a server's certificate: the authorities, or the one that it is pinned to.
    #[must_use]
    pub fn verifier(&self, pin: Option<&Fingerprint>) -> Arc<dyn ServerCertVerifier> {
        match pin {
            Some(pin) => Arc::new(Pinned { pin: pin.clone(), provider: self.provider.clone() }),
            None => self.usual.clone(),
        }
    }

    /// How connections are made with that verifier, by somebody who shows nothing of its own.
    #[must_use]
    pub fn config(&self, verifier: Arc<dyn ServerCertVerifier>) -> ClientConfig {
        self.config_showing(verifier, Arc::new(Showing::default()))
    }

    /// How connections are made with that verifier, and what is shown to servers that want to know who asks.
    ///
    /// # Panics
    /// Never: the provider has both versions.
    #[must_use]
    pub fn config_showing(&self, verifier: Arc<dyn ServerCertVerifier>, showing: Arc<Showing>) -> ClientConfig {
        ClientConfig::builder_with_provider(self.provider.clone())
            .with_safe_default_protocol_versions()
            .expect("the provider has the usual versions")
            .dangerous()
            .with_custom_certificate_verifier(verifier)
            .with_client_cert_resolver(showing)
    }

    /// One that believes everyone, for looking at a server's clock; nothing is told to whom it lets in.
    #[must_use]
    pub fn nobody(&self) -> Arc<dyn ServerCertVerifier> {
        Arc::new(Credulous(self.provider.clone()))
    }
}

/// A certificate's fingerprint.
#[must_use]
pub fn fingerprint(certificate: &CertificateDer<'_>) -> Fingerprint {
    Fingerprint::of_hash(&Sha256::digest(certificate.as_ref()))
}

macro_rules! signatures_by {
    ($field:tt) => {
        fn verify_tls12_signature(
            &self,
            message: &[u8],
            certificate: &CertificateDer<'_>,
            signed: &DigitallySignedStruct,
        ) -> Result<HandshakeSignatureValid, Error> {
            verify_tls12_signature(message, certificate, signed, &self.$field.signature_verification_algorithms)
        }

        fn verify_tls13_signature(
            &self,
            message: &[u8],
            certificate: &CertificateDer<'_>,
            signed: &DigitallySignedStruct,
        ) -> Result<HandshakeSignatureValid, Error> {
            verify_tls13_signature(message, certificate, signed, &self.$field.signature_verification_algorithms)
        }

        fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
            self.$field.signature_verification_algorithms.supported_schemes()
        }
    };
}

#[derive(Debug)]
struct Pinned {
    pin: Fingerprint,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _server: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        if fingerprint(end_entity) == self.pin {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(Error::InvalidCertificate(CertificateError::ApplicationVerificationFailure))
        }
    }

    signatures_by!(provider);
}

#[derive(Debug)]
struct Credulous(Arc<CryptoProvider>);

impl ServerCertVerifier for Credulous {
    fn verify_server_cert(
        &self,
        _end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _server: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }

    signatures_by!(0);
}

/// What a server showed, and whether it was believed.
#[derive(Clone, Debug)]
pub struct Shown {
    /// Its certificates, its own first.
    pub chain: Vec<CertificateDer<'static>>,
    /// Why it was not believed, if it was not.
    pub refused: Option<Error>,
}

/// Keeps what a server shows, and judges it as another verifier does.
#[derive(Debug)]
pub struct Watching {
    judge: Arc<dyn ServerCertVerifier>,
    shown: Mutex<Option<Shown>>,
}

impl Watching {
    /// Judges as `judge` does.
    #[must_use]
    pub fn over(judge: Arc<dyn ServerCertVerifier>) -> Self {
        Self { judge, shown: Mutex::default() }
    }

    /// Certificate of the last handshake; nothing before one.
    pub fn shown(&self) -> Option<Shown> {
        self.shown.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

impl ServerCertVerifier for Watching {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let judged = self.judge.verify_server_cert(end_entity, intermediates, server, ocsp, now);
        let chain = std::iter::once(end_entity).chain(intermediates).map(|each| each.clone().into_owned()).collect();
        let shown = Shown { chain, refused: judged.as_ref().err().cloned() };
        *self.shown.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(shown);
        judged
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.judge.verify_tls12_signature(message, certificate, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.judge.verify_tls13_signature(message, certificate, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.judge.supported_verify_schemes()
    }
}
