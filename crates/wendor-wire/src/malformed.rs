//! Answers that are not what their dialect says.

use crate::failure::{Failure, FailureKind};
use crate::json::Wrong;

/// A frame or reply that holds something else than the dialect says. Its path is ours to tell, its text is not.
pub(crate) fn malformed(wrong: &Wrong) -> Failure {
    Failure::new(FailureKind::Malformed, format!("in its answer {wrong}"))
}

/// What broke where a call's arguments are no JSON object.
pub(crate) fn bad_arguments() -> Failure {
    Failure::new(FailureKind::Malformed, "the arguments of a call in its answer are no JSON object")
}
