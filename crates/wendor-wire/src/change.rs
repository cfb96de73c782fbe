//! What was changed of a request on its way, for whoever reads its record.

use std::borrow::Cow;

use serde::{Deserialize, Serialize, Serializer};
use smol_str::SmolStr;

use crate::bounded::{VALUE_BYTES, within_bounds};

/// Changes kept of one request; more are counted.
pub const MAX_CHANGES: usize = 64;

/// What an app sent of a member that it left out.
pub const NOT_SET: &str = "not set";

/// A member of the request that was not sent on as it came.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequestChange {
    member: SmolStr,
    before: SmolStr,
    after: After,
}

/// What an upstream got: words for it are made once somebody asks.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(from = "SmolStr")]
enum After {
    Told(SmolStr),
    /// The offer's cap on output.
    Cap(u64),
}

impl After {
    fn words(&self) -> Cow<'_, str> {
        match self {
            Self::Told(words) => Cow::Borrowed(words),
            Self::Cap(cap) => Cow::Owned(format!("{cap}, the offer's cap, since a quota must be kept")),
        }
    }
}

impl From<SmolStr> for After {
    fn from(words: SmolStr) -> Self {
        Self::Told(words)
    }
}

impl Serialize for After {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Told(words) => serializer.serialize_str(words),
            Self::Cap(_) => serializer.collect_str(&self.words()),
        }
    }
}

impl RequestChange {
    /// The change of `member`: as the app sent it, and as the upstream got it. Each is kept bounded.
    #[must_use]
    pub fn new(member: &str, before: &str, after: &str) -> Self {
        let [member, before, after] = [member, before, after].map(|text| within_bounds(text, VALUE_BYTES).into());
        Self { member, before, after: After::Told(after) }
    }

    /// The offer's cap was written into `member`, which the app left out.
    #[must_use]
    pub fn cap(member: &str, cap: u64) -> Self {
        let told = Self::new(member, NOT_SET, "");
        Self { after: After::Cap(cap), ..told }
    }

    /// The member of the body that was touched, as a path.
    #[must_use]
    pub fn member(&self) -> &str {
        &self.member
    }

    /// Whether it is made of every such request, so that it says nothing about this one: the model's name, the ask for usage, and not to be
    /// kept where the app said nothing.
    #[must_use]
    pub fn is_of_every_request(&self) -> bool {
        match self.member.as_str() {
            "model" | "stream_options" => true,
            "store" => self.before == NOT_SET,
            _ => false,
        }
    }

    /// As the app sent it.
    #[must_use]
    pub fn before(&self) -> &str {
        &self.before
    }

    /// As the upstream got it.
    #[must_use]
    pub fn after(&self) -> Cow<'_, str> {
        self.after.words()
    }
}

/// The first of many changes, and how many more there were.
#[must_use]
pub fn first_changes(mut changes: Vec<RequestChange>) -> Vec<RequestChange> {
    let more = changes.len().saturating_sub(MAX_CHANGES);
    if more > 0 {
        changes.truncate(MAX_CHANGES);
        changes.push(RequestChange::new(
            "further members",
            "as the app sent them",
            &format!("{more} changed likewise"),
        ));
    }
    changes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_changed_of_every_request_says_nothing_of_one() {
        let of_every = |member, before| RequestChange::new(member, before, "x").is_of_every_request();
        assert!(of_every("model", "night-sailings") && of_every("stream_options", "") && of_every("store", NOT_SET));
        assert!(!of_every("store", "as the app sent it") && !of_every("seed", "7"));
    }
}
