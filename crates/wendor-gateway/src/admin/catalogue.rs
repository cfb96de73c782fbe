//! The catalogue: as a file and as JSON, compared with what is in force, changed whole, by single changes, or back to a revision of before.
//! One call looks at a change and another applies it; both take the same three forms of it.

use actix_web::{get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::consequence::{self, KeyInUse};
use wendor_core::catalog::edit;
use wendor_core::catalog::guard::Guard;
use wendor_core::catalog::key::KeyState;
use wendor_core::catalog::{Catalogue, difference, file};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::RateCard;

use super::effect::{self, After, EffectSeen};
use super::principal::Principal;
use super::problem::{Problem, ProblemDetails, plain};
use super::revise::{CatalogueApplied, ChangeLine, Mode, Proposal, commit, fresh, lines};
use super::wanted::Wanted;
use crate::app::App;
use crate::snapshot::Snapshot;

/// Revisions that are listed.
const REVISIONS_SHOWN: i64 = 200;

/// A catalogue, whole.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueText {
    /// The revision that it is; 0 when there is none yet.
    pub revision: i64,
    /// The file (TOML).
    pub text: String,
    /// The same as JSON, which changes point into: numbers with a fraction and days are texts.
    #[schema(value_type = Object)]
    pub document: Value,
}

/// A change of one place: an operation of a JSON Patch (RFC 6902). A `move` of a whole upstream, route or team to another name renames it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EditLine {
    /// `add`, `replace`, `remove`, `move`, `copy` or `test`.
    pub op: String,
    /// JSON Pointer (RFC 6901) into the document, such as `/teams/timetables/quotas/0/limit`.
    pub path: String,
    /// Of `move` and `copy`: the place that it is taken from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Of `add`, `replace` and `test`: in the form of the file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<Value>,
}

/// A catalogue that is wanted, in one of three forms.
#[derive(Clone, Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueDraft {
    /// A whole file (TOML).
    #[serde(default)]
    pub text: Option<String>,
    /// Changes of single places, one after the other.
    #[serde(default)]
    pub edits: Option<Vec<EditLine>>,
    /// A revision of before, to be in force again.
    #[serde(default)]
    pub revision: Option<i64>,
    /// The revision that it was made from: what others changed since is kept, where it does not touch. The one in force when absent.
    #[serde(default)]
    pub made_from: Option<i64>,
    /// Whether to tell what it would have done to the requests of the last week.
    #[serde(default)]
    pub effect: bool,
}

/// A catalogue to be applied.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueApplication {
    /// A whole file (TOML).
    #[serde(default)]
    pub text: Option<String>,
    /// Changes of single places, one after the other.
    #[serde(default)]
    pub edits: Option<Vec<EditLine>>,
    /// A revision of before, to be in force again.
    #[serde(default)]
    pub revision: Option<i64>,
    /// The revision that it was made from, as in the call that looks at it.
    #[serde(default)]
    pub made_from: Option<i64>,
    /// The revision that its difference was looked at against; the call fails if another is in force by now. Not looked at when absent.
    #[serde(default)]
    pub base: Option<i64>,
    /// Why, for whoever reads the revisions.
    #[serde(default)]
    pub note: String,
    /// Bounds with which it undoes itself.
    #[serde(default)]
    pub guard: Option<GuardAsk>,
}

/// Bounds with which a change undoes itself: at least one of failures and cost.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GuardAsk {
    /// For how long they hold, in seconds: up to 7 days.
    pub seconds: u32,
    /// Of a hundred requests as many may fail, once there were 5.
    #[serde(default)]
    pub failed_percent: Option<u32>,
    /// As much may be paid in that time, as text with all its digits.
    #[serde(default)]
    pub cost: Option<String>,
}

