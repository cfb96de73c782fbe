//! Frames of a stream, whichever way they are told apart.

use crate::ndjson::LineDecoder;
use crate::sse::{EventTooLong, Framing, SseDecoder, SseFrame};

/// Takes bytes and gives frames.
#[derive(Debug)]
pub enum FrameDecoder {
    /// Server-sent events.
    Events(SseDecoder),
    /// One JSON value a line.
    Lines(LineDecoder),
}

impl FrameDecoder {
    /// A decoder of that framing.
    #[must_use]
    pub fn new(framing: Framing) -> Self {
        match framing {
            Framing::Events => Self::Events(SseDecoder::default()),
            Framing::Lines => Self::Lines(LineDecoder::default()),
        }
    }

    /// Takes what one read gave.
    ///
    /// # Errors
    /// [`EventTooLong`] when what is held makes no whole frame and passes the bound.
    pub fn push(&mut self, bytes: &[u8]) -> Result<(), EventTooLong> {
        match self {
            Self::Events(decoder) => decoder.push(bytes),
            Self::Lines(decoder) => decoder.push(bytes),
        }
    }

    /// The next whole frame, if there is one.
    pub fn next_frame(&mut self) -> Option<SseFrame> {
        match self {
            Self::Events(decoder) => decoder.next_frame(),
            Self::Lines(decoder) => decoder.next_frame(),
        }
    }

    /// What is left when the body has ended.
    pub fn finish(&mut self) -> Option<SseFrame> {
        match self {
            Self::Events(decoder) => decoder.finish(),
            Self::Lines(decoder) => decoder.finish(),
        }
    }
}
