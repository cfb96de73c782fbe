//! `wendor usage`: what teams, routes, offers or keys used and cost, beside the time before.

use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::metering::export::safe;
use wendor_gateway::admin::usage::why::UsageWhy;
use wendor_gateway::admin::usage::{Usage, UsageLine};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::{NarrowArgs, RangeArgs, UsageArgs};
use crate::output::{self, Column, Reader};
use crate::range::{self, Range};
use crate::words;

pub(super) async fn run(args: UsageArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let mut query = asked(range::or_a_week(&args.range, now())?, args.narrow.clone());
    query.push(("by", Some(args.by.clone())));
    if args.why {
        return why(&management.get("/usage/why", &query).await?, reader);
    }
    let usage: Usage = management.get("/usage", &query).await?;
    match reader {
        Reader::Program => output::json(&usage),
        Reader::Person if args.csv => output::print_raw(&csv_of(&usage)?),
        Reader::Person => show(&usage, &args),
    }
}

/// A range and what narrows it, as figures and lines are asked for.
pub(super) fn asked(range: Range, narrow: NarrowArgs) -> Vec<(&'static str, Option<String>)> {
    let NarrowArgs { team, route, offer, upstream, key } = narrow;
    vec![
        ("from", Some(range.from.to_rfc3339())),
        ("to", Some(range.to.to_rfc3339())),
        ("team", team),
        ("route", route),
        ("offer", offer),
        ("upstream", upstream),
        ("key", key),
    ]
}

/// Why the range cost more or less than the previous period.
fn why(why: &UsageWhy, reader: Reader) -> Result<(), Failure> {
    if reader == Reader::Program {
        return output::json(why);
    }
    let range = Range { from: why.from, to: why.to };
    let [range, before] = range.in_words(Range { from: why.before_from, to: why.before_to });
    output::sentence(&format!(
        "{range}: {}{}",
        why.summary.replace("the previous period", &format!("{before}, the previous period")),
        history(why.history_from, why.before_to)
    ))?;
    let columns = [
        Column::Text("offer"),
        Column::Money("by rates", why.currency.clone()),
        Column::Number("by mix"),
        Column::Number("tokens before"),
        Column::Number("tokens"),
    ];
    let is_seen =
        |amount: &str| !words::money(amount, 2).trim_start_matches('-').chars().all(|digit| "0.".contains(digit));
    let rows = why.lines.iter().filter(|line| is_seen(&line.price) || is_seen(&line.mix)).map(|line| {
        vec![
            line.offer.clone(),
            words::money(&line.price, 2),
            words::money(&line.mix, 2),
            words::grouped(line.tokens_before),
            words::grouped(line.tokens),
        ]
    });
    if why.lines.is_empty() { Ok(()) } else { output::table(&columns, rows.collect(), "") }
}

/// Where history begins inside the previous period, or after it.
fn history(from: Option<DateTime<Utc>>, before_to: DateTime<Utc>) -> String {
    match from {
        None => String::new(),
        Some(from) if from >= before_to => " There are no records of the previous period.".to_owned(),
        Some(from) => {
            format!(" Records begin on {}, within the previous period: it is not a whole one.", words::instant(from))
        }
    }
}

/// The lines as comma-separated values (RFC 4180), with a head.
fn csv_of(usage: &Usage) -> Result<String, Failure> {
    let own = |error: String| Failure::Own(format!("cannot write the values: {error}"));
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let mut head: Vec<&str> = usage.by.split(',').collect();
    head.extend([
        "label",
        "currency",
        "cost",
        "cost_previous_period",
        "requests",
        "not_answered",
        "cancelled",
        "unpriced",
        "input_tokens",
        "output_tokens",
        "first_token_p50_ms",
        "first_token_p95_ms",
    ]);
    writer.write_record(head).map_err(|error| own(error.to_string()))?;
    for line in &usage.lines {
        let figures = &line.figures;
        let time = |millis: Option<u64>| millis.map_or_else(String::new, |millis| millis.to_string());
        let names = std::iter::once(&line.name).chain(&line.then);
        let mut record: Vec<String> = names.map(|name| safe(name).into_owned()).collect();
        record.extend([
            safe(line.label.as_deref().unwrap_or_default()).into_owned(),
            usage.currency.clone(),
            figures.cost.clone(),
            line.before.cost.clone(),
            figures.requests.to_string(),
            figures.not_answered.to_string(),
            figures.cancelled.to_string(),
            figures.unpriced.to_string(),
            figures.tokens.all_input.to_string(),
            figures.tokens.output.to_string(),
            time(figures.first_token.typical_ms),
            time(figures.first_token.slow_ms),
        ]);
        writer.write_record(record).map_err(|error| own(error.to_string()))?;
    }
    let bytes = writer.into_inner().map_err(|error| own(error.to_string()))?;
    String::from_utf8(bytes).map_err(|error| own(error.to_string()))
}

