//! Why a command did not do what it was asked, with the exit status that says so to programs.

use std::process::ExitCode;

use wendor_gateway::admin::problem::ProblemDetails;

/// Why a command failed.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// A fault of Wendor's own, or of this machine.
    #[error("{0}")]
    Own(String),
    /// The command, or what it was given, was not understood.
    #[error("{0}")]
    NotUnderstood(String),
    /// Not signed in, or not allowed.
    #[error("{0}")]
    NotAllowed(String),
    /// No such thing.
    #[error("{0}")]
    NoSuch(String),
    /// Over a quota.
    #[error("{0}")]
    OverQuota(String),
    /// The upstreams failed.
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
            Self::NotAllowed(_) => 3,
            Self::NoSuch(_) => 4,
            Self::OverQuota(_) => 5,
            Self::UpstreamsFailed(_) => 6,
            Self::Unreachable(_) => 7,
        }
    }

    /// Says it on standard error and gives the exit status.
    #[must_use]
    pub fn report(&self) -> ExitCode {
        if !matches!(self, Self::OutputClosed) {
            eprintln!("{self}");
        }
        ExitCode::from(self.exit_status())
    }

    /// What the management API answered.
    #[must_use]
    pub fn of_problem(status: u16, body: &[u8]) -> Self {
        let Ok(details) = serde_json::from_slice::<ProblemDetails>(body) else {
            return Self::Own(format!(
                "the service answered {status} with something that is no problem of its own; is WENDOR_URL right?"
            ));
        };
        let mut message = sentence(&details.detail);
        for problem in &details.problems {
            let colon = if problem.path.is_empty() { "" } else { ": " };
            message.push_str(&format!(
                "\n  line {}, column {}: {}{colon}{}",
                problem.line, problem.column, problem.path, problem.message
            ));
        }
        match status {
            401 | 403 => Self::NotAllowed(message),
            404 => Self::NoSuch(message),
            400..=499 => Self::NotUnderstood(message),
            _ => Self::Own(message),
        }
    }

    /// What the data plane answered.
    #[must_use]
    pub fn of_data_plane(status: u16, body: &[u8]) -> Self {
        let body: serde_json::Value = serde_json::from_slice(body).unwrap_or_default();
        let text = |name: &str| body.pointer(&format!("/error/{name}")).and_then(serde_json::Value::as_str);
        let message = text("message").map_or_else(|| format!("the service answered {status}"), str::to_owned);
        match (status, text("code")) {
            (401 | 403, _) => Self::NotAllowed(message),
            (404, _) => Self::NoSuch(message),
            (_, Some("over_quota")) => Self::OverQuota(message),
            (_, Some("all_offers_failed")) => Self::UpstreamsFailed(message),
            (400..=499, _) => Self::NotUnderstood(message),
            (_, _) => Self::Own(message),
        }
    }
}

fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    let first: String = letters.next().map(|letter| letter.to_uppercase().collect()).unwrap_or_default();
    let end = if text.ends_with(['.', '!', '?']) { "" } else { "." };
    format!("{first}{}{end}", letters.as_str())
}

impl From<wendor_store::StoreError> for Failure {
    fn from(error: wendor_store::StoreError) -> Self {
        match &error {
            wendor_store::StoreError::Missing { .. } => Self::NoSuch(sentence(&error.to_string())),
            wendor_store::StoreError::Exists { .. } => Self::NotUnderstood(sentence(&error.to_string())),
            wendor_store::StoreError::Away(_) => Self::Unreachable(sentence(&error.to_string())),
            wendor_store::StoreError::SchemaTooNew { .. }
            | wendor_store::StoreError::Migration(_)
            | wendor_store::StoreError::Unreadable { .. }
            | wendor_store::StoreError::Overtaken { .. }
            | wendor_store::StoreError::Refused(_) => Self::Own(sentence(&error.to_string())),
        }
    }
}
