//! Quotas: how much a team may use in a window, reserved before and settled after.
//!
//! A quota is who x measure x window. Its id is `team/measure/window`, so that changing a limit keeps what is used.
//! Amounts are exact decimals: whole numbers for requests and tokens, money for cost.
//!
//! - [`window`]: where a window begins and ends (fixed, UTC)
//! - [`allowance`]: what is left of one quota: where a quota says no
//! - [`share`]: what there is only so much of at once, shared among teams
//! - [`use_of`]: how much of each measure a request reserves and settles

pub mod allowance;
pub mod share;
pub mod use_of;
pub mod window;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use smol_str::{SmolStr, format_smolstr};
use wendor_wire::worded;
use window::Window;

use crate::name::Name;

worded! {
    /// What is counted.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Measure {
        /// Admitted requests.
        Requests = "requests",
        /// Input tokens, cached ones included.
        InputTokens = "input-tokens",
        /// Output tokens, reasoning included.
        OutputTokens = "output-tokens",
        /// Input and output tokens.
        Tokens = "tokens",
        /// Money, in the installation's currency.
        Cost = "cost",
    }
}

/// What happens when a limit is reached.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AtLimit {
    /// Requests are refused.
    #[default]
    Refuse,
    /// Requests go on; the quota shows as passed.
    Warn,
}

/// A limit on one measure in one window.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Quota {
    /// What is counted.
    pub measure: Measure,
    /// The span over which the limit holds.
    pub window: Window,
    /// How much of it.
    pub limit: Decimal,
    /// What happens then.
    #[serde(default)]
    pub at_limit: AtLimit,
}

/// A quota's stable id, `team/measure/window`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct QuotaId(SmolStr);

impl From<String> for QuotaId {
    fn from(text: String) -> Self {
        Self(text.into())
    }
}

impl From<QuotaId> for String {
    fn from(id: QuotaId) -> Self {
        id.0.into()
    }
}

impl QuotaId {
    /// The id of `quota` of `team`.
    #[must_use]
    pub fn of_team(team: &Name, quota: &Quota) -> Self {
        Self(format_smolstr!("{team}/{}/{}", quota.measure.as_str(), quota.window.as_str()))
    }

    /// An id as the store keeps it.
    #[must_use]
    pub fn from_store(text: &str) -> Self {
        Self(text.into())
    }

    /// The id as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for QuotaId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_id_is_text_to_those_who_keep_it() {
        let id = QuotaId::from_store("timetables/tokens/day");
        let json = serde_json::to_string(&id).unwrap();
        assert_eq!(json, r#""timetables/tokens/day""#);
        assert_eq!(serde_json::from_str::<QuotaId>(&json).unwrap(), id);
        assert_eq!(format!("{id:>24}"), "   timetables/tokens/day");
    }
}
