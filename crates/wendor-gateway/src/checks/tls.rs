//! The encryption of an upstream: whether it is there, and what its certificate says.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, Utc};
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{CertificateError, Error};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::diagnosis::seen::{Answered, Certificate, NotHeard, NotTrusted, Tls, Words};
use x509_parser::extensions::GeneralName;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::dial::CONNECT;
use super::talk::Peer;
use super::words;
use crate::app::App;
use crate::identity::{Identity, Showing};
use crate::trust::{Shown, Watching, fingerprint};

/// How an attempt at TLS ended, when it did not stand.
enum Ended {
    /// The peer speaks something else.
    NotTls,
    /// It speaks TLS, and refuses how we do.
    Refused(String),
    /// It came to nothing.
    Failed(String),
}

/// How long it is waited for a refusal that comes after the handshake.
const REFUSAL: Duration = Duration::from_millis(300);

/// Looks at the encryption of `to`, as somebody who shows `identity`, if that is asked for.
pub async fn look(app: &App, upstream: &Upstream, identity: Option<&Identity>, to: SocketAddr) -> Tls {
    let watching = Arc::new(Watching::over(app.trust.verifier(upstream.certificate.as_ref())));
    let showing = Arc::new(Showing::of(identity));
    let host = upstream.address.host();
    let ended = shake(to, host, app.trust.config_showing(watching.clone(), showing.clone())).await;
    let asks_for_ours = showing.was_asked();
    match (ended, watching.shown()) {
        (Ok(stream), Some(shown)) => match shown.chain.first().and_then(read) {
            Some(_) if asks_for_ours && is_refused_after_all(stream).await => {
                Tls::WantsOurs { shown: identity.is_some() }
            }
            Some(certificate) => Tls::Stands { certificate, asks_for_ours },
            None => Tls::Failed("its certificate cannot be read".to_owned()),
        },
        (_, Some(Shown { chain, refused: Some(error) })) => {
            let chain: Vec<Certificate> = chain.iter().filter_map(read).collect();
            let their_clock = clock_of(app, upstream, to).await;
            let leads_here = match chain.first().and_then(|own| own.hosts.iter().find(|host| !host.starts_with('*'))) {
                Some(host) => app.hosts.look_up(host).await.to.contains(&to.ip()),
                None => false,
            };
            let is_for_other_host = chain.first().is_some_and(|own| !own.is_for(host));
            Tls::NotTrusted { why: why(&error), chain, their_clock, leads_here, is_for_other_host }
        }
        (Err(Ended::Refused(_) | Ended::Failed(_)), _) if asks_for_ours => Tls::WantsOurs { shown: identity.is_some() },
        (Err(Ended::NotTls), _) => Tls::NotTls { words: words::of(to).await },
        (Err(Ended::Refused(why)), _) => match words::too_old(to, host).await {
            Some(what) => Tls::Old(what),
            None => Tls::Failed(why),
        },
        (Err(Ended::Failed(why)), _) => Tls::Failed(why),
        (Ok(_), None) => Tls::Failed("no certificate came".to_owned()),
    }
}

/// Whether a server that asked for a certificate refuses what it got. In TLS 1.3 it says so only once the handshake is over.
async fn is_refused_after_all(mut stream: TlsStream<TcpStream>) -> bool {
    use tokio::io::AsyncReadExt;
    let read = timeout(REFUSAL, stream.read_u8()).await;
    let error = match read {
        Ok(Err(error)) => error,
        Ok(Ok(_)) | Err(_) => return false,
    };
    error
        .get_ref()
        .and_then(|inner| inner.downcast_ref::<Error>())
        .is_some_and(|error| matches!(error, Error::AlertReceived(_)))
}

/// Where an answer to plain HTTP is none, or complains: whether the port speaks TLS instead, or what it says.
pub async fn tell_apart(app: &App, peer: &Peer, answered: &mut Answered) {
    if peer.is_encrypted() {
        return;
    }
    let may_be = match answered {
        Err(NotHeard::NotHttp(_) | NotHeard::Broke | NotHeard::Closed | NotHeard::Reset) => true,
        Ok(heard) => heard.status == 400 && (heard.is_page() || heard.json().is_none()),
        Err(NotHeard::NoConnection | NotHeard::TimedOut(_) | NotHeard::Busy(_)) => false,
    };
    if !may_be {
        return;
    }
    if speaks_tls(app, peer.socket(), peer.host()).await {
        *answered = Err(NotHeard::NotHttp(Words::Tls));
    } else if let Err(not) = answered {
        match words::of(peer.socket()).await {
            Words::Nothing | Words::Http | Words::Closed | Words::Reset => {}
            words @ (Words::Tls | Words::Http2 | Words::Text(_) | Words::Bytes) => *not = NotHeard::NotHttp(words),
        }
    }
}

