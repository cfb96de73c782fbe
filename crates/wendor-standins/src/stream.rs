//! An answer that streams: a body that makes each frame when it is due.
//!
//! No task and no channel a stream, so that a stand-in is not what a benchmark measures. Being dropped before its end means that
//! the client left.

use std::future::Future;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use bytes::Bytes;
use hyper::body::Frame;
use serde_json::json;
use tokio::sync::OwnedMutexGuard;
use tokio::time::{Instant, Sleep};
use wendor_wire::codec::{AnswerHead, StreamWriter};
use wendor_wire::conversation::event::Event;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::sse::Framing;

use crate::chat::Account;
use crate::fault::Fault;
use crate::manners::Manners;
use crate::memory::Outcome;
use crate::script::Script;

/// Between the last frame and a cut.
const LINGER: Duration = Duration::from_millis(30);

/// An answer that streams.
pub struct TokenStream {
    dialect: Dialect,
    script: Script,
    writer: Box<dyn StreamWriter>,
    account: Account,
    /// Events written so far, an opening one before them all.
    made: usize,
    due: Instant,
    between: Duration,
    timer: Pin<Box<Sleep>>,
    fault: Fault,
    lingered: bool,
    pub(crate) manners: Manners,
    /// The turn at a server that serves one request at a time.
    pub(crate) holds: Option<OwnedMutexGuard<()>>,
    /// Listings that had come when it began.
    listings: u64,
}

impl TokenStream {
    pub(crate) fn new(
        dialect: Dialect,
        script: Script,
        head: AnswerHead,
        account: Account,
        wait: Duration,
        fault: Fault,
    ) -> Self {
        let due = Instant::now() + wait;
        let between = match account.shared.profile.tokens_per_second {
            0 => Duration::ZERO,
            rate => Duration::from_secs(1) / rate,
        };
        let timer = Box::pin(tokio::time::sleep_until(due));
        let writer = dialects::of(dialect).writer(head);
        let listings = account.shared.state().listings;
        Self {
            dialect,
            script,
            writer,
            account,
            made: 0,
            due,
            between,
            timer,
            fault,
            lingered: false,
            manners: Manners::default(),
            holds: None,
            listings,
        }
    }

    /// The next frame, or `None` when the answer is complete. One that says nothing by itself is empty.
    pub(crate) fn frame(&mut self) -> Option<Bytes> {
        let made = self.made;
        self.made += 1;
        let mut out = Vec::new();
        match self.script.events.get(made) {
            Some(event) => {
                // What a script holds can be said in every dialect.
                let _said = self.writer.write(event, &mut out);
            }
            None if made == self.script.events.len() => {
                let usage = Some(self.script.usage()).filter(|_| !self.manners.no_usage);
                self.writer.end(usage, &mut out);
                let terminator = dialects::of(self.dialect).reader().terminator();
                if self.manners.no_terminator && !terminator.is_empty() {
                    let kept = out.strip_suffix(terminator.as_bytes()).map_or(out.len(), <[u8]>::len);
                    out.truncate(kept);
                }
            }
            None => return None,
        }
        Some(self.told_at_once(out))
    }

    fn is_midway(&self) -> bool {
        self.made > self.script.events.len() / 2 + 1
    }

    fn is_ended_by_a_listing(&self) -> bool {
        self.manners.listing_ends_streams && self.account.shared.state().listings > self.listings
    }

    /// An error in the middle of a stream.
    fn error(&self, message: &str) -> Bytes {
        let text = match dialects::of(self.dialect).framing() {
            Framing::Events => {
                format!("data: {}\n\n", json!({ "error": { "message": message, "type": "server_error" } }))
            }
            Framing::Lines => format!("{}\n", json!({ "error": message })),
        };
        Bytes::from(text)
    }

    fn garbage(&self) -> Bytes {
        match dialects::of(self.dialect).framing() {
            Framing::Events => Bytes::from_static(b"data: {\"foghorn\":\n\n"),
            Framing::Lines => Bytes::from_static(b"{\"foghorn\":\n"),
        }
    }

