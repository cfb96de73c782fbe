//! Keys of apps and tokens of people: one text form, `wdr-<id>-<secret>-<check>`.
//!
//! The id finds it in logs, the check lets a mistyped or cut text be told apart without a look-up and lets secret scanners
//! recognise one. Random bytes enter and a text leaves once; from then on only its hash is kept.

use std::borrow::Cow;

use chrono::{DateTime, Utc};
use sha2::{Digest, Sha256};
use smol_str::SmolStr;

use super::team::Access;
use crate::base32;
use crate::name::Name;
use crate::routing::queue::Lane;
use crate::secret::Secret;

/// Random bytes that a text is made of: 5 of the id, 20 of the secret (160 bits).
pub const RANDOM_BYTES: usize = 25;

/// Letters of a text: its prefix, id, secret and check part, with the lines between.
pub const TEXT_LENGTH: usize = 3 + 1 + 8 + 1 + 32 + 1 + 7;

/// What a text opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyKind {
    /// An app's key: `wdr-..`.
    App,
    /// A person's token: `wdt-..`.
    Person,
}

impl KeyKind {
    fn prefix(self) -> &'static str {
        match self {
            Self::App => "wdr",
            Self::Person => "wdt",
        }
    }
}

/// The SHA-256 of a key's text. The secret part has 160 random bits, so a slow hash would add nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct KeyHash(pub [u8; 32]);

/// A text of the right form whose check part is right; whether anyone issued it is another matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyText {
    /// The part that may be shown and logged.
    pub id: SmolStr,
    /// The hash that it is looked up by.
    pub hash: KeyHash,
}

/// Why a text is not a key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadKey {
    /// Not of the form at all.
    #[error("this is not a Wendor key: one begins with `{0}-` and has four parts")]
    OtherForm(&'static str),
    /// The check part does not fit the rest.
    #[error("this key is mistyped or cut: its last part does not fit the rest; copy it again in full")]
    Mistyped,
}

impl KeyText {
    /// Makes a new text from random bytes: what to show once, and what to keep.
    #[must_use]
    pub fn mint(kind: KeyKind, random: &[u8; RANDOM_BYTES]) -> (Secret, Self) {
        let (id, secret) = (base32::of_bytes(&random[..5]), base32::of_bytes(&random[5..]));
        let body = format!("{}-{id}-{secret}", kind.prefix());
        let text = format!("{body}-{}", check_of(&body));
        let hash = hash_of(&text);
        (Secret::new(text), Self { id: id.into(), hash })
    }

    /// Reads what someone presented.
    ///
    /// # Errors
    /// [`BadKey::OtherForm`] or [`BadKey::Mistyped`]; neither holds any of the text.
    pub fn parse(kind: KeyKind, text: &str) -> Result<Self, BadKey> {
        let other_form = BadKey::OtherForm(kind.prefix());
        let Some(rest) = text.strip_prefix(kind.prefix()).and_then(|rest| rest.strip_prefix('-')) else {
            return Err(other_form);
        };
        let (body, check) = text.rsplit_once('-').ok_or(other_form)?;
        let id = rest.split('-').next().unwrap_or_default();
        if rest.split('-').count() != 3 || !digits_of_check(body).eq(check.bytes()) {
            return Err(BadKey::Mistyped);
        }
        Ok(Self { id: id.into(), hash: hash_of(text) })
    }
}

/// The id in what somebody gives for one: people paste whole keys and tokens.
#[must_use]
pub fn id_in(text: &str) -> &str {
    let text = text.trim();
    let rest = text.strip_prefix("wdr-").or_else(|| text.strip_prefix("wdt-"));
    rest.and_then(|rest| rest.split('-').next()).filter(|id| !id.is_empty()).unwrap_or(text)
}

/// `text` with every whole key and token in it cut to its id, which may be shown and logged.
#[must_use]
pub fn without_secrets(text: &str) -> Cow<'_, str> {
    let begins = |rest: &str| ["wdr-", "wdt-"].iter().filter_map(|prefix| rest.find(prefix)).min();
    let (mut out, mut from) = (String::new(), 0);
    let mut rest = text;
    while let Some(at) = begins(rest) {
        let start = text.len() - rest.len() + at;
        let whole = text.get(start..start + TEXT_LENGTH).unwrap_or_default();
        let kinds = [KeyKind::App, KeyKind::Person];
        match kinds.into_iter().find_map(|kind| KeyText::parse(kind, whole).ok().map(|key| (kind, key))) {
            Some((kind, key)) => {
                out.push_str(text.get(from..start).unwrap_or_default());
                out.push_str(&format!("{}-{}-..", kind.prefix(), key.id));
                from = start + TEXT_LENGTH;
                rest = text.get(from..).unwrap_or_default();
            }
            None => rest = text.get(start + 4..).unwrap_or_default(),
        }
    }
    if from == 0 {
        return Cow::Borrowed(text);
    }
    out.push_str(text.get(from..).unwrap_or_default());
    Cow::Owned(out)
}

