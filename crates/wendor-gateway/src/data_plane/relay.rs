//! Step 4, relay: takes an answer that has begun, gives the response that carries it to the app; a break after the first byte
//! ends the stream with an error that the dialect's clients raise on.
//!
//! 1. The handler returns with the head. From then on the body owns everything: [`StreamBody`] pulls from the upstream when the
//!    app has taken what there was; there is no task and no channel a stream.
//! 2. Each frame is looked at and passes as it came. Usage that the app did not ask for is kept from it.
//! 3. The terminator is held back until the entry is in the spool.
//! 4. Cancellation: the app goes away, the server drops the body, the ticket in it settles as cancelled and the upstream's
//!    connection closes.
//!
//! A whole reply was read and checked by the try; it is settled before its head goes out.

use std::convert::Infallible;
use std::future::Future;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use actix_web::body::{BodySize, MessageBody};
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpResponse, HttpResponseBuilder};
use bytes::{Bytes, BytesMut};
use hyper::body::{Body, Incoming};
use hyper::header;
use tokio::time::{Instant, Sleep};
use wendor_core::metering::entry::End;
use wendor_core::routing::failure::{Failure, FailureKind};
use wendor_core::wire::chat_completions::error::ErrorBody;
use wendor_core::wire::chat_completions::request::{Delivery, UsageFrame};
use wendor_core::wire::chat_completions::stream::{ChatStream, DONE_FRAME, FrameSays};
use wendor_core::wire::sse::{SseDecoder, SseFrame};

use super::attempt::Along;
use super::exchange::{OpenStream, RejectedReply, WholeReply};
use super::refusal::identify;
use super::settle::{Outcome, Progress};
use super::ticket::Ticket;
use crate::fleet::StreamPermit;
use crate::spool::Written;

/// The head of every answer: who answered, at which revision, after how many attempts.
fn head(status: u16, along: &Along) -> HttpResponseBuilder {
    let mut response = HttpResponse::build(StatusCode::from_u16(status).unwrap_or(StatusCode::OK));
    identify(&mut response, along.ticket.call());
    response.insert_header((HeaderName::from_static("wendor-offer"), along.offer.to_string()));
    let revision = HeaderValue::from(along.ticket.snapshot().revision);
    response.insert_header((HeaderName::from_static("wendor-revision"), revision));
    response.insert_header((HeaderName::from_static("wendor-attempts"), HeaderValue::from(along.ticket.tries())));
    response
}

/// The answer with a whole reply.
pub async fn whole(reply: WholeReply, along: Along) -> HttpResponse {
    let mut response = head(200, &along);
    response.content_type(content_type_of(reply.content_type.as_ref()));
    let end = if reply.facts.is_at_cap { End::OutputCap } else { End::Proper };
    let progress = Progress { usage: reply.facts.usage, output_bytes: reply.facts.output_bytes };
    along.ticket.settle(Outcome::answered(end, progress)).wait().await;
    response.body(reply.bytes)
}

/// The answer with an upstream's rejection of the app's own request, as it came.
pub async fn rejected(reply: RejectedReply, along: Along) -> HttpResponse {
    let mut response = head(reply.status, &along);
    response.content_type(content_type_of(reply.content_type.as_ref()));
    along.ticket.settle(Outcome::rejected(reply.status)).wait().await;
    response.body(reply.bytes)
}

/// Some client libraries take a reply for text when it is not said to be JSON, so that is what is said when nothing is.
fn content_type_of(upstream: Option<&header::HeaderValue>) -> HeaderValue {
    let said = upstream.and_then(|value| HeaderValue::from_bytes(value.as_bytes()).ok());
    said.unwrap_or(HeaderValue::from_static("application/json"))
}

/// The answer with a stream.
#[must_use]
pub fn stream(open: OpenStream, along: Along) -> HttpResponse {
    let mut response = head(200, &along);
    response.content_type("text/event-stream").insert_header((header::CACHE_CONTROL.as_str(), "no-store"));
    response.body(StreamBody::new(open, along))
}

