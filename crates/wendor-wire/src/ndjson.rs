//! Lines of JSON, taken from bytes that are cut anywhere. A line ends at LF; a CR before it belongs to the end. What one line may
//! hold is bounded.

use bytes::{Bytes, BytesMut};
use memchr::memchr;

use crate::sse::{EventTooLong, MAX_EVENT_BYTES, SseFrame};

/// Takes bytes and gives lines.
#[derive(Debug, Default)]
pub struct LineDecoder {
    buffer: BytesMut,
    searched: usize,
}

impl LineDecoder {
    /// Takes what one read gave.
    ///
    /// # Errors
    /// [`EventTooLong`] when what is held makes no whole line and passes the bound.
    pub fn push(&mut self, bytes: &[u8]) -> Result<(), EventTooLong> {
        if self.buffer.len().saturating_add(bytes.len()) > MAX_EVENT_BYTES {
            return Err(EventTooLong);
        }
        self.buffer.extend_from_slice(bytes);
        Ok(())
    }

    /// The next whole line, if there is one, as a frame.
    pub fn next_frame(&mut self) -> Option<SseFrame> {
        let line_end = memchr(b'\n', self.buffer.get(self.searched..)?);
        let Some(line_end) = line_end else {
            self.searched = self.buffer.len();
            return None;
        };
        let raw = self.buffer.split_to(self.searched + line_end + 1).freeze();
        self.searched = 0;
        Some(frame_of(raw))
    }

    /// What is left when the body has ended: a last line without its end gets one.
    pub fn finish(&mut self) -> Option<SseFrame> {
        if self.buffer.is_empty() {
            return None;
        }
        self.buffer.extend_from_slice(b"\n");
        self.next_frame()
    }
}

fn frame_of(raw: Bytes) -> SseFrame {
    let line = raw.trim_ascii();
    let data = if line.is_empty() { None } else { Some(raw.slice_ref(line)) };
    SseFrame { raw, data }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_end_at_lf_and_the_last_one_may_lack_it() {
        let mut decoder = LineDecoder::default();
        decoder.push("{\"a\":1}\r\n\n{\"b\":\"x\u{2028}y\"}".as_bytes()).unwrap();
        let mut frames: Vec<SseFrame> = std::iter::from_fn(|| decoder.next_frame()).collect();
        frames.extend(decoder.finish());
        let data: Vec<Option<&[u8]>> = frames.iter().map(|frame| frame.data.as_deref()).collect();
        assert_eq!(data, [Some(&b"{\"a\":1}"[..]), None, Some("{\"b\":\"x\u{2028}y\"}".as_bytes())]);
        assert!(decoder.finish().is_none());
    }

    #[test]
    fn an_endless_line_is_refused() {
        let mut decoder = LineDecoder::default();
        assert!(decoder.push(&vec![b'x'; MAX_EVENT_BYTES]).is_ok());
        assert_eq!(decoder.push(b"x"), Err(EventTooLong));
    }

    proptest! {
        #[test]
        fn wherever_reads_are_cut_the_lines_are_the_same(text in "[a\n\r{}\u{2028}é]{0,60}", cut in 0usize..60) {
            let bytes = text.as_bytes();
            let cut = cut.min(bytes.len());
            let lines = |reads: &[&[u8]]| {
                let mut decoder = LineDecoder::default();
                let mut lines = Vec::new();
                for read in reads {
                    decoder.push(read).unwrap();
                    lines.extend(std::iter::from_fn(|| decoder.next_frame()));
                }
                lines.extend(decoder.finish());
                lines
            };
            prop_assert_eq!(lines(&[bytes]), lines(&[&bytes[..cut], &bytes[cut..]]));
        }
    }
}
