//! How an attempt begins: its offer may be asked, there is room for it at its upstream (waited for where it is), in the budget of extra attempts, in
//! the spool and in the quotas.

use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use wendor_core::metering::detail::{RoomWait, WaitFor};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::Measure;
use wendor_core::routing::plan::{PlannedOffer, Standing};
use wendor_core::routing::queue::QueueFull;
use wendor_core::routing::reason::Reason;
use wendor_core::routing::retries::Exhausted;

use super::account::{GateRoom, RoomAsked};
use super::course::{Mode, NotBegun, Turn, may_be_asked};
use super::open_attempt::{OpenAttempt, Taken};
use super::refusal::{Caller, QuotaFull, Refusal};
use super::ticket::Ticket;
use crate::allowances::Held;
use crate::fleet::{Asked, Known};
use crate::gate::{Ask, AttemptRoom, NoRoom, Permit, Place};
use crate::under_way::Step;

impl Ticket {
    /// An attempt begins, if its offer may be asked and there is room for it: it takes room at the upstream, a place in the spool for a
    /// line of its own, and room in the quotas for its worst case.
    ///
    /// # Errors
    /// Why it does not begin.
    pub async fn begin(&mut self, turn: &Turn, wait: Duration) -> Result<(), NotBegun> {
        let app = self.app().clone();
        let offer = &turn.planned.offer;
        let is_last = turn.mode == Mode::LastResort;
        // Looked at before it is waited, and again when its turn has come.
        let known = app.fleet.known(offer);
        may_be_asked(known.asking(app.clock.now()), is_last)?;
        let room = self.room(turn, wait, &known).await?;
        let now = app.clock.now();
        let asked = Asked::begin(known, offer, now, is_last).map_err(NotBegun::LeftOut)?;
        // It is the same attempt that is made again.
        if !matches!(turn.mode, Mode::Held(_)) {
            self.spend_retry(&asked, now)?;
        }
        let slot = app.spool.take_slot().map_err(|full| NotBegun::Refused(Refusal::NoSpool(full)))?;
        let held = self.reserve(&turn.planned, asked.known()).await.map_err(NotBegun::Refused)?;
        let number = u32::try_from(self.tries() + 1).unwrap_or(u32::MAX);
        self.detail.reserved_cost = turn.planned.expected_cost.max(self.detail.reserved_cost);
        let taken = Taken { held, slot, room, asked };
        self.came_to(Step::Sent(offer.clone(), number));
        self.open.push(OpenAttempt::begin(&self.account, number, offer.clone(), taken));
        Ok(())
    }

    /// A first attempt counts as a request of its upstream; a further one is charged to the upstream that was asked before it.
    fn spend_retry(&self, asked: &Asked, now: DateTime<Utc>) -> Result<(), NotBegun> {
        let open = self.open.last().map(OpenAttempt::offer);
        let before = open.or_else(|| self.detail.attempts.last().map(|attempt| &attempt.offer));
        let fleet = &self.app().fleet;
        let Some(before) = before else {
            let upstream = &asked.known().upstream;
            upstream.retries().first(now);
            upstream.hedges().first(now);
            return Ok(());
        };
        let spent = fleet.upstream(before.upstream()).retries().extra(now);
        spent.map_err(|Exhausted { extra, requests }| {
            NotBegun::LeftOut(Reason::NoRetries { after: before.upstream().clone(), extra, requests })
        })
    }

    /// Room at an offer and its upstream: at once, or after waiting for it for at most so long.
    async fn room(&mut self, turn: &Turn, wait: Duration, known: &Known) -> Result<AttemptRoom, NotBegun> {
        let name = &turn.planned.offer;
        let RoomAsked { ask, upstream, offer } = self.account.ask_at(name, known).ok_or(NotBegun::NoRoom)?;
        let until = Instant::now() + wait;
        let offer = match offer {
            Some(gate) => Some(self.room_at(name, &ask, &gate, wait).await?),
            None => None,
        };
        let left = until.saturating_duration_since(Instant::now());
        let upstream = self.room_at(name, &ask, &upstream, left).await?;
        Ok(AttemptRoom { upstream, offer })
    }

