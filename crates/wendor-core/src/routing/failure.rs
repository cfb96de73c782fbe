//! What the failures of all attempts of a request come to.

use wendor_wire::failure::{Failure, FailureKind};

use crate::name::OfferName;

/// A failed attempt with the offer it was made at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FailedAttempt {
    /// Where.
    pub offer: OfferName,
    /// How.
    pub failure: Failure,
}

/// What the app is told when no offer served its request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AllFailed {
    /// HTTP status.
    pub status: u16,
    /// The soonest that an upstream said to come back, in milliseconds.
    pub retry_after_ms: Option<u64>,
}

/// The status when all attempts failed: all timed out 504; all limited, overloaded or loading 503 (429 if each said when to
/// return); else 502. No attempt at all counts as overloaded.
#[must_use]
pub fn answer_when_all_failed<'a>(failures: impl Iterator<Item = &'a Failure> + Clone) -> AllFailed {
    let is_limited = |failure: &Failure| {
        matches!(failure.kind, FailureKind::RateLimited | FailureKind::Overloaded | FailureKind::Loading)
    };
    let mut all = failures.clone();
    let status = if all.clone().all(is_limited) {
        let is_limit = |failure: &Failure| failure.retry_after_ms.is_some() && failure.kind != FailureKind::Loading;
        let each_said_when = all.clone().next().is_some() && all.all(is_limit);
        if each_said_when { 429 } else { 503 }
    } else if all.all(|failure| failure.kind == FailureKind::TimedOut) {
        504
    } else {
        502
    };
    let retry_after_ms = match status {
        429 | 503 => failures.filter_map(|failure| failure.retry_after_ms).min(),
        _ => None,
    };
    AllFailed { status, retry_after_ms }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn failure(kind: FailureKind, retry_after_ms: Option<u64>) -> Failure {
        Failure { retry_after_ms, ..Failure::new(kind, "") }
    }

    #[rstest]
    #[case::all_timed_out(&[(FailureKind::TimedOut, None), (FailureKind::TimedOut, None)], 504, None)]
    #[case::all_limited_and_said_when(&[(FailureKind::RateLimited, Some(9)), (FailureKind::Overloaded, Some(4))], 429, Some(4))]
    #[case::one_did_not_say_when(&[(FailureKind::RateLimited, Some(9)), (FailureKind::Overloaded, None)], 503, Some(9))]
    #[case::mixed(&[(FailureKind::RateLimited, Some(9)), (FailureKind::TimedOut, None)], 502, None)]
    #[case::misconfigured(&[(FailureKind::Misconfigured, None)], 502, None)]
    #[case::none_tried(&[], 503, None)]
    #[case::loading(&[(FailureKind::Loading, Some(2))], 503, Some(2))]
    fn the_status_when_all_failed(
        #[case] kinds: &[(FailureKind, Option<u64>)],
        #[case] status: u16,
        #[case] retry_after_ms: Option<u64>,
    ) {
        let failures: Vec<Failure> = kinds.iter().map(|(kind, wait)| failure(*kind, *wait)).collect();
        assert_eq!(answer_when_all_failed(failures.iter()), AllFailed { status, retry_after_ms });
    }
}
