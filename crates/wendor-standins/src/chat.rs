//! Replies in the dialect of `POST /v1/chat/completions`, whole and streamed, with the fault that is asked for.
//!
//! A streamed answer is a body that makes each frame when it is due: no task and no channel a stream, so that a stand-in is not
//! what a benchmark measures. Being dropped before its end means that the client left.

use std::future::Future;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use hyper::body::{Body, Frame};
use hyper::{Response, header};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use serde_json::{Value, json};
use tokio::time::{Instant, Sleep};

use crate::fault::Fault;
use crate::memory::{Outcome, Profile, Served, Shared};
use crate::text;

/// Input tokens of a conversation's frame, beside its words.
const TOKENS_A_MESSAGE: u64 = 4;

/// Between the last frame and a cut.
const LINGER: Duration = Duration::from_millis(30);

/// A second of the made-up calendar in which all answers are created.
const CREATED: u64 = 1_790_000_000;

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

/// What a request asks for.
struct Asked {
    model: String,
    streamed: bool,
    with_usage: bool,
    input_tokens: u64,
    pieces: Vec<String>,
    at_cap: bool,
    seed: u64,
}

impl Asked {
    fn read(profile: &Profile, body: &[u8]) -> Option<Self> {
        let body: Value = serde_json::from_slice(body).ok()?;
        let messages = body.get("messages")?.as_array()?;
        let words = |message: &Value| {
            message.get("content").map(ToString::to_string).unwrap_or_default().split_whitespace().count()
        };
        let input_tokens =
            messages.iter().map(|message| u64::try_from(words(message)).unwrap_or(0) + TOKENS_A_MESSAGE).sum();
        let mut hasher = DefaultHasher::new();
        (body.get("messages").map(Value::to_string), profile.seed).hash(&mut hasher);
        let seed = hasher.finish();
        let (from, to) = profile.answer_tokens;
        let wished = SmallRng::seed_from_u64(seed).random_range(from..=to.max(from));
        let limit = ["max_completion_tokens", "max_tokens"].iter().find_map(|name| body.get(name)?.as_u64());
        let limit = limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX);
        let pieces = text::pieces(seed, wished);
        Some(Self {
            model: body.get("model")?.as_str()?.to_owned(),
            streamed: body.get("stream").and_then(Value::as_bool).unwrap_or(false),
            with_usage: body.pointer("/stream_options/include_usage").and_then(Value::as_bool).unwrap_or(false),
            input_tokens,
            at_cap: limit < pieces.len(),
            pieces: pieces.into_iter().take(limit).collect(),
            seed,
        })
    }

    fn output_tokens(&self) -> u64 {
        u64::try_from(self.pieces.len()).unwrap_or(0)
    }

    fn usage(&self) -> Value {
        let output = self.output_tokens();
        json!({ "prompt_tokens": self.input_tokens, "completion_tokens": output, "total_tokens": self.input_tokens + output })
    }

    fn finish(&self) -> &'static str {
        if self.at_cap { "length" } else { "stop" }
    }
}

/// Answers a chat request.
///
/// # Errors
/// When the fault is to break the connection.
pub(crate) async fn complete(
    shared: Arc<Shared>,
    request: Option<String>,
    body: &[u8],
    fault: Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let Some(asked) = Asked::read(&shared.profile, body) else {
        return Ok(error(400, "invalid_request_error", "invalid_value", "The request cannot be read."));
    };
    if !shared.profile.models.contains(&asked.model) {
        return Ok(error(404, "invalid_request_error", "model_not_found", "The model does not exist."));
    }
    let (from, to) = shared.profile.first_token_ms;
    let wait = Duration::from_millis(SmallRng::seed_from_u64(asked.seed).random_range(from..=to.max(from)));
    let served = Served {
        request,
        outcome: Outcome::ClientLeft,
        input_tokens: asked.input_tokens,
        output_tokens: 0,
        ended_at: SystemTime::UNIX_EPOCH,
    };
    let mut account = Account { shared: shared.clone(), served: Some(served) };
    match &fault {
        Fault::Status { status, retry_after } => {
            account.close(Outcome::Fault, 0);
            return Ok(status_fault(*status, *retry_after));
        }
        Fault::Garbage => {
            account.close(Outcome::Fault, 0);
            return Ok(Response::new(AnswerBody::whole("<html>the harbour office is closed</html>")));
        }
        Fault::StallBeforeFirst => std::future::pending::<()>().await,
        Fault::None
        | Fault::Refuse
        | Fault::StallAfterRole
        | Fault::StallMidway
        | Fault::CutMidway
        | Fault::EndMidway
        | Fault::GarbageMidway => {}
    }
    if asked.streamed {
        return Ok(streamed(TokenStream::new(asked, account, wait, fault)));
    }
    let typing = match shared.profile.tokens_per_second {
        0 => Duration::ZERO,
        rate => Duration::from_secs(1) * u32::try_from(asked.pieces.len()).unwrap_or(0) / rate,
    };
    if wait + typing > Duration::ZERO {
        tokio::time::sleep(wait + typing).await;
    }
    whole(&asked, account, &fault)
}

fn whole(asked: &Asked, mut account: Account, fault: &Fault) -> Result<Response<AnswerBody>, std::io::Error> {
    let content = asked.pieces.concat();
    let body = json!({
        "id": format!("chat-{:016x}", asked.seed), "object": "chat.completion", "created": CREATED, "model": asked.model,
        "choices": [{ "index": 0, "message": { "role": "assistant", "content": content, "refusal": null },
                      "logprobs": null, "finish_reason": asked.finish() }],
        "usage": asked.usage(),
    });
    let body = Bytes::from(body.to_string());
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
                served.output_tokens = asked.output_tokens();
            }
            AnswerBody::Accounted(Some(body), account)
        }
    };
    let mut response = Response::new(body);
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/json"));
    Ok(response)
}

