//! How a request ended for the app that asked it.

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

/// From this wait on an app that goes away without an answer has given up, in milliseconds: longer than people and programs wait
/// that only changed their mind, shorter than the usual time limit of a client.
pub const GIVEN_UP_AFTER_MS: u64 = 10_000;

worded! {
    /// How a request ended.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum End {
        /// The answer came to its proper end.
        Proper = "proper",
        /// The answer ended at the output cap.
        OutputCap = "output-cap",
        /// The app went away: while it was answered, or so soon that it had not waited for anything.
        Cancelled = "cancelled",
        /// The answer broke after it had begun.
        CutOff = "cut-off",
        /// The upstream refused the app's own request.
        Rejected = "rejected",
        /// No offer answered.
        NotAnswered = "not-answered",
        /// The app did not take its answer in time, and it was given up.
        NotTaken = "not-taken",
        /// The app waited in vain and went away: it had no answer after [`GIVEN_UP_AFTER_MS`], or after an attempt had failed.
        Abandoned = "abandoned",
    }
}

impl End {
    /// The end of a request whose app went away before an answer had begun, `waited_ms` after it came, with so many attempts failed.
    ///
    /// ```
    /// use wendor_core::metering::end::End;
    /// assert_eq!(End::of_leaving(800, 0), End::Cancelled);
    /// assert_eq!(End::of_leaving(800, 1), End::Abandoned);
    /// assert_eq!(End::of_leaving(60_000, 0), End::Abandoned);
    /// ```
    #[must_use]
    pub fn of_leaving(waited_ms: u64, failed_attempts: usize) -> Self {
        if failed_attempts > 0 || waited_ms >= GIVEN_UP_AFTER_MS { Self::Abandoned } else { Self::Cancelled }
    }

    /// Whether the app was left without a whole answer through no doing of its own.
    #[must_use]
    pub fn is_failure(self) -> bool {
        match self {
            Self::CutOff | Self::NotAnswered | Self::Abandoned => true,
            Self::Proper | Self::OutputCap | Self::Cancelled | Self::Rejected | Self::NotTaken => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::soon(9_999, 0, End::Cancelled)]
    #[case::late(10_000, 0, End::Abandoned)]
    #[case::soon_after_a_failure(5, 1, End::Abandoned)]
    fn whoever_leaves_has_given_up_or_changed_their_mind(
        #[case] waited_ms: u64,
        #[case] failed_attempts: usize,
        #[case] end: End,
    ) {
        assert_eq!(End::of_leaving(waited_ms, failed_attempts), end);
    }

    #[test]
    fn failures_are_those_that_left_the_app_without_an_answer() {
        let failures: Vec<End> = End::ALL.into_iter().filter(|end| end.is_failure()).collect();
        assert_eq!(failures, [End::CutOff, End::NotAnswered, End::Abandoned]);
    }
}
