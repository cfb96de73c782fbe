//! The dialect of `POST /v1/messages` (`docs/protocols.md` section 4).
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
pub struct Messages;

impl Codec for Messages {
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
        "/v1/messages".to_owned()
    }

    fn reader(&self) -> Box<dyn StreamReader> {
        Box::<answer::MessagesReader>::default()
    }

    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure> {
        answer::read_whole(body)
    }

    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter> {
        Box::new(writer::MessagesWriter::new(head))
    }

    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
        writer::whole(answer, head)
    }

    fn error(&self, told: &ErrorTold) -> String {
        error::write(told)
    }

    fn count_path(&self, _model: &str) -> String {
        "/v1/messages/count_tokens".to_owned()
    }

    fn has_to_tell_input(&self) -> bool {
        true
    }

    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)> {
        Some((None, "max_tokens"))
    }

    fn preset_places(&self) -> PresetPlaces {
        PresetPlaces {
            turns: "messages",
            instructions: Some("system"),
            parameters: &[
                (PresetPart::Temperature, &["temperature"]),
                (PresetPart::TopP, &["top_p"]),
                (PresetPart::OutputLimit, &["max_tokens"]),
                (PresetPart::Stop, &["stop_sequences"]),
            ],
        }
    }

    fn heartbeat(&self) -> Option<&'static str> {
        Some("event: ping\ndata: {\"type\":\"ping\"}\n\n")
    }
}
