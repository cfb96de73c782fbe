//! One attempt, and where it lets wait for its first token another beside it: the first to speak wins, the other is given up and what it used
//! stands in a line of its own.
//!
//! A second attempt begins where the stage hedges, a little after the time within which nineteen of twenty first tokens come at that offer; and where
//! an offer that has rested is tried, once it is slow, so that no request waits for a trial that fails. Both are bounded by budgets.

use std::future::Future;
use std::pin::{Pin, pin};
use std::time::Duration;

use tokio::time::{Instant, sleep_until};
use wendor_core::catalog::route::{Deadlines, Stage};
use wendor_core::name::OfferName;
use wendor_wire::failure::{Failure, FailureKind};

use super::attempt::Walk;
use super::course::Turn;
use super::exchange::Reply;
use super::ticket::Ticket;
use crate::fleet::WaitsMs;

/// How long an offer that has rested is waited for before another is asked beside it, where nothing is known of its usual wait.
const TRIAL_WAIT: Duration = Duration::from_secs(1);

/// What came of an attempt and of the one beside it: the answer of one of them, or whether the next offer is tried.
pub(super) type Ran = Result<(Reply, OfferName, Deadlines), MovesOn>;

/// Whether the next offer is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct MovesOn(pub bool);

/// What is waited beyond that at least, in milliseconds.
const SPARE_MS: u64 = 10;

type Running<'r> = Pin<Box<dyn Future<Output = Result<Reply, Failure>> + 'r>>;

/// The attempt that is made beside another.
struct Beside<'r> {
    turn: Turn,
    number: u32,
    running: Running<'r>,
}

/// What happens first.
enum Event {
    First(Result<Reply, Failure>),
    Second(Result<Reply, Failure>),
    Bell,
}

/// When something is due while an attempt waits for its first token.
struct Bell {
    /// It is slow from then on.
    slow: Option<(Instant, u64)>,
    /// Another is asked beside it.
    hedge: Option<Instant>,
}

impl Bell {
    fn of(ticket: &Ticket, stage: &Stage) -> Self {
        let WaitsMs { slow: slow_ms, p95: p95_ms, .. } = ticket.attempt().known().offer.waits_ms();
        // Nothing is known of a whole reply's first token.
        let slow_ms = slow_ms.filter(|_| ticket.attempt().streamed);
        let now = Instant::now();
        let after = |millis| now + Duration::from_millis(millis);
        // A little later than nineteen of twenty: many come just about then.
        let usual = p95_ms.zip(slow_ms).map(|(p95, slow)| after((p95 + p95 / 4 + SPARE_MS).min(slow)));
        let hedge = match (ticket.attempt().is_trial(), stage.is_hedged) {
            (true, _) => Some(slow_ms.map_or(now + TRIAL_WAIT, after)),
            (false, true) => usual,
            (false, false) => None,
        };
        Self { slow: slow_ms.map(|millis| (after(millis), millis)), hedge }
    }

    fn due(&self) -> Option<Instant> {
        self.slow.map(|(at, _)| at).into_iter().chain(self.hedge).min()
    }
}

impl<'s> Walk<'s> {
    /// Runs the attempt that has begun for `turn`.
    pub(super) async fn race(&mut self, turn: Turn, stage: &Stage) -> Ran {
        let number = self.ticket.attempt().number();
        let launched = self.launch(&turn, self.deadlines(stage));
        let launch = match launched {
            Some(Ok(launch)) => launch,
            Some(Err(failure)) => return self.failed(turn, number, failure),
            None => return Err(MovesOn(false)),
        };
        let mut first = pin!(launch.run(self.clients));
        let mut bell = Bell::of(&self.ticket, stage);
        let mut beside: Option<Beside<'s>> = None;
        let mut has_failed = false;
        loop {
            let due = bell.due();
            let event = tokio::select! {
                biased;
                reply = &mut first, if !has_failed => Event::First(reply),
                reply = second(&mut beside), if beside.is_some() => Event::Second(reply),
                () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() && !has_failed => Event::Bell,
            };
            let (ran, is_first) = match event {
                Event::Bell => {
                    // Boxed: few attempts let wait so long.
                    Box::pin(self.ring(&turn, number, &mut bell, &mut beside)).await;
                    continue;
                }
                Event::First(reply) => (self.came(turn.clone(), number, stage, reply), true),
                Event::Second(reply) => {
                    let Some(Beside { turn, number, .. }) = beside.take() else { continue };
                    let stage = self.stage(&turn).unwrap_or(stage);
                    (self.came(turn, number, stage, reply), false)
                }
            };
            has_failed |= is_first;
            // While the other is under way, it may still answer.
            let is_other_open = if is_first { beside.is_some() } else { !has_failed };
            if ran.is_ok() || !is_other_open {
                return ran;
            }
        }
    }

