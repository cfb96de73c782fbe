//! The ticket of an admitted request: opened by admission, it goes along through plan, attempts and relay, and notes what
//! happens on the way. [`super::settle`] closes it; dropped open it settles as cancelled.

use std::sync::Arc;
use std::time::Instant;

use actix_web::http::header::HeaderValue;
use chrono::{DateTime, Utc};
use wendor_core::catalog::key::AppKey;
use wendor_core::metering::entry::{Attempt, RequestChange, RequestDetail, ServedFrom};
use wendor_core::metering::money::Money;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::use_of::WorstCase;
use wendor_core::quota::{Measure, QuotaId};
use wendor_core::request_id::RequestId;
use wendor_core::routing::failure::{FailedAttempt, Failure};
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};

use super::Call;
use super::marks::Marks;
use super::refusal::{Caller, QuotaFull, Refusal};
use crate::allowances::Held;
use crate::app::App;
use crate::fleet::StreamPermit;
use crate::snapshot::Snapshot;
use crate::spool::SpoolSlot;

/// Notes in the header: more would be more than some clients take of a head. The record has all.
const MAX_NOTES: usize = 12;

/// What admission hands over.
#[derive(Debug)]
pub struct Admission {
    /// The service.
    pub app: Arc<App>,
    /// The request.
    pub call: Call,
    /// What it is served by.
    pub snapshot: Arc<Snapshot>,
    /// Who asks.
    pub key: Arc<AppKey>,
    /// The app's marks.
    pub marks: Marks,
    /// For which route.
    pub route: Name,
    /// Whether as a stream.
    pub streamed: bool,
    /// What it may use at most.
    pub worst: WorstCase,
    /// What was reserved.
    pub held: Vec<Held>,
}

/// An admitted request on its way.
#[derive(Debug)]
pub struct Ticket {
    pub(super) admission: Admission,
    /// Taken when the ticket is closed.
    pub(super) slot: Option<SpoolSlot>,
    pub(super) detail: RequestDetail,
    /// The attempt under way, or the one that answers.
    pub(super) running: Option<Running>,
    pub(super) admitted_ms: u64,
    /// Whether the attempt under way has begun to answer.
    pub(super) is_answering: bool,
    pub(super) first_token_ms: Option<u64>,
}

/// An attempt under way.
#[derive(Debug)]
pub(super) struct Running {
    pub(super) offer: OfferName,
    pub(super) began_ms: u64,
}

impl Ticket {
    /// Opens the ticket of an admitted request that has room in the spool. Boxed, since it is handed on from step to step.
    #[must_use]
    pub fn open(admission: Admission, slot: SpoolSlot) -> Box<Self> {
        let admitted_ms = admission.call.elapsed_ms();
        Box::new(Self {
            admission,
            slot: Some(slot),
            detail: RequestDetail::default(),
            running: None,
            admitted_ms,
            is_answering: false,
            first_token_ms: None,
        })
    }

    /// The request's id.
    #[must_use]
    pub fn id(&self) -> &RequestId {
        &self.admission.call.id
    }

    /// The request as it arrived.
    #[must_use]
    pub fn call(&self) -> &Call {
        &self.admission.call
    }

    /// When it arrived.
    #[must_use]
    pub fn arrived_at(&self) -> DateTime<Utc> {
        self.admission.call.arrived_at
    }

    /// The same on the clock that only runs forward.
    #[must_use]
    pub fn started(&self) -> Instant {
        self.admission.call.started
    }

    /// The service.
    #[must_use]
    pub fn app(&self) -> &Arc<App> {
        &self.admission.app
    }

    /// What the request is served by.
    #[must_use]
    pub fn snapshot(&self) -> &Arc<Snapshot> {
        &self.admission.snapshot
    }

    /// The route asked.
    #[must_use]
    pub fn route(&self) -> &Name {
        &self.admission.route
    }

