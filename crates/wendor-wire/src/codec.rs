//! What every dialect can do: one implementation of [`Codec`] each, in a module of its own that knows no other, and one line in
//! [`crate::dialects`].
//!
//! Requests: a body becomes a neutral conversation, a conversation becomes a body. Answers: frames of a stream or a whole reply become
//! events, events become frames, and their fold a whole reply. Errors: as the dialect's clients raise on them.

use bytes::Bytes;
use chrono::{DateTime, Utc};

use crate::conversation::answer::Answer;
use crate::conversation::event::{Event, Usage};
use crate::conversation::facts::Facts;
use crate::conversation::{Conversation, FunctionForm, UsageFrame};
use crate::failure::Failure;
use crate::json::Wrong;
use crate::native::Known;
use crate::preset::PresetPlaces;
use crate::seal::SealDomain;
use crate::sse::{Framing, SseFrame};
use crate::verdict::Target;

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

    /// The path at which an upstream counts the tokens of a request.
    fn count_path(&self, _model: &str) -> String {
        "/v1/responses/input_tokens".to_owned()
    }

    /// Whether the path names the model and says whether the answer is a stream, and not the body.
    fn is_told_in_path(&self) -> bool {
        false
    }

    /// Whether members have their names in two ways, in camel case and with underscores.
    fn has_names_both_ways(&self) -> bool {
        false
    }

    /// Whether the answer is a stream where the app says nothing of it.
    fn streams_unless_told(&self) -> bool {
        false
    }

    /// Whether usage comes in a frame of its own at the end of a stream, to those who ask for it.
    fn tells_usage_apart(&self) -> bool {
        false
    }

    /// Whether clients need a count of the input at the beginning of an answer.
    fn has_to_tell_input(&self) -> bool {
        false
    }

    /// Whether clients read over comments in a stream.
    fn reads_comments(&self) -> bool {
        true
    }

    /// Whether streams end with a frame that says so; without one the frame with the finish is what an app takes for the end.
    fn has_terminator(&self) -> bool {
        true
    }

    /// Whether servers continue a prompt, instead of taking it for a turn.
    fn continues_prompts(&self) -> bool {
        false
    }

    /// Whether the answer to a conversation may hold images.
    fn answers_with_images(&self) -> bool {
        false
    }

    /// Whether services keep answers unless they are told not to.
    fn keeps_answers(&self) -> bool {
        false
    }

    /// Whether there are servers that know only older names, as marks of offers say.
    fn has_old_servers(&self) -> bool {
        false
    }

    /// The tag that clients write behind a name, and that a name without one means.
    fn implied_tag(&self) -> Option<&'static str> {
        None
    }

    /// The object of a body with further settings, and those of them that offers may not let apps set.
    fn settings(&self) -> Option<(&'static str, &'static [Known])> {
        None
    }

    /// The object of the body, if it is not the body itself, and its member that say how long an answer may be. `None` where the
    /// body is read by its members alone, and their places are known.
    fn limit_member(&self) -> Option<(Option<&'static str>, &'static str)>;

    /// Where its body has what a route may add to a request.
    fn preset_places(&self) -> PresetPlaces;

    /// What keeps an idle connection open without any client taking note; `None` where nothing does.
    fn heartbeat(&self) -> Option<&'static str>;
}
