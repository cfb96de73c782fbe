//! The calls of a check that cost something: a streamed and a whole answer, and the proofs of abilities.

use std::time::{Duration, Instant};

use bytes::Bytes;
use hyper::Method;
use rand::RngExt;
use wendor_core::catalog::ability::Mark;
use wendor_core::catalog::upstream::{Dialect, Offer};
use wendor_core::diagnosis::answer::{self, CALL_TOKENS, PATIENT_TOKENS};
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::heard::{self, AnswerSeen, Listener};
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::listing;
use wendor_core::diagnosis::proof::{self, Outcome, Proof};
use wendor_core::diagnosis::refusal::{self, Asked};
use wendor_core::diagnosis::remedy::Remedy;
use wendor_core::diagnosis::report::{Judged, Step, StepReport};
use wendor_core::diagnosis::seen::{Heard, NotHeard};
use wendor_core::diagnosis::speech::Found;
use wendor_core::metering::usage::TokenCounts;
use wendor_core::name::OfferName;
use wendor_core::wire::codec;
use wendor_core::wire::conversation::Conversation;
use wendor_core::wire::conversation::event::Usage;
use wendor_core::wire::embedding::{path_of, read_vectors};
use wendor_core::wire::seal::SealDomain;
use wendor_core::wire::verdict::Target;

use super::spending::{self, CallEnd, Payer};
use super::talk::{Credentials, Peer, scrubbed};
use super::{Checked, Subject, not_asked, since};
use crate::app::App;

/// How long an answer may take: a large model may be loaded first.
const PATIENCE: Duration = Duration::from_secs(120);

/// The part of what a streamed answer may cost that is not asked for: one in so many.
const KEPT_BACK: u32 = 4;

/// Why nothing more is asked of a server that ignores limits.
const UNBOUNDED: &str = "the server does not keep to the limit on output, so nobody knows what asking more would cost";

/// Numbers that proofs are drawn from: six digits, so that luck has one chance in a million.
const NUMBERS: std::ops::Range<u32> = 100_000..1_000_000;

/// How far a check goes.
#[derive(Clone, Debug)]
pub struct Extent<'a> {
    /// The model to be asked; one that is offered when absent.
    pub model: Option<&'a str>,
    /// What is asked.
    pub asking: Asking,
    /// Who pays.
    pub payer: &'a Payer,
}

/// What is asked of a model.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asking {
    /// Nothing: the upstream is paid for by use.
    Nothing,
    /// Nothing yet: it is only looked at before it is brought in.
    NotYet,
    /// Two plain questions, of a model that is loaded.
    IfLoaded,
    /// The same, and every ability, loaded or not.
    Everything,
}

/// Why a call has no answer to be judged.
enum NoAnswer {
    /// It was not made.
    NotSpent(String),
    /// It failed.
    Failed(Finding),
}

struct Call<'a> {
    app: &'a App,
    subject: &'a Subject,
    peer: &'a Peer,
    found: &'a Found,
    payer: &'a Payer,
    model: &'a str,
    offer: Offer,
    inventory: Option<&'a Inventory>,
}

/// The last steps of a check.
pub async fn run(
    app: &App,
    (subject, peer, found): (&Subject, &Peer, &Found),
    extent: &Extent<'_>,
    checked: &mut Checked,
) -> Option<()> {
    const ALL: [Step; 3] = [Step::StreamedAnswer, Step::WholeAnswer, Step::Abilities];
    let why = match extent.asking {
        Asking::Nothing => Some("this upstream is paid for by use, so it is asked only with your consent"),
        Asking::NotYet => Some("asked once it is in"),
        Asking::IfLoaded | Asking::Everything => None,
    };
    if let Some(why) = why {
        not_asked(&mut checked.report, &ALL, why);
        return Some(());
    }
    let inventory = checked.inventory.clone();
    let Some(model) = choose(subject, found, extent, inventory.as_ref()) else {
        let why = "no model that it serves is offered, or none of those is loaded; asking would load it";
        not_asked(&mut checked.report, &ALL, why);
        return Some(());
    };
    let offer = subject.upstream.offers.get(&model).cloned().unwrap_or_default();
    let call =
        Call { app, subject, peer, found, payer: extent.payer, model: &model, offer, inventory: inventory.as_ref() };
    checked.model = Some(model.clone());
    let chats = call.offer.can(wendor_core::catalog::ability::Ability::Chat);
    if chats {
        plain(&call, checked).await?;
        if checked.report.findings().any(|finding| finding.kind == FindingKind::LimitIgnored) {
            // What it would cost more nobody knows.
            not_asked(&mut checked.report, &ALL[1..], UNBOUNDED);
            return Some(());
        }
    } else {
        not_asked(&mut checked.report, &ALL[..2], "this offer is not for conversations");
    }
    match extent.asking {
        Asking::Everything => proofs(&call, checked).await,
        Asking::Nothing | Asking::NotYet | Asking::IfLoaded => {
            not_asked(&mut checked.report, &ALL[2..], "proven only when someone asks for it");
            Some(())
        }
    }
}

