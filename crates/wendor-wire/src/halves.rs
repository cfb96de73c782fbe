//! Letters beyond U+FFFF that a server cuts in two: JSON writes such a letter as two escapes, and a server that streams token by token may
//! send each in a frame of its own. Half a letter is none to any client.

use std::borrow::Cow;

use bytes::Bytes;

use crate::json::texts::texts;

/// Half a letter that waits for its other half.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Halves {
    first: Option<u32>,
}

/// A byte in six: an escape of four digits.
const ESCAPE: usize = 6;

impl Halves {
    /// The data of a frame with whole letters: a first half at the end of a text is kept for the next text that begins with a second one;
    /// any other half is the letter that stands for what cannot be read. `None` where nothing changes, as nearly always.
    pub fn mend(&mut self, data: &[u8]) -> Option<String> {
        // Most frames hold no escape at all.
        memchr::memchr(b'\\', data)?;
        if !may_hold_half(data) {
            return None;
        }
        let data = std::str::from_utf8(data).ok()?;
        let (mut out, mut from) = (String::with_capacity(data.len()), 0);
        for found in texts(data) {
            let written = data.get(found.place.clone())?;
            if let Cow::Owned(whole) = self.whole(written) {
                out.push_str(data.get(from..found.place.start)?);
                out.push_str(&whole);
                from = found.place.end;
            }
        }
        if from == 0 {
            return None;
        }
        out.push_str(data.get(from..)?);
        Some(out)
    }

    /// A text as it is written between its quotes, with whole letters.
    fn whole<'t>(&mut self, written: &'t str) -> Cow<'t, str> {
        let (mut out, mut from, mut at) = (String::new(), 0, 0);
        while let Some(found) = memchr::memchr(b'\\', written.as_bytes().get(at..).unwrap_or_default()) {
            at += found;
            let Some(unit) = half_at(written, at) else {
                at += 2;
                continue;
            };
            let next = half_at(written, at + ESCAPE).filter(|next| is_second(*next));
            if !is_second(unit) && next.is_some() {
                at += 2 * ESCAPE;
                continue;
            }
            let before = self.first.take_if(|_| at == 0 && is_second(unit));
            let is_kept = !is_second(unit) && at + ESCAPE == written.len();
            out.push_str(written.get(from..at).unwrap_or_default());
            match before {
                Some(first) => out.extend(char::from_u32(0x1_0000 + ((first & 0x3ff) << 10) + (unit & 0x3ff))),
                None if is_kept => self.first = Some(unit),
                None => out.push(char::REPLACEMENT_CHARACTER),
            }
            at += ESCAPE;
            from = at;
        }
        if from == 0 {
            return Cow::Borrowed(written);
        }
        out.push_str(written.get(from..).unwrap_or_default());
        Cow::Owned(out)
    }
}

/// A reply that came in one piece, with whole letters, as [`Halves::mend`] makes them.
#[must_use]
pub fn with_whole_letters(body: Bytes) -> Bytes {
    Halves::default().mend(&body).map_or(body, Bytes::from)
}

/// Where in `body` the first text begins that holds half of a letter without its other half.
#[must_use]
pub fn lone_half(body: &str) -> Option<usize> {
    if !may_hold_half(body.as_bytes()) {
        return None;
    }
    let has_lone = |written: &str| matches!(Halves::default().whole(written), Cow::Owned(_));
    texts(body)
        .map(|found| found.place)
        .find(|place| body.get(place.clone()).is_some_and(has_lone))
        .map(|place| place.start)
}

/// Whether the escape of half a letter stands in it anywhere. Most bodies hold none at all.
fn may_hold_half(data: &[u8]) -> bool {
    memchr::memmem::find_iter(data, b"\\u").any(|at| matches!(data.get(at + 2), Some(b'd' | b'D')))
}

/// The half of a letter whose escape stands at that place.
fn half_at(written: &str, at: usize) -> Option<u32> {
    let digits = written.get(at..at + ESCAPE)?.strip_prefix("\\u")?;
    u32::from_str_radix(digits, 16).ok().filter(|unit| (0xd800..=0xdfff).contains(unit))
}

fn is_second(unit: u32) -> bool {
    unit >= 0xdc00
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::over_two_frames(&[r#"{"text":"tide \ud83c"}"#, r#"{"id":"a","text":"\udf0a at 4"}"#], &[r#"{"text":"tide "}"#, r#"{"id":"a","text":"🌊 at 4"}"#])]
    #[case::in_one(&[r#"{"text":"\ud83c\udf0a"}"#], &[""])]
    #[case::two_cut(&[r#"{"text":"\uD83C\udf0a\ud83c"}"#, r#"{"text":"\udf0a\ud83c"}"#, r#"{"text":"\udf0a"}"#], &[r#"{"text":"\uD83C\udf0a"}"#, r#"{"text":"🌊"}"#, r#"{"text":"🌊"}"#])]
    #[case::first_in_the_middle(&[r#"{"text":"\ud83c at"}"#], &[r#"{"text":"� at"}"#])]
    #[case::second_alone(&[r#"{"text":"\udf0a"}"#], &[r#"{"text":"�"}"#])]
    #[case::an_escaped_backslash(&[r#"{"text":"\\ud83c"}"#], &[""])]
    #[case::none(&[r#"{"text":"tide","n":1}"#], &[""])]
    fn halves_find_each_other(#[case] frames: &[&str], #[case] expected: &[&str]) {
        let mut halves = Halves::default();
        let mended: Vec<String> =
            frames.iter().map(|frame| halves.mend(frame.as_bytes()).unwrap_or_default()).collect();
        assert_eq!(mended, expected);
    }
}
