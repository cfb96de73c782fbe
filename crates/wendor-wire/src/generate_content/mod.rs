//! The dialect of `POST /v1beta/models/{model}:generateContent` (`docs/protocols.md` section 5).
//!
//! - [`decode`], [`encode`]: requests from and to the neutral conversation
//! - [`answer`], [`writer`]: answers to and from its events
//! - [`error`]: errors as the dialect's clients read them
//! - [`schema`]: its own form of schemas

pub mod answer;
pub mod decode;
pub mod encode;
pub mod error;
pub mod schema;
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
pub struct GenerateContent;

impl Codec for GenerateContent {
    fn framing(&self) -> Framing {
        Framing::Events
    }

    fn read_request(&self, body: &str, outside: Outside<'_>) -> Result<Conversation, Wrong> {
        decode::read(body, outside)
    }

    fn write_request(&self, conversation: &Conversation, target: &Target<'_>) -> String {
        encode::write(conversation, target)
    }

    fn path(&self, model: &str, is_streamed: bool) -> String {
        if is_streamed {
            format!("/v1beta/models/{model}:streamGenerateContent?alt=sse")
        } else {
            format!("/v1beta/models/{model}:generateContent")
        }
    }

    fn reader(&self) -> Box<dyn StreamReader> {
        Box::<answer::ContentReader>::default()
    }

    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure> {
        answer::read_whole(body)
    }

    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter> {
        Box::new(writer::ContentWriter::new(head))
    }

    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
        writer::whole(answer, head)
    }

    fn error(&self, told: &ErrorTold) -> String {
        error::write(told)
    }

    fn count_path(&self, model: &str) -> String {
        format!("/v1beta/models/{model}:countTokens")
    }

    fn is_told_in_path(&self) -> bool {
        true
    }

    fn has_names_both_ways(&self) -> bool {
        true
    }

    fn reads_comments(&self) -> bool {
        false
    }

    fn has_terminator(&self) -> bool {
        false
    }

    fn answers_with_images(&self) -> bool {
        true
    }

    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)> {
        Some((Some("generationConfig"), "maxOutputTokens"))
    }

    fn preset_places(&self) -> PresetPlaces {
        PresetPlaces {
            turns: "contents",
            instructions: Some("systemInstruction"),
            parameters: &[
                (PresetPart::Temperature, &["generationConfig.temperature"]),
                (PresetPart::TopP, &["generationConfig.topP"]),
                (PresetPart::Seed, &["generationConfig.seed"]),
                (PresetPart::PresencePenalty, &["generationConfig.presencePenalty"]),
                (PresetPart::FrequencyPenalty, &["generationConfig.frequencyPenalty"]),
                (PresetPart::OutputLimit, &["generationConfig.maxOutputTokens"]),
                (PresetPart::Stop, &["generationConfig.stopSequences"]),
            ],
        }
    }

    fn heartbeat(&self) -> Option<&'static str> {
        Some("\n")
    }
}
