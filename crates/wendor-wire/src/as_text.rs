//! What a dialect has no member for, said in the text of a turn.

use crate::conversation::turn::text_of;
use crate::conversation::{Conversation, Part, PartKind, ToolResult};
use crate::verdict::Target;

/// What a result begins with where there is no other way to say that the tool failed.
pub(crate) const FAILED: &str = "Error:";

/// What a tool gave as text, marked where it failed.
pub(crate) fn result_text(result: &ToolResult) -> String {
    let text = text_of(&result.parts);
    if result.is_error { format!("{FAILED} {text}") } else { text }
}

/// Puts a speaker's name before the first text.
pub(crate) fn name_first(parts: &mut [Part], name: &str) {
    let first = parts.iter_mut().find_map(|part| match &mut part.kind {
        PartKind::Text(text) => Some(text),
        PartKind::Refusal(_)
        | PartKind::Image(_)
        | PartKind::Audio(_)
        | PartKind::File(_)
        | PartKind::Video(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Thinking(_)
        | PartKind::Foreign(_) => None,
    });
    if let Some(text) = first {
        text.insert_str(0, &format!("{name}: "));
    }
}

/// System text in the middle of a conversation, where there is no turn for it.
pub(crate) fn system_note(text: &str) -> Part {
    Part::of(PartKind::Text(format!("[System note: {text}]")), "")
}

/// Whether anything of a part goes to the target: an empty text does not, nor thinking that somebody else sealed.
pub(crate) fn says_something(part: &Part, conversation: &Conversation, target: &Target<'_>) -> bool {
    match &part.kind {
        PartKind::Text(text) | PartKind::Refusal(text) => !text.is_empty(),
        PartKind::Thinking(thinking) => {
            thinking.seal.as_ref().is_some_and(|seal| target.own_seal(conversation, seal).is_some())
        }
        PartKind::Image(_)
        | PartKind::Audio(_)
        | PartKind::File(_)
        | PartKind::Video(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Foreign(_) => true,
    }
}