    /// What is due is done.
    async fn ring(&mut self, turn: &Turn, number: u32, bell: &mut Bell, beside: &mut Option<Beside<'s>>) {
        let now = Instant::now();
        if let Some((_, slow_ms)) = bell.slow.take_if(|(at, _)| *at <= now) {
            self.ticket.is_slow(number, &format!("no first token within {slow_ms} ms, which is slow here"));
        }
        if bell.hedge.take_if(|at| *at <= now).is_some() && self.ticket.may_hedge(&turn.planned.offer, number) {
            *beside = self.second_attempt().await;
        }
    }

    /// Begins an attempt at the next offer that has room.
    async fn second_attempt(&mut self) -> Option<Beside<'s>> {
        while let Some(turn) = self.course.pop_usual() {
            let Some(deadlines) = self.stage(&turn).map(|stage| self.deadlines(stage)) else { continue };
            if !self.begins(&turn, deadlines).await {
                continue;
            }
            let number = self.ticket.attempt().number();
            return match self.launch(&turn, deadlines)? {
                Ok(launch) => Some(Beside { turn, number, running: Box::pin(launch.run(self.clients)) }),
                Err(failure) => {
                    self.ticket.failed(number, failure);
                    None
                }
            };
        }
        None
    }

    /// One of them has come to something.
    fn came(&mut self, turn: Turn, number: u32, stage: &Stage, reply: Result<Reply, Failure>) -> Ran {
        let reply = match reply {
            Err(failure) => return self.failed(turn, number, failure),
            Ok(Reply::Rejected(reply)) => match self.goes_past(reply, &turn, stage) {
                Ok(failure) => return self.failed(turn, number, failure),
                Err(reply) => {
                    self.ticket.is_the_one(number);
                    Reply::Rejected(reply)
                }
            },
            Ok(reply @ (Reply::Stream(_) | Reply::Whole(_))) => {
                self.ticket.is_the_one(number);
                self.ticket.answering();
                reply
            }
        };
        Ok((reply, turn.planned.offer, self.deadlines(stage)))
    }

    fn failed(&mut self, turn: Turn, number: u32, mut failure: Failure) -> Ran {
        // That an app waits for less than its stage would is not the offer's failure.
        failure.is_of_request |= failure.kind == FailureKind::TimedOut
            && self.stage(&turn).is_some_and(|stage| self.deadlines(stage) != stage.deadlines.into());
        let is_named = self.stage(&turn).is_some_and(|stage| stage.moves_on.contains(&failure.kind));
        let loads = failure.kind == FailureKind::Loading;
        let moves_on = failure.is_of_request || is_named || loads;
        self.ticket.failed(number, failure);
        if let (true, Some(stage)) = (loads, self.stage(&turn)) {
            self.course.loads(&turn, self.deadlines(stage).loading, Instant::now());
        }
        Err(MovesOn(moves_on))
    }
}

async fn second(beside: &mut Option<Beside<'_>>) -> Result<Reply, Failure> {
    match beside {
        Some(beside) => beside.running.as_mut().await,
        None => std::future::pending().await,
    }
}
