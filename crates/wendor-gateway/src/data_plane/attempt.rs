//! Step 3, attempt: takes an admitted and planned request, gives the [`Answering`] offer, fails with a [`Refusal`] when none
//! did.
//!
//! 1. An offer's turn comes: the attempt begins by taking room for its worst case. Where there is none, the next.
//! 2. The try: [`super::exchange`].
//! 3. It failed: recorded, told to the upstream's health, and the next offer's turn, if the stage moves on after this kind.
//!
//! All of it inside the request's whole deadline and a bounded number of tries. Nothing has gone to the app yet.

use std::sync::Arc;

use hyper::header::HeaderValue;
use tokio::time::Instant;
use wendor_core::catalog::route::{Deadlines, Stage};
use wendor_core::catalog::upstream::Upstream;
use wendor_core::name::OfferName;
use wendor_core::routing::failure::{AllFailed, Failure, FailureKind, answer_when_all_failed};
use wendor_core::routing::plan::PlannedOffer;
use wendor_core::trace::Trace;
use wendor_core::wire::asked::AppRequest;
use wendor_core::wire::codec::AnswerHead;
use wendor_core::wire::conversation::{Delivery, FunctionForm, UsageFrame};
use wendor_core::wire::endpoint::Kind;
use wendor_core::wire::fit::{Content, Unfit};
use wendor_core::wire::sending;

use super::account::output_cap;
use super::admit::{Admitted, content_for};
use super::body::ReadBody;
use super::clients::Clients;
use super::exchange::{Reply, Try, exchange};
use super::images::Fetched;
use super::outlet::AttemptHeaders;
use super::pieces::Pieces;
use super::plan::target_of;
use super::refusal::{CannotServe, GivenUp, Refusal};
use super::settle::Outcome;
use super::ticket::Ticket;

/// Tries of one request at most: more than any route needs, fewer than would hurt upstreams in trouble.
const MAX_TRIES: usize = 8;

/// An offer's answer, with what goes along to the end of the request.
#[derive(Debug)]
pub struct Answering {
    /// The answer.
    pub reply: Reply,
    /// What goes along.
    pub along: Along,
}

/// What goes along with an answer.
#[derive(Debug)]
pub struct Along {
    /// The request's ticket.
    pub ticket: Box<Ticket>,
    /// The offer that answers.
    pub offer: OfferName,
    /// What the app asked.
    pub request: Arc<AppRequest>,
    /// Deadlines of the stage.
    pub deadlines: Deadlines,
    /// When the whole request has to be over.
    pub whole_until: Instant,
}

/// Tries one offer after the other.
///
/// # Errors
/// [`Refusal::AllFailed`] when none answered, [`Refusal::OverQuota`] when there was room for none.
pub async fn attempt(admitted: Admitted, clients: &Clients) -> Result<Answering, Refusal> {
    let Admitted { mut ticket, request, content, fetched, unfit, body, form } = admitted;
    let request = Arc::new(request);
    if let Some(refusal) = nobody_can(&ticket, unfit) {
        ticket.refuse();
        return Err(refusal);
    }
    let snapshot = ticket.snapshot().clone();
    let stages: &[Stage] = snapshot.catalogue.routes.get(ticket.route()).map_or(&[], |route| &route.stages);
    let whole = stages.first().map_or_else(Deadlines::default, |stage| stage.deadlines.into()).whole;
    let whole_until = Instant::from_std(ticket.started()) + whole;
    let mut turns = ticket.plan().taken().cloned().collect::<Vec<PlannedOffer>>().into_iter();
    let (mut body, mut no_room) = (Some(body), None);
    while let Some(turn) = turns.next() {
        if ticket.tries() == MAX_TRIES || Instant::now() >= whole_until {
            break;
        }
        let Some(stage) = turn.stage.checked_sub(1).and_then(|index| stages.get(index)) else { continue };
        if let Err(refusal) = ticket.begin(&turn).await {
            ticket.left_out(&turn.offer, &no_room_words(&refusal));
            no_room.get_or_insert(refusal);
            continue;
        }
        let deadlines: Deadlines = stage.deadlines.into();
        // Kept only for as long as another offer may need it: a large one is most of what a waiting request takes.
        let may_move_on = turns.len() > 0 && !stage.moves_on.is_empty();
        let Some(sent) = (if may_move_on { body.clone() } else { body.take() }) else { break };
        let content = content_at(&ticket, &turn.offer, (&content, fetched.as_ref()));
        let prepared = Prepared { request: &request, content, form: form.as_ref(), deadlines, whole_until };
        match try_one(&mut ticket, &turn.offer, (&prepared, sent), clients).await {
            Ok(reply) => {
                let along = Along { ticket, offer: turn.offer, request, deadlines, whole_until };
                return Ok(Answering { reply, along });
            }
            Err(failure) => {
                let moves_on = stage.moves_on.contains(&failure.kind);
                ticket.failed(failure);
                if !moves_on {
                    break;
                }
            }
        }
    }
    match no_room {
        Some(refusal) if ticket.tries() == 0 => {
            ticket.refuse();
            Err(refusal)
        }
        Some(_) | None => Err(give_up(ticket).await),
    }
}

