//! Server-sent events, taken from bytes that are cut anywhere: inside a character, between CR and LF.
//!
//! Bytes enter through [`SseDecoder::push`]; whole frames leave, each with the bytes it was made of, so that it can be passed
//! on untouched. Lines end at CR, LF or CRLF, before any decoding of UTF-8 (WHATWG HTML, section 9.2.5); comments, blank lines
//! and unknown fields are frames without data. What one event may hold is bounded.

use bytes::{Bytes, BytesMut};
use memchr::{memchr2, memchr2_iter};

/// How frames are told apart on the wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Framing {
    /// Server-sent events.
    Events,
    /// A JSON object a line.
    Lines,
}

/// The most bytes of one event: clients take lines of 1.5 MB, so that images fit; more is an upstream gone wrong.
pub const MAX_EVENT_BYTES: usize = 8 * 1024 * 1024;

const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// One frame, from its first byte to the blank line after it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SseFrame {
    /// Its bytes as they came, the blank line included.
    pub raw: Bytes,
    /// Its `data`; several lines are joined with LF. `None` for comments and heartbeats.
    pub data: Option<Bytes>,
}

impl SseFrame {
    /// The same with other data; what else it says stays.
    #[must_use]
    pub(crate) fn with_data(&self, data: String, framing: Framing) -> Self {
        let mut raw = String::with_capacity(data.len() + 32);
        match framing {
            Framing::Events => {
                let said = String::from_utf8_lossy(&self.raw);
                for line in said.lines().filter(|line| !line.is_empty() && !line.starts_with("data")) {
                    raw.push_str(line);
                    raw.push('\n');
                }
                raw.push_str("data: ");
                raw.push_str(&data);
                raw.push_str("\n\n");
            }
            Framing::Lines => {
                raw.push_str(&data);
                raw.push('\n');
            }
        }
        Self { raw: Bytes::from(raw), data: Some(Bytes::from(data)) }
    }
}

/// An event has grown past [`MAX_EVENT_BYTES`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("an event of the stream is larger than {MAX_EVENT_BYTES} bytes")]
pub struct EventTooLong;

/// Takes bytes and gives frames.
#[derive(Debug, Default)]
pub struct SseDecoder {
    buffer: BytesMut,
    /// How far the buffer was searched for the end of a frame.
    searched: usize,
    /// Start of the line that `searched` stands in.
    line_start: usize,
    is_past_start: bool,
}

impl SseDecoder {
    /// Takes what one read gave.
    ///
    /// # Errors
    /// [`EventTooLong`] when what is held makes no whole frame and passes the bound.
    pub fn push(&mut self, bytes: &[u8]) -> Result<(), EventTooLong> {
        if self.buffer.len().saturating_add(bytes.len()) > MAX_EVENT_BYTES {
            return Err(EventTooLong);
        }
        self.buffer.extend_from_slice(bytes);
        Ok(())
    }

    /// The next whole frame, if there is one.
    pub fn next_frame(&mut self) -> Option<SseFrame> {
        self.skip_byte_order_mark()?;
        while let Some(found) = memchr2(b'\n', b'\r', self.buffer.get(self.searched..)?) {
            let at = self.searched + found;
            let terminator = match (self.buffer.get(at), self.buffer.get(at + 1)) {
                (Some(b'\r'), Some(b'\n')) => 2,
                // Whether an LF belongs to it is told by the next read.
                (Some(b'\r'), None) => {
                    self.searched = at;
                    return None;
                }
                (_, _) => 1,
            };
            let is_blank = at == self.line_start;
            self.searched = at + terminator;
            self.line_start = self.searched;
            if is_blank {
                return Some(self.cut(self.searched));
            }
        }
        self.searched = self.buffer.len();
        None
    }

    /// What is left when the body has ended: a last frame whose blank line is missing gets one. `None` when nothing is
    /// left, or the rest is not even a whole line of data.
    pub fn finish(&mut self) -> Option<SseFrame> {
        if self.buffer.is_empty() {
            return None;
        }
        let has_open_line = self.line_start < self.buffer.len();
        self.buffer.extend_from_slice(if has_open_line { b"\n\n" } else { b"\n" });
        let all = self.buffer.len();
        Some(self.cut(all))
    }

    fn skip_byte_order_mark(&mut self) -> Option<()> {
        if !self.is_past_start {
            if self.buffer.len() < BYTE_ORDER_MARK.len() && BYTE_ORDER_MARK.starts_with(&self.buffer) {
                return None;
            }
            self.is_past_start = true;
            if self.buffer.starts_with(BYTE_ORDER_MARK) {
                let _mark = self.buffer.split_to(BYTE_ORDER_MARK.len());
            }
        }
        Some(())
    }

    fn cut(&mut self, length: usize) -> SseFrame {
        let raw = self.buffer.split_to(length).freeze();
        self.searched = 0;
        self.line_start = 0;
        let data = data_of(&raw);
        SseFrame { raw, data }
    }
}

