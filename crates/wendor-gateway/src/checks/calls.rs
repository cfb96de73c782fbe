//! The calls of a check that cost something: a streamed and a whole answer, and the proofs of abilities.

use std::time::Instant;

use bytes::Bytes;
use rand::RngExt;
use wendor_core::catalog::ability::{Ability, Mark};
use wendor_core::catalog::route::{Deadlines, Stage};
use wendor_core::catalog::upstream::{Dialect, Offer, Upstream};
use wendor_core::diagnosis::answer::{self, CALL_TOKENS, PATIENT_TOKENS};
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::first_words::{self, Known};
use wendor_core::diagnosis::heard::AnswerSeen;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::listing;
use wendor_core::diagnosis::proof::{self, Outcome, Proof};
use wendor_core::diagnosis::refusal::{self, Asked};
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

use super::question::{Came, Question, Way};
use super::spending::{self, CallEnd, Payer};
use super::talk::{Credentials, Peer, scrubbed};
use super::{Checked, Subject, Time, since};
use crate::app::App;
use crate::data_plane::clients::Clients;
use crate::data_plane::outlet::{NotARequest, Outlet};

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
    /// The time that it has.
    pub time: Time,
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

/// Sizes of requests that are tried, in bytes: apps send the largest with an image or a long document.
const SIZES: [usize; 4] = [60_000, 250_000, 1_000_000, 1_500_000];

/// Output tokens of a question that only asks whether a name is answered.
const NAME_TOKENS: u32 = 16;

/// Why a call has no answer to be judged.
enum NoAnswer {
    /// It was not made.
    NotSpent(String),
    /// It failed.
    Failed(Box<Finding>),
}

fn failed(finding: Finding) -> NoAnswer {
    NoAnswer::Failed(Box::new(finding))
}

#[derive(Clone)]
struct Call<'a> {
    way: &'a Way<'a>,
    subject: &'a Subject,
    peer: &'a Peer,
    payer: &'a Payer,
    model: &'a str,
    offer: Offer,
    /// The models that are listed, where there is a listing.
    listed: Option<Vec<String>>,
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
        checked.not_asked(&ALL, why);
        return Some(());
    }
    let inventory = checked.inventory.clone();
    let Some(model) = choose(subject, found, extent, inventory.as_ref()) else {
        let why = "no model that it serves is offered, or none of those is loaded; asking would load it";
        checked.not_asked(&ALL, why);
        return Some(());
    };
    let way = way_of(app, subject, found, extent, &model).ok()?;
    let call = call_of(&way, (subject, peer), extent, (&model, inventory.as_ref()));
    checked.model = Some(model.clone());
    let chats = call.offer.can(Ability::Chat);
    if chats {
        plain(&call, checked).await?;
        if checked.report.findings().any(|finding| finding.kind == FindingKind::LimitIgnored) {
            // What it would cost more nobody knows.
            checked.not_asked(&ALL[1..], UNBOUNDED);
            return Some(());
        }
    } else {
        checked.not_asked(&ALL[..2], "this offer is not for conversations");
    }
    match extent.asking {
        Asking::Everything => proofs(&call, checked).await,
        Asking::Nothing | Asking::NotYet | Asking::IfLoaded => {
            checked.not_asked(&ALL[2..], "proven only when someone asks for it");
            Some(())
        }
    }
}

/// Whether a model answers that is not listed: then the server goes by no name.
pub async fn answers_to(
    app: &App,
    (subject, peer, found): (&Subject, &Peer, &Found),
    extent: &Extent<'_>,
    model: &str,
) -> bool {
    if !matches!(extent.asking, Asking::IfLoaded | Asking::Everything) {
        return false;
    }
    let Ok(way) = way_of(app, subject, found, extent, model) else { return false };
    let call = call_of(&way, (subject, peer), extent, (model, None));
    let question = proof::plain(model, false, NAME_TOKENS);
    call.whole(&question, proof::worst_of_call(NAME_TOKENS)).await.is_ok_and(|seen| seen.fault.is_none())
}

fn way_of<'a>(
    app: &'a App,
    subject: &Subject,
    found: &Found,
    extent: &Extent<'_>,
    model: &str,
) -> Result<Way<'a>, NotARequest> {
    let upstream = Upstream { address: found.address.clone(), dialect: found.dialect, ..subject.upstream.clone() };
    Ok(Way {
        app,
        clients: Clients::new(app.trust.clone(), app.hosts.clone()),
        outlet: Outlet::prepare(&upstream, subject.credential.as_ref())?,
        identity: subject.identity.clone().ok().flatten(),
        deadlines: deadlines(app, subject, model),
        time: extent.time,
        quiet: subject.quiet.clone(),
        upstream,
    })
}

