//! Errors as the dialect's clients read them (`docs/protocols.md` section 6.4): a text, or they crash.

use crate::codec::ErrorTold;
use crate::json::Members;

/// The body of an error reply, and a stream's error line.
#[must_use]
pub fn write(told: &ErrorTold) -> String {
    Members::new().put("error", &told.message).to_line()
}
