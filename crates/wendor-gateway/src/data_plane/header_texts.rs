//! Values of headers that differ from request to request, written one after the other into one piece of memory that they share.

use std::fmt::Display;
use std::io::Write;

use bytes::Bytes;
use smallvec::SmallVec;

/// Room for the usual ones.
const USUAL_BYTES: usize = 128;

/// The texts, each as a part of the same memory.
///
/// # Panics
/// Never: memory takes what is written, and each text is a part of it.
pub(super) fn written<const N: usize>(texts: [&dyn Display; N]) -> [Bytes; N] {
    let mut all: SmallVec<[u8; USUAL_BYTES]> = SmallVec::new();
    let ends = texts.map(|text| {
        write!(all, "{text}").expect("memory takes what is written");
        all.len()
    });
    let mut rest = Bytes::from_owner(all);
    let mut from = 0;
    ends.map(|end| {
        let text = rest.split_to(end - from);
        from = end;
        text
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::few("a", 1)]
    #[case::longer_than_usual("a text of some length", 20)]
    fn each_text_is_there_whole(#[case] text: &str, #[case] times: usize) {
        let long = text.repeat(times);
        assert_eq!(written([&long, &"", &7_u64]), [long.as_bytes(), b"", b"7"]);
    }
}
