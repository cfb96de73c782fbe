//! Percent-encoding of one part of a path or query (RFC 3986, section 2).

use std::borrow::Cow;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};

/// All but the unreserved characters.
const RESERVED: AsciiSet = NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// `text` as one part: nothing in it ends the part.
#[must_use]
pub fn escaped(text: &str) -> String {
    utf8_percent_encode(text, &RESERVED).to_string()
}

/// A part with `%XX` undone; what is no such escape stays.
#[must_use]
pub fn unescaped(text: &str) -> Cow<'_, str> {
    percent_decode_str(text).decode_utf8_lossy()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::unreserved("tide-7_b.c~", "tide-7_b.c~")]
    #[case::what_ends_a_part("a/b?c#d&e=f", "a%2Fb%3Fc%23d%26e%3Df")]
    #[case::a_space_and_a_plus("a b+c", "a%20b%2Bc")]
    #[case::beyond_ascii("Hafen\u{e4}", "Hafen%C3%A4")]
    fn a_part_comes_back_as_it_was(#[case] text: &str, #[case] part: &str) {
        assert_eq!(escaped(text), part);
        assert_eq!(unescaped(part), text);
    }

    #[rstest]
    #[case::plain("a b", "a b")]
    #[case::escaped("a%2Fb%C3%A9", "a/bé")]
    #[case::no_escape("100%, %zz", "100%, %zz")]
    #[case::half("%2", "%2")]
    fn escapes_are_undone(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(unescaped(text), expected);
    }
}
