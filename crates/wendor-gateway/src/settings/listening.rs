//! Where the service listens, how it is encrypted, and under which address it is known.

use std::net::SocketAddr;
use std::path::PathBuf;

use wendor_core::caller::Ranges;

/// A certificate with its key, as files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateFiles {
    /// The certificate and those above it.
    pub certificate: PathBuf,
    /// PEM file of the private key.
    pub key: PathBuf,
}

/// An address under which the service is known outside, without a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublicUrl(String);

impl PublicUrl {
    /// The address, without a slash at its end.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether the way there is encrypted.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        self.0.starts_with("https://")
    }
}

/// Whom a listener is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum For {
    /// Apps alone.
    Apps,
    /// People: console, management API, metrics.
    Management,
    /// All of them.
    Everybody,
}

impl For {
    /// Whether apps ask there.
    #[must_use]
    pub fn has_apps(self) -> bool {
        self != Self::Management
    }

    /// Whether people do.
    #[must_use]
    pub fn has_management(self) -> bool {
        self != Self::Apps
    }
}

/// Where the service listens, and how it is reached.
#[derive(Clone, Debug)]
pub struct Listening {
    /// For apps; for everybody where there is no other.
    pub listen: SocketAddr,
    /// For people.
    pub manage_listen: Option<SocketAddr>,
    /// The certificate of `listen`.
    pub certificate: Option<CertificateFiles>,
    /// The certificate of `manage_listen`.
    pub manage_certificate: Option<CertificateFiles>,
    /// Under which address apps know the service.
    pub public_url: Option<PublicUrl>,
    /// Under which people do.
    pub manage_url: Option<PublicUrl>,
    /// Whose word counts on where a call comes from.
    pub proxies: Ranges,
}

impl Listening {
    /// At one address for everybody, unencrypted, and known under no other.
    #[must_use]
    pub fn at(listen: SocketAddr) -> Self {
        Self {
            listen,
            manage_listen: None,
            certificate: None,
            manage_certificate: None,
            public_url: None,
            manage_url: None,
            proxies: Ranges::default(),
        }
    }

    /// The certificate of a listener.
    #[must_use]
    pub fn certificate_of(&self, whom: For) -> Option<&CertificateFiles> {
        match whom {
            For::Apps | For::Everybody => self.certificate.as_ref(),
            For::Management => self.manage_certificate.as_ref().or(self.certificate.as_ref()),
        }
    }

    /// Under which address people know the service.
    #[must_use]
    pub fn url_of_people(&self) -> Option<&PublicUrl> {
        self.manage_url.as_ref().or(self.public_url.as_ref().filter(|_| self.manage_listen.is_none()))
    }

    /// The address under which a listener is known.
    #[must_use]
    pub fn url_of(&self, whom: For) -> Option<&PublicUrl> {
        match whom {
            For::Apps => self.public_url.as_ref(),
            For::Management | For::Everybody => self.url_of_people(),
        }
    }

    /// Why the service must not start so: keys and passwords would cross a network unencrypted.
    ///
    /// # Errors
    /// A sentence with the three remedies.
    pub fn must_be_safe(&self) -> Result<(), String> {
        let manage = self.manage_listen.map(|address| ("manage_listen", address, For::Management));
        let all = [Some(("listen", self.listen, For::Apps)), manage];
        let is_open = |(_, address, whom): &(&str, SocketAddr, For)| {
            !address.ip().is_loopback() && self.certificate_of(*whom).is_none() && self.proxies.is_empty()
        };
        match all.into_iter().flatten().find(is_open) {
            None => Ok(()),
            Some((name, address, _)) => Err(format!(
                "{name} = {address} can be reached from other machines, and nothing says that the way is encrypted. Either listen on \
                 loopback ({name} = 127.0.0.1:{port}), or give it a certificate (certificate, certificate_key), or name the proxies \
                 in front of it that encrypt (trusted_proxies).",
                port = address.port()
            )),
        }
    }
}

/// A setting with its name; `None` where it is not set.
pub(super) struct Named<T> {
    pub(super) name: &'static str,
    pub(super) value: Option<T>,
}

/// A certificate and its key.
///
/// # Errors
/// The one that is missing, by its setting.
pub(super) fn certificates(
    certificate: Named<PathBuf>,
    key: Named<PathBuf>,
) -> Result<Option<CertificateFiles>, (&'static str, String)> {
    let (certificate_name, key_name) = (certificate.name, key.name);
    match (certificate.value, key.value) {
        (None, None) => Ok(None),
        (Some(certificate), Some(key)) => Ok(Some(CertificateFiles { certificate, key })),
        (Some(_), None) => Err((key_name, format!("is not set: it goes with {certificate_name}"))),
        (None, Some(_)) => Err((certificate_name, format!("is not set: it goes with {key_name}"))),
    }
}

pub(super) fn url(text: &str) -> Result<PublicUrl, String> {
    let form = || "write an address without a path, such as https://models.example".to_owned();
    let text = text.strip_suffix('/').unwrap_or(text);
    let (scheme, host) = text.split_once("://").ok_or_else(form)?;
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b".:-[]".contains(&byte);
    let is_good = matches!(scheme, "http" | "https") && !host.is_empty() && host.bytes().all(is_plain);
    if is_good { Ok(PublicUrl(format!("{scheme}://{}", host.to_ascii_lowercase()))) } else { Err(form()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn listening(listen: &str, manage: Option<&str>, certificate: bool, proxies: &str) -> Listening {
        let files = CertificateFiles { certificate: "cert.pem".into(), key: "key.pem".into() };
        Listening {
            manage_listen: manage.map(|text| text.parse().unwrap()),
            certificate: certificate.then_some(files),
            proxies: Ranges::parse(proxies).unwrap(),
            ..Listening::at(listen.parse().unwrap())
        }
    }

    #[rstest]
    #[case::loopback("127.0.0.1:7420", None, false, "", true)]
    #[case::loopback_of_the_sixth("[::1]:7420", None, false, "", true)]
    #[case::open("0.0.0.0:7420", None, false, "", false)]
    #[case::open_to_people("127.0.0.1:7420", Some("10.0.0.7:7421"), false, "", false)]
    #[case::encrypted("0.0.0.0:7420", Some("10.0.0.7:7421"), true, "", true)]
    #[case::behind_a_proxy("0.0.0.0:7420", None, false, "10.0.0.0/8", true)]
    fn what_others_reach_is_encrypted(
        #[case] listen: &str,
        #[case] manage: Option<&str>,
        #[case] certificate: bool,
        #[case] proxies: &str,
        #[case] is_safe: bool,
    ) {
        let verdict = listening(listen, manage, certificate, proxies).must_be_safe();
        assert_eq!(verdict.is_ok(), is_safe);
        if let Err(verdict) = verdict {
            for remedy in ["= 127.0.0.1:", "certificate_key", "trusted_proxies"] {
                assert!(verdict.contains(remedy), "{verdict}");
            }
        }
    }

    #[rstest]
    #[case::plain("https://models.example", Some("https://models.example"))]
    #[case::with_a_slash("https://Models.example/", Some("https://models.example"))]
    #[case::with_a_port("http://10.0.0.7:7420", Some("http://10.0.0.7:7420"))]
    #[case::with_a_path("https://models.example/gateway", None)]
    #[case::with_a_user("https://me@models.example", None)]
    #[case::no_scheme("models.example", None)]
    fn addresses(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(url(text).ok().as_ref().map(PublicUrl::as_str), expected);
    }
}
