//! Counts of tokens where no offer of the route counts in the app's dialect: the estimate that quotas reserve by, said to be one.

use crate::dialect::Dialect;
use crate::json::Members;

/// The reply to a question for a count.
#[must_use]
pub fn reply(dialect: Dialect, tokens: u64) -> String {
    match dialect {
        Dialect::GenerateContent => Members::new().put("totalTokens", tokens),
        Dialect::Responses => Members::new().put("object", "response.input_tokens").put("input_tokens", tokens),
        Dialect::ChatCompletions | Dialect::Messages | Dialect::LocalChat => Members::new().put("input_tokens", tokens),
    }
    .to_line()
}
