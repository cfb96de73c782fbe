//! Why a command did not do what it was asked, with the exit status that says so to programs.

use std::process::ExitCode;

use serde_json::json;
use wendor_core::catalog::file;
use wendor_core::words::{long_words_cut, sentence};
use wendor_gateway::admin::problem::{CatalogueProblem, ProblemDetails};
use wendor_wire::refusal_code::RefusalCode;

use crate::output::{self, Reader};

/// Why a command failed.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// Internal error, or of this machine.
    #[error("{0}")]
    Own(String),
    /// The command, or what it was given, was not understood.
    #[error("{0}")]
    NotUnderstood(String),
    /// Not signed in, or not allowed.
    #[error("{0}")]
    NotAllowed(String),
    /// The password is right, and a code is asked for beside.
    #[error("{0}")]
    CodeNeeded(String),
    /// Whoever asks has to sign in again as themselves first.
    #[error("{0}")]
    ConfirmFirst(String),
    /// Not found.
    #[error("{0}")]
    NoSuch(String),
    /// A quota or a limit was reached; worth another try later.
    #[error("{0}")]
    OverQuota(String),
    /// The gateway asked its upstreams and none of them answered.
    #[error("{0}")]
    UpstreamsFailed(String),
    /// Wendor cannot be reached.
    #[error("{0}")]
    Unreachable(String),
    /// Whoever read standard output has gone: nothing is left to be said.
    #[error("standard output was closed")]
    OutputClosed,
}

impl Failure {
    fn exit_status(&self) -> u8 {
        match self {
            Self::OutputClosed => 0,
            Self::Own(_) => 1,
            Self::NotUnderstood(_) => 2,
            Self::NotAllowed(_) | Self::CodeNeeded(_) | Self::ConfirmFirst(_) => 3,
            Self::NoSuch(_) => 4,
            Self::OverQuota(_) => 5,
            Self::UpstreamsFailed(_) => 6,
            Self::Unreachable(_) => 7,
        }
    }

    /// What went wrong, in a word for programs.
    fn kind(&self) -> &'static str {
        match self {
            Self::Own(_) | Self::OutputClosed => "internal",
            Self::NotUnderstood(_) => "not-understood",
            Self::NotAllowed(_) => "not-allowed",
            Self::CodeNeeded(_) => "code-needed",
            Self::ConfirmFirst(_) => "confirm-first",
            Self::NoSuch(_) => "not-found",
            Self::OverQuota(_) => "over-quota",
            Self::UpstreamsFailed(_) => "upstreams-failed",
            Self::Unreachable(_) => "unreachable",
        }
    }

    /// Says it on standard error, as JSON for programs, and gives the exit status.
    #[must_use]
    pub fn report(&self, reader: Reader) -> ExitCode {
        let message = long_words_cut(&self.to_string());
        match (self, reader) {
            (Self::OutputClosed, _) => {}
            (_, Reader::Person) => output::note(&message),
            (_, Reader::Program) => {
                let error = json!({ "kind": self.kind(), "message": message, "exit_status": self.exit_status() });
                output::note(&json!({ "error": error }).to_string());
            }
        }
        ExitCode::from(self.exit_status())
    }

    /// What the management API answered.
    #[must_use]
    pub fn of_problem(status: u16, body: &[u8]) -> Self {
        let Ok(details) = serde_json::from_slice::<ProblemDetails>(body) else {
            if status == 503 && body.starts_with(b"not ready") {
                return Self::Unreachable(
                    "The service starts and waits for its database; it is not ready yet. Try again in a moment."
                        .to_owned(),
                );
            }
            return Self::Own(format!("the service answered {status} in an unexpected form; is WENDOR_URL right?"));
        };
        let mut message = sentence(&details.detail);
        for problem in &details.problems {
            let CatalogueProblem { line, column, path, message: why } = problem.clone();
            message.push_str(&format!("\n  {}", file::Problem { line, column, path, message: why }));
        }
        match (status, details.kind.as_str()) {
            (401, "urn:wendor:problem:code-needed") => Self::CodeNeeded(message),
            (403, "urn:wendor:problem:confirm-first") => Self::ConfirmFirst(message),
            (401 | 403, _) => Self::NotAllowed(message),
            (404, _) => Self::NoSuch(message),
            (400..=499, _) => Self::NotUnderstood(message),
            (_, _) => Self::Own(message),
        }
    }

    /// What the data plane answered.
    #[must_use]
    pub fn of_data_plane(status: u16, body: &[u8]) -> Self {
        let body: serde_json::Value = serde_json::from_slice(body).unwrap_or_default();
        let text = |name: &str| body.pointer(&format!("/error/{name}")).and_then(serde_json::Value::as_str);
        // One dialect has a text where the others have an object.
        let message_text = text("message").or_else(|| body.get("error").and_then(serde_json::Value::as_str));
        let message = message_text.map_or_else(|| format!("the service answered {status}"), str::to_owned);
        match (status, text("code").and_then(RefusalCode::parse)) {
            (401 | 403, _) => Self::NotAllowed(message),
            (404, _) => Self::NoSuch(message),
            (_, Some(RefusalCode::OverQuota)) => Self::OverQuota(message),
            (_, Some(RefusalCode::AllOffersFailed)) => Self::UpstreamsFailed(message),
            (429, None) => Self::OverQuota(message),
            (502..=504, None) => Self::UpstreamsFailed(message),
            (400..=499, _) => Self::NotUnderstood(message),
            (_, _) => Self::Own(message),
        }
    }
}

