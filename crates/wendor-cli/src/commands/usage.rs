//! `wendor usage`: what teams, routes, offers or keys used and cost, beside the time before.

use chrono::TimeDelta;
use wendor_gateway::admin::usage::{Usage, UsageLine};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::{NarrowArgs, RangeArgs, UsageArgs};
use crate::output::{self, Column, Reader};
use crate::{range, words};

pub(super) async fn run(args: UsageArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let week = RangeArgs { last: Some("7d".to_owned()), ..RangeArgs::default() };
    let range = match range::read(&args.range, now())? {
        Some(range) => range,
        None => range::read(&week, now())?.ok_or_else(|| Failure::Own("no range".to_owned()))?,
    };
    let NarrowArgs { team, route, offer, key } = args.narrow.clone();
    let query = [
        ("from", Some(range.from.to_rfc3339())),
        ("to", Some(range.to.to_rfc3339())),
        ("by", Some(args.by.clone())),
        ("team", team),
        ("route", route),
        ("offer", offer),
        ("key", key),
    ];
    let usage: Usage = management.get("/usage", &query).await?;
    match reader {
        Reader::Program => output::json(&usage),
        Reader::Person => show(&usage, &args),
    }
}

fn show(usage: &Usage, args: &UsageArgs) -> Result<(), Failure> {
    let cost = match usage.currency.as_str() {
        "EUR" => "cost EUR",
        _ => "cost",
    };
    let what = match usage.by.as_str() {
        "team" => "team",
        "route" => "route",
        "offer" => "offer",
        "key" => "key",
        _ => "day",
    };
    let columns = [
        Column::Text(what),
        Column::Number(cost),
        Column::Number("before"),
        Column::Number("requests"),
        Column::Number("not answered"),
        Column::Number("first token"),
        Column::Number("slow"),
        Column::Number("in"),
        Column::Number("out"),
    ];
    let mut rows: Vec<Vec<String>> = usage.lines.iter().map(|line| row(line, &usage.by)).collect();
    if rows.len() > 1 {
        rows.push(row(&usage.together, &usage.by));
    }
    output::table(&columns, rows, "Nothing was asked in this time.")?;
    output::line(&format!("{}.{}", period(usage), remarks(&usage.together)))?;
    if let Some(line) = usage.lines.first() {
        output::line(&format!("Requests behind a line: {}", follow(usage, args, line)))?;
    }
    Ok(())
}

fn row(line: &UsageLine, by: &str) -> Vec<String> {
    let before = if by == "day" { String::new() } else { words::change(&line.cost, &line.cost_before) };
    let tokens = &line.tokens;
    let name = if line.name.is_empty() { "(no offer tried)" } else { &line.name };
    vec![
        name.to_owned(),
        words::money(&line.cost, 2),
        before,
        words::grouped(line.requests),
        words::share(line.not_answered, line.requests),
        words::wait(line.first_token.typical_ms),
        words::wait(line.first_token.slow_ms),
        words::tokens(tokens.input + tokens.input_cached + tokens.cache_written),
        words::tokens(tokens.output),
    ]
}

fn period(usage: &Usage) -> String {
    let is_midnight = |at: chrono::DateTime<chrono::Utc>| at.time() == chrono::NaiveTime::MIN;
    if is_midnight(usage.from) && is_midnight(usage.to) {
        let last = usage.to - TimeDelta::days(1);
        return match last == usage.from {
            true => format!("{}, UTC", words::day(usage.from)),
            false => format!("{} to {}, UTC", words::day(usage.from), words::day(last)),
        };
    }
    format!("{} to {}, UTC", words::instant(usage.from), words::instant(usage.to))
}

fn remarks(together: &UsageLine) -> String {
    let count = |number: u64, what: &str| match number {
        0 => String::new(),
        1 => format!(" 1 request {what}."),
        _ => format!(" {} requests {what}.", words::grouped(number)),
    };
    let unpriced = count(together.unpriced, "without a price, which the cost leaves out");
    let estimated = count(together.estimated, "counted by estimate");
    format!("{unpriced}{estimated}")
}

/// The command that lists the requests behind the first line.
fn follow(usage: &Usage, args: &UsageArgs, line: &UsageLine) -> String {
    let instant = |at: chrono::DateTime<chrono::Utc>| match at.time() == chrono::NaiveTime::MIN {
        true => at.format("%Y-%m-%d").to_string(),
        false => at.format("%Y-%m-%dT%H:%M:%SZ").to_string(),
    };
    let range = match &args.range {
        RangeArgs { last: Some(last), .. } => format!("--last {last}"),
        RangeArgs { from: None, to: None, .. } => "--last 7d".to_owned(),
        RangeArgs { .. } => format!("--from {} --to {}", instant(usage.from), instant(usage.to)),
    };
    match usage.by.as_str() {
        "day" => format!("wendor request list --from {}", line.name),
        by => format!("wendor request list --{by} {} {range}", line.name),
    }
}
