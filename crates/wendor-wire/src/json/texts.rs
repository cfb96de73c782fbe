//! The texts of a JSON body, one after the other, with their places: for what must be found wherever it stands, and however its letters
//! were written.

use std::borrow::Cow;
use std::ops::Range;

use crate::steps::spent;

/// A text of a body: the place between its quotes, and what is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextAt<'a> {
    /// Between the quotes.
    pub place: Range<usize>,
    written: &'a str,
}

impl<'a> TextAt<'a> {
    /// Its place with the quotes.
    #[must_use]
    pub fn quoted(&self) -> Range<usize> {
        self.place.start - 1..self.place.end + 1
    }

    /// What it says, its escapes resolved. `None` where one of them is no letter.
    #[must_use]
    pub fn text(&self) -> Option<Cow<'a, str>> {
        if !self.written.contains('\\') {
            return Some(Cow::Borrowed(self.written));
        }
        serde_json::from_str::<String>(&format!("\"{}\"", self.written)).ok().map(Cow::Owned)
    }
}

/// Every text in `body`, names of members included, in order. What is not JSON gives texts without meaning.
pub fn texts(body: &str) -> impl Iterator<Item = TextAt<'_>> {
    let mut from = 0;
    std::iter::from_fn(move || {
        let bytes = body.as_bytes();
        let start = from + memchr::memchr(b'"', bytes.get(from..)?)? + 1;
        let mut end = start;
        loop {
            end += memchr::memchr2(b'"', b'\\', bytes.get(end..)?)?;
            if bytes.get(end) == Some(&b'"') {
                break;
            }
            end += 2;
        }
        spent(end + 1 - from);
        from = end + 1;
        Some(TextAt { place: start..end, written: body.get(start..end)? })
    })
}

/// Whether a letter, a digit or a low line is written in `body` as an escape: then a name in it may be another than its bytes say.
#[must_use]
pub fn has_escaped_letters(body: &[u8]) -> bool {
    memchr::memmem::find_iter(body, b"\\u00").any(|at| {
        let digits = body.get(at + 4..at + 6).and_then(|digits| std::str::from_utf8(digits).ok());
        let code = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
        code.is_some_and(|code| code.is_ascii_alphanumeric() || code == b'_')
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn texts_are_found_with_their_places() {
        let body = r#"{"a\u0062":["x\"y",1,""],"é":"z\\"}"#;
        let texts_read: Vec<(String, &str)> =
            texts(body).map(|text| (text.text().unwrap().into_owned(), &body[text.place])).collect();
        let pairs: Vec<(&str, &str)> = texts_read.iter().map(|(text, raw)| (text.as_str(), *raw)).collect();
        assert_eq!(pairs, [("ab", r"a\u0062"), ("x\"y", r#"x\"y"#), ("", ""), ("é", "é"), ("z\\", r"z\\")]);
    }

    #[rstest]
    #[case::cut(r#"{"a":"b"#, 1)]
    #[case::cut_in_an_escape(r#"{"a":"b\"#, 1)]
    #[case::no_letter(r#"["\ud800"]"#, 1)]
    #[case::none("{}", 0)]
    fn what_is_not_whole_ends(#[case] body: &str, #[case] count: usize) {
        assert_eq!(texts(body).count(), count);
    }

    #[rstest]
    #[case::letter(r#"{"stor\u0065":1}"#, true)]
    #[case::in_a_value(r#"{"a":"\u005f"}"#, true)]
    #[case::capital_digits(r#"{"\u004A":1}"#, true)]
    #[case::quote_and_bracket(r#"{"a":"\u0022\u003c\u000a"}"#, false)]
    #[case::accent(r#"{"a":"\u00e9"}"#, false)]
    #[case::plain(r#"{"store":true}"#, false)]
    fn letters_written_as_escapes(#[case] body: &str, #[case] has: bool) {
        assert_eq!(has_escaped_letters(body.as_bytes()), has);
    }
}