/// What the request holds for an offer.
fn content_at<'c>(
    ticket: &Ticket,
    offer: &OfferName,
    (content, fetched): (&'c Arc<Content>, Option<&'c Fetched>),
) -> &'c Arc<Content> {
    ticket.snapshot().catalogue.offer(offer).map_or(content, |(_, offer)| content_for(content, fetched, offer))
}

/// Why an attempt could not begin.
fn no_room_words(refusal: &Refusal) -> String {
    if let Refusal::OverQuota(full) = refusal {
        return format!("its worst case has no room in the quota {}", full.over.quota);
    }
    "the spool has no room for its record".to_owned()
}

/// The refusal where no offer can serve such a request, whenever it is asked. Where another one only rests or is full, its time may come.
fn nobody_can(ticket: &Ticket, unfit: Vec<(OfferName, Unfit)>) -> Option<Refusal> {
    let plan = ticket.plan();
    let is_unfit = |planned: &PlannedOffer| unfit.iter().any(|(offer, _)| *offer == planned.offer);
    if unfit.is_empty() || !plan.offers.iter().all(is_unfit) {
        return None;
    }
    let key = ticket.account().key.id.clone();
    Some(Refusal::CannotServe(Box::new(CannotServe { key, route: ticket.route().to_string(), unfit })))
}

struct Prepared<'a> {
    request: &'a Arc<AppRequest>,
    content: &'a Arc<Content>,
    form: Option<&'a HeaderValue>,
    deadlines: Deadlines,
    whole_until: Instant,
}

