//! `wendor team|route|upstream list`: what there is and how it is doing.

use chrono::{DateTime, Utc};
use wendor_gateway::admin::limits_view::LimitLine;
use wendor_gateway::admin::routes_view::{RouteLine, StageLine};
use wendor_gateway::admin::teams::{QuotaLine, TeamLine};
use wendor_gateway::admin::upstreams::{OfferLine, UpstreamLine};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::output::{self, Column, Reader};
use crate::words;

const NO_CATALOGUE: &str =
    "There is none yet. `wendor start` leads to a first answer; a whole catalogue: wendor catalogue apply FILE";

/// Width of a column of names, before they go on in the next line.
const NAMES_WIDTH: usize = 44;

pub(super) async fn teams(management: &Management, reader: Reader) -> Result<(), Failure> {
    let teams: Vec<TeamLine> = management.get("/teams", &[]).await?;
    if reader == Reader::Program {
        return output::json(&teams);
    }
    let columns = [
        Column::Text("team"),
        Column::Number("keys"),
        Column::Text("quota"),
        Column::Number("used"),
        Column::Number("reserved"),
        Column::Number("limit"),
        Column::Number("part"),
        Column::Text("window ends"),
        Column::Text("routes"),
    ];
    let mut rows = Vec::new();
    for team in &teams {
        let routes =
            team.routes.as_ref().map_or_else(|| "all".to_owned(), |routes| words::wrapped_names(routes, NAMES_WIDTH));
        let first = vec![team.name.clone(), team.keys.to_string()];
        let mut limits: Vec<Vec<String>> = team.quotas.iter().map(quota_cells).collect();
        limits.extend(stream_cells(team));
        if limits.is_empty() {
            limits.push([vec!["no quota".to_owned()], vec![String::new(); 5]].concat());
        }
        for (index, cells) in limits.into_iter().enumerate() {
            let (head, routes) = match index {
                0 => (first.clone(), routes.clone()),
                _ => (vec![String::new(), String::new()], String::new()),
            };
            rows.push([head, cells, vec![routes]].concat());
        }
    }
    output::table(&columns, rows, NO_CATALOGUE)
}

/// Limits of what may be under way at once.
fn stream_cells(team: &TeamLine) -> Vec<Vec<String>> {
    let cells = |what: &str, open: Option<u32>, limit: u32| {
        let open = open.map_or_else(|| "-".to_owned(), |open| words::grouped(open.into()));
        let limit = words::grouped(limit.into());
        vec![what.to_owned(), open, String::new(), limit, String::new(), String::new()]
    };
    let of_team = team.streams.as_ref().map(|line| cells("streams at once", Some(line.open), line.limit));
    let of_key = team.streams_of_key.map(|limit| cells("streams at once of a key", None, limit));
    of_team.into_iter().chain(of_key).collect()
}

fn quota_cells(quota: &QuotaLine) -> Vec<String> {
    let amount = |text: &str| match quota.measure.as_str() {
        "cost" => words::money(text, 2),
        _ => words::money(text, 0),
    };
    let number = |text: &str| text.parse::<rust_decimal::Decimal>().unwrap_or_default();
    let limit = number(&quota.limit);
    let share = if limit.is_zero() {
        "-".to_owned()
    } else {
        format!("{}%", (number(&quota.used) * rust_decimal::Decimal::from(100) / limit).round())
    };
    let warn = if quota.at_limit == "warn" { " (warns)" } else { "" };
    vec![
        format!("{} a {}{warn}", quota.measure, quota.window),
        amount(&quota.used),
        amount(&quota.reserved),
        amount(&quota.limit),
        share,
        words::instant(quota.resets_at),
    ]
}

pub(super) async fn routes(management: &Management, reader: Reader) -> Result<(), Failure> {
    let routes: Vec<RouteLine> = management.get("/routes", &[]).await?;
    if reader == Reader::Program {
        return output::json(&routes);
    }
    let columns = [
        Column::Text("route"),
        Column::Text("stage"),
        Column::Text("offers"),
        Column::Number("first token in"),
        Column::Number("reply in"),
        Column::Number("all in"),
        Column::Text("teams"),
    ];
    let mut rows = Vec::new();
    for route in &routes {
        for (index, stage) in route.stages.iter().enumerate() {
            let (name, teams) = if index == 0 {
                (route.name.clone(), words::wrapped_names(&route.teams, NAMES_WIDTH))
            } else {
                (String::new(), String::new())
            };
            rows.push(vec![
                name,
                format!("{}, by {}", index + 1, stage.pick),
                offers(stage),
                words::seconds(stage.first_event_ms),
                words::seconds(stage.reply_ms),
                words::seconds(stage.whole_ms),
                teams,
            ]);
        }
    }
    output::table(&columns, rows, NO_CATALOGUE)
}

