//! Which weights a model's name stands for: the digest that an offer is pinned to, and what is known of a model beside it.

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

/// What may be said of a model, with what it is.
pub const ABOUT: [(&str, &str); 5] = [
    ("family", "the family of models that it is of"),
    ("format", "the format of its weights"),
    ("precision", "the precision or quantisation of its weights"),
    ("parameters", "how many parameters it has"),
    ("hardware", "the class of hardware that it runs on"),
];

worded! {
    /// What happens when an upstream serves other weights than the offer is pinned to.
    #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum OtherWeights {
        /// No request goes there.
        #[default]
        Stop = "stop",
        /// Requests go on, and it is said.
        Warn = "warn",
    }
}

impl OtherWeights {
    /// Every word.
    pub const WORDS: [(&'static str, Self); 2] = [("stop", Self::Stop), ("warn", Self::Warn)];
}

/// The weights that an offer must be served with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WeightsPin {
    /// Their digest, as the upstream tells it.
    pub digest: String,
    /// What happens when it serves others.
    #[serde(default)]
    pub otherwise: OtherWeights,
}

/// A digest as it is compared: without the name of its hash, in small letters.
#[must_use]
pub fn plain_digest(digest: &str) -> String {
    digest.rsplit_once(':').map_or(digest, |(_, digits)| digits).trim().to_ascii_lowercase()
}

/// Whether two digests are of the same weights. A shortened one, as people copy it, counts from 12 digits on.
#[must_use]
pub fn is_same_digest(one: &str, other: &str) -> bool {
    let (one, other) = (plain_digest(one), plain_digest(other));
    let shorter = one.len().min(other.len());
    shorter >= 12 && one.get(..shorter) == other.get(..shorter) || one == other
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::same("sha256:ABCDEF0123456789", "abcdef0123456789", true)]
    #[case::shortened("abcdef012345", "sha256:abcdef0123456789", true)]
    #[case::too_short("abc", "abcdef0123456789", false)]
    #[case::other("abcdef0123456789", "abcdef0123456780", false)]
    fn digests_are_compared_as_people_copy_them(#[case] one: &str, #[case] other: &str, #[case] same: bool) {
        assert_eq!(is_same_digest(one, other), same);
        assert_eq!(is_same_digest(other, one), same);
    }
}
