//! One pass over a JSON body before it is parsed: how deep it nests, and how many tokens its texts may be.
//!
//! Bytes enter, two numbers leave; nothing is allocated. The estimate counts four bytes a token, but a long text without a
//! single space is an encoded image, sound or file, whose bytes say nothing about its tokens.

use crate::estimate::tokens_of_bytes;

/// Texts from this length on that hold no space are taken for encoded media.
const MEDIA_BYTES: usize = 2_048;

/// What one medium counts as: in the middle of what models charge for an image.
const MEDIA_TOKENS: u64 = 1_000;

/// What the pass found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Scan {
    /// Deepest nesting of objects and lists.
    pub depth: u32,
    /// Estimated tokens of everything in the body, its names and punctuation included.
    pub tokens: u64,
}

/// Scans `body`. What is not JSON gives numbers without meaning; parsing tells.
#[must_use]
pub fn scan(body: &[u8]) -> Scan {
    let (mut depth, mut deepest) = (0u32, 0u32);
    let (mut bytes, mut media) = (0usize, 0u64);
    let mut at = 0;
    while let Some(byte) = body.get(at) {
        match byte {
            b'{' | b'[' => {
                depth += 1;
                deepest = deepest.max(depth);
            }
            b'}' | b']' => depth = depth.saturating_sub(1),
            b'"' => {
                let text = text_at(body, at + 1);
                if text.length >= MEDIA_BYTES && !text.has_space {
                    media += 1;
                } else {
                    bytes += text.length + 1;
                }
                at = text.end;
            }
            _ => {}
        }
        bytes += 1;
        at += 1;
    }
    let text_tokens = tokens_of_bytes(u64::try_from(bytes).unwrap_or(u64::MAX));
    Scan { depth: deepest, tokens: text_tokens.saturating_add(media.saturating_mul(MEDIA_TOKENS)) }
}

struct Text {
    /// Place of the closing quote.
    end: usize,
    length: usize,
    has_space: bool,
}

fn text_at(body: &[u8], start: usize) -> Text {
    let (mut at, mut has_space) = (start, false);
    while let Some(byte) = body.get(at) {
        match byte {
            b'"' => break,
            b'\\' => at += 1,
            b' ' => has_space = true,
            _ => {}
        }
        at += 1;
    }
    Text { end: at, length: at - start, has_space }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::flat(r#"{"a":1}"#, 1)]
    #[case::nested(r#"{"a":[{"b":[]}]}"#, 4)]
    #[case::brackets_in_a_text(r#"{"a":"[[[[\"[["}"#, 1)]
    #[case::cut(r#"{"a":"["#, 1)]
    fn depth_counts_open_brackets(#[case] body: &str, #[case] depth: u32) {
        assert_eq!(scan(body.as_bytes()).depth, depth);
    }

    #[test]
    fn an_encoded_image_does_not_count_by_its_bytes() {
        let prose = format!(r#"{{"content":"{}"}}"#, "Berth 2. ".repeat(1_000));
        assert_eq!(scan(prose.as_bytes()).tokens, tokens_of_bytes(prose.len() as u64));
        let image = format!(r#"{{"url":"data:image/png;base64,{}"}}"#, "iVBORw0KGgo".repeat(100_000));
        assert!((1_000..1_020).contains(&scan(image.as_bytes()).tokens));
    }
}
