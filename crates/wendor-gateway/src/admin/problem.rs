//! What the management API says when it cannot do what it was asked: RFC 9457 problem details, from one exhaustive match.

use actix_web::error::JsonPayloadError;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::edit::LARGEST_FILE;
use wendor_core::catalog::key::without_secrets;
use wendor_core::shown::is_hidden;
use wendor_core::words::long_words_cut;
use wendor_store::StoreError;

/// Why a call was not done.
#[derive(Debug, thiserror::Error)]
pub enum Problem {
    /// Nobody is signed in, or not any more.
    #[error("{0}")]
    NotSignedIn(String),
    /// The password is right, and a code is asked for beside.
    #[error("{0}")]
    CodeNeeded(String),
    /// The password is right, and the code beside is not.
    #[error("{0}")]
    WrongCode(String),
    /// Whoever asks has to sign in again as themselves first.
    #[error("{0}")]
    ConfirmFirst(String),
    /// Whoever asks has to set up an authenticator app first.
    #[error("{0}")]
    CodesFirst(String),
    /// The principal's role does not reach that far.
    #[error("{0}")]
    NotAllowed(String),
    /// Invalid value.
    #[error("`{field}`: {message}")]
    BadValue {
        /// Which.
        field: &'static str,
        /// What is wrong and what to do.
        message: String,
    },
    /// The catalogue file has problems.
    #[error("the catalogue has {} problem(s)", .0.len())]
    BadCatalogue(Vec<wendor_core::catalog::file::Problem>),
    /// Not found.
    #[error("there is no {what} `{name}`{}", nearest_words(.nearest.as_deref()))]
    NoSuch {
        /// What kind of thing.
        what: &'static str,
        /// The name asked for.
        name: String,
        /// The most similar name that exists, if one is similar enough.
        nearest: Option<String>,
    },
    /// The request is not in the ledger, since it was refused before admission.
    #[error("{0}")]
    RefusedBefore(String),
    /// It is in the way of what there is.
    #[error("{0}")]
    Conflict(String),
    /// Too many requests; come back after so many seconds.
    #[error("{0}")]
    TooMany(String, i64),
    /// The body is larger than what is taken before anyone has signed in, or did not come in time.
    #[error("{1}")]
    BadBody(StatusCode, String),
    /// The database is away.
    #[error("the database is unreachable ({0}); requests are still served, try again soon")]
    RecordsAway(String),
    /// Internal error. What it was stands in the log.
    #[error("internal error; the log of the service says what")]
    Internal,
}

fn nearest_words(nearest: Option<&str>) -> String {
    nearest.map_or_else(String::new, |near| format!("; nearest: `{near}`"))
}

/// Problem details (RFC 9457).
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ProblemDetails {
    /// The kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What was wrong, with which value, and what to do.
    pub detail: String,
    /// The field that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Problems of a catalogue file, each with its place.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub problems: Vec<CatalogueProblem>,
}

/// One problem of a catalogue file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueProblem {
    /// From 1; 0 where the text was not sent, as with changes of single things.
    pub line: usize,
    /// From 1, in characters; 0 likewise.
    pub column: usize,
    /// Where in the document.
    pub path: String,
    /// What is wrong and what to do.
    pub message: String,
}

impl Problem {
    fn kind(&self) -> (StatusCode, &'static str, &'static str) {
        match self {
            Self::NotSignedIn(_) => (StatusCode::UNAUTHORIZED, "not-signed-in", "Not signed in"),
            Self::CodeNeeded(_) => (StatusCode::UNAUTHORIZED, "code-needed", "A code is needed"),
            Self::WrongCode(_) => (StatusCode::UNAUTHORIZED, "wrong-code", "The code is not right"),
            Self::ConfirmFirst(_) => (StatusCode::FORBIDDEN, "confirm-first", "Sign in again as yourself"),
            Self::CodesFirst(_) => (StatusCode::FORBIDDEN, "codes-first", "Set up an authenticator app"),
            Self::NotAllowed(_) => (StatusCode::FORBIDDEN, "not-allowed", "Not allowed"),
            Self::BadValue { .. } => (StatusCode::BAD_REQUEST, "bad-value", "Invalid value"),
            Self::BadCatalogue(_) => (StatusCode::UNPROCESSABLE_ENTITY, "bad-catalogue", "The catalogue has problems"),
            Self::NoSuch { .. } => (StatusCode::NOT_FOUND, "no-such-thing", "Not found"),
            Self::RefusedBefore(_) => (StatusCode::NOT_FOUND, "refused-before-admission", "Refused before admission"),
            Self::Conflict(_) => (StatusCode::CONFLICT, "conflict", "Conflict"),
            Self::TooMany(..) => (StatusCode::TOO_MANY_REQUESTS, "too-many", "Too many requests"),
            Self::BadBody(status, _) => (*status, "bad-body", "The body is too large or cannot be read"),
            Self::RecordsAway(_) => (StatusCode::SERVICE_UNAVAILABLE, "records-away", "Database unreachable"),
            Self::Internal => (StatusCode::INTERNAL_SERVER_ERROR, "internal", "Internal error"),
        }
    }
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        self.kind().0
    }

    fn error_response(&self) -> HttpResponse {
        let (status, kind, title) = self.kind();
        let field = if let Self::BadValue { field, .. } = self { Some((*field).to_owned()) } else { None };
        let problems = if let Self::BadCatalogue(problems) = self { problems.as_slice() } else { &[] };
        let details = ProblemDetails {
            kind: format!("urn:wendor:problem:{kind}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: long_words_cut(&without_secrets(&self.to_string())),
            field,
            problems: problems.iter().map(CatalogueProblem::from).collect(),
        };
        let mut response = HttpResponse::build(status);
        if let Self::TooMany(_, seconds) = self {
            response.insert_header((actix_web::http::header::RETRY_AFTER, seconds.to_string()));
        }
        response.content_type("application/problem+json").json(details)
    }
}

