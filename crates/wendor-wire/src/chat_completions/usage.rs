//! The dialect's usage object as token counts: `prompt_tokens` includes cached and written ones, `completion_tokens` includes
//! reasoning (`docs/protocols.md` section 2.4).

use serde::Deserialize;
use serde_json::value::RawValue;

use crate::usage::{MOST_BELIEVED, TokenCounts};

/// A usage object as an upstream sends it; what is absent or null counts as nothing.
#[derive(Debug, Clone, Copy, Default, Deserialize)]
struct Usage {
    prompt_tokens: Option<u64>,
    completion_tokens: Option<u64>,
    prompt_tokens_details: Option<PromptDetails>,
    completion_tokens_details: Option<CompletionDetails>,
}

#[derive(Debug, Clone, Copy, Default, Deserialize)]
struct PromptDetails {
    cached_tokens: Option<u64>,
    cache_write_tokens: Option<u64>,
}

#[derive(Debug, Clone, Copy, Default, Deserialize)]
struct CompletionDetails {
    reasoning_tokens: Option<u64>,
}

/// What an upstream reports, if it can be read and believed; otherwise the tokens are estimated, and the answer is none the worse.
pub(super) fn read(reported: &RawValue) -> Option<TokenCounts> {
    let usage: Usage = serde_json::from_str(reported.get()).ok()?;
    let counts = [usage.prompt_tokens, usage.completion_tokens];
    counts.into_iter().flatten().all(|count| count <= MOST_BELIEVED).then(|| usage.into())
}

impl From<Usage> for TokenCounts {
    fn from(usage: Usage) -> Self {
        let prompt = usage.prompt_tokens_details.unwrap_or_default();
        let all_input = usage.prompt_tokens.unwrap_or_default();
        // An upstream that claims more cached than read is not believed beyond what it read.
        let input_cached = prompt.cached_tokens.unwrap_or_default().min(all_input);
        let cache_written = prompt.cache_write_tokens.unwrap_or_default().min(all_input - input_cached);
        let output = usage.completion_tokens.unwrap_or_default();
        let details = usage.completion_tokens_details.unwrap_or_default();
        Self {
            input: all_input - input_cached - cache_written,
            input_cached,
            cache_written,
            output,
            reasoning: details.reasoning_tokens.unwrap_or_default().min(output),
            preset: 0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain(r#"{"prompt_tokens":31,"completion_tokens":14,"total_tokens":45}"#, [31, 0, 0, 14, 0])]
    #[case::cached(r#"{"prompt_tokens":31,"completion_tokens":14,"prompt_tokens_details":{"cached_tokens":20,"audio_tokens":0}}"#, [11, 20, 0, 14, 0])]
    #[case::written(r#"{"prompt_tokens":31,"completion_tokens":14,"prompt_tokens_details":{"cached_tokens":20,"cache_write_tokens":5}}"#, [6, 20, 5, 14, 0])]
    #[case::reasoning(r#"{"prompt_tokens":3,"completion_tokens":14,"completion_tokens_details":{"reasoning_tokens":9}}"#, [3, 0, 0, 14, 9])]
    #[case::null_details(r#"{"prompt_tokens":3,"completion_tokens":1,"prompt_tokens_details":null}"#, [3, 0, 0, 1, 0])]
    #[case::more_cached_than_read(r#"{"prompt_tokens":3,"completion_tokens":1,"prompt_tokens_details":{"cached_tokens":9}}"#, [0, 3, 0, 1, 0])]
    #[case::embeddings(r#"{"prompt_tokens":3,"total_tokens":3}"#, [3, 0, 0, 0, 0])]
    fn counts_are_disjoint(#[case] usage: &str, #[case] counts: [u64; 5]) {
        let read = TokenCounts::from(serde_json::from_str::<Usage>(usage).unwrap());
        assert_eq!([read.input, read.input_cached, read.cache_written, read.output, read.reasoning], counts);
    }

    #[rstest]
    #[case::beyond_belief(r#"{"prompt_tokens":18446744073709551615,"completion_tokens":1}"#)]
    #[case::negative(r#"{"prompt_tokens":-3,"completion_tokens":1}"#)]
    #[case::broken(r#"{"prompt_tokens":1.5}"#)]
    #[case::text(r#""many""#)]
    fn what_cannot_be_believed_counts_as_not_reported(#[case] usage: &str) {
        assert_eq!(read(serde_json::from_str(usage).unwrap()), None);
        assert!(read(serde_json::from_str(r#"{"prompt_tokens":3}"#).unwrap()).is_some());
    }
}
