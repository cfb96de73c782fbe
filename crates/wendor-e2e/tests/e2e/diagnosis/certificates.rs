//! Certificates with every mistake, made for the tests: an authority that the service is told to believe, one between, and servers'.

use std::path::{Path, PathBuf};

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DistinguishedName, DnType, IsCa, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};

/// An authority, with one between it and the servers.
pub struct Authority {
    root: CertifiedIssuer<'static, KeyPair>,
    between: CertifiedIssuer<'static, KeyPair>,
}

/// What is wrong with a server's certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mistake {
    /// Nothing.
    None,
    /// It is signed by itself.
    SelfSigned,
    /// The certificate between is left out.
    ChainCut,
    /// It is over.
    Expired,
    /// It has not begun.
    NotYet,
    /// It is over in some days.
    ExpiresSoon,
}

fn named(name: &str) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, name);
    params
}

fn authority(name: &str) -> CertificateParams {
    let mut params = named(name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params
}

fn key() -> KeyPair {
    KeyPair::generate().unwrap()
}

impl Authority {
    /// A new one.
    pub fn make(name: &str) -> Self {
        let root = CertifiedIssuer::self_signed(authority(&format!("{name} root")), key()).unwrap();
        let between = CertifiedIssuer::signed_by(authority(&format!("{name} between")), key(), &root).unwrap();
        Self { root, between }
    }

    /// Its root, as a file for the service.
    pub fn write(&self, folder: &Path) -> PathBuf {
        let path = folder.join("authorities.pem");
        std::fs::write(&path, self.root.pem()).unwrap();
        path
    }

    /// A server's side for `host`.
    pub fn server(&self, host: &str, mistake: Mistake) -> ServerConfig {
        let (chain, key) = self.issue(host, mistake);
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let chain = chain.into_iter().map(|(der, _)| der).collect();
        ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).unwrap()
    }

    /// The same as files of PEM: its chain, and its key.
    pub fn pem(&self, host: &str, mistake: Mistake) -> (String, String) {
        let (chain, key) = self.issue(host, mistake);
        (chain.into_iter().map(|(_, pem)| pem).collect(), key.serialize_pem())
    }

    /// A certificate that says who asks, with all that belongs to it in one file.
    pub fn client(&self, name: &str) -> String {
        let (chain, key) = self.pem(name, Mistake::None);
        format!("{chain}{key}")
    }

    /// A certificate for `host`, with those that are sent beside it, each in both forms.
    fn issue(&self, host: &str, mistake: Mistake) -> (Vec<(CertificateDer<'static>, String)>, KeyPair) {
        let mut params = CertificateParams::new(vec![host.to_owned()]).unwrap();
        params.distinguished_name = named(host).distinguished_name;
        let now = time::OffsetDateTime::now_utc();
        let days = time::Duration::days;
        (params.not_before, params.not_after) = match mistake {
            Mistake::None | Mistake::SelfSigned | Mistake::ChainCut => (now - days(30), now + days(300)),
            Mistake::Expired => (now - days(300), now - days(3)),
            Mistake::NotYet => (now + days(2), now + days(300)),
            Mistake::ExpiresSoon => (now - days(30), now + days(5)),
        };
        let key = key();
        let own = match mistake {
            Mistake::SelfSigned => params.self_signed(&key).unwrap(),
            Mistake::None | Mistake::ChainCut | Mistake::Expired | Mistake::NotYet | Mistake::ExpiresSoon => {
                params.signed_by(&key, &self.between).unwrap()
            }
        };
        let mut chain = vec![(own.der().clone(), own.pem())];
        if !matches!(mistake, Mistake::SelfSigned | Mistake::ChainCut) {
            chain.push((self.between.der().clone(), self.between.pem()));
        }
        (chain, key)
    }
}
