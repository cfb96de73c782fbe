//! Errors as the dialect's clients read them: whole as in chat-completions, in a stream as two frames (`docs/protocols.md` section 1.5). A failed
//! response alone is passed over by most readers, the flat form of the second frame by some, so it carries both forms.

use crate::codec::ErrorTold;
use crate::error_object::object;
use crate::json::{Json, Members};
use crate::sse::named_frame;

/// The body of an error reply.
#[must_use]
pub fn write(told: &ErrorTold) -> String {
    Members::new().put("error", object(told)).to_line()
}

/// The last frames of the stream of response `id` that broke, numbered from `sequence` on.
#[must_use]
pub fn frames(told: &ErrorTold, id: &str, sequence: u64) -> String {
    let response = Members::new()
        .put("id", id)
        .put("object", "response")
        .put("status", "failed")
        .put("error", object(told))
        .put("output", Vec::new());
    let failed = Members::typed("response.failed").put("response", response).put("sequence_number", sequence);
    let error = Members::typed("error")
        .put("code", &told.code)
        .put("message", &told.message)
        .put("param", told.param.as_ref().map_or(Json::Null, Json::from))
        .put("sequence_number", sequence.saturating_add(1))
        .put("error", object(told));
    let mut out = Vec::new();
    named_frame("response.failed", &failed.to_line(), &mut out);
    named_frame("error", &error.to_line(), &mut out);
    String::from_utf8_lossy(&out).into_owned()
}
