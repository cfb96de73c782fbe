//! What the service may see of an upstream, as it hands it over to be judged.

use std::net::{IpAddr, SocketAddr};

use bytes::Bytes;
use chrono::{DateTime, Utc};

use crate::catalog::upstream::{Address, Fingerprint};

/// The credential, as far as a check may look at it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CredentialSeen {
    /// None is set.
    None,
    /// It is not where it should be; why.
    Missing(String),
    /// It is there: where, and what is odd about it.
    There {
        /// Where it is found, in words.
        place: String,
        /// What is odd.
        oddity: Option<Oddity>,
    },
}

/// What is odd about a credential's text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Oddity {
    /// It begins with the scheme that Wendor puts before it.
    Scheme,
    /// It stands in quotes.
    Quotes,
    /// It has a line break or white space within.
    WhiteSpace,
    /// It has a character that no header can hold.
    NotSendable,
    /// It is an example.
    Placeholder,
}

/// How a connection to one address went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Dial {
    /// Open after so many microseconds.
    Open(u64),
    /// Refused.
    Refused,
    /// Nothing came back within the time.
    TimedOut,
    /// The system knows no way; what it said.
    NoWay(String),
}

/// What was seen of a host's addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Dialled {
    /// Each address, and how it went.
    pub each: Vec<(SocketAddr, Dial)>,
    /// Usual ports that are open where this one is refused.
    pub other_ports: Vec<u16>,
    /// Another address of this machine at which the port is open, where the host is this machine.
    pub open_at: Option<IpAddr>,
    /// Whether the host is this machine.
    pub is_this_machine: bool,
}

/// What a certificate says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    /// The hosts that it is for.
    pub hosts: Vec<String>,
    /// From when on it is good.
    pub from: DateTime<Utc>,
    /// Until when.
    pub until: DateTime<Utc>,
    /// Whether it is signed by itself.
    pub is_self_signed: bool,
    /// Its version: 3 is in use, 1 names no hosts and is accepted nowhere.
    pub version: u32,
    /// Who signed it.
    pub issuer: String,
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
}

impl Certificate {
    /// Whether it is for that host: by its name, or by a star for its first part.
    #[must_use]
    pub fn is_for(&self, host: &str) -> bool {
        let is_it = |named: &String| match named.strip_prefix("*.") {
            None => named.eq_ignore_ascii_case(host),
            Some(rest) => host.split_once('.').is_some_and(|(_, parent)| parent.eq_ignore_ascii_case(rest)),
        };
        self.hosts.iter().any(is_it)
    }
}

/// Why a certificate was not accepted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotTrusted {
    /// Nobody known vouches for it.
    UnknownIssuer,
    /// It is for other hosts.
    OtherHost,
    /// Its time is over.
    Expired,
    /// Its time has not come.
    NotYet,
    /// Something else about it.
    Bad,
}

/// How the encryption went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tls {
    /// None was asked for.
    NotAskedFor,
    /// It stands. The certificate that was accepted, and whether the server asked for one of ours.
    Stands {
        /// Its certificate.
        certificate: Certificate,
        /// Whether it asked who we are.
        asks_for_ours: bool,
    },
    /// The certificate was not accepted.
    NotTrusted {
        /// Why.
        why: NotTrusted,
        /// The certificates that came, the server's own first.
        chain: Vec<Certificate>,
        /// The server's clock, as it told it without being trusted with anything.
        their_clock: Option<DateTime<Utc>>,
        /// Whether the first host that the certificate is for leads to the same server.
        leads_here: bool,
        /// Whether it is for another host too, whatever else is the matter.
        is_for_other_host: bool,
    },
    /// The server wants to know who we are, and refuses the connection.
    WantsOurs {
        /// Whether Wendor showed a certificate.
        shown: bool,
    },
    /// It speaks only what is not spoken any more: the version, and the cipher where it is told.
    Old(String),
    /// What came was not TLS.
    NotTls {
        /// What was said instead.
        words: Words,
    },
    /// It did not come about; what was said.
    Failed(String),
}

/// An answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Heard {
    /// Status.
    pub status: u16,
    /// Content type, without its parameters, in small letters.
    pub content_type: String,
    /// Where it leads to.
    pub location: Option<String>,
    /// The `server` header.
    pub server: Option<String>,
    /// How one is to sign in, by the `www-authenticate` or `proxy-authenticate` header.
    pub challenge: Option<String>,
    /// Seconds after which to ask again.
    pub retry_after: Option<u64>,
    /// As much of the body as was read.
    pub body: Bytes,
}

/// Why there is no answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotHeard {
    /// The connection did not come about.
    NoConnection,
    /// What came was not HTTP; what it was.
    NotHttp(Words),
    /// Nothing came within so many milliseconds.
    TimedOut(u64),
    /// The connection was closed without an answer.
    Closed,
    /// The connection was reset.
    Reset,
    /// It was not asked: so many answers of Wendor's are under way there, which a look could end.
    Busy(u32),
    /// Something else broke.
    Broke,
}

/// What a port says to somebody who speaks plainly, where it is not an answer in HTTP.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Words {
    /// TLS.
    Tls,
    /// HTTP, in plain.
    Http,
    /// The second version of HTTP alone, in plain.
    Http2,
    /// A text of its own.
    Text(String),
    /// Bytes that say nothing.
    Bytes,
    /// Nothing.
    #[default]
    Nothing,
    /// It closes the connection without a word.
    Closed,
    /// It resets the connection.
    Reset,
}

impl Words {
    /// What bytes are that a port said first, or in answer to a plain request. Texts are kept as far as a line of a terminal.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        // A frame of settings: a length of three bytes, its type, flags, and the connection's own stream.
        let is_http2 = bytes.len() >= 9 && bytes.get(3) == Some(&4) && bytes.get(5..9) == Some(&[0; 4][..]);
        // A record of the handshake, or an alert, in any version.
        let is_tls = matches!(bytes, [0x15 | 0x16, 0x03, ..]);
        if bytes.is_empty() {
            Self::Nothing
        } else if is_http2 {
            Self::Http2
        } else if is_tls {
            Self::Tls
        } else if bytes.starts_with(b"HTTP/1") {
            Self::Http
        } else {
            let line = bytes.split(|byte| matches!(byte, b'\r' | b'\n')).next().unwrap_or_default();
            let is_text = line.len() > 3 && line.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ');
            if is_text {
                Self::Text(String::from_utf8_lossy(line.get(..80).unwrap_or(line)).into_owned())
            } else {
                Self::Bytes
            }
        }
    }
}

/// What answered, if anything.
pub type Answered = Result<Heard, NotHeard>;

/// An answer at a path below an address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct At {
    /// The address.
    pub address: Address,
    /// The path below it.
    pub path: String,
    /// What was answered.
    pub heard: Heard,
}

impl Heard {
    /// Whether it is a page for people.
    #[must_use]
    pub fn is_page(&self) -> bool {
        self.content_type == "text/html" || self.body.trim_ascii_start().starts_with(b"<")
    }

    /// The body as JSON, if it is.
    #[must_use]
    pub fn json(&self) -> Option<serde_json::Value> {
        serde_json::from_slice(&self.body).ok()
    }

    /// Status and kind of body, in words.
    #[must_use]
    pub fn told(&self) -> String {
        let kind = match (self.is_page(), self.json().is_some(), self.body.is_empty()) {
            (true, _, _) => ", a web page",
            (false, true, _) => "",
            (false, false, true) => ", empty",
            (false, false, false) => ", no JSON",
        };
        format!("{}{kind}", self.status)
    }
}
