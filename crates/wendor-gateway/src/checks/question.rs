//! A question of a check, asked as a request asks: the same body by the same code, the same headers, connections and deadlines, judged by the
//! same code through to a proper end ([`exchange`], [`Passage`]). What a check sees beside it, it overhears.

use std::cell::RefCell;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use hyper::HeaderMap;
use hyper::header;
use tokio::time::{Instant, sleep_until, timeout_at};
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::upstream::{Offer, Upstream};
use wendor_core::diagnosis::heard::{self, AnswerSeen, BodyTold, Listener};
use wendor_core::diagnosis::seen::Heard;
use wendor_core::request_id::RequestId;
use wendor_core::serving::sending::{self, is_choosy};
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::{FunctionForm, UsageFrame};
use wendor_wire::dialect::Dialect;
use wendor_wire::endpoint::{Hints, resolve};
use wendor_wire::estimate::tokens_of_bytes;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::passage::Step;
use wendor_wire::seal::SealDomain;
use wendor_wire::verdict::Target;

use super::Time;
use super::quiet::Quiet;
use crate::app::App;
use crate::data_plane::admit::content_if;
use crate::data_plane::clients::Clients;
use crate::data_plane::exchange::{Hearing, Reply, Try, exchange};
use crate::data_plane::opening::OpenStream;
use crate::data_plane::outlet::{AttemptHeaders, Outlet};
use crate::data_plane::pieces::Pieces;
use crate::data_plane::progress::Seen;
use crate::identity::Identity;
use crate::sharing::Sharing;

/// What of a refusal is kept.
const REASON_BYTES: usize = 64 * 1024;

/// Where questions go, as requests go there.
pub struct Way<'a> {
    /// The service.
    pub app: &'a App,
    /// Its connections: those of this check alone.
    pub clients: Clients,
    /// What requests there have in common.
    pub outlet: Outlet,
    /// The upstream, with the dialect that it speaks.
    pub upstream: Upstream,
    /// What it is shown.
    pub identity: Option<Identity>,
    /// The deadlines of the stages that use it.
    pub deadlines: Deadlines,
    /// The time that the check has.
    pub time: Time,
    /// Room there.
    pub quiet: Option<Quiet>,
}

/// One short request of a check.
#[derive(Clone, Debug)]
pub struct Question<'a> {
    /// The model.
    pub model: &'a str,
    /// Its offer, whose marks and controls count.
    pub offer: &'a Offer,
    /// The endpoint's path.
    pub path: String,
    /// The body, as an app of that dialect would write it.
    pub body: Bytes,
    /// The most output tokens that it asks for.
    pub limit: u32,
    /// The id by which the upstream finds it in its own logs.
    pub id: RequestId,
}

impl Question<'_> {
    /// Tokens that it takes, as far as its length tells.
    fn tokens(&self) -> u64 {
        let input = tokens_of_bytes(u64::try_from(self.body.len()).unwrap_or(u64::MAX));
        input.saturating_add(self.limit.into())
    }
}

/// What came of a question.
#[derive(Debug, Default)]
pub struct Came {
    /// What was heard of the answer.
    pub seen: AnswerSeen,
    /// A whole answer as it came.
    pub body: Bytes,
    /// A refusal.
    pub refused: Option<Heard>,
    /// How a request would have failed, where it was not refused.
    pub failure: Option<Failure>,
    /// Whether the time of the check was over before the answer was.
    pub is_time_up: bool,
    /// So many answers were under way there, and it was not asked.
    pub busy: Option<u32>,
}

/// What is overheard of an answer.
struct Ear {
    start: std::time::Instant,
    heard: RefCell<Overheard>,
}

#[derive(Default)]
struct Overheard {
    status: u16,
    told: BodyTold,
    retry_after: Option<u64>,
    /// Listens where a stream comes.
    listener: Option<Listener>,
    reason: BytesMut,
    held_up: Vec<(u64, u64)>,
}

impl Hearing for Ear {
    fn head(&self, status: u16, headers: &HeaderMap) {
        let text = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
        let content_type = text(header::CONTENT_TYPE).unwrap_or_default();
        let content_type = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let encoding = text(header::CONTENT_ENCODING).filter(|encoding| *encoding != "identity").map(str::to_owned);
        let mut heard = self.heard.borrow_mut();
        heard.status = status;
        heard.told = BodyTold { content_type, encoding };
        heard.retry_after = text(header::RETRY_AFTER).and_then(|text| text.trim().parse().ok());
    }

