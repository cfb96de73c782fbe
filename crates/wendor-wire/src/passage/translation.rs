//! What becomes of each frame of a stream: read in the upstream's dialect, looked at, written in the app's.
//!
//! The spot where something may look at what an answer says, before any of it is written, is [`Translation::heard`].

use std::collections::HashMap;

use bytes::Bytes;

use super::untold::UntoldUsage;
use crate::codec::{AnswerHead, Closing, ErrorTold, FrameKind, StreamReader, StreamWriter};
use crate::conversation::UsageFrame;
use crate::conversation::event::{Event, Usage};
use crate::conversation::facts::Facts;
use crate::dialect::Dialect;
use crate::dialects;
use crate::estimate::tokens_of_bytes;
use crate::failure::Failure;
use crate::json::write::{holds_separator, with_separators_escaped};
use crate::plain::PlainReader;
use crate::seal::{Seal, SealDomain};
use crate::sent::{joined, marked};
use crate::sse::SseFrame;

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
        let usage_if_untold = (dialects::of(dialect).tells_usage_apart() && is_wanted).then(|| UntoldUsage::of(&head));
        Self::Same { usage_frame: head.usage_frame, seals: head.seals, seen: HashMap::new(), usage_if_untold }
    }
}

/// What is told of usage where the upstream tells nothing.
#[derive(Clone, Copy, Debug)]
struct Estimate {
    /// Tokens of the prompt.
    input: u64,
    /// Whether the app gets it: it asked for usage, or its clients fail without numbers.
    is_wanted: bool,
}

impl Estimate {
    fn of(to: Dialect, head: &AnswerHead) -> Self {
        let is_asked_for = head.estimates_usage && head.usage_frame == UsageFrame::Asked;
        Self { input: head.input_estimate, is_wanted: dialects::of(to).has_to_tell_input() || is_asked_for }
    }
}

/// The reader of what comes, the writer of what goes, and what is known in between.
#[derive(Debug)]
pub(super) struct Translation {
    reader: Box<dyn StreamReader>,
    way: Way,
    /// What the app speaks.
    to: Dialect,
    estimate: Estimate,
    facts: Facts,
    /// What the frame at hand says.
    events: Vec<Event>,
}

impl Translation {
    /// From an upstream that speaks `from` to an app that speaks `to`.
    pub(super) fn new(from: Dialect, to: Dialect, head: AnswerHead) -> Self {
        if from != to {
            return Self::anew(from, to, head);
        }
        let estimate = Estimate::of(to, &head);
        Self::by(Way::same(to, head), from, to, estimate)
    }

    /// Of events that are nobody's dialect, and pass as they are.
    pub(super) fn plain(from: Dialect, head: AnswerHead) -> Self {
        Self { reader: Box::new(PlainReader::default()), ..Self::new(from, from, head) }
    }

    /// Written anew, even where both speak the same.
    pub(super) fn anew(from: Dialect, to: Dialect, head: AnswerHead) -> Self {
        let estimate = Estimate::of(to, &head);
        Self::by(Way::Translated(dialects::of(to).writer(head)), from, to, estimate)
    }

    fn by(way: Way, from: Dialect, to: Dialect, estimate: Estimate) -> Self {
        let reader = dialects::of(from).reader();
        Self { reader, way, to, estimate, facts: Facts::default(), events: Vec::new() }
    }

    /// What is known of the answer so far.
    pub(super) fn facts(&self) -> Facts {
        Facts { is_finished: self.reader.is_finished(), ..self.facts }
    }

    /// Whether the answer is whole even if the terminator never comes.
    pub(super) fn is_finished(&self) -> bool {
        self.reader.is_finished()
    }

    /// Whether frames pass as they come.
    pub(super) fn passes_frames(&self) -> bool {
        matches!(self.way, Way::Same { .. })
    }

    /// Reads a frame's data, and notes what it says.
    pub(super) fn read(&mut self, data: &[u8]) -> Result<FrameKind, Failure> {
        self.events.clear();
        match &self.way {
            Way::Same { .. } => self.reader.look(data, &mut self.facts, &mut self.events),
            Way::Translated(_) => {
                let kind = self.reader.read(data, &mut self.events)?;
                self.heard();
                Ok(kind)
            }
        }
    }

