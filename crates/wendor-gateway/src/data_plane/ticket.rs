//! The ticket of an admitted request: opened by admission, it goes along through plan, attempts and relay, and notes what
//! happens on the way. [`super::settle`] closes it; dropped open it settles as left by its app.

use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::http::header::HeaderValue;
use chrono::{DateTime, Utc};
use wendor_core::catalog::route::Pick;
use wendor_core::metering::detail::{RequestChange, RequestDetail, RoomWait, WaitFor, first_changes};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::Measure;
use wendor_core::request_id::RequestId;
use wendor_core::routing::failure::{FailedAttempt, Failure, FailureKind};
use wendor_core::routing::health::Asking;
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};
use wendor_core::routing::queue::QueueFull;
use wendor_core::routing::reason::Reason;
use wendor_core::routing::retries::Exhausted;
use wendor_core::wire::cited::LeftOut;

use super::Call;
use super::account::{Account, RoomAsked};
use super::course::{Mode, NotBegun, Turn, may_be_asked};
use super::open_attempt::{Ended, OpenAttempt, Taken};
use super::refusal::{Caller, QuotaFull, Refusal};
use crate::allowances::Held;
use crate::app::App;
use crate::fleet::Asked;
use crate::gate::{Ask, AttemptRoom, Gate, Limits, NoRoom, Permit, Place};
use crate::sharing;
use crate::snapshot::Snapshot;
use crate::spool::SpoolSlot;
use crate::under_way::Step;

/// Notes in the header: more would be more than some clients take of a head. The record has all.
const MAX_NOTES: usize = 12;

/// An admitted request on its way.
#[derive(Debug)]
pub struct Ticket {
    pub(super) account: Arc<Account>,
    /// Taken when the ticket is closed.
    pub(super) slot: Option<SpoolSlot>,
    pub(super) detail: RequestDetail,
    /// Attempts that are open.
    pub(super) open: Vec<OpenAttempt>,
    /// Room for the request itself, whatever it uses.
    pub(super) held: Vec<Held>,
    /// Where there is a limit to requests at once.
    _places: Vec<sharing::Place>,
    /// Room for what an attempt uses, while none has it.
    spare: Vec<Held>,
    pub(super) admitted_ms: u64,
    /// When the attempt that answers began.
    pub(super) answering_ms: Option<u64>,
    pub(super) first_token_ms: Option<u64>,
}

impl Ticket {
    /// Opens the ticket of an admitted request that has room in the spool and in the quotas that do not depend on the offer. Boxed,
    /// since it is handed on from step to step.
    #[must_use]
    pub fn open(account: Account, slot: SpoolSlot, held: Vec<Held>, places: Vec<sharing::Place>) -> Box<Self> {
        let admitted_ms = account.call.elapsed_ms();
        // Each as large as it has to be: they are kept for as long as a stream is open.
        let of_request = held.iter().filter(|held| held.measure() == Measure::Requests).count();
        let (mut own, mut spare) = (Vec::with_capacity(of_request), Vec::with_capacity(held.len() - of_request));
        for held in held {
            let part = if held.measure() == Measure::Requests { &mut own } else { &mut spare };
            part.push(held);
        }
        let account = Arc::new(account);
        account.app.under_way.enter(&account);
        Box::new(Self {
            account,
            slot: Some(slot),
            detail: RequestDetail::default(),
            open: Vec::new(),
            held: own,
            _places: places,
            spare,
            admitted_ms,
            answering_ms: None,
            first_token_ms: None,
        })
    }

    /// What is known of the request since its admission.
    #[must_use]
    pub fn account(&self) -> &Account {
        &self.account
    }

    /// The same, for whoever outlives the ticket.
    #[must_use]
    pub fn shared_account(&self) -> Arc<Account> {
        self.account.clone()
    }

    /// The request's id.
    #[must_use]
    pub fn id(&self) -> &RequestId {
        &self.account.call.id
    }

    /// The request as it arrived.
    #[must_use]
    pub fn call(&self) -> &Call {
        &self.account.call
    }

    /// When it arrived.
    #[must_use]
    pub fn arrived_at(&self) -> DateTime<Utc> {
        self.account.call.arrived_at
    }