    fn bytes(&self, bytes: &[u8]) {
        let mut heard = self.heard.borrow_mut();
        let at = super::since(self.start);
        let is_good = (200..300).contains(&heard.status);
        match &mut heard.listener {
            Some(listener) if is_good => {
                listener.take(bytes, at);
            }
            _ => {
                let room = REASON_BYTES.saturating_sub(heard.reason.len());
                heard.reason.extend_from_slice(bytes.get(..room).unwrap_or(bytes));
            }
        }
    }

    fn wants_reasons(&self) -> bool {
        true
    }
}

impl Ear {
    fn wants_more(&self) -> bool {
        self.heard.borrow().listener.as_ref().is_none_or(Listener::wants_more)
    }

    /// What was overheard, the answer being over, together with how a request takes it.
    fn close(self, dialect: Dialect, came: Result<(), Failure>, whole: Option<Bytes>) -> Came {
        let Overheard { status, told, retry_after, listener, reason, held_up } = self.heard.into_inner();
        let at = super::since(self.start);
        if status != 0 && !(200..300).contains(&status) {
            let content_type = told.content_type.clone();
            let refused = Heard { status, content_type, retry_after, body: reason.freeze(), ..Heard::default() };
            let seen = AnswerSeen { end_us: at, head: told, ..AnswerSeen::default() };
            return Came { seen, refused: Some(refused), ..Came::default() };
        }
        let failure = came.as_ref().err().cloned();
        let (body, seen) = match (whole, listener) {
            (Some(body), _) => (body.clone(), heard::whole(dialect, &body, at)),
            (None, Some(listener)) => (Bytes::new(), listener.end(at)),
            (None, None) => (Bytes::new(), heard::whole(dialect, &reason, at)),
        };
        let seen = AnswerSeen { head: told, held_up, ..seen.as_requests_have_it(came) };
        Came { seen, body, failure, ..Came::default() }
    }
}

impl Way<'_> {
    /// The same without ids of Wendor's own.
    pub fn without_ids(&self) -> Self {
        let app = self.app;
        Self {
            app,
            clients: Clients::new(app.trust.clone(), app.hosts.clone()),
            outlet: self.outlet.clone().without_ids(),
            upstream: self.upstream.clone(),
            identity: self.identity.clone(),
            deadlines: self.deadlines,
            time: self.time,
            quiet: self.quiet.clone(),
        }
    }

    /// Waits for room, sends the question and reads the answer; dropped midway, nothing is kept of what came.
    pub async fn ask(&self, question: &Question<'_>) -> Came {
        let _room = match &self.quiet {
            None => None,
            Some(quiet) => match quiet.ask(question.tokens(), self.time.until).await {
                Ok(permit) => Some(permit),
                Err(busy) => return Came { busy: Some(busy.0), ..Came::default() },
            },
        };
        let ear = Ear { start: std::time::Instant::now(), heard: RefCell::default() };
        let dialect = self.upstream.dialect;
        let came = match self.exchanged(question, &ear).await {
            Err(failure) => ear.close(dialect, Err(failure), None),
            Ok(Reply::Rejected(_)) => ear.close(dialect, Ok(()), None),
            Ok(Reply::Whole(reply)) => ear.close(dialect, Ok(()), Some(reply.bytes)),
            Ok(Reply::Stream(open)) => {
                let ended = to_the_end(*open, &ear, self.deadlines.between_events, self.time.until).await;
                ear.close(dialect, ended, None)
            }
        };
        let is_late = came.failure.as_ref().is_some_and(|failure| failure.kind == FailureKind::TimedOut);
        Came { is_time_up: is_late && self.time.is_over(), ..came }
    }

    async fn exchanged(&self, question: &Question<'_>, ear: &Ear) -> Result<Reply, Failure> {
        let bad = |why: String| Failure::new(FailureKind::Misconfigured, why);
        let path = question.path.split('?').next().unwrap_or_default();
        let endpoint = resolve("POST", path, Hints::default()).map_err(|_| bad(format!("{path} is no endpoint")))?;
        let request = AppRequest::read(endpoint, &question.body).map_err(|error| bad(error.message))?;
        let (upstream, offer) = (&self.upstream, question.offer);
        let has_to_look = || is_choosy(offer, upstream, upstream.dialect);
        let content =
            content_if(&request, &question.body, has_to_look).map_err(|_| bad("its body is not read".to_owned()))?;
        let content = Arc::new(content);
        let target = Target {
            dialect: upstream.dialect,
            model: question.model,
            marks: &offer.marks,
            controls: offer.controls,
            seals: SealDomain::unmarked(),
            output_cap: None,
        };
        let sending = sending::prepare(&request, &content, &question.body, None, offer, &target);
        if sending.is_streamed {
            ear.heard.borrow_mut().listener = Some(Listener::of(upstream.dialect, question.limit));
        }
        let one = Try {
            upstream,
            outlet: &self.outlet,
            request: &request,
            content: &content,
            path: sending.path.as_deref(),
            form: None,
            is_streamed: sending.is_streamed,
            head: &|| self.head(&question.id, question.model),
            deadlines: self.deadlines,
            whole_until: self.time.until,
            now: self.app.clock.now(),
            began: Instant::now(),
            headers: &AttemptHeaders::of(&question.id, 1, None, sending.pieces.iter().map(Bytes::len).sum()),
            seen: &Seen::default(),
            hearing: ear,
        };
        let client =
            self.clients.with_connect(self.deadlines.connect, upstream.certificate.as_ref(), self.identity.as_ref());
        let share = Arc::new(Sharing::of(0).part(None));
        exchange(&client, &one, Pieces::new(sending.pieces, share)).await
    }

    fn head(&self, id: &RequestId, model: &str) -> AnswerHead {
        AnswerHead {
            request: id.to_string(),
            model: model.to_owned(),
            at: self.app.clock.now(),
            usage_frame: UsageFrame::Asked,
            functions: FunctionForm::Tools,
            input_estimate: 0,
            estimates_usage: false,
            seals: SealDomain::unmarked(),
        }
    }
}

