//! What an answer says, piece by piece, in no dialect.

use crate::cited::Citation;
use crate::conversation::turn::CallKind;
use crate::seal::Seal;
use crate::usage::{MOST_BELIEVED, TokenCounts};

/// A piece of an answer. Where a dialect has several choices, each piece says which it belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// More of the answer's text.
    Text {
        /// Index, from 0.
        choice: u32,
        /// The piece.
        text: String,
    },
    /// Text that says why the model will not answer.
    Refusal {
        /// Index, from 0.
        choice: u32,
        /// The piece.
        text: String,
    },
    /// Another block of text or thinking begins: its beginning is not glued to what came before.
    NextBlock {
        /// Index, from 0.
        choice: u32,
    },
    /// More of what the model thinks aloud.
    Thinking {
        /// Index, from 0.
        choice: u32,
        /// The piece.
        text: String,
    },
    /// The seal of the thinking before it, or thinking that is sealed altogether.
    Sealed {
        /// Index, from 0.
        choice: u32,
        /// What the server wants back with the next turn.
        seal: Seal,
    },
    /// A call begins.
    Call {
        /// Index, from 0.
        choice: u32,
        /// Which call of the choice, counted from 0.
        call: u32,
        /// What its result will be linked by, if the dialect has such.
        id: Option<String>,
        /// The function.
        name: String,
        /// A function or a custom tool.
        kind: CallKind,
    },
    /// A piece of a call's arguments.
    Arguments {
        /// Index, from 0.
        choice: u32,
        /// Index of the call, as the stream counts them.
        call: u32,
        /// The piece.
        fragment: String,
    },
    /// A call's arguments are complete.
    CallEnd {
        /// Index, from 0.
        choice: u32,
        /// Index of the call, as the stream counts them.
        call: u32,
    },
    /// An image, which only its own dialect can pass on.
    Image {
        /// Index, from 0.
        choice: u32,
    },
    /// Where a text comes from, as the dialect says it.
    Citation {
        /// Index, from 0.
        choice: u32,
        /// The source.
        citation: Citation,
    },
    /// Log probabilities, as chat-completions has them: a list of tokens.
    Logprobs {
        /// Index, from 0.
        choice: u32,
        /// The list.
        tokens: Vec<TokenLogprob>,
    },
    /// A choice is at its end.
    Finish {
        /// Which.
        choice: u32,
        /// Why.
        stop: Stop,
    },
    /// What has been used so far; the last one counts.
    Usage(Usage),
}

impl Event {
    /// The arguments of a call of a function that has none: an object all the same, since an empty text is not JSON to clients.
    #[must_use]
    pub fn no_arguments(choice: u32, call: u32) -> Self {
        Self::Arguments { choice, call, fragment: "{}".to_owned() }
    }
}

/// The log probability of a token, with alternatives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenLogprob {
    /// As text, as the server wrote it.
    pub token: String,
    /// Its logarithm.
    pub logprob: crate::json::Number,
    /// What else it could have been.
    pub top: Vec<(String, crate::json::Number)>,
}

/// Why an answer ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stop {
    /// The model was done.
    End,
    /// A stop text came, if it is known which.
    StopText(Option<String>),
    /// The limit of output tokens.
    OutputCap,
    /// The context window is full.
    ContextFull,
    /// The model calls functions.
    ToolCalls,
    /// Held back or refused by policy.
    Filtered,
    /// The service paused and could go on.
    Paused,
    /// A word that nobody knows.
    Unknown(String),
}

impl Stop {
    /// Whether the answer stopped at a limit of tokens.
    #[must_use]
    pub fn is_at_cap(&self) -> bool {
        match self {
            Self::OutputCap | Self::ContextFull => true,
            Self::End | Self::StopText(_) | Self::ToolCalls | Self::Filtered | Self::Paused | Self::Unknown(_) => false,
        }
    }
}

/// Tokens as an upstream reports them; absent is not the same as zero.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// All of the prompt, what was cached included.
    pub input: Option<u64>,
    /// What of it came from a cache.
    pub cached: Option<u64>,
    /// What of it was written to a cache.
    pub cache_write: Option<u64>,
    /// All that was generated, thinking included.
    pub output: Option<u64>,
    /// What of it was thinking.
    pub reasoning: Option<u64>,
}

impl Usage {
    /// `self` with what `later` says over it.
    #[must_use]
    pub fn with(self, later: Self) -> Self {
        Self {
            input: later.input.or(self.input),
            cached: later.cached.or(self.cached),
            cache_write: later.cache_write.or(self.cache_write),
            output: later.output.or(self.output),
            reasoning: later.reasoning.or(self.reasoning),
        }
    }

    /// Disjoint counts, as the ledger has them. An upstream that claims more cached than read is not believed beyond what it
    /// read; one that claims absurd numbers, or none at all, is not believed at all.
    #[must_use]
    pub fn counts(self) -> Option<TokenCounts> {
        if self.input.is_none() && self.output.is_none() {
            return None;
        }
        let (all_input, output) = (self.input.unwrap_or_default(), self.output.unwrap_or_default());
        if all_input > MOST_BELIEVED || output > MOST_BELIEVED {
            return None;
        }
        let input_cached = self.cached.unwrap_or_default().min(all_input);
        let cache_written = self.cache_write.unwrap_or_default().min(all_input - input_cached);
        Some(TokenCounts {
            input: all_input - input_cached - cache_written,
            input_cached,
            cache_written,
            output,
            reasoning: self.reasoning.unwrap_or_default().min(output),
            preset: 0,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain([Some(31), None, None, Some(14), None], Some([31, 0, 0, 14, 0]))]
    #[case::cached([Some(31), Some(20), Some(5), Some(14), Some(9)], Some([6, 20, 5, 14, 9]))]
    #[case::more_cached_than_read([Some(3), Some(9), Some(9), Some(1), Some(5)], Some([0, 3, 0, 1, 1]))]
    #[case::nothing_reported([None, Some(3), None, None, None], None)]
    #[case::zero_is_reported([Some(0), None, None, Some(0), None], Some([0, 0, 0, 0, 0]))]
    #[case::beyond_belief([Some(u64::MAX), None, None, Some(1), None], None)]
    fn counts_are_disjoint(#[case] reported: [Option<u64>; 5], #[case] counts: Option<[u64; 5]>) {
        let [input, cached, cache_write, output, reasoning] = reported;
        let summed = Usage { input, cached, cache_write, output, reasoning }.counts();
        let numbers = |counts: TokenCounts| {
            [counts.input, counts.input_cached, counts.cache_written, counts.output, counts.reasoning]
        };
        assert_eq!(summed.map(numbers), counts);
    }
}
