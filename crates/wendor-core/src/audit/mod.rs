//! The audit: what was done to an installation, by whom and from where, one entry after the other.
//!
//! Each entry carries a hash over its own fields and over the hash of the entry before ([`hash`]), so that whoever edits, removes or moves
//! one in the database breaks the chain at that place ([`verify`]). Whoever can write the whole table can make the whole chain anew: against
//! that helps only a head ([`Head`]) that is kept elsewhere.

mod action;
pub mod verify;

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, SubsecRound, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};

pub use action::Action;

/// Who does something, from where, and when.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Doer {
    /// Their name; the service's own for what it does by itself.
    pub name: String,
    /// The address that they come from; empty for what is done on the server.
    pub address: String,
    /// By what: `console`, `token ID`, `server`, `service`.
    pub through: String,
    /// When.
    pub at: DateTime<Utc>,
}

impl Doer {
    /// The service, by itself.
    #[must_use]
    pub fn service(at: DateTime<Utc>) -> Self {
        Self { name: "wendor".to_owned(), address: String::new(), through: "service".to_owned(), at }
    }

    /// Whoever can start commands on the server, which knows no name for them.
    #[must_use]
    pub fn on_the_server(at: DateTime<Utc>) -> Self {
        Self { name: "the server's console".to_owned(), address: String::new(), through: "server".to_owned(), at }
    }
}

/// What is done.
#[derive(Clone, Debug, PartialEq)]
pub struct Deed {
    /// The kind of thing.
    pub action: Action,
    /// To what, such as `key wk-..`.
    pub subject: String,
    /// What was before; nothing where there was nothing. Secrets are never in it.
    pub before: Option<Value>,
    /// State of the thing afterwards; nothing where it was removed.
    pub after: Option<Value>,
}

impl Deed {
    /// Something that has neither before nor after.
    #[must_use]
    pub fn of(action: Action, subject: impl Into<String>) -> Self {
        Self { action, subject: subject.into(), before: None, after: None }
    }

    /// Adds the state that was replaced.
    #[must_use]
    pub fn before(self, before: Value) -> Self {
        Self { before: Some(before), ..self }
    }

    /// Adds the state that stands now.
    #[must_use]
    pub fn after(self, after: Value) -> Self {
        Self { after: Some(after), ..self }
    }
}

/// A SHA-256.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Digest(pub [u8; 32]);

impl Digest {
    /// What the first entry says of the one before.
    pub const NONE: Self = Self([0; 32]);
}

impl fmt::Display for Digest {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(formatter, "{byte:02x}"))
    }
}

/// A text that is no digest.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a hash: one has 64 digits, 0 to 9 and a to f")]
pub struct BadDigest(String);

impl FromStr for Digest {
    type Err = BadDigest;
    fn from_str(text: &str) -> Result<Self, BadDigest> {
        let bad = || BadDigest(text.chars().take(80).collect());
        if text.len() != 64 || !text.is_ascii() {
            return Err(bad());
        }
        let mut bytes = [0; 32];
        for (index, byte) in bytes.iter_mut().enumerate() {
            let pair = text.get(2 * index..2 * index + 2).ok_or_else(bad)?;
            *byte = u8::from_str_radix(pair, 16).map_err(|_| bad())?;
        }
        Ok(Self(bytes))
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.to_string()
    }
}

impl TryFrom<String> for Digest {
    type Error = BadDigest;
    fn try_from(text: String) -> Result<Self, BadDigest> {
        text.parse()
    }
}

/// Where the chain ends: the last entry's number and hash.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Head {
    /// Its number; 0 before the first.
    pub number: i64,
    /// Of the newest entry; the next one takes it in.
    pub hash: Digest,
}

impl Head {
    /// Before the first entry.
    pub const NONE: Self = Self { number: 0, hash: Digest::NONE };
}

impl fmt::Display for Head {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}:{}", self.number, self.hash)
    }
}

impl FromStr for Head {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let form =
            || format!("{text:?} is not the head of an audit: write NUMBER:HASH, as `wendor audit verify` prints it");
        let (number, hash) = text.trim().split_once(':').ok_or_else(form)?;
        Ok(Self { number: number.parse().map_err(|_| form())?, hash: hash.parse().map_err(|_| form())? })
    }
}

/// An entry as it is kept, with its place in the chain. Its serialised form is a line of an export.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// Its number, from 1, without gaps.
    pub number: i64,
    /// When, in microseconds.
    pub at: DateTime<Utc>,
    /// By whom.
    pub by: String,
    /// Address of the client, behind trusted proxies the one that they name.
    pub address: String,
    /// By what.
    pub through: String,
    /// The kind of thing that was done.
    pub action: String,
    /// To what.
    pub subject: String,
    /// What was before, as JSON in the very letters that are hashed.
    pub before: Option<String>,
    /// What is after, likewise.
    pub after: Option<String>,
    /// The hash of the entry before.
    pub previous: Digest,
    /// Over everything above; the next entry takes it in, so that none can be changed alone.
    pub hash: Digest,
}

