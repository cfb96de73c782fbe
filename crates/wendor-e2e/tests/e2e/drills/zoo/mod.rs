//! A zoo of real things: programs from Debian's packages in front of stand-ins, or in their place, and stand-ins with the manners of real
//! servers. For each the check names what is the matter, its remedy is applied, and then requests go through a route: where nothing bars the
//! way they are answered, streamed and whole, and where something does they are not. No case where the two disagree.
//!
//! `scripts/test` goes through the quick half, `scripts/drill zoo` through all of it.

pub mod cases;
mod programs;

use std::path::Path;
use std::process::Command;

use cases::{ALL, Case, Front};
use futures_util::stream::{StreamExt, iter};
use programs::{Places, Program, free_port};
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::server::{Profile, StandIn};

use super::{is_full, tell};
use crate::diagnosis::certificates::{Authority, Mistake};

/// The host under which everything is reached that speaks TLS, and another for the same machine.
const HOST: &str = "pier.tern.example";
const ALIAS: &str = "alias.tern.example";

/// The key that is set where one is.
const KEY: &str = "s3cret-of-the-pier";

/// The model that is served.
const MODEL: &str = "dunlin-7b";

/// Cases that are looked at at once: most of them wait.
const AT_ONCE: usize = 6;

/// What cases are made from.
struct Zoo {
    ferry: Ferry,
    known: Authority,
    unknown: Authority,
    folder: tempfile::TempDir,
    changing: tokio::sync::Mutex<()>,
}

/// A case that runs.
struct Alive {
    name: String,
    table: String,
    behind: StandIn,
    _program: Option<Program>,
}

impl Zoo {
    async fn begin() -> Self {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let known = Authority::make("Tern Isles");
        let hosts = folder.path().join("hosts");
        std::fs::write(&hosts, format!("127.0.0.1 {HOST} {ALIAS}\n")).unwrap();
        let credentials = folder.path().join("credentials");
        std::fs::create_dir(&credentials).unwrap();
        std::fs::write(credentials.join("wendor.pem"), known.client("wendor")).unwrap();
        let long = format!("{}{KEY}", "k".repeat(3_000));
        let basic = "Basic aGFyYm91cjpwaWxvdA==".to_owned();
        let settings = vec![
            ("WENDOR_AUTHORITIES", known.write(folder.path()).display().to_string()),
            ("WENDOR_HOSTS", hosts.display().to_string()),
            ("WENDOR_CREDENTIALS", credentials.display().to_string()),
            ("WENDOR_SECRET", "the tide waits for nobody, not even for ferries".to_owned()),
            ("WENDOR_CHECK_TOKENS", "100000000".to_owned()),
            ("WENDOR_UPSTREAM_PIER", KEY.to_owned()),
            ("WENDOR_UPSTREAM_LONG", long),
            ("WENDOR_UPSTREAM_BASIC", basic),
        ];
        let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
        Self { ferry, known, unknown: Authority::make("Nowhere"), folder, changing: tokio::sync::Mutex::default() }
    }

    /// A certificate as files: its chain, and its key.
    fn certificate(&self, name: &str, of: Certificate) -> (String, String) {
        let folder = self.folder.path().join(name);
        std::fs::create_dir(&folder).unwrap();
        if of == Certificate::Old {
            return old_certificate(&folder);
        }
        let (authority, host, mistake) = match of {
            Certificate::Good => (&self.known, HOST, Mistake::None),
            Certificate::Alone => (&self.known, HOST, Mistake::ChainCut),
            Certificate::SelfSigned => (&self.known, HOST, Mistake::SelfSigned),
            Certificate::Unknown => (&self.unknown, HOST, Mistake::None),
            Certificate::UnknownForAnother => (&self.unknown, "elsewhere.tern.example", Mistake::None),
            Certificate::ForAnother => (&self.known, "elsewhere.tern.example", Mistake::None),
            Certificate::Over => (&self.known, HOST, Mistake::Expired),
            Certificate::Old => return old_certificate(&folder),
        };
        let (chain, key) = authority.pem(host, mistake);
        let write = |file: &str, text: &str| {
            std::fs::write(folder.join(file), text).unwrap();
            folder.join(file).display().to_string()
        };
        (write("chain.pem", &chain), write("key.pem", &key))
    }

