//! What a whole reply says: its usage, how it ended, or that it is not what the dialect promises. The bytes themselves go to
//! the app untouched.

use serde::Deserialize;
use serde_json::value::RawValue;

use super::usage;
use crate::metering::usage::TokenCounts;

/// What is known of a whole reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReplyFacts {
    /// Usage, if the upstream reported it.
    pub usage: Option<TokenCounts>,
    /// Whether a choice stopped at the output cap.
    pub is_at_cap: bool,
    /// Bytes of text and tool calls, for an estimate where usage is missing.
    pub output_bytes: u64,
}

/// Why a body is not a reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadReply {
    /// It cannot be read at all, or ends too early.
    #[error("its answer is not JSON")]
    NotJson,
    /// It has no choices.
    #[error("its answer has no choices")]
    NoChoices,
    /// It is an error with the status of success.
    #[error("it answered with an error under status 200")]
    ErrorAsSuccess,
}

#[derive(Deserialize)]
struct Reply<'a> {
    #[serde(borrow, default)]
    choices: Option<Vec<Choice<'a>>>,
    #[serde(borrow, default)]
    usage: Option<&'a RawValue>,
    #[serde(borrow, default)]
    error: Option<&'a RawValue>,
}

#[derive(Deserialize)]
struct Choice<'a> {
    #[serde(borrow, default)]
    message: Option<&'a RawValue>,
    #[serde(default)]
    finish_reason: Option<std::borrow::Cow<'a, str>>,
}

/// Reads a whole reply.
///
/// # Errors
/// [`BadReply`], with nothing of the reply's text.
pub fn read(body: &[u8]) -> Result<ReplyFacts, BadReply> {
    let reply: Reply<'_> = serde_json::from_slice(body).map_err(|_| BadReply::NotJson)?;
    if reply.error.is_some() {
        return Err(BadReply::ErrorAsSuccess);
    }
    let choices = reply.choices.filter(|choices| !choices.is_empty()).ok_or(BadReply::NoChoices)?;
    let bytes = choices.iter().filter_map(|choice| choice.message).map(|message| message.get().len()).sum::<usize>();
    Ok(ReplyFacts {
        usage: reply.usage.and_then(usage::read),
        is_at_cap: choices.iter().any(|choice| choice.finish_reason.as_deref() == Some("length")),
        output_bytes: u64::try_from(bytes).unwrap_or(u64::MAX),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::garbage("<html>", BadReply::NotJson)]
    #[case::cut(r#"{"choices":[{"message":{"content":"Ber"#, BadReply::NotJson)]
    #[case::empty("", BadReply::NotJson)]
    #[case::no_choices(r#"{"choices":[]}"#, BadReply::NoChoices)]
    #[case::error(r#"{"error":{"message":"no"}}"#, BadReply::ErrorAsSuccess)]
    fn what_is_no_reply(#[case] body: &str, #[case] why: BadReply) {
        assert_eq!(read(body.as_bytes()), Err(why));
    }

    #[test]
    fn a_reply_at_the_cap_without_usage() {
        let facts =
            read(br#"{"choices":[{"index":0,"message":{"content":"Berth 2"},"finish_reason":"length"}],"usage":null}"#)
                .unwrap();
        assert_eq!(facts, ReplyFacts { usage: None, is_at_cap: true, output_bytes: 21 });
    }
}
