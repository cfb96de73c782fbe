//! What every line of one request has in common: who asks, for what, at which revision, when. The request's ticket and each of its
//! attempts hold it, since each may write a line of its own.

use std::num::NonZeroU32;
use std::sync::Arc;

use hyper::header::{HeaderName, HeaderValue};
use wendor_core::catalog::key::AppKey;
use wendor_core::catalog::retirement::Leaving;
use wendor_core::catalog::upstream::{USUAL_QUEUE, Upstream};
use wendor_core::metering::entry::{LedgerEntry, Record};
use wendor_core::metering::rate::{Cost, Rate, price};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::use_of::WorstCase;
use wendor_core::trace::Trace;
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};

use super::call::Call;
use super::marks::Marks;
use super::preset::AddedPreset;
use super::progress::Counts;
use crate::app::App;
use crate::fleet::{Known, OfferState};
use crate::gate::{Ask, Gate, Limits, Prospect};
use crate::snapshot::Snapshot;
use crate::under_way::{HowFar, Running, Seen};

/// What a request without a limit may put out at most, at an offer whose cap nobody told.
const OUTPUT_TOKENS_UNTOLD: u64 = 4_096;

/// What admission found out of a request.
#[derive(Debug)]
pub struct Account {
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
    /// The trace that the app says it belongs to.
    pub trace: Option<Trace>,
    /// The app's headers for features that a service of its dialect has not settled yet.
    pub beta: Vec<(HeaderName, HeaderValue)>,
    /// By its name in the catalogue.
    pub route: Name,
    /// The name that the app asked for, where the route has another one now.
    pub asked_as: Option<String>,
    /// What the app is told of that name with its answer.
    pub leaving: Option<Leaving>,
    /// What the route's preset added to it.
    pub preset: Option<Box<AddedPreset>>,
    /// Whether as a stream.
    pub streamed: bool,
    /// How much it asks for.
    pub asked_for: AskedFor,
    /// Whether its input tells how its offer counts: it is text.
    pub teaches: bool,
    /// Whether the app set no limit on its output and a quota must be kept: then the offer's cap is sent as one.
    pub sends_cap: bool,
    /// Shared with the list of what is under way.
    pub how_far: HowFar,
}

impl Running for Account {
    fn seen(&self) -> Seen<'_> {
        Seen {
            id: &self.call.id,
            at: self.call.arrived_at,
            whole_ms: self.call.elapsed_ms(),
            team: &self.key.team,
            key: &self.key.id,
            route: &self.route,
            lane: self.marks.lane,
            run: self.marks.run.as_deref(),
            is_streamed: self.streamed,
            how_far: &self.how_far,
        }
    }
}

/// How much a request asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AskedFor {
    /// Input tokens by its bytes.
    pub input_estimate: u64,
    /// The most output tokens of one choice.
    pub output: Output,
    /// Answers asked for at once (`n`).
    pub choices: u64,
    /// Images asked for.
    pub images: u32,
}

/// The most output tokens of one choice.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Output {
    /// None are made: vectors, counts.
    None,
    /// So many, as the app says.
    Limited(u64),
    /// As many as the offer makes at most.
    Uncapped,
}

impl AskedFor {
    /// What it may use at most at an offer: its input as that offer counts, its output as that offer is capped.
    #[must_use]
    pub fn worst_at(&self, known: &OfferState, snapshot: &Snapshot, offer: &OfferName) -> WorstCase {
        let output = match self.output {
            Output::None => 0,
            Output::Limited(limit) => limit,
            Output::Uncapped => output_cap(snapshot, offer),
        };
        WorstCase {
            input_tokens: known.calibration().reserved(self.input_estimate),
            output_tokens: output.saturating_mul(self.choices),
            images: self.images,
        }
    }
}

/// What an offer puts out at most for one choice.
#[must_use]
pub fn output_cap(snapshot: &Snapshot, offer: &OfferName) -> u64 {
    let offer_cap = snapshot.catalogue.offer(offer).and_then(|(_, offer)| offer.output_cap);
    offer_cap.map_or(OUTPUT_TOKENS_UNTOLD, |cap| u64::from(cap.get()))
}

/// What was used, and what it cost.
#[derive(Clone, Copy, Debug)]
pub struct Used {
    /// What the upstream counted, or what was counted of the text.
    pub tokens: TokenCounts,
    /// Images that came back.
    pub images: Images,
    /// Where both come from.
    pub counted: Counted,
    /// Cost; `None` when the offer has no rate for it.
    pub cost: Option<Cost>,
}

impl Used {
    /// Nothing was used.
    #[must_use]
    pub fn nothing() -> Self {
        let (tokens, images) = (TokenCounts::default(), Images::default());
        Self { tokens, images, counted: Counted::Reported, cost: Some(Cost::default()) }
    }

    /// Whether it is nothing.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.tokens == TokenCounts::default() && self.images.is_none()
    }
}

/// Who is served somewhere, and how much room there is.
#[derive(Clone, Debug)]
pub struct GateRoom {
    /// Who is served.
    pub gate: Arc<Gate>,
    /// How much room.
    pub limits: Limits,
}

