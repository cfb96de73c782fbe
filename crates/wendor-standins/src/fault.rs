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
        /// The status.
        status: u16,
        /// Seconds for a `Retry-After` header.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        retry_after: Option<u32>,
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

impl Fault {
    /// Reads a fault as people type it: a name such as `stall-midway`, or a status, with seconds of `Retry-After` behind a
    /// colon: `429:30`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
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
    #[case::success_is_no_fault("200", None)]
    #[case::unknown("explode", None)]
    fn faults_as_people_type_them(#[case] text: &str, #[case] fault: Option<Fault>) {
        assert_eq!(Fault::parse(text), fault);
    }
}
