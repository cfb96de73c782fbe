//! An attempt while it is open: a guard of its own, of which one request may hold several.
//!
//! It holds what it takes (a stream of the upstream, room in the quotas, a place in the spool) and knows how far it has come. It is
//! settled by how it ends: it answers, and what it used stands in the request's own line; or it does not, and then what it used stands
//! in a line of its own, however it came to its end. Dropped open it was given up, since the app had gone or another attempt answered.

use std::sync::Arc;
use std::time::Duration;

use wendor_core::metering::detail::{Attempt, Spent};
use wendor_core::metering::entry::{AttemptRecord, LedgerEntry, QuotaUse, Record};
use wendor_core::metering::rate::Cost;
use wendor_core::metering::spool_frame;
use wendor_core::name::OfferName;
use wendor_core::quota::Measure;
use wendor_core::quota::use_of::settled;
use wendor_core::routing::loading::ColdStart;
use wendor_wire::change::RequestChange;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::usage::Counted;

use super::account::{Account, Used};
use super::progress::{Progress, Reach, Seen};
use super::settle::QuotaUses;
use crate::allowances::Held;
use crate::fleet::{Asked, Known, OfferChange};
use crate::gate::AttemptRoom;
use crate::health_changes;
use crate::spool::SpoolSlot;

/// Holds an offer's room and reservation; settles when dropped.
#[derive(Debug)]
pub struct OpenAttempt {
    account: Arc<Account>,
    number: u32,
    offer: OfferName,
    began_ms: u64,
    /// Whether a stream is asked for.
    pub streamed: bool,
    /// What was changed of the request.
    pub changes: Vec<RequestChange>,
    seen: Arc<Seen>,
    /// Room in the quotas of tokens and cost, for its worst case.
    held: Vec<Held>,
    /// Taken when it is settled.
    slot: Option<SpoolSlot>,
    asked: Asked,
    room: AttemptRoom,
}

/// What an attempt takes.
#[derive(Debug)]
pub struct Taken {
    /// Room in the quotas.
    pub held: Vec<Held>,
    /// A place in the spool.
    pub slot: SpoolSlot,
    /// Room at the upstream.
    pub room: AttemptRoom,
    /// Whose health hears how it ends.
    pub asked: Asked,
}

/// An attempt that is over.
#[derive(Debug)]
pub struct Ended {
    /// For the record.
    pub attempt: Attempt,
    /// Room in quotas that it held and did not need, for the attempt after it.
    pub spare: Vec<Held>,
}

impl OpenAttempt {
    /// Begins the attempt `number` of a request at `offer`.
    #[must_use]
    pub fn begin(account: &Arc<Account>, number: u32, offer: OfferName, taken: Taken) -> Self {
        let Taken { held, slot, room, asked } = taken;
        let began_ms = account.call.elapsed_ms();
        let (account, seen) = (account.clone(), Arc::default());
        Self {
            account,
            number,
            offer,
            began_ms,
            streamed: false,
            changes: Vec::new(),
            seen,
            held,
            slot: Some(slot),
            asked,
            room,
        }
    }

    /// Which of its request's attempts it is, from 1.
    #[must_use]
    pub fn number(&self) -> u32 {
        self.number
    }

    /// Whether it tries an offer that has rested.
    #[must_use]
    pub fn is_trial(&self) -> bool {
        self.asked.is_trial()
    }

    /// Tells its offer's health that it is waited for longer than is usual.
    pub fn tell_slow(&mut self, why: &str) {
        let changes = self.asked.is_slow(self.account.app.clock.now(), why);
        self.tell(changes);
    }

    fn tell(&self, changes: Vec<OfferChange>) {
        let upstream = self.offer.upstream();
        health_changes::tell(&self.account.app, changes.into_iter().map(|(model, change)| (upstream, model, change)));
    }

    /// What is known of its offer.
    #[must_use]
    pub fn known(&self) -> &Known {
        self.asked.known()
    }

    /// Where it is made.
    #[must_use]
    pub fn offer(&self) -> &OfferName {
        &self.offer
    }

    /// In milliseconds from the request's arrival.
    #[must_use]
    pub fn began_ms(&self) -> u64 {
        self.began_ms
    }

    /// What the try tells of its progress.
    #[must_use]
    pub fn seen(&self) -> &Arc<Seen> {
        &self.seen
    }

    /// What of each quota it holds.
    #[must_use]
    pub fn held(&self) -> &[Held] {
        &self.held
    }

    /// Tells its offer's health, and whoever watches, how it failed.
    pub fn tell_failure(&mut self, failure: &Failure) {
        let app = self.account.app.clone();
        let labels = [self.offer.upstream().as_str(), failure.kind.as_str()];
        app.metrics.attempt_failures.with_label_values(&labels).inc();
        if failure.kind == FailureKind::Loading {
            self.known().offer.loads(app.clock.now());
        }
        let changes = self.asked.failed(app.clock.now(), failure);
        self.tell(changes);
    }