fn check_of(body: &str) -> String {
    digits_of_check(body).map(char::from).collect()
}

/// 32 bits as seven digits, the last one padded with zero bits.
fn digits_of_check(body: &str) -> impl Iterator<Item = u8> {
    base32::digits(u128::from(crc32fast::hash(body.as_bytes())) << 3, 7)
}

fn hash_of(text: &str) -> KeyHash {
    KeyHash(Sha256::digest(text.as_bytes()).into())
}

/// What is known of an app's key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AppKey {
    /// The part that may be shown.
    pub id: String,
    /// Whose it is.
    pub team: Name,
    /// What it is for, in its issuer's words.
    pub label: String,
    /// The routes it may use, within those of its team.
    pub access: Access,
    /// The lane of what it asks: with `batch` everything, otherwise as each request says.
    pub lane: Lane,
    /// From then on it is refused.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since then it is refused.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Whether a key opens anything now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyState {
    /// It does.
    Good,
    /// Revoked at that instant.
    Revoked(DateTime<Utc>),
    /// Expired at that instant.
    Expired(DateTime<Utc>),
}

impl AppKey {
    /// The key's state at `now`; revoked goes before expired.
    #[must_use]
    pub fn state(&self, now: DateTime<Utc>) -> KeyState {
        match (self.revoked_at, self.expires_at) {
            (Some(at), _) => KeyState::Revoked(at),
            (None, Some(at)) if at <= now => KeyState::Expired(at),
            (None, _) => KeyState::Good,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_whole_key_is_taken_for_its_id_and_never_repeated() {
        let (secret, key) = KeyText::mint(KeyKind::App, &[7; RANDOM_BYTES]);
        let (token, person) = KeyText::mint(KeyKind::Person, &[9; RANDOM_BYTES]);
        let (secret, token) = (secret.expose(), token.expose());
        assert_eq!(
            (id_in(secret), id_in(token), id_in(" 3f9k2mq7 "), id_in("wdr-")),
            (key.id.as_str(), person.id.as_str(), "3f9k2mq7", "wdr-")
        );
        let sentence = format!("there is no route `{secret}`; {token}, wdr-, wdr-é and {secret}");
        let expected =
            format!("there is no route `wdr-{0}-..`; wdt-{1}-.., wdr-, wdr-é and wdr-{0}-..", key.id, person.id);
        assert_eq!(without_secrets(&sentence), expected);
        assert!(matches!(without_secrets("nothing of wdr-3f9k2mq7"), Cow::Borrowed(_)));
    }

    #[test]
    fn every_text_is_of_one_length() {
        for kind in [KeyKind::App, KeyKind::Person] {
            assert_eq!(KeyText::mint(kind, &[255; RANDOM_BYTES]).0.expose().len(), TEXT_LENGTH);
        }
    }

    proptest! {
        #[test]
        fn a_changed_character_or_a_cut_is_told_apart(random: [u8; RANDOM_BYTES], place in 0usize..60, cut in 1usize..20) {
            let (secret, kept) = KeyText::mint(KeyKind::App, &random);
            let text = secret.expose();
            prop_assert_eq!(KeyText::parse(KeyKind::App, text), Ok(kept));
            let place = 4 + place % (text.len() - 4);
            let mut changed = text.as_bytes().to_vec();
            changed[place] = if changed[place] == b'7' { b'8' } else { b'7' };
            let changed = String::from_utf8(changed).unwrap();
            prop_assert_eq!(KeyText::parse(KeyKind::App, &changed), Err(BadKey::Mistyped));
            prop_assert!(KeyText::parse(KeyKind::App, &text[..text.len() - cut]).is_err());
            prop_assert_eq!(KeyText::parse(KeyKind::Person, text), Err(BadKey::OtherForm("wdt")));
        }
    }

    #[test]
    fn the_text_has_the_designed_form() {
        let (secret, kept) = KeyText::mint(KeyKind::App, &[7; RANDOM_BYTES]);
        assert_eq!(secret.expose().split('-').map(str::len).collect::<Vec<_>>(), [3, 8, 32, 7]);
        assert_eq!(format!("{secret:?}"), "Secret(..)");
        assert_eq!(secret.expose().split('-').nth(1), Some(kept.id.as_str()));
    }
}
