//! Checks of upstreams: of one in the catalogue or of a draft; what asking on would cost; and a remedy applied.

use std::time::Duration;

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, post, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::upstream::{Address, CredentialSource, Hosting, Upstream};
use wendor_core::diagnosis::change;
use wendor_core::diagnosis::listing::Elsewhere;
use wendor_core::diagnosis::proof::{self, Kept as KeptProof, Proof};
use wendor_core::diagnosis::remedy::Change;
use wendor_core::diagnosis::seen::CredentialSeen;
use wendor_core::metering::rate::worst_price;
use wendor_core::name::{Name, OfferName};
use wendor_wire::usage::TokenCounts;

use super::check_report::{CheckReport, ProofCost, report_line};
use super::check_stream::{self, CheckLine, WATCHED};
use super::draft::{self, UpstreamDraft};
use super::named;
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use super::revise::{Mode, revise};
use crate::admin::revise::CatalogueApplied;
use crate::app::App;
use crate::checks::calls::{Asking, Extent};
use crate::checks::quiet::Quiet;
use crate::checks::spending::{OPERATORS, Payer};
use crate::checks::{self, Around, Checked, Subject, Time, Watcher};
use crate::credentials::{Credential, Kept};
use crate::health_changes::tell;

/// What is to be checked, and how far.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckAsk {
    /// An upstream of the catalogue.
    #[serde(default)]
    pub name: Option<String>,
    /// Or one that is not there yet.
    #[serde(default)]
    pub draft: Option<UpstreamDraft>,
    /// The model to be asked; one that is offered when absent.
    #[serde(default)]
    pub model: Option<String>,
    /// Ask on where that costs something: some plain questions, and one for each ability.
    #[serde(default)]
    pub prove: bool,
    /// An offer without a rate may be asked all the same.
    #[serde(default)]
    pub unpriced: bool,
    /// The team that pays; that of whoever asks when absent.
    #[serde(default)]
    pub team: Option<String>,
    /// How long it may take, in milliseconds, from 1,000 to 600,000; 10,000 when absent, 60,000 where abilities are proven.
    #[serde(default)]
    pub timeout_ms: Option<u64>,
}

/// A remedy to be applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MendAsk {
    /// The change, as the check told it.
    #[schema(value_type = Object)]
    pub change: Change,
    /// The value that it needs, if any.
    #[serde(default)]
    pub value: Option<String>,
    /// The host that the credential may be sent to from then on, where the change leads to another one.
    #[serde(default)]
    pub to_host: Option<String>,
}

/// How long a check may take.
const USUAL_TIME: Duration = Duration::from_secs(10);
const TIME_TO_PROVE: Duration = Duration::from_secs(60);
const TIMES_MS: std::ops::RangeInclusive<u64> = 1_000..=600_000;

/// A check made ready.
struct Ready {
    app: web::Data<App>,
    principal: Principal,
    ask: CheckAsk,
    payer: Payer,
    subject: Subject,
    asking: Asking,
    cost: ProofCost,
    time: Duration,
}

/// Check an upstream, step by step, as far as the first that bars the way. Asked with `accept: application/x-ndjson` it tells of each step
/// as it begins and as it ends, in a line of JSON each; whoever closes the connection ends it, and what was spent by then is in the ledger.
#[utoipa::path(tag = "upstreams", request_body = CheckAsk, responses(
    (status = 200, description = "What was seen; a step in each line where that is accepted",
     content((CheckReport = "application/json"), (CheckLine = "application/x-ndjson"))),
    (status = 400, body = ProblemDetails, description = "Invalid value"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/upstreams/check")]
pub(super) async fn check(
    principal: Principal,
    app: web::Data<App>,
    request: HttpRequest,
    body: web::Json<CheckAsk>,
) -> Result<HttpResponse, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "check upstreams")?;
    let ready = ready(app, principal, body.into_inner()).await?;
    // Before it is done: where a server makes the service fail, it is known who asked for it.
    let deed = deed_of(&ready.subject, &ready.ask, &ready.payer);
    ready.app.store.audit(&ready.principal.doing(&ready.app), &deed).await?;
    let accepts = request.headers().get(header::ACCEPT).and_then(|accept| accept.to_str().ok());
    if accepts.is_some_and(|accept| accept.contains(WATCHED)) {
        return Ok(check_stream::answer(ready.subject.clone(), |watcher| ready.run(Some(watcher))));
    }
    Ok(HttpResponse::Ok().json(ready.run(None).await?))
}