impl GuardAsk {
    fn read(self) -> Result<Guard, Problem> {
        let bad = |message: String| Problem::BadValue { field: "guard", message };
        let amount = |text: String| {
            let money = Money::parse(&text).filter(|money| !money.amount().is_sign_negative());
            money.ok_or_else(|| bad(format!("`{}` is not an amount, such as `12.50`", text.escape_debug())))
        };
        let cost = self.cost.map(amount).transpose()?;
        let guard = Guard { seconds: self.seconds, failed_percent: self.failed_percent, cost };
        guard.check().map_err(bad)?;
        Ok(guard)
    }
}

/// What changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CatalogueDifference {
    /// The revision in force, to be given as `base` when applying.
    pub base: i64,
    /// What changes; nothing when empty.
    pub changes: Vec<ChangeLine>,
    /// What that means for those who use it, in sentences.
    #[serde(default)]
    pub consequences: Vec<String>,
    /// The same as the difference of the two files, in unified form; empty when they are the same.
    #[serde(default)]
    pub file_difference: String,
    /// What others changed since the revision that it was made from.
    #[serde(default)]
    pub since: Vec<ChangeLine>,
    /// What it would have done to the requests of the last week, where that was asked for.
    #[serde(default)]
    pub effect: Option<EffectSeen>,
}

/// A catalogue that was in force, or is.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionLine {
    /// Counts up from 1.
    pub number: i64,
    /// In force from this moment until the next one.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub note: String,
    /// Until when it undoes itself if its requests fail or cost more than was set with it.
    pub guarded_until: Option<DateTime<Utc>>,
    /// The revision that it undid by itself.
    pub undid: Option<i64>,
}

/// Which revision another is compared with.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct CompareParams {
    /// The earlier one; the one before it when absent.
    pub with: Option<i64>,
}

/// The thing that is asked about.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct UsesParams {
    /// JSON Pointer to it, such as `/routes/manifests` or `/upstreams/quarry/offers/fulmar-mini`.
    pub of: String,
}

/// Who would notice if a thing went.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Uses {
    /// Routes with a stage that names it.
    pub routes: Vec<String>,
    /// Teams that may use it.
    pub teams: Vec<String>,
    /// Labels of working keys that open it, with their teams.
    pub keys: Vec<KeyUse>,
    /// Its requests of the last 30 days, by team.
    pub requests: Vec<TeamUse>,
}

/// A key that opens a thing.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct KeyUse {
    /// Its id.
    pub id: String,
    /// What it is for.
    pub label: String,
    /// Whose it is.
    pub team: String,
}

/// The requests of a team.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamUse {
    /// Who asked.
    pub team: String,
    /// How many.
    pub requests: u64,
}

fn whole(revision: i64, catalogue: &Catalogue, rates: &RateCard) -> Result<CatalogueText, Problem> {
    let text = file::write(catalogue, rates);
    let document = edit::document(&text).map_err(|_| Problem::Internal)?;
    Ok(CatalogueText { revision, text, document })
}

/// The catalogue in force, as a file and as JSON.
#[utoipa::path(tag = "catalogue", responses((status = 200, body = CatalogueText, description = "The catalogue")))]
#[get("/catalogue")]
pub(super) async fn export(principal: Principal, app: web::Data<App>) -> Result<web::Json<CatalogueText>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see the catalogue")?;
    let snapshot = fresh(&app).await?;
    let deed = Deed::of(Action::CatalogueExported, format!("revision {}", snapshot.revision));
    app.store.audit(&principal.doing(&app), &deed).await?;
    whole(snapshot.revision, &snapshot.catalogue, &snapshot.rates).map(web::Json)
}

/// What a change would do. Nothing is changed.
#[utoipa::path(tag = "catalogue", request_body = CatalogueDraft, responses(
    (status = 200, body = CatalogueDifference, description = "The difference"),
    (status = 400, body = ProblemDetails, description = "A change cannot be made"),
    (status = 404, body = ProblemDetails, description = "No such revision"),
    (status = 409, body = ProblemDetails, description = "Somebody else has changed the same place"),
    (status = 422, body = ProblemDetails, description = "The file has problems")))]
