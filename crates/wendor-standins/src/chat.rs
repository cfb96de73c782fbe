//! Answers in every dialect, whole and streamed, with the fault that is asked for.
//!
//! A body that is dropped before it was taken means that the client left: its [`Account`] sees to that.

use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use chrono::DateTime;
use hyper::body::{Body, Frame};
use hyper::{Response, header};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::{AnswerHead, ErrorTold};
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::event::Event;
use wendor_wire::conversation::{Conversation, Delivery, PartKind, Role, UsageFrame};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::listing::{Listed, shape};
use wendor_wire::seal::SealDomain;
use wendor_wire::sse::Framing;

use crate::fault::Fault;
use crate::manners::Manners;
use crate::memory::{Outcome, Profile, Served, Shared};
use crate::script::{self, Script};
use crate::stream::TokenStream;

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
    pub(crate) shared: Arc<Shared>,
    served: Option<Served>,
}

impl Account {
    /// The account of an answer that takes so many tokens in, and out once it is taken whole.
    pub(crate) fn open(shared: &Arc<Shared>, request: Option<String>, input: u64, output: u64) -> Self {
        let served = Served {
            request,
            outcome: Outcome::ClientLeft,
            input_tokens: input,
            output_tokens: output,
            ended_at: SystemTime::UNIX_EPOCH,
        };
        Self { shared: shared.clone(), served: Some(served) }
    }

