//! The dialect of `POST /api/chat` (`docs/protocols.md` section 6).
//!
//! - [`decode`], [`encode`]: requests from and to the neutral conversation; [`generate`]: the form with one prompt
//! - [`answer`], [`writer`]: answers to and from its events
//! - [`error`]: errors as the dialect's clients read them

pub mod answer;
pub mod decode;
pub mod encode;
pub mod error;
pub mod generate;
pub mod writer;

use crate::codec::{AnswerHead, Codec, ErrorTold, Outside, StreamReader, StreamWriter};
use crate::conversation::Conversation;
use crate::conversation::answer::Answer;
use crate::conversation::event::Event;
use crate::failure::Failure;
use crate::json::Wrong;
use crate::native::Known;
use crate::preset::{PresetPart, PresetPlaces};
use crate::sse::Framing;
use crate::verdict::Target;

/// The dialect.
#[derive(Clone, Copy, Debug)]
pub struct LocalChat;

impl Codec for LocalChat {
    fn framing(&self) -> Framing {
        Framing::Lines
    }

    fn read_request(&self, body: &str, outside: Outside<'_>) -> Result<Conversation, Wrong> {
        if outside.is_prompt { generate::read(body) } else { decode::read(body, outside) }
    }

    fn write_request(&self, conversation: &Conversation, target: &Target<'_>) -> String {
        encode::write(conversation, target)
    }

    fn path(&self, _model: &str, _is_streamed: bool) -> String {
        "/api/chat".to_owned()
    }

    fn reader(&self) -> Box<dyn StreamReader> {
        Box::<answer::LocalReader>::default()
    }

    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure> {
        answer::read_whole(body)
    }

    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter> {
        Box::new(writer::LocalWriter::new(head))
    }

    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
        writer::whole(answer, head)
    }

    fn error(&self, told: &ErrorTold) -> String {
        error::write(told)
    }

    fn streams_unless_told(&self) -> bool {
        true
    }

    fn continues_prompts(&self) -> bool {
        true
    }

    fn implied_tag(&self) -> Option<&'static str> {
        Some(":latest")
    }

    fn settings(&self) -> Option<(&'static str, &'static [Known])> {
        Some(("options", decode::KNOWN_OF_OPTIONS))
    }

    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)> {
        Some((Some("options"), "num_predict"))
    }

    fn preset_places(&self) -> PresetPlaces {
        PresetPlaces {
            turns: "messages",
            instructions: None,
            parameters: &[
                (PresetPart::Temperature, &["options.temperature"]),
                (PresetPart::TopP, &["options.top_p"]),
                (PresetPart::Seed, &["options.seed"]),
                (PresetPart::PresencePenalty, &["options.presence_penalty"]),
                (PresetPart::FrequencyPenalty, &["options.frequency_penalty"]),
                (PresetPart::OutputLimit, &["options.num_predict"]),
                (PresetPart::Stop, &["options.stop"]),
            ],
        }
    }

    fn heartbeat(&self) -> Option<&'static str> {
        None
    }
}