fn call_of<'a>(
    way: &'a Way<'a>,
    (subject, peer): (&'a Subject, &'a Peer),
    extent: &'a Extent<'_>,
    (model, inventory): (&'a str, Option<&Inventory>),
) -> Call<'a> {
    let offer = subject.upstream.offers.get(model).cloned().unwrap_or_default();
    let listed = inventory.map(|inventory| inventory.models.iter().map(|model| model.name.clone()).collect());
    Call { way, subject, peer, payer: extent.payer, model, offer, listed }
}

/// The deadlines of requests to an offer: of the stages that use it the lowest, or the usual ones.
fn deadlines(app: &App, subject: &Subject, model: &str) -> Deadlines {
    let offer = subject.name.as_ref().and_then(|name| OfferName::new(name.clone(), model).ok());
    let snapshot = app.now_serving();
    let stages = snapshot.catalogue.routes.values().flat_map(|route| &route.stages);
    let uses = |stage: &&Stage| stage.offers.iter().any(|entry| Some(&entry.offer) == offer.as_ref());
    let mut used = stages.filter(uses).map(|stage| stage.deadlines);
    let first = used.next().map_or_else(Deadlines::default, Deadlines::from);
    used.fold(first, Deadlines::lowered)
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
    checked.begins(Step::StreamedAnswer);
    let (judged, seen) = match call.streamed(cap).await {
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
            checked.not_asked(&[Step::StreamedAnswer, Step::WholeAnswer, Step::Abilities], &why);
            return None;
        }
        Err(NoAnswer::Failed(finding)) => (Judged::found("no answer", *finding), AnswerSeen::default()),
    };
    let tried = format!("POST {} to {}, streamed", call.path(true), call.model);
    checked.take(StepReport::of(Step::StreamedAnswer, tried, judged, since(start)))?;
    if seen.is_past_limit {
        return Some(());
    }

    let start = Instant::now();
    checked.begins(Step::WholeAnswer);
    let (whole, refuses_role) = call.whole_as_developer(cap).await;
    let judged = match whole {
        Ok(whole) => {
            let mut judged = answer::judge_whole(&whole, &seen, of);
            judged.findings.extend(refuses_role.map(|why| answer::role_unknown(of.model, &why)));
            if !judged.is_failing() {
                judged.findings.extend(call.body_limit().await);
            }
            judged
        }
        Err(NoAnswer::NotSpent(why)) => {
            checked.not_asked(&[Step::WholeAnswer, Step::Abilities], &why);
            return None;
        }
        Err(NoAnswer::Failed(finding)) => Judged::found("no answer", *finding),
    };
    let tried = format!("POST {} to {}, whole", call.path(false), call.model);
    checked.take(StepReport::of(Step::WholeAnswer, tried, judged, since(start)))
}

