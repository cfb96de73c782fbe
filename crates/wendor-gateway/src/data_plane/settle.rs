//! Step 5, settle: takes how a request ended, gives a ledger entry to the spool and back what was reserved and not used. Cannot
//! fail: the spool's slot was taken at admission.
//!
//! [`Ticket::settle`] closes the request's ticket; dropped open it settles as cancelled, billed by what had come. **A request
//! is priced in [`Ticket::price`]**, at the rate in force when it arrived.

use bytes::Bytes;
use wendor_core::metering::entry::{Attempt, End, Latency, LedgerEntry, QuotaUse, Settled};
use wendor_core::metering::estimate::tokens_of_bytes;
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::{Cost, price};
use wendor_core::metering::spool_frame;
use wendor_core::metering::usage::{Counted, TokenCounts};
use wendor_core::name::OfferName;
use wendor_core::quota::use_of::settled;
use wendor_core::routing::failure::{Failure, FailureKind};
use wendor_core::wire::passage::Facts;

use super::ticket::{Running, Ticket};
use crate::spool::Written;

/// Room for the frame of a usual request with three offers and three quotas.
const FRAME_BYTES: usize = 2_048;

/// How far an answer came.
#[derive(Clone, Copy, Debug, Default)]
pub struct Progress {
    /// Usage, if the upstream reported it.
    pub usage: Option<TokenCounts>,
    /// Bytes of answer so far, for an estimate.
    pub output_bytes: u64,
}

impl Progress {
    /// What is known of an answer.
    #[must_use]
    pub fn of(facts: Facts) -> Self {
        Self { usage: facts.counts, output_bytes: facts.output_bytes }
    }
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

    /// The upstream rejected the app's request with this status.
    #[must_use]
    pub fn rejected(status: u16) -> Self {
        let failure = Failure::of_status(status, None);
        Self {
            end: End::Rejected,
            last_failure: Some(failure.kind),
            failure: Some(failure),
            progress: Progress { usage: Some(TokenCounts::default()), output_bytes: 0 },
        }
    }
}

impl Ticket {
    /// Settles the request. What it gives is ready once the entry is in the spool.
    #[must_use]
    pub fn settle(mut self: Box<Self>, outcome: Outcome) -> Written {
        self.close(outcome).expect("a ticket that is not settled has its slot")
    }

    fn close(&mut self, outcome: Outcome) -> Option<Written> {
        let slot = self.slot.take()?;
        let whole_ms = self.call().elapsed_ms();
        let running = self.running.take();
        let (tokens, counted) = self.tokens(&outcome, running.is_some());
        let answering_ms = running.as_ref().filter(|_| self.is_answering).map(|running| running.began_ms);
        if let Some(Running { offer, began_ms }) = running {
            if let Some(failure) = &outcome.failure {
                self.count_failure(&offer, failure);
            }
            let served_from = self.served_from(&offer);
            let failure = outcome.failure.clone();
            self.detail.attempts.push(Attempt { offer, began_ms, ended_ms: whole_ms, failure, served_from });
        }
        let offer = self.detail.attempts.last().map(|attempt| attempt.offer.clone());
        let cost = self.price(offer.as_ref(), tokens);
        let quotas = self.settle_quotas(tokens, cost.map(Cost::total));
        let latency =
            Latency { admitted_ms: self.admitted_ms, answering_ms, first_token_ms: self.first_token_ms, whole_ms };
        let entry = self.entry(offer, (tokens, counted, cost), &outcome, latency);
        let settled = Settled { entry, detail: std::mem::take(&mut self.detail), quotas };
        self.tell(&settled.entry);
        // Made here, where what it is made of was touched a moment ago, and everything is let go by the thread that took it.
        let mut frame = Vec::with_capacity(FRAME_BYTES);
        spool_frame::write(&settled, &mut frame);
        let frame = Bytes::from(frame);
        self.app().recent.settled(settled.entry.request, frame.clone());
        Some(slot.append(frame))
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
            run: marks.run,
            step: marks.step,
            labels: marks.labels,
            key: self.admission.key.id.clone(),
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
            ..LedgerEntry::of_request(
                self.arrived_at(),
                self.id().clone(),
                self.admission.key.team.clone(),
                self.route().clone(),
            )
        }
    }

    /// Tells metrics and log. Neither gets any of the query.
    fn tell(&self, entry: &LedgerEntry) {
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
            if count > 0 {
                app.metrics.tokens.with_label_values(&[team, kind]).inc_by(count);
            }
        }
        log(entry);
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        let cancelled = Outcome::answered(End::Cancelled, Progress::default());
        // Nobody is left to wait for it; the entry is on its way to the spool.
        drop(self.close(cancelled));
    }
}

/// A line for each request that failed; one for every request only where someone asked for it: the ledger has them all, and a line
/// costs more than all the rest of settling.
fn log(entry: &LedgerEntry) {
    macro_rules! line {
        ($level:expr) => {
            tracing::event!(
                $level,
                request = %entry.request, team = entry.team.as_str(), key = entry.key, route = entry.route.as_str(),
                offer = entry.offer.as_ref().map(tracing::field::display),
                attempts = entry.attempts, end = entry.end.as_str(),
                failure = entry.failure.map(FailureKind::as_str),
                input_tokens = entry.tokens.all_input(), output_tokens = entry.tokens.output,
                first_token_ms = entry.latency.first_token_ms, whole_ms = entry.latency.whole_ms,
                "request settled"
            )
        };
    }
    match entry.end.is_failure() {
        true => line!(tracing::Level::WARN),
        false => line!(tracing::Level::DEBUG),
    }
}
