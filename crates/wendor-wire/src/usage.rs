//! Token counts by kind, disjoint, so that each kind can have its own rate and the parts sum to the whole.

use serde::{Deserialize, Serialize};

/// The most tokens that are believed of one request: no model reads or writes a thousand million. More would be a fault of
/// somebody's counting, and sums of it a fault of ours.
pub const MOST_BELIEVED: u64 = 1_000_000_000;

/// Tokens of one request. The input kinds are disjoint; `reasoning` is a part of `output`, `preset` one of all input.
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
    /// The part of all input that the route's preset added, by its part of the request's length.
    #[serde(default, skip_serializing_if = "is_none")]
    pub preset: u64,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the serialiser passes references")]
fn is_none(count: &u64) -> bool {
    *count == 0
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
            preset: self.preset.saturating_add(other.preset),
        }
    }

    /// What is left of them without `other`, which is a part of them.
    #[must_use]
    pub fn without(self, other: Self) -> Self {
        Self {
            input: self.input.saturating_sub(other.input),
            input_cached: self.input_cached.saturating_sub(other.input_cached),
            cache_written: self.cache_written.saturating_sub(other.cache_written),
            output: self.output.saturating_sub(other.output),
            reasoning: self.reasoning.saturating_sub(other.reasoning),
            preset: self.preset.saturating_sub(other.preset),
        }
    }

    /// What an answer that did not come to its end used: its output as reported or as estimated, whichever is more, since what is
    /// reported on the way is not all of it; its input as reported, which is known from the beginning, or else as estimated.
    ///
    /// ```
    /// use wendor_wire::usage::TokenCounts;
    /// let opening = TokenCounts { input: 30, input_cached: 5, output: 1, ..TokenCounts::default() };
    /// let estimate = TokenCounts { input: 50, output: 419, ..TokenCounts::default() };
    /// assert_eq!(TokenCounts::unfinished(Some(opening), estimate), TokenCounts { output: 419, ..opening });
    /// assert_eq!(TokenCounts::unfinished(None, estimate), estimate);
    /// ```
    #[must_use]
    pub fn unfinished(reported: Option<Self>, estimate: Self) -> Self {
        match reported {
            None => estimate,
            Some(reported) if reported.all_input() == 0 => {
                Self { output: reported.output.max(estimate.output), reasoning: reported.reasoning, ..estimate }
            }
            Some(reported) => Self { output: reported.output.max(estimate.output), ..reported },
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
    /// Nobody reported them, or not to the end: by what had come.
    #[default]
    Estimated,
}