impl From<wendor_store::StoreError> for Failure {
    fn from(error: wendor_store::StoreError) -> Self {
        match &error {
            wendor_store::StoreError::Missing { .. } => Self::NoSuch(sentence(&error.to_string())),
            wendor_store::StoreError::Exists { .. } | wendor_store::StoreError::LastOwner(_) => {
                Self::NotUnderstood(sentence(&error.to_string()))
            }
            wendor_store::StoreError::Away(_)
            | wendor_store::StoreError::NoDatabase(_)
            | wendor_store::StoreError::NotLetIn { .. } => Self::Unreachable(sentence(&error.to_string())),
            wendor_store::StoreError::SchemaTooNew { .. }
            | wendor_store::StoreError::MayNotMigrate { .. }
            | wendor_store::StoreError::Migration(_)
            | wendor_store::StoreError::Unreadable { .. }
            | wendor_store::StoreError::Overtaken { .. }
            | wendor_store::StoreError::TooManyGroups
            | wendor_store::StoreError::Refused(_) => Self::Own(sentence(&error.to_string())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    fn problem(status: u16) -> Vec<u8> {
        let problems =
            json!([{ "line": 3, "column": 11, "path": "upstreams.quarry", "message": "`hosting` is missing" }]);
        let details = json!({ "type": "t", "title": "T", "status": status, "detail": "something is wrong", "problems": problems });
        details.to_string().into_bytes()
    }

    #[rstest]
    #[case::not_signed_in(401, 3)]
    #[case::not_allowed(403, 3)]
    #[case::no_such(404, 4)]
    #[case::bad_value(400, 2)]
    #[case::conflict(409, 2)]
    #[case::records_away(503, 1)]
    fn a_problem_has_its_exit_status_and_tells_all(#[case] status: u16, #[case] exit: u8) {
        let failure = Failure::of_problem(status, &problem(status));
        assert_eq!(failure.exit_status(), exit);
        assert_eq!(
            failure.to_string(),
            "Something is wrong.\n  line 3, column 11: upstreams.quarry: `hosting` is missing"
        );
    }

    #[rstest]
    #[case::key(401, "unknown_key", 3)]
    #[case::route(404, "route_not_found", 4)]
    #[case::quota(429, "over_quota", 5)]
    #[case::upstreams_limited(429, "all_offers_failed", 6)]
    #[case::upstreams(502, "all_offers_failed", 6)]
    #[case::request(400, "missing_member", 2)]
    #[case::own(503, "no_spool", 1)]
    fn an_answer_of_the_data_plane_has_its_exit_status(#[case] status: u16, #[case] code: &str, #[case] exit: u8) {
        let body = json!({ "error": { "message": "So it is.", "type": "t", "param": null, "code": code } }).to_string();
        let failure = Failure::of_data_plane(status, body.as_bytes());
        assert_eq!((failure.exit_status(), failure.to_string().as_str()), (exit, "So it is."));
    }

    #[test]
    fn a_service_that_starts_is_not_ready_yet() {
        let failure = Failure::of_problem(503, b"not ready: the service starts, and waits for its database\n");
        assert_eq!(failure.exit_status(), 7, "{failure}");
        assert!(failure.to_string().contains("not ready yet"), "{failure}");
    }

    #[test]
    fn something_that_is_not_wendor_is_told() {
        let failure = Failure::of_problem(502, b"<html>");
        assert!(failure.to_string().contains("is WENDOR_URL right?"), "{failure}");
    }
}