    /// The same on the clock that only runs forward.
    #[must_use]
    pub fn started(&self) -> Instant {
        self.account.call.started
    }

    /// The service.
    #[must_use]
    pub fn app(&self) -> &Arc<App> {
        &self.account.app
    }

    /// What the request is served by.
    #[must_use]
    pub fn snapshot(&self) -> &Arc<Snapshot> {
        &self.account.snapshot
    }

    /// The route asked.
    #[must_use]
    pub fn route(&self) -> &Name {
        &self.account.route
    }

    /// Keeps the plan.
    pub fn planned(&mut self, plan: Plan) {
        self.detail.plan = plan;
    }

    /// The plan.
    #[must_use]
    pub fn plan(&self) -> &Plan {
        &self.detail.plan
    }

    /// Attempts begun.
    #[must_use]
    pub fn tries(&self) -> usize {
        self.detail.attempts.len() + self.open.len()
    }

    /// It turns out at its turn that an offer of the plan stands otherwise than planned.
    pub fn turned_out(&mut self, turn: &PlannedOffer, standing: Standing, reason: &Reason) {
        let is_it = |planned: &&mut PlannedOffer| planned.offer == turn.offer && planned.stage == turn.stage;
        for planned in self.detail.plan.offers.iter_mut().filter(is_it) {
            planned.standing = standing;
            planned.reason = reason.clone();
        }
    }

    /// Why offers were left out.
    #[must_use]
    pub fn reasons_left_out(&self) -> Vec<String> {
        let left_out = |planned: &&PlannedOffer| planned.standing == Standing::LeftOut;
        self.detail
            .plan
            .offers
            .iter()
            .filter(left_out)
            .map(|planned| format!("{}: {}", planned.offer, planned.reason.words()))
            .collect()
    }