    async fn room_at(
        &mut self,
        offer: &OfferName,
        ask: &Ask<Name>,
        GateRoom { gate, limits }: &GateRoom,
        wait: Duration,
    ) -> Result<Permit, NotBegun> {
        match gate.take(ask.clone(), *limits) {
            Ok(permit) => return Ok(permit),
            Err(_) if wait.is_zero() => return Err(NotBegun::NoRoom),
            // It would wait in vain.
            Err(NoRoom::Paced(paced)) if paced > wait => return Err(NotBegun::LeftOut(Reason::paced(paced))),
            // There may be in time.
            Err(
                NoRoom::Paced(_)
                | NoRoom::Full
                | NoRoom::Tokens { .. }
                | NoRoom::ForInteractive
                | NoRoom::ForWaiting
                | NoRoom::ForOthers,
            ) => {}
        }
        let full = |full: QueueFull| {
            NotBegun::LeftOut(Reason::QueueFull { waiting: u32::try_from(full.waiting).unwrap_or(u32::MAX) })
        };
        let waiting = gate.wait(ask, *limits).map_err(full)?;
        let began_ms = self.call().elapsed_ms();
        self.begin_wait(offer, WaitFor::Room, Some(waiting.place()));
        let permit = tokio::time::timeout(wait, waiting.permit()).await;
        let ended_ms = self.end_wait();
        let waited_ms = ended_ms.saturating_sub(began_ms);
        let waited = Duration::from_millis(waited_ms).as_secs_f64();
        self.app().metrics.room_wait.with_label_values(&[offer.upstream().as_str()]).observe(waited);
        permit.map_err(|_elapsed| NotBegun::LeftOut(Reason::NoRoom { waited_ms }))
    }

    pub(super) fn came_to(&self, step: Step) {
        self.account.how_far.set(step, self.call().elapsed_ms());
    }

    /// Noted while it waits, so that whoever gives up meanwhile has it on the record.
    fn begin_wait(&mut self, offer: &OfferName, what: WaitFor, place: Option<Place>) {
        self.came_to(Step::Waiting(what, offer.clone(), place));
        let began_ms = self.call().elapsed_ms();
        match self.detail.waits.last_mut() {
            // A wait for a load goes on while it is asked again.
            Some(last) if what == WaitFor::Load && last.what == what && last.offer == *offer => last.ended_ms = None,
            Some(_) | None => self.detail.waits.push(RoomWait { offer: offer.clone(), what, began_ms, ended_ms: None }),
        }
    }

    fn end_wait(&mut self) -> u64 {
        let ended_ms = self.call().elapsed_ms();
        if let Some(wait) = self.detail.waits.last_mut() {
            wait.ended_ms = Some(ended_ms);
        }
        self.came_to(Step::Planned);
        ended_ms
    }

    /// Waits until an offer may be asked whose server loads the model. Says whether that came in time.
    pub async fn wait_for_load(&mut self, turn: &Turn, until: tokio::time::Instant) -> bool {
        let offer = &turn.planned.offer;
        let (app, state) = (self.app().clone(), self.app().fleet.offer(offer));
        self.begin_wait(offer, WaitFor::Load, None);
        let may = loop {
            let loaded = state.loaded();
            let Err(next) = state.ask_while_loading(app.clock.now()) else { break true };
            let now = tokio::time::Instant::now();
            if now >= until {
                break false;
            }
            let wait = (next - app.clock.now()).to_std().unwrap_or_default();
            tokio::select! {
                () = loaded => {}
                () = tokio::time::sleep_until(until.min(now + wait)) => {}
            }
        };
        self.end_wait();
        if !may {
            let waits = self.detail.waits.iter().filter(|wait| wait.what == WaitFor::Load && wait.offer == *offer);
            let waited_ms = waits.filter_map(|wait| Some(wait.ended_ms?.saturating_sub(wait.began_ms))).sum();
            self.turned_out(&turn.planned, Standing::LeftOut, &Reason::NotLoaded { waited_ms });
        }
        may
    }

    /// Room for the worst case of an attempt. What admission has reserved of tokens goes to the first one, and on to the next as long
    /// as none has used any of it; an attempt after one that did takes its own.
    async fn reserve(&mut self, turn: &PlannedOffer, known: &Known) -> Result<Vec<Held>, Refusal> {
        let account = self.account.clone();
        let mut held = std::mem::take(&mut self.spare);
        for (id, quota) in account.snapshot.quotas(&account.key.team) {
            if quota.measure == Measure::Requests || held.iter().any(|held| held.quota() == id) {
                continue;
            }
            let amount = match quota.measure {
                Measure::Cost => turn.expected_cost.unwrap_or_default().amount(),
                Measure::Requests | Measure::InputTokens | Measure::OutputTokens | Measure::Tokens => {
                    account.worst_at(&turn.offer, &known.offer).of(quota.measure).unwrap_or_default()
                }
            };
            match account.app.allowances.reserve(id, quota, amount, self.arrived_at()).await {
                Ok(taken) => held.push(taken),
                Err(over) => {
                    let refusal = self.over_quota(over);
                    self.spare.extend(held.into_iter().filter(|held| held.measure() != Measure::Cost));
                    return Err(refusal);
                }
            }
        }
        Ok(held)
    }

    fn over_quota(&self, over: crate::allowances::OverQuota) -> Refusal {
        Refusal::OverQuota(Box::new(QuotaFull {
            team: self.account.key.team.to_string(),
            over,
            now: self.arrived_at(),
            caller: Caller {
                key: Some(self.account.key.id.clone()),
                route: Some(self.route().to_string()),
                wanted: None,
            },
        }))
    }
}