/// The model to be asked: the one that was named, or one that is offered and served. One that would have to be loaded first is not taken
/// unasked.
fn choose(subject: &Subject, found: &Found, extent: &Extent<'_>, inventory: Option<&Inventory>) -> Option<String> {
    let tells_loaded = found.dialect == Dialect::LocalChat && inventory.is_some();
    let is_loaded = |model: &str| {
        let seen = inventory.and_then(|inventory| inventory.model(model));
        !tells_loaded || seen.is_some_and(|seen| seen.loaded_bytes.is_some())
    };
    if let Some(model) = extent.model {
        return (extent.asking == Asking::Everything || is_loaded(model)).then(|| model.to_owned());
    }
    let offered: Vec<&String> = subject.upstream.offers.keys().collect();
    let listed = inventory.map(|inventory| inventory.models.iter().map(|model| &model.name).collect::<Vec<_>>());
    let candidates = if offered.is_empty() { listed.unwrap_or_default() } else { offered };
    let loaded = candidates.iter().find(|model| is_loaded(model)).copied();
    let any = candidates.first().copied().filter(|_| extent.asking == Asking::Everything);
    loaded.or(any).cloned()
}

/// A streamed and a whole answer.
async fn plain(call: &Call<'_>, checked: &mut Checked) -> Option<()> {
    let of = answer::Of { model: call.model, output_cap: call.offer.output_cap.map(std::num::NonZeroU32::get) };
    let cap = of.output_cap.map_or(CALL_TOKENS, |cap| cap.min(CALL_TOKENS));
    let start = Instant::now();
    let streamed = match call.streamed(cap).await {
        Ok(seen) if seen.is_past_limit => {
            let has_old = call.keeps_old_limit(cap).await;
            (answer::judge_unlimited(&seen, cap - cap / KEPT_BACK, of, has_old), seen)
        }
        Ok(seen) if seen.is_silent_at_cap() && seen.fault.is_none() => {
            let again = call.streamed(PATIENT_TOKENS).await.ok();
            (answer::judge_streamed(&seen, again.as_ref(), of), seen)
        }
        Ok(seen) => (answer::judge_streamed(&seen, None, of), seen),
        Err(NoAnswer::NotSpent(why)) => {
            not_asked(&mut checked.report, &[Step::StreamedAnswer, Step::WholeAnswer, Step::Abilities], &why);
            return None;
        }
        Err(NoAnswer::Failed(finding)) => (Judged::found("no answer", finding), AnswerSeen::default()),
    };
    let (judged, seen) = streamed;
    let tried = format!("POST {} to {}, streamed", call.path(true), call.model);
    super::go_on(checked.report.take(StepReport::of(Step::StreamedAnswer, tried, judged, since(start))))?;
    if seen.is_past_limit {
        return Some(());
    }

    let start = Instant::now();
    let judged = match call.whole(&proof::plain(call.model, false, cap), proof::worst_of_call(cap)).await {
        Ok(whole) => answer::judge_whole(&whole, &seen, of),
        Err(NoAnswer::NotSpent(why)) => {
            not_asked(&mut checked.report, &[Step::WholeAnswer, Step::Abilities], &why);
            return None;
        }
        Err(NoAnswer::Failed(finding)) => Judged::found("no answer", finding),
    };
    let tried = format!("POST {} to {}, whole", call.path(false), call.model);
    super::go_on(checked.report.take(StepReport::of(Step::WholeAnswer, tried, judged, since(start))))
}

