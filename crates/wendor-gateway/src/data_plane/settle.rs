//! Step 5, settle: takes how a request ended, gives a ledger entry to the spool and back what was reserved and not used. Cannot
//! fail: the spool's slot was taken at admission.
//!
//! [`Ticket::settle`] closes the request's ticket; dropped open it settles as left by its app. The attempt that answered is settled with
//! it; every other that is still open is given up, and stands in a line of its own if it used anything.

use std::cell::RefCell;
use std::sync::Arc;

use smallvec::SmallVec;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{Latency, LedgerEntry, QuotaUse, Record, RequestRecord};
use wendor_core::metering::spool_frame;
use wendor_core::name::OfferName;
use wendor_core::quota::use_of::settled;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::usage::{Counted, TokenCounts};

use super::account::Used;
use super::progress::Reach;
use super::ticket::Ticket;
use crate::fleet::OfferState;
use crate::spool::Written;

pub use super::progress::Progress;

/// What a request used of its quotas: few.
pub(super) type QuotaUses = SmallVec<[QuotaUse; 4]>;

/// What frames are written in, and their details before that.
#[derive(Default)]
struct Sheets {
    detail: Vec<u8>,
    frame: Vec<u8>,
}

impl Sheets {
    /// A frame at its own length: it stays in memory for a while.
    fn write(&mut self, entry: &LedgerEntry, detail: &RequestDetail, quotas: &[QuotaUse]) -> Arc<[u8]> {
        self.detail.clear();
        self.frame.clear();
        detail.write_json(&mut self.detail);
        spool_frame::write(entry, str::from_utf8(&self.detail).ok(), quotas, &mut self.frame);
        Arc::from(self.frame.as_slice())
    }
}

thread_local! {
    static SHEETS: RefCell<Sheets> = RefCell::default();
}

/// How a request ended.
#[derive(Clone, Debug)]
pub enum Outcome {
    /// The answer came to an end that it has itself.
    Answered(End, Progress),
    /// The answer broke after it had begun.
    CutOff(Failure, Progress),
    /// Wendor itself failed, or stopped, while it was answered.
    Fault(Progress),
    /// The app went away while it was answered.
    Cancelled(Progress),
    /// The app did not take its answer in time.
    NotTaken(Progress),
    /// The upstream rejected the app's request with this status, for a reason of this kind.
    Rejected(u16, FailureKind),
    /// Nobody answered; what the last attempt failed of.
    NotAnswered(Option<FailureKind>),
    /// The app went away before an answer had begun.
    Left,
}

impl Ticket {
    /// Settles the request. What it gives is ready once the entry is in the spool.
    ///
    /// # Panics
    /// Never: a ticket that is not settled has its slot.
    #[must_use]
    pub fn settle(mut self: Box<Self>, outcome: Outcome) -> Written {
        self.close(outcome).expect("a ticket that is not settled has its slot")
    }

    fn close(&mut self, outcome: Outcome) -> Option<Written> {
        let slot = self.slot.take()?;
        let whole_ms = self.call().elapsed_ms();
        let (end, last_failure) = self.end_of(&outcome, whole_ms);
        let (offer, used, mut quotas) = self.settle_attempts(outcome);
        for held in std::mem::take(&mut self.held) {
            let amount = settled(held.measure(), TokenCounts::default(), None);
            quotas.extend(held.settle(amount));
        }
        let record = RequestRecord {
            attempts: u32::try_from(self.detail.attempts.len()).unwrap_or(u32::MAX),
            streamed: self.account.streamed,
            end,
            failure: last_failure,
            latency: Latency {
                admitted_ms: self.admitted_ms,
                waited_ms: self.detail.waited_ms(whole_ms),
                answering_ms: self.answering_ms,
                first_token_ms: self.first_token_ms,
                whole_ms,
            },
            lane: self.account.marks.lane,
        };
        let entry = self.account.line(offer, used, Record::Request(record));
        self.tell(&entry, &record);
        // Made here, where what it is made of was touched a moment ago, and everything is let go by the thread that took it.
        let detail = std::mem::take(&mut self.detail);
        let frame = SHEETS.with_borrow_mut(|sheets| sheets.write(&entry, &detail, &quotas));
        self.app().recent.settled(entry.request, frame.clone());
        Some(slot.append(frame))
    }

    /// How the request ended, and what its last attempt failed of.
    fn end_of(&self, outcome: &Outcome, whole_ms: u64) -> (End, Option<FailureKind>) {
        match outcome {
            Outcome::Answered(end, _) => (*end, None),
            Outcome::CutOff(failure, _) => (End::CutOff, Some(failure.kind)),
            Outcome::Fault(_) => (End::CutOff, None),
            Outcome::Cancelled(_) => (End::Cancelled, None),
            Outcome::NotTaken(_) => (End::NotTaken, None),
            Outcome::Rejected(_, kind) => (End::Rejected, Some(*kind)),
            Outcome::NotAnswered(last) => (End::NotAnswered, *last),
            Outcome::Left => {
                let failures = self.failed_attempts();
                let last = failures.last().map(|failed| failed.failure.kind);
                (End::of_leaving(whole_ms, failures.len()), last)
            }
        }
    }

