//! Requests: a page of them by any filter, and one of them with all that is known.

mod asked;

use std::collections::BTreeMap;

use actix_web::{get, web};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::detail::{RequestDetail, WaitFor};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{AdjustmentRecord, Latency, LedgerEntry, Record, RequestRecord};
use wendor_core::metering::latency;
use wendor_core::metering::preset::PresetPartDone;
use wendor_core::metering::summary;
use wendor_core::request_id::RequestId;
use wendor_core::routing::queue::Lane;
use wendor_wire::change::RequestChange;
use wendor_wire::usage::Counted;

use super::attempts::{AttemptLine, attempt_lines};
use super::cost::{CostSum, cost_sum, failed_used};
use super::named;
use super::plan_view::{PlanLine, WaitLine, plan_lines, wait_lines};
use super::principal::{PersonOrApp, Principal};
use super::problem::{Problem, ProblemDetails};
use super::refused;
use super::usage::TokensByKind;
use crate::app::App;

pub use asked::RequestParams;
use asked::{limit_of, read, read_mark};

/// One request in a list.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestLine {
    /// Also in the answer's header, where the app can log it.
    pub id: String,
    /// `request`, or `check` for a call of a check.
    pub kind: String,
    /// When it arrived.
    pub at: DateTime<Utc>,
    /// Who pays.
    pub team: String,
    /// Id of the key.
    pub key: String,
    /// By the name that it had then.
    pub route: String,
    /// The offer that answered, or was tried last.
    pub offer: Option<String>,
    /// Attempts made.
    pub attempts: u32,
    /// Whether as a stream.
    pub streamed: bool,
    /// `proper`, `output-cap`, `cancelled`, `cut-off`, `rejected`, `not-answered`, `not-taken` or `abandoned`.
    pub end: String,
    /// What the last attempt failed of.
    pub failure: Option<String>,
    /// By the kinds that rates tell apart.
    pub tokens: TokensByKind,
    /// Images made.
    pub images: u64,
    /// Their size, where it was told.
    pub image_size: Option<String>,
    /// Whether tokens and images are estimated.
    pub estimated: bool,
    /// What it cost, all digits; unpriced when absent.
    pub cost: Option<String>,
    /// When admission and plan were done, in milliseconds from its arrival.
    pub admitted_ms: u64,
    /// How long it waited for room at upstreams that were full, in all.
    pub waited_ms: u64,
    /// The waits for room, in order; empty once they are not kept any more.
    pub waits: Vec<WaitLine>,
    /// `interactive` or `batch`.
    pub lane: String,
    /// When the attempt that answered began.
    pub answering_ms: Option<u64>,
    /// When the first token of a stream was there.
    pub first_token_ms: Option<u64>,
    /// When all was over.
    pub whole_ms: u64,
    /// The attempts, when there was more than one or none answered; empty once they are not kept any more.
    pub tries: Vec<AttemptLine>,
    /// The app's `wendor-run`.
    pub run: Option<String>,
    /// The app's `wendor-step`.
    pub step: Option<String>,
    /// The app's `wendor-labels`.
    pub labels: BTreeMap<String, String>,
    /// The revision in force.
    pub revision: i64,
}

/// Newest first, with where the next page begins.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestPage {
    /// Newest first.
    pub requests: Vec<RequestLine>,
    /// Code of the currency.
    pub currency: String,
    /// Goes on after this page, as `after`; nothing follows when absent.
    pub next: Option<String>,
}

/// A part of a request's time.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LatencyLine {
    /// What it was spent on.
    pub what: String,
    /// How long, in milliseconds.
    pub ms: u64,
}

/// What was changed of the request on the way.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangedLine {
    /// Of the body, as a path.
    pub member: String,
    /// As the app sent it.
    pub before: String,
    /// As the upstream got it.
    pub after: String,
}

/// A correction of what a request cost.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CorrectionLine {
    /// What is added, or taken off with a sign, all digits.
    pub amount: String,
    /// Why.
    pub reason: String,
}

/// A part of the preset of a route.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PresetLine {
    /// By its name in the catalogue's file.
    pub part: String,
    /// Its value, or how much of it there is.
    pub value: String,
    /// `added`, `own-kept` (the request said its own), `own-replaced` (it said its own, and the route fixes it), `unsaid` (the app's dialect
    /// has no member for it) or `left-out` (such a request has no place for it).
    pub fate: String,
}

