//! What events are about: webhooks name it, and every event has one.

use serde::{Deserialize, Serialize};

/// What an event is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EventKind {
    /// An upstream or an offer came to rest, or is well again.
    Health,
    /// An upstream answers slower than it used to.
    Slow,
    /// The spool grows, cannot be written, or holds what the database refuses.
    Spool,
    /// A quota is near its limit or at it.
    Quota,
    /// A key expires soon.
    Expiry,
    /// What an upstream serves has changed.
    Models,
    /// Requests failed by a fault of Wendor's own.
    Fault,
    /// A revision undid itself.
    Revision,
    /// Somebody tries a webhook.
    Test,
}

impl EventKind {
    /// Every kind that a webhook may name.
    pub const WORDS: [(&str, Self); 8] = [
        ("health", Self::Health),
        ("slow", Self::Slow),
        ("spool", Self::Spool),
        ("quota", Self::Quota),
        ("expiry", Self::Expiry),
        ("models", Self::Models),
        ("fault", Self::Fault),
        ("revision", Self::Revision),
    ];

    /// Its word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        let known = Self::WORDS.iter().find(|(_, kind)| *kind == self);
        known.map_or("test", |(word, _)| word)
    }

    /// Reads a word.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let known = Self::WORDS.iter().find(|(word, _)| *word == text).map(|(_, kind)| *kind);
        known.or_else(|| (text == Self::Test.as_str()).then_some(Self::Test))
    }
}