    /// What it may use at most.
    #[must_use]
    pub fn worst(&self) -> WorstCase {
        self.admission.worst
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
        self.detail.attempts.len() + usize::from(self.running.is_some())
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

    /// Makes the cost reservation cover this offer's worst case: extended only where a dearer offer's turn comes.
    ///
    /// # Errors
    /// [`Refusal::OverQuota`] when a cost quota of the team has no room for it.
    pub async fn cover(&mut self, turn: &PlannedOffer) -> Result<(), Refusal> {
        let cost = turn.expected_cost.unwrap_or(Money::ZERO);
        let snapshot = self.admission.snapshot.clone();
        let Some(team) = snapshot.catalogue.teams.get(&self.admission.key.team) else { return Ok(()) };
        for quota in team.quotas.iter().filter(|quota| quota.measure == Measure::Cost) {
            let id = QuotaId::of_team(&self.admission.key.team, quota);
            let of_quota = self.admission.held.iter().filter(|held| *held.quota() == id);
            let (parts, covered) =
                of_quota.fold((0, Money::ZERO), |(parts, sum), held| (parts + 1, sum + Money::new(held.amount())));
            // An unpriced offer reserves nothing, but its window still has to be known.
            if parts > 0 && covered >= cost {
                continue;
            }
            let missing = cost.amount() - covered.amount();
            let arrived_at = self.arrived_at();
            let taken = self.admission.app.allowances.reserve(&id, quota, missing, arrived_at).await;
            let full = |over| QuotaFull {
                team: self.admission.key.team.to_string(),
                over,
                now: arrived_at,
                caller: Caller {
                    key: Some(self.admission.key.id.clone()),
                    route: Some(self.route().to_string()),
                    wanted: None,
                },
            };
            let taken = taken.map_err(|over| Refusal::OverQuota(Box::new(full(over))))?;
            self.admission.held.push(taken);
        }
        self.detail.reserved_cost = turn.expected_cost.max(self.detail.reserved_cost);
        Ok(())
    }

    /// An attempt begins; what it gives counts as a stream of the upstream.
    #[must_use]
    pub fn begin(&mut self, offer: &OfferName) -> StreamPermit {
        self.running = Some(Running { offer: offer.clone(), began_ms: self.call().elapsed_ms() });
        StreamPermit::take(self.app().fleet.upstream(offer.upstream()))
    }

    /// Keeps what is changed of the request for the attempt under way.
    pub fn changed(&mut self, changes: Vec<RequestChange>) {
        self.detail.changes = changes;
    }

    /// What was approximated of the request on its way, for the header that tells the app; `None` when nothing was.
    #[must_use]
    pub fn notes(&self) -> Option<HeaderValue> {
        let is_note = |change: &&RequestChange| change.member != "model" && change.member != "stream_options";
        let notes: Vec<String> = self
            .detail
            .changes
            .iter()
            .filter(is_note)
            .take(MAX_NOTES)
            .map(|change| format!("{}: {}", change.member, change.after))
            .collect();
        if notes.is_empty() { None } else { HeaderValue::from_str(&notes.join("; ")).ok() }
    }

    /// The attempt under way failed.
    pub fn failed(&mut self, failure: Failure) {
        let Some(Running { offer, began_ms }) = self.running.take() else { return };
        self.count_failure(&offer, &failure);
        let ended_ms = self.call().elapsed_ms();
        let served_from = self.served_from(&offer);
        self.detail.attempts.push(Attempt { offer, began_ms, ended_ms, failure: Some(failure), served_from });
    }

    /// What an offer is served from, as far as its upstream has told.
    pub(super) fn served_from(&self, offer: &OfferName) -> Option<ServedFrom> {
        self.app().fleet.upstream(offer.upstream()).served_from(offer.model())
    }

    pub(super) fn count_failure(&self, offer: &OfferName, failure: &Failure) {
        let app = self.app();
        app.fleet.upstream(offer.upstream()).health().failed(app.clock.now(), offer.model(), failure);
        app.metrics.attempt_failures.with_label_values(&[offer.upstream().as_str(), failure.kind.as_str()]).inc();
    }

    /// The attempt under way answers. Only a stream tells when its first token was there; a whole reply comes all at once.
    pub fn answering(&mut self) {
        let now_ms = self.call().elapsed_ms();
        self.is_answering = true;
        self.first_token_ms = self.admission.streamed.then_some(now_ms);
        if let Some(Running { offer, began_ms }) = &self.running {
            let app = self.app();
            let wait_ms = self.first_token_ms.map(|first_ms| first_ms.saturating_sub(*began_ms));
            app.fleet.upstream(offer.upstream()).health().succeeded(app.clock.now(), wait_ms);
        }
    }

    /// The attempts that failed so far.
    #[must_use]
    pub fn failed_attempts(&self) -> Vec<FailedAttempt> {
        let of =
            |attempt: &Attempt| Some(FailedAttempt { offer: attempt.offer.clone(), failure: attempt.failure.clone()? });
        self.detail.attempts.iter().filter_map(of).collect()
    }

    /// Closes the ticket of a request that is refused after all: nothing was asked of an upstream, nothing is recorded.
    pub fn refuse(mut self: Box<Self>) {
        self.slot = None;
    }
}
