//! One attempt made ready and run: the body that goes up, its headers, and the try itself ([`super::exchange`]) with what belongs to it: a
//! credential that another takes the place of, and a kept connection that turns out closed.

use std::sync::Arc;

use bytes::Bytes;
use hyper::HeaderMap;
use hyper::header::HeaderValue;
use tokio::time::Instant;
use wendor_core::catalog::route::Deadlines;
use wendor_core::catalog::upstream::Upstream;
use wendor_core::name::OfferName;
use wendor_core::serving::fit::Content;
use wendor_core::serving::sending;
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::{Delivery, FunctionForm, UsageFrame};
use wendor_wire::endpoint::Kind;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::members::Spliced;
use wendor_wire::told_limits::read_told;

use super::account::{Account, output_cap};
use super::body::ReadBody;
use super::clients::Clients;
use super::exchange::{Hearing, Reply, Try, exchange};
use super::images::Fetched;
use super::images::content_for;
use super::outlet::{AttemptHeaders, Outlet};
use super::pieces::Pieces;
use super::plan::target_of;
use super::progress::Seen;
use super::ticket::Ticket;
use crate::sharing::Part;

/// The largest body that is kept for a second try on a new connection: a larger one is most of what a waiting request takes.
pub(super) const KEPT_FOR_A_SECOND_TRY: usize = 64 * 1024;

/// What all attempts of a request have in common.
#[derive(Debug)]
pub struct Common {
    /// What the app asks.
    pub request: Arc<AppRequest>,
    /// What it holds.
    pub content: Arc<Content>,
    /// The same with the images that were fetched.
    pub fetched: Option<Fetched>,
    /// The content type of a form.
    pub form: Option<HeaderValue>,
    /// When the whole request must be over.
    pub whole_until: Instant,
}

/// An attempt made ready.
pub struct Launch {
    account: Arc<Account>,
    request: Arc<AppRequest>,
    content: Arc<Content>,
    form: Option<HeaderValue>,
    offer: OfferName,
    deadlines: Deadlines,
    whole_until: Instant,
    headers: AttemptHeaders,
    path: Option<String>,
    is_streamed: bool,
    seen: Arc<Seen>,
    body: (Spliced, Arc<Part>),
}

impl Launch {
    /// Makes the attempt that began last ready.
    ///
    /// # Errors
    /// When the offer is not in the catalogue.
    pub fn prepare(
        ticket: &mut Ticket,
        common: &Common,
        offer: &OfferName,
        deadlines: Deadlines,
        body: ReadBody,
    ) -> Result<Self, Failure> {
        let account = ticket.account.clone();
        let (upstream, offered) = account.snapshot.catalogue.offer(offer).ok_or_else(missing)?;
        let content = content_for(&common.content, common.fetched.as_ref(), offered);
        let target = target_of(&account.snapshot, offer, upstream, offered);
        let ReadBody { bytes, share } = body;
        let cap = account.sends_cap.then(|| output_cap(&account.snapshot, offer));
        let sending = sending::prepare(&common.request, content, &bytes, cap, offered, &target);
        // What goes up holds what it needs of it, and lets go once it is sent; nothing here may hold on until the answer comes.
        drop(bytes);
        ticket.asking(sending.is_streamed, sending.changes);
        let length = sending.pieces.iter().map(Bytes::len).sum();
        let headers = attempt_headers(ticket, upstream, length);
        Ok(Self {
            request: common.request.clone(),
            content: content.clone(),
            form: common.form.clone(),
            offer: offer.clone(),
            deadlines,
            whole_until: common.whole_until,
            headers,
            path: sending.path,
            is_streamed: sending.is_streamed,
            seen: ticket.attempt().seen().clone(),
            body: (sending.pieces, share),
            account,
        })
    }

