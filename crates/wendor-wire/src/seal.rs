//! Seals of thinking: opaque texts by which the service that made some thinking recognises it when it comes back.
//!
//! A seal does not tell who made it, and a service refuses one that it did not make. On the way to an app each is marked with the
//! seal domain of its upstream (services that accept each other's seals have one domain); on the way back the mark is taken off
//! for an upstream of that domain, and for others the thinking is left out (`docs/protocols.md` section 8.7). Some client libraries decode
//! seals as base64, so the mark is base64 itself, of a length that leaves the rest as it was.

use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use sha2::{Digest, Sha256};

/// What marks of signatures begin with: base64 of "wendor-seal:", twelve bytes, so that it is sixteen characters without a rest.
const SIGNATURE_MARK: &str = "d2VuZG9yLXNlYWw6";

/// The same of thinking that cannot be read, "wendor-veil:": dialects that have one kind of seal bring it back as what it was.
const REDACTED_MARK: &str = "d2VuZG9yLXZlaWw6";

/// What both begin with.
const ANY_MARK: &str = "d2VuZG9yLX";

/// Opaque text that a server wants back with the next turn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Seal {
    /// Proves the thinking that it stands with.
    Signature(String),
    /// Holds thinking that cannot be read.
    Redacted(String),
}

impl Seal {
    /// As it goes back to the server.
    #[must_use]
    pub fn text(&self) -> &str {
        match self {
            Self::Signature(text) | Self::Redacted(text) => text,
        }
    }

    fn mark(&self) -> &'static str {
        match self {
            Self::Signature(_) => SIGNATURE_MARK,
            Self::Redacted(_) => REDACTED_MARK,
        }
    }
}

/// Services that accept each other's seals.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SealDomain(Arc<str>);

impl SealDomain {
    /// The domain of that name.
    #[must_use]
    pub fn named(name: &str) -> Self {
        let hash = Sha256::digest(name.as_bytes());
        // Letters and digits alone: the two alphabets of base64 differ in the rest.
        let letters = hash.iter().take(9).map(|byte| b"0123456789abcdefghijklmnopqrstuv"[usize::from(byte & 31)]);
        Self(BASE64.encode(letters.collect::<Vec<u8>>()).into())
    }

    /// That of a service itself, whose seals leave as it makes them.
    #[must_use]
    pub fn unmarked() -> Self {
        Self("".into())
    }

    /// A seal of this domain as apps get it.
    #[must_use]
    pub fn mark(&self, seal: &Seal) -> String {
        let text = seal.text();
        let is_marked = !text.is_empty() && !self.0.is_empty();
        if is_marked { format!("{}{}{text}", seal.mark(), self.0) } else { text.to_owned() }
    }

    /// Whose the text of a seal is that an app sent back.
    #[must_use]
    pub fn origin<'s>(&self, text: &'s str) -> Origin<'s> {
        if self.0.is_empty() {
            return Origin::Unmarked;
        }
        let marked = text.strip_prefix(SIGNATURE_MARK).map(|rest| (rest, false));
        let marked = marked.or_else(|| text.strip_prefix(REDACTED_MARK).map(|rest| (rest, true)));
        let Some((rest, is_redacted)) = marked else { return Origin::Unmarked };
        match rest.strip_prefix(&*self.0) {
            Some(own) if is_redacted => Origin::OwnRedacted(own),
            Some(own) => Origin::Own(own),
            None => Origin::Foreign,
        }
    }
}

/// Whether a text may hold a marked seal.
#[must_use]
pub fn holds_mark(text: &[u8]) -> bool {
    memchr::memmem::find(text, ANY_MARK.as_bytes()).is_some()
}

/// Whose a seal is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin<'s> {
    /// Of this domain; as the service made it.
    Own(&'s str),
    /// The same, and it holds thinking that cannot be read.
    OwnRedacted(&'s str),
    /// Of another.
    Foreign,
    /// It never went through here: an app brought it from somewhere else.
    Unmarked,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_seal_comes_back_to_its_own_domain_only(seal in "[A-Za-z0-9+/]{1,40}={0,2}", name in "[a-z]{1,9}", other in "[a-z]{1,9}") {
            let domain = SealDomain::named(&name);
            let marked = domain.mark(&Seal::Signature(seal.clone()));
            prop_assert_eq!(domain.origin(&marked), Origin::Own(seal.as_str()));
            let redacted = domain.mark(&Seal::Redacted(seal.clone()));
            prop_assert_eq!(domain.origin(&redacted), Origin::OwnRedacted(seal.as_str()));
            prop_assert!(holds_mark(marked.as_bytes()) && holds_mark(redacted.as_bytes()));
            prop_assert_eq!(domain.origin(&seal), Origin::Unmarked);
            prop_assert_eq!(SealDomain::named(&other).origin(&marked) == Origin::Foreign, name != other);
            prop_assert_eq!((marked.len() - seal.len()) % 4, 0, "the base64 behind the mark stays what it is");
        }
    }

    #[test]
    fn no_seal_gets_no_mark() {
        assert_eq!(SealDomain::named("farlight").mark(&Seal::Signature(String::new())), "");
    }
}