/// Reads a stream to its end, or as far as it may be read.
async fn to_the_end(open: OpenStream, ear: &Ear, between_events: Duration, until: Instant) -> Result<(), Failure> {
    let OpenStream { first, last, body, mut passage } = open;
    let Some(mut body) = body.filter(|_| last.is_none()) else {
        // One that was made of a whole answer: it was not overheard as a stream.
        let mut heard = ear.heard.borrow_mut();
        let at = super::since(ear.start);
        if let Some(listener) = heard.listener.as_mut().filter(|_| last.is_some() && !first.is_empty()) {
            listener.take(&first, at);
            listener.take(&last.unwrap_or_default(), at);
        }
        return Ok(());
    };
    let mut is_over = false;
    let mut clock = OwnClock::begin(ear.start);
    loop {
        match if is_over { passage.upstream_ended() } else { passage.step() } {
            Step::Send(_) => continue,
            Step::End(_) => return Ok(()),
            Step::Broken(failure, _) => return Err(failure),
            Step::More => {}
        }
        if !ear.wants_more() {
            return Ok(());
        }
        let read = timeout_at(until.min(Instant::now() + between_events), clock.beside(body.frame())).await;
        ear.heard.borrow_mut().held_up.append(&mut clock.held_up);
        match read {
            Err(_elapsed) => return Err(Failure::new(FailureKind::TimedOut, "no further event")),
            Ok(None) => is_over = true,
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its answer"));
            }
            Ok(Some(Ok(frame))) => {
                let data = frame.data_ref().map_or(&[][..], |data| data);
                ear.bytes(data);
                passage.push(data)?;
            }
        }
    }
}

/// Tells when its worker was held up: what comes while it does something else seems to come at once.
struct OwnClock {
    start: std::time::Instant,
    due: Instant,
    held_up: Vec<(u64, u64)>,
}

/// How often it looks, and from when on it was held up.
const TICK: Duration = Duration::from_millis(10);

impl OwnClock {
    fn begin(start: std::time::Instant) -> Self {
        Self { start, due: Instant::now() + TICK, held_up: Vec::new() }
    }

    /// Waits for `what`, and looks at the time meanwhile.
    async fn beside<T>(&mut self, what: impl Future<Output = T>) -> T {
        let mut what = std::pin::pin!(what);
        loop {
            let ready = tokio::select! {
                biased;
                ready = &mut what => Some(ready),
                () = sleep_until(self.due) => None,
            };
            let now = Instant::now();
            let late = now.saturating_duration_since(self.due);
            if late >= TICK {
                let to = super::since(self.start);
                self.held_up.push((to.saturating_sub(u64::try_from(late.as_micros()).unwrap_or(u64::MAX)), to));
            }
            self.due = now + TICK;
            if let Some(ready) = ready {
                return ready;
            }
        }
    }
}
