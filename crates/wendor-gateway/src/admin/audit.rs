//! The audit: what was done, read in pages, looked through as a chain, taken away as a whole.

use actix_web::{HttpResponse, get, web};
use chrono::{DateTime, Utc};
use futures_util::stream;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::{IntoParams, ToSchema};
use wendor_core::audit::verify::Fault;
use wendor_core::audit::{Action, Deed, Entry, Head};
use wendor_store::StoreError;
use wendor_store::audit::AuditFilter;
use wendor_wire::nearest::nearest;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;

/// Entries of a page unless it is said otherwise, and at most.
const SHOWN: (i64, i64) = (50, 500);

/// Which entries; what is absent narrows nothing.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct AuditQuery {
    /// By this person.
    pub by: Option<String>,
    /// Of this kind, such as `key-issued`.
    pub action: Option<String>,
    /// To this, such as `person clerk`.
    pub subject: Option<String>,
    /// At or after this instant.
    pub from: Option<DateTime<Utc>>,
    /// Before this instant.
    pub until: Option<DateTime<Utc>>,
    /// With a smaller number than this: the next page.
    pub below: Option<i64>,
    /// So many at most, 1 to 500; 50 when absent.
    pub limit: Option<i64>,
}

/// One entry.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditLine {
    /// Its number, from 1, without gaps.
    pub number: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// By whom.
    pub by: String,
    /// From which address; empty for what is done on the server.
    pub address: String,
    /// By what: `console ID`, `token ID`, `server`, `service`.
    pub through: String,
    /// The kind of thing that was done.
    pub action: String,
    /// To what.
    pub subject: String,
    /// What was before, without secrets; its form goes by the action.
    #[schema(value_type = Option<Object>)]
    pub before: Option<Box<RawValue>>,
    /// State afterwards, as JSON; nothing where it was removed.
    #[schema(value_type = Option<Object>)]
    pub after: Option<Box<RawValue>>,
    /// Its hash, over itself and the hash of the entry before.
    pub hash: String,
}

/// A page of entries, newest first.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    /// Newest first.
    pub entries: Vec<AuditLine>,
    /// The kinds of things that can be asked for.
    pub actions: Vec<String>,
    /// Whether there are older ones.
    pub has_more: bool,
}

/// What is known of the chain from elsewhere.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct VerifyQuery {
    /// Where it once ended, as NUMBER:HASH.
    pub head: Option<String>,
}

/// Something that is wrong with the chain.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditFault {
    /// `missing`, `edited`, `moved`, `replaced` or `other-head`.
    pub kind: String,
    /// The number at which it is seen.
    pub number: i64,
    /// What does not fit, as a sentence.
    pub words: String,
}

/// What looking the chain through came to.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditVerdict {
    /// Entries looked at.
    pub entries: u64,
    /// Where the chain ends, as NUMBER:HASH; kept elsewhere, it shows later whether entries were replaced since.
    pub head: String,
    /// What is wrong; nothing when empty.
    pub faults: Vec<AuditFault>,
}

impl From<&Fault> for AuditFault {
    fn from(fault: &Fault) -> Self {
        let (kind, number) = match fault {
            Fault::Missing { from, .. } => ("missing", *from),
            Fault::Edited(number) => ("edited", *number),
            Fault::Moved { number, .. } => ("moved", *number),
            Fault::Replaced { number } => ("replaced", *number),
            Fault::OtherHead { known } => ("other-head", known.number),
        };
        Self { kind: kind.to_owned(), number, words: fault.to_string() }
    }
}

fn line(entry: Entry) -> AuditLine {
    // What was edited in the database may be no JSON any more; then it is told as the text that it is.
    let raw =
        |text: String| RawValue::from_string(text.clone()).ok().or_else(|| serde_json::value::to_raw_value(&text).ok());
    AuditLine {
        number: entry.number,
        at: entry.at,
        by: entry.by,
        address: entry.address,
        through: entry.through,
        action: entry.action,
        subject: entry.subject,
        before: entry.before.and_then(raw),
        after: entry.after.and_then(raw),
        hash: entry.hash.to_string(),
    }
}

