//! A whole answer: the fold of its events.

use std::collections::BTreeMap;

use crate::cited::Citation;
use crate::conversation::event::{Event, Stop, TokenLogprob, Usage};
use crate::conversation::turn::CallKind;
use crate::gaps::GAP;
use crate::seal::Seal;

/// A whole answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Answer {
    /// Its choices, in order; one where the dialect has no several.
    pub choices: Vec<Choice>,
    /// What it used, as the upstream reports it.
    pub usage: Option<Usage>,
}

/// One choice of an answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Choice {
    /// What it is made of, in the order in which each block began.
    pub blocks: Vec<Block>,
    /// Log probabilities, if they were asked for.
    pub logprobs: Vec<TokenLogprob>,
    /// Why it ended, once it has.
    pub stop: Option<Stop>,
    /// Where the block of each call is.
    pub(crate) calls: BTreeMap<u32, usize>,
    /// Whether its upstream tells blocks of one kind apart.
    pub has_blocks: bool,
    /// Whether what comes next begins another block.
    pub begins_next: bool,
}

/// A block of an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Block {
    /// Text, with where it comes from.
    Text {
        /// All of it.
        text: String,
        /// Its sources.
        citations: Vec<Citation>,
    },
    /// Why the model will not answer.
    Refusal(String),
    /// Thinking, with its seal.
    Thinking {
        /// All of it.
        text: String,
        /// Kept for the next turn, where the dialect wants it back.
        seal: Option<Seal>,
    },
    /// The model wants a tool to be run.
    Call {
        /// Which of the choice, counted from 0.
        call: u32,
        /// What its result will be linked by.
        id: Option<String>,
        /// The function.
        name: String,
        /// JSON as text, just as the model wrote it.
        arguments: String,
        /// A function or a custom tool.
        kind: CallKind,
    },
}

impl Answer {
    /// The fold of `events`.
    #[must_use]
    pub fn of(events: impl IntoIterator<Item = Event>) -> Self {
        let mut answer = Self::default();
        for event in events {
            answer.take(event);
        }
        answer
    }

    /// Takes the next event.
    pub fn take(&mut self, event: Event) {
        match event {
            Event::Text { choice, text } => self.choice(choice).text(&text),
            Event::Refusal { choice, text } => self.choice(choice).refusal(text),
            Event::Thinking { choice, text } => self.choice(choice).thinking(text),
            Event::Sealed { choice, seal } => self.choice(choice).sealed(seal),
            Event::Call { choice, call, id, name, kind } => {
                let choice = self.choice(choice);
                choice.calls.insert(call, choice.blocks.len());
                choice.blocks.push(Block::Call { call, id, name, arguments: String::new(), kind });
            }
            Event::Arguments { choice, call, fragment } => self.choice(choice).arguments(call, &fragment),
            Event::NextBlock { choice } => {
                let choice = self.choice(choice);
                (choice.has_blocks, choice.begins_next) = (true, true);
            }
            Event::CallEnd { .. } | Event::Image { .. } => {}
            Event::Citation { choice, citation } => self.choice(choice).citation(citation),
            Event::Logprobs { choice, tokens } => self.choice(choice).logprobs.extend(tokens),
            Event::Finish { choice, stop } => self.choice(choice).stop = Some(stop),
            Event::Usage(usage) => self.usage = Some(self.usage.unwrap_or_default().with(usage)),
        }
    }

    fn choice(&mut self, index: u32) -> &mut Choice {
        // The decoders bound the number of choices.
        let index = usize::try_from(index).unwrap_or_default();
        if self.choices.len() <= index {
            self.choices.resize(index + 1, Choice::default());
        }
        &mut self.choices[index]
    }
}

impl Choice {
    fn text(&mut self, piece: &str) {
        if piece.is_empty() {
            return;
        }
        let begins_next = std::mem::take(&mut self.begins_next);
        match self.blocks.last_mut() {
            Some(Block::Text { text, .. }) if !begins_next => text.push_str(piece),
            _ => self.blocks.push(Block::Text { text: piece.to_owned(), citations: Vec::new() }),
        }
    }

    fn refusal(&mut self, piece: String) {
        match self.blocks.last_mut() {
            Some(Block::Refusal(text)) => text.push_str(&piece),
            _ => self.blocks.push(Block::Refusal(piece)),
        }
    }

    fn thinking(&mut self, piece: String) {
        let begins_next = std::mem::take(&mut self.begins_next);
        match self.blocks.last_mut() {
            Some(Block::Thinking { text, seal: None }) if !begins_next => text.push_str(&piece),
            _ => self.blocks.push(Block::Thinking { text: piece, seal: None }),
        }
    }

    fn sealed(&mut self, seal: Seal) {
        match self.blocks.last_mut() {
            Some(Block::Thinking { seal: open @ None, .. }) => *open = Some(seal),
            _ => self.blocks.push(Block::Thinking { text: String::new(), seal: Some(seal) }),
        }
    }

    fn arguments(&mut self, wanted: u32, fragment: &str) {
        let place = self.calls.get(&wanted).copied();
        if let Some(Block::Call { arguments, .. }) = place.and_then(|place| self.blocks.get_mut(place)) {
            arguments.push_str(fragment);
        }
    }

    fn citation(&mut self, citation: Citation) {
        if let Some(Block::Text { citations, .. }) = self.blocks.last_mut() {
            citations.push(citation);
        }
    }

    pub(crate) fn gap(&self) -> &'static str {
        if self.has_blocks { GAP } else { "" }
    }

    /// All of its text, with a blank line between blocks that its upstream tells apart.
    #[must_use]
    pub fn text_of(&self) -> String {
        let texts = self.blocks.iter().filter_map(|block| match block {
            Block::Text { text, .. } => Some(text.as_str()),
            Block::Refusal(_) | Block::Thinking { .. } | Block::Call { .. } => None,
        });
        texts.collect::<Vec<_>>().join(self.gap())
    }

    /// All of its thinking that can be read.
    #[must_use]
    pub fn thinking_of(&self) -> String {
        let texts = self.blocks.iter().filter_map(|block| match block {
            Block::Thinking { text, .. } => Some(text.as_str()).filter(|text| !text.is_empty()),
            Block::Refusal(_) | Block::Text { .. } | Block::Call { .. } => None,
        });
        texts.collect::<Vec<_>>().join(self.gap())
    }

    /// Why it refused, if it did.
    #[must_use]
    pub fn refusal_of(&self) -> Option<String> {
        let texts = self.blocks.iter().filter_map(|block| match block {
            Block::Refusal(text) => Some(text.as_str()),
            Block::Thinking { .. } | Block::Text { .. } | Block::Call { .. } => None,
        });
        let all: String = texts.collect();
        if all.is_empty() { None } else { Some(all) }
    }

    /// Whether it calls a function.
    #[must_use]
    pub fn has_calls(&self) -> bool {
        self.blocks.iter().any(|block| matches!(block, Block::Call { .. }))
    }
}
