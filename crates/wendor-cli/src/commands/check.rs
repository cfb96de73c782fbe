//! `wendor upstream check`: the steps of a check in lines, findings under the step that they are of, remedies with their numbers.

use serde_json::json;
use wendor_core::diagnosis::remedy::Change;
use wendor_gateway::admin::catalogue::CatalogueApplied;
use wendor_gateway::admin::check_report::{CheckReport, CheckStepLine, FindingLine, ProofCost};
use wendor_gateway::admin::checking::CheckAsk;
use wendor_gateway::admin::draft::{CredentialDraft, UpstreamDraft};
use wendor_gateway::admin::upstreams::UpstreamLine;

use super::catalogue;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::connect::{ServerArgs, UpstreamCheckArgs};
use crate::output::{self, Reader};
use crate::words;

/// Where sentences break.
const WIDTH: usize = 92;

/// Where what came back breaks, before the time that it took.
const TOLD_WIDTH: usize = 60;

pub(super) async fn run(args: UpstreamCheckArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let mut ask = ask_of(&args, management).await?;
    if args.prove {
        consent(&args, &ask, management).await?;
    }
    ask.prove = args.prove;
    let mut report: CheckReport = management.post("/upstreams/check", &body_of(&ask)?).await?;
    if let Some(number) = args.mend {
        report = mended(
            &mut ask,
            (number, args.value.as_deref(), args.server.to_host.as_deref()),
            &report,
            (management, reader),
        )
        .await?;
    }
    match reader {
        Reader::Program => output::json(&report)?,
        Reader::Person => output::print(&told(&report, &report.name))?,
    }
    if reader == Reader::Person && report.steps.iter().any(|step| step.state == "not asked") {
        output::note("To ask the model and prove what it can do: add --prove; what it costs at most is shown before.");
    }
    match report.steps.iter().find(|step| step.state == "failing") {
        Some(step) => Err(Failure::UpstreamsFailed(format!("It stops at: {}.", step.step))),
        None => Ok(()),
    }
}

async fn ask_of(args: &UpstreamCheckArgs, management: &Management) -> Result<CheckAsk, Failure> {
    let ask =
        CheckAsk { model: args.model.clone(), unpriced: args.unpriced, team: args.team.clone(), ..CheckAsk::default() };
    let known: Vec<UpstreamLine> = management.get("/upstreams", &[]).await?;
    let is_known = known.iter().any(|upstream| upstream.name == args.upstream);
    // What looks like an address is one, unless it is a name.
    if is_known || !args.upstream.contains([':', '/', '.']) {
        return Ok(CheckAsk { name: Some(args.upstream.clone()), ..ask });
    }
    Ok(CheckAsk { draft: Some(draft(&args.upstream, &args.server)?), ..ask })
}

/// A server as a draft.
///
/// # Errors
/// When a header is not understood, or standard input cannot be read.
pub(super) fn draft(address: &str, server: &ServerArgs) -> Result<UpstreamDraft, Failure> {
    let mut draft = UpstreamDraft {
        address: address.to_owned(),
        dialect: server.dialect.clone(),
        hosting: server.hosting.clone(),
        auth: server.auth.clone(),
        plain_http: server.plain_http,
        certificate: server.certificate.clone(),
        ..UpstreamDraft::default()
    };
    for header in &server.header {
        let (name, value) = header
            .split_once('=')
            .ok_or_else(|| Failure::NotUnderstood(format!("`{header}` is no header: write NAME=VALUE.")))?;
        draft.headers.insert(name.trim().to_ascii_lowercase(), value.trim().to_owned());
    }
    let value = server.key_stdin.then(|| read_secret("Paste the key, then Enter and Ctrl-D.")).transpose()?;
    if server.key_env.is_some() || server.key_file.is_some() || value.is_some() {
        let (env, file) = (server.key_env.clone(), server.key_file.clone());
        draft.credential = Some(CredentialDraft { env, file, kept: None, value });
    }
    Ok(draft)
}

