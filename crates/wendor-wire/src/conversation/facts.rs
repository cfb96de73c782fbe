//! What is known of an answer while it comes, and of what it used. Events enter one after the other.

use crate::cited::LeftOut;
use crate::conversation::event::{Event, Usage};
use crate::dialect::Dialect;
use crate::images::Images;
use crate::usage::TokenCounts;

/// What is known of an answer so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Facts {
    /// Usage as it was reported last.
    pub usage: Option<Usage>,
    /// The same where a reader tells counts only.
    pub counts: Option<TokenCounts>,
    /// Bytes of text, thinking and calls; never of images, sound or files.
    pub output_bytes: u64,
    /// Whether a choice stopped at a limit of tokens.
    pub is_at_cap: bool,
    /// Images in the answer.
    pub images: Images,
    /// What the app's dialect has no words for.
    pub left_out: LeftOut,
    /// Whether the model was at its end, so that what was reported then is all of it.
    pub is_finished: bool,
}

impl Facts {
    /// Takes what an event says that is written for an app of `dialect`.
    pub fn take_for(&mut self, dialect: Dialect, event: &Event) {
        match event {
            Event::Image { .. } => self.left_out.images = self.left_out.images.saturating_add(1),
            Event::Citation { citation, .. } if citation.written(dialect, &(0..0)).is_none() => {
                self.left_out.citations = self.left_out.citations.saturating_add(1);
            }
            Event::Citation { .. }
            | Event::Text { .. }
            | Event::Refusal { .. }
            | Event::Thinking { .. }
            | Event::Sealed { .. }
            | Event::NextBlock { .. }
            | Event::Call { .. }
            | Event::Arguments { .. }
            | Event::CallEnd { .. }
            | Event::Logprobs { .. }
            | Event::Finish { .. }
            | Event::Usage(_) => {}
        }
        self.take(event);
    }

    /// Takes what an event says.
    pub fn take(&mut self, event: &Event) {
        let bytes = match event {
            Event::Text { text, .. } | Event::Refusal { text, .. } | Event::Thinking { text, .. } => text.len(),
            Event::Call { name, .. } => name.len(),
            Event::Arguments { fragment, .. } => fragment.len(),
            Event::Finish { stop, .. } => {
                self.is_at_cap |= stop.is_at_cap();
                0
            }
            Event::Image { .. } => {
                self.images.count = self.images.count.saturating_add(1);
                0
            }
            Event::Usage(usage) => {
                let all = self.usage.unwrap_or_default().with(*usage);
                self.usage = Some(all);
                self.counts = all.counts();
                0
            }
            Event::NextBlock { .. }
            | Event::Sealed { .. }
            | Event::CallEnd { .. }
            | Event::Citation { .. }
            | Event::Logprobs { .. } => 0,
        };
        self.output_bytes = self.output_bytes.saturating_add(u64::try_from(bytes).unwrap_or(u64::MAX));
    }
}