fn show(usage: &Usage, args: &UsageArgs) -> Result<(), Failure> {
    let mut columns: Vec<Column> = usage.by.split(',').map(what).map(Column::Text).collect();
    columns.extend([
        Column::Money("cost", usage.currency.clone()),
        Column::Number("previous period"),
        Column::Number("requests"),
        Column::Number("not answered"),
        Column::Number("cancelled"),
        Column::Number("first token p50"),
        Column::Number("p95"),
        Column::Number("tokens in"),
        Column::Number("tokens out"),
    ]);
    let mut lines: Vec<&UsageLine> = usage.lines.iter().collect();
    if lines.len() > 1 {
        lines.push(&usage.together);
    }
    let input: Vec<u64> = lines.iter().map(|line| line.figures.tokens.all_input).collect();
    let output: Vec<u64> = lines.iter().map(|line| line.figures.tokens.output).collect();
    let tokens = words::counts(&input).into_iter().zip(words::counts(&output));
    let rows: Vec<Vec<String>> =
        lines.into_iter().zip(tokens).map(|(line, (input, output))| row(line, &usage.by, input, output)).collect();
    output::table(&columns, rows, "No requests in this range.")?;
    let left_out = match usage.left_out {
        0 => String::new(),
        number => format!(
            " {} further lines, the cheapest, are left out.",
            words::grouped(u64::try_from(number).unwrap_or(0))
        ),
    };
    let history = history(usage.history_from, usage.before_to);
    let remarks = remarks(&usage.together, &usage.currency);
    output::sentence(&format!("{}.{history}{left_out}{remarks}", period(usage)))?;
    if let Some(line) = usage.lines.iter().find(|line| line.then.is_none() && !line.name.is_empty()) {
        output::line(&format!("Requests behind a line: {}", follow(usage, args, line)))?;
    }
    Ok(())
}

/// A name of what tells lines apart, or that there is none.
fn named(by: &str, name: &str) -> String {
    match (by, name) {
        ("offer", "") => "(no offer tried)".to_owned(),
        (by, "") => format!("(no {})", by.strip_prefix("label:").unwrap_or(by)),
        (_, name) => name.to_owned(),
    }
}

fn row(line: &UsageLine, by: &str, input: String, output: String) -> Vec<String> {
    let (by, then) = by.split_once(',').unwrap_or((by, ""));
    let mut cells = vec![match &line.label {
        Some(label) => format!("{} ({label})", line.name),
        None => named(by, &line.name),
    }];
    if !then.is_empty() {
        cells.push(line.then.as_deref().map(|name| named(then, name)).unwrap_or_default());
    }
    cells.extend([
        words::money(&line.figures.cost, 2),
        words::change(&line.figures.cost, &line.before.cost),
        words::grouped(line.figures.requests),
        words::share(line.figures.not_answered, line.figures.requests),
        words::share(line.figures.cancelled, line.figures.requests),
        words::wait(line.figures.first_token.typical_ms),
        words::wait(line.figures.first_token.slow_ms),
        input,
        output,
    ]);
    cells
}

/// What figures are told apart by, as the head of a column.
fn what(by: &str) -> &'static str {
    const WORDS: [&str; 11] =
        ["team", "route", "offer", "key", "upstream", "hour", "minute", "day", "run", "end", "label"];
    let by = by.split(':').next().unwrap_or_default();
    WORDS.into_iter().find(|word| *word == by).unwrap_or("day")
}