/// One request with all that is known.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestShown {
    /// Its line.
    pub request: RequestLine,
    /// What happened, in a sentence or two.
    pub summary: String,
    /// As its issuer labelled it.
    pub key_label: Option<String>,
    /// The name that the app asked for, where the route had another one already.
    pub asked_as: Option<String>,
    /// What the preset of its route added, part by part; empty where it has none, or once that is not kept any more.
    pub preset: Vec<PresetLine>,
    /// The variables of the preset that the request filled; their values are not kept.
    pub variables: Vec<String>,
    /// Code of the currency.
    pub currency: String,
    /// What it cost, as a sum; unpriced when absent.
    pub cost: Option<CostSum>,
    /// The attempts, in order.
    pub attempts: Vec<AttemptLine>,
    /// What was corrected of that afterwards.
    pub corrections: Vec<CorrectionLine>,
    /// What attempts used together that did not answer, beside what the answer cost; none when absent.
    pub failed_used: Option<TokensByKind>,
    /// What that cost, all digits; none when absent, or where one of them is unpriced.
    pub failed_cost: Option<String>,
    /// The plan as it was made.
    pub plan: Vec<PlanLine>,
    /// Where its time went: parts that sum to the whole.
    pub latency: Vec<LatencyLine>,
    /// What was changed on the way.
    pub changes: Vec<ChangedLine>,
    /// Whether plan and attempts are still kept.
    pub detail_kept: bool,
    /// Why a part of them is missing, where one is.
    pub detail_cut: Option<String>,
}

/// A page of requests, newest first.
#[utoipa::path(tag = "figures", params(RequestParams), responses((status = 200, body = RequestPage, description = "The page")))]
#[get("/requests")]
pub(super) async fn list(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<RequestParams>,
) -> Result<web::Json<RequestPage>, Problem> {
    let params = params.into_inner();
    let filter = read(&principal, &app, &params)?;
    let mark = params.after.as_deref().map(read_mark).transpose()?;
    let limit = limit_of(params.limit)?;
    let entries = app.store.requests(&filter, mark.as_ref(), limit).await?;
    if entries.is_empty() {
        let (team, upstream) = (filter.team.as_ref(), filter.upstream.as_ref());
        let (route, offer, key) = (filter.route.as_ref(), filter.offer.as_ref(), filter.key.as_deref());
        named::must_be_there(&principal, &app, named::Narrowed { team, upstream, route, offer, key }).await?;
    }
    let is_full = i64::try_from(entries.len()).is_ok_and(|length| length == limit);
    let next = entries.last().filter(|_| is_full).map(|last| format!("{}_{}", last.at.to_rfc3339(), last.entry_id));
    let currency = app.now_serving().catalogue.currency.clone();
    // Attempts are drawn where there is more to see than one that answered.
    let is_several =
        |asked: RequestRecord| asked.attempts > 1 || asked.failure.is_some() || asked.latency.waited_ms > 0;
    let several: Vec<&LedgerEntry> = entries.iter().filter(|entry| entry.asked().is_some_and(is_several)).collect();
    let mut attempts = app.store.attempts_of(&several).await?;
    let line = |entry: &LedgerEntry| {
        let (tries, waits) = attempts.remove(entry.entry_id.as_str()).unwrap_or_default();
        let tries = attempt_lines(&entry.request, tries, has_answer(entry));
        let waits = wait_lines(&waits, asked(entry).latency.whole_ms);
        RequestLine { tries, waits, ..request_line(entry) }
    };
    Ok(web::Json(RequestPage { requests: entries.iter().map(line).collect(), currency, next }))
}

/// One request: to whoever may see its team, and to the key that asked it.
#[utoipa::path(tag = "figures", params(("id" = String, Path, description = "Its id, or the UUID that an upstream knows one of its attempts by")), responses(
    (status = 200, body = RequestShown, description = "The request"),
    (status = 404, body = ProblemDetails, description = "No such request")))]