/// Every ability that the offer is said to have.
async fn proofs(call: &Call<'_>, checked: &mut Checked) -> Option<()> {
    let start = Instant::now();
    let mut told = Vec::new();
    let mut judged = Judged::default();
    for proof in Proof::ALL.into_iter().filter(|proof| proof.is_asked(&call.offer, call.found.dialect)) {
        let (outcome, read) = match call.prove(proof).await {
            Ok(proven) => proven,
            Err(NoAnswer::Failed(finding)) => (Outcome::Absent { why: finding.says }, None),
            Err(NoAnswer::NotSpent(why)) => {
                told.push(why);
                break;
            }
        };
        told.push(match &outcome {
            Outcome::Proven => proof.as_str().to_owned(),
            Outcome::Absent { why } => {
                judged.findings.push(proof::finding(proof, why, (call.model, &call.offer), read));
                format!("not {}", proof.as_str())
            }
        });
        checked.proofs.insert(proof, outcome);
    }
    judged.came_back = if told.is_empty() { "nothing to be proven".to_owned() } else { told.join(", ") };
    let tried = format!("a small question to {} for each", call.model);
    super::go_on(checked.report.take(StepReport::of(Step::Abilities, tried, judged, since(start))))
}

impl Call<'_> {
    fn path(&self, is_streamed: bool) -> String {
        codec::of(self.found.dialect).path(self.model, is_streamed)
    }

    fn body(&self, conversation: &Conversation) -> Bytes {
        let target = Target {
            dialect: self.found.dialect,
            model: self.model,
            marks: &self.offer.marks,
            controls: self.offer.controls,
            seals: SealDomain::unmarked(),
            output_cap: None,
        };
        Bytes::from(codec::of(self.found.dialect).write_request(conversation, &target))
    }

    fn credentials(&self) -> Credentials<'_> {
        Credentials::of(self.subject.credential.as_ref(), &self.subject.upstream.auth)
    }

    async fn spend(&self, worst: TokenCounts) -> Result<spending::Spending<'_>, NoAnswer> {
        let name = self.subject.name.as_ref().and_then(|name| OfferName::new(name.clone(), self.model).ok());
        spending::begin(self.app, self.payer, name, worst).await.map_err(|error| NoAnswer::NotSpent(error.to_string()))
    }

    async fn streamed(&self, cap: u32) -> Result<AnswerSeen, NoAnswer> {
        let spending = self.spend(proof::worst_of_call(cap)).await?;
        // What is on its way when reading stops has to be within what was shown too.
        let asked = cap - cap / KEPT_BACK;
        let body = self.body(&proof::plain(self.model, true, asked));
        let url = self.found.address.endpoint(&self.path(true));
        let start = Instant::now();
        let answered = self.peer.ask((Method::POST, &url), self.credentials(), body, PATIENCE).await;
        let answer = match answered {
            Ok(answer) if answer.response.status().is_success() => answer,
            Ok(refused) => {
                spending.settle(CallEnd { whole_ms: since(start) / 1_000, streamed: true, ..CallEnd::default() }).await;
                let heard = refused.heard(PATIENCE).await.map_err(|not| NoAnswer::Failed(not_heard(&not)))?;
                return Err(NoAnswer::Failed(self.refused(heard)));
            }
            Err(not) => {
                spending.settle(CallEnd { whole_ms: since(start) / 1_000, streamed: true, ..CallEnd::default() }).await;
                return Err(NoAnswer::Failed(not_heard(&not)));
            }
        };
        let mut listener = Listener::of(self.found.dialect, asked);
        // Whether the end was proper is told by what came.
        let _reached_its_end = answer.each_part(start, PATIENCE, |part, at| listener.take(part, at)).await;
        let seen = listener.end(since(start));
        let end = CallEnd { first_ms: seen.first_us.map(|us| us / 1_000), streamed: true, ..end_of(&seen) };
        spending.settle(end).await;
        Ok(seen)
    }

    async fn whole(&self, conversation: &Conversation, worst: TokenCounts) -> Result<AnswerSeen, NoAnswer> {
        let spending = self.spend(worst).await?;
        let url = self.found.address.endpoint(&self.path(false));
        let start = Instant::now();
        let heard = self.peer.post(&url, self.credentials(), self.body(conversation), PATIENCE).await;
        match heard {
            Ok(heard) if heard.status == 200 => {
                let seen = heard::whole(self.found.dialect, &heard.body, since(start));
                spending.settle(end_of(&seen)).await;
                Ok(seen)
            }
            other => {
                spending.settle(CallEnd { whole_ms: since(start) / 1_000, ..CallEnd::default() }).await;
                Err(NoAnswer::Failed(match other {
                    Ok(heard) => self.refused(heard),
                    Err(not) => not_heard(&not),
                }))
            }
        }
    }

    /// Whether the server keeps to the limit under its older name.
    async fn keeps_old_limit(&self, cap: u32) -> bool {
        if self.found.dialect != Dialect::ChatCompletions || self.offer.marks.contains(&Mark::OldLimit) {
            return false;
        }
        let mut offer = self.offer.clone();
        offer.marks.push(Mark::OldLimit);
        let old = Call { offer, ..*self };
        old.streamed(cap).await.is_ok_and(|seen| !seen.is_past_limit && seen.fault.is_none())
    }

    /// What came of a proof, and how much of the prompt was read.
    async fn prove(&self, proof: Proof) -> Result<(Outcome, Option<u64>), NoAnswer> {
        let number = rand::rng().random_range(NUMBERS);
        if proof == Proof::Embeddings {
            return self.prove_vectors(number).await.map(|outcome| (outcome, None));
        }
        let conversation = proof::question(proof, number, self.model, &self.offer);
        let seen = self.whole(&conversation, proof.worst(&self.offer)).await?;
        let read = seen.answer.usage.and_then(|usage| usage.input);
        Ok((proof::judge(proof, number, &seen, &self.offer), read))
    }

    async fn prove_vectors(&self, number: u32) -> Result<Outcome, NoAnswer> {
        let Some(embedding) = proof::embedding(number, self.found.dialect) else {
            return Ok(Outcome::Absent { why: "the dialect has no embeddings".to_owned() });
        };
        let spending = self.spend(Proof::Embeddings.worst(&self.offer)).await?;
        let url = self.found.address.endpoint(&path_of(embedding.form, self.model));
        let body = Bytes::from(embedding.write(embedding.form, self.model));
        let start = Instant::now();
        let heard = self.peer.post(&url, self.credentials(), body, PATIENCE).await;
        let vectors =
            heard.as_ref().ok().filter(|heard| heard.status == 200).and_then(|heard| read_vectors(&heard.body).ok());
        let usage = vectors.as_ref().and_then(|found| found.input_tokens);
        let usage = usage.and_then(|input| Usage { input: Some(input), output: Some(0), ..Usage::default() }.counts());
        spending
            .settle(CallEnd {
                usage,
                answered: vectors.is_some(),
                whole_ms: since(start) / 1_000,
                ..CallEnd::default()
            })
            .await;
        match (vectors, heard) {
            (Some(vectors), _) => Ok(proof::judge_vectors(&vectors)),
            (None, Ok(heard)) if heard.status == 200 => {
                Ok(Outcome::Absent { why: "the answer holds no vectors".to_owned() })
            }
            (None, Ok(heard)) => Err(NoAnswer::Failed(self.refused(heard))),
            (None, Err(not)) => Err(NoAnswer::Failed(not_heard(&not))),
        }
    }

    /// What a refusal of a call means: that the model is not there, or what any refusal means.
    fn refused(&self, heard: Heard) -> Finding {
        let heard = scrubbed(heard, self.subject.credential.as_ref());
        if heard.status == 404 && refusal::judge(&heard, self.asked()).kind == FindingKind::Refused {
            let names =
                self.inventory.map(|inventory| inventory.models.iter().map(|model| model.name.as_str()).collect());
            return listing::unknown(self.model, &names.unwrap_or_default());
        }
        refusal::judge(&heard, self.asked())
    }

    fn asked(&self) -> Asked<'_> {
        super::asked(self.subject, self.peer)
    }
}

fn end_of(seen: &AnswerSeen) -> CallEnd {
    CallEnd {
        usage: seen.answer.usage.and_then(Usage::counts),
        answered: seen.fault.is_none(),
        first_ms: None,
        whole_ms: seen.end_us / 1_000,
        streamed: false,
    }
}

fn not_heard(not: &NotHeard) -> Finding {
    let says = match not {
        NotHeard::TimedOut(millis) => {
            format!("The server takes the question and does not answer within {} s.", millis / 1_000)
        }
        NotHeard::Broke => "The server takes the question and closes the connection without an answer.".to_owned(),
        NotHeard::NotHttp { .. } => "What comes back is no HTTP.".to_owned(),
        NotHeard::NoConnection => {
            "A second connection does not come about: the server takes only few at once.".to_owned()
        }
    };
    let owner = "Your model server takes questions and does not answer them; does its log say why?";
    Finding::failing(FindingKind::NoAnswer, says, vec![Remedy::owner(owner)])
}