/// A stream on its way from the upstream to the app.
pub struct StreamBody {
    /// What was held until the offer was committed; goes out first.
    first: Bytes,
    upstream: Incoming,
    decoder: SseDecoder,
    seen: ChatStream,
    usage_frame: UsageFrame,
    /// Open until the stream has ended one way or another.
    ticket: Option<Box<Ticket>>,
    phase: Phase,
    clock: StreamClock,
    _permit: StreamPermit,
    open_streams: prometheus::IntGauge,
}

enum Phase {
    /// Events come.
    Flowing,
    /// The end is known: these last bytes go out once the entry is in the spool.
    Settling(Written, Bytes),
    /// Everything has gone out.
    Over,
}

/// The two deadlines of a stream in one timer. It is set again only when it fires, not at every event.
struct StreamClock {
    timer: Pin<Box<Sleep>>,
    last_event: Instant,
    between_events: std::time::Duration,
    whole_until: Instant,
}

impl StreamClock {
    fn due(&self) -> Instant {
        self.whole_until.min(self.last_event + self.between_events)
    }

    /// Ready with the failure when a deadline has passed.
    fn poll_late(&mut self, context: &mut Context<'_>) -> Poll<Failure> {
        loop {
            ready!(self.timer.as_mut().poll(context));
            let due = self.due();
            if due <= Instant::now() {
                let pause = humantime::format_duration(self.between_events);
                let detail = match due == self.whole_until {
                    true => "the whole request took too long".to_owned(),
                    false => format!("no further event within {pause}"),
                };
                return Poll::Ready(Failure::new(FailureKind::TimedOut, detail));
            }
            self.timer.as_mut().reset(due);
        }
    }
}

impl StreamBody {
    fn new(open: OpenStream, along: Along) -> Self {
        let usage_frame = match along.delivery {
            Delivery::Streamed(usage_frame) => usage_frame,
            Delivery::Whole => UsageFrame::Asked,
        };
        let clock = StreamClock {
            timer: Box::pin(tokio::time::sleep_until(Instant::now() + along.deadlines.between_events)),
            last_event: Instant::now(),
            between_events: along.deadlines.between_events,
            whole_until: along.whole_until,
        };
        let open_streams = along.ticket.app().metrics.streams_open.clone();
        open_streams.inc();
        Self {
            first: joined(&open.first),
            upstream: open.body,
            decoder: open.decoder,
            seen: open.seen,
            usage_frame,
            ticket: Some(along.ticket),
            phase: Phase::Flowing,
            clock,
            _permit: along.permit,
            open_streams,
        }
    }

    fn progress(&self) -> Progress {
        Progress { usage: self.seen.usage(), output_bytes: self.seen.output_bytes() }
    }

    /// The stream is over: settles it and holds `last` back until that is in the spool.
    fn end(&mut self, outcome: Outcome, last: Bytes) {
        if let Some(ticket) = self.ticket.take() {
            self.phase = Phase::Settling(ticket.settle(outcome), last);
        }
    }

    fn end_properly(&mut self, terminator: Bytes) {
        let end = if self.seen.is_at_cap() { End::OutputCap } else { End::Proper };
        self.end(Outcome::answered(end, self.progress()), terminator);
    }

    /// The answer broke after its first byte: the app gets an error that its client raises on, and no terminator.
    fn break_off(&mut self, failure: Failure) {
        let message =
            format!("The answer broke off: {} ({}). What came before it is not whole.", failure.kind, failure.detail);
        let error = ErrorBody { message, class: "server_error", param: None, code: "answer_broke_off" };
        self.end(Outcome::cut_off(failure, self.progress()), Bytes::from(error.to_frame()));
    }

