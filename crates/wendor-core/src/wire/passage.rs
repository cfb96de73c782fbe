//! One stream on its way from an upstream to an app: bytes enter as they are read, bytes leave as they are to be sent.
//!
//! 1. [`Passage::push`] takes what one read gave, [`Passage::step`] says what to do with it, until it wants more.
//! 2. Until a piece of the answer has come, what comes is held: a failure may still move on to another offer. The first frame that
//!    commits is one with content, thinking, a piece of a call, a finish; opening events, pings and empty items are held.
//! 3. Same dialect on both sides: frames leave as the slices they are, but for what clients break on silently. Another dialect: frames
//!    become events, events become frames.
//! 4. The end is held back by the caller until the answer is on record. An end without its terminator is proper only if the answer was
//!    whole; otherwise the stream breaks off with an error that the dialect's clients raise on.

use std::collections::HashMap;

use bytes::{Bytes, BytesMut};

use super::codec::{self, AnswerHead, Closing, ErrorTold, FrameKind, StreamReader, StreamWriter};
use super::conversation::UsageFrame;
use super::conversation::event::{Event, Usage};
use super::facts::Facts;
use super::frames::FrameDecoder;
use super::halves::Halves;
use super::json::write::{holds_separator, with_separators_escaped};
use super::plain::PlainReader;
use super::seal::{Seal, SealDomain};
use super::sent::{Sent, joined, marked};
use super::sse::SseFrame;
use super::untold::UntoldUsage;
use crate::catalog::upstream::Dialect;
use crate::metering::estimate::tokens_of_bytes;
use crate::routing::failure::{Failure, FailureKind};

/// What may come before the first piece of an answer.
const MAX_HELD_BYTES: usize = 256 * 1024;

/// What to do next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Read more from the upstream.
    More,
    /// Send this.
    Send(Bytes),
    /// The answer is whole: send this once it is on record, and nothing after it.
    End(Bytes),
    /// The answer is broken; how. An error of the upstream's own may go to the app in its words.
    Broken(Failure, Option<Bytes>),
}

#[derive(Debug)]
enum Way {
    /// Same dialect: what goes to the app is what came.
    Same {
        usage_frame: UsageFrame,
        seals: SealDomain,
        seen: HashMap<String, Seal>,
        usage_if_untold: Option<UntoldUsage>,
    },
    /// Through events.
    Translated(Box<dyn StreamWriter>),
}

impl Way {
    /// The way of a stream that passes as it comes.
    fn same(dialect: Dialect, head: AnswerHead) -> Self {
        let is_wanted = head.estimates_usage && head.usage_frame == UsageFrame::Asked;
        let usage_if_untold = (dialect == Dialect::ChatCompletions && is_wanted).then(|| UntoldUsage::of(&head));
        Self::Same { usage_frame: head.usage_frame, seals: head.seals, seen: HashMap::new(), usage_if_untold }
    }
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
    reader: Box<dyn StreamReader>,
    way: Way,
    phase: Phase,
    held: BytesMut,
    /// Frames that came behind the finish of a dialect without a terminator.
    last: BytesMut,
    from: Dialect,
    /// Estimated tokens of the prompt, for apps whose clients need a number where the upstream tells none.
    input_estimate: u64,
    /// Whether the app asked for usage, and gets an estimate where nobody tells.
    estimates_usage: bool,
    halves: Halves,
    facts: Facts,
    /// What the app speaks.
    to: Dialect,
    events: Vec<Event>,
    /// What is to be done once what came before it has been sent.
    next: Option<Step>,
    has_bytes: bool,
    has_frames: bool,
}