    /// Settles the attempts that are open: the one that answered for the request's own line, every other for its own. Gives the
    /// offer that answered or was tried last.
    fn settle_attempts(&mut self, outcome: Outcome) -> (Option<OfferName>, Used, QuotaUses) {
        let own = match &outcome {
            Outcome::NotAnswered(_) | Outcome::Left => None,
            Outcome::Answered(..)
            | Outcome::CutOff(..)
            | Outcome::Fault(_)
            | Outcome::Cancelled(_)
            | Outcome::NotTaken(_)
            | Outcome::Rejected(..) => self.open.pop(),
        };
        for mut given_up in self.open.drain(..) {
            self.detail.changes = std::mem::take(&mut given_up.changes);
            self.detail.attempts.push(given_up.given_up().attempt);
        }
        let Some(mut own) = own else {
            let last = self.detail.attempts.last().map(|attempt| attempt.offer.clone());
            return (last, Used::nothing(), QuotaUses::new());
        };
        let offer = own.offer().clone();
        let (progress, reach, failure) = match outcome {
            Outcome::Answered(_, progress) => {
                self.learn(&own.known().offer, &progress);
                (progress, Reach::Whole, None)
            }
            Outcome::CutOff(failure, progress) => (progress, Reach::Part, Some(failure)),
            Outcome::Fault(progress) | Outcome::Cancelled(progress) | Outcome::NotTaken(progress) => {
                (progress, Reach::Part, None)
            }
            Outcome::Rejected(status, kind) => {
                (Progress::nothing(), Reach::Whole, Some(Failure::of_rejection(status, kind)))
            }
            Outcome::NotAnswered(_) | Outcome::Left => (Progress::nothing(), Reach::Whole, None),
        };
        if let Some(failure) = &failure {
            own.tell_failure(failure);
        }
        let (mut ended, used, quotas) = own.answered(progress, reach);
        ended.attempt.failure = failure;
        self.detail.attempts.reserve_exact(1);
        self.detail.attempts.push(ended.attempt);
        self.detail.rate = self.account.rate(&offer).filter(|_| !used.is_nothing()).cloned();
        (Some(offer), used, quotas)
    }

    /// What an answer teaches of its offer: how it counts input, and whether it tells what it used.
    fn learn(&self, known: &OfferState, progress: &Progress) {
        known.told_usage(progress.usage.is_some());
        if let Some(usage) = progress.usage.filter(|_| self.account.teaches) {
            known.learn(self.account.asked_for.input_estimate, usage.all_input());
        }
    }

    /// Tells metrics and log. Neither gets any of the query.
    fn tell(&self, entry: &LedgerEntry, record: &RequestRecord) {
        let app = self.app();
        app.metrics.requests.with_label_values(&[entry.route.as_str(), record.end.as_str()]).inc();
        if let Some(millis) = record.latency.first_token_ms {
            let wait = std::time::Duration::from_millis(millis).as_secs_f64();
            app.metrics.first_token.with_label_values(&[entry.route.as_str()]).observe(wait);
        }
        app.metrics.count_tokens(entry);
        app.fleet.ended(&entry.route, &entry.team, app.clock.now(), record.end.is_failure());
        log(entry, record);
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        // A panic is nobody's leaving. Either way nobody is left to wait for it; the entry is on its way to the spool.
        let outcome = if std::thread::panicking() { Outcome::NotAnswered(None) } else { Outcome::Left };
        drop(self.close(outcome));
        self.account.app.under_way.leave(&*self.account);
    }
}

/// A line for each request that failed; one for every request only where someone asked for it: the ledger has them all, and a line
/// costs more than all the rest of settling.
fn log(entry: &LedgerEntry, record: &RequestRecord) {
    macro_rules! line {
        ($level:expr) => {
            tracing::event!(
                $level,
                request = %entry.request, team = entry.team.as_str(), key = entry.key.as_str(), route = entry.route.as_str(),
                offer = entry.offer.as_ref().map(tracing::field::display),
                attempts = record.attempts, end = record.end.as_str(),
                failure = record.failure.map(FailureKind::as_str),
                input_tokens = entry.tokens.all_input(), output_tokens = entry.tokens.output,
                estimated = entry.counted == Counted::Estimated,
                first_token_ms = record.latency.first_token_ms, whole_ms = record.latency.whole_ms,
                "request settled"
            )
        };
    }
    if record.end.is_failure() { line!(tracing::Level::WARN) } else { line!(tracing::Level::DEBUG) }
}