async fn speaks_tls(app: &App, to: SocketAddr, host: &str) -> bool {
    // Whom the certificate names does not matter here: nothing is said to whoever shows it.
    match shake(to, host, app.trust.config(app.trust.nobody())).await {
        Ok(_) | Err(Ended::Refused(_)) => true,
        Err(Ended::NotTls | Ended::Failed(_)) => false,
    }
}

async fn shake(to: SocketAddr, host: &str, config: rustls::ClientConfig) -> Result<TlsStream<TcpStream>, Ended> {
    let failed = |why: &str| Ended::Failed(why.to_owned());
    let name = ServerName::try_from(host.to_owned())
        .map_err(|_| failed("its host is no name that a certificate could hold"))?;
    let tcp = timeout(CONNECT, TcpStream::connect(to)).await.map_err(|_| failed("the connection takes too long"))?;
    let tcp = tcp.map_err(|error| failed(&error.kind().to_string()))?;
    let shaken = timeout(CONNECT, TlsConnector::from(Arc::new(config)).connect(name, tcp)).await;
    match shaken {
        Err(_elapsed) => Err(failed("the server does not answer to TLS")),
        Ok(Ok(stream)) => Ok(stream),
        Ok(Err(error)) => match error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
            Some(Error::InvalidMessage(_)) => Err(Ended::NotTls),
            Some(other @ (Error::AlertReceived(_) | Error::PeerIncompatible(_))) => {
                Err(Ended::Refused(other.to_string()))
            }
            Some(other) => Err(failed(&other.to_string())),
            // A server that closes in the middle of a greeting has not understood it.
            None => Err(Ended::NotTls),
        },
    }
}

fn why(error: &Error) -> NotTrusted {
    let Error::InvalidCertificate(error) = error else { return NotTrusted::Bad };
    if matches!(error, CertificateError::UnknownIssuer) {
        NotTrusted::UnknownIssuer
    } else if matches!(error, CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. }) {
        NotTrusted::OtherHost
    } else if matches!(error, CertificateError::Expired | CertificateError::ExpiredContext { .. }) {
        NotTrusted::Expired
    } else if matches!(error, CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. }) {
        NotTrusted::NotYet
    } else {
        NotTrusted::Bad
    }
}

/// The server's clock, asked over an encryption that believes everyone: nothing of ours is told.
async fn clock_of(app: &App, upstream: &Upstream, to: SocketAddr) -> Option<DateTime<Utc>> {
    let peer = Peer::plain(to, &upstream.address).encrypted(app.trust.config(app.trust.nobody()));
    peer.clock(upstream.address.as_str()).await
}

fn read(der: &CertificateDer<'static>) -> Option<Certificate> {
    let (_, parsed) = X509Certificate::from_der(der.as_ref()).ok()?;
    let at = |time: x509_parser::time::ASN1Time| DateTime::from_timestamp(time.timestamp(), 0);
    let names = parsed.subject_alternative_name().ok().flatten();
    let host = |name: &GeneralName<'_>| {
        if let GeneralName::DNSName(name) = name {
            Some((*name).to_owned())
        } else if let GeneralName::IPAddress(bytes) = name {
            let four = <[u8; 4]>::try_from(*bytes).ok().map(|bytes| std::net::Ipv4Addr::from(bytes).to_string());
            four.or_else(|| <[u8; 16]>::try_from(*bytes).ok().map(|bytes| std::net::Ipv6Addr::from(bytes).to_string()))
        } else {
            None
        }
    };
    let common = |name: &x509_parser::x509::X509Name<'_>| {
        let common = name.iter_common_name().next().and_then(|part| part.as_str().ok()).map(str::to_owned);
        common.unwrap_or_else(|| name.to_string())
    };
    Some(Certificate {
        hosts: names.map(|names| names.value.general_names.iter().filter_map(host).collect()).unwrap_or_default(),
        from: at(parsed.validity().not_before)?,
        until: at(parsed.validity().not_after)?,
        version: parsed.version().0 + 1,
        is_self_signed: parsed.issuer() == parsed.subject(),
        issuer: common(parsed.issuer()),
        fingerprint: fingerprint(der),
    })
}