impl Entry {
    /// The entry that follows `head`.
    #[must_use]
    pub fn following(head: Head, doer: &Doer, deed: &Deed) -> Self {
        let mut entry = Self {
            number: head.number + 1,
            // As finely as the database keeps it.
            at: doer.at.trunc_subsecs(6),
            by: doer.name.clone(),
            address: doer.address.clone(),
            through: doer.through.clone(),
            action: deed.action.as_str().to_owned(),
            subject: deed.subject.clone(),
            before: deed.before.as_ref().map(Value::to_string),
            after: deed.after.as_ref().map(Value::to_string),
            previous: head.hash,
            hash: Digest::NONE,
        };
        entry.hash = hash(&entry, entry.number);
        entry
    }

    /// Where the chain ends with this one.
    #[must_use]
    pub fn head(&self) -> Head {
        Head { number: self.number, hash: self.hash }
    }
}

/// The hash of an entry at the place `number`: SHA-256 over the 32 bytes of the previous hash and then the fields number, at (microseconds
/// since 1970), by, address, through, action, subject, before, after as text, each as one byte that says whether it is there (1 or 0), its
/// length in bytes (8 bytes, the highest first) and itself in UTF-8. A field that is not there has the byte 0 alone.
#[must_use]
pub fn hash(entry: &Entry, number: i64) -> Digest {
    let (number, at) = (number.to_string(), entry.at.timestamp_micros().to_string());
    let there = [&number, &at, &entry.by, &entry.address, &entry.through, &entry.action, &entry.subject];
    let fields = there.into_iter().map(Some).chain([entry.before.as_ref(), entry.after.as_ref()]);
    let mut sum = Sha256::new();
    sum.update(entry.previous.0);
    for field in fields {
        match field {
            Some(text) => {
                sum.update([1]);
                sum.update((text.len() as u64).to_be_bytes());
                sum.update(text.as_bytes());
            }
            None => sum.update([0]),
        }
    }
    Digest(sum.finalize().into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn at() -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_000, 123_456_789).unwrap()
    }

    #[test]
    fn the_hash_is_over_what_its_description_says() {
        let deed = Deed::of(Action::KeyRevoked, "key k1").after(json!({ "b": 1 }));
        let entry = Entry::following(Head::NONE, &Doer::on_the_server(at()), &deed);
        let mut bytes = vec![0; 32];
        for field in ["1", "1790000000123456", "the server's console", "", "server", "key-revoked", "key k1"] {
            bytes.push(1);
            bytes.extend((field.len() as u64).to_be_bytes());
            bytes.extend(field.bytes());
        }
        bytes.push(0);
        let after = r#"{"b":1}"#;
        bytes.push(1);
        bytes.extend((after.len() as u64).to_be_bytes());
        bytes.extend(after.bytes());
        assert_eq!(entry.hash, Digest(Sha256::digest(&bytes).into()));
        assert_eq!(entry.at.timestamp_subsec_nanos(), 123_456_000, "the database keeps microseconds");
    }

    #[test]
    fn a_head_reads_back() {
        let entry = Entry::following(Head::NONE, &Doer::service(at()), &Deed::of(Action::CredentialsErased, "2"));
        assert_eq!(entry.head().to_string().parse(), Ok(entry.head()));
        for bad in ["", "7", "x:00", &format!("1:{}", "é".repeat(32)), &format!("1:{}", "g".repeat(64))] {
            assert!(bad.parse::<Head>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_line_of_an_export_reads_back() {
        let entry = Entry::following(Head::NONE, &Doer::service(at()), &Deed::of(Action::SignedIn, "clerk"));
        let line = serde_json::to_string(&entry).unwrap();
        assert_eq!(serde_json::from_str::<Entry>(&line).unwrap(), entry);
    }

    proptest! {
        /// Text that moves from one field to the next is another entry.
        #[test]
        fn no_two_divisions_of_a_text_have_one_hash(text in "[a-c]{1,12}", at_first in 0usize..12, at_second in 0usize..12) {
            let of = |cut: usize| {
                let cut = cut.min(text.len());
                let doer = Doer { name: text[..cut].to_owned(), address: text[cut..].to_owned(), ..Doer::service(at()) };
                Entry::following(Head::NONE, &doer, &Deed::of(Action::SignedIn, ""))
            };
            let (first, second) = (of(at_first), of(at_second));
            prop_assert_eq!(first.hash == second.hash, first.by == second.by);
        }
    }
}