/// What a request asks of room at an offer.
#[derive(Debug)]
pub struct RoomAsked {
    /// Weight, lane and time that decide its turn.
    pub ask: Ask<Name>,
    /// Who is served at the upstream, and how much room there is.
    pub upstream: GateRoom,
    /// The same of the offer, where it has limits of its own.
    pub offer: Option<GateRoom>,
}

impl RoomAsked {
    /// How it stands now: streams of the upstream, and whether there is room there and at the offer.
    #[must_use]
    pub fn look(&self) -> Prospect {
        let look = |room: &GateRoom| room.gate.look(&self.ask, room.limits);
        let at_offer = self.offer.as_ref().map_or(Ok(()), |room| look(room).room);
        let at_upstream = look(&self.upstream);
        Prospect { room: at_offer.and(at_upstream.room), ..at_upstream }
    }
}

impl Account {
    /// The rate of an offer that was in force when the request arrived.
    #[must_use]
    pub fn rate(&self, offer: &OfferName) -> Option<&Rate> {
        self.snapshot.rates.in_force(offer, self.call.arrived_at.date_naive())
    }

    /// Prices what was used at an offer: **every line of the ledger is priced here**, at the rate in force when its request arrived.
    /// Nothing used costs nothing; something used at an offer without a rate is unpriced. Images that the upstream has counted in
    /// its tokens are priced by the piece only where the offer has a rate for them.
    #[must_use]
    pub fn priced(&self, offer: &OfferName, counts: Counts) -> Used {
        let Counts { tokens, images, counted } = counts;
        let preset = self.preset.as_ref().map_or(0, |preset| preset.share.part_of(tokens.all_input()));
        let tokens = TokenCounts { preset, ..tokens };
        let used = Used { tokens, images, counted, cost: Some(Cost::default()) };
        if used.is_nothing() {
            return used;
        }
        let cost = self.rate(offer).and_then(|rate| {
            let are_in_tokens = counted == Counted::Reported && tokens.output > 0;
            let is_free = are_in_tokens && rate.per_image(images.size).is_none();
            price(tokens, if is_free { Images::default() } else { images }, rate)
        });
        Used { cost, ..used }
    }

    /// A line of the request, under its own id.
    #[must_use]
    pub fn line(&self, offer: Option<OfferName>, used: Used, record: Record) -> LedgerEntry {
        let (at, request) = (self.call.arrived_at, self.call.id);
        let entry_id = match &record {
            Record::Request(_) => request,
            Record::Attempt(_) | Record::Check(_) | Record::Adjustment(_) => self.app.ids.next(at),
        };
        LedgerEntry {
            at,
            entry_id,
            request,
            run: self.marks.run.clone(),
            step: self.marks.step.clone(),
            labels: self.marks.labels.clone(),
            team: self.key.team.clone(),
            key: self.key.id.as_str().into(),
            route: self.route.clone(),
            offer,
            revision: self.snapshot.revision,
            tokens: used.tokens,
            images: used.images,
            counted: used.counted,
            cost: used.cost,
            record,
        }
    }

    /// Its input tokens as an offer counts, where the upstream does not tell.
    #[must_use]
    pub fn input_at(&self, known: &OfferState) -> u64 {
        known.calibration().corrected(self.asked_for.input_estimate)
    }

    /// What the request may use at most at an offer.
    #[must_use]
    pub fn worst_at(&self, offer: &OfferName, known: &OfferState) -> WorstCase {
        self.asked_for.worst_at(known, &self.snapshot, offer)
    }

    /// What the request asks of room at an offer, and how much there is; `None` where the offer is not in the catalogue.
    #[must_use]
    pub fn ask_at(&self, name: &OfferName, known: &Known) -> Option<RoomAsked> {
        let (upstream, offered) = self.snapshot.catalogue.offer(name)?;
        let worst = self.worst_at(name, &known.offer);
        let team = &self.key.team;
        let weight = self.snapshot.catalogue.teams.get(team).and_then(|team| team.weight);
        let ask = Ask {
            who: team.clone(),
            tokens: worst.input_tokens.saturating_add(worst.output_tokens),
            weight: weight.map_or(1, NonZeroU32::get),
            lane: self.marks.lane,
        };
        let limits = room_limits(upstream, self.snapshot.catalogue.teams.len());
        let of_offer = Limits { streams: None, tokens: None, a_minute: offered.a_minute(), ..limits };
        let offer_gate =
            known.offer.gate(of_offer.a_minute).map(|gate| GateRoom { gate: gate.clone(), limits: of_offer });
        Some(RoomAsked { ask, upstream: GateRoom { gate: known.upstream.gate().clone(), limits }, offer: offer_gate })
    }

    /// A number that differs by request, for choices by chance.
    #[must_use]
    pub fn seed(&self) -> u64 {
        self.call.id.seed()
    }
}

/// How much room there is at an upstream, shared by so many teams.
#[must_use]
pub fn room_limits(upstream: &Upstream, teams: usize) -> Limits {
    Limits {
        streams: upstream.streams.map(|all| all.get().into()),
        tokens: upstream.tokens.map(|all| all.get().into()),
        queue: upstream.queue.unwrap_or(USUAL_QUEUE).into(),
        teams,
        a_minute: upstream.a_minute(),
    }
}