fn offers(stage: &StageLine) -> String {
    let offer = |entry: &wendor_gateway::admin::routes_view::StageOfferLine| match entry.share {
        Some(share) => format!("{} ({share}%)", entry.offer),
        None => entry.offer.clone(),
    };
    words::wrapped_names(&stage.offers.iter().map(offer).collect::<Vec<_>>(), NAMES_WIDTH)
}

pub(super) async fn upstreams(management: &Management, reader: Reader) -> Result<(), Failure> {
    let upstreams: Vec<UpstreamLine> = management.get("/upstreams", &[]).await?;
    if reader == Reader::Program {
        return output::json(&upstreams);
    }
    let columns = [
        Column::Text("upstream"),
        Column::Text("state"),
        Column::Number("streams"),
        Column::Number("first token"),
        Column::Text("address, dialect"),
        Column::Text("offers (input, output a million)"),
        Column::Text("last failure"),
    ];
    // What needs attention comes first.
    let mut ordered: Vec<&UpstreamLine> = upstreams.iter().collect();
    let is_well = |upstream: &UpstreamLine| {
        matches!(upstream.state.as_str(), "well" | "no traffic yet") && !upstream.credential.contains(' ')
    };
    ordered.sort_by_key(|upstream| is_well(upstream));
    output::table(&columns, ordered.into_iter().map(upstream_row).collect(), NO_CATALOGUE)?;
    output::note("States and failures since the service started.");
    Ok(())
}

fn upstream_row(upstream: &UpstreamLine) -> Vec<String> {
    let sign = match upstream.state.as_str() {
        "well" => "●",
        "degraded" | "on trial" => "◐",
        "failing" => "×",
        _ => "○",
    };
    let streams = match upstream.streams {
        Some(all) => format!("{} of {all}", upstream.streams_open),
        None => upstream.streams_open.to_string(),
    };
    let last_failure = match (&upstream.last_failure, upstream.credential.contains(' ')) {
        (_, true) => upstream.credential.clone(),
        (Some(last), false) => format!("{}, {}\n{}", last.kind, words::ago(last.at, now()), last.detail),
        (None, false) => "none".to_owned(),
    };
    let streams = match upstream.waiting {
        0 => streams,
        waiting => format!("{streams}\n{waiting} wait"),
    };
    let state = match (upstream.drained, next_trial(upstream)) {
        (true, _) => format!("{sign} {}\ndrained", upstream.state),
        (false, Some(at)) => format!("{sign} {}\nnext trial {}", upstream.state, words::in_time(at, now())),
        (false, None) => format!("{sign} {}", upstream.state),
    };
    vec![
        upstream.name.clone(),
        state,
        streams,
        words::wait(upstream.first_token_ms),
        [upstream.address.clone(), upstream.dialect.clone()]
            .into_iter()
            .chain(upstream.limits.iter().map(limit))
            .collect::<Vec<_>>()
            .join("\n"),
        upstream.offers.iter().map(offer).collect::<Vec<_>>().join("\n"),
        last_failure,
    ]
}

/// When something of it that rests is tried next.
fn next_trial(upstream: &UpstreamLine) -> Option<DateTime<Utc>> {
    let of_offers = upstream.offers.iter().filter_map(|offer| offer.health.next_trial);
    upstream.connections.next_trial.or_else(|| of_offers.min())
}

fn offer(offer: &OfferLine) -> String {
    let rate = match &offer.rate {
        Some(rate) => format!("{}, {}", rate.input, rate.output),
        None => "unpriced".to_owned(),
    };
    let counting = offer.input_counting.as_ref().map_or_else(String::new, |counting| {
        format!("; {} bytes a token, ±{}%", counting.bytes_a_token, counting.error_percent)
    });
    let untold = if offer.reports_usage { "" } else { "; reports no usage" };
    let loads = match (offer.loading_since, offer.cold_start_ms) {
        (Some(since), _) => format!("\n  loads the model, since {}", words::ago(since, now())),
        (None, Some(took)) => {
            let times = if offer.cold_starts == 1 { "once".to_owned() } else { format!("{} times", offer.cold_starts) };
            format!("\n  loaded {times}, the last in {}", words::seconds(took))
        }
        (None, None) => String::new(),
    };
    let limits: String = offer.limits.iter().map(|line| format!("\n  {}", limit(line))).collect();
    format!("{} ({rate}{counting}{untold}){loads}{limits}", offer.model)
}

/// A limit by the minute and how it stands.
fn limit(line: &LimitLine) -> String {
    let (left, limit) = (words::grouped(line.left), words::grouped(line.limit));
    let stands = match line.source.as_str() {
        "told" => format!("{left} of {limit} {} left, as it tells", line.what),
        _ => format!("{} of {limit} {} a minute used", words::grouped(line.used), line.what),
    };
    match line.used_up_in_s {
        None => stands,
        Some(0) => format!("{stands}, more wait"),
        Some(seconds) => format!("{stands}, more wait in {}", words::seconds(seconds * 1_000)),
    }
}
