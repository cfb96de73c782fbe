//! What a whole reply says: its usage, how it ended, or that it is not what the dialect promises. The bytes themselves go to
//! the app untouched.

use std::borrow::Cow;

use serde::Deserialize;
use serde_json::value::RawValue;
use smallvec::SmallVec;

use crate::chat_completions::usage;
use crate::usage::TokenCounts;

/// What is known of a whole reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReplyFacts {
    /// Usage, if the upstream reported it.
    pub usage: Option<TokenCounts>,
    /// Whether a choice stopped at the output cap.
    pub is_at_cap: bool,
    /// Bytes of text and tool calls, for an estimate where usage is missing.
    pub output_bytes: u64,
    /// Images, as addresses that hold them.
    pub images: usize,
}

/// Why a body is not a reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadReply {
    /// It cannot be read at all, or ends too early.
    #[error("its answer is not JSON")]
    NotJson,
    /// `choices` is missing or empty.
    #[error("its answer has no choices")]
    NoChoices,
    /// It is an error with the status of success.
    #[error("it answered with an error under status 200")]
    ErrorAsSuccess,
}

#[derive(Deserialize)]
struct Reply<'a> {
    #[serde(borrow, default)]
    choices: Option<SmallVec<[Choice<'a>; 1]>>,
    #[serde(borrow, default)]
    usage: Option<&'a RawValue>,
    #[serde(borrow, default)]
    error: Option<&'a RawValue>,
}

#[derive(Deserialize)]
struct Choice<'a> {
    #[serde(borrow, default)]
    message: Option<&'a RawValue>,
    #[serde(borrow, default)]
    finish_reason: Option<Word<'a>>,
}

/// Borrowed wherever nothing in it is escaped, which an option of a `Cow` is not.
#[derive(Deserialize)]
struct Word<'a>(#[serde(borrow)] Cow<'a, str>);

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
    let (mut bytes, mut images) = (0, 0);
    for message in choices.iter().filter_map(|choice| choice.message.map(RawValue::get)) {
        let (of_images, count) = inline_images(message);
        bytes += message.len() - of_images;
        images += count;
    }
    Ok(ReplyFacts {
        usage: reply.usage.and_then(usage::read),
        is_at_cap: choices.iter().any(|choice| choice.finish_reason.as_ref().is_some_and(|word| word.0 == "length")),
        output_bytes: u64::try_from(bytes).unwrap_or(u64::MAX),
        images,
    })
}

/// How many bytes of `text` are images written out in it, and how many images.
fn inline_images(text: &str) -> (usize, usize) {
    const BEGINS: &str = "\"data:image/";
    let mut counts = (0, 0);
    let mut rest = text;
    while let Some((_, image)) = rest.split_once(BEGINS) {
        let end = image.find('"').unwrap_or(image.len());
        counts = (counts.0 + end, counts.1 + 1);
        rest = image.get(end..).unwrap_or_default();
    }
    counts
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
    fn an_image_counts_as_one_and_not_by_its_bytes() {
        let image = format!("data:image/png;base64,{}", "A".repeat(2_000_000));
        let message = format!(
            r#"{{"content":"","images":[{{"image_url":{{"url":"{image}"}}}},{{"image_url":{{"url":"{image}"}}}}]}}"#
        );
        let facts = read(format!(r#"{{"choices":[{{"message":{message}}}]}}"#).as_bytes()).unwrap();
        assert_eq!(facts.images, 2);
        assert!(facts.output_bytes < 200, "{}", facts.output_bytes);
    }

    #[test]
    fn a_reply_at_the_cap_without_usage() {
        let facts =
            read(br#"{"choices":[{"index":0,"message":{"content":"Berth 2"},"finish_reason":"length"}],"usage":null}"#)
                .unwrap();
        assert_eq!(facts, ReplyFacts { usage: None, is_at_cap: true, output_bytes: 21, images: 0 });
    }
}
