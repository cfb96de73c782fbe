//! One stream on its way from an upstream to an app: bytes enter as they are read, bytes leave as they are to be sent.
//!
//! 1. [`Passage::push`] takes what one read gave, [`Passage::step`] says what to do with it, until it wants more.
//! 2. Until a piece of the answer has come, what comes is held: a failure may still move on to another offer. The first frame that
//!    commits is one with content, thinking, a piece of a call, a finish; opening events, pings and empty items are held.
//! 3. Same dialect on both sides: frames leave as the slices they are, but for what clients break on silently. Another dialect: frames
//!    become events, events become frames.
//! 4. The end is held back by the caller until the answer is on record. An end without its terminator is proper only if the answer was
//!    whole; otherwise the stream breaks off with an error that the dialect's clients raise on.

mod translation;
mod untold;

use bytes::{Bytes, BytesMut};

use self::translation::Translation;
use crate::codec::{AnswerHead, Closing, ErrorTold, FrameKind};
use crate::conversation::event::Event;
use crate::conversation::facts::Facts;
use crate::dialect::Dialect;
use crate::dialects;
use crate::failure::{Failure, FailureKind};
use crate::frames::FrameDecoder;
use crate::halves::Halves;
use crate::sent::{Sent, joined};
use crate::sse::{Framing, SseFrame};

/// What may come before the first piece of an answer.
const MAX_HELD_BYTES: usize = 256 * 1024;