#[get("/requests/{id}")]
pub(super) async fn show(
    caller: PersonOrApp,
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<web::Json<RequestShown>, Problem> {
    let missing = || Problem::NoSuch { what: "request", name: id.to_string(), nearest: None };
    let of_attempt = || RequestId::of_uuid(&id).map(|(request, _)| request);
    let wanted = RequestId::parse(&id).or_else(of_attempt).ok_or_else(missing)?;
    // Memory first: an app asks right after its stream, and the database may be away.
    let stored = match app.recent.request(&wanted) {
        Some(settled) => {
            let detail = settled.detail.as_deref().and_then(|detail| serde_json::from_str(detail).ok());
            Some((settled.entry, detail))
        }
        None => app.store.request(&wanted).await?,
    };
    let refused = || refused::before_admission(&app, &caller, &wanted).unwrap_or_else(missing);
    let (entry, detail) = stored.ok_or_else(refused)?;
    let may_see = match &caller {
        PersonOrApp::Person(principal) => {
            principal.standing.can_see(app.now_serving().former.team(entry.team.as_str()))
        }
        PersonOrApp::App(key) => key.id == entry.key,
    };
    // Of another team's request not even its existence is told.
    if !may_see {
        return Err(missing());
    }
    // The record is told all the same while the database is away.
    let corrections = app.store.corrections_of(&entry).await.unwrap_or_default();
    let corrections = corrections.iter().filter_map(correction_line).collect();
    Ok(web::Json(RequestShown { corrections, ..shown(&app, &entry, detail) }))
}

fn has_answer(entry: &LedgerEntry) -> bool {
    asked(entry).latency.answering_ms.is_some()
}

pub(super) fn request_line(entry: &LedgerEntry) -> RequestLine {
    let asked = asked(entry);
    RequestLine {
        id: entry.request.to_string(),
        kind: entry.record.kind().as_str().to_owned(),
        at: entry.at,
        team: entry.team.to_string(),
        key: entry.key.to_string(),
        route: entry.route.to_string(),
        offer: entry.offer.as_ref().map(ToString::to_string),
        attempts: asked.attempts,
        streamed: asked.streamed,
        end: asked.end.as_str().to_owned(),
        failure: asked.failure.map(|kind| kind.as_str().to_owned()),
        tokens: entry.tokens.into(),
        images: entry.images.count.into(),
        image_size: entry.images.size.map(|size| size.to_string()),
        estimated: entry.counted == Counted::Estimated,
        cost: entry.cost.map(|cost| cost.total().to_string()),
        admitted_ms: asked.latency.admitted_ms,
        waited_ms: asked.latency.waited_ms,
        waits: Vec::new(),
        lane: asked.lane.as_str().to_owned(),
        answering_ms: asked.latency.answering_ms,
        first_token_ms: asked.latency.first_token_ms,
        whole_ms: asked.latency.whole_ms,
        tries: Vec::new(),
        run: entry.run.clone(),
        step: entry.step.clone(),
        labels: entry.labels.clone(),
        revision: entry.revision,
    }
}

/// Outcome. Attempts and adjustments are not listed by themselves, so that there always is such.
fn asked(entry: &LedgerEntry) -> RequestRecord {
    let nothing = RequestRecord {
        attempts: 0,
        streamed: false,
        end: End::NotAnswered,
        failure: None,
        latency: Latency::default(),
        lane: Lane::default(),
    };
    entry.asked().unwrap_or(nothing)
}

fn shown(app: &App, entry: &LedgerEntry, detail: Option<RequestDetail>) -> RequestShown {
    let snapshot = app.now_serving();
    let key_label = snapshot.keys.by_id(&entry.key).map(|key| key.label.clone());
    let detail_kept = detail.is_some();
    let RequestDetail { plan, attempts, waits, changes, asked_as, preset, rate, reserved_cost, cut } =
        detail.unwrap_or_default();
    let whole_ms = asked(entry).latency.whole_ms;
    let is_load = !waits.is_empty() && waits.iter().all(|wait| wait.what == WaitFor::Load);
    let waited_for = if is_load { WaitFor::Load } else { WaitFor::Room };
    let (failed_used, failed_cost) = failed_used(&attempts).unzip();
    let cost = entry.cost.map(|cost| cost_sum(entry, cost, rate.as_ref(), reserved_cost));
    let preset = preset.unwrap_or_default();
    let added = (!preset.parts.is_empty()).then(|| preset.words(entry.tokens.preset, entry.tokens.all_input()));
    RequestShown {
        request: RequestLine { waits: wait_lines(&waits, whole_ms), ..request_line(entry) },
        summary: [Some(summary::of(entry, key_label.as_deref(), waited_for)), summary::served_from(&attempts), added]
            .into_iter()
            .flatten()
            .collect::<Vec<_>>()
            .join(" "),
        key_label,
        asked_as,
        preset: preset.parts.into_iter().map(preset_line).collect(),
        variables: preset.variables,
        currency: snapshot.catalogue.currency.clone(),
        cost,
        corrections: Vec::new(),
        failed_used: failed_used.map(TokensByKind::from),
        failed_cost: failed_cost.flatten().map(|cost| cost.to_string()),
        attempts: attempt_lines(&entry.request, attempts, has_answer(entry)),
        plan: plan_lines(plan),
        latency: latency::parts(&asked(entry).latency, asked(entry).attempts, waited_for)
            .iter()
            .map(|part| LatencyLine { what: part.what.to_owned(), ms: part.ms })
            .collect(),
        changes: changes.into_iter().map(changed_line).collect(),
        detail_kept,
        detail_cut: cut,
    }
}

fn correction_line(entry: &LedgerEntry) -> Option<CorrectionLine> {
    let Record::Adjustment(AdjustmentRecord { reason }) = &entry.record else { return None };
    Some(CorrectionLine { amount: entry.cost?.total().to_string(), reason: reason.clone() })
}

pub(super) fn preset_line(done: PresetPartDone) -> PresetLine {
    let [part, fate] = [done.part.as_str(), done.fate.as_str()].map(str::to_owned);
    PresetLine { part, value: done.value, fate }
}

fn changed_line(change: RequestChange) -> ChangedLine {
    let [member, before] = [change.member(), change.before()].map(str::to_owned);
    let after = change.after().into_owned();
    ChangedLine { member, before, after }
}