    async fn start(&self, number: usize, case: &Case) -> Alive {
        let name = format!("zoo-{number}");
        let profile = Profile { seed: 7, ..Profile::quick(&name, &[MODEL]) };
        let behind = StandIn::start((case.behind)(profile)).await.unwrap();
        let (chain, key) = self.certificate(&name, case.certificate);
        let address = behind.address();
        let (port, second) = (free_port(), free_port());
        let places: Places<'_> = &[
            ("BEHIND", address.to_string()),
            ("BEHIND_PORT", address.port().to_string()),
            ("SECOND", second.to_string()),
            ("DEAD", free_port().to_string()),
            ("CHAIN", chain),
            ("KEY", key),
            ("AUTHORITY", self.folder.path().join("authorities.pem").display().to_string()),
        ];
        let (port, program) = match case.front {
            Front::None => (address.port(), None),
            Front::Web(file) => (port, Some(programs::web(file, port, places).await)),
            Front::Tls(file) => (port, Some(programs::tls(file, port, places).await)),
            Front::Balancer(file) => (port, Some(programs::balancer(file, port, places).await)),
            Front::Shell => (port, Some(programs::shell(port).await)),
            Front::Socket(how) => (programs::socket(how), None),
            Front::Database => (database_port(), None),
        };
        let table = format!(
            "[upstreams.{name}]\naddress = \"{}\"\nhosting = \"own\"\n{}\n[upstreams.{name}.offers.\"{}\"]\n\
             [routes.{name}]\nstages = [{{ offers = [\"{name}/{}\"], first_event = \"3s\", reply = \"4s\", between_events = \"3s\" }}]\n",
            case.address.replace("PORT", &port.to_string()),
            case.lines,
            case.model,
            case.model,
        );
        Alive { name, table, behind, _program: program }
    }

    async fn check(&self, name: &str, more: &[&str]) -> Result<Value, String> {
        let mut args = vec!["--json", "upstream", "check", name];
        args.extend_from_slice(more);
        let ran = self.ferry.wendor(&args).await;
        serde_json::from_str(&ran.out).map_err(|_| format!("{name}: {} {}", ran.out, ran.err))
    }

    /// Whether requests through the route are answered, one streamed and one whole, and how they are not.
    async fn serves(&self, route: &str, role: &str) -> Result<(), String> {
        for streamed in [true, false] {
            let messages = json!([
                { "role": role, "content": "You tell times." },
                { "role": "user", "content": "When does the last boat leave?" },
            ]);
            let body = json!({ "model": route, "stream": streamed, "max_completion_tokens": 60, "messages": messages });
            let answer = self.ferry.ask(&body).await;
            let status = answer.status().as_u16();
            let text = answer.text().await.unwrap_or_else(|error| format!("broke: {error}"));
            let is_whole =
                if streamed { text.trim_end().ends_with("data: [DONE]") } else { text.contains("\"choices\"") };
            if status != 200 || !is_whole || text.contains("\"error\"") {
                let end = text.char_indices().rev().nth(300).map_or(text.as_str(), |(at, _)| &text[at..]);
                return Err(format!("streamed {streamed}: {status} {end}"));
            }
        }
        Ok(())
    }

    async fn look_at(&self, case: &Case, alive: &Alive) -> Result<(), String> {
        let requests_get =
            |report: &Value, what: &str| format!("{} ({}): {what}\n{}", case.name, alive.name, last_words(report));
        let mut report = self.check(&alive.name, &[]).await?;
        // On a busy machine a check may say that it cannot tell.
        for _ in 0..5 {
            if !last_words(&report).contains("cannot be told, since Wendor was held up") {
                break;
            }
            report = self.check(&alive.name, &[]).await?;
        }
        let code = first_finding(&report);
        if code.as_deref() != case.finding.map(|kind| kind.code()) {
            return Err(requests_get(&report, &format!("named {code:?}, wanted {:?}", case.finding)));
        }
        self.agrees(case, alive, &report).await?;
        if let Some(setting) = case.mend {
            let number =
                remedy_of(&report, setting).ok_or_else(|| requests_get(&report, &format!("no `{setting}`")))?;
            let number = number.to_string();
            // Of two changes at once the second is refused.
            let changing = self.changing.lock().await;
            report = self.check(&alive.name, &["--mend", &number, "--to-host", ALIAS]).await?;
            drop(changing);
            if report["green"] != true {
                return Err(requests_get(&report, "mended, and not green"));
            }
            self.agrees(case, alive, &report).await?;
        }
        // What was shown before is what it may cost; the server counts what it made.
        let shown = report["proof_cost"]["output_tokens"].as_u64().unwrap_or_default();
        let made = alive.behind.served().iter().map(|served| served.output_tokens).max().unwrap_or_default();
        if made > shown {
            return Err(requests_get(&report, &format!("{made} tokens were made, {shown} shown")));
        }
        Ok(())
    }

    /// That requests are answered where nothing bars the way, and only there.
    async fn agrees(&self, case: &Case, alive: &Alive, report: &Value) -> Result<(), String> {
        let is_barred = report["steps"].as_array().unwrap().iter().any(|step| step["state"] == "failing");
        let knows_developer = first_finding(report).as_deref() != Some("role-unknown");
        let role = if knows_developer { "developer" } else { "system" };
        match (self.serves(&alive.name, role).await, is_barred) {
            (Ok(()), false) | (Err(_), true) => Ok(()),
            (Ok(()), true) => Err(format!("{}: red, and requests are answered\n{}", case.name, last_words(report))),
            (Err(why), false) => Err(format!("{}: green, and {why}\n{}", case.name, last_words(report))),
        }
    }
}

