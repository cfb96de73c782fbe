//! Step 5, settle: takes how a request ended, gives a ledger entry to the spool and back what was reserved and not used. Cannot
//! fail: the spool's slot was taken at admission.
//!
//! The [`Ticket`] is opened by admission and goes along with the request. [`Ticket::settle`] closes it; dropped open it settles
//! as cancelled, billed by what had come. **A request is priced in [`Ticket::close`]**, at the rate in force when it arrived.

use std::sync::Arc;
use std::time::Instant;

use chrono::{DateTime, Utc};
use wendor_core::catalog::key::AppKey;
use wendor_core::metering::entry::{
    Attempt, End, EntryKind, Latency, LedgerEntry, QuotaUse, RequestChange, RequestDetail, Settled,
};
use wendor_core::metering::estimate::tokens_of_bytes;
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::{Cost, price};
use wendor_core::metering::usage::{Counted, TokenCounts};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::use_of::{WorstCase, settled};
use wendor_core::quota::{Measure, QuotaId};
use wendor_core::request_id::RequestId;
use wendor_core::routing::failure::{FailedAttempt, Failure, FailureKind};
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};

use super::Call;
use super::admit::Marks;
use super::refusal::{Caller, QuotaFull, Refusal};
use crate::allowances::Held;
use crate::app::App;
use crate::fleet::StreamPermit;
use crate::snapshot::Snapshot;
use crate::spool::{SpoolSlot, Written};

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
    pub key: AppKey,
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

/// How far an answer came.
#[derive(Clone, Copy, Debug, Default)]
pub struct Progress {
    /// Usage, if the upstream reported it.
    pub usage: Option<TokenCounts>,
    /// Bytes of answer so far, for an estimate.
    pub output_bytes: u64,
}

/// How a request ended.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// The end.
    pub end: End,
    /// How the answer broke, if it did.
    pub failure: Option<Failure>,
    /// What the last attempt failed of, when none answered.
    pub last_failure: Option<FailureKind>,
    /// How far it came.
    pub progress: Progress,
}

/// An admitted request on its way.
#[derive(Debug)]
pub struct Ticket {
    admission: Admission,
    /// Taken when the ticket is closed.
    slot: Option<SpoolSlot>,
    detail: RequestDetail,
    /// The attempt under way, or the one that answers.
    running: Option<Running>,
    admitted_ms: u64,
    first_token_ms: Option<u64>,
}

#[derive(Debug)]
struct Running {
    offer: OfferName,
    began_ms: u64,
}

impl Outcome {
    /// The answer came to an end that it has itself.
    #[must_use]
    pub fn answered(end: End, progress: Progress) -> Self {
        Self { end, failure: None, last_failure: None, progress }
    }

    /// The answer broke after it had begun.
    #[must_use]
    pub fn cut_off(failure: Failure, progress: Progress) -> Self {
        Self { end: End::CutOff, last_failure: Some(failure.kind), failure: Some(failure), progress }
    }

    /// Nobody answered.
    #[must_use]
    pub fn not_answered(last_failure: Option<FailureKind>) -> Self {
        Self { end: End::NotAnswered, failure: None, last_failure, progress: Progress::default() }
    }

    /// The upstream rejected the app's request.
    #[must_use]
    pub fn rejected() -> Self {
        Self {
            end: End::Rejected,
            failure: None,
            last_failure: Some(FailureKind::Rejected),
            progress: Progress { usage: Some(TokenCounts::default()), output_bytes: 0 },
        }
    }
}

