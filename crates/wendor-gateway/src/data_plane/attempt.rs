//! Step 3, attempt: takes an admitted and planned request, gives the [`Answering`] offer, fails with a [`Refusal`] when none
//! did.
//!
//! 1. An offer's turn comes ([`super::course`]): the attempt begins by taking room at its upstream and for its worst case in the quotas.
//!    Where there is none, the next.
//! 2. The try: [`super::exchange`].
//! 3. It failed: recorded, told to the upstream's health, and the next offer's turn, if the stage moves on after this kind.
//!
//! All of it inside the request's whole deadline and a bounded number of tries. Nothing has gone to the app yet.

use std::sync::Arc;
use std::time::Duration;

use tokio::time::Instant;
use wendor_core::catalog::route::{Deadlines, Stage};
use wendor_core::name::OfferName;
use wendor_core::routing::failure::{AllFailed, answer_when_all_failed};
use wendor_core::routing::health::Asking;
use wendor_core::routing::plan::{PlannedOffer, Standing};
use wendor_core::routing::queue::Lane;
use wendor_core::routing::reason::Reason;
use wendor_core::serving::fit::Unfit;
use wendor_wire::asked::AppRequest;
use wendor_wire::failure::{Failure, FailureKind};

use super::admit::Admitted;
use super::body::ReadBody;
use super::clients::Clients;
use super::course::{Course, Mode, NotBegun, Turn};
use super::exchange::{RejectedReply, Reply};
use super::launch::{Common, KEPT_FOR_A_SECOND_TRY, Launch};
use super::race::MovesOn;
use super::refusal::{CannotServe, GivenUp, Refusal};
use super::settle::Outcome;
use super::ticket::Ticket;

/// Tries of one request at most: more than any route needs, fewer than would hurt upstreams in trouble.
const MAX_TRIES: usize = 8;

/// How long batch waits for idle room.
const BATCH_WAIT: Duration = Duration::from_secs(4 * 3_600);

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
    /// Whether the app has lowered them.
    pub is_lowered: bool,
    /// When the whole request must be over.
    pub whole_until: Instant,
}

/// A request on its way through its offers.
pub(super) struct Walk<'s> {
    pub(super) ticket: Box<Ticket>,
    pub(super) course: Course,
    stages: &'s [Stage],
    common: Common,
    /// Kept only for as long as another offer may need it: a large one is most of what a waiting request takes.
    body: Option<ReadBody>,
    pub(super) clients: &'s Clients,
    /// The first refusal for want of room in quotas or spool.
    no_room: Option<Refusal>,
    /// A rejection after which others were tried.
    rejected: Option<(RejectedReply, OfferName, Deadlines)>,
}

/// Tries one offer after the other.
///
/// # Errors
/// [`Refusal::AllFailed`] when none answered, [`Refusal::OverQuota`] when there was room for none.
pub async fn attempt(admitted: Admitted, clients: &Clients) -> Result<Answering, Refusal> {
    let Admitted { ticket, request, content, fetched, unfit, body, form } = admitted;
    if let Some(refusal) = nobody_can(&ticket, unfit) {
        ticket.refuse();
        return Err(refusal);
    }
    let snapshot = ticket.snapshot().clone();
    let stages: &[Stage] = snapshot.catalogue.routes.get(ticket.route()).map_or(&[], |route| &route.stages);
    let wish = ticket.account().marks.deadlines;
    let whole = stages.first().map_or_else(Deadlines::default, |stage| stage.deadlines.into()).lowered(wish).whole;
    let patience = if ticket.account().marks.lane == Lane::Batch { BATCH_WAIT } else { Duration::ZERO };
    let whole_until = Instant::from_std(ticket.started()) + patience + whole;
    let common = Common { request, content, fetched, form, whole_until };
    let course = Course::of(ticket.plan());
    let mut walk = Walk { ticket, course, stages, common, body: Some(body), clients, no_room: None, rejected: None };
    while let Some(turn) = walk.course.pop() {
        if walk.ticket.tries() >= MAX_TRIES || Instant::now() >= whole_until {
            break;
        }
        let Some(stage) = walk.stage(&turn) else { continue };
        let turn = turn.held_for(walk.deadlines(stage).first_event);
        if !walk.begins(&turn, walk.deadlines(stage)).await {
            continue;
        }
        match walk.race(turn, stage).await {
            Ok((reply, offer, deadlines)) => return Ok(walk.answering(reply, offer, deadlines)),
            Err(MovesOn(true)) => {}
            Err(MovesOn(false)) => break,
        }
    }
    walk.end().await
}

