//! Secrets that a body holds: keys and tokens of this installation, and credentials of upstreams, however their letters are written. An
//! app that sends one up gives it to whoever runs that server.
//!
//! Letters written as JSON escapes or as `%XX` are found, also where JSON stands in a text of JSON; what is encrypted, compressed or in
//! base64 is not.

use std::borrow::Cow;
use std::collections::BTreeSet;

use aho_corasick::AhoCorasick;
use wendor_wire::steps::spent;

use crate::catalog::key::{KeyKind, KeyText, TEXT_LENGTH};
use crate::name::Name;
use crate::secret::Secret;

/// A credential that is shorter is found in too many texts.
const SHORTEST_CREDENTIAL: usize = 12;

/// So much of a credential's end is searched for; the rest is compared where that is found. Ends differ where beginnings are the same, and what
/// is searched for costs memory and time whenever a catalogue is read: tokens of some kilobytes are in use.
const SEARCHED: usize = 32;

/// How often letters are taken out of their escapes: JSON in a text of JSON in a text, and more than anybody writes.
const ROUNDS: usize = 6;

/// Keys and tokens looked at of one body: who sends more gets no better answer.
const MOST: usize = 64;

/// What must not leave in a body.
#[derive(Clone, Debug, Default)]
pub struct Guarded {
    /// Searches for the ends of credentials.
    ends: Option<AhoCorasick>,
    credentials: Vec<(Name, Secret)>,
}

/// A secret in a body.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Held {
    /// Of the form of an app's key; whether it opens anything is another matter.
    Key(KeyText),
    /// Of the form of a person's token.
    Token(KeyText),
    /// The credential of this upstream.
    Credential(Name),
}

impl Guarded {
    /// With the credentials of upstreams.
    #[must_use]
    pub fn of<'a>(credentials: impl Iterator<Item = (&'a Name, &'a Secret)>) -> Self {
        let trimmed = |(name, secret): (&Name, &Secret)| (name.clone(), Secret::new(secret.expose().trim()));
        let credentials: Vec<(Name, Secret)> =
            credentials.map(trimmed).filter(|(_, secret)| secret.expose().len() >= SHORTEST_CREDENTIAL).collect();
        let end = |(_, secret): &(Name, Secret)| {
            let text = secret.expose().as_bytes();
            text.get(text.len().saturating_sub(SEARCHED)..).unwrap_or(text).to_vec()
        };
        // It can only fail for more text than any installation has.
        let ends = if credentials.is_empty() { None } else { AhoCorasick::new(credentials.iter().map(end)).ok() };
        Self { ends, credentials }
    }

    /// What `body` holds.
    #[must_use]
    pub fn held_in(&self, body: &[u8]) -> Vec<Held> {
        let mut held = Vec::new();
        let mut seen = BTreeSet::new();
        let mut text = Cow::Borrowed(body);
        for _ in 0..ROUNDS {
            self.look(&text, &mut seen, &mut held);
            let Some(plainer) = with_plain_letters(&text) else { break };
            text = Cow::Owned(plainer);
        }
        held
    }

    fn look(&self, body: &[u8], seen: &mut BTreeSet<String>, held: &mut Vec<Held>) {
        spent(body.len());
        for (kind, prefix) in [(KeyKind::App, &b"wdr-"[..]), (KeyKind::Person, &b"wdt-"[..])] {
            for at in memchr::memmem::find_iter(body, prefix) {
                let text = body.get(at..at + TEXT_LENGTH).and_then(|text| std::str::from_utf8(text).ok());
                let Some(key) = text.and_then(|text| KeyText::parse(kind, text).ok()) else { continue };
                if held.len() < MOST && seen.insert(key.id.to_string()) {
                    held.push(if kind == KeyKind::App { Held::Key(key) } else { Held::Token(key) });
                }
            }
        }
        let Some(ends) = &self.ends else { return };
        let end = ends.find_iter(body).find_map(|found| {
            let (upstream, secret) = self.credentials.get(found.pattern().as_usize())?;
            body.get(..found.end())?.ends_with(secret.expose().as_bytes()).then_some(upstream)
        });
        if let Some(upstream) = end {
            let credential = Held::Credential(upstream.clone());
            if !held.contains(&credential) {
                held.push(credential);
            }
        }
    }
}

/// The same with one layer of escapes taken off letters. `None` where there is none, as nearly always.
fn with_plain_letters(body: &[u8]) -> Option<Vec<u8>> {
    let is_number = |at: usize| body.get(at + 1..at + 3).is_some_and(|digits| digits.iter().all(u8::is_ascii_hexdigit));
    let may_hold_one = memchr::memchr_iter(b'%', body).any(is_number)
        || memchr::memmem::find(body, b"u00").is_some()
        || memchr::memmem::find(body, b"\\/").is_some();
    if !may_hold_one {
        return None;
    }
    let (mut out, mut from) = (Vec::with_capacity(body.len()), 0);
    while let Some(found) = memchr::memchr2(b'\\', b'%', body.get(from..)?) {
        let at = from + found;
        out.extend_from_slice(body.get(from..at)?);
        let (byte, length) = letter_at(body.get(at..)?);
        out.push(byte);
        from = at + length;
    }
    out.extend_from_slice(body.get(from..)?);
    (out.len() < body.len()).then_some(out)
}

