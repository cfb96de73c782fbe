//! `wendor upstream check`: the steps of a check in lines, findings under the step that they are of, remedies with their numbers.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use reqwest::Response;
use serde_json::json;
use wendor_core::diagnosis::remedy::Change;
use wendor_gateway::admin::check_report::{CheckReport, CheckStepLine, FindingLine, ProofCost, RemedyLine};
use wendor_gateway::admin::check_stream::CheckLine;
use wendor_gateway::admin::checking::CheckAsk;
use wendor_gateway::admin::draft::{CredentialDraft, UpstreamDraft};
use wendor_gateway::admin::revise::CatalogueApplied;
use wendor_gateway::admin::upstreams::UpstreamLine;

use super::change;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::connect::{ServerArgs, UpstreamCheckArgs};
use crate::output::{self, Reader};
use crate::terminal::terminal;
use crate::words;

/// Where sentences break.
const WIDTH: usize = 92;

/// Columns of a line that do not belong to what a step came back with: its sign, its name, its time.
const AROUND_TOLD: usize = 29;

/// Where what came back breaks, before the time that it took.
const TOLD_WIDTH: usize = 60;

pub(super) async fn run(args: UpstreamCheckArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let mut ask = ask_of(&args, management).await?;
    if args.prove {
        consent(&args, &ask, management).await?;
    }
    ask.prove = args.prove;
    let mut report = watched(&ask, management, reader).await?;
    if let Some(number) = args.mend {
        let chosen = Chosen { number, value: args.value.as_deref(), to_host: args.server.to_host.as_deref() };
        report = mended(&mut ask, &chosen, &report, management, reader).await?;
    }
    if reader == Reader::Program {
        output::json(&report)?;
    } else if report.steps.iter().any(|step| step.state == "not asked") {
        output::note("To ask the model and prove what it can do: add --prove; what it costs at most is shown before.");
    }
    match report.steps.iter().find(|step| step.state == "failing") {
        Some(step) => Err(Failure::UpstreamsFailed(format!("Fails at: {}.", step.step))),
        None => Ok(()),
    }
}

/// Checks, and shows a person each step as it is over, and at a terminal the one that runs.
///
/// # Errors
/// When the service says no, or cannot be reached.
pub(super) async fn watched(ask: &CheckAsk, management: &Management, reader: Reader) -> Result<CheckReport, Failure> {
    let response = management.post_stream("/upstreams/check", &body_of(ask)?).await?;
    let mut lines = Lines::of(response);
    let mut shown = Shown::of(reader);
    let began = Instant::now();
    loop {
        let line = tokio::select! {
            line = lines.next() => line?,
            () = tokio::time::sleep(TICK), if shown.is_running() => {
                shown.still(began);
                continue;
            }
        };
        match line {
            CheckLine::Begins(step) => shown.begins(step, began),
            CheckLine::Ended(step) => shown.ended(&step)?,
            CheckLine::Report(report) => {
                shown.report(&report)?;
                return Ok(*report);
            }
            CheckLine::Failed(why) => return Err(Failure::Own(why)),
        }
    }
}

/// How often it is told at a terminal that a step still runs.
const TICK: Duration = Duration::from_millis(500);

/// The lines of an answer that comes piece by piece.
struct Lines {
    response: Response,
    buffer: Vec<u8>,
}

impl Lines {
    fn of(response: Response) -> Self {
        Self { response, buffer: Vec::new() }
    }

    async fn next(&mut self) -> Result<CheckLine, Failure> {
        let broken = || Failure::Unreachable("The connection to Wendor broke during the check.".to_owned());
        loop {
            if let Some(end) = self.buffer.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = self.buffer.drain(..=end).collect();
                return serde_json::from_slice(&line).map_err(|error| {
                    Failure::Own(format!("cannot read the service's answer ({error}); does it run another version?"))
                });
            }
            let piece = self.response.chunk().await.map_err(|_| broken())?.ok_or_else(broken)?;
            self.buffer.extend_from_slice(&piece);
        }
    }
}