impl Ticket {
    /// Opens the ticket of an admitted request that has room in the spool.
    #[must_use]
    pub fn open(admission: Admission, slot: SpoolSlot) -> Self {
        let admitted_ms = admission.call.elapsed_ms();
        Self {
            admission,
            slot: Some(slot),
            detail: RequestDetail::default(),
            running: None,
            admitted_ms,
            first_token_ms: None,
        }
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
                caller: Caller { key: Some(self.admission.key.id.clone()), route: Some(self.route().to_string()) },
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

    /// The attempt under way failed.
    pub fn failed(&mut self, failure: Failure) {
        let Some(Running { offer, began_ms }) = self.running.take() else { return };
        self.count_failure(&offer, &failure);
        let ended_ms = self.call().elapsed_ms();
        self.detail.attempts.push(Attempt { offer, began_ms, ended_ms, failure: Some(failure) });
    }

    fn count_failure(&self, offer: &OfferName, failure: &Failure) {
        let app = self.app();
        app.fleet.upstream(offer.upstream()).health().failed(app.clock.now(), offer.model(), failure);
        app.metrics.attempt_failures.with_label_values(&[offer.upstream().as_str(), failure.kind.as_str()]).inc();
    }

    /// The attempt under way has its first event.
    pub fn answering(&mut self) {
        let now_ms = self.call().elapsed_ms();
        self.first_token_ms = Some(now_ms);
        if let Some(Running { offer, began_ms }) = &self.running {
            let app = self.app();
            app.fleet.upstream(offer.upstream()).health().succeeded(app.clock.now(), now_ms.saturating_sub(*began_ms));
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
    pub fn refuse(mut self) {
        self.slot = None;
    }

    /// Settles the request. What it gives is ready once the entry is in the spool.
    #[must_use]
    pub fn settle(mut self, outcome: Outcome) -> Written {
        self.close(outcome).expect("a ticket that is not settled has its slot")
    }

    fn close(&mut self, outcome: Outcome) -> Option<Written> {
        let slot = self.slot.take()?;
        let whole_ms = self.call().elapsed_ms();
        let running = self.running.take();
        let (tokens, counted) = self.tokens(&outcome, running.is_some());
        let answering_ms = running.as_ref().filter(|_| self.first_token_ms.is_some()).map(|running| running.began_ms);
        if let Some(Running { offer, began_ms }) = running {
            if let Some(failure) = &outcome.failure {
                self.count_failure(&offer, failure);
            }
            self.detail.attempts.push(Attempt {
                offer,
                began_ms,
                ended_ms: whole_ms,
                failure: outcome.failure.clone(),
            });
        }
        let offer = self.detail.attempts.last().map(|attempt| attempt.offer.clone());
        let cost = self.price(offer.as_ref(), tokens);
        let quotas = self.settle_quotas(tokens, cost.map(Cost::total));
        let latency =
            Latency { admitted_ms: self.admitted_ms, answering_ms, first_token_ms: self.first_token_ms, whole_ms };
        let entry = self.entry(offer, (tokens, counted, cost), &outcome, latency);
        let settled = Arc::new(Settled { entry, detail: std::mem::take(&mut self.detail), quotas });
        self.tell(&settled);
        Some(slot.append(settled))
    }

    /// What the request used: as reported, or as estimated by what had come. An upstream that was asked has read the input.
    fn tokens(&self, outcome: &Outcome, was_asked: bool) -> (TokenCounts, Counted) {
        match (outcome.progress.usage, was_asked) {
            (Some(usage), _) => (usage, Counted::Reported),
            (None, false) => (TokenCounts::default(), Counted::Reported),
            (None, true) => {
                let output = tokens_of_bytes(outcome.progress.output_bytes);
                (TokenCounts { input: self.worst().input_tokens, output, ..TokenCounts::default() }, Counted::Estimated)
            }
        }
    }

    /// The price; nothing used costs nothing, something used at an offer without a rate is unpriced.
    fn price(&mut self, offer: Option<&OfferName>, tokens: TokenCounts) -> Option<Cost> {
        if tokens == TokenCounts::default() {
            return Some(Cost::default());
        }
        let rate = self.snapshot().rates.in_force(offer?, self.arrived_at().date_naive())?.clone();
        let cost = price(tokens, &rate);
        self.detail.rate = Some(rate);
        Some(cost)
    }

    /// Counts what was used of each quota once, and gives back the rest.
    fn settle_quotas(&mut self, tokens: TokenCounts, cost: Option<Money>) -> Vec<QuotaUse> {
        let mut uses: Vec<QuotaUse> = Vec::new();
        for held in std::mem::take(&mut self.admission.held) {
            let is_counted = uses.iter().any(|quota_use| quota_use.quota == *held.quota());
            // A cost that was extended for a dearer offer is held in several parts: the first takes it all.
            if !is_counted {
                let used = settled(held.measure(), tokens, cost);
                uses.extend(held.settle(used));
            }
        }
        uses
    }

    fn entry(
        &mut self,
        offer: Option<OfferName>,
        (tokens, counted, cost): (TokenCounts, Counted, Option<Cost>),
        outcome: &Outcome,
        latency: Latency,
    ) -> LedgerEntry {
        let marks = std::mem::take(&mut self.admission.marks);
        LedgerEntry {
            at: self.arrived_at(),
            entry_id: self.id().clone(),
            kind: EntryKind::Request,
            request: self.id().clone(),
            run: marks.run,
            step: marks.step,
            labels: marks.labels,
            team: self.admission.key.team.clone(),
            key: self.admission.key.id.clone(),
            route: self.route().clone(),
            offer,
            revision: self.snapshot().revision,
            attempts: u32::try_from(self.detail.attempts.len()).unwrap_or(u32::MAX),
            streamed: self.admission.streamed,
            tokens,
            counted,
            cost,
            end: outcome.end,
            failure: outcome.last_failure,
            latency,
        }
    }

    /// Tells everyone who wants to know: the memory, the metrics, the log. None of them gets any of the query.
    fn tell(&self, settled: &Arc<Settled>) {
        let entry = &settled.entry;
        let (app, team, route) = (self.app(), entry.team.as_str(), entry.route.as_str());
        app.metrics.requests.with_label_values(&[route, entry.end.as_str()]).inc();
        if let Some(millis) = entry.latency.first_token_ms {
            app.metrics
                .first_token
                .with_label_values(&[route])
                .observe(std::time::Duration::from_millis(millis).as_secs_f64());
        }
        let tokens = entry.tokens;
        for (kind, count) in [
            ("input", tokens.input),
            ("input-cached", tokens.input_cached),
            ("cache-written", tokens.cache_written),
            ("output", tokens.output),
        ] {
            app.metrics.tokens.with_label_values(&[team, kind]).inc_by(count);
        }
        tracing::info!(
            request = %entry.request, team, key = entry.key, route,
            offer = entry.offer.as_ref().map(tracing::field::display),
            attempts = entry.attempts, end = entry.end.as_str(),
            failure = entry.failure.map(FailureKind::as_str),
            input_tokens = tokens.all_input(), output_tokens = tokens.output,
            first_token_ms = entry.latency.first_token_ms, whole_ms = entry.latency.whole_ms,
            "request settled"
        );
        app.recent.settled(settled.clone());
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        let cancelled = Outcome::answered(End::Cancelled, Progress::default());
        // Nobody is left to wait for it; the entry is on its way to the spool.
        drop(self.close(cancelled));
    }
}