fn action(word: &str) -> Result<Action, Problem> {
    let unknown = || {
        let near = nearest(word, Action::ALL.into_iter().map(Action::as_str));
        let near = near.map_or_else(String::new, |near| format!("; nearest: `{near}`"));
        Problem::BadValue { field: "action", message: format!("`{word}` is not an action of the audit{near}") }
    };
    Action::parse(word).ok_or_else(unknown)
}

/// What was done, newest first.
#[utoipa::path(tag = "audit", params(AuditQuery), responses((status = 200, body = AuditPage, description = "Entries, newest first")))]
#[get("/audit")]
pub(super) async fn list(
    principal: Principal,
    app: web::Data<App>,
    query: web::Query<AuditQuery>,
) -> Result<web::Json<AuditPage>, Problem> {
    principal.must(principal.standing.can_see_audit(), "see the audit")?;
    let limit = query.limit.unwrap_or(SHOWN.0);
    if !(1..=SHOWN.1).contains(&limit) {
        let message = format!("{limit} is invalid; use 1 to {}", SHOWN.1);
        return Err(Problem::BadValue { field: "limit", message });
    }
    let filter = AuditFilter {
        by: query.by.as_deref(),
        action: query.action.as_deref().map(action).transpose()?,
        subject: query.subject.as_deref(),
        from: query.from,
        until: query.until,
        below: query.below,
    };
    let mut entries = app.store.audit_entries(&filter, limit + 1).await?;
    let shown = usize::try_from(limit).unwrap_or(usize::MAX);
    let has_more = entries.len() > shown;
    entries.truncate(shown);
    let actions = Action::ALL.into_iter().map(|action| action.as_str().to_owned()).collect();
    Ok(web::Json(AuditPage { entries: entries.into_iter().map(line).collect(), actions, has_more }))
}

/// Look the whole chain through.
#[utoipa::path(tag = "audit", params(VerifyQuery), responses((status = 200, body = AuditVerdict, description = "What it came to")))]
#[get("/audit/verify")]
pub(super) async fn verify(
    principal: Principal,
    app: web::Data<App>,
    query: web::Query<VerifyQuery>,
) -> Result<web::Json<AuditVerdict>, Problem> {
    principal.must(principal.standing.can_see_audit(), "look the audit through")?;
    let known: Option<Head> = query
        .head
        .as_deref()
        .map(str::parse)
        .transpose()
        .map_err(|message| Problem::BadValue { field: "head", message })?;
    let verdict = app.store.verify_audit(known).await?;
    let faults = verdict.faults.iter().map(AuditFault::from).collect();
    Ok(web::Json(AuditVerdict { entries: verdict.entries, head: verdict.head.to_string(), faults }))
}

/// The whole audit, a line of JSON for each entry, oldest first.
#[utoipa::path(tag = "audit", responses(
    (status = 200, body = String, content_type = "application/jsonl", description = "Entries as lines of JSON, oldest first"),
    (status = 403, body = ProblemDetails, description = "Owners only")))]
#[get("/audit/export")]
pub(super) async fn export(principal: Principal, app: web::Data<App>) -> Result<HttpResponse, Problem> {
    principal.must(principal.standing.can_export_audit(), "take the audit away")?;
    app.store.audit(&principal.doing(&app), &Deed::of(Action::AuditExported, "audit")).await?;
    let first = app.store.audit_after(0).await?;
    let rest = stream::try_unfold((app, first), |(app, entries)| async move {
        let Some(last) = entries.last().map(|entry| entry.number) else { return Ok(None) };
        let lines = lines(&entries)?;
        let next = app.store.audit_after(last).await?;
        Ok::<_, StoreError>(Some((lines, (app, next))))
    });
    // Cut off where the records go away midway: whoever verifies the file finds its end missing.
    let rest = futures_util::TryStreamExt::map_err(rest, Problem::from);
    Ok(HttpResponse::Ok().content_type("application/jsonl").streaming(rest))
}

fn lines(entries: &[Entry]) -> Result<web::Bytes, StoreError> {
    let mut lines = Vec::new();
    for entry in entries {
        serde_json::to_writer(&mut lines, entry)
            .map_err(|error| StoreError::Unreadable { what: "an entry of the audit", why: error.to_string() })?;
        lines.push(b'\n');
    }
    Ok(lines.into())
}
