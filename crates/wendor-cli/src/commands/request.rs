//! `wendor request`: the list, and one request with attempts, cost as a sum, and where its time went.

use wendor_gateway::admin::attempts::AttemptLine;
use wendor_gateway::admin::cost::CostSum;
use wendor_gateway::admin::operations::Refusals;
use wendor_gateway::admin::requests::{RequestLine, RequestPage, RequestShown};

use super::{follow, now};
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::{NarrowArgs, RequestCommand, RequestListArgs};
use crate::output::{self, Column, Reader};
use crate::{range, strip, words};

pub(super) async fn run(command: RequestCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        RequestCommand::List(args) => list(*args, management, reader).await,
        RequestCommand::Show { id } => {
            let shown: RequestShown = management.get(&format!("/requests/{}", part(&id)), &[]).await?;
            match reader {
                Reader::Program => output::json(&shown),
                Reader::Person => show(&shown),
            }
        }
        RequestCommand::Follow(args) => follow::run(args, management, reader).await,
        RequestCommand::Refusals => refusals(management, reader).await,
    }
}

async fn list(args: RequestListArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let range = range::read(&args.range, now())?;
    let NarrowArgs { team, route, offer, upstream, key } = args.narrow;
    let query = [
        ("from", range.map(|range| range.from.to_rfc3339())),
        ("to", range.map(|range| range.to.to_rfc3339())),
        ("team", team),
        ("route", route),
        ("offer", offer),
        ("upstream", upstream),
        ("key", key),
        ("run", args.run),
        ("label", args.label),
        ("end", args.end),
        ("failure", args.failure),
        ("attempts", args.attempts),
        ("tried", args.tried),
        ("limit", Some(args.limit.to_string())),
    ];
    let page: RequestPage = management.get("/requests", &query).await?;
    if reader == Reader::Program {
        return output::json(&page);
    }
    let columns = [
        Column::Text("request"),
        Column::Text("when"),
        Column::Text("team"),
        Column::Text("route"),
        Column::Text("offer"),
        Column::Number("attempts"),
        Column::Text("end"),
        Column::Number("tokens in"),
        Column::Number("tokens out"),
        Column::Number("first token"),
        Column::Number("whole"),
        Column::Money("cost", page.currency.clone()),
    ];
    let rows = page.requests.iter().map(row).collect();
    output::table(&columns, rows, "No matching requests. Remove a filter, or choose a longer range.")?;
    if page.next.is_some() {
        output::note(&format!("The newest {}; more with --limit.", page.requests.len()));
    }
    Ok(())
}

fn row(request: &RequestLine) -> Vec<String> {
    let tokens = &request.tokens;
    let about = if request.estimated { "~" } else { "" };
    let end = match &request.failure {
        Some(failure) if *failure != request.end => format!("{}\n{failure}", request.end),
        Some(_) | None => request.end.clone(),
    };
    vec![
        request.id.clone(),
        words::ago(request.at, now()),
        request.team.clone(),
        request.route.clone(),
        request.offer.clone().unwrap_or_else(|| "-".to_owned()),
        request.attempts.to_string(),
        end,
        format!("{about}{}", words::grouped(tokens.all_input)),
        format!("{about}{}", words::grouped(tokens.output)),
        words::wait(request.first_token_ms),
        words::seconds(request.whole_ms),
        request.cost.as_ref().map_or_else(|| "unpriced".to_owned(), |cost| words::money(cost, 6)),
    ]
}

fn show(shown: &RequestShown) -> Result<(), Failure> {
    let request = &shown.request;
    output::line(&format!("{}  {} UTC\n{}\n", request.id, words::instant(request.at), shown.summary))?;
    for line in strip::large(shown) {
        output::line(&format!("  {line}"))?;
    }
    output::line("")?;
    latency(shown)?;
    match &shown.cost {
        Some(cost) => show_cost(cost, shown)?,
        None => output::line("Unpriced: the offer had no rate when it was asked.")?,
    }
    if let Some(used) = &shown.failed_used {
        let (input, output) = (words::grouped(used.all_input), words::grouped(used.output));
        let cost = match &shown.failed_cost {
            Some(cost) => format!("{} {}", words::small_money(cost), shown.currency),
            None => "an unknown amount: one of their offers has no rate".to_owned(),
        };
        output::line(&format!(
            "Attempts that did not answer used {input} in, {output} out and cost {cost}: in lines of their own, not in this sum."
        ))?;
    }
    plan(shown)?;
    if !shown.attempts.is_empty() {
        output::line("\nIn the upstreams' own logs (`x-request-id`):")?;
        let columns = [Column::Text("offer"), Column::Text("id there")];
        let row = |attempt: &AttemptLine| vec![attempt.offer.clone(), attempt.upstream_request_id.clone()];
        output::table(&columns, shown.attempts.iter().map(row).collect(), "")?;
    }
    if !shown.changes.is_empty() {
        output::line("\nChanged on the way:")?;
        let columns = [Column::Text("member"), Column::Text("from the app"), Column::Text("to the upstream")];
        let rows =
            shown.changes.iter().map(|change| vec![change.member.clone(), change.before.clone(), change.after.clone()]);
        output::table(&columns, rows.collect(), "")?;
    }
    if let Some(cut) = &shown.detail_cut {
        output::line(&format!("A part of its detail is missing: {cut}."))?;
    }
    if !shown.detail_kept {
        output::line("Its plan and attempts are no longer kept.")?;
    }
    marks(shown)
}

