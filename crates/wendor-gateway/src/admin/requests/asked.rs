//! What is asked of the list of requests: what narrows it, how long a page is, and where it goes on.

use chrono::{DateTime, Utc};
use serde::Deserialize;
use utoipa::IntoParams;
use wendor_core::catalog::key::id_in;
use wendor_core::metering::end::End;
use wendor_core::name::OfferName;
use wendor_store::requests::{PageMark, RequestFilter};
use wendor_wire::failure::FailureKind;

use super::super::named;
use super::super::principal::Principal;
use super::super::problem::Problem;
use crate::app::App;

/// Requests of a page when nothing else is asked for.
const PAGE: i64 = 50;

/// Narrows and pages requests.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct RequestParams {
    /// Arrived at or after.
    pub from: Option<DateTime<Utc>>,
    /// Arrived before.
    pub to: Option<DateTime<Utc>>,
    /// Name of a team.
    pub team: Option<String>,
    /// By the key of this id.
    pub key: Option<String>,
    /// Name of a route.
    pub route: Option<String>,
    /// Tried at this offer.
    pub offer: Option<String>,
    /// Tried at an offer of this upstream.
    pub upstream: Option<String>,
    /// Value of the run that the app sent along.
    pub run: Option<String>,
    /// With this label, as `name=value`.
    pub label: Option<String>,
    /// Ended so: `proper`, `output-cap`, `cancelled`, `cut-off`, `rejected`, `not-answered`, `not-taken` or `abandoned`; `failed` is `cut-off`,
    /// `not-answered` or `abandoned`.
    pub end: Option<String>,
    /// An attempt failed of this kind.
    pub failure: Option<String>,
    /// Which attempts count for offer, upstream and failure: `any` of them (when absent), or the one that answered or was the `last`.
    pub tried: Option<String>,
    /// So many attempts: `2`, or `2+` for two or more.
    pub attempts: Option<String>,
    /// At most so many; 50 when absent, 1000 at most.
    pub limit: Option<i64>,
    /// `next` of the page before.
    pub after: Option<String>,
}

pub(super) fn read(principal: &Principal, app: &App, params: &RequestParams) -> Result<RequestFilter, Problem> {
    let bad = |field, message: String| Problem::BadValue { field, message };
    let snapshot = app.now_serving();
    let team = params.team.as_deref().map(|team| named::recorded_team(principal, &snapshot, team)).transpose()?;
    let words = |all: Vec<&str>| all.join(", ");
    let ends = |text: &str| {
        let known = || words(End::ALL.iter().map(|end| end.as_str()).collect());
        let no_end = || bad("end", format!("`{text}` is not one of {}, failed", known()));
        match text {
            "failed" => Ok(End::ALL.into_iter().filter(|end| end.is_failure()).collect()),
            _ => End::parse(text).map(|end| vec![end]).ok_or_else(no_end),
        }
    };
    let failure = |text: &str| {
        let known = || words(FailureKind::ALL.iter().map(|kind| kind.as_str()).collect());
        FailureKind::parse(text).ok_or_else(|| bad("failure", format!("`{text}` is not one of {}", known())))
    };
    let offer = params.offer.as_deref().map(OfferName::parse).transpose();
    let label = |text: &str| {
        let shape = || bad("label", format!("`{text}` is not a label: write `name=value`"));
        text.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned())).ok_or_else(shape)
    };
    Ok(RequestFilter {
        from: params.from,
        to: params.to,
        team: principal.narrow(team)?,
        key: params.key.as_deref().map(|key| id_in(key).to_owned()),
        route: params.route.as_deref().map(|route| named::recorded_route(&snapshot, route)).transpose()?,
        offer: offer.map_err(|error| bad("offer", error.to_string()))?,
        upstream: params
            .upstream
            .as_deref()
            .map(|upstream| named::recorded_upstream(&snapshot, upstream))
            .transpose()?,
        run: params.run.clone(),
        label: params.label.as_deref().map(label).transpose()?,
        ends: params.end.as_deref().map(ends).transpose()?.unwrap_or_default(),
        failure: params.failure.as_deref().map(failure).transpose()?,
        any_attempt: match params.tried.as_deref() {
            None | Some("any") => true,
            Some("last") => false,
            Some(other) => return Err(bad("tried", format!("`{other}` is not one of any, last"))),
        },
        attempts: params.attempts.as_deref().map(attempts_of).transpose()?,
        former: snapshot.former.clone(),
    })
}

/// How many requests a page has at most.
pub(super) fn limit_of(asked: Option<i64>) -> Result<i64, Problem> {
    match asked.unwrap_or(PAGE) {
        ..=0 => {
            let most = wendor_store::requests::MAX_PAGE;
            let message = format!("{} is invalid; use 1 to {most}", asked.unwrap_or_default());
            Err(Problem::BadValue { field: "limit", message })
        }
        limit => Ok(limit.min(wendor_store::requests::MAX_PAGE)),
    }
}

/// `2`: two attempts; `2+`: two or more.
fn attempts_of(text: &str) -> Result<(u32, Option<u32>), Problem> {
    let (number, is_least) = text.strip_suffix('+').map_or((text, false), |number| (number, true));
    let message = format!("`{text}` is not a number of attempts: write `2`, or `2+` for two or more");
    let number: u32 = number.parse().map_err(|_| Problem::BadValue { field: "attempts", message })?;
    Ok((number, (!is_least).then_some(number)))
}

pub(super) fn read_mark(text: &str) -> Result<PageMark, Problem> {
    let bad = || Problem::BadValue { field: "after", message: "must be `next` of a page before".to_owned() };
    let (at, entry_id) = text.split_once('_').ok_or_else(bad)?;
    // A plus sign of an offset reads as a space in a query string.
    let at = DateTime::parse_from_rfc3339(&at.replace(' ', "+")).map_err(|_| bad())?;
    Ok(PageMark { at: at.to_utc(), entry_id: entry_id.to_owned() })
}
