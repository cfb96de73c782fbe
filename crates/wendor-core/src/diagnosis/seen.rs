//! What the service may see of an upstream, as it hands it over to be judged.

use std::net::SocketAddr;

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
    /// Whether the host is this machine, and the port is open to itself alone.
    pub is_open_to_itself: bool,
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
    /// Who signed it.
    pub issuer: String,
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
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
    /// It stands. The certificate that was accepted.
    Stands(Certificate),
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
    },
    /// What came was not TLS.
    NotTls {
        /// Whether plain HTTP was answered.
        speaks_http: bool,
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
    /// What came was not HTTP; whether the port speaks TLS instead.
    NotHttp {
        /// Whether it does.
        speaks_tls: bool,
    },
    /// Nothing came within so many milliseconds.
    TimedOut(u64),
    /// The connection broke.
    Broke,
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