impl Passage {
    /// A stream of an upstream that speaks `from` to an app that speaks `to`.
    #[must_use]
    pub fn new(from: Dialect, to: Dialect, head: AnswerHead) -> Self {
        let input_estimate = head.input_estimate;
        let estimates_usage =
            to == Dialect::Messages || (head.estimates_usage && head.usage_frame == UsageFrame::Asked);
        let way = if from == to { Way::same(to, head) } else { Way::Translated(codec::of(to).writer(head)) };
        Self {
            decoder: FrameDecoder::new(codec::of(from).framing()),
            reader: codec::of(from).reader(),
            way,
            phase: Phase::Holding,
            held: BytesMut::new(),
            last: BytesMut::new(),
            from,
            input_estimate,
            estimates_usage,
            halves: Halves::default(),
            facts: Facts::default(),
            to,
            events: Vec::new(),
            next: None,
            has_bytes: false,
            has_frames: false,
        }
    }

    /// A stream of events that are nobody's dialect, and pass as they are.
    #[must_use]
    pub fn plain(from: Dialect, head: AnswerHead) -> Self {
        Self { reader: Box::new(PlainReader::default()), ..Self::new(from, from, head) }
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
        let mut passage =
            Self { way: Way::Translated(codec::of(to).writer(head.clone())), ..Self::new(from, to, head) };
        passage.phase = Phase::Flowing;
        events.iter().for_each(|event| passage.facts.take_for(to, event));
        passage.events = events;
        let mut out = Sent::default();
        passage.translated(&mut out)?;
        let last = match passage.end(None) {
            Step::End(last) => last,
            Step::More | Step::Send(_) | Step::Broken(..) => Bytes::new(),
        };
        Ok((out.joined(), last, passage))
    }

