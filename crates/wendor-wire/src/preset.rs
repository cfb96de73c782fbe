//! What a route adds to the requests that ask it: standing instructions, example turns, parameters.
//!
//! A body of an app and an [`Addition`] enter, the body that the app would have written had it said all that itself leaves ([`crate::addition::add`]): in the
//! app's own dialect, spliced, so that every other byte stays as it was. What its dialect has no member for goes along beside the body
//! ([`Unsaid`]), for offers of dialects that have one.

use bytes::Bytes;
use serde::{Deserialize, Serialize};

use crate::conversation::Conversation;
use crate::json::Number;
use crate::worded;

worded! {
    /// A part of what a route adds, under its name in the catalogue's file.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum PresetPart {
        /// Standing instructions.
        Instructions = "instructions",
        /// Example turns.
        Examples = "examples",
        /// How freely tokens are drawn.
        Temperature = "temperature",
        /// Of which share of the likely tokens.
        TopP = "top_p",
        /// For answers that can be repeated.
        Seed = "seed",
        /// How much what was said is avoided.
        PresencePenalty = "presence_penalty",
        /// How much what was said often is avoided.
        FrequencyPenalty = "frequency_penalty",
        /// The most output tokens.
        OutputLimit = "output_limit",
        /// Texts at which the answer ends.
        Stop = "stop",
    }
}

/// A question with the answer that shows how to answer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExampleTurn {
    /// What somebody asks.
    pub user: String,
    /// What the model is to answer.
    pub assistant: String,
}

/// What is added to a request, with its variables filled in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Addition {
    /// Standing instructions.
    pub instructions: Option<String>,
    /// Example turns, in order.
    pub examples: Vec<ExampleTurn>,
    /// Numbers that a request may set too.
    pub numbers: Vec<(PresetPart, Number)>,
    /// The most output tokens of one choice.
    pub output_limit: Option<u64>,
    /// Texts at which the answer ends.
    pub stop: Vec<String>,
    /// What a request cannot change.
    pub fixed: Vec<PresetPart>,
}

impl Addition {
    /// Whether a request cannot change that part.
    #[must_use]
    pub fn is_fixed(&self, part: PresetPart) -> bool {
        self.fixed.contains(&part)
    }
}

worded! {
    /// What became of a part.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum PresetFate {
        /// It was added.
        Added = "added",
        /// The request says its own, which stands.
        OwnKept = "own-kept",
        /// The request said its own, which the route's takes the place of.
        OwnReplaced = "own-replaced",
        /// The app's dialect has no member for it: offers of another dialect get it.
        Unsaid = "unsaid",
        /// It has no place in such a request.
        LeftOut = "left-out",
    }
}

/// A part with what became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PresetLine {
    /// The part.
    pub part: PresetPart,
    /// What became of it.
    pub fate: PresetFate,
}

/// What the app's dialect has no member for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Unsaid {
    pub(crate) numbers: Vec<(PresetPart, Number)>,
    pub(crate) stop: Vec<String>,
}

impl Unsaid {
    /// Says it in the neutral conversation.
    pub fn say(&self, conversation: &mut Conversation) {
        let sampling = &mut conversation.sampling;
        for (part, number) in &self.numbers {
            let place = match part {
                PresetPart::Temperature => &mut sampling.temperature,
                PresetPart::TopP => &mut sampling.top_p,
                PresetPart::Seed => &mut sampling.seed,
                PresetPart::PresencePenalty => &mut sampling.presence_penalty,
                PresetPart::FrequencyPenalty => &mut sampling.frequency_penalty,
                PresetPart::Instructions | PresetPart::Examples | PresetPart::OutputLimit | PresetPart::Stop => {
                    continue;
                }
            };
            *place = Some(number.clone());
        }
        if !self.stop.is_empty() {
            sampling.stop.clone_from(&self.stop);
        }
    }
}

/// A request with what its route adds.
#[derive(Clone, Debug)]
pub struct Added {
    /// The body that goes on.
    pub body: Bytes,
    /// What became of each part.
    pub lines: Vec<PresetLine>,
    /// What the body cannot say.
    pub unsaid: Unsaid,
}

/// Where a dialect's body has its parts.
#[derive(Clone, Copy, Debug)]
pub struct PresetPlaces {
    /// The list of turns.
    pub turns: &'static str,
    /// The member with the instructions; nothing where they are the first turn.
    pub instructions: Option<&'static str>,
    /// Each parameter with all its names, the usual one first. `object.name` stands one level down.
    pub parameters: &'static [(PresetPart, &'static [&'static str])],
}

impl PresetPlaces {
    pub(crate) fn names_of(&self, part: PresetPart) -> &'static [&'static str] {
        self.parameters.iter().find(|(known, _)| *known == part).map_or(&[], |(_, names)| names)
    }
}
