//! An upstream: a server that serves models, and the offers it makes.
//!
//! Text from the catalogue file enters and checked parts leave. Credentials are references to where the service finds
//! them, never values.

use std::collections::BTreeMap;
use std::num::NonZeroU32;

use serde::{Deserialize, Serialize};
use wendor_wire::ability::{Ability, Controls, Mark};
use wendor_wire::address::Addresses;
use wendor_wire::dialect::Dialect;

use super::weights::WeightsPin;
use crate::name::Name;
use crate::routing::pace::MinuteLimits;

pub use super::address::{Address, AddressParts, is_loopback};
pub use super::auth::{Auth, BASIC, authorization};

/// Whether an upstream is our own hardware or paid for by use.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Hosting {
    /// Our own hardware.
    Own,
    /// Paid for by use.
    Hosted,
}

/// Where the service finds an upstream's credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CredentialSource {
    /// In this environment variable of the service.
    Env(String),
    /// In this file, read by the service; white space around it does not count.
    File(String),
    /// Kept by Wendor, encrypted; the id of what is kept.
    Kept(String),
}

/// How variables begin that hold credentials: nothing else of the service's environment can be named in a catalogue.
pub const CREDENTIAL_VARIABLES: &str = "WENDOR_UPSTREAM_";

impl CredentialSource {
    /// The variable of that name.
    ///
    /// # Errors
    /// When it is none that holds credentials.
    pub fn env(name: &str) -> Result<Self, String> {
        let rest = name.strip_prefix(CREDENTIAL_VARIABLES).unwrap_or_default();
        let is_allowed = |byte: u8| byte.is_ascii_uppercase() || byte.is_ascii_digit() || byte == b'_';
        if rest.is_empty() || !rest.bytes().all(is_allowed) {
            return Err(format!(
                "`{}` is not a variable for a credential: name it `{CREDENTIAL_VARIABLES}NAME`, in capitals, where the service runs",
                name.escape_debug()
            ));
        }
        Ok(Self::Env(name.to_owned()))
    }

    /// The file of that path. Whether it lies in the folder of credentials is found out where it is read.
    ///
    /// # Errors
    /// When it makes no path.
    pub fn file(path: &str) -> Result<Self, String> {
        if path.is_empty() || path.contains(char::is_control) || path.split('/').any(|step| step == "..") {
            return Err(format!(
                "`{}` is not a file for a credential: write its path in the folder that the setting `credentials` names",
                path.escape_debug()
            ));
        }
        Ok(Self::File(path.to_owned()))
    }

    /// The kept one of that id.
    ///
    /// # Errors
    /// When it makes no id.
    pub fn kept(id: &str) -> Result<Self, String> {
        let is_allowed = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
        if id.is_empty() || !id.bytes().all(is_allowed) {
            return Err(format!(
                "`{}` is not the id of a kept credential, such as `crd-7qk2m0xz4t`",
                id.escape_debug()
            ));
        }
        Ok(Self::Kept(id.to_owned()))
    }

    /// Where it is, in words.
    #[must_use]
    pub fn place(&self) -> String {
        match self {
            Self::Env(name) => format!("the service's variable {name}"),
            Self::File(path) => format!("the file {path}"),
            Self::Kept(id) => format!("the credential {id} that Wendor keeps"),
        }
    }
}

/// Request headers that an upstream must not set: Wendor sets them itself, on every request or on each attempt.
const OWN_HEADERS: [&str; 9] = [
    "host",
    "content-length",
    "content-type",
    "transfer-encoding",
    "connection",
    "accept",
    "accept-encoding",
    "x-request-id",
    "traceparent",
];

/// A further request header of an upstream: its name in small letters, and its value.
///
/// # Errors
/// When Wendor sets it itself, or it makes none.
pub fn further_header(name: &str, value: &str) -> Result<(String, String), String> {
    let small = name.to_ascii_lowercase();
    if http::HeaderName::try_from(&small).is_err() {
        return Err(format!("`{}` is not a header name", name.escape_debug()));
    }
    if OWN_HEADERS.contains(&small.as_str()) {
        return Err(format!("`{name}` cannot be set as a header here: Wendor sets it itself"));
    }
    if http::HeaderValue::try_from(value).is_err() {
        return Err(format!("the value of `{name}` is not a valid header: use visible characters only"));
    }
    Ok((small, value.to_owned()))
}

/// One model at one upstream.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Offer {
    /// The most output tokens that the upstream makes for one choice; what a request without a limit reserves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output_cap: Option<NonZeroU32>,
    /// Tokens that prompt and answer may have together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context_window: Option<NonZeroU32>,
    /// What it can do; all that its dialect has when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub abilities: Option<Vec<Ability>>,
    /// Kinds of images that it takes; every kind when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_kinds: Option<Vec<String>>,
    /// What it may be given by address.
    #[serde(default, skip_serializing_if = "Addresses::is_usual")]
    pub addresses: Addresses,
    /// What it does beyond its dialect, or less.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
    /// How many requests it takes in a minute; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_a_minute: Option<NonZeroU32>,
    /// How many tokens it takes in a minute, input and output; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens_a_minute: Option<NonZeroU32>,
    /// What it lets apps control.
    #[serde(default, skip_serializing_if = "is_unset")]
    pub controls: Controls,
    /// The weights that it must be served with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weights: Option<WeightsPin>,
    /// What is known of the model, by the words of [`super::weights::ABOUT`].
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub about: BTreeMap<String, String>,
}

fn minute_limits(requests: Option<NonZeroU32>, tokens: Option<NonZeroU32>) -> MinuteLimits {
    let count = |limit: NonZeroU32| u64::from(limit.get());
    MinuteLimits { requests: requests.map(count), tokens: tokens.map(count) }
}

