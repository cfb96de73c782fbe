//! Step 4, relay: takes an answer that has begun, gives the response that carries it to the app; a break after the first byte
//! ends the stream with an error that the dialect's clients raise on.
//!
//! 1. The handler returns with the head. From then on the body owns everything: [`StreamBody`] pulls from the upstream when the
//!    app has taken what there was; there is no task and no channel a stream.
//! 2. What becomes of each frame is told by [`wendor_wire::passage`]: it passes as it came, or goes through events where app and
//!    upstream speak different dialects.
//! 3. The terminator is held back until the entry is in the spool.
//! 4. Cancellation: the app goes away, the server drops the body, the ticket in it settles as cancelled and the upstream's
//!    connection closes.
//!
//! A whole reply was read and checked by the try; it is settled before its head goes out.

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll, Waker, ready};
use std::time::Duration;

use actix_web::body::{BodySize, MessageBody};
use actix_web::http::StatusCode;
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::{HttpResponse, HttpResponseBuilder};
use bytes::Bytes;
use hyper::body::{Body, Incoming};
use tokio::time::{Instant, Sleep};
use wendor_core::catalog::retirement::Leaving;
use wendor_core::metering::end::End;
use wendor_wire::codec::{Closing, ErrorTold};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::passage::{Passage, Step};
use wendor_wire::refusal_code::RefusalCode;
use wendor_wire::rejection::{Rejection, rejection};
use wendor_wire::sse::Framing;

use super::attempt::{Along, Answering};
use super::exchange::{RejectedReply, Reply};
use super::fault::{Fault, caught_at_once, wanted_by_a_test};
use super::progress::Reach;
use super::refusal::{Caller, identify, remember};
use super::settle::{Outcome, Progress};
use super::stream_clock::{StreamClock, WHOLE_TOO_LONG};
use super::ticket::Ticket;
use super::watch::watch;
use crate::data_plane::opening::OpenStream;
use crate::data_plane::whole_reply::WholeReply;
use crate::spool::Written;

/// The head of every answer: who answered, at which revision, after how many attempts.
fn head(status: u16, along: &Along, note: Option<&str>) -> HttpResponseBuilder {
    let mut response = HttpResponse::build(StatusCode::from_u16(status).unwrap_or(StatusCode::OK));
    identify(&mut response, along.ticket.call());
    response.insert_header((HeaderName::from_static("wendor-offer"), along.offer.as_str()));
    response.insert_header((HeaderName::from_static("wendor-revision"), along.ticket.snapshot().revision_told()));
    // Nearly all are answered by the first, for which nothing has to be made.
    let tries = along.ticket.tries();
    let attempts = if tries == 1 { HeaderValue::from_static("1") } else { HeaderValue::from(tries) };
    response.insert_header((HeaderName::from_static("wendor-attempts"), attempts));
    if let Some(sunset) = along.ticket.account().leaving.as_ref().and_then(Leaving::sunset) {
        response.insert_header((HeaderName::from_static("sunset"), sunset));
    }
    if let Some(notes) = along.ticket.notes(note) {
        response.insert_header((HeaderName::from_static("wendor-notes"), notes));
    }
    response
}

const JSON: HeaderValue = HeaderValue::from_static("application/json");
const PLAIN_TEXT: HeaderValue = HeaderValue::from_static("text/plain; charset=utf-8");

/// What an app is told where its upstream does not say what it used.
const USAGE_UNTOLD: &str = "usage: the upstream does not report it; it is counted by an estimate";

/// The answer with a reply.
pub async fn answer(Answering { reply, along }: Answering) -> HttpResponse {
    match reply {
        Reply::Stream(open) => stream(*open, along),
        Reply::Whole(reply) => whole(reply, along).await,
        Reply::Rejected(reply) => rejected(reply, along).await,
    }
}

/// The answer with a whole reply.
async fn whole(reply: WholeReply, mut along: Along) -> HttpResponse {
    along.ticket.unsayable(reply.facts.left_out);
    let note = reply.note.or(reply.facts.counts.is_none().then_some(USAGE_UNTOLD));
    let mut response = head(200, &along, note);
    // Some client libraries take a reply for text when it is not said to be JSON.
    response.insert_header((header::CONTENT_TYPE, if reply.is_text { PLAIN_TEXT } else { JSON }));
    let end = if reply.facts.is_at_cap { End::OutputCap } else { End::Proper };
    along.ticket.settle(Outcome::Answered(end, Progress::of(reply.facts))).wait().await;
    response.body(reply.bytes)
}