fn streamed(stream: TokenStream) -> Response<AnswerBody> {
    let mut response = Response::new(AnswerBody::Stream(Box::new(stream)));
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("text/event-stream"));
    response
}

fn status_fault(status: u16, retry_after: Option<u32>) -> Response<AnswerBody> {
    let mut response = error(status, "server_error", "stand_in_fault", "This stand-in was told to fail.");
    if let Some(seconds) = retry_after {
        response.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from(seconds));
    }
    response
}

/// An error in the dialect's form.
pub(crate) fn error(status: u16, class: &str, code: &str, message: &str) -> Response<AnswerBody> {
    let body = json!({ "error": { "message": message, "type": class, "param": null, "code": code } });
    let mut response = Response::new(AnswerBody::whole(body.to_string()));
    *response.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/json"));
    response
}

/// The listing of models.
pub(crate) fn models(profile: &Profile) -> Response<AnswerBody> {
    let model = |name: &String| json!({ "id": name, "object": "model", "created": CREATED, "owned_by": profile.name });
    let body = json!({ "object": "list", "data": profile.models.iter().map(model).collect::<Vec<_>>() });
    let mut response = Response::new(AnswerBody::whole(body.to_string()));
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/json"));
    response
}

/// An answer that streams.
pub struct TokenStream {
    asked: Asked,
    account: Account,
    /// Frames made so far: the role, then a piece each, then finish, usage, terminator.
    made: usize,
    due: Instant,
    between: Duration,
    timer: Pin<Box<Sleep>>,
    fault: Fault,
    lingered: bool,
}

impl TokenStream {
    fn new(asked: Asked, account: Account, wait: Duration, fault: Fault) -> Self {
        let due = Instant::now() + wait;
        let between = match account.shared.profile.tokens_per_second {
            0 => Duration::ZERO,
            rate => Duration::from_secs(1) / rate,
        };
        Self {
            asked,
            account,
            made: 0,
            due,
            between,
            timer: Box::pin(tokio::time::sleep_until(due)),
            fault,
            lingered: false,
        }
    }

    fn chunk(&self, choices: &Value, usage: Option<Value>) -> Bytes {
        let mut chunk = json!({
            "id": format!("chat-{:016x}", self.asked.seed), "object": "chat.completion.chunk", "created": CREATED,
            "model": self.asked.model, "choices": choices,
        });
        if self.asked.with_usage {
            chunk["usage"] = usage.unwrap_or(Value::Null);
        }
        Bytes::from(format!("data: {chunk}\n\n"))
    }

    /// The next frame, or `None` when the answer is complete.
    fn frame(&mut self) -> Option<Bytes> {
        let pieces = self.asked.pieces.len();
        let made = self.made;
        self.made += 1;
        let choice = |delta: Value, finish: Option<&str>| json!([{ "index": 0, "delta": delta, "logprobs": null, "finish_reason": finish }]);
        match made {
            0 => Some(self.chunk(&choice(json!({ "role": "assistant", "content": "" }), None), None)),
            _ if made <= pieces => {
                Some(self.chunk(&choice(json!({ "content": self.asked.pieces[made - 1] }), None), None))
            }
            _ if made == pieces + 1 => Some(self.chunk(&choice(json!({}), Some(self.asked.finish())), None)),
            _ if made == pieces + 2 && self.asked.with_usage => Some(self.chunk(&json!([]), Some(self.asked.usage()))),
            _ if made <= pieces + 3 => {
                // The terminator follows the usage frame, or takes its place.
                self.made = pieces + 4;
                Some(Bytes::from_static(b"data: [DONE]\n\n"))
            }
            _ => None,
        }
    }

    fn is_midway(&self) -> bool {
        self.made > self.asked.pieces.len() / 2 + 1
    }

    /// What the fault does at this point of the answer.
    fn misbehave(&mut self) -> Option<Poll<Option<std::io::Result<Frame<Bytes>>>>> {
        let is_midway = self.is_midway();
        let shown = match (&self.fault, is_midway) {
            (Fault::StallAfterRole, _) if self.made >= 1 => Poll::Pending,
            (Fault::StallMidway, true) => Poll::Pending,
            (Fault::CutMidway, true) => Poll::Ready(Some(Err(std::io::Error::other("cut as told")))),
            (Fault::EndMidway, true) => Poll::Ready(None),
            (Fault::GarbageMidway, true) => {
                self.fault = Fault::EndMidway;
                return Some(Poll::Ready(Some(Ok(Frame::data(Bytes::from_static(b"data: {\"foghorn\":\n\n"))))));
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
        if self.due > Instant::now() {
            ready!(self.timer.as_mut().poll(context));
        }
        let frame = self.frame();
        let is_piece = self.made > 1 && self.made <= self.asked.pieces.len();
        if is_piece && self.between > Duration::ZERO {
            self.due += self.between;
            self.timer.as_mut().reset(self.due);
        }
        if self.made > self.asked.pieces.len() + 3 {
            let sent = self.asked.output_tokens();
            self.account.close(Outcome::Served, sent);
        }
        Poll::Ready(frame.map(|bytes| Ok(Frame::data(bytes))))
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
