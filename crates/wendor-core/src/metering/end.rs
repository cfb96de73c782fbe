//! How a request ended for the app that asked it.

use serde::{Deserialize, Serialize};

/// From this wait on an app that goes away without an answer has given up, in milliseconds: longer than people and programs wait
/// that only changed their mind, shorter than the usual time limit of a client.
pub const GIVEN_UP_AFTER_MS: u64 = 10_000;

/// How a request ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// The answer came to its proper end.
    Proper,
    /// The answer ended at the output cap.
    OutputCap,
    /// The app went away: while it was answered, or so soon that it had not waited for anything.
    Cancelled,
    /// The answer broke after it had begun.
    CutOff,
    /// The upstream refused the app's own request.
    Rejected,
    /// No offer answered.
    NotAnswered,
    /// The app did not take its answer in time, and it was given up.
    NotTaken,
    /// The app waited in vain and went away: it had no answer after [`GIVEN_UP_AFTER_MS`], or after an attempt had failed.
    Abandoned,
}

impl End {
    /// Every end.
    pub const ALL: [Self; 8] = [
        Self::Proper,
        Self::OutputCap,
        Self::Cancelled,
        Self::CutOff,
        Self::Rejected,
        Self::NotAnswered,
        Self::NotTaken,
        Self::Abandoned,
    ];

    /// The end's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Proper => "proper",
            Self::OutputCap => "output-cap",
            Self::Cancelled => "cancelled",
            Self::CutOff => "cut-off",
            Self::Rejected => "rejected",
            Self::NotAnswered => "not-answered",
            Self::NotTaken => "not-taken",
            Self::Abandoned => "abandoned",
        }
    }

    /// Reads an end's word.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|end| end.as_str() == text)
    }

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
