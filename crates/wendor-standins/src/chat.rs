//! Answers in every dialect, whole and streamed, with the fault that is asked for.
//!
//! A streamed answer is a body that makes each frame when it is due: no task and no channel a stream, so that a stand-in is not
//! what a benchmark measures. Being dropped before its end means that the client left.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use chrono::DateTime;
use hyper::body::{Body, Frame};
use hyper::{Response, header};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use tokio::time::{Instant, Sleep};
use wendor_core::catalog::upstream::Dialect;
use wendor_core::wire::asked::AppRequest;
use wendor_core::wire::codec::{self, AnswerHead, ErrorTold, Framing, StreamWriter};
use wendor_core::wire::conversation::answer::Answer;
use wendor_core::wire::conversation::event::Event;
use wendor_core::wire::conversation::{Conversation, Delivery, PartKind, UsageFrame};
use wendor_core::wire::listing::{Listed, shape};
use wendor_core::wire::seal::SealDomain;

use crate::fault::Fault;
use crate::manners::Manners;
use crate::memory::{Outcome, Profile, Served, Shared};
use crate::script::{self, Script};

/// Between the last frame and a cut.
const LINGER: Duration = Duration::from_millis(30);

/// A second of the made-up calendar in which all answers are created.
const CREATED: i64 = 1_790_000_000;

/// An answer's body.
pub enum AnswerBody {
    /// Known in advance.
    Whole(Option<Bytes>),
    /// Made frame by frame.
    Stream(Box<TokenStream>),
    /// Known in advance, but accounted for once it was taken.
    Accounted(Option<Bytes>, Account),
}

impl AnswerBody {
    pub(crate) fn whole(bytes: impl Into<Bytes>) -> Self {
        Self::Whole(Some(bytes.into()))
    }
}

/// Accounts for an answer once: as served when told so, as left by the client when dropped before.
pub struct Account {
    shared: Arc<Shared>,
    served: Option<Served>,
}

impl Account {
    /// The account of an answer that takes so many tokens in, and out once it is taken whole.
    pub(crate) fn open(shared: &Arc<Shared>, request: Option<String>, (input, output): (u64, u64)) -> Self {
        let served = Served {
            request,
            outcome: Outcome::ClientLeft,
            input_tokens: input,
            output_tokens: output,
            ended_at: SystemTime::UNIX_EPOCH,
        };
        Self { shared: shared.clone(), served: Some(served) }
    }

    fn close(&mut self, outcome: Outcome, output_tokens: u64) {
        if let Some(served) = self.served.take() {
            self.shared.ended(Served { outcome, output_tokens, ended_at: SystemTime::now(), ..served });
        }
    }
}

impl Drop for Account {
    fn drop(&mut self) {
        self.close(Outcome::ClientLeft, 0);
    }
}

/// Answers a conversation.
///
/// # Errors
/// When the fault is to break the connection.
pub(crate) async fn complete(
    shared: Arc<Shared>,
    (asked, conversation): (AppRequest, Conversation),
    request: Option<String>,
    fault: Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let dialect = shared.profile.dialect;
    if !script::knows_its_thinking(&shared.profile, &conversation) {
        return Ok(error(dialect, 400, "invalid_seal", "This thinking was sealed by somebody else."));
    }
    let manners = shared.manners();
    let conversation = ignoring(&manners, conversation);
    let script = Script::of(&shared.profile, &conversation).with(&manners, &conversation);
    if manners.load_ms > 0 && !std::mem::replace(&mut shared.state().has_loaded, true) {
        tokio::time::sleep(Duration::from_millis(manners.load_ms)).await;
    }
    let mut account = Account::open(&shared, request, (script.input_tokens, 0));
    if let Some(shown) = fault_at_once(dialect, &fault) {
        account.close(Outcome::Fault, 0);
        return Ok(shown);
    }
    if fault == Fault::StallBeforeFirst {
        std::future::pending::<()>().await;
    }
    let (from, to) = shared.profile.first_token_ms;
    let wait = Duration::from_millis(SmallRng::seed_from_u64(script.seed).random_range(from..=to.max(from)));
    let head = head_of(&asked, &conversation, &script);
    if asked.delivery != Delivery::Whole && !manners.buffers {
        let mut stream = TokenStream::new(dialect, (script, head), account, (wait, fault));
        stream.manners = manners;
        return Ok(streamed(dialect, stream));
    }
    let pieces = u32::try_from(script.output_tokens).unwrap_or(0);
    let typing = match shared.profile.tokens_per_second {
        0 => Duration::ZERO,
        rate => Duration::from_secs(1) * pieces / rate,
    };
    if wait + typing > Duration::ZERO {
        tokio::time::sleep(wait + typing).await;
    }
    if asked.delivery != Delivery::Whole {
        let mut stream = TokenStream::new(dialect, (script, head), account, (Duration::ZERO, fault));
        let whole: Vec<Bytes> = std::iter::from_fn(|| stream.frame()).collect();
        let body = AnswerBody::Whole(Some(Bytes::from(whole.concat())));
        return Ok(of_kind(dialect, body));
    }
    let events = script.events.iter().cloned().chain([Event::Usage(script.usage())]);
    let body = codec::of(dialect).write_whole(&Answer::of(events), &head);
    let body = body.map_err(|failure| std::io::Error::other(failure.detail))?;
    whole(Bytes::from(body), script.output_tokens, account, &fault)
}

