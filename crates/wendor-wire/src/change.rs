//! What was changed of a request on its way, for whoever reads its record.

use serde::{Deserialize, Serialize};

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
    after: SmolStr,
}

impl RequestChange {
    /// The change of `member`: as the app sent it, and as the upstream got it. Each is kept bounded.
    #[must_use]
    pub fn new(member: &str, before: &str, after: &str) -> Self {
        let [member, before, after] = [member, before, after].map(|text| within_bounds(text, VALUE_BYTES).into());
        Self { member, before, after }
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
    pub fn after(&self) -> &str {
        &self.after
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
