//! Abilities proven: a small question each whose right answer holds a number that was drawn for it, so that luck does not give it.

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::ability::Ability;
use wendor_wire::conversation::answer::Block;
use wendor_wire::conversation::wish::Schema;
use wendor_wire::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool,
    ToolKind, Turn, UsageFrame,
};
use wendor_wire::dialect::Dialect;
use wendor_wire::embedding::{EmbeddingRequest, Encoding, Inputs, Vectors, form_of};
use wendor_wire::json::RawJson;
use wendor_wire::usage::TokenCounts;
use wendor_wire::worded;

use super::answer::{CALL_TOKENS, PATIENT_TOKENS};
use super::finding::{Finding, FindingKind};
use super::heard::AnswerSeen;
use super::picture;
use super::remedy::{Change, Remedy};
use crate::catalog::upstream::Offer;
use crate::catalog::weights::is_same_digest;

/// How long a proof holds.
pub const HOLDS: TimeDelta = TimeDelta::days(30);

/// The longest prompt that a check sends to see whether it is cut, in tokens.
const LONGEST_PROMPT: u32 = 4_096;

/// Input tokens that a short question takes at most, in any dialect, its schema and its picture included.
const QUESTION_TOKENS: u64 = 1_500;

worded! {
    /// What is proven.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Proof {
        /// Functions are called with what they were asked for.
        Tools = "tools",
        /// Images are looked at.
        ImagesIn = "images-in",
        /// Answers keep to a schema.
        Json = "json",
        /// Thinking comes when it is asked for.
        Reasoning = "reasoning",
        /// Vectors tell texts apart.
        Embeddings = "embeddings",
        /// A long prompt is read whole.
        Context = "context",
    }
}

impl Proof {
    /// The ability that it proves; the last is about a length.
    #[must_use]
    pub fn ability(self) -> Option<Ability> {
        match self {
            Self::Tools => Some(Ability::Tools),
            Self::ImagesIn => Some(Ability::ImagesIn),
            Self::Json => Some(Ability::Json),
            Self::Reasoning => Some(Ability::Reasoning),
            Self::Embeddings => Some(Ability::Embeddings),
            Self::Context => None,
        }
    }

    /// Whether it is to be asked of an offer: what that declares, or all that its dialect has where it declares nothing, but for what
    /// only some models are made for.
    #[must_use]
    pub fn is_asked(self, offer: &Offer, dialect: Dialect) -> bool {
        let chats = offer.can(Ability::Chat);
        match self {
            Self::Tools | Self::Json | Self::ImagesIn => {
                chats && self.ability().is_some_and(|ability| offer.can(ability))
            }
            Self::Reasoning => offer.abilities.as_ref().is_some_and(|able| able.contains(&Ability::Reasoning)),
            Self::Embeddings => {
                let is_said = offer.abilities.as_ref().is_some_and(|able| able.contains(&Ability::Embeddings));
                is_said && form_of(dialect).is_some()
            }
            Self::Context => chats,
        }
    }

    /// What it takes at most.
    #[must_use]
    pub fn worst(self, offer: &Offer) -> TokenCounts {
        let (input, output) = match self {
            Self::Tools | Self::ImagesIn | Self::Json => (QUESTION_TOKENS, u64::from(CALL_TOKENS)),
            Self::Reasoning => (QUESTION_TOKENS, u64::from(PATIENT_TOKENS)),
            Self::Embeddings => (QUESTION_TOKENS, 0),
            Self::Context => (u64::from(prompt_tokens(offer)) + QUESTION_TOKENS, u64::from(CALL_TOKENS)),
        };
        TokenCounts { input, output, ..TokenCounts::default() }
    }

    /// The most output tokens that it asks for.
    #[must_use]
    pub fn cap(self) -> u32 {
        match self {
            Self::Reasoning => PATIENT_TOKENS,
            Self::Tools | Self::ImagesIn | Self::Json | Self::Embeddings | Self::Context => CALL_TOKENS,
        }
    }
}