/// What a person has been shown of a check.
struct Shown {
    reader: Reader,
    is_at_a_terminal: bool,
    running: Option<String>,
    last_reason: String,
    has_head: bool,
}

impl Shown {
    fn of(reader: Reader) -> Self {
        let is_at_a_terminal = reader == Reader::Person && std::io::stderr().is_terminal();
        Self { reader, is_at_a_terminal, running: None, last_reason: String::new(), has_head: false }
    }

    fn is_running(&self) -> bool {
        self.is_at_a_terminal && self.running.is_some()
    }

    fn begins(&mut self, step: String, began: Instant) {
        self.running = Some(step);
        self.still(began);
    }

    /// The step that runs, in a line that the next one takes the place of.
    fn still(&self, began: Instant) {
        if let Some(step) = self.running.as_ref().filter(|_| self.is_at_a_terminal) {
            let past = words::exact_wait(u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX));
            output::transient(&format!("◌ {step:<17}running, {past}; Ctrl-C ends the check"));
        }
    }

    fn ended(&mut self, step: &CheckStepLine) -> Result<(), Failure> {
        self.running = None;
        if self.reader == Reader::Program {
            return Ok(());
        }
        if self.is_at_a_terminal {
            output::transient("");
        }
        self.has_head = true;
        output::print(&step_lines(step, &self.last_reason))?;
        self.last_reason = if step.state == "not asked" { step.came_back.clone() } else { String::new() };
        Ok(())
    }

    /// What is still to be said: what was not reached, and how it went.
    fn report(&mut self, report: &CheckReport) -> Result<(), Failure> {
        if self.reader == Reader::Program {
            return Ok(());
        }
        output::print(&not_reached(report))?;
        output::print(&last_words(report))
    }
}

async fn ask_of(args: &UpstreamCheckArgs, management: &Management) -> Result<CheckAsk, Failure> {
    let ask = CheckAsk {
        model: args.model.clone(),
        unpriced: args.unpriced,
        team: args.team.clone(),
        timeout_ms: timeout_of(&args.server),
        ..CheckAsk::default()
    };
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
        client_certificate: server.client_certificate.clone(),
        ..UpstreamDraft::default()
    };
    for header in &server.header {
        let (name, value) = header
            .split_once('=')
            .ok_or_else(|| Failure::NotUnderstood(format!("Invalid header `{header}`: write NAME=VALUE.")))?;
        draft.headers.insert(name.trim().to_ascii_lowercase(), value.trim().to_owned());
    }
    let value = server.key_stdin.then(|| read_secret("Paste the key, then Enter and Ctrl-D.")).transpose()?;
    if server.key_env.is_some() || server.key_file.is_some() || value.is_some() {
        let (env, file) = (server.key_env.clone(), server.key_file.clone());
        draft.credential = Some(CredentialDraft { env, file, kept: None, value });
    }
    Ok(draft)
}

/// A draft with a remedy, and with the credential that it had: its own, or what was pasted along with its address.
pub(super) fn going_on(draft: &UpstreamDraft, then: UpstreamDraft, holds_key: bool) -> UpstreamDraft {
    let pasted = draft.pasted.clone().or_else(|| holds_key.then(|| draft.address.clone()));
    UpstreamDraft { credential: draft.credential.clone(), pasted, place: draft.place.clone(), ..then }
}

/// How long a check may take, where that is said.
pub(super) fn timeout_of(server: &ServerArgs) -> Option<u64> {
    server.timeout.map(|timeout| u64::try_from(timeout.as_millis()).unwrap_or(u64::MAX))
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
    use std::io::Read;
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
    if args.yes { Ok(()) } else { change::confirm("Run it?") }
}