    /// The frames that have come and go to the app, in one piece. Stops where the stream ends.
    fn pass_frames(&mut self) -> Bytes {
        let mut passed = Vec::new();
        while let (Some(frame), Phase::Flowing) = (self.decoder.next_frame(), &self.phase) {
            let says = match &frame.data {
                Some(data) => self.seen.observe(data),
                None => Ok(FrameSays::Opening),
            };
            match says {
                Ok(FrameSays::Opening | FrameSays::Answer) => passed.push(frame),
                Ok(FrameSays::UsageOnly) if self.usage_frame == UsageFrame::Asked => passed.push(frame),
                Ok(FrameSays::UsageOnly | FrameSays::Foreign) => {}
                Ok(FrameSays::Done) if self.seen.is_finished() => self.end_properly(frame.raw),
                Ok(FrameSays::Done) => {
                    self.break_off(Failure::new(FailureKind::CutOff, "its stream ended without a finish"))
                }
                Ok(FrameSays::Error(failure)) => self.end(Outcome::cut_off(failure, self.progress()), frame.raw),
                Err(bad) => self.break_off(Failure::new(FailureKind::Malformed, bad.to_string())),
            }
        }
        joined(&passed)
    }

    /// The upstream's body is at its end: without a terminator that is proper only if every choice has finished.
    fn upstream_ended(&mut self) {
        if let Some(frame) = self.decoder.finish() {
            // A last frame whose blank line is missing; it may even be the terminator.
            self.decoder = SseDecoder::default();
            if self.decoder.push(&frame.raw).is_ok() {
                self.first = self.pass_frames();
            }
        }
        if matches!(self.phase, Phase::Flowing) {
            match self.seen.is_finished() {
                true => self.end_properly(Bytes::from_static(DONE_FRAME.as_bytes())),
                false => self.break_off(Failure::new(FailureKind::CutOff, "its stream ended in the middle")),
            }
        }
    }

    /// One read from the upstream, or what a deadline says.
    fn poll_upstream(&mut self, context: &mut Context<'_>) -> Poll<()> {
        match Pin::new(&mut self.upstream).poll_frame(context) {
            Poll::Ready(Some(Ok(frame))) => {
                self.clock.last_event = Instant::now();
                let pushed = frame.data_ref().map_or(Ok(()), |data| self.decoder.push(data));
                if let Err(too_long) = pushed {
                    self.break_off(Failure::new(FailureKind::Malformed, too_long.to_string()));
                }
            }
            Poll::Ready(Some(Err(_))) => {
                self.break_off(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its answer"));
            }
            Poll::Ready(None) => self.upstream_ended(),
            Poll::Pending => {
                let late = ready!(self.clock.poll_late(context));
                self.break_off(late);
            }
        }
        Poll::Ready(())
    }
}

impl MessageBody for StreamBody {
    type Error = Infallible;

    fn size(&self) -> BodySize {
        BodySize::Stream
    }

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Bytes, Infallible>>> {
        let body = &mut *self;
        loop {
            if !body.first.is_empty() {
                return Poll::Ready(Some(Ok(std::mem::take(&mut body.first))));
            }
            match &mut body.phase {
                Phase::Flowing => {
                    let passed = body.pass_frames();
                    if !passed.is_empty() {
                        return Poll::Ready(Some(Ok(passed)));
                    }
                    if matches!(body.phase, Phase::Flowing) {
                        ready!(body.poll_upstream(context));
                    }
                }
                Phase::Settling(written, last) => {
                    ready!(written.poll_written(context));
                    let last = std::mem::take(last);
                    body.phase = Phase::Over;
                    // An upstream's connection can be used again only if its body was read to the end, which has come by now
                    // or is not waited for.
                    let _end = Pin::new(&mut body.upstream).poll_frame(context);
                    return Poll::Ready(Some(Ok(last)));
                }
                Phase::Over => return Poll::Ready(None),
            }
        }
    }
}

impl Drop for StreamBody {
    fn drop(&mut self) {
        self.open_streams.dec();
        if let Some(ticket) = self.ticket.take() {
            // The app went away. Nobody is left to wait for the entry; it is on its way to the spool.
            drop(ticket.settle(Outcome::answered(End::Cancelled, self.progress())));
        }
    }
}

/// Frames one after the other; a single one is passed as the slice it is.
fn joined(frames: &[SseFrame]) -> Bytes {
    match frames {
        [] => Bytes::new(),
        [one] => one.raw.clone(),
        several => {
            let mut all = BytesMut::with_capacity(several.iter().map(|frame| frame.raw.len()).sum());
            several.iter().for_each(|frame| all.extend_from_slice(&frame.raw));
            all.freeze()
        }
    }
}