/// The answer with an upstream's rejection of the app's own request.
async fn rejected(reply: RejectedReply, along: Along) -> HttpResponse {
    let to = along.ticket.call().dialect;
    let (status, bytes) = match rejection(reply.dialect, to, reply.status, &reply.bytes, along.ticket.id().as_str()) {
        Rejection::AsItCame => (reply.status, reply.bytes),
        Rejection::Told(told) => (told.status, Bytes::from(dialects::of(to).error(&told))),
    };
    let mut response = head(status, &along, None);
    // Whatever an upstream calls it: a browser must not take it for a page.
    response.insert_header((header::CONTENT_TYPE, JSON));
    if status >= 500 {
        response.insert_header(("x-should-retry", "false"));
    }
    along.ticket.settle(Outcome::Rejected(reply.status, reply.kind)).wait().await;
    response.body(bytes)
}

/// What the head of every stream says.
pub(super) fn as_stream(response: &mut HttpResponseBuilder, dialect: Dialect) {
    let content_type = match dialects::of(dialect).framing() {
        Framing::Events => "text/event-stream",
        Framing::Lines => "application/x-ndjson",
    };
    response.insert_header((header::CONTENT_TYPE, HeaderValue::from_static(content_type)));
    response.insert_header((header::CACHE_CONTROL, HeaderValue::from_static("no-store")));
}

/// The answer with a stream.
fn stream(open: OpenStream, along: Along) -> HttpResponse {
    // What this answer will tell is known at its end; what its offer told last is known now.
    let is_untold = along.ticket.app().fleet.offer(&along.offer).keeps_usage();
    let mut response = head(200, &along, is_untold.then_some(USAGE_UNTOLD));
    as_stream(&mut response, along.ticket.call().dialect);
    response.body(body(open, along))
}

/// The body of a stream that has begun.
pub(super) fn body(open: OpenStream, along: Along) -> StreamBody {
    let stream = Rc::new(RefCell::new(Stream::new(open, along)));
    watch(&stream);
    StreamBody(stream)
}

/// A stream on its way from the upstream to the app: what the server polls. Its worker looks after it beside ([`super::watch`]), since
/// nobody polls what an app does not take.
pub struct StreamBody(Rc<RefCell<Stream>>);

/// A stream on its way from the upstream to the app.
pub(super) struct Stream {
    /// What was held until the offer was committed; goes out first.
    first: Bytes,
    upstream: Option<Incoming>,
    passage: Passage,
    /// Open until the stream has ended one way or another.
    ticket: Option<Box<Ticket>>,
    phase: Phase,
    clock: StreamClock,
    /// Since when something lies there that the app has not taken; `None` while it has taken all that came.
    untaken_since: Option<Instant>,
    /// Who waits for what comes next: to be woken where it does not come from the upstream.
    waker: Option<Waker>,
    open_streams: prometheus::IntGauge,
    /// Whether the app has lowered deadlines of its stage.
    is_lowered: bool,
}

enum Phase {
    /// Events come.
    Flowing,
    /// The end is known: these last bytes go out once the entry is in the spool.
    Settling(Written, Bytes, Closing),
    /// The error must have left before the connection breaks.
    Lingering(Pin<Box<Sleep>>),
    /// Everything has gone out.
    Over,
}

/// The connection breaks on purpose: some clients take note of nothing else.
#[derive(Clone, Copy, Debug, thiserror::Error)]
#[error("the answer broke off")]
pub struct BrokenOff;

/// Between the last frame and the break.
pub(super) const LINGER: Duration = Duration::from_millis(50);

/// An app that has taken nothing for so long when the time of its request is over is what it took too long for.
const NOT_TAKEN: Duration = Duration::from_secs(1);

impl Stream {
    fn new(open: OpenStream, along: Along) -> Self {
        let now = Instant::now();
        let heartbeat = dialects::of(along.ticket.call().dialect).heartbeat();
        let clock = StreamClock::begin(now, heartbeat, along.deadlines.between_events, along.whole_until);
        let open_streams = along.ticket.app().metrics.streams_open.clone();
        open_streams.inc();
        let mut body = Self {
            first: open.first,
            upstream: open.body,
            passage: open.passage,
            ticket: Some(along.ticket),
            phase: Phase::Flowing,
            clock,
            untaken_since: Some(now),
            waker: None,
            open_streams,
            is_lowered: along.is_lowered,
        };
        if let Some(last) = open.last {
            body.end_properly(last);
        }
        body
    }

    /// The stream is over: settles it and holds `last` back until that is in the spool.
    fn end(&mut self, outcome: Outcome, last: Bytes, closing: Closing) {
        if let Some(ticket) = self.ticket.take() {
            self.phase = Phase::Settling(ticket.settle(outcome), last, closing);
        }
    }