/// What to do next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Read more from the upstream.
    More,
    /// To the app, now.
    Send(Bytes),
    /// The answer is whole: send this once it is on record, and nothing after it.
    End(Bytes),
    /// The answer is broken; how. An error of the upstream's own may go to the app in its words.
    Broken(Failure, Option<Bytes>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Phase {
    /// Nothing of the answer has come.
    Holding,
    /// It comes.
    Flowing,
    /// It has ended.
    Over,
}

/// A stream on its way.
#[derive(Debug)]
pub struct Passage {
    decoder: FrameDecoder,
    framing: Framing,
    halves: Halves,
    translation: Translation,
    phase: Phase,
    held: BytesMut,
    /// Frames that came behind the finish of a dialect without a terminator.
    last: BytesMut,
    /// Whether comments pass, which no client of the app's dialect fails over.
    passes_comments: bool,
    has_terminator: bool,
    /// What is to be done once what came before it has been sent.
    next: Option<Step>,
    has_bytes: bool,
    has_frames: bool,
}

impl Passage {
    /// A stream of an upstream that speaks `from` to an app that speaks `to`.
    #[must_use]
    pub fn new(from: Dialect, to: Dialect, head: AnswerHead) -> Self {
        Self::through(from, Translation::new(from, to, head))
    }

    /// A stream of events that are nobody's dialect, and pass as they are.
    #[must_use]
    pub fn plain(from: Dialect, head: AnswerHead) -> Self {
        Self::through(from, Translation::plain(from, head))
    }

    fn through(from: Dialect, translation: Translation) -> Self {
        let codec = dialects::of(from);
        Self {
            decoder: FrameDecoder::new(codec.framing()),
            framing: codec.framing(),
            halves: Halves::default(),
            passes_comments: translation.passes_frames() && codec.reads_comments(),
            has_terminator: codec.has_terminator(),
            translation,
            phase: Phase::Holding,
            held: BytesMut::new(),
            last: BytesMut::new(),
            next: None,
            has_bytes: false,
            has_frames: false,
        }
    }

    /// A stream made of a whole reply, for an app that wants one of an offer that does not stream: what goes out, and its end.
    ///
    /// # Errors
    /// When the app's dialect cannot say the reply.
    pub fn of_whole(
        from: Dialect,
        to: Dialect,
        events: Vec<Event>,
        head: AnswerHead,
    ) -> Result<(Bytes, Bytes, Self), Failure> {
        let mut passage = Self::through(from, Translation::anew(from, to, head));
        passage.translation.take(events);
        let out = passage.translation.written()?;
        passage.phase = Phase::Over;
        let last = passage.translation.end(Bytes::new(), None);
        Ok((out, last, passage))
    }

    /// What is known of the answer so far.
    #[must_use]
    pub fn facts(&self) -> Facts {
        self.translation.facts()
    }

    /// Takes what one read gave.
    ///
    /// # Errors
    /// When an event has grown too large.
    pub fn push(&mut self, bytes: &[u8]) -> Result<(), Failure> {
        self.has_bytes |= !bytes.is_empty();
        self.decoder.push(bytes).map_err(|error| Failure::new(FailureKind::Malformed, error.to_string()))
    }

    /// What to do with what was read so far.
    pub fn step(&mut self) -> Step {
        if let Some(next) = self.next.take() {
            return next;
        }
        let mut out = Sent::default();
        while let (Some(frame), false) = (self.decoder.next_frame(), self.phase == Phase::Over) {
            if let Some(ended) = self.frame(&frame, &mut out) {
                return self.after(&out, ended);
            }
            if self.phase == Phase::Holding && self.held.len() > MAX_HELD_BYTES {
                return self.broken(Failure::new(FailureKind::Malformed, "its stream holds no answer"));
            }
        }
        if out.is_empty() { Step::More } else { Step::Send(out.joined()) }
    }

    /// What to do once the upstream's body is at its end. What it says to send goes first; asked again it says how the stream ends.
    pub fn upstream_ended(&mut self) -> Step {
        if let Some(next) = self.next.take() {
            return next;
        }
        if self.phase == Phase::Over {
            return Step::More;
        }
        if let Some(frame) = self.decoder.finish() {
            let mut out = Sent::default();
            if let Some(ended) = self.frame(&frame, &mut out) {
                return self.after(&out, ended);
            }
            if !out.is_empty() {
                return Step::Send(out.joined());
            }
        }
        match (self.translation.is_finished(), self.phase) {
            (true, Phase::Flowing) => self.end(None),
            (true | false, Phase::Holding) if self.has_bytes && !self.has_frames => {
                self.broken(Failure::new(FailureKind::Malformed, "what it sent is no stream of its dialect"))
            }
            (true | false, Phase::Holding) => {
                self.broken(Failure::new(FailureKind::CutOff, "its stream ended before a first token"))
            }
            (false, Phase::Flowing) | (_, Phase::Over) => {
                self.broken(Failure::new(FailureKind::CutOff, "its stream ended in the middle"))
            }
        }
    }

    /// The frames by which the stream breaks off, and how it is closed then.
    pub fn broken_off(&mut self, told: &ErrorTold) -> (Bytes, Closing) {
        self.phase = Phase::Over;
        self.translation.broken_off(told)
    }

    fn broken(&mut self, failure: Failure) -> Step {
        self.phase = Phase::Over;
        Step::Broken(failure, None)
    }

    /// Takes one frame. Gives how the stream ends, if it does here.
    fn frame(&mut self, frame: &SseFrame, out: &mut Sent) -> Option<Step> {
        let whole = frame.data.as_deref().and_then(|data| self.halves.mend(data));
        let mended = whole.map(|data| frame.with_data(data, self.framing));
        let frame = mended.as_ref().unwrap_or(frame);
        let Some(data) = &frame.data else {
            // A heartbeat, which clients of other dialects would not survive, and of one not even their own.
            if self.passes_comments {
                self.pass(frame.raw.clone(), out);
            }
            return None;
        };
        self.has_frames = true;
        let kind = match self.translation.read(data) {
            Ok(kind) => kind,
            Err(failure) => {
                self.phase = Phase::Over;
                return Some(Step::Broken(failure, self.translation.own_error(frame)));
            }
        };
        match self.translation.write(frame, kind) {
            Ok(Some(written)) => self.pass(written, out),
            Ok(None) => {}
            Err(failure) => return Some(self.broken(failure)),
        }
        if kind == FrameKind::Piece && self.phase == Phase::Holding {
            self.phase = Phase::Flowing;
            out.push(self.held.split().freeze());
        }
        (kind == FrameKind::Done).then(|| self.done(frame, out))
    }

    /// `ended`, but what came before it goes first.
    fn after(&mut self, out: &Sent, ended: Step) -> Step {
        if out.is_empty() || matches!(ended, Step::End(_)) {
            return ended;
        }
        self.next = Some(ended);
        Step::Send(out.joined())
    }

    /// The terminator has come.
    fn done(&mut self, frame: &SseFrame, out: &mut Sent) -> Step {
        if self.phase == Phase::Holding && !self.translation.is_finished() {
            return self.broken(Failure::new(FailureKind::Malformed, "its stream ended without an answer"));
        }
        if !self.translation.is_finished() {
            let what = "its stream ended without a finish";
            return self.broken(Failure::new(FailureKind::CutOff, what));
        }
        let before = out.joined();
        match self.end(Some(frame)) {
            Step::End(last) => {
                // What was held is an answer after all: one that says nothing.
                let held = self.held.split().freeze();
                Step::End(joined(&[before, held, last]))
            }
            other @ (Step::More | Step::Send(_) | Step::Broken(..)) => other,
        }
    }

    /// The proper end; `terminator` is the upstream's own, where there is one.
    fn end(&mut self, terminator: Option<&SseFrame>) -> Step {
        self.phase = Phase::Over;
        let held = self.last.split().freeze();
        Step::End(self.translation.end(held, terminator))
    }

    fn pass(&mut self, bytes: Bytes, out: &mut Sent) {
        // Without a terminator the frame with the finish is what an app takes for the end.
        let is_last = !self.has_terminator && self.translation.passes_frames() && self.translation.is_finished();
        match self.phase {
            _ if is_last => self.last.extend_from_slice(&bytes),
            Phase::Holding => self.held.extend_from_slice(&bytes),
            Phase::Flowing | Phase::Over => out.push(bytes),
        }
    }
}

#[cfg(test)]
mod tests;