async fn ready(app: web::Data<App>, principal: Principal, ask: CheckAsk) -> Result<Ready, Problem> {
    let payer = payer(&app, &principal, ask.team.as_deref())?;
    let subject = subject(&app, &principal, &payer, &ask).await?;
    let cost = proof_cost(&app, &subject, ask.model.as_deref());
    if ask.prove && cost.money.is_none() && !ask.unpriced && subject.upstream.hosting == Hosting::Hosted {
        let message =
            "the offer has no rate, so the cost of asking is unknown; add a rate, or consent to it (`unpriced`)";
        return Err(Problem::BadValue { field: "prove", message: message.to_owned() });
    }
    let asking = match (ask.prove, subject.upstream.hosting) {
        (true, _) => Asking::Everything,
        (false, Hosting::Own) if ask.name.is_some() => Asking::IfLoaded,
        (false, Hosting::Own) => Asking::NotYet,
        (false, Hosting::Hosted) => Asking::Nothing,
    };
    let usual = if ask.prove { TIME_TO_PROVE } else { USUAL_TIME };
    let time = match ask.timeout_ms {
        None => usual,
        Some(millis) if TIMES_MS.contains(&millis) => Duration::from_millis(millis),
        Some(millis) => {
            let message = format!("must be from 1000 to 600000 (1 s to 10 min), not {millis}");
            return Err(Problem::BadValue { field: "timeout_ms", message });
        }
    };
    Ok(Ready { app, principal, ask, payer, subject, asking, cost, time })
}

impl Ready {
    async fn run(self, watcher: Option<Watcher>) -> Result<CheckReport, Problem> {
        let Self { app, principal, ask, payer, subject, asking, cost, time } = self;
        let start = std::time::Instant::now();
        let extent = Extent { model: ask.model.as_deref(), asking, payer: &payer, time: Time::of(time) };
        let checked = checks::run(&app, &subject, &extent, watcher).await;
        keep(&app, &principal, &subject, &checked).await?;
        let took_us = u64::try_from(start.elapsed().as_micros()).unwrap_or(u64::MAX);
        Ok(report_line(&app, &subject, &checked, cost, took_us))
    }
}

/// What asking on would cost at most.
#[utoipa::path(tag = "upstreams", request_body = CheckAsk, responses(
    (status = 200, body = ProofCost, description = "The worst case"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/upstreams/proof-cost")]
pub(super) async fn cost_of_proof(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CheckAsk>,
) -> Result<web::Json<ProofCost>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "check upstreams")?;
    let payer = payer(&app, &principal, body.team.as_deref())?;
    let subject = subject(&app, &principal, &payer, &body).await?;
    Ok(web::Json(proof_cost(&app, &subject, body.model.as_deref())))
}

/// What the audit tells of a check: which address is asked, and with which credential.
fn deed_of(subject: &Subject, ask: &CheckAsk, payer: &Payer) -> Deed {
    let upstream = &subject.upstream;
    let credential = match &upstream.credential {
        None => "none".to_owned(),
        Some(CredentialSource::Env(name)) => format!("variable {name}"),
        Some(CredentialSource::File(name)) => format!("file {name}"),
        Some(CredentialSource::Kept(_)) if subject.name.is_none() => "given with the draft".to_owned(),
        Some(CredentialSource::Kept(id)) => format!("kept {id}"),
    };
    let name = subject.name.as_ref().map_or_else(|| "a draft".to_owned(), |name| format!("upstream {name}"));
    let address = upstream.address.as_str();
    Deed::of(Action::UpstreamChecked, name).after(json!({
        "address": address, "credential": credential, "model": ask.model, "proven": ask.prove, "paid_by": payer.team,
    }))
}

