//! The ways in which a stand-in fails on demand.

use serde::{Deserialize, Serialize};

/// What a stand-in does instead of answering.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "fault", rename_all = "kebab-case")]
pub enum Fault {
    /// It answers.
    #[default]
    None,
    /// It does not listen: connections are refused, open ones break.
    Refuse,
    /// It answers with this status and an error body.
    Status {
        /// Status code of HTTP.
        status: u16,
        /// Seconds for a `Retry-After` header.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        retry_after: Option<u32>,
    },
    /// Its first token comes so much later, at so many of a hundred requests.
    Slow {
        /// Milliseconds.
        millis: u32,
        /// Of a hundred; all when absent.
        #[serde(default = "all_of_them")]
        percent: u8,
    },
    /// It rejects the request with this status and a body that says nothing of why.
    Speechless {
        /// Status code of HTTP.
        status: u16,
    },
    /// It accepts the request and says nothing.
    StallBeforeFirst,
    /// It sends the frame with the role and then nothing.
    StallAfterRole,
    /// It stops in the middle of its answer and keeps the connection open.
    StallMidway,
    /// It breaks the connection in the middle of its answer.
    CutMidway,
    /// It ends its answer in the middle as if that were its proper end, without the terminator.
    EndMidway,
    /// It answers with something that is not the dialect.
    Garbage,
    /// It begins properly and goes on with something that is not the dialect.
    GarbageMidway,
}

fn all_of_them() -> u8 {
    100
}

impl Fault {
    /// Reads a fault as people type it: a name such as `stall-midway`, a status, with seconds of `Retry-After` behind a colon: `429:30`, or
    /// `slow` with milliseconds and, behind another colon, of how many of a hundred requests: `slow:3000:5`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        if let Some(times) = text.strip_prefix("slow:") {
            let (millis, percent) = times.split_once(':').unwrap_or((times, "100"));
            return Some(Self::Slow { millis: millis.parse().ok()?, percent: percent.parse().ok()? });
        }
        let (status, retry_after) = match text.split_once(':') {
            Some((status, seconds)) => (status, Some(seconds.parse().ok()?)),
            None => (text, None),
        };
        if let Ok(status) = status.parse() {
            return (400..=599).contains(&status).then_some(Self::Status { status, retry_after });
        }
        serde_json::from_value(serde_json::json!({ "fault": text })).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::name("stall-midway", Some(Fault::StallMidway))]
    #[case::none("none", Some(Fault::None))]
    #[case::status("500", Some(Fault::Status { status: 500, retry_after: None }))]
    #[case::status_with_wait("429:30", Some(Fault::Status { status: 429, retry_after: Some(30) }))]
    #[case::slow("slow:3000", Some(Fault::Slow { millis: 3_000, percent: 100 }))]
    #[case::seldom_slow("slow:3000:5", Some(Fault::Slow { millis: 3_000, percent: 5 }))]
    #[case::success_is_no_fault("200", None)]
    #[case::unknown("explode", None)]
    fn faults_as_people_type_them(#[case] text: &str, #[case] fault: Option<Fault>) {
        assert_eq!(Fault::parse(text), fault);
    }
}