fn cost_words(cost: &ProofCost) -> String {
    let money = match &cost.money {
        Some(money) => format!("at most {} {}", words::small_money(money), cost.currency),
        None => "unpriced: the offer has no rate, so the cost is unknown".to_owned(),
    };
    format!(
        "Asking takes up to {} calls, {} tokens in and {} out: {money}.",
        cost.calls,
        words::grouped(cost.input_tokens),
        words::grouped(cost.output_tokens)
    )
}

/// Findings whose remedies are hosts that the server itself names.
const LEADING: [&str; 2] = ["moved", "other-host"];

/// A server can send whoever asks it to any other host: nothing follows there before somebody says so, and a credential never does.
///
/// # Errors
/// When nobody does.
pub(super) fn consented(
    draft: &UpstreamDraft,
    then: &UpstreamDraft,
    finding: &str,
    holds_key: bool,
    to_host: Option<&str>,
) -> Result<(), Failure> {
    let host = |draft: &UpstreamDraft| {
        let pasted = wendor_core::diagnosis::pasted::read(&draft.address).ok()?;
        Some(pasted.address.host().to_ascii_lowercase())
    };
    let to = host(then);
    let is_meant = to.is_some() && to_host.map(str::to_ascii_lowercase) == to;
    let is_led = LEADING.contains(&finding);
    if host(draft) == to || is_meant || (draft.credential.is_none() && !holds_key && !is_led) {
        return Ok(());
    }
    let gets = if draft.credential.is_some() || holds_key { "requests and the credential" } else { "requests" };
    let to = to.unwrap_or_default();
    Err(Failure::NotUnderstood(format!(
        "The remedy leads to another host, {to}, which would get {gets}. If that is meant, add --to-host {to}."
    )))
}

/// The remedy that was chosen.
struct Chosen<'a> {
    number: usize,
    /// What it needs to be told.
    value: Option<&'a str>,
    /// The host that may be given the credential.
    to_host: Option<&'a str>,
}

/// Applies a remedy and checks again.
async fn mended(
    ask: &mut CheckAsk,
    chosen: &Chosen<'_>,
    report: &CheckReport,
    management: &Management,
    reader: Reader,
) -> Result<CheckReport, Failure> {
    let Chosen { number, value, to_host } = *chosen;
    let findings = report.steps.iter().flat_map(|step| &step.findings);
    let remedies: Vec<(&str, &RemedyLine)> =
        findings.flat_map(|finding| finding.remedies.iter().map(|remedy| (finding.kind.as_str(), remedy))).collect();
    let numbered = remedies.iter().find(|(_, remedy)| remedy.number == Some(number));
    let Some((kind, remedy)) = numbered else {
        let count = remedies.iter().filter(|(_, remedy)| remedy.number.is_some()).count();
        let there = match count {
            0 => "there is none that Wendor can apply".to_owned(),
            1 => "there is 1".to_owned(),
            count => format!("there are 1 to {count}"),
        };
        return Err(Failure::NoSuch(format!("There is no remedy {number}: {there}.")));
    };
    if remedy.needs_value && value.is_none() {
        return Err(Failure::NotUnderstood(format!("This remedy needs a value: add --value TEXT. ({})", remedy.says)));
    }
    match (&ask.name, &remedy.then) {
        (Some(name), _) => {
            if let Some(Change::Address { to }) = &remedy.change {
                let then = UpstreamDraft { address: to.as_str().to_owned(), ..report.settings.clone() };
                consented(&report.settings, &then, kind, report.holds_key, to_host)?;
            }
            let body = json!({ "change": remedy.change, "value": value, "to_host": to_host });
            let applied: CatalogueApplied = management.post(&format!("/upstreams/{}/mend", part(name)), &body).await?;
            if reader == Reader::Person {
                output::note(&format!("{}: revision {} is in force. Checked again:\n", remedy.says, applied.revision));
            }
        }
        (None, Some(then)) => {
            if let Some(draft) = &ask.draft {
                consented(draft, then, kind, report.holds_key, to_host)?;
            }
            ask.draft = ask.draft.as_ref().map(|draft| going_on(draft, then.clone(), report.holds_key));
            output::note(&format!("{}. Checked so:\n", remedy.says));
        }
        (None, None) => {
            return Err(Failure::NotUnderstood("This remedy needs the upstream in the catalogue.".to_owned()));
        }
    }
    watched(ask, management, reader).await
}

