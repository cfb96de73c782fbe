//! The ticket of an admitted request: opened by admission, it goes along through plan, attempts and relay, and notes what
//! happens on the way. [`super::settle`] closes it; dropped open it settles as left by its app.

use std::sync::Arc;
use std::time::Instant;

use actix_web::http::header::HeaderValue;
use chrono::{DateTime, Utc};
use wendor_core::metering::detail::{RequestChange, RequestDetail, first_changes};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::Measure;
use wendor_core::request_id::RequestId;
use wendor_core::routing::failure::{FailedAttempt, Failure};
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};
use wendor_core::wire::cited::LeftOut;

use super::Call;
use super::account::Account;
use super::open_attempt::{OpenAttempt, Taken};
use super::refusal::{Caller, QuotaFull, Refusal};
use crate::allowances::Held;
use crate::app::App;
use crate::fleet::StreamPermit;
use crate::sharing::Place;
use crate::snapshot::Snapshot;
use crate::spool::SpoolSlot;

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
    _places: Vec<Place>,
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
    pub fn open(account: Account, slot: SpoolSlot, held: Vec<Held>, places: Vec<Place>) -> Box<Self> {
        let admitted_ms = account.call.elapsed_ms();
        // Each as large as it has to be: they are kept for as long as a stream is open.
        let of_request = held.iter().filter(|held| held.measure() == Measure::Requests).count();
        let (mut own, mut spare) = (Vec::with_capacity(of_request), Vec::with_capacity(held.len() - of_request));
        for held in held {
            let part = if held.measure() == Measure::Requests { &mut own } else { &mut spare };
            part.push(held);
        }
        Box::new(Self {
            account: Arc::new(account),
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

    /// A number that differs by request, for choices by chance.
    #[must_use]
    pub fn seed(&self) -> u64 {
        use std::hash::{DefaultHasher, Hash, Hasher};
        let mut hasher = DefaultHasher::new();
        self.id().hash(&mut hasher);
        hasher.finish()
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

    /// An offer of the plan is passed over after all.
    pub fn left_out(&mut self, offer: &OfferName, reason: &str) {
        for planned in self.detail.plan.offers.iter_mut().filter(|planned| planned.offer == *offer) {
            planned.standing = Standing::LeftOut;
            reason.clone_into(&mut planned.reason);
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
            .map(|planned| format!("{}: {}", planned.offer, planned.reason))
            .collect()
    }

    /// In how many milliseconds the first resting upstream of the plan may be asked again.
    #[must_use]
    pub fn soonest_return_ms(&self) -> Option<u64> {
        let now = self.arrived_at();
        let rest =
            |planned: &PlannedOffer| self.app().fleet.upstream(planned.offer.upstream()).health().rests_until(now);
        let soonest = self.detail.plan.offers.iter().filter_map(rest).min()?;
        u64::try_from((soonest - now).num_milliseconds()).ok()
    }

    /// An attempt begins: it takes a place in the spool for a line of its own, room in the quotas for its worst case, and counts as a
    /// stream of the upstream.
    ///
    /// # Errors
    /// [`Refusal`] when there is no room for it.
    pub async fn begin(&mut self, turn: &PlannedOffer) -> Result<(), Refusal> {
        let slot = self.app().spool.take_slot().map_err(Refusal::NoSpool)?;
        let held = self.reserve(turn).await?;
        let permit = StreamPermit::take(self.app().fleet.upstream(turn.offer.upstream()), &self.account.key.team);
        let number = u32::try_from(self.tries() + 1).unwrap_or(u32::MAX);
        self.detail.reserved_cost = turn.expected_cost.max(self.detail.reserved_cost);
        self.open.reserve_exact(1);
        self.open.push(OpenAttempt::begin(&self.account, number, turn.offer.clone(), Taken { held, slot, permit }));
        Ok(())
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
        self.detail.changes = first_changes(changes);
        if let Some(open) = self.open.last_mut() {
            open.streamed = streamed;
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

    /// The attempt that began last failed.
    pub fn failed(&mut self, failure: Failure) {
        let Some(open) = self.open.pop() else { return };
        self.count_failure(open.offer(), &failure);
        let ended = open.failed(failure);
        self.detail.attempts.push(ended.attempt);
        self.spare.extend(ended.spare);
    }

    pub(super) fn count_failure(&self, offer: &OfferName, failure: &Failure) {
        let app = self.app();
        app.fleet.upstream(offer.upstream()).health().failed(app.clock.now(), offer.model(), failure);
        app.metrics.attempt_failures.with_label_values(&[offer.upstream().as_str(), failure.kind.as_str()]).inc();
    }

    /// The attempt that began last answers. Only a stream tells when its first token was there; a whole reply comes all at once.
    pub fn answering(&mut self) {
        let now_ms = self.call().elapsed_ms();
        let began_ms = self.attempt().began_ms();
        self.answering_ms = Some(began_ms);
        self.first_token_ms = self.account.streamed.then_some(now_ms);
        let app = self.app();
        let wait_ms = self.first_token_ms.map(|first_ms| first_ms.saturating_sub(began_ms));
        app.fleet.upstream(self.attempt().offer().upstream()).health().succeeded(app.clock.now(), wait_ms);
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