    fn end_properly(&mut self, last: Bytes) {
        let facts = self.passage.facts();
        if let Some(ticket) = &mut self.ticket {
            ticket.unsayable(facts.left_out);
        }
        let end = if facts.is_at_cap { End::OutputCap } else { End::Proper };
        self.end(Outcome::Answered(end, Progress::of(facts)), last, Closing::Clean);
    }

    /// The answer broke after its first byte: the app gets an error that its client raises on, and no terminator. The upstream's own
    /// words go on to an app of the same dialect.
    fn break_off(&mut self, mut failure: Failure, own: Option<Bytes>) {
        // That an app waits for less than its stage would is not the offer's failure.
        failure.is_of_request |= failure.kind == FailureKind::TimedOut && self.is_lowered;
        let error = self.told(502, RefusalCode::AnswerBrokeOff, &format!("{} ({})", failure.kind, failure.detail));
        let (frames, closing) = self.passage.broken_off(&error);
        let outcome = Outcome::CutOff(failure, Progress::of(self.passage.facts()));
        self.end(outcome, own.unwrap_or(frames), closing);
    }

    /// The error by which an answer breaks off.
    fn told(&self, status: u16, code: RefusalCode, why: &str) -> ErrorTold {
        let page = self.ticket.as_ref().map(|ticket| ticket.call().page_of(code));
        let more = page.map(|page| format!(" More: {page}")).unwrap_or_default();
        ErrorTold {
            status,
            class: "server_error",
            code: code.to_string(),
            param: None,
            message: format!("The answer broke off: {why}. What came before it is incomplete.{more}"),
            request: self.ticket.as_ref().map(|ticket| ticket.id().to_string()).unwrap_or_default(),
        }
    }

    /// There was a panic in the middle of the answer: it breaks off. What the panic left of the passage is used once more only for the
    /// frames of the error.
    fn fault(&mut self) {
        if let Some(ticket) = &self.ticket {
            let account = ticket.account();
            let caller =
                Caller { key: Some(account.key.id.clone()), route: Some(account.route.to_string()), wanted: None };
            remember(&account.app, &account.call, caller, RefusalCode::InternalFault, None);
        }
        self.cut_short(RefusalCode::InternalFault, "Wendor itself failed");
    }

    /// The answer ends before its end, by no fault of app or upstream.
    fn cut_short(&mut self, code: RefusalCode, why: &str) {
        self.upstream = None;
        let error = self.told(if code == RefusalCode::InternalFault { 500 } else { 503 }, code, why);
        let passage = &mut self.passage;
        let left = caught_at_once(|| (passage.broken_off(&error), Progress::of(passage.facts())));
        let ((frames, closing), progress) =
            left.unwrap_or_else(|Fault| ((Bytes::new(), Closing::Broken), Progress::default()));
        self.phase = Phase::Over;
        if let Some(ticket) = self.ticket.take() {
            self.phase = Phase::Settling(ticket.settle(Outcome::Fault(progress)), frames, closing);
        }
    }

    /// The run that the app says the request belongs to.
    fn run(&self) -> Option<&str> {
        self.ticket.as_ref().and_then(|ticket| ticket.account().marks.run.as_deref())
    }

    /// What a step of the passage asks for. Gives what is to be sent now, if anything.
    fn follow(&mut self, step: Step) -> Option<Bytes> {
        match step {
            Step::More => None,
            Step::Send(bytes) => Some(bytes),
            Step::End(last) => {
                self.end_properly(last);
                None
            }
            Step::Broken(failure, own) => {
                self.break_off(failure, own);
                None
            }
        }
    }

    /// One read from the upstream, or what a deadline says. Ready with what is to be sent, which may be nothing.
    fn poll_upstream(&mut self, context: &mut Context<'_>) -> Poll<Option<Bytes>> {
        let read = match &mut self.upstream {
            Some(upstream) => Pin::new(upstream).poll_frame(context),
            None => Poll::Ready(None),
        };
        let broken = match read {
            Poll::Ready(Some(Ok(frame))) => {
                self.clock.heard(Instant::now());
                frame.data_ref().map_or(Ok(()), |data| self.passage.push(data)).err()
            }
            Poll::Ready(Some(Err(_))) => {
                Some(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its answer"))
            }
            Poll::Ready(None) => {
                let step = self.passage.upstream_ended();
                return Poll::Ready(self.follow(step));
            }
            Poll::Pending => match ready!(self.clock.poll_due(context)) {
                Ok(heartbeat) => return Poll::Ready(Some(Bytes::from_static(heartbeat.as_bytes()))),
                Err(late) => Some(late),
            },
        };
        if let Some(failure) = broken {
            self.break_off(failure, None);
        }
        Poll::Ready(None)
    }

    /// The last bytes, once the entry is in the spool.
    fn poll_last(&mut self, context: &mut Context<'_>) -> Poll<Bytes> {
        let Phase::Settling(written, last, closing) = &mut self.phase else { return Poll::Ready(Bytes::new()) };
        ready!(written.poll_written(context));
        let last = std::mem::take(last);
        self.phase = match closing {
            Closing::Clean => Phase::Over,
            Closing::Broken => Phase::Lingering(Box::pin(tokio::time::sleep(LINGER))),
        };
        // An upstream's connection can be used again only if its body was read to the end, which has come by now or is not waited for.
        if let Some(upstream) = &mut self.upstream {
            let _end = Pin::new(upstream).poll_frame(context);
        }
        Poll::Ready(last)
    }
}

impl MessageBody for StreamBody {
    type Error = BrokenOff;

