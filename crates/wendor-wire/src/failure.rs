//! The kinds of failure of an attempt: whose fault each is, whether another offer is tried, what the app is told.
//!
//! An upstream's status or a broken connection enters as a [`Failure`].

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::bounded::{SENTENCE_BYTES, bounded};
use crate::worded;

/// When to come back to a model that is loaded, where its server does not say.
const LOADING_RETRY: Duration = Duration::from_secs(2);

worded! {
    /// What an attempt failed of.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum FailureKind {
        /// No connection.
        Unreachable = "unreachable",
        /// No answer within the deadline.
        TimedOut = "timed-out",
        /// The upstream limits us: 429.
        RateLimited = "rate-limited",
        /// The upstream has too much to do: 503, 529.
        Overloaded = "overloaded",
        /// The upstream loads the model, as it says.
        Loading = "loading",
        /// The upstream broke: another 5xx.
        ServerError = "server-error",
        /// The upstream refuses our credential, address or model name: the operator's fault, never the app's.
        Misconfigured = "misconfigured",
        /// A 4xx about the app's own request, which another try would not mend.
        Rejected = "rejected",
        /// The request does not fit the offer's context window, as the upstream says.
        TooLong = "too-long",
        /// The upstream's policy declines what is asked.
        Declined = "declined",
        /// Not what the dialect promises.
        Malformed = "malformed",
        /// The answer ended without its proper end.
        CutOff = "cut-off",
    }
}

/// Whose fault a failure is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The app's request.
    App,
    /// The upstream, or the way to it.
    Upstream,
    /// Whoever configured the upstream.
    Operator,
}

impl FailureKind {
    /// Whether a stage may name it to move on after. `too-long` need not be named: it moves on to a larger window where there is one; nor
    /// `loading`, which has a setting of its own.
    #[must_use]
    pub fn may_move_on(self) -> bool {
        !matches!(self, Self::Rejected | Self::TooLong | Self::Loading)
    }

    /// Whether a stage that names nothing moves on after it: after all but what the app itself has to mend.
    #[must_use]
    pub fn moves_on_by_default(self) -> bool {
        self.may_move_on() && self.fault() != Fault::App
    }

    /// What a stage moves on after when it names nothing.
    #[must_use]
    pub fn usual_moves() -> Vec<Self> {
        Self::ALL.into_iter().filter(|kind| kind.moves_on_by_default()).collect()
    }

    /// Whose fault it is; what is the app's says nothing about an upstream's health.
    #[must_use]
    pub fn fault(self) -> Fault {
        match self {
            Self::Rejected | Self::TooLong | Self::Declined => Fault::App,
            Self::Misconfigured => Fault::Operator,
            Self::Unreachable
            | Self::TimedOut
            | Self::RateLimited
            | Self::Overloaded
            | Self::Loading
            | Self::ServerError
            | Self::Malformed
            | Self::CutOff => Fault::Upstream,
        }
    }

    /// Whether an attempt that failed so may have used something: the upstream had read the input (`was_sent`), or had begun to answer.
    /// A status that refuses or breaks down says that nothing was made.
    #[must_use]
    pub fn may_have_used(self, was_sent: bool, has_begun: bool) -> bool {
        match self {
            // Given up by us: what was on its way may well be made to its end, and billed.
            Self::TimedOut => was_sent,
            Self::Malformed | Self::CutOff => has_begun,
            Self::Unreachable
            | Self::RateLimited
            | Self::Overloaded
            | Self::Loading
            | Self::ServerError
            | Self::Misconfigured
            | Self::Rejected
            | Self::TooLong
            | Self::Declined => false,
        }
    }

    /// What an upstream's status says, in any dialect; `None` for success.
    #[must_use]
    pub fn of_status(status: u16) -> Option<Self> {
        match status {
            200..=299 => None,
            401..=404 | 405 | 407 | 300..=399 => Some(Self::Misconfigured),
            408 => Some(Self::TimedOut),
            429 => Some(Self::RateLimited),
            503 | 529 => Some(Self::Overloaded),
            400..=499 => Some(Self::Rejected),
            500..=599 => Some(Self::ServerError),
            _ => Some(Self::Malformed),
        }
    }
}

