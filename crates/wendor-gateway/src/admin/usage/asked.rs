//! What is asked of figures: a range, what tells them apart, what narrows them; and the list of requests behind each.

use chrono::{DateTime, Utc};
use serde::Deserialize;
use utoipa::IntoParams;
use wendor_core::catalog::key::id_in;
use wendor_core::metering::end::End;
use wendor_core::name::OfferName;
use wendor_store::usage::{Dimension, UsageFilter, UsageQuery, Wanted};
use wendor_wire::percent::escaped;

use super::super::named;
use super::super::principal::Principal;
use super::super::problem::Problem;
use crate::app::App;

/// Days, hours or minutes of a range at most: a year by day, two weeks by hour, some hours by minute.
const MAX_STEPS: i64 = 400;

/// A range and what narrows it.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct UsageParams {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// `team`, `route`, `offer`, `key`, `upstream`, `day`, `hour`, `minute`, `run`, `end` or `label:NAME`; by team when absent. Two of them
    /// with a comma between tell pairs apart, such as `route,day`; one of the two at most is a time.
    pub by: Option<String>,
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

pub(in crate::admin) fn read(principal: &Principal, app: &App, params: &UsageParams) -> Result<UsageQuery, Problem> {
    let bad = |field, message: String| Problem::BadValue { field, message };
    if params.from >= params.to {
        return Err(bad("to", format!("{} is not after {}", params.to, params.from)));
    }
    let wanted = params.by.as_deref().unwrap_or("team");
    let ((by, label), then) = match wanted.split_once(',') {
        None => (dimension(wanted)?, None),
        Some((by, then)) => (dimension(by)?, Some(dimension(then)?)),
    };
    let (then, of_then) = then.map_or((None, None), |(then, label)| (Some(then), label));
    if then == Some(by) || (by.step().is_some() && then.is_some_and(|then| then.step().is_some())) {
        return Err(bad(
            "by",
            "name two different things, of which one at most is a time, such as `route,day`".to_owned(),
        ));
    }
    if let Some(step) = by.step().or_else(|| then.and_then(Dimension::step))
        && (params.to - params.from).num_seconds() / step.length.num_seconds() > MAX_STEPS
    {
        return Err(bad(
            "to",
            format!("by {} a range has at most {MAX_STEPS} lines: ask for less, or by day", by.as_str()),
        ));
    }
    let snapshot = app.now_serving();
    let team = params.team.as_deref().map(|team| named::recorded_team(principal, &snapshot, team)).transpose()?;
    let offer = params.offer.as_deref().map(OfferName::parse).transpose();
    let filter = UsageFilter {
        team: principal.narrow(team)?,
        route: params.route.as_deref().map(|route| named::recorded_route(&snapshot, route)).transpose()?,
        offer: offer.map_err(|error| bad("offer", error.to_string()))?,
        upstream: params
            .upstream
            .as_deref()
            .map(|upstream| named::recorded_upstream(&snapshot, upstream))
            .transpose()?,
        key: params.key.as_deref().map(|key| id_in(key).to_owned()),
        former: snapshot.former.clone(),
    };
    let label = label.or(of_then);
    Ok(UsageQuery { from: params.from, to: params.to, by, then, label, filter, wanted: Wanted::All })
}

/// Where nothing was found: an error with the name of what is not there, which is why.
pub(in crate::admin) async fn narrowed_to_something(
    principal: &Principal,
    app: &App,
    filter: &UsageFilter,
) -> Result<(), Problem> {
    let (team, upstream) = (filter.team.as_ref(), filter.upstream.as_ref());
    let (route, offer, key) = (filter.route.as_ref(), filter.offer.as_ref(), filter.key.as_deref());
    named::must_be_there(principal, app, named::Narrowed { team, upstream, route, offer, key }).await
}

/// What figures are told apart by; of a label its name too, as in `label:feature`.
fn dimension(text: &str) -> Result<(Dimension, Option<String>), Problem> {
    let text = text.trim();
    let bad = |message: String| Problem::BadValue { field: "by", message };
    let (text, label) = match text.split_once(':') {
        Some(("label", label)) => ("label", label.trim()),
        Some(_) | None => (text, ""),
    };
    match Dimension::parse(text) {
        Some(Dimension::Label) if !label.is_empty() => Ok((Dimension::Label, Some(label.to_owned()))),
        Some(Dimension::Label) => Err(bad("say which label: `label:NAME`, such as `label:feature`".to_owned())),
        Some(by) => Ok((by, None)),
        None => {
            let known = Dimension::ALL.map(Dimension::as_str).join(", ");
            Err(bad(format!("`{}` is not one of {known}", text.escape_debug())))
        }
    }
}

/// The query string of all requests of a range.
pub(in crate::admin) fn base_query(query: &UsageQuery) -> String {
    let instant = |at: DateTime<Utc>| at.format("%Y-%m-%dT%H:%M:%S%.fZ").to_string();
    // Of attempts the last counts, as in the figures.
    let mut text = format!("from={}&to={}&tried=last", instant(query.from), instant(query.to));
    let narrows = [
        ("team", query.filter.team.as_ref().map(ToString::to_string)),
        ("route", query.filter.route.as_ref().map(ToString::to_string)),
        ("offer", query.filter.offer.as_ref().map(ToString::to_string)),
        ("upstream", query.filter.upstream.as_ref().map(ToString::to_string)),
        ("key", query.filter.key.clone()),
    ];
    for (name, value) in narrows {
        if let Some(value) = value {
            text.push_str(&format!("&{name}={value}"));
        }
    }
    text
}

/// What narrows the list of requests to a group; nothing where no list can be narrowed to it.
pub(super) fn narrowed(query: &UsageQuery, by: Dimension, name: &str) -> String {
    let value = match by {
        Dimension::Label if name.is_empty() => return String::new(),
        Dimension::Label => format!("{}={name}", query.label.as_deref().unwrap_or_default()),
        Dimension::End if End::parse(name).is_none() => return String::new(),
        Dimension::Run if name.is_empty() => return String::new(),
        Dimension::Team
        | Dimension::Route
        | Dimension::Offer
        | Dimension::Upstream
        | Dimension::Key
        | Dimension::Run
        | Dimension::End => name.to_owned(),
        Dimension::Day | Dimension::Hour | Dimension::Minute => return String::new(),
    };
    // What names of things consist of needs no escape, and reads better without.
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "-._~/:@".contains(letter);
    let value = if value.chars().all(is_plain) { value } else { escaped(&value) };
    format!("&{}={value}", by.as_str())
}