impl From<&wendor_core::catalog::file::Problem> for CatalogueProblem {
    fn from(problem: &wendor_core::catalog::file::Problem) -> Self {
        Self {
            line: problem.line,
            column: problem.column,
            path: problem.path.clone(),
            message: problem.message.clone(),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        match error {
            away @ StoreError::Away(_) => Self::RecordsAway(away.reason()),
            StoreError::Missing { what, name } => Self::NoSuch { what, name, nearest: None },
            StoreError::TooManyGroups => Self::BadValue { field: "by", message: error.to_string() },
            StoreError::Exists { .. } | StoreError::Overtaken { .. } | StoreError::LastOwner(_) => {
                Self::Conflict(error.to_string())
            }
            StoreError::NoDatabase(_)
            | StoreError::NotLetIn { .. }
            | StoreError::SchemaTooNew { .. }
            | StoreError::MayNotMigrate { .. }
            | StoreError::Migration(_)
            | StoreError::Unreadable { .. }
            | StoreError::Refused(_) => {
                tracing::error!(%error, "a call to the management API failed");
                Self::Internal
            }
        }
    }
}

/// The most bytes of a body: the largest catalogue, with every letter of it escaped once.
const LARGEST_BODY: usize = 2 * LARGEST_FILE;

/// A reader of JSON bodies that answers with problem details.
#[must_use]
pub fn json_config() -> actix_web::web::JsonConfig {
    actix_web::web::JsonConfig::default().limit(LARGEST_BODY).error_handler(|error, _request| {
        let is_large =
            matches!(error, JsonPayloadError::Overflow { .. } | JsonPayloadError::OverflowKnownLength { .. });
        let message = if is_large {
            format!("is larger than {LARGEST_BODY} bytes, the most that is read")
        } else {
            format!("cannot be read: {error}")
        };
        Problem::BadValue { field: "body", message }.into()
    })
}

/// A reader of paths that answers with problem details.
#[must_use]
pub fn path_config() -> actix_web::web::PathConfig {
    actix_web::web::PathConfig::default()
        .error_handler(|error, _request| Problem::BadValue { field: "address", message: error.to_string() }.into())
}

/// A reader of query strings that answers with problem details.
#[must_use]
pub fn query_config() -> actix_web::web::QueryConfig {
    actix_web::web::QueryConfig::default()
        .error_handler(|error, _request| Problem::BadValue { field: "query", message: error.to_string() }.into())
}

/// A text that a record can hold and a terminal can show.
///
/// # Errors
/// When it can not.
pub(super) fn plain(field: &'static str, text: Option<&String>) -> Result<Option<String>, Problem> {
    match text.filter(|text| text.contains(|letter: char| letter.is_control() || is_hidden(letter))) {
        Some(text) => {
            Err(Problem::BadValue { field, message: format!("`{}` holds a control character", text.escape_debug()) })
        }
        None => Ok(text.cloned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::not_signed_in(Problem::NotSignedIn("x".into()), 401, "not-signed-in")]
    #[case::not_allowed(Problem::NotAllowed("x".into()), 403, "not-allowed")]
    #[case::bad_value(Problem::BadValue { field: "by", message: "x".into() }, 400, "bad-value")]
    #[case::catalogue(Problem::BadCatalogue(vec![]), 422, "bad-catalogue")]
    #[case::no_such(Problem::NoSuch { what: "team", name: "x".into(), nearest: None }, 404, "no-such-thing")]
    #[case::refused_before(Problem::RefusedBefore("x".into()), 404, "refused-before-admission")]
    #[case::conflict(Problem::Conflict("x".into()), 409, "conflict")]
    #[case::too_many(Problem::TooMany("x".into(), 2), 429, "too-many")]
    #[case::away(Problem::RecordsAway("x".into()), 503, "records-away")]
    #[case::internal(Problem::Internal, 500, "internal")]
    #[case::taken(StoreError::Exists { what: "a person called", name: "x".into() }.into(), 409, "conflict")]
    #[case::overtaken(StoreError::Overtaken { expected: 1, found: 2 }.into(), 409, "conflict")]
    #[case::missing(StoreError::Missing { what: "key", name: "x".into() }.into(), 404, "no-such-thing")]
    #[case::too_many(StoreError::TooManyGroups.into(), 400, "bad-value")]
    #[case::unreadable(StoreError::Unreadable { what: "ledger.ended", why: "x".into() }.into(), 500, "internal")]
    fn each_problem_has_its_status_and_its_kind(#[case] problem: Problem, #[case] status: u16, #[case] kind: &str) {
        let response = problem.error_response();
        assert_eq!(response.status().as_u16(), status);
        assert_eq!(problem.kind().1, kind);
        assert_eq!(response.headers().get("content-type").unwrap(), "application/problem+json");
    }

    #[test]
    fn the_nearest_name_is_told() {
        let problem = Problem::NoSuch { what: "team", name: "timetable".into(), nearest: Some("timetables".into()) };
        assert_eq!(problem.to_string(), "there is no team `timetable`; nearest: `timetables`");
    }
}