/// A check as it is asked for. A credential's value is put in by hand: its type never writes it out.
///
/// # Errors
/// Never: every part of it has a JSON form.
pub(super) fn body_of(ask: &CheckAsk) -> Result<serde_json::Value, Failure> {
    let mut body = serde_json::to_value(ask).map_err(|error| Failure::Own(error.to_string()))?;
    let credential = ask.draft.as_ref().and_then(|draft| draft.credential.as_ref());
    if let Some(value) = credential.and_then(|credential| credential.value.as_ref()) {
        body["draft"]["credential"] = json!({ "value": value });
    }
    Ok(body)
}

/// A secret from standard input.
///
/// # Errors
/// When it cannot be read.
pub(super) fn read_secret(note: &str) -> Result<String, Failure> {
    use std::io::{IsTerminal, Read};
    if std::io::stdin().is_terminal() {
        output::note(note);
    }
    let mut text = String::new();
    let read = std::io::stdin().read_to_string(&mut text);
    read.map_err(|error| Failure::Own(format!("standard input cannot be read: {error}")))?;
    Ok(text.trim().to_owned())
}

/// Shows what asking on costs at most before anything is asked.
async fn consent(args: &UpstreamCheckArgs, ask: &CheckAsk, management: &Management) -> Result<(), Failure> {
    let free = CheckAsk { prove: false, ..ask.clone() };
    let cost: ProofCost = management.post("/upstreams/proof-cost", &body_of(&free)?).await?;
    output::note(&cost_words(&cost));
    match args.yes {
        true => Ok(()),
        false => catalogue::confirm("Ask it?"),
    }
}

fn cost_words(cost: &ProofCost) -> String {
    let money = match &cost.money {
        Some(money) => format!("at most {} {}", words::small_money(money), cost.currency),
        None => "unpriced: the offer has no rate, so nobody knows what it costs".to_owned(),
    };
    format!(
        "Asking takes up to {} calls, {} tokens in and {} out: {money}.",
        cost.calls,
        words::grouped(cost.input_tokens),
        words::grouped(cost.output_tokens)
    )
}

/// A server can send whoever asks it to any other host: the credential follows only where somebody says so.
///
/// # Errors
/// When nobody does.
pub(super) fn consented(draft: &UpstreamDraft, then: &UpstreamDraft, to_host: Option<&str>) -> Result<(), Failure> {
    let host = |draft: &UpstreamDraft| {
        let pasted = wendor_core::diagnosis::pasted::read(&draft.address).ok()?;
        Some(pasted.address.host().to_ascii_lowercase())
    };
    let to = host(then);
    let is_meant = to.is_some() && to_host.map(str::to_ascii_lowercase) == to;
    if draft.credential.is_none() || host(draft) == to || is_meant {
        return Ok(());
    }
    let to = to.unwrap_or_default();
    Err(Failure::NotUnderstood(format!(
        "The remedy leads to another host, {to}, which would get the credential. If that is meant, add --to-host {to}."
    )))
}

/// Applies a remedy and checks again.
async fn mended(
    ask: &mut CheckAsk,
    (number, value, to_host): (usize, Option<&str>, Option<&str>),
    report: &CheckReport,
    (management, reader): (&Management, Reader),
) -> Result<CheckReport, Failure> {
    let remedies: Vec<_> =
        report.steps.iter().flat_map(|step| &step.findings).flat_map(|finding| &finding.remedies).collect();
    let found = remedies.iter().find(|remedy| remedy.number == Some(number));
    let Some(remedy) = found else {
        let count = remedies.iter().filter(|remedy| remedy.number.is_some()).count();
        let there = match count {
            0 => "there is none that Wendor can apply".to_owned(),
            1 => "there is 1".to_owned(),
            count => format!("there are 1 to {count}"),
        };
        return Err(Failure::NoSuch(format!("No remedy has the number {number}: {there}.")));
    };
    if remedy.needs_value && value.is_none() {
        return Err(Failure::NotUnderstood(format!("This remedy needs a value: add --value TEXT. ({})", remedy.says)));
    }
    match (&ask.name, &remedy.then) {
        (Some(name), _) => {
            if let Some(Change::Address { to }) = &remedy.change {
                let then = UpstreamDraft { address: to.as_str().to_owned(), ..report.settings.clone() };
                consented(&report.settings, &then, to_host)?;
            }
            let body = json!({ "change": remedy.change, "value": value, "to_host": to_host });
            let applied: CatalogueApplied = management.post(&format!("/upstreams/{}/mend", part(name)), &body).await?;
            if reader == Reader::Person {
                output::note(&format!("{}: revision {} is in force. Checked again:\n", remedy.says, applied.revision));
            }
        }
        (None, Some(then)) => {
            if let Some(draft) = &ask.draft {
                consented(draft, then, to_host)?;
            }
            let credential = ask.draft.as_ref().and_then(|draft| draft.credential.clone());
            ask.draft = Some(UpstreamDraft { credential, ..then.clone() });
            output::note(&format!("{}. Checked so:\n", remedy.says));
        }
        (None, None) => {
            return Err(Failure::NotUnderstood("This remedy needs the upstream in the catalogue.".to_owned()));
        }
    }
    management.post("/upstreams/check", &body_of(ask)?).await
}