/// Who pays: the team that was named, that of whoever asks, or the operators.
pub(super) fn payer(app: &App, principal: &Principal, team: Option<&str>) -> Result<Payer, Problem> {
    let named = team.map(|team| named::team(principal, &app.now_serving(), team)).transpose()?;
    let own = named.or_else(|| principal.standing.team.clone());
    let team = match own {
        Some(team) => team,
        None => Name::parse(OPERATORS).map_err(|_| Problem::Internal)?,
    };
    Ok(Payer { team, person: principal.name.clone() })
}

pub(super) async fn subject(
    app: &App,
    principal: &Principal,
    payer: &Payer,
    ask: &CheckAsk,
) -> Result<Subject, Problem> {
    let snapshot = crate::admin::revise::fresh(app).await?;
    let others = |own: Option<&Name>| elsewhere(app, &snapshot.catalogue, own);
    match (&ask.name, &ask.draft) {
        (Some(name), None) => {
            let name = named::upstream(principal, "check upstreams", &snapshot, name)?;
            let upstream = snapshot.catalogue.upstreams.get(&name).cloned().ok_or(Problem::Internal)?;
            let kept = Kept::read(&app.store, &app.keyring, &snapshot.catalogue).await?;
            let credential = found(kept.find(Some(&name), &upstream));
            let (elsewhere, seen) = (others(Some(&name)), kept.seen(Some(&name), &upstream));
            let (identity, stated) = (app.keyring.identity(&upstream), Some(upstream.dialect));
            let quiet = Some(Quiet::at(app, &name, &upstream, &payer.team));
            let pasted = Around::default();
            Ok(Subject { name: Some(name), stated, seen, credential, identity, quiet, upstream, elsewhere, pasted })
        }
        (None, Some(text)) => {
            let drafted = draft::check(text)?;
            let mut upstream = drafted.upstream;
            let as_if = wendor_core::catalog::Catalogue {
                upstreams: [(Name::parse("draft").map_err(|_| Problem::Internal)?, upstream.clone())].into(),
                ..Default::default()
            };
            let kept = Kept::read(&app.store, &app.keyring, &as_if).await?;
            let mut seen = kept.seen(None, &upstream);
            let (holds_key, taken_from) = (drafted.holds_key, drafted.taken_from);
            let mut credential = found(kept.find(None, &upstream));
            if let Some(value) = drafted.value {
                let place = if holds_key { "what was pasted" } else { "the field" };
                seen = CredentialSeen::There { place: place.to_owned(), oddity: None };
                credential = Some(value);
                // So that it counts as having one, wherever it will be kept.
                upstream.credential = Some(wendor_core::catalog::upstream::CredentialSource::Kept("new".to_owned()));
            }
            let (identity, stated) = (app.keyring.identity(&upstream), drafted.stated);
            let (elsewhere, quiet) = (others(None), None);
            let pasted = Around { holds_key, taken_from };
            Ok(Subject { name: None, stated, seen, credential, identity, quiet, upstream, elsewhere, pasted })
        }
        (Some(_), Some(_)) | (None, None) => {
            Err(Problem::BadValue { field: "name", message: "say a `name` of the catalogue, or a `draft`".to_owned() })
        }
    }
}

fn found(credential: Credential) -> Option<wendor_core::secret::Secret> {
    match credential {
        Credential::Found(secret) => Some(secret),
        Credential::None | Credential::Missing(_) => None,
    }
}

/// Weights that upstreams other than `own` have.
fn elsewhere(app: &App, catalogue: &wendor_core::catalog::Catalogue, own: Option<&Name>) -> Vec<Elsewhere> {
    let mut all = Vec::new();
    for (name, upstream) in catalogue.upstreams.iter().filter(|(name, _)| Some(*name) != own) {
        let Some(inventory) = app.fleet.upstream(name).inventory() else { continue };
        for model in upstream.offers.keys() {
            if let Some(digest) = inventory.model(model).and_then(|seen| seen.digest.clone()) {
                all.push(Elsewhere { model: model.clone(), upstream: name.to_string(), digest });
            }
        }
    }
    all
}

