//! What every dialect can do: one implementation of [`Codec`] each, in a module of its own, and one line in [`of`].
//!
//! Requests: a body becomes a neutral conversation, a conversation becomes a body. Answers: frames of a stream or a whole reply become
//! events, events become frames, and their fold a whole reply. Errors: as the dialect's clients raise on them.

use bytes::Bytes;
use chrono::{DateTime, Utc};

use super::conversation::answer::Answer;
use super::conversation::event::{Event, Usage};
use super::conversation::{Conversation, FunctionForm, UsageFrame};
use super::facts::Facts;
use super::json::Wrong;
use super::seal::SealDomain;
use super::sse::SseFrame;
use super::verdict::Target;
use super::{chat_completions, generate_content, local_chat, messages, responses};
use crate::catalog::upstream::Dialect;
use crate::routing::failure::Failure;

/// How frames are told apart on the wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Framing {
    /// Server-sent events.
    Events,
    /// A JSON object a line.
    Lines,
}

/// What an app's request says outside its body.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Outside<'a> {
    /// The model, where the path names it.
    pub model: Option<&'a str>,
    /// Whether the path asks for a stream.
    pub is_streamed: bool,
    /// Whether the path is that of one prompt instead of turns.
    pub is_prompt: bool,
}

/// What an answer has to say of itself.
#[derive(Clone, Debug)]
pub struct AnswerHead {
    /// The request's id, from which all others are minted.
    pub request: String,
    /// The model, as the app named it.
    pub model: String,
    /// When the request arrived.
    pub at: DateTime<Utc>,
    /// Whether usage goes to the app at the end of a stream.
    pub usage_frame: UsageFrame,
    /// How the app names functions.
    pub functions: FunctionForm,
    /// Estimated tokens of the prompt, for dialects whose clients need a number where nobody told one.
    pub input_estimate: u64,
    /// Whose seals the answer holds.
    pub seals: SealDomain,
    /// Whether an app that asked for usage gets an estimate where the upstream reports none.
    pub estimates_usage: bool,
}

impl AnswerHead {
    /// The id of the call `index`, where the upstream gave none: unique however an app trims its history.
    #[must_use]
    pub fn call_id(&self, choice: u32, call: u32) -> String {
        match choice {
            0 => format!("call_{}_{call}", self.request),
            choice => format!("call_{}_{choice}_{call}", self.request),
        }
    }

    /// Seconds since 1970 at which it was made.
    #[must_use]
    pub fn created(&self) -> i64 {
        self.at.timestamp()
    }
}

/// An error to an app.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ErrorTold {
    /// HTTP status.
    pub status: u16,
    /// The class that chat-completions and responses have in `type`.
    pub class: &'static str,
    /// The exact cause.
    pub code: String,
    /// The member of the request that it is about.
    pub param: Option<String>,
    /// What was wrong, with which value, and what to do.
    pub message: String,
    /// The request's id.
    pub request: String,
}

/// How a stream is closed after its error.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Closing {
    /// At the end of the body: clients have read the error.
    Clean,
    /// By breaking the connection: some clients of the dialect do not see the error.
    Broken,
}

/// What a frame of an upstream's stream is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameKind {
    /// Only a role, a ping, an empty item: passed on, but does not commit the offer.
    Opening,
    /// A piece of the answer, or its finish.
    Piece,
    /// Usage alone, which chat-completions sends only to those who asked.
    UsageOnly,
    /// Something that this dialect does not know: kept from the app, whose client may fail over it.
    Foreign,
    /// The terminator.
    Done,
}

/// Reads an upstream's stream, frame by frame.
pub trait StreamReader: Send + std::fmt::Debug {
    /// Takes the data of the next frame; what it says is added to `events`.
    ///
    /// # Errors
    /// When it is not of this dialect, or is an error; the failure holds nothing of its text.
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure>;

    /// Looks at a frame that passes as it is: what it says goes into `facts`, and seals into `events`.
    ///
    /// # Errors
    /// As with [`Self::read`].
    fn look(&mut self, data: &[u8], facts: &mut Facts, events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        let kind = self.read(data, events)?;
        events.iter().for_each(|event| facts.take(event));
        Ok(kind)
    }

    /// Whether the answer is whole even if the terminator never comes.
    fn is_finished(&self) -> bool;

    /// The terminator, for upstreams that leave it out.
    fn terminator(&self) -> &'static str {
        ""
    }

    /// A frame that passes, without what clients break on silently; `None` when it is fine as it is, as nearly all are.
    fn mended(&self, _frame: &SseFrame) -> Option<String> {
        None
    }

    /// An error frame of the upstream in a form that every client of the dialect raises on, in its own words; `None` when it has none.
    fn own_error(&self, frame: &SseFrame) -> Option<Bytes>;

    /// The frames by which a stream that was passed on so far breaks off.
    fn broken_off(&self, told: &ErrorTold) -> (String, Closing);
}

/// Writes a stream for an app.
pub trait StreamWriter: Send + std::fmt::Debug {
    /// Adds what `event` is in frames of the dialect.
    ///
    /// # Errors
    /// When the dialect cannot say it: arguments of a call that are no object, in dialects that need one.
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure>;

    /// The last frames, terminator included. They are held back until the answer is on record.
    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>);

    /// The frames by which it breaks off.
    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing;
}

/// A dialect.
pub trait Codec: Sync {
    /// How its streams are framed.
    fn framing(&self) -> Framing;

    /// Reads an app's request.
    ///
    /// # Errors
    /// What is wrong, by its path.
    fn read_request(&self, body: &str, outside: Outside<'_>) -> Result<Conversation, Wrong>;

    /// The body for an upstream. The verdict came before, so that everything in it can be said.
    fn write_request(&self, conversation: &Conversation, target: &Target<'_>) -> String;

    /// The path of the endpoint at an upstream.
    fn path(&self, model: &str, is_streamed: bool) -> String;

    /// A reader of an upstream's stream.
    fn reader(&self) -> Box<dyn StreamReader>;

    /// Reads a whole reply.
    ///
    /// # Errors
    /// When it is none; the failure holds nothing of its text.
    fn read_whole(&self, body: &[u8]) -> Result<Vec<Event>, Failure>;

    /// A writer of a stream for an app.
    fn writer(&self, head: AnswerHead) -> Box<dyn StreamWriter>;

    /// A whole reply for an app.
    ///
    /// # Errors
    /// When the dialect cannot say it, as with [`StreamWriter::write`].
    fn write_whole(&self, answer: &Answer, head: &AnswerHead) -> Result<String, Failure>;

    /// The body of an error reply.
    fn error(&self, told: &ErrorTold) -> String;

    /// What keeps an idle connection open without any client taking note; `None` where nothing does.
    fn heartbeat(&self) -> Option<&'static str>;
}

/// The codec of a dialect.
#[must_use]
pub fn of(dialect: Dialect) -> &'static dyn Codec {
    match dialect {
        Dialect::ChatCompletions => &chat_completions::ChatCompletions,
        Dialect::Responses => &responses::Responses,
        Dialect::Messages => &messages::Messages,
        Dialect::GenerateContent => &generate_content::GenerateContent,
        Dialect::LocalChat => &local_chat::LocalChat,
    }
}

/// A frame of server-sent events around one line of JSON.
pub fn data_frame(line: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(b"data: ");
    out.extend_from_slice(line.as_bytes());
    out.extend_from_slice(b"\n\n");
}

/// The same with a name.
pub fn named_frame(name: &str, line: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(b"event: ");
    out.extend_from_slice(name.as_bytes());
    out.push(b'\n');
    data_frame(line, out);
}
