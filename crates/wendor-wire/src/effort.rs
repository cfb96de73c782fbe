//! How much is to be thought, as a word.

use crate::conversation::{Effort, ThinkingAmount};
use crate::json::{Node, Wrong};

/// A word of the effort to think.
pub(crate) fn read(node: &Node<'_>) -> Result<ThinkingAmount, Wrong> {
    let word = node.text()?;
    if word == "none" {
        return Ok(ThinkingAmount::Off);
    }
    let effort = Effort::parse(&word).ok_or_else(|| node.wrong("none, minimal, low, medium, high, xhigh or max"))?;
    Ok(ThinkingAmount::Effort(effort))
}

/// The word of an amount of thinking, for this dialect and responses.
pub(crate) fn word(amount: ThinkingAmount) -> Option<&'static str> {
    match amount {
        ThinkingAmount::Unsaid | ThinkingAmount::Dynamic => None,
        ThinkingAmount::Off => Some("none"),
        ThinkingAmount::Effort(effort) => Some(effort.word()),
        ThinkingAmount::Budget(budget) => Some(Effort::of_budget(budget).word()),
    }
}