    /// Takes events that were read elsewhere.
    pub(super) fn take(&mut self, events: Vec<Event>) {
        self.events = events;
        self.heard();
    }

    /// Between reader and writer: what the answer says now, before it is written.
    fn heard(&mut self) {
        self.events.iter().for_each(|event| self.facts.take_for(self.to, event));
    }

    /// What goes to the app of the frame that was read; `None` where nothing does.
    pub(super) fn write(&mut self, frame: &SseFrame, kind: FrameKind) -> Result<Option<Bytes>, Failure> {
        match &self.way {
            Way::Same { .. } => Ok(self.passed(frame, kind)),
            Way::Translated(_) => self.written().map(Some),
        }
    }

    /// What was read, written in the app's dialect; nothing where frames pass.
    pub(super) fn written(&mut self) -> Result<Bytes, Failure> {
        let Way::Translated(writer) = &mut self.way else { return Ok(Bytes::new()) };
        let mut written = Vec::new();
        for event in self.events.drain(..) {
            writer.write(&event, &mut written)?;
        }
        Ok(Bytes::from(written))
    }

    fn passed(&mut self, frame: &SseFrame, kind: FrameKind) -> Option<Bytes> {
        let Way::Same { usage_frame, seen, .. } = &mut self.way else { return None };
        for event in self.events.drain(..) {
            if let Event::Sealed { seal, .. } = event {
                seen.insert(seal.text().to_owned(), seal);
            }
        }
        let is_kept_back = kind == FrameKind::UsageOnly && *usage_frame == UsageFrame::NotAsked;
        if matches!(kind, FrameKind::Foreign | FrameKind::Done) || is_kept_back {
            return None;
        }
        let raw = self.reader.mended(frame).map_or_else(|| frame.raw.clone(), Bytes::from);
        Some(self.mended(raw))
    }

    /// What goes last: `held` frames, usage where nobody told it, and the terminator, which is the upstream's own where there is one.
    pub(super) fn end(&mut self, held: Bytes, terminator: Option<&SseFrame>) -> Bytes {
        let usage = self.facts.usage.or_else(|| self.estimated_usage());
        let estimated = self.untold_usage(usage);
        match &mut self.way {
            Way::Same { .. } => {
                let own = terminator.map(|frame| self.mended(frame.raw.clone()));
                let missing = || Bytes::from_static(self.reader.terminator().as_bytes());
                joined(&[held, estimated, own.unwrap_or_else(missing)])
            }
            Way::Translated(writer) => {
                let mut out = Vec::new();
                writer.end(usage, &mut out);
                Bytes::from(out)
            }
        }
    }

    /// An error frame of the upstream's own, where the app can read it in its words.
    pub(super) fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        self.passes_frames().then(|| self.reader.own_error(frame)).flatten()
    }

    /// The frames by which the stream breaks off, and how it is closed then.
    pub(super) fn broken_off(&mut self, told: &ErrorTold) -> (Bytes, Closing) {
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

    /// Where nobody reported usage, an app that asked for it gets an estimate, and clients of messages always do: they fail without
    /// numbers.
    fn estimated_usage(&self) -> Option<Usage> {
        let output = tokens_of_bytes(self.facts.output_bytes);
        let usage = Usage { input: Some(self.estimate.input), output: Some(output), ..Usage::default() };
        (self.estimate.is_wanted && self.facts.counts.is_none()).then_some(usage)
    }

    /// The frame with estimated usage, where the app asked for one and the upstream sent none; nothing otherwise.
    fn untold_usage(&self, usage: Option<Usage>) -> Bytes {
        match (&self.way, usage, self.facts.counts) {
            (Way::Same { usage_if_untold: Some(frame), .. }, Some(usage), None) => frame.with(usage),
            (Way::Same { .. } | Way::Translated(_), _, _) => Bytes::new(),
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
