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
    /// The host is there and nothing listens on that port.
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
    /// Names and addresses that it is valid for, wildcards as written.
    pub hosts: Vec<String>,
    /// From when on it is good.
    pub from: DateTime<Utc>,
    /// Last moment at which it is valid.
    pub until: DateTime<Utc>,
    /// Whether it is signed by itself.
    pub is_self_signed: bool,
    /// Its version: 3 is in use, 1 names no hosts and is accepted nowhere.
    pub version: u32,
    /// Who signed it.
    pub issuer: String,
    /// SHA-256 of the whole certificate.
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
    /// None of its names is the host that was asked.
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
        /// What the server showed, the leaf of its chain.
        certificate: Certificate,
        /// Whether it asked who we are.
        asks_for_ours: bool,
    },
    /// The certificate was not accepted.
    NotTrusted {
        /// The first thing that stands against it.
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
    /// Status code of HTTP.
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
    /// A TLS record, where plain HTTP was spoken.
    Tls,
    /// HTTP, in plain.
    Http,
    /// The second version of HTTP alone, in plain.
    Http2,
    /// A text of its own.
    Text(String),
    /// Bytes that say nothing.
    Bytes,
    /// The connection was closed without a byte.
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
    /// The base that `path` stands below.
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing(b"", Words::Nothing)]
    #[case::settings_of_http2(&[0, 0, 18, 4, 0, 0, 0, 0, 0], Words::Http2)]
    #[case::too_short_for_them(&[0, 0, 18, 4, 0, 0, 0, 0], Words::Bytes)]
    #[case::of_another_stream(&[0, 0, 18, 4, 0, 0, 0, 0, 1], Words::Bytes)]
    #[case::another_frame(&[0, 0, 18, 5, 0, 0, 0, 0, 0], Words::Bytes)]
    #[case::an_alert(&[0x15, 3, 1], Words::Tls)]
    #[case::a_handshake(&[0x16, 3, 3], Words::Tls)]
    #[case::another_record(&[0x17, 3, 3], Words::Bytes)]
    #[case::http(b"HTTP/1.1 400 Bad Request", Words::Http)]
    #[case::a_banner(b"220 quay ready\r\nmore", Words::Text("220 quay ready".to_owned()))]
    #[case::three_letters(b"abc\r\n", Words::Bytes)]
    #[case::four_letters(b"abcd\r\n", Words::Text("abcd".to_owned()))]
    #[case::no_letters(b"abcd\x01ef", Words::Bytes)]
    fn what_a_port_says(#[case] bytes: &[u8], #[case] expected: Words) {
        assert_eq!(Words::of(bytes), expected);
    }

    #[test]
    fn a_text_is_kept_as_far_as_a_line() {
        assert_eq!(Words::of(&[b'a'; 200]), Words::Text("a".repeat(80)));
    }

    fn heard(content_type: &str, body: &'static str) -> Heard {
        Heard { status: 200, content_type: content_type.to_owned(), body: body.into(), ..Heard::default() }
    }

    #[rstest]
    #[case::json(heard("application/json", "{}"), "200")]
    #[case::a_page_by_its_type(heard("text/html", "{}"), "200, a web page")]
    #[case::a_page_by_its_body(heard("", "  <html>"), "200, a web page")]
    #[case::empty(heard("", ""), "200, empty")]
    #[case::neither(heard("text/plain", "well"), "200, no JSON")]
    fn an_answer_in_words(#[case] heard: Heard, #[case] told: &str) {
        assert_eq!(heard.told(), told);
    }

    #[rstest]
    #[case::its_name("quarry.example", true)]
    #[case::in_capitals("QUARRY.EXAMPLE", true)]
    #[case::below_a_star("a.pier.example", true)]
    #[case::two_below_a_star("b.a.pier.example", false)]
    #[case::the_star_itself("pier.example", false)]
    #[case::another("chartroom.example", false)]
    fn the_hosts_of_a_certificate(#[case] host: &str, #[case] is_for: bool) {
        let at = DateTime::<Utc>::UNIX_EPOCH;
        let certificate = Certificate {
            hosts: vec!["quarry.example".to_owned(), "*.pier.example".to_owned()],
            from: at,
            until: at,
            is_self_signed: false,
            version: 3,
            issuer: String::new(),
            fingerprint: Fingerprint::parse(&format!("sha256:{}", "00".repeat(32))).unwrap(),
        };
        assert_eq!(certificate.is_for(host), is_for);
    }
}
