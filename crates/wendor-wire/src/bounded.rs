//! Text that somebody else wrote, as records keep it: of bounded length and without control characters.
//!
//! A name or value of any length enters where it is noted; what leaves fits into an entry of the ledger, whatever an app or an
//! upstream sent. A control character is written out, since the database takes none of value 0 and terminals obey the others.

use std::borrow::Cow;

/// Longest name or value of a member, in bytes: enough to recognise it.
pub const VALUE_BYTES: usize = 256;

/// Longest sentence, in bytes: a reason, or what was seen of a failure.
pub const SENTENCE_BYTES: usize = 1_024;

/// Stands where something was cut off.
const CUT: &str = " (cut)";

/// `text` with its control characters written out, cut to `limit` bytes at most.
///
/// ```
/// use wendor_wire::bounded::bounded;
/// assert_eq!(bounded("x\u{0}y\n", 100), "x\\u{0}y\\n");
/// assert_eq!(bounded(&"ü".repeat(20), 16), "üüüüü (cut)");
/// ```
#[must_use]
pub fn bounded(text: &str, limit: usize) -> String {
    within_bounds(text, limit).into_owned()
}

/// The same, and what is within its bounds is not copied, as most is.
#[must_use]
pub fn within_bounds(text: &str, limit: usize) -> Cow<'_, str> {
    if text.len() <= limit && !text.contains(char::is_control) {
        return Cow::Borrowed(text);
    }
    let room = limit.saturating_sub(CUT.len());
    let mut kept = String::with_capacity(limit.min(text.len()));
    // Where the text has to end if it turns out to be too long.
    let mut end = 0;
    for letter in text.chars() {
        let before = kept.len();
        if letter.is_control() {
            kept.extend(letter.escape_default())
        } else {
            kept.push(letter)
        }
        if kept.len() <= room {
            end = kept.len();
        }
        if kept.len() > limit {
            kept.truncate(before.min(end));
            kept.push_str(CUT);
            return Cow::Owned(kept);
        }
    }
    Cow::Owned(kept)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn nothing_grows_past_its_bound_or_keeps_a_control_character(text in "\\PC{0,40}[\\x00-\\x1f]{0,9}\\PC{0,40}", limit in 8usize..60) {
            let kept = bounded(&text, limit);
            prop_assert!(kept.len() <= limit, "{} bytes", kept.len());
            prop_assert!(!kept.contains(char::is_control));
            if text.len() <= limit && !text.contains(char::is_control) {
                prop_assert_eq!(kept, text);
            }
        }
    }
}
