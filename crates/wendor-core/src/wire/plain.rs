//! Answers that pass as they are: whether a whole reply is one, what it used, and when a stream of events that are nobody's dialect is
//! at its end. Legacy completions, texts of local servers, images, transcriptions, counts.

use bytes::Bytes;

use super::chat_completions::error;
use super::codec::{Closing, ErrorTold, FrameKind, StreamReader, data_frame};
use super::conversation::event::Event;
use super::json::{Node, Object, Wrong};
use super::passage::Facts;
use crate::routing::failure::{Failure, FailureKind};
use crate::wire::conversation::event::Usage;

/// Reads it.
///
/// # Errors
/// When it is not JSON, or an error under the status of success.
pub fn read(body: &[u8]) -> Result<Facts, Failure> {
    let malformed = |why: &str| Failure::new(FailureKind::Malformed, why);
    let text = std::str::from_utf8(body).map_err(|_| malformed("its answer is not UTF-8"))?;
    let mut reply = Node::new(text.trim(), "").object().map_err(|_| malformed("its answer is not JSON"))?;
    if reply.clone().take("error").is_some() {
        return Err(malformed("it answered with an error under status 200"));
    }
    // What cannot be read is not reported; the answer is none the worse.
    let usage = usage(&mut reply).ok().flatten();
    let bytes = u64::try_from(body.len()).unwrap_or(u64::MAX);
    Ok(Facts { usage, counts: usage.and_then(Usage::counts), output_bytes: bytes, is_at_cap: false })
}

fn usage(reply: &mut Object<'_>) -> Result<Option<Usage>, Wrong> {
    let (input, output) = match reply.object("usage")? {
        Some(mut usage) => {
            let input = usage.count("prompt_tokens")?.or(usage.count("input_tokens")?);
            (input, usage.count("completion_tokens")?.or(usage.count("output_tokens")?))
        }
        None => (reply.count("prompt_eval_count")?, reply.count("eval_count")?),
    };
    Ok((input.is_some() || output.is_some()).then(|| Usage { input, output, ..Usage::default() }))
}

/// Reads a stream of pictures or transcripts: every event passes; the one that says it is done or completed is the last of the answer.
#[derive(Clone, Copy, Debug, Default)]
pub struct PlainReader {
    is_finished: bool,
}

impl StreamReader for PlainReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        if data == b"[DONE]" {
            return Ok(FrameKind::Done);
        }
        let malformed = || Failure::new(FailureKind::Malformed, "a frame of its stream is not JSON");
        let text = std::str::from_utf8(data).map_err(|_| malformed())?;
        let mut frame = Node::new(text, "").object().map_err(|_| malformed())?;
        if frame.clone().take("error").is_some() {
            return Err(super::upstream_error::failure_of_class(None));
        }
        let kind = frame.text("type").ok().flatten().unwrap_or_default();
        self.is_finished |= kind.ends_with(".done") || kind.ends_with(".completed");
        events.extend(usage(&mut frame).ok().flatten().map(Event::Usage));
        Ok(FrameKind::Piece)
    }

    fn is_finished(&self) -> bool {
        self.is_finished
    }

    fn own_error(&self, _frame: &super::sse::SseFrame) -> Option<Bytes> {
        None
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let mut out = Vec::new();
        data_frame(&error::write(told), &mut out);
        (String::from_utf8_lossy(&out).into_owned(), Closing::Clean)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::completions(r#"{"choices":[],"usage":{"prompt_tokens":3,"completion_tokens":4}}"#, Some((3, 4)))]
    #[case::images(r#"{"data":[],"usage":{"input_tokens":3,"output_tokens":4}}"#, Some((3, 4)))]
    #[case::generate(r#"{"response":"a","prompt_eval_count":3,"eval_count":4}"#, Some((3, 4)))]
    #[case::nothing_told(r#"{"data":[]}"#, None)]
    fn what_it_used(#[case] body: &str, #[case] counts: Option<(u64, u64)>) {
        let found = read(body.as_bytes()).unwrap().counts;
        assert_eq!(found.map(|counts| (counts.input, counts.output)), counts);
    }

    #[rstest]
    #[case::page("<html>")]
    #[case::error(r#"{"error":"no"}"#)]
    #[case::list("[]")]
    fn what_is_no_reply(#[case] body: &str) {
        assert!(read(body.as_bytes()).is_err());
    }
}