/// Which steps were not reached, in one line: after each remedy there are fewer.
fn not_reached(report: &CheckReport) -> String {
    let steps = report.steps.iter().filter(|step| step.state == "not reached").map(|step| step.step.as_str());
    let steps: Vec<&str> = steps.collect();
    let mut text = String::new();
    if steps.is_empty() {
        return text;
    }
    for (index, line) in
        words::wrapped(&steps.join(", "), width().saturating_sub(AROUND_TOLD).max(20)).iter().enumerate()
    {
        let head = if index == 0 { "○ not reached" } else { "" };
        text.push_str(&format!("{head:<19}{line}\n"));
    }
    text
}

/// How a check went, in a line.
fn last_words(report: &CheckReport) -> String {
    let failing = report.steps.iter().find(|step| step.state == "failing");
    let noted = report.steps.iter().filter(|step| step.state == "noted").count();
    let last = match (failing, noted) {
        // Which step it is says the command's end.
        (Some(_), _) => "The remaining steps were not run.".to_owned(),
        (None, 0) => "All steps passed.".to_owned(),
        (None, 1) => "It works, with 1 note.".to_owned(),
        (None, count) => format!("It works, with {count} notes."),
    };
    format!("\n{} at {}: {last} {}\n", report.name, report.settings.address, words::exact_wait(report.took_us / 1_000))
}

/// Columns of a report: of the terminal, and never more than are read with ease.
fn width() -> usize {
    terminal().width.unwrap_or(WIDTH).clamp(40, WIDTH)
}

fn step_lines(step: &CheckStepLine, last_reason: &str) -> String {
    let sign = match step.state.as_str() {
        "well" => '●',
        "noted" => '△',
        "failing" => '×',
        _ => '○',
    };
    let came_back = match step.state.as_str() {
        "not asked" if step.came_back == last_reason => "not asked either".to_owned(),
        "not asked" => format!("not asked: {}", step.came_back),
        _ => step.came_back.clone(),
    };
    let took = words::took(step.took_us);
    let room = TOLD_WIDTH.min(width().saturating_sub(AROUND_TOLD)).max(20);
    let mut lines = words::wrapped(&came_back, room);
    let first = if lines.is_empty() { String::new() } else { lines.remove(0) };
    let mut text = format!("{sign} {:<17}{first:<room$} {took:>9}", step.step).trim_end().to_owned() + "\n";
    lines.iter().for_each(|line| text.push_str(&format!("{:19}{line}\n", "")));
    for finding in &step.findings {
        text.push_str(&finding_lines(finding));
    }
    text
}

fn finding_lines(finding: &FindingLine) -> String {
    let mut text = String::from("\n");
    for line in words::wrapped(&finding.says, width() - 4) {
        text.push_str(&format!("    {line}\n"));
    }
    for remedy in &finding.remedies {
        let (head, says) = match (remedy.number, remedy.by.as_str()) {
            (Some(number), _) => (format!("--mend {number}"), remedy.says.clone()),
            (None, "owner") => ("tell its owner".to_owned(), format!("\"{}\"", remedy.says)),
            (None, _) => ("do".to_owned(), remedy.says.clone()),
        };
        for (index, line) in words::wrapped(&says, width() - 20).iter().enumerate() {
            let head = if index == 0 { head.as_str() } else { "" };
            text.push_str(&format!("    {head:<15} {line}\n"));
        }
    }
    text.push('\n');
    text
}