/// What one plain call takes at most, with that cap.
#[must_use]
pub fn worst_of_call(cap: u32) -> TokenCounts {
    TokenCounts { input: QUESTION_TOKENS, output: u64::from(cap), ..TokenCounts::default() }
}

/// How many questions the plain ones are at most.
pub const MOST_CALLS: u32 = 5;

/// What the plain questions take at most: a streamed and a whole one, and beside them one for a name that is not listed, one where the first
/// was silent or went past its limit, and one where the whole one was refused.
#[must_use]
pub fn worst_of_calls() -> TokenCounts {
    let output = u64::from(CALL_TOKENS) * 4 + u64::from(PATIENT_TOKENS);
    TokenCounts { input: u64::from(MOST_CALLS) * QUESTION_TOKENS, output, ..TokenCounts::default() }
}

/// Tokens of the long prompt for an offer: three quarters of its window, and never more than a few thousand.
fn prompt_tokens(offer: &Offer) -> u32 {
    offer.context_window.map_or(LONGEST_PROMPT, |window| window.get().min(LONGEST_PROMPT)) / 4 * 3
}

/// A plain question.
#[must_use]
pub fn plain(model: &str, is_streamed: bool, cap: u32) -> Conversation {
    asking(model, super::answer::QUESTION.to_owned(), is_streamed, cap)
}

/// The same with a turn of the developer in front, as apps that use that role send it.
#[must_use]
pub fn as_developer(mut conversation: Conversation) -> Conversation {
    let text = "You count aloud, and say nothing else.".to_owned();
    conversation.turns.insert(0, Turn::of_text(Role::Developer, text, "messages[0]"));
    conversation
}

fn asking(model: &str, text: String, is_streamed: bool, cap: u32) -> Conversation {
    let mut conversation = Conversation::of(Dialect::ChatCompletions, model);
    conversation.delivery = if is_streamed { Delivery::Streamed(UsageFrame::Asked) } else { Delivery::Whole };
    conversation.turns = vec![Turn::of_text(Role::User, text, "messages[0]")];
    conversation.output_limit = Some(u64::from(cap));
    conversation
}

/// The name of the property that a schema asks for.
fn property(number: u32) -> String {
    format!("berth_{number}")
}

fn tide_gauge(parameters: Option<RawJson>) -> Tool {
    Tool {
        name: "read_tide_gauge".to_owned(),
        description: Some("Reads a tide gauge".to_owned()),
        kind: ToolKind::Function { parameters, typed: None },
        is_strict: None,
        path: "tools[0]".to_owned(),
        native: Vec::new(),
    }
}

fn drawn(number: u32) -> Part {
    let base64 = BASE64.encode(picture::draw(number));
    let source = MediaSource::Bytes { kind: "image/png".to_owned(), base64 };
    Part::of(PartKind::Image(Media { source, name: None }), "messages[0].content[1]")
}

/// The question of a proof, with the number that was drawn for it.
#[must_use]
pub fn question(proof: Proof, number: u32, model: &str, offer: &Offer) -> Conversation {
    let cap = offer.output_cap.map_or(proof.cap(), |cap| cap.get().min(proof.cap()));
    let ask = |text: String| asking(model, text, false, cap);
    match proof {
        Proof::Tools => {
            let mut conversation =
                ask(format!("Read the tide gauge with the number {number}. Use the function for it."));
            let parameters = r#"{"type":"object","properties":{"gauge":{"type":"integer","description":"The gauge's number"}},"required":["gauge"]}"#;
            conversation.tools = vec![tide_gauge(RawJson::parse(parameters))];
            conversation
        }
        Proof::ImagesIn => {
            let mut conversation = ask("Which number stands in the picture? Answer with its digits alone.".to_owned());
            conversation.turns.iter_mut().for_each(|turn| turn.parts.push(drawn(number)));
            conversation
        }
        Proof::Json => {
            let name = property(number);
            let mut conversation = ask("Which ferry lies at the berth? Make one up.".to_owned());
            let text = format!(
                r#"{{"type":"object","properties":{{"{name}":{{"type":"string"}}}},"required":["{name}"],"additionalProperties":false}}"#
            );
            conversation.format = RawJson::parse(&text).map(|schema| {
                AnswerFormat::Schema(Schema {
                    schema,
                    typed: None,
                    name: Some("berth".to_owned()),
                    description: None,
                    is_strict: Some(true),
                })
            });
            conversation
        }
        Proof::Reasoning => {
            let mut conversation = ask(format!(
                "A ferry carries {number} passengers in 37 crossings. How many a crossing, rounded down? Think first."
            ));
            conversation.thinking.amount = ThinkingAmount::Effort(Effort::Low);
            conversation
        }
        Proof::Context | Proof::Embeddings => {
            let filler = "tide ".repeat(usize::try_from(prompt_tokens(offer)).unwrap_or(0));
            ask(format!("Remember the number {number}. {filler} Which number was it? Answer with its digits alone."))
        }
    }
}