/// The range in words, and the one that it is compared with.
fn period(usage: &Usage) -> String {
    let range = Range { from: usage.from, to: usage.to };
    let [range, before] = range.in_words(Range { from: usage.before_from, to: usage.before_to });
    format!("{range}, UTC; the previous period is {before}")
}

fn remarks(together: &UsageLine, currency: &str) -> String {
    let count = |number: u64, what: &str| match number {
        0 => String::new(),
        1 => format!(" 1 request {what}."),
        _ => format!(" {} requests {what}.", words::grouped(number)),
    };
    let unpriced = match together.figures.unpriced {
        0 => String::new(),
        1 => " 1 line of the ledger has no price, and the cost leaves it out.".to_owned(),
        number => {
            format!(" {} lines of the ledger have no price, and the cost leaves them out.", words::grouped(number))
        }
    };
    let estimated = count(together.figures.estimated, "counted by estimate");
    let failed = &together.figures.failed_attempts;
    let failed = match failed.count {
        0 => String::new(),
        number => format!(
            " Of the cost, {} {currency} went to {} that did not answer.",
            words::small_money(&failed.cost),
            if number == 1 { "1 attempt".to_owned() } else { format!("{} attempts", words::grouped(number)) }
        ),
    };
    let checks = match together.figures.checks {
        0 => String::new(),
        1 => " 1 call of a check is in tokens and cost, not in requests.".to_owned(),
        number => format!(" {} calls of checks are in tokens and cost, not in requests.", words::grouped(number)),
    };
    let tokens = &together.figures.tokens;
    let presets = match tokens.preset {
        0 => String::new(),
        preset => format!(" Presets of routes added {} of the input tokens.", words::share(preset, tokens.all_input)),
    };
    format!("{unpriced}{estimated}{failed}{checks}{presets}")
}