/// The letter that an escape at the beginning stands for, and how long the escape is; what is none stands for itself.
fn letter_at(escape: &[u8]) -> (u8, usize) {
    let number = |digits: Option<&[u8]>| {
        let digits =
            std::str::from_utf8(digits?).ok().filter(|digits| digits.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
        u8::from_str_radix(digits, 16).ok().filter(u8::is_ascii)
    };
    match escape {
        [b'%', ..] => number(escape.get(1..3)).map_or((b'%', 1), |byte| (byte, 3)),
        [b'\\', b'u', b'0', b'0', ..] => number(escape.get(4..6)).map_or((b'\\', 1), |byte| (byte, 6)),
        [b'\\', byte @ (b'/' | b'\\' | b'"'), ..] => (*byte, 2),
        [first, ..] => (*first, 1),
        [] => (b' ', 0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn key(kind: KeyKind) -> (String, KeyText) {
        let (secret, text) = KeyText::mint(kind, &[7; 25]);
        (secret.expose().to_owned(), text)
    }

    fn guarded() -> Guarded {
        let (quarry, short) = (Name::parse("quarry").unwrap(), Name::parse("short").unwrap());
        let (secret, brief) = (Secret::new("qry/2f9k+planted=="), Secret::new("ferry"));
        Guarded::of([(&quarry, &secret), (&short, &brief)].into_iter())
    }

    fn every_letter(text: &str, escape: fn(u8) -> String) -> String {
        text.bytes().map(escape).collect()
    }

    fn hex(byte: u8) -> String {
        format!("\\u{byte:04x}")
    }

    /// Tokens of some kilobytes, many of which begin alike: searched for by their ends, told apart by the whole, and cheap to make ready.
    #[test]
    fn long_credentials_are_told_apart_and_cost_little() {
        let name = |number: usize| Name::parse(&format!("quarry-{number}")).unwrap();
        let names: Vec<Name> = (0..60).map(name).collect();
        let token = |number: usize| Secret::new(format!("{}-{number:032}", "e".repeat(4_000)));
        let tokens: Vec<Secret> = (0..60).map(token).collect();
        let guarded = Guarded::of(names.iter().zip(&tokens));
        let memory = guarded.ends.as_ref().unwrap().memory_usage();
        assert!(memory < 2_000_000, "{memory} bytes");
        let held = |text: &str| guarded.held_in(format!("{{\"a\":\"{text}\"}}").as_bytes());
        assert_eq!(held(tokens[41].expose()), [Held::Credential(name(41))]);
        assert_eq!(held(&tokens[41].expose()[1..]), [], "one letter is not there");
    }

    #[rstest]
    #[case::plain(|text: &str| text.to_owned())]
    #[case::escaped(|text: &str| every_letter(text, hex))]
    #[case::capitals(|text: &str| every_letter(text, |byte| format!("\\u{byte:04X}")))]
    #[case::every_other(|text: &str| every_letter(text, |byte| if byte % 2 == 0 { hex(byte) } else { char::from(byte).to_string() }))]
    #[case::in_json_in_a_text(|text: &str| every_letter(text, hex).replace('\\', "\\\\"))]
    #[case::three_deep(|text: &str| every_letter(text, hex).replace('\\', "\\\\\\\\"))]
    #[case::slashes(|text: &str| text.replace('/', "\\/"))]
    #[case::in_an_address(|text: &str| every_letter(text, |byte| format!("%{byte:02x}")))]
    #[case::address_in_escapes(|text: &str| every_letter(text, |byte| format!("\\u0025{byte:02X}")))]
    #[case::glued(|text: &str| format!("a{text}b"))]
    fn secrets_are_found_however_they_are_written(#[case] write: fn(&str) -> String) {
        let guarded = guarded();
        let (app, key_of_app) = key(KeyKind::App);
        let (person, token) = key(KeyKind::Person);
        let expected = [
            (app, Held::Key(key_of_app)),
            (person, Held::Token(token)),
            ("qry/2f9k+planted==".to_owned(), Held::Credential(Name::parse("quarry").unwrap())),
        ];
        for (text, held) in expected {
            let body = format!(r#"{{"messages":[{{"role":"user","content":"50 % é {}"}}]}}"#, write(&text));
            assert_eq!(guarded.held_in(body.as_bytes()), [held], "{body}");
        }
    }

    #[rstest]
    #[case::nothing(r#"{"content":"When does the last ferry sail? 100 %, C:\\temp \u00e9"}"#)]
    #[case::the_form_alone(r#"{"content":"Keys look like wdr-3f9k2mq7-..., tokens like wdt-"}"#)]
    #[case::mistyped(r#"{"content":"wdr-00000000-00000000000000000000000000000000-0000000"}"#)]
    #[case::cut(r#"{"content":"wdr-"#)]
    fn what_holds_none_is_none(#[case] body: &str) {
        assert_eq!(guarded().held_in(body.as_bytes()), []);
    }

    #[test]
    fn escapes_upon_escapes_end() {
        let body = "\\".repeat(100_000) + "u0077dr-";
        assert_eq!(guarded().held_in(body.as_bytes()), []);
    }
}