/// Every ability that the offer is said to have.
async fn proofs(call: &Call<'_>, checked: &mut Checked) -> Option<()> {
    let start = Instant::now();
    checked.begins(Step::Abilities);
    let mut told = Vec::new();
    let mut judged = Judged::default();
    for proof in Proof::ALL.into_iter().filter(|proof| proof.is_asked(&call.offer, call.way.upstream.dialect)) {
        let (outcome, read) = match call.prove(proof).await {
            Ok(proven) => proven,
            Err(NoAnswer::Failed(finding)) if finding.kind == FindingKind::TimeUp => {
                judged.findings.push(*finding);
                break;
            }
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
    checked.take(StepReport::of(Step::Abilities, tried, judged, since(start)))
}

impl Call<'_> {
    fn dialect(&self) -> Dialect {
        self.way.upstream.dialect
    }

    fn path(&self, is_streamed: bool) -> String {
        codec::of(self.dialect()).path(self.model, is_streamed)
    }

    /// The body as an app would write it that speaks the upstream's dialect.
    fn body(&self, conversation: &Conversation) -> Bytes {
        // An app writes what the dialect has, and does not know what its offer lacks.
        let has = self.offer.marks.iter().copied().filter(|mark| ![Mark::NoDeveloper, Mark::OldLimit].contains(mark));
        let marks: Vec<Mark> = has.chain([Mark::Developer]).collect();
        let target = Target {
            dialect: self.dialect(),
            model: self.model,
            marks: &marks,
            controls: self.offer.controls,
            seals: SealDomain::unmarked(),
            output_cap: None,
        };
        Bytes::from(codec::of(self.dialect()).write_request(conversation, &target))
    }

    async fn spend(&self, worst: TokenCounts) -> Result<spending::Spending<'_>, NoAnswer> {
        let name = self.subject.name.as_ref().and_then(|name| OfferName::new(name.clone(), self.model).ok());
        spending::begin(self.way.app, self.payer, name, worst)
            .await
            .map_err(|error| NoAnswer::NotSpent(error.to_string()))
    }

    /// Asks, and settles what it took.
    async fn asked(
        &self,
        (path, body, limit): (String, Bytes, u32),
        (worst, streamed): (TokenCounts, bool),
    ) -> Result<Came, NoAnswer> {
        let spending = self.spend(worst).await?;
        let id = spending.id.clone();
        let came = self.way.ask(&Question { model: self.model, offer: &self.offer, path, body, limit, id }).await;
        let seen = &came.seen;
        let usage = if came.body.is_empty() || streamed { None } else { vectors_usage(&came.body) };
        let end = CallEnd {
            usage: seen.answer.usage.and_then(Usage::counts).or(usage),
            // What was begun and not told of counts as its worst case.
            answered: came.refused.is_none()
                && came.busy.is_none()
                && (came.failure.is_none() || seen.pieces > 0 || came.is_time_up),
            first_ms: seen.first_us.map(|us| us / 1_000),
            whole_ms: seen.end_us / 1_000,
            streamed,
        };
        spending.settle(end).await;
        Ok(came)
    }

    /// The same, where nothing is wrong but perhaps with the answer.
    async fn answered(
        &self,
        question: (String, Bytes, u32),
        (worst, streamed): (TokenCounts, bool),
    ) -> Result<Came, NoAnswer> {
        let came = self.asked(question, (worst, streamed)).await?;
        match self.unanswered(&came, streamed) {
            Some(finding) => Err(failed(finding)),
            None => Ok(came),
        }
    }

    /// What it means that a question was not answered, or not in time; `None` where there is an answer to be judged.
    fn unanswered(&self, came: &Came, streamed: bool) -> Option<Finding> {
        if came.is_time_up {
            let what = if streamed { "A streamed answer" } else { "A whole answer" };
            return Some(answer::time_up(what, self.way.time.given.as_secs()));
        }
        if let Some(answers) = came.busy {
            let address = &self.way.upstream.address;
            return Some(first_words::unheard(address, &NotHeard::Busy(answers), Known::default()));
        }
        if let Some(refused) = &came.refused {
            return Some(self.refused(refused.clone(), came.seen.end_us / 1_000));
        }
        let failure = came.failure.as_ref()?;
        let has_begun = came.seen.pieces > 0 || came.seen.is_complete || !came.seen.head.content_type.is_empty();
        (!has_begun).then(|| answer::unanswered(&failure.detail))
    }

    async fn streamed(&self, cap: u32) -> Result<AnswerSeen, NoAnswer> {
        // What is on its way when reading stops has to be within what was shown too.
        let asked = cap - cap / KEPT_BACK;
        let question = (self.path(true), self.body(&proof::plain(self.model, true, asked)), asked);
        let worst = (proof::worst_of_call(cap), true);
        let came = self.asked(question.clone(), worst).await?;
        let Some(finding) = self.unanswered(&came, true) else { return Ok(came.seen) };
        if finding.kind == FindingKind::Refused && !self.way.upstream.is_without_ids {
            let way = self.way.without_ids();
            let bare = Call { way: &way, ..self.clone() };
            if bare.answered(question, worst).await.is_ok() {
                let refused = came.refused.unwrap_or_default();
                let why = refusal::quoted(&scrubbed(refused, self.subject.credential.as_ref()));
                return Err(failed(answer::ids_refused(self.peer.host(), &why)));
            }
        }
        Err(failed(finding))
    }

    async fn whole(&self, conversation: &Conversation, worst: TokenCounts) -> Result<AnswerSeen, NoAnswer> {
        let limit = conversation.output_limit.and_then(|limit| u32::try_from(limit).ok()).unwrap_or(CALL_TOKENS);
        let question = (self.path(false), self.body(conversation), limit);
        self.answered(question, (worst, false)).await.map(|came| came.seen)
    }

    /// A whole answer to a question with a turn of the developer, where the dialect tells that role from another; without it where that is
    /// refused, and how.
    async fn whole_as_developer(&self, cap: u32) -> (Result<AnswerSeen, NoAnswer>, Option<String>) {
        let (plain, worst) = (proof::plain(self.model, false, cap), proof::worst_of_call(cap));
        if self.dialect() != Dialect::ChatCompletions {
            return (self.whole(&plain, worst).await, None);
        }
        let question = proof::as_developer(plain.clone());
        let came = match self.asked((self.path(false), self.body(&question), cap), (worst, false)).await {
            Ok(came) => came,
            Err(why) => return (Err(why), None),
        };
        let is_refused = came.refused.as_ref().is_some_and(|refused| matches!(refused.status, 400 | 422 | 500));
        if let Some(refused) = came.refused.clone().filter(|_| is_refused) {
            let why = refusal::quoted(&scrubbed(refused, self.subject.credential.as_ref()));
            return match self.whole(&plain, worst).await {
                Ok(seen) => (Ok(seen), Some(why)),
                Err(other) => (Err(other), None),
            };
        }
        match self.unanswered(&came, false) {
            Some(finding) => (Err(failed(finding)), None),
            None => (Ok(came.seen), None),
        }
    }

    /// Whether something on the way refuses bodies of a size that apps send. They hold nothing, so no server begins to answer them.
    async fn body_limit(&self) -> Option<Finding> {
        let url = self.way.upstream.address.endpoint(&self.path(false));
        let credentials = Credentials::of(self.subject.credential.as_ref(), &self.subject.upstream.auth);
        let patience = self.way.time.of_look();
        let is_refused = async |size: usize| {
            let body = Bytes::from(vec![b' '; size]);
            self.peer.post(&url, credentials, body, patience).await.is_ok_and(|heard| heard.status == 413)
        };
        let (mut refused, smaller) = SIZES.split_last()?;
        if !is_refused(*refused).await {
            return None;
        }
        let mut taken = 0;
        for size in smaller.iter().rev() {
            if is_refused(*size).await {
                refused = size;
            } else {
                taken = *size;
                break;
            }
        }
        let bytes = |size: usize| u64::try_from(size).unwrap_or(u64::MAX);
        Some(refusal::body_limit(self.peer.host(), bytes(taken), bytes(*refused)))
    }

    /// Whether the server keeps to the limit under its older name.
    async fn keeps_old_limit(&self, cap: u32) -> bool {
        if self.dialect() != Dialect::ChatCompletions || self.offer.marks.contains(&Mark::OldLimit) {
            return false;
        }
        let mut offer = self.offer.clone();
        offer.marks.push(Mark::OldLimit);
        let old = Call { offer, ..self.clone() };
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
        let Some(embedding) = proof::embedding(number, self.dialect()) else {
            return Ok(Outcome::Absent { why: "the dialect has no embeddings".to_owned() });
        };
        let body = Bytes::from(embedding.write(embedding.form, self.model));
        let question = (path_of(embedding.form, self.model), body, 0);
        let came = self.answered(question, (Proof::Embeddings.worst(&self.offer), false)).await?;
        Ok(match read_vectors(&came.body) {
            Ok(vectors) => proof::judge_vectors(&vectors),
            Err(_) => Outcome::Absent { why: "the answer holds no vectors".to_owned() },
        })
    }

    /// What a refusal of a call means: that the model is not there or may not be used, or what any refusal means.
    fn refused(&self, heard: Heard, took_ms: u64) -> Finding {
        let heard = scrubbed(heard, self.subject.credential.as_ref());
        let finding = refusal::judge(&heard, Asked { took_ms, ..super::asked(self.subject, self.peer) });
        let listed = self.listed.as_deref().unwrap_or_default();
        let is_listed = listed.iter().any(|name| listing::is_called(name, self.model));
        let is_plain = matches!(finding.kind, FindingKind::Refused | FindingKind::KeyRefused | FindingKind::KeyMissing);
        match heard.status {
            403 | 404 if is_listed && is_plain => listing::may_not_be_used(self.model, &heard),
            404 if finding.kind == FindingKind::Refused => {
                listing::unknown(self.model, &listed.iter().map(String::as_str).collect())
            }
            _ => finding,
        }
    }
}

/// What an answer of vectors used, as far as it tells.
fn vectors_usage(body: &[u8]) -> Option<TokenCounts> {
    let input = read_vectors(body).ok()?.input_tokens?;
    Usage { input: Some(input), output: Some(0), ..Usage::default() }.counts()
}
