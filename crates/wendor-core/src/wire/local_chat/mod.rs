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

use super::codec::{AnswerHead, Codec, ErrorTold, Framing, Outside, StreamReader, StreamWriter};
use super::conversation::Conversation;
use super::conversation::answer::Answer;
use super::conversation::event::Event;
use super::json::Wrong;
use super::verdict::Target;
use crate::routing::failure::Failure;

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

    fn heartbeat(&self) -> Option<&'static str> {
        None
    }
}
