//! The dialect of `POST /v1/chat/completions` (`docs/protocols.md` section 2).
//!
//! Where app and upstream both speak it, bodies and frames pass as they are:
//! - [`request`]: what Wendor has to know of an app's request, and the body as the upstream gets it
//! - [`stream`]: what each frame of a stream says, and when a stream has come to its proper end
//! - [`reply`]: what a whole reply says
//! - [`usage`]: the dialect's usage object as token counts
//!
//! Between this and other dialects:
//! - [`decode`], [`encode`]: requests from and to the neutral conversation
//! - [`answer`], [`writer`]: answers to and from its events
//! - [`error`]: errors as the dialect's clients read them

pub mod answer;
mod calls;
pub mod decode;
pub mod encode;
mod mend;
pub mod reply;
pub mod request;
pub mod stream;
pub mod usage;
pub mod writer;

use crate::codec::{AnswerHead, Codec, ErrorTold, Outside, StreamReader, StreamWriter};
use crate::conversation::Conversation;
use crate::conversation::answer::Answer;
use crate::conversation::event::Event;
use crate::error_object;
use crate::failure::Failure;
use crate::json::Wrong;
use crate::preset::{PresetPart, PresetPlaces};
use crate::sse::Framing;
use crate::verdict::Target;

/// The dialect.
#[derive(Clone, Copy, Debug)]
pub struct ChatCompletions;

impl Codec for ChatCompletions {
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
        "/v1/chat/completions".to_owned()
    }

    fn reader(&self) -> Box<dyn StreamReader> {
        Box::<answer::ChatReader>::default()
    }

    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure> {
        answer::read_whole(body)
    }

    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter> {
        Box::new(writer::ChatWriter::new(head))
    }

    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
        Ok(writer::whole(answer, head))
    }

    fn error(&self, told: &ErrorTold) -> String {
        error_object::write(told)
    }

    fn tells_usage_apart(&self) -> bool {
        true
    }

    fn has_old_servers(&self) -> bool {
        true
    }

    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)> {
        None
    }

    fn preset_places(&self) -> PresetPlaces {
        PresetPlaces {
            turns: "messages",
            instructions: None,
            parameters: &[
                (PresetPart::Temperature, &["temperature"]),
                (PresetPart::TopP, &["top_p"]),
                (PresetPart::Seed, &["seed"]),
                (PresetPart::PresencePenalty, &["presence_penalty"]),
                (PresetPart::FrequencyPenalty, &["frequency_penalty"]),
                (PresetPart::OutputLimit, &["max_completion_tokens", "max_tokens"]),
                (PresetPart::Stop, &["stop"]),
            ],
        }
    }

    fn heartbeat(&self) -> Option<&'static str> {
        Some(": hb\n\n")
    }
}