/// The conversation without what this server does not look at.
fn ignoring(manners: &Manners, mut conversation: Conversation) -> Conversation {
    if manners.ignores_tools {
        conversation.tools.clear();
    }
    if manners.ignores_schema {
        conversation.format = None;
    }
    if manners.ignores_images {
        for turn in &mut conversation.turns {
            turn.parts.retain(|part| !matches!(part.kind, PartKind::Image(_)));
        }
    }
    conversation
}

fn head_of(asked: &AppRequest, conversation: &Conversation, script: &Script) -> AnswerHead {
    AnswerHead {
        request: format!("{:016x}", script.seed),
        model: asked.route.clone(),
        at: DateTime::from_timestamp(CREATED, 0).unwrap_or_default(),
        usage_frame: match asked.delivery {
            Delivery::Streamed(usage) => usage,
            Delivery::Whole => UsageFrame::Asked,
        },
        functions: conversation.functions,
        input_estimate: script.input_tokens,
        seals: SealDomain::unmarked(),
    }
}

/// What is shown instead of an answer, whatever was asked.
pub(crate) fn fault_at_once(dialect: Dialect, fault: &Fault) -> Option<Response<AnswerBody>> {
    match fault {
        Fault::Status { status, retry_after } => Some(status_fault(dialect, *status, *retry_after)),
        Fault::Garbage => Some(Response::new(AnswerBody::whole("<html>the harbour office is closed</html>"))),
        Fault::None
        | Fault::Refuse
        | Fault::StallBeforeFirst
        | Fault::StallAfterRole
        | Fault::StallMidway
        | Fault::CutMidway
        | Fault::EndMidway
        | Fault::GarbageMidway => None,
    }
}

/// A whole reply with the fault that is asked for.
pub(crate) fn whole(
    body: Bytes,
    output_tokens: u64,
    mut account: Account,
    fault: &Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let body = match fault {
        Fault::CutMidway | Fault::StallMidway | Fault::StallAfterRole => {
            account.close(Outcome::Fault, 0);
            return Err(std::io::Error::other("cut as told"));
        }
        Fault::EndMidway | Fault::GarbageMidway => {
            account.close(Outcome::Fault, 0);
            AnswerBody::whole(body.slice(..body.len() / 2))
        }
        Fault::None | Fault::Refuse | Fault::Status { .. } | Fault::StallBeforeFirst | Fault::Garbage => {
            if let Some(served) = &mut account.served {
                served.output_tokens = output_tokens;
            }
            AnswerBody::Accounted(Some(body), account)
        }
    };
    Ok(json(body))
}

pub(crate) fn json(body: AnswerBody) -> Response<AnswerBody> {
    let mut response = Response::new(body);
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/json"));
    response
}

fn streamed(dialect: Dialect, stream: TokenStream) -> Response<AnswerBody> {
    of_kind(dialect, AnswerBody::Stream(Box::new(stream)))
}

fn of_kind(dialect: Dialect, body: AnswerBody) -> Response<AnswerBody> {
    let mut response = Response::new(body);
    let kind = match codec::of(dialect).framing() {
        Framing::Events => "text/event-stream",
        Framing::Lines => "application/x-ndjson",
    };
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static(kind));
    response
}

fn status_fault(dialect: Dialect, status: u16, retry_after: Option<u32>) -> Response<AnswerBody> {
    let mut response = error(dialect, status, "stand_in_fault", "This stand-in was told to fail.");
    if let Some(seconds) = retry_after {
        response.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from(seconds));
    }
    response
}

