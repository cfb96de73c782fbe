//! The dialects: each by its codec.

use crate::codec::Codec;
use crate::dialect::Dialect;
use crate::{chat_completions, generate_content, local_chat, messages, responses};

/// The codec of a dialect.
#[must_use]
pub fn of(dialect: Dialect) -> &'static dyn Codec {
    match dialect {
        Dialect::ChatCompletions => &chat_completions::ChatCompletions,
        Dialect::Responses => &responses::Responses,
        Dialect::Messages => &messages::Messages,
        Dialect::GenerateContent => &generate_content::GenerateContent,
        Dialect::LocalChat => &local_chat::LocalChat,
    }
}
