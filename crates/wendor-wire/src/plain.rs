//! Answers that pass as they are: whether a whole reply is one, what it used, and when a stream of events that are nobody's dialect is
//! at its end. Legacy completions, texts of local servers, images, transcriptions, counts.

use bytes::Bytes;

use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::Event;
use crate::conversation::event::Usage;
use crate::conversation::facts::Facts;
use crate::error_object;
use crate::failure::{Failure, FailureKind};
use crate::images::{ImageSize, Images};
use crate::json::{Node, Object, Wrong};
use crate::sse::data_frame;

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
    let output_bytes = u64::try_from(text_bytes(&mut reply)).unwrap_or(u64::MAX);
    let images = Images::of(images(&mut reply), size(&mut reply));
    let counts = usage.and_then(Usage::counts);
    Ok(Facts { usage, counts, output_bytes, images, is_finished: true, ..Facts::default() })
}

/// Bytes of the texts that a model wrote: of a local server, of a transcript, of legacy completions.
fn text_bytes(reply: &mut Object<'_>) -> usize {
    let length = |object: &mut Object<'_>, name: &str| object.text(name).ok().flatten().map_or(0, |text| text.len());
    let mut bytes = length(reply, "response") + length(reply, "thinking") + length(reply, "text");
    for choice in reply.list("choices").unwrap_or_default() {
        bytes += choice.object().map_or(0, |mut choice| length(&mut choice, "text"));
    }
    bytes
}

/// Images, as data or as addresses.
fn images(reply: &mut Object<'_>) -> usize {
    let is_image = |node: &Node<'_>| {
        node.object().is_ok_and(|mut item| item.take("b64_json").is_some() || item.take("url").is_some())
    };
    reply.list("data").unwrap_or_default().iter().filter(|node| is_image(node)).count()
}

/// The size of images, where it is told.
fn size(reply: &mut Object<'_>) -> Option<ImageSize> {
    ImageSize::parse(&reply.text("size").ok()??).ok()
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
            return Err(crate::upstream_error::failure_of_class(None));
        }
        let kind = frame.text("type").ok().flatten().unwrap_or_default();
        self.is_finished |= kind.ends_with(".done") || kind.ends_with(".completed");
        // Transcripts come in pieces; of an image only the finished one counts.
        let piece = frame.text("delta").ok().flatten().filter(|piece| !piece.is_empty());
        events.extend(piece.map(|text| Event::Text { choice: 0, text }));
        if kind.ends_with(".completed") && frame.clone().take("b64_json").is_some() {
            events.push(Event::Image { choice: 0 });
        }
        events.extend(usage(&mut frame).ok().flatten().map(Event::Usage));
        Ok(FrameKind::Piece)
    }

    fn is_finished(&self) -> bool {
        self.is_finished
    }

    fn own_error(&self, _frame: &crate::sse::SseFrame) -> Option<Bytes> {
        None
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let mut out = Vec::new();
        data_frame(&error_object::write(told), &mut out);
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
        let read_counts = read(body.as_bytes()).unwrap().counts;
        assert_eq!(read_counts.map(|counts| (counts.input, counts.output)), counts);
    }

    #[rstest]
    #[case::completions(r#"{"choices":[{"text":"Berth 2"},{"text":"Berth 3"}]}"#, 14, 0)]
    #[case::generate(r#"{"response":"Berth 2","done":true}"#, 7, 0)]
    #[case::transcript(r#"{"text":"Berth 2"}"#, 7, 0)]
    #[case::images(
        r#"{"size":"64x64","data":[{"b64_json":"AAAAAAAAAAAAAAAAAAAAAAAA"},{"url":"https://example"}]}"#,
        0,
        2
    )]
    fn what_it_is_estimated_by(#[case] body: &str, #[case] bytes: u64, #[case] images: u32) {
        let facts = read(body.as_bytes()).unwrap();
        assert_eq!((facts.output_bytes, facts.images.count), (bytes, images));
        assert_eq!(facts.images.size.is_some(), body.contains("64x64"));
    }

    #[rstest]
    #[case::page("<html>")]
    #[case::error(r#"{"error":"no"}"#)]
    #[case::list("[]")]
    fn what_is_no_reply(#[case] body: &str) {
        assert!(read(body.as_bytes()).is_err());
    }
}
