//! Errors as the dialect's clients read them (`docs/protocols.md` section 4.5): the outer `type` must be there for the message to show.

use crate::codec::ErrorTold;
use crate::json::Members;

/// The body of an error reply, and the data of a stream's error frame.
#[must_use]
pub fn write(told: &ErrorTold) -> String {
    let error = Members::typed(class(told.status)).put("message", &told.message);
    let error = error.put("details", Members::new().put("error_code", &told.code));
    Members::typed("error").put("error", error).put("request_id", &told.request).to_line()
}

/// The class of a status.
fn class(status: u16) -> &'static str {
    match status {
        401 => "authentication_error",
        402 => "billing_error",
        403 => "permission_error",
        404 | 405 => "not_found_error",
        409 => "conflict_error",
        413 => "request_too_large",
        429 => "rate_limit_error",
        503 | 529 => "overloaded_error",
        408 | 504 => "timeout_error",
        400..=499 => "invalid_request_error",
        _ => "api_error",
    }
}