    pub(crate) fn close(&mut self, outcome: Outcome, output_tokens: u64) {
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
    asked: AppRequest,
    conversation: Conversation,
    request: Option<String>,
    fault: Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let dialect = shared.profile.dialect;
    let manners = shared.manners();
    if let Some(refused) = refused(&shared, &manners, &conversation) {
        return Ok(refused);
    }
    let mut conversation = ignoring(&manners, conversation);
    if is_limit_unknown(&manners, &shared) {
        conversation.output_limit = None;
    }
    let script = Script::of(&shared.profile, &conversation).with(&manners, &conversation);
    if manners.load_ms > 0 && !std::mem::replace(&mut shared.state().has_loaded, true) {
        tokio::time::sleep(Duration::from_millis(manners.load_ms)).await;
    }
    if let Some(shown) = fault_at_once(dialect, &fault) {
        // Who refuses at once has read nothing.
        Account::open(&shared, request, 0, 0).close(Outcome::Fault, 0);
        return Ok(shown);
    }
    let account = Account::open(&shared, request, script.input_tokens, 0);
    if fault == Fault::StallBeforeFirst {
        std::future::pending::<()>().await;
    }
    let (from, to) = shared.profile.first_token_ms;
    let wait = Duration::from_millis(SmallRng::seed_from_u64(script.seed).random_range(from..=to.max(from)));
    let wait = wait + late(&fault);
    let head = head_of(&asked, &conversation, &script);
    if asked.delivery != Delivery::Whole && !manners.buffers {
        let stream = TokenStream::new(dialect, script, head, account, wait, fault);
        return Ok(streamed(dialect, stream, manners));
    }
    let typing = typing(&shared.profile, &script);
    if wait + typing > Duration::ZERO {
        tokio::time::sleep(wait + typing).await;
    }
    if asked.delivery != Delivery::Whole {
        let mut stream = TokenStream::new(dialect, script, head, account, Duration::ZERO, fault);
        let whole: Vec<Bytes> = std::iter::from_fn(|| stream.frame()).collect();
        let body = AnswerBody::Whole(Some(Bytes::from(whole.concat())));
        return Ok(of_kind(dialect, body));
    }
    in_one_piece(dialect, &manners, &script, &head, account, &fault)
}

/// How long it takes to make an answer.
fn typing(profile: &Profile, script: &Script) -> Duration {
    let pieces = u32::try_from(script.output_tokens).unwrap_or(0);
    match profile.tokens_per_second {
        0 => Duration::ZERO,
        rate => Duration::from_secs(1) * pieces / rate,
    }
}

/// A whole answer, in the manners of its server.
fn in_one_piece(
    dialect: Dialect,
    manners: &Manners,
    script: &Script,
    head: &AnswerHead,
    account: Account,
    fault: &Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let events = script.events.iter().cloned().chain([Event::Usage(script.usage())]);
    let body = dialects::of(dialect).write_whole(&Answer::of(events), head);
    let body = body.map_err(|failure| std::io::Error::other(failure.detail))?;
    let body = match &manners.says_error {
        Some(message) => serde_json::json!({ "error": { "message": message, "type": "server_error" } }).to_string(),
        None => body,
    };
    if !manners.compresses {
        return whole(Bytes::from(body), script.output_tokens, account, fault);
    }
    let mut response = whole(compressed(body.as_bytes())?, script.output_tokens, account, fault)?;
    response.headers_mut().insert(header::CONTENT_ENCODING, header::HeaderValue::from_static("gzip"));
    Ok(response)
}

/// What of a conversation it does not take.
fn refused(shared: &Shared, manners: &Manners, conversation: &Conversation) -> Option<Response<AnswerBody>> {
    let dialect = shared.profile.dialect;
    if !script::knows_its_thinking(&shared.profile, conversation) {
        return Some(error(dialect, 400, "invalid_seal", "This thinking was sealed by somebody else."));
    }
    if conversation.turns.iter().all(|turn| turn.parts.is_empty()) {
        return Some(error(dialect, 400, "invalid_value", "There has to be at least one message with content."));
    }
    let has_developer = conversation.turns.iter().any(|turn| turn.role == Role::Developer);
    let refuses = manners.no_developer && has_developer;
    refuses.then(|| error(dialect, 400, "invalid_value", "Roles are system, user, assistant and tool."))
}

fn compressed(body: &[u8]) -> std::io::Result<Bytes> {
    use std::io::Write;
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    writer.write_all(body)?;
    writer.finish().map(Bytes::from)
}

/// How much later a first token comes.
fn late(fault: &Fault) -> Duration {
    match fault {
        Fault::Slow { millis, percent } if rand::random_range(0..100) < *percent => {
            Duration::from_millis((*millis).into())
        }
        Fault::Slow { .. }
        | Fault::None
        | Fault::Refuse
        | Fault::Status { .. }
        | Fault::Speechless { .. }
        | Fault::StallBeforeFirst
        | Fault::StallAfterRole
        | Fault::StallMidway
        | Fault::CutMidway
        | Fault::EndMidway
        | Fault::Garbage
        | Fault::GarbageMidway => Duration::ZERO,
    }
}

/// Whether the limit of the question that came last has a name that this server does not know.
fn is_limit_unknown(manners: &Manners, shared: &Shared) -> bool {
    let Some(unknown) = manners.ignores_limit.as_deref() else { return false };
    let state = shared.state();
    let body = state.last_seen.as_ref().map(|seen| String::from_utf8_lossy(&seen.body)).unwrap_or_default();
    unknown == "any" || body.contains(&format!("\"{unknown}\""))
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
        estimates_usage: false,
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
        Fault::Speechless { status } => {
            let mut response = json(AnswerBody::whole(""));
            *response.status_mut() = hyper::StatusCode::from_u16(*status).unwrap_or_default();
            Some(response)
        }
        Fault::Garbage => Some(Response::new(AnswerBody::whole("<html>the harbour office is closed</html>"))),
        Fault::None
        | Fault::Refuse
        | Fault::Slow { .. }
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
        Fault::None
        | Fault::Refuse
        | Fault::Slow { .. }
        | Fault::Status { .. }
        | Fault::Speechless { .. }
        | Fault::StallBeforeFirst
        | Fault::Garbage => {
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

fn streamed(dialect: Dialect, mut stream: TokenStream, manners: Manners) -> Response<AnswerBody> {
    let kind = manners.stream_type.as_ref().and_then(|kind| kind.parse().ok());
    stream.manners = manners;
    let mut response = of_kind(dialect, AnswerBody::Stream(Box::new(stream)));
    if let Some(kind) = kind {
        response.headers_mut().insert(header::CONTENT_TYPE, kind);
    }
    response
}

fn of_kind(dialect: Dialect, body: AnswerBody) -> Response<AnswerBody> {
    let mut response = Response::new(body);
    let kind = match dialects::of(dialect).framing() {
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
    let error = ErrorTold {
        status,
        class: if status < 500 { "invalid_request_error" } else { "server_error" },
        code: code.to_owned(),
        param: None,
        message: message.to_owned(),
        request: "stand-in".to_owned(),
    };
    let mut response = json(AnswerBody::whole(dialects::of(dialect).error(&error)));
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