/// The question by which vectors are proven: two texts, the first of them twice.
#[must_use]
pub fn embedding(number: u32, dialect: Dialect) -> Option<EmbeddingRequest> {
    let form = form_of(dialect)?;
    let texts = [format!("Ferry {number} leaves at noon."), "The harbour café is closed.".to_owned()];
    let inputs = Inputs::Texts(vec![texts[0].clone(), texts[1].clone(), texts[0].clone()]);
    Some(EmbeddingRequest { form, inputs, encoding: Encoding::Numbers, dimensions: None, left_out: Vec::new() })
}

/// What came of a proof.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "outcome", rename_all = "kebab-case")]
pub enum Outcome {
    /// The offer can.
    Proven,
    /// It cannot, or does not do it; what came instead.
    Absent {
        /// In words.
        why: String,
    },
}

fn absent(why: impl Into<String>) -> Outcome {
    Outcome::Absent { why: why.into() }
}

/// Judges the answer to a proof's question.
#[must_use]
pub fn judge(proof: Proof, number: u32, seen: &AnswerSeen, offer: &Offer) -> Outcome {
    if let Some(fault) = &seen.fault {
        return absent(format!("the answer cannot be read: {}", fault.detail));
    }
    let digits = number.to_string();
    let text = seen.text();
    match proof {
        Proof::Tools => {
            let mut calls =
                seen.answer.choices.iter().flat_map(|choice| &choice.blocks).filter_map(|block| match block {
                    Block::Call { arguments, .. } => Some(arguments),
                    Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => None,
                });
            match calls.next() {
                None => absent("the function was not called"),
                Some(arguments) if arguments.contains(&digits) => Outcome::Proven,
                Some(_) => absent("the function was called with something else than was asked for"),
            }
        }
        Proof::ImagesIn if text.replace([' ', ','], "").contains(&digits) => Outcome::Proven,
        Proof::ImagesIn => absent("the number in the picture is not in the answer"),
        Proof::Json => {
            let value: Option<serde_json::Value> = serde_json::from_str(text.trim()).ok();
            match value.as_ref().map(|value| value.get(property(number)).is_some()) {
                Some(true) => Outcome::Proven,
                Some(false) => absent("the answer is JSON, but not what the schema asks for"),
                None => absent("the answer is not JSON"),
            }
        }
        Proof::Reasoning => {
            let thought = seen.answer.choices.iter().any(|choice| !choice.thinking_of().is_empty());
            let counted = seen.answer.usage.and_then(|usage| usage.reasoning).unwrap_or(0);
            if thought || counted > 0 { Outcome::Proven } else { absent("there was no thinking, and none was counted") }
        }
        Proof::Context => match seen.answer.usage.and_then(|usage| usage.input) {
            // A tenth for models whose tokens are larger than a word.
            Some(read) if read < u64::from(prompt_tokens(offer)) * 9 / 10 => {
                absent(format!("of a prompt of about {} tokens it read {read}", prompt_tokens(offer)))
            }
            Some(_) => Outcome::Proven,
            None if text.replace([' ', ','], "").contains(&digits) => Outcome::Proven,
            None => absent("what stood at the beginning of a long prompt was not read"),
        },
        Proof::Embeddings => absent("vectors were asked for, and an answer came"),
    }
}