#[post("/catalogue/difference")]
pub(super) async fn diff(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CatalogueDraft>,
) -> Result<web::Json<CatalogueDifference>, Problem> {
    let today = app.clock.now().date_naive();
    let draft = body.into_inner();
    let wants_effect = draft.effect;
    let wanted = Wanted::read(&principal, &app, draft).await?;
    let since = wanted.since(&app.now_serving());
    let mut seen = None;
    let propose = |before: &Snapshot| {
        let proposal = wanted.proposal(before, today)?;
        let keys: Vec<KeyInUse> = working_keys(before, app.clock.now()).collect();
        let mut rates = RateCard::clone(&before.rates);
        for (offer, rate) in &proposal.rates {
            rates.add(offer.clone(), rate.clone());
        }
        let (was, will_be) = (file::write(&before.catalogue, &before.rates), file::write(&proposal.catalogue, &rates));
        seen = Some(Looked {
            consequences: consequence::of(&before.catalogue, &proposal.catalogue, &keys),
            file_difference: unified(&was, &will_be),
            catalogue: proposal.catalogue.clone(),
            rates,
        });
        Ok(proposal)
    };
    let CatalogueApplied { revision, changes } = commit(&app, &principal, "", Mode::Look, propose).await?;
    let Looked { consequences, file_difference, catalogue, rates } = seen.unwrap_or_default();
    let after = After { catalogue: &catalogue, rates: &rates };
    let effect = if wants_effect { Some(effect::seen(&app, &app.now_serving(), after).await?) } else { None };
    Ok(web::Json(CatalogueDifference { base: revision, changes, consequences, file_difference, since, effect }))
}

/// A draft that was looked at.
#[derive(Default)]
struct Looked {
    consequences: Vec<String>,
    file_difference: String,
    catalogue: Catalogue,
    rates: RateCard,
}

/// Lines around a change of a file that are shown with it.
const AROUND: usize = 2;

fn unified(before: &str, after: &str) -> String {
    similar::TextDiff::from_lines(before, after).unified_diff().context_radius(AROUND).to_string()
}

fn working_keys(snapshot: &Snapshot, now: DateTime<Utc>) -> impl Iterator<Item = KeyInUse> {
    let good = snapshot.keys.values().filter(move |key| key.state(now) == KeyState::Good);
    good.map(|key| KeyInUse { label: key.label.clone(), team: key.team.clone(), routes: key.access.clone() })
}

/// Apply a change: a new revision, unless nothing changes.
#[utoipa::path(tag = "catalogue", request_body = CatalogueApplication, responses(
    (status = 200, body = CatalogueApplied, description = "Applied"),
    (status = 400, body = ProblemDetails, description = "A change cannot be made"),
    (status = 404, body = ProblemDetails, description = "No such revision"),
    (status = 409, body = ProblemDetails, description = "Another revision is in force, or the same place was changed"),
    (status = 422, body = ProblemDetails, description = "The file has problems")))]
#[post("/catalogue")]
pub(super) async fn apply(
    principal: Principal,
    app: web::Data<App>,
    body: web::Json<CatalogueApplication>,
) -> Result<web::Json<CatalogueApplied>, Problem> {
    let CatalogueApplication { text, edits, revision, made_from, base, note, guard } = body.into_inner();
    let guard = guard.map(GuardAsk::read).transpose()?;
    plain("note", Some(&note))?;
    let today = app.clock.now().date_naive();
    let wanted =
        Wanted::read(&principal, &app, CatalogueDraft { text, edits, revision, made_from, effect: false }).await?;
    let note = if note.is_empty() { wanted.note() } else { note };
    let propose = |before: &Snapshot| {
        let proposal = wanted.proposal(before, today)?;
        Ok(Proposal { base: base.unwrap_or(before.revision), guard, ..proposal })
    };
    commit(&app, &principal, &note, Mode::Apply, propose).await.map(web::Json)
}