    /// Runs it.
    ///
    /// # Errors
    /// How it failed.
    pub async fn run(self, clients: &Clients) -> Result<Reply, Failure> {
        let Self { account, request, content, form, offer, body: (pieces, share), .. } = self;
        let (seen, deadlines, snapshot) = (self.seen, self.deadlines, &account.snapshot);
        let (upstream, _) = snapshot.catalogue.offer(&offer).ok_or_else(missing)?;
        let misconfigured = |why: &String| Failure::new(FailureKind::Misconfigured, why);
        let outlet = snapshot.outlet(offer.upstream()).ok_or_else(missing)?.as_ref().map_err(misconfigured)?;
        // While a credential replaces another, the upstream may know only one of the two.
        let previous = snapshot.previous_outlet(offer.upstream(), account.call.arrived_at);
        let length: usize = pieces.iter().map(Bytes::len).sum();
        let is_kept = previous.is_some() || length <= KEPT_FOR_A_SECOND_TRY;
        let spare = is_kept.then(|| (pieces.clone(), share.clone()));
        let one = Try {
            upstream,
            outlet,
            request: &request,
            content: &content,
            path: self.path.as_deref(),
            form: form.as_ref(),
            is_streamed: self.is_streamed,
            head: &|| head_of(&account, &request, &content, &offer),
            deadlines,
            whole_until: self.whole_until,
            now: account.app.clock.now(),
            began: Instant::now(),
            headers: &self.headers,
            seen: &seen,
            hearing: &Limits { account: &account, offer: &offer },
        };
        let identity = snapshot.identity(offer.upstream());
        let client = clients.with_connect(deadlines.connect, upstream.certificate.as_ref(), identity);
        let reply = exchange(&client, &one, Pieces::new(pieces, share).telling(seen.clone())).await;
        let (Err(failure), Some((pieces, share))) = (&reply, spare) else { return reply };
        let again = match again(failure, &one, previous) {
            Some(outlet) => Try { outlet, ..one },
            None => return reply,
        };
        // Boxed: it hardly ever happens, and would make every request's state larger.
        Box::pin(exchange(&client, &again, Pieces::new(pieces, share).telling(seen.clone()))).await
    }
}

/// Where it is tried once more after it failed so, if it is.
fn again<'o>(failure: &Failure, one: &Try<'o>, previous: Option<&'o Outlet>) -> Option<&'o Outlet> {
    match failure.kind {
        FailureKind::Misconfigured => previous,
        // A connection that was kept turned out closed before a byte of an answer: nobody has begun to answer.
        FailureKind::CutOff if one.seen.was_closed_before() => Some(one.outlet),
        FailureKind::CutOff
        | FailureKind::Unreachable
        | FailureKind::TimedOut
        | FailureKind::RateLimited
        | FailureKind::Overloaded
        | FailureKind::Loading
        | FailureKind::ServerError
        | FailureKind::Rejected
        | FailureKind::TooLong
        | FailureKind::Declined
        | FailureKind::Malformed => None,
    }
}

/// What an answer says of limits is told to its offer.
struct Limits<'a> {
    account: &'a Account,
    offer: &'a OfferName,
}

impl Hearing for Limits<'_> {
    fn head(&self, _status: u16, headers: &HeaderMap) {
        let app = &self.account.app;
        let texts = headers.iter().filter_map(|(name, value)| Some((name.as_str(), value.to_str().ok()?)));
        let told = read_told(texts, app.clock.now());
        if !told.is_empty() {
            app.fleet.offer(self.offer).told_limits(&told);
        }
    }
}

fn missing() -> Failure {
    Failure::new(FailureKind::Misconfigured, "this offer is not in the catalogue")
}

/// The headers that the attempt that began last has of its own.
fn attempt_headers(ticket: &Ticket, upstream: &Upstream, length: usize) -> AttemptHeaders {
    let number = u8::try_from(ticket.tries()).unwrap_or(u8::MAX);
    let is_own = upstream.dialect == ticket.call().dialect;
    let own = if is_own { ticket.account().beta.clone() } else { Vec::new() };
    AttemptHeaders { own, ..AttemptHeaders::of(ticket.id(), number, ticket.account().trace.as_ref(), length) }
}

/// What an answer has to say of itself, whatever dialect it comes from.
fn head_of(account: &Account, request: &AppRequest, content: &Content, offer: &OfferName) -> AnswerHead {
    let usage_frame = match request.delivery {
        Delivery::Streamed(usage_frame) => usage_frame,
        Delivery::Whole => UsageFrame::Asked,
    };
    let functions = match content {
        Content::Conversation(conversation) => conversation.functions,
        Content::NotLookedAt | Content::Embedding(_) => FunctionForm::Tools,
    };
    AnswerHead {
        request: account.call.id.to_string(),
        model: request.route.clone(),
        at: account.call.arrived_at,
        usage_frame,
        functions,
        input_estimate: account.input_at(&account.app.fleet.offer(offer)),
        estimates_usage: matches!(request.endpoint.kind, Kind::Chat(_)),
        seals: account.snapshot.seals(offer.upstream()),
    }
}
