//! Token counts by kind, disjoint, so that each kind can have its own rate and the parts sum to the whole.

use serde::{Deserialize, Serialize};

/// Tokens of one request. The input kinds are disjoint; `reasoning` is a part of `output`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenCounts {
    /// Input that the upstream had to read anew.
    pub input: u64,
    /// Input that the upstream had in its cache.
    pub input_cached: u64,
    /// Input that the upstream wrote to its cache.
    pub cache_written: u64,
    /// Output, reasoning included.
    pub output: u64,
    /// The part of the output that is reasoning.
    pub reasoning: u64,
}

impl TokenCounts {
    /// Both together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self {
            input: self.input.saturating_add(other.input),
            input_cached: self.input_cached.saturating_add(other.input_cached),
            cache_written: self.cache_written.saturating_add(other.cache_written),
            output: self.output.saturating_add(other.output),
            reasoning: self.reasoning.saturating_add(other.reasoning),
        }
    }

    /// All input, whatever its kind.
    #[must_use]
    pub fn all_input(self) -> u64 {
        self.input.saturating_add(self.input_cached).saturating_add(self.cache_written)
    }
}

/// Where counts come from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Counted {
    /// The upstream reported them.
    Reported,
    /// Nobody reported them: bytes / 4.
    #[default]
    Estimated,
}