    /// In how many milliseconds the first offer of the plan that rests or asked to be left alone may be asked again.
    #[must_use]
    pub fn soonest_return_ms(&self) -> Option<u64> {
        let now = self.app().clock.now();
        let rest = |planned: &PlannedOffer| match self.app().fleet.asking(&planned.offer, now) {
            Asking::LeftAlone(until) | Asking::Rests(until) | Asking::IsTried(until) => Some(until),
            Asking::Freely | Asking::OnTrial => None,
        };
        let paced = |planned: &PlannedOffer| match self.account.ask_at(&planned.offer)?.look() {
            Err(NoRoom::Paced(wait)) => Some(now + wait),
            Ok(()) | Err(NoRoom::Full | NoRoom::ForOthers) => None,
        };
        let soonest =
            self.detail.plan.offers.iter().filter_map(|planned| rest(planned).or_else(|| paced(planned))).min()?;
        u64::try_from((soonest - now).num_milliseconds()).ok()
    }

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
        may_be_asked(app.fleet.asking(offer, app.clock.now()), is_last)?;
        let room = self.room(turn, wait).await?;
        let now = app.clock.now();
        let asked = Asked::begin(&app.fleet, offer, now, is_last).map_err(NotBegun::LeftOut)?;
        // It is the same attempt that is made again.
        if !matches!(turn.mode, Mode::Held(_)) {
            self.spend_retry(offer, now)?;
        }
        let slot = app.spool.take_slot().map_err(|full| NotBegun::Refused(Refusal::NoSpool(full)))?;
        let held = self.reserve(&turn.planned).await.map_err(NotBegun::Refused)?;
        let number = u32::try_from(self.tries() + 1).unwrap_or(u32::MAX);
        self.detail.reserved_cost = turn.planned.expected_cost.max(self.detail.reserved_cost);
        self.open.reserve_exact(1);
        let taken = Taken { held, slot, room, asked };
        self.came_to(Step::Sent(offer.clone(), number));
        self.open.push(OpenAttempt::begin(&self.account, number, offer.clone(), taken));
        Ok(())
    }

    /// A first attempt counts as a request of its upstream; a further one is charged to the upstream that was asked before it.
    fn spend_retry(&self, offer: &OfferName, now: DateTime<Utc>) -> Result<(), NotBegun> {
        let open = self.open.last().map(OpenAttempt::offer);
        let before = open.or_else(|| self.detail.attempts.last().map(|attempt| &attempt.offer));
        let fleet = &self.app().fleet;
        let Some(before) = before else {
            let upstream = fleet.upstream(offer.upstream());
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
    async fn room(&mut self, turn: &Turn, wait: Duration) -> Result<AttemptRoom, NotBegun> {
        let name = &turn.planned.offer;
        let RoomAsked { ask, upstream, offer } = self.account.ask_at(name).ok_or(NotBegun::NoRoom)?;
        let until = Instant::now() + wait;
        let offer = match offer {
            Some(gate) => Some(self.room_at(name, (&ask, gate), wait).await?),
            None => None,
        };
        let left = until.saturating_duration_since(Instant::now());
        let upstream = self.room_at(name, (&ask, upstream), left).await?;
        Ok(AttemptRoom { upstream, offer })
    }

    async fn room_at(
        &mut self,
        offer: &OfferName,
        (ask, (gate, limits)): (&Ask<Name>, (Arc<Gate>, Limits)),
        wait: Duration,
    ) -> Result<Permit, NotBegun> {
        match gate.take(ask.clone(), limits) {
            Ok(permit) => return Ok(permit),
            Err(_) if wait.is_zero() => return Err(NotBegun::NoRoom),
            // It would wait in vain.
            Err(NoRoom::Paced(paced)) if paced > wait => return Err(NotBegun::LeftOut(Reason::paced(paced))),
            Err(NoRoom::Paced(_) | NoRoom::Full | NoRoom::ForOthers) => {}
        }
        let full = |full: QueueFull| {
            NotBegun::LeftOut(Reason::QueueFull { waiting: u32::try_from(full.waiting).unwrap_or(u32::MAX) })
        };
        let waiting = gate.wait(ask, limits).map_err(full)?;
        let began_ms = self.call().elapsed_ms();
        self.begin_wait(offer, WaitFor::Room, Some(waiting.place()));
        let permit = tokio::time::timeout(wait, waiting.permit()).await;
        let ended_ms = self.end_wait();
        let waited_ms = ended_ms.saturating_sub(began_ms);
        let waited = Duration::from_millis(waited_ms).as_secs_f64();
        self.app().metrics.room_wait.with_label_values(&[offer.upstream().as_str()]).observe(waited);
        permit.map_err(|_elapsed| NotBegun::LeftOut(Reason::NoRoom { waited_ms }))
    }

    fn came_to(&self, step: Step) {
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
    async fn reserve(&mut self, turn: &PlannedOffer) -> Result<Vec<Held>, Refusal> {
        let account = self.account.clone();
        let mut held: Vec<Held> = Vec::with_capacity(self.spare.len() + 1);
        for (id, quota) in account.snapshot.quotas(&account.key.team) {
            if quota.measure == Measure::Requests {
                continue;
            }
            if let Some(place) = self.spare.iter().position(|spare| spare.quota() == id) {
                held.push(self.spare.swap_remove(place));
                continue;
            }
            let amount = match quota.measure {
                Measure::Cost => turn.expected_cost.unwrap_or_default().amount(),
                Measure::Requests | Measure::InputTokens | Measure::OutputTokens | Measure::Tokens => {
                    account.worst_at(&turn.offer).of(quota.measure).unwrap_or_default()
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
        if self.spare.is_empty() {
            self.spare = Vec::new();
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

    /// The attempt that began last.
    ///
    /// # Panics
    /// When none is open: whoever asks has begun one.
    #[must_use]
    pub fn attempt(&self) -> &OpenAttempt {
        self.open.last().expect("an attempt was begun")
    }

    /// The attempt that began last asks for its answer in this way, with these changes to the request.
    pub fn asking(&mut self, streamed: bool, changes: Vec<RequestChange>) {
        if let Some(open) = self.open.last_mut() {
            open.streamed = streamed;
            open.changes = first_changes(changes);
        }
    }

    /// That much of the answer has no words in the app's dialect.
    pub fn unsayable(&mut self, left_out: LeftOut) {
        self.detail.changes.extend(left_out.changes(self.call().dialect));
    }

    /// Notes of the request on its way, for the header that tells the app; `None` when there are none. `more` is not on the record.
    #[must_use]
    pub fn notes(&self, more: Option<&str>) -> Option<HeaderValue> {
        let is_note = |change: &&RequestChange| !change.is_of_every_request();
        let mut notes = more.unwrap_or_default().to_owned();
        for change in self.detail.changes.iter().filter(is_note).take(MAX_NOTES) {
            let parts = [if notes.is_empty() { "" } else { "; " }, change.member(), ": ", change.after()];
            parts.into_iter().for_each(|part| notes.push_str(part));
        }
        if notes.is_empty() {
            return None;
        }
        // A head holds visible ASCII alone.
        if !notes.bytes().all(|byte| (b' '..=b'~').contains(&byte)) {
            notes = notes.escape_default().to_string();
        }
        HeaderValue::from_str(&notes).ok()
    }

    /// An attempt failed.
    pub fn failed(&mut self, number: u32, failure: Failure) {
        let Some(place) = self.open.iter().position(|open| open.number() == number) else { return };
        let mut open = self.open.remove(place);
        self.detail.changes = std::mem::take(&mut open.changes);
        open.tell_failure(&failure);
        let loads = failure.kind == FailureKind::Loading;
        let Ended { attempt, spare } = open.failed(failure);
        self.spare.extend(spare);
        // Asked again while its server loads the model, it is one attempt, and what it waits since is told apart.
        let is_same = self.detail.attempts.last().is_some_and(|last| loads && last.is_loading_at(&attempt.offer));
        if !is_same {
            self.detail.attempts.push(attempt);
        }
    }

    /// An attempt is waited for longer than is usual at its offer.
    pub fn is_slow(&mut self, number: u32, why: &str) {
        if let Some(open) = self.open.iter_mut().find(|open| open.number() == number) {
            open.tell_slow(why);
        }
    }

    /// Whether another offer may be asked beside that attempt.
    #[must_use]
    pub fn may_hedge(&self, offer: &OfferName, number: u32) -> bool {
        let is_trial = self.open.iter().any(|open| open.number() == number && open.is_trial());
        let app = self.app();
        is_trial || app.fleet.upstream(offer.upstream()).hedges().extra(app.clock.now()).is_ok()
    }

    /// This attempt is the one whose answer goes to the app: every other that is open is given up.
    pub fn is_the_one(&mut self, number: u32) {
        for open in std::mem::take(&mut self.open) {
            if open.number() == number {
                self.open.push(open);
            } else {
                self.detail.attempts.push(open.given_up().attempt);
            }
        }
        if let Some(open) = self.open.last_mut() {
            self.detail.changes = std::mem::take(&mut open.changes);
        }
    }

    /// The attempt that began last answers. Only a stream tells when its first token was there; a whole reply comes all at once.
    pub fn answering(&mut self) {
        let now_ms = self.call().elapsed_ms();
        let began_ms = self.attempt().began_ms();
        self.came_to(Step::Answering(self.attempt().offer().clone(), 0));
        self.answering_ms = Some(began_ms);
        self.first_token_ms = self.account.streamed.then_some(now_ms);
        let wait_ms = self.first_token_ms.map(|first_ms| first_ms.saturating_sub(began_ms));
        if let Some(open) = self.open.last_mut() {
            open.tell_success(wait_ms);
        }
        self.count_together();
    }

    /// Where turns of a conversation are kept together, whether this one was.
    fn count_together(&self) {
        let offer = self.attempt().offer();
        let is_it = |planned: &&PlannedOffer| planned.offer == *offer && planned.pick == Pick::Together;
        let Some(planned) = self.detail.plan.offers.iter().find(is_it) else { return };
        let kept = if planned.reason == Reason::OfConversation { "yes" } else { "no" };
        self.app().metrics.together.with_label_values(&[self.route().as_str(), kept]).inc();
    }

    /// The attempts that failed so far.
    #[must_use]
    pub fn failed_attempts(&self) -> Vec<FailedAttempt> {
        let of = |attempt: &wendor_core::metering::detail::Attempt| {
            Some(FailedAttempt { offer: attempt.offer.clone(), failure: attempt.failure.clone()? })
        };
        self.detail.attempts.iter().filter_map(of).collect()
    }

    /// Closes the ticket of a request that is refused after all: nothing was asked of an upstream, nothing is recorded.
    pub fn refuse(mut self: Box<Self>) {
        self.slot = None;
    }
}