/// The data of a frame: a slice where it stands in one line, joined where it stands in several.
fn data_of(raw: &Bytes) -> Option<Bytes> {
    let mut single: Option<Bytes> = None;
    let mut joined: Option<Vec<u8>> = None;
    let ends = memchr2_iter(b'\n', b'\r', raw).chain(std::iter::once(raw.len()));
    let mut from = 0;
    for end in ends {
        let line = raw.get(from..end).unwrap_or_default();
        from = end + 1;
        let value = match line.strip_prefix(b"data") {
            Some([]) => &[],
            Some([b':', b' ', value @ ..] | [b':', value @ ..]) => value,
            Some(_) | None => continue,
        };
        match (&single, &mut joined) {
            (None, _) => single = Some(raw.slice_ref(value)),
            (Some(first), None) => joined = Some([first.as_ref(), b"\n", value].concat()),
            (Some(_), Some(lines)) => {
                lines.push(b'\n');
                lines.extend_from_slice(value);
            }
        }
    }
    joined.map(Bytes::from).or(single)
}

/// A frame of server-sent events around one line of JSON.
pub fn data_frame(line: &str, out: &mut Vec<u8>) {
    out.reserve("data: \n\n".len() + line.len());
    out.extend_from_slice(b"data: ");
    out.extend_from_slice(line.as_bytes());
    out.extend_from_slice(b"\n\n");
}

/// The same with a name.
pub fn named_frame(name: &str, line: &str, out: &mut Vec<u8>) {
    out.reserve("event: \ndata: \n\n".len() + name.len() + line.len());
    out.extend_from_slice(b"event: ");
    out.extend_from_slice(name.as_bytes());
    out.push(b'\n');
    data_frame(line, out);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn decode(reads: &[&[u8]]) -> Vec<SseFrame> {
        let mut decoder = SseDecoder::default();
        let mut frames = Vec::new();
        for read in reads {
            decoder.push(read).unwrap();
            frames.extend(std::iter::from_fn(|| decoder.next_frame()));
        }
        frames.extend(decoder.finish());
        frames
    }

    fn data(frames: &[SseFrame]) -> Vec<String> {
        frames
            .iter()
            .filter_map(|frame| frame.data.as_ref())
            .map(|data| String::from_utf8(data.to_vec()).unwrap())
            .collect()
    }

    #[rstest]
    #[case::lf("data: a\n\ndata: b\n\n", &["a", "b"])]
    #[case::crlf("data: a\r\n\r\ndata: b\r\n\r\n", &["a", "b"])]
    #[case::cr("data: a\r\rdata: b\r\r", &["a", "b"])]
    #[case::no_space("data:a\n\n", &["a"])]
    #[case::comment(": hb\n\ndata: a\n\n", &["a"])]
    #[case::unknown_fields("id: 4\nevent: x\nretry: 2\ndata: a\n\n", &["a"])]
    #[case::several_lines("data: {\ndata:  1\ndata: }\n\n", &["{\n 1\n}"])]
    #[case::heartbeats("\n\n\ndata: a\n\n", &["a"])]
    #[case::byte_order_mark("\u{feff}data: a\n\n", &["a"])]
    #[case::no_blank_line_at_the_end("data: a\n\ndata: b", &["a", "b"])]
    #[case::one_newline_at_the_end("data: a\n\ndata: b\n", &["a", "b"])]
    #[case::empty_data("data\n\n", &[""])]
    #[case::other_name("database: a\n\n", &[])]
    fn frames_of(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(data(&decode(&[text.as_bytes()])), expected);
    }

    #[test]
    fn a_mended_last_frame_ends_with_a_blank_line() {
        for text in ["data: b", "data: b\n", "data: b\r\n", "data: b\r"] {
            let frames = decode(&[text.as_bytes()]);
            assert_eq!(frames.len(), 1, "{text:?}");
            let raw = String::from_utf8(frames[0].raw.to_vec()).unwrap().replace("\r\n", "\n").replace('\r', "\n");
            assert_eq!(raw, "data: b\n\n");
        }
    }

    #[test]
    fn an_endless_event_is_refused() {
        let mut decoder = SseDecoder::default();
        let read = vec![b'a'; 1024 * 1024];
        let refused_at = (0..).find(|_| decoder.push(&read).is_err() || decoder.next_frame().is_some());
        assert_eq!(refused_at, Some(8));
    }

    proptest! {
        /// Wherever reads cut the bytes, the frames and their bytes are the same.
        #[test]
        fn cuts_do_not_matter(cuts in prop::collection::vec(0usize..120, 0..12)) {
            let text = "\u{feff}: hb\r\n\r\ndata: {\"a\":\"Fähre 🛳\"}\r\n\r\ndata: b\ndata: c\n\n\ndata: d\r\rdata: [DONE]\n\n".as_bytes();
            let whole = decode(&[text]);
            let mut places: Vec<usize> = cuts.into_iter().map(|cut| cut % text.len()).collect();
            places.sort_unstable();
            places.push(text.len());
            let mut from = 0;
            let reads: Vec<&[u8]> = places.iter().map(|to| { let read = &text[from..*to]; from = *to; read }).collect();
            let cut_up = decode(&reads);
            prop_assert_eq!(data(&cut_up), data(&whole));
            let bytes: Vec<u8> = cut_up.iter().flat_map(|frame| frame.raw.to_vec()).collect();
            prop_assert_eq!(&bytes, &text[3..]);
        }
    }
}