async fn try_one(
    ticket: &mut Ticket,
    offer: &OfferName,
    (prepared, body): (&Prepared<'_>, ReadBody),
    clients: &Clients,
) -> Result<Reply, Failure> {
    let snapshot = ticket.snapshot().clone();
    let missing = || Failure::new(FailureKind::Misconfigured, "this offer is not in the catalogue");
    let (upstream, offered) = snapshot.catalogue.offer(offer).ok_or_else(missing)?;
    let misconfigured = |why: &String| Failure::new(FailureKind::Misconfigured, why);
    let outlet = snapshot.outlet(offer.upstream()).ok_or_else(missing)?.as_ref().map_err(misconfigured)?;
    let target = target_of(&snapshot, offer, (upstream, offered));
    let ReadBody { bytes, share } = body;
    let cap = ticket.account().sends_cap.then(|| output_cap(&snapshot, offer));
    let sending = sending::prepare(prepared.request, prepared.content, (&bytes, cap), (offered, &target));
    // What goes up holds what it needs of it, and lets go once it is sent; nothing here may hold on until the answer comes.
    drop(bytes);
    ticket.asking(sending.is_streamed, sending.changes);
    let seen = ticket.attempt().seen().clone();
    let headers = attempt_headers(ticket, upstream);
    let one = Try {
        upstream,
        outlet,
        request: prepared.request,
        content: prepared.content,
        path: sending.path.as_deref(),
        form: prepared.form,
        is_streamed: sending.is_streamed,
        head: &|| head_of(ticket, prepared, offer),
        deadlines: prepared.deadlines,
        whole_until: prepared.whole_until,
        headers: &headers,
        seen: &seen,
    };
    let client = clients.with_connect(prepared.deadlines.connect, upstream.certificate.as_ref());
    // While a credential replaces another, the upstream may know only one of the two.
    let spare = snapshot
        .previous_outlet(offer.upstream(), ticket.arrived_at())
        .map(|outlet| (outlet, sending.pieces.clone(), share.clone()));
    let mut reply = exchange(&client, &one, Pieces::new(sending.pieces, share).telling(seen.clone())).await;
    if let (Err(failure), Some((outlet, pieces, share))) = (&reply, spare)
        && failure.kind == FailureKind::Misconfigured
    {
        // Boxed: it hardly ever happens, and would make every request's state larger.
        let again = Try { outlet, ..one };
        reply = Box::pin(exchange(&client, &again, Pieces::new(pieces, share).telling(seen.clone()))).await;
    }
    let reply = reply?;
    match &reply {
        Reply::Stream(_) | Reply::Whole(_) => ticket.answering(),
        Reply::Rejected(_) => {}
    }
    Ok(reply)
}

/// The headers that the attempt that began last has of its own.
fn attempt_headers(ticket: &Ticket, upstream: &Upstream) -> AttemptHeaders {
    let number = u8::try_from(ticket.tries()).unwrap_or(u8::MAX);
    let uuid = ticket.id().uuid(number);
    let trace = Trace::header(ticket.account().trace.as_ref(), ticket.id(), number);
    // Digits and hyphens are always a header.
    let header = |text: &str| HeaderValue::from_str(text).unwrap_or_else(|_| HeaderValue::from_static(""));
    let is_own = upstream.dialect == ticket.call().dialect;
    let own = if is_own { ticket.account().beta.clone() } else { Vec::new() };
    AttemptHeaders { request: header(&uuid), trace: header(&trace), own }
}

/// What an answer has to say of itself, whatever dialect it comes from.
fn head_of(ticket: &Ticket, prepared: &Prepared<'_>, offer: &OfferName) -> AnswerHead {
    let usage_frame = match prepared.request.delivery {
        Delivery::Streamed(usage_frame) => usage_frame,
        Delivery::Whole => UsageFrame::Asked,
    };
    let functions = match prepared.content.as_ref() {
        Content::Conversation(conversation) => conversation.functions,
        Content::NotLookedAt | Content::Embedding(_) => FunctionForm::Tools,
    };
    AnswerHead {
        request: ticket.id().to_string(),
        model: prepared.request.route.clone(),
        at: ticket.arrived_at(),
        usage_frame,
        functions,
        input_estimate: ticket.account().input_at(offer),
        estimates_usage: matches!(prepared.request.endpoint.kind, Kind::Chat(_)),
        seals: ticket.snapshot().seals(offer.upstream()),
    }
}

/// Settles a request that nobody answered, and says so.
async fn give_up(ticket: Box<Ticket>) -> Refusal {
    let attempts = ticket.failed_attempts();
    let left_out = ticket.reasons_left_out();
    let answer = match attempts.as_slice() {
        // Nothing was tried: everything rests, is full, or is gone.
        [] => AllFailed { status: 503, retry_after_ms: ticket.soonest_return_ms() },
        failed => answer_when_all_failed(failed.iter().map(|attempt| &attempt.failure)),
    };
    let revision = ticket.snapshot().revision;
    let failure = attempts.last().map(|attempt| attempt.failure.kind);
    ticket.settle(Outcome::NotAnswered(failure)).wait().await;
    Refusal::AllFailed(Box::new(GivenUp { answer, attempts, left_out, revision }))
}