impl<'s> Walk<'s> {
    pub(super) fn stage(&self, turn: &Turn) -> Option<&'s Stage> {
        turn.planned.stage.checked_sub(1).and_then(|index| self.stages.get(index))
    }

    /// The deadlines of a stage, as far as the app does not lower them.
    pub(super) fn deadlines(&self, stage: &Stage) -> Deadlines {
        Deadlines::from(stage.deadlines).lowered(self.ticket.account().marks.deadlines)
    }

    fn answering(self, reply: Reply, offer: OfferName, deadlines: Deadlines) -> Answering {
        let Common { request, whole_until, .. } = self.common;
        let wish = self.ticket.account().marks.deadlines;
        let is_lowered = deadlines.is_as_low_as(wish);
        Answering { reply, along: Along { ticket: self.ticket, offer, request, deadlines, is_lowered, whole_until } }
    }

    /// Nobody has answered.
    async fn end(mut self) -> Result<Answering, Refusal> {
        if let Some((reply, offer, deadlines)) = self.rejected.take() {
            return Ok(self.answering(Reply::Rejected(reply), offer, deadlines));
        }
        match self.no_room {
            Some(refusal) if self.ticket.tries() == 0 => {
                self.ticket.refuse();
                Err(refusal)
            }
            Some(_) | None => Err(give_up(self.ticket).await),
        }
    }

    /// Begins the attempt of a turn. Where it does not begin, the reason stands in the plan.
    pub(super) async fn begins(&mut self, turn: &Turn, deadlines: Deadlines) -> bool {
        let offer = &turn.planned.offer;
        let window = self.window(offer);
        let left = self.common.whole_until.saturating_duration_since(Instant::now());
        let room = match self.ticket.account().marks.lane {
            Lane::Interactive => deadlines.room,
            Lane::Batch => BATCH_WAIT,
        };
        let wait = if turn.mode == Mode::Waiting { room.min(left) } else { Duration::ZERO };
        let begun = if !self.course.is_large_enough(window) {
            Err(NotBegun::LeftOut(Reason::NoLargerWindow))
        } else if self.may_ask_while_loading(turn, deadlines).await {
            self.ticket.begin(turn, wait).await
        } else {
            return false;
        };
        let reason = match begun {
            Ok(()) => {
                self.note_last_resort(turn);
                return true;
            }
            Err(NotBegun::LeftOut(reason)) => reason,
            Err(NotBegun::NoRoom) => match self.course.no_room(turn, !deadlines.room.is_zero()) {
                Some(reason) => reason,
                None => return false,
            },
            Err(NotBegun::Refused(refusal)) => {
                let reason = Reason::told(&no_room_words(&refusal));
                self.no_room.get_or_insert(refusal);
                reason
            }
        };
        self.ticket.turned_out(&turn.planned, Standing::LeftOut, &reason);
        self.course.left_out(turn, &reason);
        false
    }

    /// Whether an offer may be asked though its server loads the model, or since it does not; where it is waited for that, after the wait.
    async fn may_ask_while_loading(&mut self, turn: &Turn, deadlines: Deadlines) -> bool {
        let (offer, now) = (&turn.planned.offer, self.ticket.app().clock.now());
        let state = self.ticket.app().fleet.offer(offer);
        if state.ask_while_loading(now).is_ok() {
            return true;
        }
        if let Mode::Held(until) = turn.mode {
            let until = until.unwrap_or_else(Instant::now).min(self.common.whole_until);
            return self.ticket.wait_for_load(turn, until).await;
        }
        let since = state.loads_since(now).unwrap_or(now);
        self.ticket.turned_out(&turn.planned, Standing::LeftOut, &Reason::Loads { since });
        self.course.loads(turn, deadlines.loading, Instant::now());
        false
    }

    fn note_last_resort(&mut self, turn: &Turn) {
        let app = self.ticket.app();
        let asking = app.fleet.asking(&turn.planned.offer, app.clock.now());
        if let (Mode::LastResort, Asking::Rests(until) | Asking::IsTried(until)) = (turn.mode, asking) {
            self.ticket.turned_out(&turn.planned, Standing::Taken, &Reason::RestsButLast { until });
        }
    }

    fn window(&self, offer: &OfferName) -> Option<std::num::NonZeroU32> {
        self.ticket.snapshot().catalogue.offer(offer).and_then(|(_, offer)| offer.context_window)
    }

    /// Makes the attempt that began last ready; `None` where the body is gone.
    pub(super) fn launch(&mut self, turn: &Turn, deadlines: Deadlines) -> Option<Result<Launch, Failure>> {
        // While its server loads the model, it is asked again.
        let is_kept = self.course.has_more()
            || matches!(turn.mode, Mode::Held(_))
            || self.body.as_ref().is_some_and(|body| body.bytes.len() <= KEPT_FOR_A_SECOND_TRY);
        let sent = if is_kept { self.body.clone() } else { self.body.take() }?;
        Some(Launch::prepare(&mut self.ticket, &self.common, &turn.planned.offer, deadlines, sent))
    }

    /// Whether another offer is tried after one that rejects the request: then the rejection is kept, should nobody else answer.
    pub(super) fn goes_past(
        &mut self,
        reply: RejectedReply,
        turn: &Turn,
        stage: &Stage,
    ) -> Result<Failure, RejectedReply> {
        let offer = &turn.planned.offer;
        let goes_on = match reply.kind {
            FailureKind::TooLong => {
                self.course.only_larger_than(self.window(offer));
                self.course.left().any(|planned| self.course.is_large_enough(self.window(&planned.offer)))
            }
            // Of one without a reason nobody knows whose fault it is; another server may.
            FailureKind::Malformed | FailureKind::Declined => {
                self.course.has_more() && stage.moves_on.contains(&reply.kind)
            }
            FailureKind::Rejected
            | FailureKind::Unreachable
            | FailureKind::TimedOut
            | FailureKind::RateLimited
            | FailureKind::Overloaded
            | FailureKind::Loading
            | FailureKind::ServerError
            | FailureKind::Misconfigured
            | FailureKind::CutOff => false,
        };
        if !goes_on {
            return Err(reply);
        }
        let failure = Failure::of_rejection(reply.status, reply.kind);
        self.rejected = Some((reply, offer.clone(), self.deadlines(stage)));
        Ok(failure)
    }
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