/// The command that lists the requests behind the first line.
fn follow(usage: &Usage, args: &UsageArgs, line: &UsageLine) -> String {
    let instant = |at: DateTime<Utc>| {
        if at.time() == chrono::NaiveTime::MIN {
            at.format("%Y-%m-%d").to_string()
        } else {
            at.format("%Y-%m-%dT%H:%M:%SZ").to_string()
        }
    };
    let range = match &args.range {
        RangeArgs { last: Some(last), .. } => format!("--last {last}"),
        RangeArgs { month: Some(month), .. } => format!("--month {month}"),
        RangeArgs { from: None, to: None, .. } => "--last 7d".to_owned(),
        RangeArgs { .. } => format!("--from {} --to {}", instant(usage.from), instant(usage.to)),
    };
    let narrows = [
        ("team", &args.narrow.team),
        ("route", &args.narrow.route),
        ("offer", &args.narrow.offer),
        ("upstream", &args.narrow.upstream),
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
        by @ ("hour" | "minute") => {
            let step = if by == "hour" { TimeDelta::hours(1) } else { TimeDelta::minutes(1) };
            let from = DateTime::parse_from_str(&line.name.replace('Z', ":00+0000"), "%Y-%m-%dT%H:%M:%S%z").ok();
            let to = from.map_or_else(String::new, |from| format!(" --to {}", instant(from.to_utc() + step)));
            format!("wendor request list{narrowed} --from {}:00Z{to}", line.name.trim_end_matches('Z'))
        }
        by @ ("offer" | "upstream") => {
            format!("wendor request list --{by} {} --tried last{narrowed} {range}", line.name)
        }
        by => match by.strip_prefix("label:") {
            Some(label) => format!("wendor request list --label {label}={}{narrowed} {range}", line.name),
            None => format!("wendor request list --{by} {}{narrowed} {range}", line.name),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value, json};

    fn tokens() -> Value {
        json!({ "all_input": 6, "input": 1, "input_cached": 2, "cache_written": 3, "output": 4, "reasoning": 0, "preset": 0 })
    }

    fn figures(cost: &str, unpriced: u64, estimated: u64) -> Value {
        json!({
            "cost": cost, "unpriced": unpriced, "requests": 4, "not_answered": 1, "cancelled": 0, "estimated": estimated,
            "tokens": tokens(), "images": 0, "checks": 0,
            "failed_attempts": { "count": 0, "tokens": tokens(), "cost": "0" },
            "first_token": { "typical_ms": 310, "slow_ms": null }, "whole": { "typical_ms": 1, "slow_ms": 2 }
        })
    }

    fn line(name: &str, unpriced: u64, estimated: u64) -> Value {
        let mut line = figures("1.5", unpriced, estimated);
        line["name"] = json!(name);
        line["label"] = Value::Null;
        line["then"] = Value::Null;
        line["before"] = figures("1", 0, 0);
        line["requests_query"] = json!("");
        line
    }

    fn usage(by: &str, from: &str, to: &str) -> Usage {
        let usage = json!({
            "from": from, "to": to, "before_from": from, "before_to": to, "by": by, "currency": "EUR",
            "history_from": null, "left_out": 0, "lines": [line("freight-desk", 0, 0)], "together": line("together", 0, 0)
        });
        serde_json::from_value(usage).unwrap()
    }

    fn args(by: &str, range: RangeArgs, team: Option<&str>) -> UsageArgs {
        UsageArgs {
            by: by.to_owned(),
            range,
            narrow: NarrowArgs { team: team.map(str::to_owned), ..NarrowArgs::default() },
            why: false,
            csv: false,
        }
    }

    #[rstest]
    #[case::by_team("team", RangeArgs::default(), None, "wendor request list --team freight-desk --last 7d")]
    #[case::a_month("team", RangeArgs { month: Some("2026-11".into()), ..RangeArgs::default() }, None, "wendor request list --team freight-desk --month 2026-11")]
    #[case::last("team", RangeArgs { last: Some("24h".into()), ..RangeArgs::default() }, None, "wendor request list --team freight-desk --last 24h")]
    #[case::narrowed(
        "route",
        RangeArgs::default(),
        Some("timetables"),
        "wendor request list --route freight-desk --team timetables --last 7d"
    )]
    #[case::from_and_to(
        "team",
        RangeArgs { from: Some("2026-11-17".into()), ..RangeArgs::default() },
        None,
        "wendor request list --team freight-desk --from 2026-11-17 --to 2026-11-24"
    )]
    fn the_command_behind_a_line(
        #[case] by: &str,
        #[case] range: RangeArgs,
        #[case] team: Option<&str>,
        #[case] command: &str,
    ) {
        let usage = usage(by, "2026-11-17T00:00:00Z", "2026-11-24T00:00:00Z");
        assert_eq!(follow(&usage, &args(by, range, team), &usage.lines[0]), command);
    }

    #[test]
    fn what_a_figure_leaves_out_is_said() {
        let note = |unpriced, estimated| {
            remarks(&serde_json::from_value(line("together", unpriced, estimated)).unwrap(), "EUR")
        };
        assert_eq!(note(0, 0), "");
        assert_eq!(
            note(1, 2_000),
            " 1 line of the ledger has no price, and the cost leaves it out. 2,000 requests counted by estimate."
        );
    }

    #[test]
    fn what_went_to_attempts_that_failed_is_said_apart() {
        let mut together = line("together", 0, 0);
        together["failed_attempts"] = json!({ "count": 2, "tokens": tokens(), "cost": "0.5" });
        together["checks"] = json!(3);
        assert_eq!(
            remarks(&serde_json::from_value(together).unwrap(), "EUR"),
            " Of the cost, 0.5000 EUR went to 2 attempts that did not answer. 3 calls of checks are in tokens and cost, not in requests."
        );
    }

    #[test]
    fn a_row_has_units_and_dashes() {
        let line: UsageLine = serde_json::from_value(line("", 0, 0)).unwrap();
        let cells = row(&line, "offer", "6".into(), "4".into());
        assert_eq!(cells, ["(no offer tried)", "1.50", "+50%", "4", "25.00%", "0.00%", "0.31 s", "-", "6", "4"]);
        let mut pair = line;
        pair.then = Some(String::new());
        let cells = row(&pair, "label:feature,run", String::new(), String::new());
        assert_eq!(cells[..2], ["(no feature)", "(no run)"]);
    }
}
