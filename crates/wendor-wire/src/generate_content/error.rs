//! Errors as the dialect's clients read them (`docs/protocols.md` section 5.5). `code` is a number, or they crash.

use crate::codec::ErrorTold;
use crate::json::Members;

/// The body of an error reply, and the data of a stream's error frame.
#[must_use]
pub fn write(told: &ErrorTold) -> String {
    let error = Members::new().put("code", told.status).put("message", &told.message);
    Members::new().put("error", error.put("status", status_word(told.status))).to_line()
}

fn status_word(status: u16) -> &'static str {
    match status {
        401 => "UNAUTHENTICATED",
        402 | 403 => "PERMISSION_DENIED",
        404 | 405 => "NOT_FOUND",
        409 => "ABORTED",
        429 => "RESOURCE_EXHAUSTED",
        408 | 504 => "DEADLINE_EXCEEDED",
        503 | 529 => "UNAVAILABLE",
        400..=499 => "INVALID_ARGUMENT",
        _ => "INTERNAL",
    }
}