/// What a server shows for itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Certificate {
    /// All that is needed.
    Good,
    /// Without the one between it and its authority.
    Alone,
    /// Signed by itself.
    SelfSigned,
    /// Of an authority that nobody knows, with all between.
    Unknown,
    /// The same, and for another host.
    UnknownForAnother,
    /// For another host.
    ForAnother,
    /// Its time is over.
    Over,
    /// Of the first version of X.509.
    Old,
}

/// A certificate of the first version, as the tool makes it that is not told of extensions.
fn old_certificate(folder: &Path) -> (String, String) {
    let file = |name: &str| folder.join(name).display().to_string();
    let (key, request, chain) = (file("key.pem"), file("request.pem"), file("chain.pem"));
    let run = |args: &[&str]| {
        let ran = Command::new("openssl").args(args).output().unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    };
    run(&[
        "req",
        "-new",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        &key,
        "-out",
        &request,
        "-subj",
        &format!("/CN={HOST}"),
    ]);
    run(&["x509", "-req", "-in", &request, "-signkey", &key, "-days", "30", "-out", &chain]);
    (chain, key)
}

/// The port of the database of the tests.
fn database_port() -> u16 {
    let url = std::env::var("WENDOR_TEST_DATABASE_URL").unwrap();
    url.rsplit_once(':').and_then(|(_, rest)| rest.split('/').next()?.parse().ok()).unwrap()
}

fn findings(report: &Value) -> impl Iterator<Item = &Value> {
    report["steps"].as_array().unwrap().iter().flat_map(|step| step["findings"].as_array().unwrap())
}

fn first_finding(report: &Value) -> Option<String> {
    findings(report).next().map(|finding| finding["kind"].as_str().unwrap().to_owned())
}

fn remedy_of(report: &Value, setting: &str) -> Option<u64> {
    let mut remedies = findings(report).flat_map(|finding| finding["remedies"].as_array().unwrap());
    remedies.find(|remedy| remedy["change"]["setting"] == setting)?["number"].as_u64()
}

fn last_words(report: &Value) -> String {
    let steps = report["steps"].as_array().unwrap();
    let lines = steps.iter().map(|step| format!("  {} {}: {}\n", step["state"], step["step"], step["came_back"]));
    let says = findings(report).map(|finding| format!("  {}: {}\n", finding["kind"], finding["says"]));
    lines.chain(says).collect()
}

/// Whether the check and the requests agree, for everything in the zoo.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_check_says_of_real_things_is_what_requests_meet() {
    let zoo = Zoo::begin().await;
    let only = std::env::var("WENDOR_ZOO").ok();
    let is_wanted = |case: &&Case| match &only {
        Some(part) => case.name.contains(part.as_str()),
        None => case.is_quick || is_full(),
    };
    let cases: Vec<&Case> = ALL.iter().copied().flatten().filter(is_wanted).collect();
    let mut alive = Vec::new();
    for (number, case) in cases.iter().enumerate() {
        alive.push(zoo.start(number, case).await);
    }
    let tables: String = alive.iter().map(|alive| alive.table.as_str()).collect();
    let base = zoo.ferry.catalogue(&Wishes::default());
    zoo.ferry.apply(&format!("{base}\n{tables}")).await;
    let looks = cases.iter().zip(&alive).map(|(case, alive)| zoo.look_at(case, alive));
    let came: Vec<Result<(), String>> = iter(looks).buffer_unordered(AT_ONCE).collect().await;
    let wrong: Vec<String> = came.into_iter().filter_map(Result::err).collect();
    tell(&format!(
        "{} real things, {} of them with what the check says of them as requests meet it",
        cases.len(),
        cases.len() - wrong.len()
    ));
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), cases.len(), wrong.join("\n"));
}
