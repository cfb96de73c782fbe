//! What checks may spend: tokens a day, and a ledger entry of its own kind for every call, paid by whoever asked.

use bytes::Bytes;
use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use wendor_core::metering::entry::{Attempt, End, EntryKind, Latency, LedgerEntry, RequestDetail, Settled};
use wendor_core::metering::rate::{Rate, price};
use wendor_core::metering::spool_frame;
use wendor_core::metering::usage::{Counted, TokenCounts};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_core::quota::{AtLimit, Measure, Quota, QuotaId};
use wendor_core::routing::failure::FailureKind;

use crate::allowances::Held;
use crate::app::App;
use crate::data_plane::outlet::NotARequest;
use crate::spool::SpoolSlot;

/// What checks stand under in the ledger, in the place of a route.
pub const ROUTE: &str = "upstream-check";

/// Who pays for checks of people who belong to no team.
pub const OPERATORS: &str = "operators";

/// Who asked for a check, and pays for it.
#[derive(Clone, Debug)]
pub struct Payer {
    /// The team.
    pub team: Name,
    /// The person.
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

/// Room taken for one call.
#[derive(Debug)]
pub struct Spending<'a> {
    app: &'a App,
    payer: &'a Payer,
    offer: Option<OfferName>,
    rate: Option<Rate>,
    held: Held,
    slot: SpoolSlot,
    at: DateTime<Utc>,
    worst: TokenCounts,
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
    (QuotaId::from_store("checks/tokens/day".to_owned()), quota)
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
    let amount = Decimal::from(worst.all_input() + worst.output);
    let held = app.allowances.reserve(&id, &quota, amount, at).await.map_err(|over| CannotSpend::DayUsed {
        limit: app.settings.check_tokens,
        used: over.room.used + over.room.reserved,
    })?;
    let slot = app.spool.take_slot().map_err(|_| CannotSpend::NotRecorded)?;
    let rate = offer.as_ref().and_then(|offer| app.now_serving().rates.in_force(offer, at.date_naive()).cloned());
    Ok(Spending { app, payer, offer, rate, held, slot, at, worst })
}

impl Spending<'_> {
    /// Records how it went. A call that was answered and did not say what it used counts as its worst case.
    pub async fn settle(self, end: CallEnd) {
        let Self { app, payer, offer, rate, held, slot, at, worst } = self;
        let (tokens, counted) = match (end.usage, end.answered) {
            (Some(usage), _) => (usage, Counted::Reported),
            (None, false) => (TokenCounts::default(), Counted::Reported),
            (None, true) => (worst, Counted::Estimated),
        };
        let cost = match (tokens == TokenCounts::default(), &rate) {
            (true, _) => Some(wendor_core::metering::rate::Cost::default()),
            (false, rate) => rate.as_ref().map(|rate| price(tokens, rate)),
        };
        let quotas = held.settle(Decimal::from(tokens.all_input() + tokens.output)).into_iter().collect();
        let Ok(route) = Name::parse(ROUTE) else { return };
        let attempt = offer.clone().map(|offer| Attempt {
            offer,
            began_ms: 0,
            ended_ms: end.whole_ms,
            failure: None,
            served_from: None,
        });
        let entry = LedgerEntry {
            kind: EntryKind::Check,
            key: format!("person/{}", payer.person),
            offer,
            revision: app.now_serving().revision,
            attempts: 1,
            streamed: end.streamed,
            tokens,
            counted,
            cost,
            end: if end.answered { End::Proper } else { End::NotAnswered },
            failure: (!end.answered).then_some(FailureKind::Rejected),
            latency: Latency {
                admitted_ms: 0,
                answering_ms: Some(0),
                first_token_ms: end.first_ms,
                whole_ms: end.whole_ms,
            },
            ..LedgerEntry::of_request(at, app.ids.next(at), payer.team.clone(), route)
        };
        let detail = RequestDetail { attempts: attempt.into_iter().collect(), rate, ..RequestDetail::default() };
        let mut frame = Vec::new();
        spool_frame::write(&Settled { entry, detail, quotas }, &mut frame);
        slot.append(Bytes::from(frame)).wait().await;
    }
}
