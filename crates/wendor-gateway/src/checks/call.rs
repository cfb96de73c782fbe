//! One call of a check: asked as a request is ([`super::question`]), paid for, and what it means that it was not answered.

use bytes::Bytes;
use rand::RngExt;
use wendor_core::catalog::upstream::Offer;
use wendor_core::diagnosis::answer::{self, CALL_TOKENS};
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::first_words::{self, Known};
use wendor_core::diagnosis::heard::AnswerSeen;
use wendor_core::diagnosis::listing;
use wendor_core::diagnosis::proof::{self, Outcome, Proof};
use wendor_core::diagnosis::refusal::{self, Asked};
use wendor_core::diagnosis::seen::{Heard, NotHeard};
use wendor_core::name::OfferName;
use wendor_wire::ability::Mark;
use wendor_wire::conversation::Conversation;
use wendor_wire::conversation::event::Usage;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{path_of, read_vectors};
use wendor_wire::seal::SealDomain;
use wendor_wire::usage::TokenCounts;
use wendor_wire::verdict::Target;

use super::Subject;
use super::question::{Came, Question, Way};
use super::spending::{self, CallEnd, Payer};
use super::talk::{Credentials, Peer, scrubbed};

/// Numbers that proofs are drawn from: six digits, so that luck has one chance in a million.
const NUMBERS: std::ops::Range<u32> = 100_000..1_000_000;

/// The part of what a streamed answer may cost that is not asked for: one in so many.
const KEPT_BACK: u32 = 4;

/// Sizes of requests that are tried, in bytes: apps send the largest with an image or a long document.
const SIZES: [usize; 4] = [60_000, 250_000, 1_000_000, 1_500_000];

/// Why a call has no answer to be judged.
pub(super) enum NoAnswer {
    /// It was not made.
    NotSpent(String),
    /// What went wrong, ready to be reported.
    Failed(Box<Finding>),
}

fn failed(finding: Finding) -> NoAnswer {
    NoAnswer::Failed(Box::new(finding))
}

/// What of a limit is asked for.
pub(super) fn asked_of(cap: u32) -> u32 {
    cap - cap / KEPT_BACK
}

/// Calls of one model.
#[derive(Clone)]
pub(super) struct Call<'a> {
    /// Where they go.
    pub(super) way: &'a Way<'a>,
    /// What is checked.
    pub(super) subject: &'a Subject,
    /// The same address, for what costs nothing.
    pub(super) peer: &'a Peer,
    /// Team and person that the check is counted for.
    pub(super) payer: &'a Payer,
    /// The model.
    pub(super) model: &'a str,
    /// Where the question goes, whether in the catalogue or only tried.
    pub(super) offer: Offer,
    /// The models that are listed, where there is a listing.
    pub(super) listed: Option<Vec<String>>,
}

/// A question of a check, with what it may use at most.
#[derive(Clone)]
pub(super) struct PricedQuestion {
    pub(super) path: String,
    pub(super) body: Bytes,
    /// The most output tokens that it asks for.
    pub(super) limit: u32,
    pub(super) worst: TokenCounts,
    pub(super) streamed: bool,
}

impl Call<'_> {
    fn dialect(&self) -> Dialect {
        self.way.upstream.dialect
    }

    pub(super) fn path(&self, is_streamed: bool) -> String {
        dialects::of(self.dialect()).path(self.model, is_streamed)
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
        Bytes::from(dialects::of(self.dialect()).write_request(conversation, &target))
    }

    async fn spend(&self, worst: TokenCounts) -> Result<spending::Spending<'_>, NoAnswer> {
        let name = self.subject.name.as_ref().and_then(|name| OfferName::new(name.clone(), self.model).ok());
        spending::begin(self.way.app, self.payer, name, worst)
            .await
            .map_err(|error| NoAnswer::NotSpent(error.to_string()))
    }

    /// Asks, and settles what it took.
    async fn asked(&self, question: PricedQuestion) -> Result<Came, NoAnswer> {
        let PricedQuestion { path, body, limit, worst, streamed } = question;
        let spending = self.spend(worst).await?;
        let id = spending.id;
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
    async fn answered(&self, question: PricedQuestion) -> Result<Came, NoAnswer> {
        let streamed = question.streamed;
        let came = self.asked(question).await?;
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

    pub(super) async fn streamed(&self, cap: u32) -> Result<AnswerSeen, NoAnswer> {
        // What is on its way when reading stops must be within what was shown too.
        let asked = asked_of(cap);
        let question = PricedQuestion {
            path: self.path(true),
            body: self.body(&proof::plain(self.model, true, asked)),
            limit: asked,
            worst: proof::worst_of_call(cap),
            streamed: true,
        };
        let came = self.asked(question.clone()).await?;
        let Some(finding) = self.unanswered(&came, true) else { return Ok(came.seen) };
        if finding.kind == FindingKind::Refused && !self.way.upstream.is_without_ids {
            let way = self.way.without_ids();
            let bare = Call { way: &way, ..self.clone() };
            if bare.answered(question).await.is_ok() {
                let refused = came.refused.unwrap_or_default();
                let why = refusal::quoted(&scrubbed(refused, self.subject.credential.as_ref()));
                return Err(failed(answer::ids_refused(self.peer.host(), &why)));
            }
        }
        Err(failed(finding))
    }

    pub(super) async fn whole(&self, conversation: &Conversation, worst: TokenCounts) -> Result<AnswerSeen, NoAnswer> {
        let limit = conversation.output_limit.and_then(|limit| u32::try_from(limit).ok()).unwrap_or(CALL_TOKENS);
        let (path, body) = (self.path(false), self.body(conversation));
        self.answered(PricedQuestion { path, body, limit, worst, streamed: false }).await.map(|came| came.seen)
    }

    /// A whole answer to a question with a turn of the developer, where the dialect tells that role from another; without it where that is
    /// refused, and how.
    pub(super) async fn whole_as_developer(&self, cap: u32) -> (Result<AnswerSeen, NoAnswer>, Option<String>) {
        let (plain, worst) = (proof::plain(self.model, false, cap), proof::worst_of_call(cap));
        if self.dialect() != Dialect::ChatCompletions {
            return (self.whole(&plain, worst).await, None);
        }
        let (path, body) = (self.path(false), self.body(&proof::as_developer(plain.clone())));
        let came = match self.asked(PricedQuestion { path, body, limit: cap, worst, streamed: false }).await {
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
    pub(super) async fn body_limit(&self) -> Option<Finding> {
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
    pub(super) async fn keeps_old_limit(&self, cap: u32) -> bool {
        if self.dialect() != Dialect::ChatCompletions || self.offer.marks.contains(&Mark::OldLimit) {
            return false;
        }
        let mut offer = self.offer.clone();
        offer.marks.push(Mark::OldLimit);
        let old = Call { offer, ..self.clone() };
        old.streamed(cap).await.is_ok_and(|seen| !seen.is_past_limit && seen.fault.is_none())
    }

    /// What came of a proof, and how much of the prompt was read.
    pub(super) async fn prove(&self, proof: Proof) -> Result<(Outcome, Option<u64>), NoAnswer> {
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
        let path = path_of(embedding.form, self.model);
        let worst = Proof::Embeddings.worst(&self.offer);
        let came = self.answered(PricedQuestion { path, body, limit: 0, worst, streamed: false }).await?;
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
