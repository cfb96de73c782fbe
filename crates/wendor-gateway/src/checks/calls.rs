//! The calls of a check that cost something: a streamed and a whole answer, and the proofs of abilities.

use std::time::Instant;

use wendor_core::catalog::route::{Deadlines, Stage};
use wendor_core::catalog::upstream::Upstream;
use wendor_core::diagnosis::answer::{self, CALL_TOKENS, PATIENT_TOKENS};
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::heard::AnswerSeen;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::proof::{self, Outcome, Proof};
use wendor_core::diagnosis::report::{Judged, Step, StepReport};
use wendor_core::diagnosis::speech::Found;
use wendor_core::name::OfferName;
use wendor_wire::ability::Ability;
use wendor_wire::dialect::Dialect;

use super::call::{Call, NoAnswer, asked_of};
use super::question::Way;
use super::spending::Payer;
use super::talk::Peer;
use super::{Checked, Subject, Time, since};
use crate::app::App;
use crate::data_plane::clients::Clients;
use crate::data_plane::outlet::{NotARequest, Outlet};

/// Why nothing more is asked of a server that ignores limits.
const UNBOUNDED: &str = "the server does not keep to the limit on output, so the cost of further calls is unknown";

/// How far a check goes.
#[derive(Clone, Debug)]
pub struct Extent<'a> {
    /// The model to be asked; one that is offered when absent.
    pub model: Option<&'a str>,
    /// Which questions may be put.
    pub asking: Asking,
    /// Team and person that the check is counted for.
    pub payer: &'a Payer,
    /// Until when all of it has to be done.
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

/// Output tokens of a question that only asks whether a name is answered.
const NAME_TOKENS: u32 = 16;

/// The last steps of a check.
pub async fn run(
    app: &App,
    subject: &Subject,
    peer: &Peer,
    found: &Found,
    extent: &Extent<'_>,
    checked: &mut Checked,
) -> Option<()> {
    const ALL: [Step; 3] = [Step::StreamedAnswer, Step::WholeAnswer, Step::Abilities];
    let why = match extent.asking {
        Asking::Nothing => Some("this upstream is paid for by use, so it is called only with your consent"),
        Asking::NotYet => Some("asked once it is added"),
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
    let way = way_of(app, subject, upstream_of(subject, found), extent.time, &model).ok()?;
    let call = call_of(&way, subject, peer, extent, &model, inventory.as_ref());
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
    subject: &Subject,
    peer: &Peer,
    found: &Found,
    extent: &Extent<'_>,
    model: &str,
) -> bool {
    if !matches!(extent.asking, Asking::IfLoaded | Asking::Everything) {
        return false;
    }
    let Ok(way) = way_of(app, subject, upstream_of(subject, found), extent.time, model) else { return false };
    let call = call_of(&way, subject, peer, extent, model, None);
    let question = proof::plain(model, false, NAME_TOKENS);
    call.whole(&question, proof::worst_of_call(NAME_TOKENS)).await.is_ok_and(|seen| seen.fault.is_none())
}

/// The upstream with the address and the dialect at which it was found.
fn upstream_of(subject: &Subject, found: &Found) -> Upstream {
    Upstream { address: found.address.clone(), dialect: found.dialect, ..subject.upstream.clone() }
}

pub(super) fn way_of<'a>(
    app: &'a App,
    subject: &Subject,
    upstream: Upstream,
    time: Time,
    model: &str,
) -> Result<Way<'a>, NotARequest> {
    Ok(Way {
        app,
        clients: Clients::new(app.trust.clone(), app.hosts.clone()),
        outlet: Outlet::prepare(&upstream, subject.credential.as_ref())?,
        identity: subject.identity.clone().ok().flatten(),
        deadlines: deadlines(app, subject, model),
        time,
        quiet: subject.quiet.clone(),
        upstream,
    })
}

fn call_of<'a>(
    way: &'a Way<'a>,
    subject: &'a Subject,
    peer: &'a Peer,
    extent: &'a Extent<'_>,
    model: &'a str,
    inventory: Option<&Inventory>,
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
            (answer::judge_unlimited(&seen, asked_of(cap), of, has_old), seen)
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
        Err(NoAnswer::Failed(finding)) => (Judged::found(not_answered(&finding), *finding), AnswerSeen::default()),
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
        Err(NoAnswer::Failed(finding)) => Judged::found(not_answered(&finding), *finding),
    };
    let tried = format!("POST {} to {}, whole", call.path(false), call.model);
    checked.take(StepReport::of(Step::WholeAnswer, tried, judged, since(start)))
}

fn not_answered(finding: &Finding) -> &'static str {
    if finding.kind == FindingKind::TimeUp { "not over yet" } else { "no answer" }
}

/// Every ability that the offer is said to have.
async fn proofs(call: &Call<'_>, checked: &mut Checked) -> Option<()> {
    let start = Instant::now();
    checked.begins(Step::Abilities);
    let mut outcomes = Vec::new();
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
                outcomes.push(why);
                break;
            }
        };
        outcomes.push(match &outcome {
            Outcome::Proven => proof.as_str().to_owned(),
            Outcome::Absent { why } => {
                judged.findings.push(proof::finding(proof, why, call.model, &call.offer, read));
                format!("not {}", proof.as_str())
            }
        });
        checked.proofs.insert(proof, outcome);
    }
    judged.came_back = if outcomes.is_empty() { "nothing to prove".to_owned() } else { outcomes.join(", ") };
    let tried = format!("a small question to {} for each", call.model);
    checked.take(StepReport::of(Step::Abilities, tried, judged, since(start)))
}
