//! What checks may spend: tokens a day, and a ledger entry of its own kind for every call, paid by whoever asked. Room that is taken for a
//! call is a guard: whatever becomes of the check, what was spent stands in the ledger.

use std::sync::Arc;

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use smol_str::format_smolstr;
use wendor_core::metering::detail::{Attempt, RequestDetail};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{CheckRecord, Latency, LedgerEntry, QuotaUse, Record, Settled};
use wendor_core::metering::rate::{Cost, Rate, price};
use wendor_core::metering::spool_frame;
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_core::quota::{AtLimit, Measure, Quota, QuotaId};
use wendor_core::request_id::RequestId;
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};

use crate::allowances::Held;
use crate::app::App;
use crate::data_plane::outlet::NotARequest;
use crate::spool::{SpoolSlot, Written};

/// What checks stand under in the ledger, in the place of a route.
pub const ROUTE: &str = "upstream-check";

/// Who pays for checks of people who belong to no team.
pub const OPERATORS: &str = "operators";

/// Who asked for a check, and pays for it.
#[derive(Clone, Debug)]
pub struct Payer {
    /// Its usage has the tokens.
    pub team: Name,
    /// Who started the check.
    pub person: String,
}

/// Why a call is not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CannotSpend {
    /// The day's tokens are used.
    #[error(
        "checks may take {limit} tokens a day (setting `check_tokens`), and {used} are used; again after midnight UTC"
    )]
    DayUsed {
        /// How many they may take.
        limit: u64,
        /// How many are used, or held by checks under way.
        used: Decimal,
    },
    /// What it costs could not be recorded.
    #[error(
        "the spool takes no entry at the moment, so what it costs could not be recorded; look at `wendor spool show`"
    )]
    NotRecorded,
}

impl From<NotARequest> for CannotSpend {
    fn from(_: NotARequest) -> Self {
        Self::NotRecorded
    }
}

/// Room taken for one call. Dropped unsettled, its caller has left: it counts as its worst case then, since the server was asked.
#[derive(Debug)]
pub struct Spending<'a> {
    app: &'a App,
    payer: &'a Payer,
    offer: Option<OfferName>,
    rate: Option<Rate>,
    at: DateTime<Utc>,
    /// What it stands under in the ledger.
    pub id: RequestId,
    started: std::time::Instant,
    worst: TokenCounts,
    /// Taken when it is settled.
    room: Option<(Held, SpoolSlot)>,
}

/// How a call went.
#[derive(Clone, Copy, Debug, Default)]
pub struct CallEnd {
    /// What it used, if that was told.
    pub usage: Option<TokenCounts>,
    /// Whether it was answered.
    pub answered: bool,
    /// When its first piece came, in milliseconds.
    pub first_ms: Option<u64>,
    /// When it was over.
    pub whole_ms: u64,
    /// Whether a stream was asked for.
    pub streamed: bool,
}

/// The daily quota of checks.
#[must_use]
pub fn quota(app: &App) -> (QuotaId, Quota) {
    let limit = Decimal::from(app.settings.check_tokens);
    let quota = Quota { measure: Measure::Tokens, window: Window::Day, limit, at_limit: AtLimit::Refuse };
    (QuotaId::from_store("checks/tokens/day"), quota)
}

/// Takes room for a call that takes `worst` at most.
///
/// # Errors
/// [`CannotSpend`]; then nothing may be asked.
pub async fn begin<'a>(
    app: &'a App,
    payer: &'a Payer,
    offer: Option<OfferName>,
    worst: TokenCounts,
) -> Result<Spending<'a>, CannotSpend> {
    let at = app.clock.now();
    let (id, quota) = quota(app);
    let amount = Decimal::from(worst.all_input()) + Decimal::from(worst.output);
    let held = app.allowances.reserve(&id, &quota, amount, at).await.map_err(|over| CannotSpend::DayUsed {
        limit: app.settings.check_tokens,
        used: over.room.used + over.room.reserved,
    })?;
    let slot = app.spool.take_slot().map_err(|_| CannotSpend::NotRecorded)?;
    let rate = offer.as_ref().and_then(|offer| app.now_serving().rates.in_force(offer, at.date_naive()).cloned());
    let started = std::time::Instant::now();
    let id = app.ids.next(at);
    Ok(Spending { app, payer, offer, rate, at, id, started, worst, room: Some((held, slot)) })
}

impl Spending<'_> {
    /// Records how it went. A call that was answered and did not say what it used counts as its worst case.
    pub async fn settle(mut self, end: CallEnd) {
        let (tokens, counted) = match (end.usage, end.answered) {
            (Some(usage), _) => (usage, Counted::Reported),
            (None, false) => (TokenCounts::default(), Counted::Reported),
            (None, true) => (self.worst, Counted::Estimated),
        };
        let how = if end.answered { End::Proper } else { End::NotAnswered };
        if let Some(written) = self.close(tokens, counted, how, end) {
            written.wait().await;
        }
    }

    fn close(&mut self, tokens: TokenCounts, counted: Counted, how: End, end: CallEnd) -> Option<Written> {
        let (held, slot) = self.room.take()?;
        let cost = match (tokens == TokenCounts::default(), &self.rate) {
            (true, _) => Some(Cost::default()),
            (false, rate) => rate.as_ref().and_then(|rate| price(tokens, Images::default(), rate)),
        };
        let quotas: Vec<QuotaUse> =
            held.settle(Decimal::from(tokens.all_input()) + Decimal::from(tokens.output)).into_iter().collect();
        let route = Name::parse(ROUTE).ok()?;
        let latency = Latency {
            answering_ms: Some(0),
            first_token_ms: end.first_ms,
            whole_ms: end.whole_ms,
            ..Latency::default()
        };
        let entry = LedgerEntry {
            key: format_smolstr!("person/{}", self.payer.person),
            offer: self.offer.clone(),
            revision: self.app.now_serving().revision,
            tokens,
            counted,
            cost,
            record: Record::Check(CheckRecord { streamed: end.streamed, end: how, latency }),
            ..LedgerEntry::of_request(self.at, self.id, self.payer.team.clone(), route)
        };
        let attempt = self.offer.take().map(|offer| Attempt {
            offer,
            began_ms: 0,
            ended_ms: end.whole_ms,
            failure: None,
            spent: None,
            served_from: None,
        });
        let attempts = attempt.into_iter().collect();
        let detail = RequestDetail { attempts, rate: self.rate.take(), ..RequestDetail::default() };
        let mut frame = Vec::new();
        spool_frame::write_settled(&Settled { entry, detail: Some(detail), quotas }, &mut frame);
        Some(slot.append(Arc::from(frame)))
    }
}

impl Drop for Spending<'_> {
    fn drop(&mut self) {
        let whole_ms = u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX);
        let end = CallEnd { whole_ms, ..CallEnd::default() };
        // Nobody is left to wait for it; the entry is on its way to the spool.
        drop(self.close(self.worst, Counted::Estimated, End::Cancelled, end));
    }
}