/// How one attempt failed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    /// Decides whose fault it is and whether another try is safe.
    pub kind: FailureKind,
    /// What was seen, in our own words: never text of the upstream, which may repeat the app's query.
    pub detail: String,
    /// When the upstream said to come back, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after_ms: Option<u64>,
    /// Whether it comes of the request rather than of the server, so that it says nothing about health.
    #[serde(skip)]
    pub is_of_request: bool,
}

impl Failure {
    /// A failure without a time to come back.
    #[must_use]
    pub fn new(kind: FailureKind, detail: impl Into<String>) -> Self {
        let detail = bounded(&detail.into(), SENTENCE_BYTES);
        Self { kind, detail, retry_after_ms: None, is_of_request: false }
    }

    /// A rejection by this status, which the reason that came with it makes one of this kind; without a reason that can be read it is
    /// [`FailureKind::Malformed`], and nobody knows whose fault it is.
    #[must_use]
    pub fn of_rejection(status: u16, kind: FailureKind) -> Self {
        let detail = match kind {
            FailureKind::Malformed => format!("{status} without a reason that can be read"),
            FailureKind::TooLong => format!("{status}, it does not fit the context window"),
            FailureKind::Declined => format!("{status}, its policy declines it"),
            FailureKind::Unreachable
            | FailureKind::TimedOut
            | FailureKind::RateLimited
            | FailureKind::Overloaded
            | FailureKind::Loading
            | FailureKind::ServerError
            | FailureKind::Misconfigured
            | FailureKind::Rejected
            | FailureKind::CutOff => status.to_string(),
        };
        Self { is_of_request: true, ..Self::new(kind, detail) }
    }

    /// Whether it says something about the health of what was asked.
    #[must_use]
    pub fn tells_of_health(&self) -> bool {
        !self.is_of_request && self.kind.fault() != Fault::App && self.kind != FailureKind::Loading
    }

    /// The upstream loads the model, and may have said when to come back.
    #[must_use]
    pub fn loading(retry_after: Option<Duration>) -> Self {
        let wait = retry_after.unwrap_or(LOADING_RETRY);
        let retry_after_ms = Some(u64::try_from(wait.as_millis()).unwrap_or(u64::MAX));
        Self { retry_after_ms, ..Self::new(FailureKind::Loading, "it says that it loads the model") }
    }

    /// What a status other than success says, with the time to come back that came with it.
    #[must_use]
    pub fn of_status(status: u16, retry_after: Option<Duration>) -> Self {
        let retry_after_ms = retry_after.map(|wait| u64::try_from(wait.as_millis()).unwrap_or(u64::MAX));
        let detail = match (status, retry_after) {
            (401 | 403, _) => format!("{status}, it refuses our credential"),
            (404, _) => format!("{status}, it does not know the address or the model"),
            (_, Some(wait)) => format!("{status}, retry after {} s", wait.as_secs_f64().ceil()),
            (_, None) => status.to_string(),
        };
        let kind = FailureKind::of_status(status).unwrap_or(FailureKind::Malformed);
        Self { retry_after_ms, ..Self::new(kind, detail) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::ok(200, None)]
    #[case::bad_request(400, Some(FailureKind::Rejected))]
    #[case::credential(401, Some(FailureKind::Misconfigured))]
    #[case::model(404, Some(FailureKind::Misconfigured))]
    #[case::redirect(307, Some(FailureKind::Misconfigured))]
    #[case::conflict(409, Some(FailureKind::Rejected))]
    #[case::limited(429, Some(FailureKind::RateLimited))]
    #[case::broken(500, Some(FailureKind::ServerError))]
    #[case::busy(503, Some(FailureKind::Overloaded))]
    #[case::busy_too(529, Some(FailureKind::Overloaded))]
    fn what_a_status_says(#[case] status: u16, #[case] kind: Option<FailureKind>) {
        assert_eq!(FailureKind::of_status(status), kind);
    }

    #[test]
    fn words_are_read_back() {
        for kind in FailureKind::ALL {
            assert_eq!(FailureKind::parse(kind.as_str()), Some(kind));
            assert_eq!(serde_json::to_string(&kind).unwrap(), format!("\"{kind}\""));
        }
    }
}
