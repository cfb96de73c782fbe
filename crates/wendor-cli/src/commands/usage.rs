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
    let what = match usage.by.as_str() {
        "team" => "team",
        "route" => "route",
        "offer" => "offer",
        "key" => "key",
        _ => "day",
    };
    let mut columns = vec![
        Column::Text(what),
        Column::Money("cost", usage.currency.clone()),
        Column::Number("before"),
        Column::Number("requests"),
        Column::Number("not answered"),
        Column::Number("first token"),
        Column::Number("slow"),
        Column::Number("in"),
        Column::Number("out"),
    ];
    let mut lines: Vec<&UsageLine> = usage.lines.iter().collect();
    if lines.len() > 1 {
        lines.push(&usage.together);
    }
    let input: Vec<u64> =
        lines.iter().map(|line| line.tokens.input + line.tokens.input_cached + line.tokens.cache_written).collect();
    let output: Vec<u64> = lines.iter().map(|line| line.tokens.output).collect();
    let tokens = words::counts(&input).into_iter().zip(words::counts(&output));
    let mut rows: Vec<Vec<String>> = lines.into_iter().zip(tokens).map(|(line, tokens)| row(line, tokens)).collect();
    // The day before a day is another line; a column of comparisons would say nothing.
    if usage.by == "day" {
        columns.remove(2);
        rows.iter_mut().for_each(|row| drop(row.remove(2)));
    }
    output::table(&columns, rows, "Nothing was asked in this time.")?;
    output::line(&format!("{}.{}", period(usage), remarks(&usage.together)))?;
    if let Some(line) = usage.lines.first() {
        output::line(&format!("Requests behind a line: {}", follow(usage, args, line)))?;
    }
    Ok(())
}

fn row(line: &UsageLine, (input, output): (String, String)) -> Vec<String> {
    let name = match (&line.label, line.name.as_str()) {
        (Some(label), name) => format!("{name} ({label})"),
        (None, "") => "(no offer tried)".to_owned(),
        (None, name) => name.to_owned(),
    };
    vec![
        name,
        words::money(&line.cost, 2),
        words::change(&line.cost, &line.cost_before),
        words::grouped(line.requests),
        words::share(line.not_answered, line.requests),
        words::wait(line.first_token.typical_ms),
        words::wait(line.first_token.slow_ms),
        input,
        output,
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
    let narrows = [
        ("team", &args.narrow.team),
        ("route", &args.narrow.route),
        ("offer", &args.narrow.offer),
        ("key", &args.narrow.key),
    ];
    let narrowed = narrows
        .iter()
        .filter(|(name, _)| *name != usage.by)
        .filter_map(|(name, value)| Some(format!(" --{name} {}", value.as_ref()?)));
    let narrowed: String = narrowed.collect();
    match usage.by.as_str() {
        "day" => {
            let next = line.name.parse::<chrono::NaiveDate>().ok().and_then(|day| day.succ_opt());
            let to = next.map_or_else(String::new, |next| format!(" --to {next}"));
            format!("wendor request list{narrowed} --from {}{to}", line.name)
        }
        by => format!("wendor request list --{by} {}{narrowed} {range}", line.name),
    }
}
