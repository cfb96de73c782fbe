//! Lines of the ledger for other programs: all of a range, as they pass, however many they are.

use std::sync::Arc;

use actix_web::{HttpResponse, get, web};
use chrono::{DateTime, Utc};
use futures_util::{StreamExt, TryStreamExt, stream};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;
use wendor_core::audit::{Action, Deed};
use wendor_core::catalog::former::Former;
use wendor_core::metering::entry::LedgerEntry;
use wendor_core::metering::export::{COLUMNS, values};
use wendor_store::StoreError;
use wendor_store::requests::{PageMark, RequestFilter};

use super::principal::Principal;
use super::problem::Problem;
use super::usage::{UsageParams, narrowed_to_something, read};
use crate::app::App;

/// A range and what narrows it, as figures are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct ExportParams {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// Name of a team.
    pub team: Option<String>,
    /// Name of a route.
    pub route: Option<String>,
    /// As `upstream/model`.
    pub offer: Option<String>,
    /// At an offer of this upstream.
    pub upstream: Option<String>,
    /// By the key of this id.
    pub key: Option<String>,
}

/// Every line of the ledger in a range, as comma-separated values (RFC 4180) with a head, in the order in which requests arrived. Their sums are
/// those of `/usage` over the same range.
#[utoipa::path(tag = "figures", params(ExportParams), responses(
    (status = 200, body = String, content_type = "text/csv", description = "A head, then a record a line")))]
#[get("/ledger/export")]
pub(super) async fn ledger_export(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<ExportParams>,
) -> Result<HttpResponse, Problem> {
    let ExportParams { from, to, team, route, offer, upstream, key } = params.into_inner();
    let filter = read(&principal, &app, &UsageParams { from, to, by: None, team, route, offer, upstream, key })?.filter;
    let (lines, former) = (filter.lines(from, to), filter.former.clone());
    // The first page before anything is sent: whoever asks is told if the database is away.
    let first = app.store.lines_after(&lines, None).await?;
    if first.is_empty() {
        narrowed_to_something(&principal, &app, &filter).await?;
    }
    let subject = filter.team.as_ref().map_or_else(|| "ledger".to_owned(), |team| format!("ledger of {team}"));
    let deed = Deed::of(Action::LedgerExported, subject).after(json!({ "from": from, "to": to }));
    app.store.audit(&principal.doing(&app), &deed).await?;
    let head = stream::iter([written([COLUMNS.map(str::to_owned)])]);
    let rest = stream::try_unfold((app, first), move |(app, page)| next(app, lines.clone(), former.clone(), page));
    // Cut off where the database goes away midway: whoever reads is told by the connection.
    let rest = head.chain(rest).map_err(Problem::from);
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8; header=present")
        .insert_header(("content-disposition", "attachment; filename=\"ledger.csv\""))
        .streaming(rest))
}

type Page = Vec<LedgerEntry>;

/// A page as it is sent, and the one behind it.
async fn next(
    app: web::Data<App>,
    lines: RequestFilter,
    former: Arc<Former>,
    page: Page,
) -> Result<Option<(web::Bytes, (web::Data<App>, Page))>, StoreError> {
    let Some(last) = page.last() else { return Ok(None) };
    let mark = PageMark { at: last.at, entry_id: last.entry_id.to_string() };
    let store = app.store.clone();
    let both = async move {
        let text = written(page.iter().map(|entry| values(entry, &former)))?;
        Ok::<_, StoreError>((text, store.lines_after(&lines, Some(&mark)).await?))
    };
    let (text, next) = app.behind.run(both).await?;
    Ok(Some((text, (app, next))))
}

fn written<const N: usize>(records: impl IntoIterator<Item = [String; N]>) -> Result<web::Bytes, StoreError> {
    let unwritten = |why: String| StoreError::Unreadable { what: "the values of a line", why };
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for record in records {
        writer.write_record(record).map_err(|error| unwritten(error.to_string()))?;
    }
    let text = writer.into_inner().map_err(|error| unwritten(error.to_string()))?;
    Ok(text.into())
}