/// Revisions, newest first.
#[utoipa::path(tag = "catalogue", responses((status = 200, body = Vec<RevisionLine>, description = "The latest revisions")))]
#[get("/revisions")]
pub(super) async fn revisions(
    principal: Principal,
    app: web::Data<App>,
) -> Result<web::Json<Vec<RevisionLine>>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see revisions")?;
    let revisions = app.store.revisions(REVISIONS_SHOWN).await?;
    let line = |revision: wendor_store::revisions::Revision| RevisionLine {
        number: revision.number,
        made_at: revision.made_at,
        made_by: revision.made_by,
        note: revision.note,
        guarded_until: revision.guard.map(|guard| guard.until(revision.made_at)),
        undid: revision.undid.map(|(number, _)| number),
    };
    Ok(web::Json(revisions.into_iter().map(line).collect()))
}

/// The catalogue as it was at a revision. Its rates are those of today: they are only added.
#[utoipa::path(tag = "catalogue", params(("number" = String, Path, description = "Number of the revision, or `current`")), responses(
    (status = 200, body = CatalogueText, description = "The catalogue"),
    (status = 400, body = ProblemDetails, description = "Not a number"),
    (status = 404, body = ProblemDetails, description = "No such revision")))]
#[get("/revisions/{number}")]
pub(super) async fn of_revision(
    principal: Principal,
    app: web::Data<App>,
    number: web::Path<String>,
) -> Result<web::Json<CatalogueText>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see revisions")?;
    if number.as_str() == "current" {
        let snapshot = fresh(&app).await?;
        return whole(snapshot.revision, &snapshot.catalogue, &snapshot.rates).map(web::Json);
    }
    let wrong = |_| {
        let message = format!("`{}` is not the number of a revision; write one, or `current`", number.escape_debug());
        Problem::BadValue { field: "number", message }
    };
    let (revision, catalogue) = app.store.revision(number.parse().map_err(wrong)?).await?;
    whole(revision.number, &catalogue, &app.now_serving().rates).map(web::Json)
}

/// What a revision changed against another. `base` of the answer is the earlier one.
#[utoipa::path(tag = "catalogue", params(("number" = i64, Path, description = "Number of the revision"), CompareParams), responses(
    (status = 200, body = CatalogueDifference, description = "The difference"),
    (status = 404, body = ProblemDetails, description = "No such revision")))]
#[get("/revisions/{number}/difference")]
pub(super) async fn compare(
    principal: Principal,
    app: web::Data<App>,
    number: web::Path<i64>,
    params: web::Query<CompareParams>,
) -> Result<web::Json<CatalogueDifference>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see revisions")?;
    let base = params.with.unwrap_or(number.saturating_sub(1));
    let (_, after) = app.store.revision(*number).await?;
    let before = if base == 0 { Catalogue::default() } else { app.store.revision(base).await?.1 };
    let rates = RateCard::default();
    Ok(web::Json(CatalogueDifference {
        base,
        changes: lines(difference::between(&before, &after)),
        consequences: Vec::new(),
        file_difference: unified(&file::write(&before, &rates), &file::write(&after, &rates)),
        since: Vec::new(),
        effect: None,
    }))
}

/// What still uses an upstream, an offer, a route or a team: who would notice if it went.
#[utoipa::path(tag = "catalogue", params(UsesParams), responses(
    (status = 200, body = Uses, description = "Who uses it"),
    (status = 404, body = ProblemDetails, description = "No such thing")))]
#[get("/catalogue/uses")]
pub(super) async fn uses(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<UsesParams>,
) -> Result<web::Json<Uses>, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "see the catalogue")?;
    let now = app.clock.now();
    super::uses::of(&app, &params.of, now - TimeDelta::days(30), now).await.map(web::Json)
}
