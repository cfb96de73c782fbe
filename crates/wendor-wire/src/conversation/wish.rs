//! How an app wants its answer: drawn how, thought about how long, in which form, with which functions.

use std::collections::HashSet;

use crate::conversation::Native;
use crate::json::{Number, RawJson};

/// How tokens are drawn. Numbers keep the digits that the app wrote.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sampling {
    /// From 0; most dialects end at 2, messages at 1.
    pub temperature: Option<Number>,
    /// From 0 to 1.
    pub top_p: Option<Number>,
    /// A whole number, which one dialect writes as a fraction.
    pub top_k: Option<Number>,
    /// For answers that can be repeated, as far as that goes.
    pub seed: Option<Number>,
    /// From -2 to 2.
    pub presence_penalty: Option<Number>,
    /// From -2 to 2.
    pub frequency_penalty: Option<Number>,
    /// Local servers' own.
    pub repeat_penalty: Option<Number>,
    /// Texts at which the answer ends.
    pub stop: Vec<String>,
    /// Answers wanted.
    pub choices: Option<u64>,
    /// Whether log probabilities are wanted.
    pub logprobs: Option<bool>,
    /// How many alternatives with each.
    pub top_logprobs: Option<u64>,
    /// Bias by token id.
    pub logit_bias: Option<RawJson>,
}

/// How much thinking an app wants, from least to most.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Effort {
    /// The least that there is.
    Minimal,
    /// Little.
    Low,
    /// Some.
    Medium,
    /// Much.
    High,
    /// More.
    Higher,
    /// All there is.
    Max,
}

impl Effort {
    /// Every effort, with its word in chat-completions, responses and messages.
    pub const WORDS: [(&'static str, Self); 6] = [
        ("minimal", Self::Minimal),
        ("low", Self::Low),
        ("medium", Self::Medium),
        ("high", Self::High),
        ("xhigh", Self::Higher),
        ("max", Self::Max),
    ];

    /// The effort of that word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        Self::WORDS.into_iter().find(|(known, _)| *known == word).map(|(_, effort)| effort)
    }

    /// Lower case, as it stands in dialects and refusals.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Minimal => "minimal",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Higher => "xhigh",
            Self::Max => "max",
        }
    }

    /// A budget in tokens that comes near to it (`docs/protocols.md` section 8.4).
    #[must_use]
    pub fn budget(self) -> u64 {
        match self {
            Self::Minimal | Self::Low => 1_024,
            Self::Medium => 4_096,
            Self::High => 16_384,
            Self::Higher => 32_768,
            Self::Max => 65_536,
        }
    }

    /// The effort that comes near to a budget.
    #[must_use]
    pub fn of_budget(budget: u64) -> Self {
        match budget {
            0..=2_048 => Self::Low,
            2_049..=8_192 => Self::Medium,
            _ => Self::High,
        }
    }
}

/// How much thinking is wanted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ThinkingAmount {
    /// Nothing was said.
    #[default]
    Unsaid,
    /// None.
    Off,
    /// On; how much is left to the model.
    Dynamic,
    /// About so much.
    Effort(Effort),
    /// At most so many tokens.
    Budget(u64),
}

/// Whether and how long to think.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ThinkingWish {
    /// How much.
    pub amount: ThinkingAmount,
    /// Whether the thinking is to be shown, where apps can say so.
    pub is_shown: Option<bool>,
}

/// What the answer must look like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AnswerFormat {
    /// Text, said outright.
    Text,
    /// Valid JSON of whatever shape.
    Json,
    /// JSON of this schema.
    Schema(Schema),
}

/// A schema for an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Schema {
    /// JSON Schema, as the app wrote it or as it was put together from another form.
    pub schema: RawJson,
    /// The form that the app wrote, where that is another one.
    pub typed: Option<RawJson>,
    /// Its name, where the dialect has one.
    pub name: Option<String>,
    /// What it is for.
    pub description: Option<String>,
    /// Whether the model is held to it.
    pub is_strict: Option<bool>,
}

/// Whether and which function must be called.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ToolChoice {
    /// As the model likes.
    Auto,
    /// The model may not call any.
    None,
    /// One or more.
    Required,
    /// This function.
    Named(String),
    /// This custom tool.
    NamedCustom(String),
    /// Only some of the functions.
    Subset {
        /// Which.
        names: Vec<String>,
        /// Whether one of them must be called.
        must: bool,
    },
}

/// A function that the model may call.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tool {
    /// Calls come back under it.
    pub name: String,
    /// What it does.
    pub description: Option<String>,
    /// A function or a custom tool.
    pub kind: ToolKind,
    /// Whether the model is held to its schema.
    pub is_strict: Option<bool>,
    /// Where it stands in the app's body.
    pub path: String,
    /// What only the app's dialect knows of it.
    pub native: Vec<Native>,
}

/// The names of the tools that take free text.
#[must_use]
pub fn custom_names(tools: &[Tool]) -> HashSet<&str> {
    let customs = tools.iter().filter(|tool| matches!(tool.kind, ToolKind::Custom(_)));
    customs.map(|tool| tool.name.as_str()).collect()
}

impl ToolChoice {
    /// The tools that may be called, where they are only some.
    #[must_use]
    pub fn allowed(&self) -> Option<HashSet<&str>> {
        match self {
            Self::Subset { names, .. } => Some(names.iter().map(String::as_str).collect()),
            Self::Auto | Self::None | Self::Required | Self::Named(_) | Self::NamedCustom(_) => None,
        }
    }
}

/// Who runs it and what it takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ToolKind {
    /// Run by the app, with JSON arguments.
    Function {
        /// JSON Schema of its arguments.
        parameters: Option<RawJson>,
        /// The form that the app wrote, where that is another one.
        typed: Option<RawJson>,
    },
    /// Takes free text, perhaps of a grammar.
    Custom(Option<RawJson>),
}