/// Judges vectors: equal texts have the same, others another.
#[must_use]
pub fn judge_vectors(found: &Vectors) -> Outcome {
    let [one, other, again] = found.vectors.as_slice() else {
        return absent(format!("of three texts {} became vectors", found.vectors.len()));
    };
    let values = |vector: &[wendor_wire::json::Number]| {
        vector.iter().map(wendor_wire::json::Number::as_f64).collect::<Vec<f64>>()
    };
    let (one, other, again) = (values(one), values(other), values(again));
    let distance = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| (a - b).powi(2)).sum::<f64>();
    if one.is_empty() || one.len() != other.len() || one.len() != again.len() {
        return absent("vectors are empty or of several lengths");
    }
    if distance(&one, &again) < distance(&one, &other) {
        Outcome::Proven
    } else {
        absent("an equal text is no nearer than another one")
    }
}

/// What an absent ability means for an offer that is said to have it.
#[must_use]
pub fn finding(proof: Proof, why: &str, model: &str, offer: &Offer, read: Option<u64>) -> Finding {
    let kind = match proof {
        Proof::Tools => FindingKind::ToolsIgnored,
        Proof::ImagesIn => FindingKind::ImagesIgnored,
        Proof::Json => FindingKind::SchemaIgnored,
        Proof::Reasoning => FindingKind::ReasoningAbsent,
        Proof::Embeddings => FindingKind::EmbeddingsWrong,
        Proof::Context => FindingKind::ContextCut,
    };
    let Some(ability) = proof.ability() else {
        let says =
            format!("{model} cuts long prompts silently: {why}. Apps get answers to something else than they asked.");
        let window = read.and_then(|read| u32::try_from(read).ok()).filter(|read| *read > 0);
        let change = |to| {
            Remedy::change(
                format!("Set the context window to {to}"),
                Change::ContextWindow { model: model.to_owned(), to },
            )
        };
        let owner = format!("Please load {model} with a longer context window; prompts are cut at the moment.");
        let remedies = window.map(change).into_iter().chain([Remedy::owner(owner)]).collect();
        return Finding::noted(kind, says, remedies);
    };
    let says = format!("The offer is declared to have `{}`, and does not: {why}.", ability.as_str());
    let all = [Ability::Chat, Ability::Streaming, Ability::Whole, Ability::Tools, Ability::ImagesIn, Ability::Json];
    let known: Vec<Ability> = offer.abilities.clone().unwrap_or_else(|| all.to_vec());
    let to = known.into_iter().filter(|known| *known != ability).collect();
    let change = Change::Abilities { model: model.to_owned(), to };
    let remedy = Remedy::change(format!("Take `{}` out of the offer's abilities", ability.as_str()), change);
    Finding::noted(kind, says, vec![remedy])
}

/// A proof as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// When it was made.
    pub at: DateTime<Utc>,
    /// What came of it.
    pub outcome: Outcome,
    /// The digest of the weights then, if it was told.
    pub digest: Option<String>,
}

worded! {
    /// What is known of an ability.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum Standing {
        /// Proven, and the proof holds.
        Proven = "proven",
        /// Tried, and not there.
        Absent = "absent",
        /// Not checked, or it is too long ago, or the weights are others.
        Unproven = "unproven",
    }
}

impl Standing {
    /// What a kept proof is worth at `now`, for the weights of `digest`.
    #[must_use]
    pub fn of(kept: Option<&Kept>, digest: Option<&str>, now: DateTime<Utc>) -> Self {
        let Some(kept) = kept.filter(|kept| now - kept.at < HOLDS) else { return Self::Unproven };
        if let (Some(then), Some(today)) = (&kept.digest, digest)
            && !is_same_digest(then, today)
        {
            return Self::Unproven;
        }
        match kept.outcome {
            Outcome::Proven => Self::Proven,
            Outcome::Absent { .. } => Self::Absent,
        }
    }
}

#[cfg(test)]
mod tests;
