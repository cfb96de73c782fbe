//! The ticket of an admitted request: opened by admission, it goes along through plan, attempts and relay, and notes what
//! happens on the way. [`super::settle`] closes it; dropped open it settles as left by its app.

use std::sync::{Arc, Weak};
use std::time::Instant;

use actix_web::http::header::HeaderValue;
use chrono::{DateTime, Utc};
use smallvec::SmallVec;
use wendor_core::catalog::route::Pick;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::preset::PresetOnRecord;
use wendor_core::name::{Name, OfferName};
use wendor_core::request_id::RequestId;
use wendor_core::routing::failure::FailedAttempt;
use wendor_core::routing::health::Asking;
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};
use wendor_core::routing::reason::Reason;
use wendor_wire::change::{RequestChange, first_changes};
use wendor_wire::cited::LeftOut;
use wendor_wire::failure::{Failure, FailureKind};

use super::account::Account;
use super::call::Call;
use super::open_attempt::{Ended, OpenAttempt};
use crate::allowances::Held;
use crate::app::App;
use crate::gate::NoRoom;
use crate::sharing;
use crate::snapshot::Snapshot;
use crate::spool::SpoolSlot;
use crate::under_way::Step;

/// Room for usual notes, so that writing them need not find more.
const USUAL_NOTES: usize = 256;

/// Notes in the header: more would be more than some clients take of a head. The record has all.
const MAX_NOTES: usize = 12;

/// Room for a request itself: of one quota, in most teams.
pub type HeldOfRequest = SmallVec<[Held; 1]>;

/// An admitted request on its way.
#[derive(Debug)]
pub struct Ticket {
    pub(super) account: Arc<Account>,
    /// Taken when the ticket is closed.
    pub(super) slot: Option<SpoolSlot>,
    pub(super) detail: RequestDetail,
    /// Attempts that are open.
    pub(super) open: SmallVec<[OpenAttempt; 1]>,
    /// Room for the request itself, whatever it uses.
    pub(super) held: HeldOfRequest,
    /// Where there is a limit to requests at once.
    _places: Vec<sharing::Place>,
    /// Room for what an attempt uses, while none has it.
    pub(super) spare: Vec<Held>,
    pub(super) admitted_ms: u64,
    /// When the attempt that answers began.
    pub(super) answering_ms: Option<u64>,
    pub(super) first_token_ms: Option<u64>,
}

/// What admission has taken for a request.
#[derive(Debug)]
pub struct Taken {
    /// Room for the request itself, whatever it uses.
    pub held: HeldOfRequest,
    /// Room for what its attempts use.
    pub spare: Vec<Held>,
    /// Where there is a limit to requests at once.
    pub places: Vec<sharing::Place>,
}

impl Ticket {
    /// Opens the ticket of an admitted request that has room in the spool and in the quotas that do not depend on the offer. Boxed,
    /// since it is handed on from step to step.
    #[must_use]
    pub fn open(account: Account, slot: SpoolSlot, taken: Taken) -> Box<Self> {
        let Taken { held, spare, places } = taken;
        let admitted_ms = account.call.elapsed_ms();
        let asked_as = account.asked_as.clone();
        let preset = account.preset.as_ref().map(|preset| preset.on_record.clone());
        let account = Arc::new(account);
        account.app.under_way.enter(Arc::downgrade(&account) as Weak<Account>);
        Box::new(Self {
            account,
            slot: Some(slot),
            detail: RequestDetail { asked_as, preset, ..RequestDetail::default() },
            open: SmallVec::new(),
            held,
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

    /// Before its body was read.
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

    /// The order of attempts that was decided on admission.
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
        let paced = |planned: &PlannedOffer| {
            let asked = self.account.ask_at(&planned.offer, &self.app().fleet.known(&planned.offer))?;
            let Err(NoRoom::Paced(wait)) = asked.look().room else { return None };
            Some(now + wait)
        };
        let soonest =
            self.detail.plan.offers.iter().filter_map(|planned| rest(planned).or_else(|| paced(planned))).min()?;
        u64::try_from((soonest - now).num_milliseconds()).ok()
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
        let leaving = self.account().leaving.as_ref().map(|leaving| leaving.words.as_str());
        let of_preset: Vec<String> = self.detail.preset.iter().flat_map(PresetOnRecord::notes).collect();
        let changes = || self.detail.changes.iter().filter(is_note).take(MAX_NOTES);
        if leaving.is_none() && more.is_none() && of_preset.is_empty() && changes().next().is_none() {
            return None;
        }
        let mut notes: SmallVec<[u8; USUAL_NOTES]> = SmallVec::new();
        let mut note = |parts: &[&str]| {
            notes.extend_from_slice(if notes.is_empty() { b"" } else { b"; " });
            parts.iter().for_each(|part| notes.extend_from_slice(part.as_bytes()));
        };
        [leaving, more].into_iter().flatten().for_each(|words| note(&[words]));
        of_preset.iter().for_each(|words| note(&[words.as_str()]));
        changes().for_each(|change| note(&[change.member(), ": ", &change.after()]));
        // A head holds visible ASCII alone.
        if notes.iter().all(|byte| (b' '..=b'~').contains(byte)) {
            return HeaderValue::from_bytes(&notes).ok();
        }
        HeaderValue::from_str(&String::from_utf8_lossy(&notes).escape_default().to_string()).ok()
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
                self.detail.attempts.push(open.was_slower().attempt);
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