    fn size(&self) -> BodySize {
        BodySize::Stream
    }

    fn poll_next(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Bytes, BrokenOff>>> {
        let stream = &mut *self.0.borrow_mut();
        let sent = match caught_at_once(|| stream.poll_sent(context)) {
            Ok(sent) => sent,
            Err(Fault) => {
                stream.fault();
                stream.poll_sent(context)
            }
        };
        // The server asks for more once what it was given has gone out.
        stream.untaken_since = if sent.is_pending() { None } else { Some(Instant::now()) };
        if sent.is_pending() && !stream.waker.as_ref().is_some_and(|waker| waker.will_wake(context.waker())) {
            stream.waker = Some(context.waker().clone());
        }
        sent
    }
}

impl Stream {
    /// Looks whether its time is over, whoever polls it or not. Says whether it is still under way.
    pub(super) fn look(&mut self, now: Instant) -> bool {
        let is_under_way = self.is_in_time(now);
        if !is_under_way && let Some(waker) = self.waker.take() {
            waker.wake();
        }
        is_under_way
    }

    fn is_in_time(&mut self, now: Instant) -> bool {
        let Some(ticket) = &self.ticket else { return false };
        let untaken = self.untaken_since.map_or(Duration::ZERO, |since| now.saturating_duration_since(since));
        if ticket.app().stopping.is_over() {
            self.cut_short(RefusalCode::Stopped, "the service stops");
            return false;
        }
        let is_over = self.clock.is_over(now);
        if untaken >= ticket.app().settings.timing.take || (is_over && untaken >= NOT_TAKEN) {
            self.upstream = None;
            let error = self.told(408, RefusalCode::AnswerNotTaken, "the app did not read it in time");
            let (frames, closing) = self.passage.broken_off(&error);
            self.end(Outcome::NotTaken(Progress::of(self.passage.facts())), frames, closing);
            return false;
        }
        // Looked at twice a second, that is often enough for whoever watches, and costs no event anything.
        let output = Progress::of(self.passage.facts()).used(Reach::Part, 0).tokens;
        ticket.account().how_far.answered(output.output);
        if is_over {
            let failure = Failure::new(FailureKind::TimedOut, WHOLE_TOO_LONG);
            self.break_off(failure, None);
            return false;
        }
        true
    }

    /// The next bytes that go to the app.
    fn poll_sent(&mut self, context: &mut Context<'_>) -> Poll<Option<Result<Bytes, BrokenOff>>> {
        let body = self;
        loop {
            if !body.first.is_empty() {
                return Poll::Ready(Some(Ok(std::mem::take(&mut body.first))));
            }
            let sent = match &mut body.phase {
                Phase::Flowing => {
                    wanted_by_a_test("fault-in-relay", body.run());
                    let step = body.passage.step();
                    match body.follow(step) {
                        None if matches!(body.phase, Phase::Flowing) => ready!(body.poll_upstream(context)),
                        sent => sent,
                    }
                }
                Phase::Settling(..) => Some(ready!(body.poll_last(context))),
                Phase::Lingering(timer) => {
                    ready!(timer.as_mut().poll(context));
                    body.phase = Phase::Over;
                    return Poll::Ready(Some(Err(BrokenOff)));
                }
                Phase::Over => return Poll::Ready(None),
            };
            if let Some(bytes) = sent.filter(|bytes| !bytes.is_empty()) {
                return Poll::Ready(Some(Ok(bytes)));
            }
        }
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        self.open_streams.dec();
        if let Some(ticket) = self.ticket.take() {
            // The app went away. Nobody is left to wait for the entry; it is on its way to the spool.
            drop(ticket.settle(Outcome::Cancelled(Progress::of(self.passage.facts()))));
        }
    }
}