fn is_unset(controls: &Controls) -> bool {
    *controls == Controls::default()
}

impl Offer {
    /// How much of it may be asked for in a minute.
    #[must_use]
    pub fn a_minute(&self) -> MinuteLimits {
        minute_limits(self.requests_a_minute, self.tokens_a_minute)
    }

    /// Whether it can do that, as far as it says.
    #[must_use]
    pub fn can(&self, ability: Ability) -> bool {
        self.abilities.as_ref().is_none_or(|abilities| abilities.contains(&ability))
    }
}

/// The SHA-256 of a certificate, as `sha256:` and 64 hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Fingerprint(String);

impl Fingerprint {
    /// Reads one. Colons between the digits, as many tools print them, do not count.
    ///
    /// # Errors
    /// A sentence with the text.
    pub fn parse(text: &str) -> Result<Self, String> {
        let digits: String = text.trim().trim_start_matches("sha256:").chars().filter(|each| *each != ':').collect();
        if digits.len() == 64 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            Ok(Self(format!("sha256:{}", digits.to_ascii_lowercase())))
        } else {
            Err(format!("`{text}` is not a certificate fingerprint: write `sha256:` and 64 hexadecimal digits"))
        }
    }

    /// Of these 32 bytes.
    #[must_use]
    pub fn of_hash(hash: &[u8]) -> Self {
        Self(format!("sha256:{}", hash.iter().map(|byte| format!("{byte:02x}")).collect::<String>()))
    }

    /// As text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Fingerprint {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        Self::parse(&text)
    }
}

impl From<Fingerprint> for String {
    fn from(fingerprint: Fingerprint) -> Self {
        fingerprint.0
    }
}

/// Requests that may wait for room at an upstream that says nothing of it.
pub const USUAL_QUEUE: u32 = 100;

/// A server that serves models.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Upstream {
    /// Base address.
    pub address: Address,
    /// What it speaks.
    pub dialect: Dialect,
    /// Own hardware, or paid for by use.
    pub hosting: Hosting,
    /// A label such as `on-site`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// How many streams it can carry at once; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub streams: Option<NonZeroU32>,
    /// How many tokens it can have under way at once, input and output; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens: Option<NonZeroU32>,
    /// How many requests it takes in a minute; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_a_minute: Option<NonZeroU32>,
    /// How many tokens it takes in a minute, input and output; no limit when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens_a_minute: Option<NonZeroU32>,
    /// How many requests may wait for room there; [`USUAL_QUEUE`] when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub queue: Option<u32>,
    /// Whether it takes no new requests.
    #[serde(rename = "drained", default, skip_serializing_if = "std::ops::Not::not")]
    pub is_drained: bool,
    /// Where the credential is found; none is sent when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<CredentialSource>,
    /// How the credential is sent.
    #[serde(default)]
    pub auth: Auth,
    /// Further request headers, such as a version that the service demands.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    /// The one certificate that is accepted, whoever signed it; any that a known authority vouches for when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Fingerprint>,
    /// Whether its credential may cross a network unencrypted.
    #[serde(rename = "plain_http", default, skip_serializing_if = "std::ops::Not::not")]
    pub allows_plain_http: bool,
    /// A file of the service's folder of credentials with the certificate and the private key, in PEM, by which Wendor says who it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client_certificate: Option<String>,
    /// Whether requests go there without the ids of Wendor's own (`x-request-id`, `traceparent`), which some servers refuse.
    #[serde(rename = "no_request_ids", default, skip_serializing_if = "std::ops::Not::not")]
    pub is_without_ids: bool,
    /// Whether nothing looks at what it serves, or whether it answers, unless somebody asks for it.
    #[serde(rename = "no_looks", default, skip_serializing_if = "std::ops::Not::not")]
    pub is_not_looked_at: bool,
    /// The name of the services that accept each other's seals of thinking; its own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seals: Option<String>,
    /// What it was called before, the oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub former: Vec<Name>,
    /// Its offers by model name.
    pub offers: BTreeMap<String, Offer>,
}

impl Upstream {
    /// An upstream at `address` about which nothing else is said.
    #[must_use]
    pub fn at(address: Address, dialect: Dialect, hosting: Hosting) -> Self {
        Self {
            address,
            dialect,
            hosting,
            place: None,
            streams: None,
            tokens: None,
            requests_a_minute: None,
            tokens_a_minute: None,
            queue: None,
            is_drained: false,
            credential: None,
            auth: Auth::Bearer,
            headers: BTreeMap::new(),
            certificate: None,
            allows_plain_http: false,
            client_certificate: None,
            is_without_ids: false,
            is_not_looked_at: false,
            seals: None,
            former: Vec::new(),
            offers: BTreeMap::new(),
        }
    }

    /// How much may be asked of it in a minute.
    #[must_use]
    pub fn a_minute(&self) -> MinuteLimits {
        minute_limits(self.requests_a_minute, self.tokens_a_minute)
    }

    /// Whether it is known to serve several requests at once: it says so, or it is a service. On one that serves one at a time a look may end
    /// an answer that is under way.
    #[must_use]
    pub fn serves_several(&self) -> bool {
        self.hosting == Hosting::Hosted || self.streams.is_some_and(|streams| streams.get() > 1)
    }

    /// Whether its credential would cross a network for everyone on it to read, and nobody has allowed that.
    #[must_use]
    pub fn exposes_credential(&self) -> bool {
        self.credential.is_some()
            && !self.address.is_encrypted()
            && !is_loopback(self.address.host())
            && !self.allows_plain_http
    }
}
