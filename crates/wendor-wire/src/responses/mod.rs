//! The dialect of `POST /v1/responses` (`docs/protocols.md` section 3).
//!
//! - [`decode`], [`encode`]: requests from and to the neutral conversation
//! - [`answer`], [`writer`]: answers to and from its events
//! - [`error`]: errors as the dialect's clients read them

pub mod answer;
pub mod decode;
pub mod encode;
pub mod error;
pub mod writer;

use crate::codec::{AnswerHead, Codec, ErrorTold, Outside, StreamReader, StreamWriter};
use crate::conversation::Conversation;
use crate::conversation::answer::Answer;
use crate::conversation::event::Event;
use crate::failure::Failure;
use crate::json::Wrong;
use crate::preset::{PresetPart, PresetPlaces};
use crate::sse::Framing;
use crate::verdict::Target;

/// The dialect.
#[derive(Clone, Copy, Debug)]
pub struct Responses;

impl Codec for Responses {
    fn framing(&self) -> Framing {
        Framing::Events
    }

    fn read_request(&self, body: &str, outside: Outside<'_>) -> Result<Conversation, Wrong> {
        decode::read(body, outside)
    }

    fn write_request(&self, conversation: &Conversation, target: &Target<'_>) -> String {
        encode::write(conversation, target)
    }

    fn path(&self, _model: &str, _is_streamed: bool) -> String {
        "/v1/responses".to_owned()
    }

    fn reader(&self) -> Box<dyn StreamReader> {
        Box::<answer::ResponsesReader>::default()
    }

    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure> {
        answer::read_whole(body)
    }

    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter> {
        Box::new(writer::ResponsesWriter::new(head))
    }

    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
        Ok(writer::whole(answer, head))
    }

    fn error(&self, told: &ErrorTold) -> String {
        error::write(told)
    }

    fn keeps_answers(&self) -> bool {
        true
    }

    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)> {
        Some((None, "max_output_tokens"))
    }

    fn preset_places(&self) -> PresetPlaces {
        PresetPlaces {
            turns: "input",
            instructions: Some("instructions"),
            parameters: &[
                (PresetPart::Temperature, &["temperature"]),
                (PresetPart::TopP, &["top_p"]),
                (PresetPart::OutputLimit, &["max_output_tokens"]),
            ],
        }
    }

    fn heartbeat(&self) -> Option<&'static str> {
        Some(": hb\n\n")
    }
}