    /// Tells its offer's health that it answers, with the time to its first token where it streams.
    pub fn tell_success(&mut self, first_token_ms: Option<u64>) {
        let app = self.account.app.clone();
        if let Some(ColdStart { took_ms, .. }) = self.known().offer.has_answered(app.clock.now()) {
            let (upstream, model) = (self.offer.upstream().as_str(), self.offer.model());
            app.metrics
                .cold_starts
                .with_label_values(&[upstream, model])
                .observe(Duration::from_millis(took_ms).as_secs_f64());
            tracing::info!(upstream, model, took_ms, "a model was loaded while requests came for it");
        }
        let changes = self.asked.succeeded(app.clock.now(), first_token_ms);
        self.tell(changes);
    }

    /// It answered: what it used, and what it used of quotas, for the request's own line.
    #[must_use]
    pub fn answered(mut self, progress: Progress, reach: Reach) -> (Ended, Used, QuotaUses) {
        self.slot = None;
        let used = self.account.priced(&self.offer, progress.used(reach, self.account.input_at(&self.known().offer)));
        self.room.used(used.tokens.all_input() + used.tokens.output);
        let quotas = self.settle_quotas(&used);
        (Ended { attempt: self.record(None, None), spare: Vec::new() }, used, quotas)
    }

    /// It did not answer. What it used by then stands in a line of its own.
    #[must_use]
    pub fn failed(mut self, failure: Failure) -> Ended {
        let (was_sent, has_begun) = self.seen.marks();
        let may_have_used = failure.kind.may_have_used(was_sent, has_begun);
        let spent = self.settle(Some(&failure), may_have_used);
        let spare = if spent.is_none() { std::mem::take(&mut self.held) } else { Vec::new() };
        let spare = spare.into_iter().filter(|held| held.measure() != Measure::Cost).collect();
        Ended { attempt: self.record(Some(failure), spent), spare }
    }

    /// It is given up since another answered first.
    #[must_use]
    pub fn was_slower(self) -> Ended {
        if self.streamed {
            self.asked.waited_in_vain(self.account.call.elapsed_ms().saturating_sub(self.began_ms));
        }
        self.given_up()
    }

    /// It is given up, without a failure of its own.
    #[must_use]
    pub fn given_up(mut self) -> Ended {
        let (was_sent, _) = self.seen.marks();
        let spent = self.settle(None, was_sent);
        Ended { attempt: self.record(None, spent), spare: Vec::new() }
    }

    /// Writes its own line, if it used anything.
    fn settle(&mut self, failure: Option<&Failure>, may_have_used: bool) -> Option<Spent> {
        let slot = self.slot.take()?;
        if !may_have_used {
            return None;
        }
        let input = self.account.input_at(&self.known().offer);
        let used = self.account.priced(&self.offer, self.seen.progress().used(Reach::Part, input));
        if used.is_nothing() {
            return None;
        }
        self.room.used(used.tokens.all_input() + used.tokens.output);
        let quotas = self.settle_quotas(&used);
        let record = Record::Attempt(AttemptRecord {
            number: self.number,
            streamed: self.streamed,
            failure: failure.map(|failure| failure.kind),
            began_ms: self.began_ms,
            ended_ms: self.account.call.elapsed_ms(),
        });
        let line = self.account.line(Some(self.offer.clone()), used, record);
        self.account.app.metrics.count_tokens(&line);
        append(slot, &line, &quotas);
        let estimated = used.counted == Counted::Estimated;
        Some(Spent { tokens: used.tokens, images: used.images, estimated, cost: used.cost })
    }

    fn settle_quotas(&mut self, used: &Used) -> QuotaUses {
        let cost = used.cost.map(Cost::total);
        let settle = |held: Held| {
            let amount = settled(held.measure(), used.tokens, cost);
            held.settle(amount)
        };
        std::mem::take(&mut self.held).into_iter().filter_map(settle).filter(|used| !used.amount.is_zero()).collect()
    }

    fn record(&self, failure: Option<Failure>, spent: Option<Spent>) -> Attempt {
        let served_from = self.known().upstream.served_from(self.offer.model());
        let (offer, began_ms, ended_ms) = (self.offer.clone(), self.began_ms, self.account.call.elapsed_ms());
        Attempt { offer, began_ms, ended_ms, failure, spent, served_from }
    }
}

/// Puts a line without a detail into the spool. Nobody waits for it: the request's own line comes after it, and is waited for.
fn append(slot: SpoolSlot, line: &LedgerEntry, quotas: &[QuotaUse]) {
    let mut frame = Vec::new();
    spool_frame::write(line, None, quotas, &mut frame);
    drop(slot.append(Arc::from(frame)));
}

impl Drop for OpenAttempt {
    fn drop(&mut self) {
        let (was_sent, _) = self.seen.marks();
        let _spent = self.settle(None, was_sent);
    }
}
