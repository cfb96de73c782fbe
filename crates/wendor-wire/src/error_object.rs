//! Errors as clients of chat-completions read them, and in part those of responses: `{"error":{"message","type","param","code"}}`, whole or as a stream's frame.
//!
//! All four members are always there, `error` is always an object with a text as `message`: other shapes lose the message
//! or crash clients (`docs/protocols.md` sections 1.5 and 1.10).

use crate::codec::ErrorTold;
use crate::json::{Json, Members};

/// The body of an error reply.
#[must_use]
pub fn write(told: &ErrorTold) -> String {
    Members::new().put("error", object(told)).to_line()
}

/// The error object, which responses has too.
pub(crate) fn object(told: &ErrorTold) -> Members {
    Members::new()
        .put("message", &told.message)
        .put("type", told.class)
        .put("param", told.param.as_ref().map_or(Json::Null, Json::from))
        .put("code", &told.code)
}