    /// What is known of the answer so far.
    #[must_use]
    pub fn facts(&self) -> Facts {
        Facts { is_finished: self.reader.is_finished(), ..self.facts }
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
        match (self.reader.is_finished(), self.phase) {
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
        match &mut self.way {
            Way::Same { .. } => {
                let (frames, closing) = self.reader.broken_off(told);
                (Bytes::from(frames), closing)
            }
            Way::Translated(writer) => {
                let mut out = Vec::new();
                let closing = writer.broken_off(told, &mut out);
                (Bytes::from(out), closing)
            }
        }
    }

    fn broken(&mut self, failure: Failure) -> Step {
        self.phase = Phase::Over;
        Step::Broken(failure, None)
    }

    /// Takes one frame. Gives how the stream ends, if it does here.
    fn frame(&mut self, frame: &SseFrame, out: &mut Sent) -> Option<Step> {
        let whole = frame.data.as_deref().and_then(|data| self.halves.mend(data));
        let mended = whole.map(|data| frame.with_data(data, codec::of(self.from).framing()));
        let frame = mended.as_ref().unwrap_or(frame);
        let Some(data) = &frame.data else {
            // A heartbeat, which clients of other dialects would not survive, and of one not even their own.
            if matches!(self.way, Way::Same { .. }) && self.from != Dialect::GenerateContent {
                self.pass(frame.raw.clone(), out);
            }
            return None;
        };
        self.has_frames = true;
        self.events.clear();
        let read = match &self.way {
            Way::Same { .. } => self.reader.look(data, &mut self.facts, &mut self.events),
            Way::Translated(_) => self.reader.read(data, &mut self.events).inspect(|_| {
                self.events.iter().for_each(|event| self.facts.take_for(self.to, event));
            }),
        };
        let kind = match read {
            Ok(kind) => kind,
            Err(failure) => {
                let own = matches!(self.way, Way::Same { .. }).then(|| self.reader.own_error(frame)).flatten();
                self.phase = Phase::Over;
                return Some(Step::Broken(failure, own));
            }
        };
        let ended = match &mut self.way {
            Way::Same { .. } => self.same(frame, kind, out),
            Way::Translated(_) => self.translated(out),
        };
        if let Err(failure) = ended {
            return Some(self.broken(failure));
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
        if self.phase == Phase::Holding && !self.reader.is_finished() {
            return self.broken(Failure::new(FailureKind::Malformed, "its stream ended without an answer"));
        }
        if !self.reader.is_finished() {
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
        let usage = self.facts.usage.or_else(|| self.estimated_usage());
        let estimated = self.untold_usage(usage);
        let last = match &mut self.way {
            Way::Same { .. } => {
                let own = terminator.map(|frame| self.mended(frame.raw.clone()));
                let missing = || Bytes::from_static(self.reader.terminator().as_bytes());
                let held = self.last.split().freeze();
                joined(&[held, estimated, own.unwrap_or_else(missing)])
            }
            Way::Translated(writer) => {
                let mut out = Vec::new();
                writer.end(usage, &mut out);
                Bytes::from(out)
            }
        };
        Step::End(last)
    }

    /// Where nobody reported usage, an app that asked for it gets an estimate, and clients of messages always do: they fail without
    /// numbers.
    fn estimated_usage(&self) -> Option<Usage> {
        let output = tokens_of_bytes(self.facts.output_bytes);
        let usage = Usage { input: Some(self.input_estimate), output: Some(output), ..Usage::default() };
        (self.estimates_usage && self.facts.counts.is_none()).then_some(usage)
    }

    /// The frame with estimated usage, where the app asked for one and the upstream sent none; nothing otherwise.
    fn untold_usage(&self, usage: Option<Usage>) -> Bytes {
        match (&self.way, usage, self.facts.counts) {
            (Way::Same { usage_if_untold: Some(frame), .. }, Some(usage), None) => frame.with(usage),
            (Way::Same { .. } | Way::Translated(_), _, _) => Bytes::new(),
        }
    }

    fn translated(&mut self, out: &mut Sent) -> Result<(), Failure> {
        let Way::Translated(writer) = &mut self.way else { return Ok(()) };
        let mut written = Vec::new();
        for event in self.events.drain(..) {
            writer.write(&event, &mut written)?;
        }
        match self.phase {
            Phase::Holding => self.held.extend_from_slice(&written),
            Phase::Flowing | Phase::Over => out.push(Bytes::from(written)),
        }
        Ok(())
    }

    fn same(&mut self, frame: &SseFrame, kind: FrameKind, out: &mut Sent) -> Result<(), Failure> {
        let Way::Same { usage_frame, seen, .. } = &mut self.way else { return Ok(()) };
        for event in self.events.drain(..) {
            if let Event::Sealed { seal, .. } = event {
                seen.insert(seal.text().to_owned(), seal);
            }
        }
        let is_kept_back = kind == FrameKind::UsageOnly && *usage_frame == UsageFrame::NotAsked;
        if matches!(kind, FrameKind::Foreign | FrameKind::Done) || is_kept_back {
            return Ok(());
        }
        let raw = match self.reader.mended(frame) {
            Some(mended) => Bytes::from(mended),
            None => frame.raw.clone(),
        };
        let raw = self.mended(raw);
        self.pass(raw, out);
        Ok(())
    }

    fn pass(&mut self, raw: Bytes, out: &mut Sent) {
        // Without a terminator the frame with the finish is what an app takes for the end.
        let is_last = self.from == Dialect::GenerateContent && self.reader.is_finished();
        match self.phase {
            _ if is_last => self.last.extend_from_slice(&raw),
            Phase::Holding => self.held.extend_from_slice(&raw),
            Phase::Flowing | Phase::Over => out.push(raw),
        }
    }

    /// A frame with its seals marked, and with what clients would take for the end of a line escaped.
    fn mended(&self, raw: Bytes) -> Bytes {
        let Way::Same { seals, seen, .. } = &self.way else { return raw };
        let raw = if seen.is_empty() { raw } else { marked(raw, seals, seen) };
        if !holds_separator(&raw) {
            return raw;
        }
        let mut mended = String::with_capacity(raw.len() + 16);
        with_separators_escaped(&String::from_utf8_lossy(&raw), &mut mended);
        Bytes::from(mended)
    }
}