/// An error in the dialect's form.
pub(crate) fn error(dialect: Dialect, status: u16, code: &str, message: &str) -> Response<AnswerBody> {
    let told = ErrorTold {
        status,
        class: if status < 500 { "invalid_request_error" } else { "server_error" },
        code: code.to_owned(),
        param: None,
        message: message.to_owned(),
        request: "stand-in".to_owned(),
    };
    let mut response = json(AnswerBody::whole(codec::of(dialect).error(&told)));
    *response.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    response
}

/// The listing of models.
pub(crate) fn models(profile: &Profile, models: &[String]) -> String {
    let made_at = DateTime::from_timestamp(CREATED, 0).unwrap_or_default();
    let listed = |name| Listed { name, made_at, context_window: None, output_cap: None };
    let listed: Vec<Listed<'_>> = models.iter().map(|name| listed(name.as_str())).collect();
    shape(profile.dialect, &listed)
}

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
    manners: Manners,
}

impl TokenStream {
    fn new(
        dialect: Dialect,
        (script, head): (Script, AnswerHead),
        account: Account,
        (wait, fault): (Duration, Fault),
    ) -> Self {
        let due = Instant::now() + wait;
        let between = match account.shared.profile.tokens_per_second {
            0 => Duration::ZERO,
            rate => Duration::from_secs(1) / rate,
        };
        let timer = Box::pin(tokio::time::sleep_until(due));
        let writer = codec::of(dialect).writer(head);
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
        }
    }

    /// The next frame, or `None` when the answer is complete. One that says nothing by itself is empty.
    fn frame(&mut self) -> Option<Bytes> {
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
                let terminator = codec::of(self.dialect).reader().terminator();
                if self.manners.no_terminator && !terminator.is_empty() {
                    let kept = out.strip_suffix(terminator.as_bytes()).map_or(out.len(), <[u8]>::len);
                    out.truncate(kept);
                }
            }
            None => return None,
        }
        Some(Bytes::from(out))
    }

    fn is_midway(&self) -> bool {
        self.made > self.script.events.len() / 2 + 1
    }

    fn garbage(&self) -> Bytes {
        match codec::of(self.dialect).framing() {
            Framing::Events => Bytes::from_static(b"data: {\"foghorn\":\n\n"),
            Framing::Lines => Bytes::from_static(b"{\"foghorn\":\n"),
        }
    }

    /// What comes before any piece of the answer: a role, an empty piece.
    fn opening(&mut self) -> Bytes {
        let mut out = Vec::new();
        let _said = self.writer.write(&Event::Text { choice: 0, text: String::new() }, &mut out);
        Bytes::from(out)
    }

    /// What the fault does at this point of the answer.
    fn misbehave(&mut self) -> Option<Poll<Option<std::io::Result<Frame<Bytes>>>>> {
        let is_midway = self.is_midway();
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

    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Option<std::io::Result<Frame<Bytes>>>> {
        if self.fault == Fault::CutMidway && self.is_midway() && !self.lingered {
            // What was made before the cut has to leave before the connection breaks.
            self.lingered = true;
            self.due = Instant::now() + LINGER;
            self.timer.as_mut().reset(self.due);
        }
        if self.lingered && self.due > Instant::now() {
            ready!(self.timer.as_mut().poll(context));
        }
        if let Some(shown) = self.misbehave() {
            return shown;
        }
        loop {
            if self.due > Instant::now() {
                ready!(self.timer.as_mut().poll(context));
            }
            let frame = self.frame();
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

impl Body for AnswerBody {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<std::io::Result<Frame<Bytes>>>> {
        match &mut *self {
            Self::Whole(bytes) => Poll::Ready(bytes.take().map(|bytes| Ok(Frame::data(bytes)))),
            Self::Accounted(bytes, account) => {
                let tokens = account.served.as_ref().map_or(0, |served| served.output_tokens);
                account.close(Outcome::Served, tokens);
                Poll::Ready(bytes.take().map(|bytes| Ok(Frame::data(bytes))))
            }
            Self::Stream(stream) => stream.poll(context),
        }
    }

    fn is_end_stream(&self) -> bool {
        matches!(self, Self::Whole(None) | Self::Accounted(None, _))
    }

    fn size_hint(&self) -> hyper::body::SizeHint {
        match self {
            Self::Whole(bytes) | Self::Accounted(bytes, _) => {
                hyper::body::SizeHint::with_exact(bytes.as_ref().map_or(0, |bytes| bytes.len() as u64))
            }
            Self::Stream(_) => hyper::body::SizeHint::default(),
        }
    }
}