/// A check in lines.
pub(super) fn told(report: &CheckReport, name: &str) -> String {
    let mut text = format!("{name}, {}\n", report.settings.address);
    let mut last_reason = "";
    for step in &report.steps {
        text.push_str(&step_lines(step, last_reason));
        last_reason = if step.state == "not asked" { &step.came_back } else { "" };
    }
    let failing = report.steps.iter().find(|step| step.state == "failing");
    let noted = report.steps.iter().filter(|step| step.state == "noted").count();
    let last = match (failing, noted) {
        // Which step it is says the command's end.
        (Some(_), _) => "The rest was not looked at.".to_owned(),
        (None, 0) => "All that was looked at is well.".to_owned(),
        (None, 1) => "It works; one thing should be known.".to_owned(),
        (None, count) => format!("It works; {count} things should be known."),
    };
    text.push_str(&format!("\n{last} {}\n", words::exact_wait(report.took_us / 1_000)));
    text
}

fn step_lines(step: &CheckStepLine, last_reason: &str) -> String {
    let sign = match step.state.as_str() {
        "well" => '●',
        "noted" => '△',
        "failing" => '×',
        _ => '○',
    };
    let told = match step.state.as_str() {
        "not reached" => format!("not reached: {}", step.came_back),
        "not asked" if step.came_back == last_reason => "not asked either".to_owned(),
        "not asked" => format!("not asked: {}", step.came_back),
        _ => step.came_back.clone(),
    };
    let took = match step.took_us {
        0..100 => String::new(),
        us => format!("{}.{} ms", us / 1_000, us % 1_000 / 100),
    };
    let mut lines = wrapped(&told, TOLD_WIDTH);
    let first = if lines.is_empty() { String::new() } else { lines.remove(0) };
    let mut text = format!("{sign} {:<17}{first:<60} {took:>9}", step.step).trim_end().to_owned() + "\n";
    lines.iter().for_each(|line| text.push_str(&format!("{:19}{line}\n", "")));
    for finding in &step.findings {
        text.push_str(&finding_lines(finding));
    }
    text
}

fn finding_lines(finding: &FindingLine) -> String {
    let mut text = String::from("\n");
    for line in wrapped(&finding.says, WIDTH - 4) {
        text.push_str(&format!("    {line}\n"));
    }
    for remedy in &finding.remedies {
        let (head, says) = match (remedy.number, remedy.by.as_str()) {
            (Some(number), _) => (format!("--mend {number}"), remedy.says.clone()),
            (None, "owner") => ("tell its owner".to_owned(), format!("\"{}\"", remedy.says)),
            (None, _) => ("do".to_owned(), remedy.says.clone()),
        };
        for (index, line) in wrapped(&says, WIDTH - 20).iter().enumerate() {
            let head = if index == 0 { head.as_str() } else { "" };
            text.push_str(&format!("    {head:<15} {line}\n"));
        }
    }
    text.push('\n');
    text
}

fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if line.chars().count() + word.chars().count() < width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}
