//! The neutral conversation: what an app asks, said in no dialect.
//!
//! A dialect's decoder makes a [`Conversation`] of a body, any dialect's encoder makes a body of it; what an answer says in between
//! is [`event::Event`]s, and a whole reply is their fold, [`answer::Answer`]. Schemas and arguments of tools stay the text they
//! were, numbers keep their digits. What only one dialect knows goes along as [`Native`] members: they are given back to that
//! dialect and to no other, and the verdict ([`crate::verdict`]) says what becomes of them elsewhere. Members that nobody knows
//! leave their path alone.

pub mod answer;
pub mod event;
pub mod facts;
mod links;
pub mod turn;
pub mod wish;

use crate::dialect::Dialect;
use crate::json::{Object, RawJson};
use crate::verdict::field::Field;

pub use turn::{Media, MediaSource, Part, PartKind, Role, ToolCall, ToolResult, Turn};
pub use wish::{AnswerFormat, Effort, Sampling, ThinkingAmount, ThinkingWish, Tool, ToolChoice, ToolKind};

/// Whether usage goes to the app at the end of a stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UsageFrame {
    /// The app asked for it.
    Asked,
    /// The app did not: it is kept from it where the dialect lets apps choose.
    NotAsked,
}

/// How the answer is to come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Delivery {
    /// In one piece.
    Whole,
    /// Event by event, with or without counts at the end.
    Streamed(UsageFrame),
}

/// A member that one dialect alone knows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Native {
    /// What it is to the verdict.
    pub field: Field,
    /// The member that it stands in: "" for the body itself, or for the turn or part that carries it.
    pub container: &'static str,
    /// Of the member, within `container`.
    pub name: String,
    /// Its whole path, for notes.
    pub path: String,
    /// Byte for byte.
    pub value: RawJson,
}

/// What an app asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conversation {
    /// The dialect that it came in.
    pub dialect: Dialect,
    /// The route's name, as the app put it.
    pub model: String,
    /// How the answer is to come.
    pub delivery: Delivery,
    /// Whether it is not what the app's own body says any more, so that the body cannot go on as it is.
    pub is_changed: bool,
    /// What was said, oldest first.
    pub turns: Vec<Turn>,
    /// The functions that the model may call.
    pub tools: Vec<Tool>,
    /// Whether and which it has to.
    pub tool_choice: Option<ToolChoice>,
    /// Whether it may call several at once.
    pub parallel_tools: Option<bool>,
    /// How tokens are drawn.
    pub sampling: Sampling,
    /// The most output tokens for one choice.
    pub output_limit: Option<u64>,
    /// What the answer must look like.
    pub format: Option<AnswerFormat>,
    /// Whether and how long to think.
    pub thinking: ThinkingWish,
    /// The app's name for its own user.
    pub end_user: Option<String>,
    /// Whether functions came in the oldest form, in which case calls go back in it.
    pub functions: FunctionForm,
    /// What only the app's dialect knows.
    pub native: Vec<Native>,
    /// Paths of members that nobody knows.
    pub unknown: Vec<String>,
    /// Where in the app's body what is said under a neutral word stands.
    pub places: Vec<(&'static str, String)>,
}

/// The form in which an app frames what it asks, where its dialect has several.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum FunctionForm {
    /// As turns, with tools.
    #[default]
    Tools,
    /// Of chat-completions: with `functions`, the form before tools: one call, without an id.
    Functions,
    /// Of a local server: one prompt instead of turns.
    Prompt,
}

impl Conversation {
    /// One that says nothing yet.
    #[must_use]
    pub fn of(dialect: Dialect, model: impl Into<String>) -> Self {
        Self {
            dialect,
            model: model.into(),
            delivery: Delivery::Whole,
            is_changed: false,
            turns: Vec::new(),
            tools: Vec::new(),
            tool_choice: None,
            parallel_tools: None,
            sampling: Sampling::default(),
            output_limit: None,
            format: None,
            thinking: ThinkingWish::default(),
            end_user: None,
            functions: FunctionForm::default(),
            native: Vec::new(),
            unknown: Vec::new(),
            places: Vec::new(),
        }
    }

    /// Where what has that neutral word stands in the app's body.
    #[must_use]
    pub fn place(&self, word: &str) -> String {
        self.places.iter().find(|(known, _)| *known == word).map_or_else(|| word.to_owned(), |(_, path)| path.clone())
    }

    /// The system texts before the first turn of anyone else, joined with blank lines; `None` when there are none.
    #[must_use]
    pub fn leading_system(&self) -> Option<String> {
        let texts: Vec<String> = self.turns.iter().take(self.leading_system_turns()).map(Turn::text).collect();
        if texts.is_empty() { None } else { Some(texts.join("\n\n")) }
    }

    /// How many turns stand before the first that is not the system's.
    #[must_use]
    pub fn leading_system_turns(&self) -> usize {
        self.turns.iter().take_while(|turn| turn.role.is_system()).count()
    }

    /// What is left of an object once it was read is unknown.
    pub(crate) fn not_known(&mut self, object: Object<'_>) {
        self.unknown.extend(object.rest().iter().map(|left| left.path().to_owned()));
    }

    /// Links every result to its call: for whoever has put a conversation together.
    pub fn link(&mut self) {
        links::link(self);
    }

    /// Every call in the history, in order.
    pub fn calls(&self) -> impl Iterator<Item = &ToolCall> {
        self.turns.iter().flat_map(|turn| &turn.parts).filter_map(|part| match &part.kind {
            PartKind::ToolCall(call) => Some(call),
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::ToolResult(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => None,
        })
    }
}
