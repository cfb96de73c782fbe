//! Texts of others as a terminal or a page may show them: names of models, labels, answers. What would move a cursor, change colours or turn
//! the order of reading is written out.

use std::borrow::Cow;

/// Whether a letter does something instead of standing there: control characters but for the end of a line and the tabulator, and those
/// that turn the order of reading (UAX 9).
#[must_use]
pub fn is_hidden(letter: char) -> bool {
    let is_turning =
        matches!(letter, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    is_turning || (letter.is_control() && letter != '\n' && letter != '\t')
}

/// The same text with such letters written out, as `\u{1b}`.
#[must_use]
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for letter in text.chars() {
        if is_hidden(letter) { out.extend(letter.escape_unicode()) } else { out.push(letter) }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("Berth 2,\n\tPort Arrel. 🌊 é", "Berth 2,\n\tPort Arrel. 🌊 é")]
    #[case::colour("\u{1b}[31mred", "\\u{1b}[31mred")]
    #[case::back_to_the_start("well\rfailing", "well\\u{d}failing")]
    #[case::turned("abc\u{202e}fed", "abc\\u{202e}fed")]
    #[case::one_byte("\u{9b}2J", "\\u{9b}2J")]
    #[case::deleted("a\u{7f}", "a\\u{7f}")]
    fn what_does_something_is_written_out(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(shown(text), expected);
    }
}