/// The offers as they were chosen among.
fn plan(shown: &RequestShown) -> Result<(), Failure> {
    if shown.plan.is_empty() {
        return Ok(());
    }
    output::line("\nThe plan as it was made:")?;
    let columns = [
        Column::Text("stage"),
        Column::Text("offer"),
        Column::Text("turn"),
        Column::Text("reason"),
        Column::Number("at most"),
    ];
    let rows = shown.plan.iter().map(|line| {
        let turn = if line.taken { "candidate" } else { "skipped" };
        let stage = format!("{}, by {}", line.stage, line.pick);
        let cost = line.expected_cost.as_ref().map_or_else(|| "unpriced".to_owned(), |cost| words::small_money(cost));
        vec![stage, line.offer.clone(), turn.to_owned(), line.reason.clone(), cost]
    });
    output::table(&columns, rows.collect(), "")
}

/// Where the time went: parts that sum to the whole.
fn latency(shown: &RequestShown) -> Result<(), Failure> {
    let parts: Vec<String> =
        shown.latency.iter().map(|part| format!("{} {}", part.what, words::exact_wait(part.ms))).collect();
    output::line(&format!("Time: {}; together {}.\n", parts.join(", "), words::seconds(shown.request.whole_ms)))
}

fn show_cost(cost: &CostSum, shown: &RequestShown) -> Result<(), Failure> {
    if cost.lines.is_empty() {
        return output::line("No tokens were used, so it cost nothing.");
    }
    let amount = Column::Money("amount", shown.currency.clone());
    let columns = [Column::Text("cost"), Column::Number("count"), Column::Number("rate"), amount];
    let places = words::exact_places(cost.lines.iter().map(|line| line.amount.as_str()).chain([cost.total.as_str()]));
    let mut rows: Vec<Vec<String>> = Vec::new();
    for line in &cost.lines {
        rows.push(vec![
            line.kind.clone(),
            words::grouped(line.count),
            match line.rate_for {
                1 => format!("{} each", line.rate),
                _ => format!("{} per million", line.rate),
            },
            words::money(&line.amount, places),
        ]);
    }
    rows.push(vec!["together".to_owned(), String::new(), String::new(), words::money(&cost.total, places)]);
    output::table(&columns, rows, "")?;
    let estimated = if shown.request.estimated {
        " The counts are estimated: the upstream did not report them, or not to the end."
    } else {
        ""
    };
    let rate = cost.rate_from.map_or_else(String::new, |day| format!("Rate of {}.", day.format("%-d %B %Y")));
    let reserved =
        cost.reserved.as_ref().map_or_else(String::new, |most| format!(" Reserved at most {}.", words::money(most, 6)));
    output::line(&format!("{rate}{reserved}{estimated}"))?;
    shown.corrections.iter().try_for_each(|one| {
        let (sign, amount) = one.amount.strip_prefix('-').map_or(("+", one.amount.as_str()), |amount| ("-", amount));
        output::line(&format!("Corrected afterwards: {sign}{amount} {} ({}).", shown.currency, one.reason))
    })
}

fn marks(shown: &RequestShown) -> Result<(), Failure> {
    let request = &shown.request;
    let labels: Vec<String> = request.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
    let marks = [
        ("run", request.run.clone()),
        ("step", request.step.clone()),
        ("labels", (!labels.is_empty()).then(|| labels.join(", "))),
    ];
    let parts: Vec<String> = marks.into_iter().filter_map(|(name, value)| Some(format!("{name} {}", value?))).collect();
    let marks = if parts.is_empty() { String::new() } else { format!(", {}", parts.join(", ")) };
    output::line(&format!("\nRevision {}, key {}{marks}.", request.revision, request.key))
}

async fn refusals(management: &Management, reader: Reader) -> Result<(), Failure> {
    let refusals: Refusals = management.get("/refusals", &[]).await?;
    if reader == Reader::Program {
        return output::json(&refusals);
    }
    let dash = |value: &Option<String>| value.clone().unwrap_or_else(|| "-".to_owned());
    let columns = [
        Column::Text("minute"),
        Column::Number("refused"),
        Column::Text("reason"),
        Column::Text("team"),
        Column::Text("key"),
        Column::Text("route"),
        Column::Text("asked for"),
    ];
    let rows = refusals.counts.iter().map(|count| {
        vec![
            words::instant(count.minute),
            count.count.to_string(),
            count.reason.clone(),
            dash(&count.team),
            dash(&count.key),
            dash(&count.route),
            dash(&count.wanted),
        ]
    });
    output::table(&columns, rows.collect(), "No refusals in the last hour.")
}
