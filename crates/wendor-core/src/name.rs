//! Names that people give: of upstreams, routes, teams; and of offers, `upstream/model`.
//!
//! Text enters, a checked name leaves or the reason why it is none. Past the edge nothing is checked twice.

use serde::{Deserialize, Serialize};
use smol_str::SmolStr;

use crate::shown::is_hidden;

/// The most characters a name may have.
pub const MAX_NAME_LENGTH: usize = 64;

/// The most bytes a model's name may have.
const MAX_MODEL_LENGTH: usize = 256;

/// The name of an upstream, a route or a team: `[a-z0-9._-]`, 1 to 64 characters.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize)]
#[serde(try_from = "SmolStr")]
pub struct Name(SmolStr);

/// Why a text is not a name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadName {
    /// Empty, too long, or with a character that names do not have.
    #[error("`{0}` is not a name: use 1 to 64 of a-z, 0-9, `.`, `_` and `-`")]
    NotAName(String),
    /// An offer is written `upstream/model`.
    #[error("`{0}` is not an offer: write `upstream/model`, such as `quayside-a/dunlin-7b`")]
    NotAnOffer(String),
}

impl Name {
    /// Checks `text`.
    ///
    /// # Errors
    /// [`BadName::NotAName`] with the text.
    pub fn parse(text: &str) -> Result<Self, BadName> {
        let is_allowed = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || b"._-".contains(&byte);
        if text.is_empty() || text.len() > MAX_NAME_LENGTH || !text.bytes().all(is_allowed) {
            return Err(BadName::NotAName(text.to_owned()));
        }
        Ok(Self(text.into()))
    }

    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for Name {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl Serialize for Name {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl TryFrom<SmolStr> for Name {
    type Error = BadName;
    fn try_from(text: SmolStr) -> Result<Self, BadName> {
        Self::parse(&text)
    }
}

impl std::str::FromStr for Name {
    type Err = BadName;
    fn from_str(text: &str) -> Result<Self, BadName> {
        Self::parse(text)
    }
}

impl From<Name> for String {
    fn from(name: Name) -> Self {
        name.0.into()
    }
}

/// One model at one upstream, written `upstream/model` and split at the first slash: model names may hold more.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize)]
#[serde(try_from = "SmolStr")]
pub struct OfferName {
    upstream: Name,
    /// Both, as they are written: nothing is put together where one is told.
    whole: SmolStr,
}

impl OfferName {
    /// The offer of `model` at `upstream`; a model name is whatever the upstream calls it, but not empty, not endless, and
    /// without control characters and those that turn the order of reading.
    ///
    /// # Errors
    /// [`BadName::NotAnOffer`] when the model is not one of this.
    pub fn new(upstream: Name, model: &str) -> Result<Self, BadName> {
        if model.is_empty()
            || model.len() > MAX_MODEL_LENGTH
            || model.contains(|letter: char| letter.is_control() || is_hidden(letter))
        {
            return Err(BadName::NotAnOffer(format!("{upstream}/{}", model.escape_debug())));
        }
        let whole = smol_str::format_smolstr!("{upstream}/{model}");
        Ok(Self { upstream, whole })
    }

    /// Reads `upstream/model`.
    ///
    /// # Errors
    /// [`BadName::NotAnOffer`] without a slash or a model, [`BadName::NotAName`] for a bad upstream part.
    pub fn parse(text: &str) -> Result<Self, BadName> {
        let (upstream, model) = text.split_once('/').ok_or_else(|| BadName::NotAnOffer(text.to_owned()))?;
        Self::new(Name::parse(upstream)?, model)
    }

    /// The upstream's part.
    #[must_use]
    pub fn upstream(&self) -> &Name {
        &self.upstream
    }

    /// The model's part, as the upstream calls it.
    #[must_use]
    pub fn model(&self) -> &str {
        self.whole.get(self.upstream.0.len() + 1..).unwrap_or_default()
    }

    /// The name as text, `upstream/model`.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.whole
    }
}

impl std::fmt::Display for OfferName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.whole)
    }
}

impl Serialize for OfferName {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.whole)
    }
}

impl TryFrom<SmolStr> for OfferName {
    type Error = BadName;
    fn try_from(text: SmolStr) -> Result<Self, BadName> {
        Self::parse(&text)
    }
}

impl From<OfferName> for String {
    fn from(name: OfferName) -> Self {
        name.whole.into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("night-sailings", true)]
    #[case::dots_and_digits("deck.plans_2", true)]
    #[case::empty("", false)]
    #[case::upper_case("Manifests", false)]
    #[case::slash("a/b", false)]
    #[case::non_ascii("fähre", false)]
    fn names_have_few_characters(#[case] text: &str, #[case] is_name: bool) {
        assert_eq!(Name::parse(text).is_ok(), is_name);
        assert_eq!(Name::parse(&"a".repeat(64)).is_ok(), Name::parse(&"a".repeat(65)).is_err());
    }

    #[rstest]
    #[case::plain("quarry/fulmar-large", Some(("quarry", "fulmar-large")))]
    #[case::model_with_slash("quarry/sea/fulmar:8b", Some(("quarry", "sea/fulmar:8b")))]
    #[case::no_slash("quarry", None)]
    #[case::no_model("quarry/", None)]
    #[case::no_upstream("/fulmar", None)]
    #[case::control_character("quarry/ful\0mar", None)]
    #[case::turned("quarry/ful\u{202e}mar", None)]
    #[case::other_letters("quarry/lümmel:8b", Some(("quarry", "lümmel:8b")))]
    fn offers_split_at_the_first_slash(#[case] text: &str, #[case] parts: Option<(&str, &str)>) {
        let read = OfferName::parse(text).ok();
        assert_eq!(read.as_ref().map(|offer| (offer.upstream().as_str(), offer.model())), parts);
    }
}
