//! A preset tried on a question: asked as a request of an app that speaks the upstream's dialect, and paid for as a check.

use bytes::Bytes;
use wendor_core::diagnosis::refusal;
use wendor_core::metering::preset::PresetShare;
use wendor_core::metering::rate::{Cost, price};
use wendor_core::name::OfferName;
use wendor_wire::addition::add;
use wendor_wire::asked::AppRequest;
use wendor_wire::conversation::event::Usage;
use wendor_wire::conversation::{Conversation, Role, Turn};
use wendor_wire::dialects;
use wendor_wire::endpoint::{Hints, resolve};
use wendor_wire::images::Images;
use wendor_wire::preset::{Addition, PresetLine};
use wendor_wire::seal::SealDomain;
use wendor_wire::usage::TokenCounts;
use wendor_wire::verdict::Target;

use super::calls::way_of;
use super::question::{Came, Question};
use super::spending::{self, CallEnd, Payer};
use super::talk::scrubbed;
use super::{Subject, Time};
use crate::app::App;

/// The most output tokens of an answer, where the preset says nothing, and whatever it says.
const USUAL_TOKENS: u64 = 400;
const MOST_TOKENS: u64 = 1_000;

/// A question to an offer.
pub struct Rehearsal<'a> {
    /// The service.
    pub app: &'a App,
    /// The upstream, with its credential.
    pub subject: &'a Subject,
    /// The offer.
    pub offer: &'a OfferName,
    /// Who pays.
    pub payer: &'a Payer,
    /// How long it may take.
    pub time: Time,
}

/// What came of it.
#[derive(Debug)]
pub struct Rehearsed {
    /// The answer's text.
    pub answer: String,
    /// The body that went up, as an app would have written it.
    pub sent: String,
    /// What became of each part of the preset.
    pub lines: Vec<PresetLine>,
    /// What it used, with the preset's part.
    pub tokens: TokenCounts,
    /// Whether that is an estimate.
    pub is_estimated: bool,
    /// What it cost; unpriced when absent.
    pub cost: Option<Cost>,
    /// How long it took, in milliseconds.
    pub whole_ms: u64,
}

impl Rehearsal<'_> {
    /// Asks.
    ///
    /// # Errors
    /// Why there is no answer, in a sentence.
    pub async fn ask(&self, addition: &Addition, question: &str) -> Result<Rehearsed, String> {
        let (dialect, model) = (self.subject.upstream.dialect, self.offer.model());
        let offered = self.subject.upstream.offers.get(model).cloned().unwrap_or_default();
        let path = dialects::of(dialect).path(model, false);
        let endpoint = resolve("POST", &path, Hints::default()).map_err(|_| format!("{path} is no endpoint"))?;
        let plain = Bytes::from(self.body(addition, question));
        let read = |body: &Bytes| AppRequest::read(endpoint.clone(), body).map_err(|bad| bad.message);
        let request = read(&plain)?;
        let added = add(&request, &plain, addition).map_err(|bad| bad.message)?;
        let longer = read(&added.body)?;
        let limit = longer.output_limit.unwrap_or(USUAL_TOKENS);
        let input = self.app.fleet.offer(self.offer).calibration().reserved(longer.input_tokens);
        let worst = TokenCounts { input, output: limit, ..TokenCounts::default() };
        let way = way_of(self.app, self.subject, self.subject.upstream.clone(), self.time, model);
        let way = way.map_err(|why| why.to_string())?;
        let spending = spending::begin(self.app, self.payer, Some(self.offer.clone()), worst).await;
        let spending = spending.map_err(|why| why.to_string())?;
        let limit = u32::try_from(limit).unwrap_or(u32::MAX);
        let (id, body) = (spending.id, added.body.clone());
        let came = way.ask(&Question { model, offer: &offered, path, body, limit, id }).await;
        let share = PresetShare::of(request.input_tokens, longer.input_tokens);
        let told = came.seen.answer.usage.and_then(Usage::counts);
        let usage = told.map(|tokens| TokenCounts { preset: share.part_of(tokens.all_input()), ..tokens });
        let was_asked = came.refused.is_none() && came.busy.is_none();
        let answered = was_asked && (came.failure.is_none() || came.seen.pieces > 0 || came.is_time_up);
        let whole_ms = came.seen.end_us / 1_000;
        spending.settle(CallEnd { usage, answered, first_ms: None, whole_ms, streamed: false }).await;
        if let Some(why) = self.unanswered(&came) {
            return Err(why);
        }
        let tokens = usage.unwrap_or(TokenCounts { preset: share.part_of(worst.input), ..worst });
        Ok(Rehearsed {
            answer: came.seen.text(),
            sent: String::from_utf8_lossy(&added.body).into_owned(),
            lines: added.lines,
            tokens,
            is_estimated: usage.is_none(),
            cost: self.cost(tokens),
            whole_ms,
        })
    }

    /// The question as an app would ask it that speaks the upstream's dialect. What the preset limits the app leaves to it.
    fn body(&self, addition: &Addition, question: &str) -> String {
        let dialect = self.subject.upstream.dialect;
        let mut conversation = Conversation::of(dialect, self.offer.model());
        conversation.turns.push(Turn::of_text(Role::User, question, ""));
        let own =
            addition.output_limit.map_or(Some(USUAL_TOKENS), |limit| (limit > MOST_TOKENS).then_some(MOST_TOKENS));
        conversation.output_limit = own;
        let target = Target {
            dialect,
            model: self.offer.model(),
            marks: &[],
            controls: wendor_wire::ability::Controls::default(),
            seals: SealDomain::unmarked(),
            // A dialect that demands a limit has the preset's replaced by nothing else.
            output_cap: addition.output_limit.map(|limit| limit.min(MOST_TOKENS)),
        };
        dialects::of(dialect).write_request(&conversation, &target)
    }

    fn cost(&self, tokens: TokenCounts) -> Option<Cost> {
        let snapshot = self.app.now_serving();
        let rate = snapshot.rates.in_force(self.offer, self.app.clock.now().date_naive())?;
        price(tokens, Images::default(), rate)
    }

    fn unanswered(&self, came: &Came) -> Option<String> {
        let offer = self.offer;
        if came.is_time_up {
            return Some(format!("{offer} did not answer within {} s", self.time.given.as_secs()));
        }
        if let Some(answers) = came.busy {
            return Some(format!("{offer} is busy with {answers} answers; try again in a moment"));
        }
        if let Some(refused) = &came.refused {
            let quoted = refusal::quoted(&scrubbed(refused.clone(), self.subject.credential.as_ref()));
            return Some(format!("{offer} refused it with status {}: {quoted}", refused.status));
        }
        came.failure.as_ref().map(|failure| format!("{offer} did not answer: {}", failure.detail))
    }
}