    /// What comes before any piece of the answer: a role, an empty piece.
    fn opening(&mut self) -> Bytes {
        let mut out = Vec::new();
        let _said = self.writer.write(&Event::Text { choice: 0, text: String::new() }, &mut out);
        self.told_at_once(out)
    }

    /// The first frame of messages as its servers send it: with the input that they have read, which the gateway's writer cannot know.
    fn told_at_once(&self, frame: Vec<u8>) -> Bytes {
        const UNTOLD: &str = "\"input_tokens\":0";
        let is_first = self.dialect == Dialect::Messages && frame.starts_with(b"event: message_start");
        match String::from_utf8(frame) {
            Ok(text) if is_first && !self.manners.no_usage => {
                Bytes::from(text.replacen(UNTOLD, &format!("\"input_tokens\":{}", self.script.input_tokens), 1))
            }
            Ok(text) => Bytes::from(text),
            Err(bytes) => Bytes::from(bytes.into_bytes()),
        }
    }

    /// What the fault does at this point of the answer.
    fn misbehave(&mut self) -> Option<Poll<Option<std::io::Result<Frame<Bytes>>>>> {
        let is_midway = self.is_midway();
        if let Some(message) = self.manners.says_error.take_if(|_| is_midway) {
            self.fault = Fault::EndMidway;
            return Some(Poll::Ready(Some(Ok(Frame::data(self.error(&message))))));
        }
        let shown = match (&self.fault, is_midway) {
            (Fault::StallAfterRole, _) if self.made == 0 => {
                self.made = 1;
                return Some(Poll::Ready(Some(Ok(Frame::data(self.opening())))));
            }
            (Fault::StallAfterRole, _) | (Fault::StallMidway, true) => Poll::Pending,
            (Fault::CutMidway, true) => Poll::Ready(Some(Err(std::io::Error::other("cut as told")))),
            (Fault::EndMidway, true) => Poll::Ready(None),
            (Fault::GarbageMidway, true) => {
                self.fault = Fault::EndMidway;
                return Some(Poll::Ready(Some(Ok(Frame::data(self.garbage())))));
            }
            (_, _) => return None,
        };
        if shown.is_ready() {
            self.account.close(Outcome::Fault, u64::try_from(self.made).unwrap_or(0));
        }
        Some(shown)
    }

    pub(crate) fn poll(&mut self, context: &mut Context<'_>) -> Poll<Option<std::io::Result<Frame<Bytes>>>> {
        if self.fault == Fault::CutMidway && self.is_midway() && !self.lingered {
            // What was made before the cut has to leave before the connection breaks.
            self.lingered = true;
            self.due = Instant::now() + LINGER;
            self.timer.as_mut().reset(self.due);
        }
        if self.lingered && self.due > Instant::now() {
            ready!(self.timer.as_mut().poll(context));
        }
        if self.is_ended_by_a_listing() {
            self.account.close(Outcome::Fault, u64::try_from(self.made).unwrap_or(0));
            return Poll::Ready(Some(Err(std::io::Error::other("ended by a listing"))));
        }
        if let Some(shown) = self.misbehave() {
            return shown;
        }
        loop {
            if self.due > Instant::now() {
                ready!(self.timer.as_mut().poll(context));
            }
            let frame = self.frame();
            if frame.is_none() && self.manners.never_closes {
                return Poll::Pending;
            }
            if self.made == self.script.events.len() / 2 && self.manners.pauses_ms > 0 {
                self.due = Instant::now() + Duration::from_millis(self.manners.pauses_ms);
                self.timer.as_mut().reset(self.due);
            }
            let is_piece = self.made < self.script.events.len();
            if is_piece && self.between > Duration::ZERO && frame.as_ref().is_some_and(|frame| !frame.is_empty()) {
                self.due += self.between;
                self.timer.as_mut().reset(self.due);
            }
            if self.made > self.script.events.len() {
                self.account.close(Outcome::Served, self.script.output_tokens);
            }
            match frame {
                Some(frame) if frame.is_empty() => {}
                frame => return Poll::Ready(frame.map(|bytes| Ok(Frame::data(bytes)))),
            }
        }
    }
}
