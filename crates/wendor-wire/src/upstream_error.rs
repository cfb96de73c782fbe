//! How an upstream failed that says so inside its stream: by a class or a number, never by its text.

use crate::failure::{Failure, FailureKind};

const DETAIL: &str = "it sent an error inside its stream";

/// The failure of an error's class, in the words of any dialect.
#[must_use]
pub fn failure_of_class(class: Option<&str>) -> Failure {
    let kind = match class {
        Some("rate_limit_error" | "rate_limit_exceeded" | "insufficient_quota" | "RESOURCE_EXHAUSTED") => {
            FailureKind::RateLimited
        }
        Some(
            "authentication_error"
            | "permission_error"
            | "not_found_error"
            | "billing_error"
            | "UNAUTHENTICATED"
            | "PERMISSION_DENIED"
            | "NOT_FOUND",
        ) => FailureKind::Misconfigured,
        Some("invalid_request_error" | "invalid_prompt" | "INVALID_ARGUMENT") => FailureKind::Rejected,
        Some("overloaded_error" | "UNAVAILABLE") => FailureKind::Overloaded,
        Some("timeout_error" | "DEADLINE_EXCEEDED") => FailureKind::TimedOut,
        Some(_) | None => FailureKind::ServerError,
    };
    Failure::new(kind, DETAIL)
}

/// The failure of an error's number, where it has one that is a status, otherwise of its class.
#[must_use]
pub fn failure_of(status: Option<u64>, class: Option<&str>) -> Failure {
    let status = status.and_then(|status| u16::try_from(status).ok()).filter(|status| (400..=599).contains(status));
    match status.and_then(FailureKind::of_status) {
        Some(kind) => Failure::new(kind, DETAIL),
        None => failure_of_class(class),
    }
}