/// Keeps what a check of an upstream of the catalogue saw: its inventory and its proofs.
async fn keep(app: &App, principal: &Principal, subject: &Subject, checked: &Checked) -> Result<(), Problem> {
    let Some(name) = &subject.name else { return Ok(()) };
    if checked.found.is_some() {
        // What a check finds well counts as a trial.
        let model = checked.model.as_deref().filter(|_| checked.report.has_answered());
        let changes = app.fleet.upstream(name).checked(app.clock.now(), model);
        tell(app, changes.into_iter().map(|(model, change)| (name, model, change)));
    }
    if let Some(inventory) = &checked.inventory {
        crate::tasks::inventory::keep(app, name, Ok(inventory.clone())).await?;
    }
    let Some(model) = &checked.model else { return Ok(()) };
    let Ok(offer) = OfferName::new(name.clone(), model) else { return Ok(()) };
    let digest = checked.inventory.as_ref().and_then(|inventory| inventory.model(model)?.digest.clone());
    for (proof, outcome) in &checked.proofs {
        let kept = KeptProof { at: app.clock.now(), outcome: outcome.clone(), digest: digest.clone() };
        app.store.keep_proof(&offer, *proof, &kept, &principal.name).await?;
    }
    Ok(())
}

/// What asking on would cost at most.
fn proof_cost(app: &App, subject: &Subject, model: Option<&str>) -> ProofCost {
    let snapshot = app.now_serving();
    let model = model.map(str::to_owned).or_else(|| subject.upstream.offers.keys().next().cloned());
    let offer = model.as_ref().and_then(|model| subject.upstream.offers.get(model)).cloned().unwrap_or_default();
    let asked: Vec<Proof> =
        Proof::ALL.into_iter().filter(|proof| proof.is_asked(&offer, subject.upstream.dialect)).collect();
    let mut worst = proof::worst_of_calls();
    for proof in &asked {
        let more = proof.worst(&offer);
        worst = TokenCounts { input: worst.input + more.input, output: worst.output + more.output, ..worst };
    }
    let name =
        subject.name.as_ref().zip(model.as_ref()).and_then(|(name, model)| OfferName::new(name.clone(), model).ok());
    let rate = name.and_then(|name| snapshot.rates.in_force(&name, app.clock.now().date_naive()));
    ProofCost {
        model,
        calls: proof::MOST_CALLS + u32::try_from(asked.len()).unwrap_or(0),
        input_tokens: worst.input,
        output_tokens: worst.output,
        money: rate.map(|rate| worst_price(worst, 0, rate).to_string()),
        currency: snapshot.catalogue.currency.clone(),
    }
}

/// A server can send whoever checks it anywhere: its credential follows only where somebody says so.
fn consented(upstream: &Upstream, to: &Address, to_host: Option<&str>) -> Result<(), Problem> {
    let is_same = to.host().eq_ignore_ascii_case(upstream.address.host());
    if upstream.credential.is_none() || is_same || to_host == Some(to.host()) {
        return Ok(());
    }
    let message = format!(
        "the remedy leads to another host, {}, which would get the credential; say so if it is meant",
        to.host()
    );
    Err(Problem::BadValue { field: "to_host", message })
}

/// Apply a remedy to an upstream, as a new revision.
#[utoipa::path(tag = "upstreams", request_body = MendAsk, responses(
    (status = 200, body = CatalogueApplied, description = "Applied"),
    (status = 400, body = ProblemDetails, description = "It cannot be applied"),
    (status = 404, body = ProblemDetails, description = "No such upstream")))]
#[post("/upstreams/{name}/mend")]
pub(super) async fn mend(
    principal: Principal,
    app: web::Data<App>,
    path: web::Path<String>,
    body: web::Json<MendAsk>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let MendAsk { change, value, to_host } = body.into_inner();
    let name = named::upstream(&principal, "change the catalogue", &app.now_serving(), &path)?;
    if let (Change::Address { to }, Some(upstream)) = (&change, app.now_serving().catalogue.upstreams.get(&name)) {
        consented(upstream, to, to_host.as_deref())?;
    }
    let note = format!("{name} mended after a check");
    let applied = revise(&app, &principal, &note, Mode::Apply, |catalogue, rates| {
        change::apply(catalogue, rates, &name, &change, value.as_deref())
            .map_err(|why| Problem::BadValue { field: "change", message: why.to_string() })
    });
    Ok(web::Json(applied.await?))
}
