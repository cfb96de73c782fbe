//! The grammar of `wendor-standins`, and what each command calls.

use std::collections::BTreeMap;
use std::io::Write;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, anyhow};
use chrono::Utc;
use clap::{Parser, Subcommand};
use serde::Deserialize;
use wendor_standins::control::{self, StandInReport};
use wendor_standins::history::{self, Past};
use wendor_standins::server::{Profile, StandIn};
use wendor_standins::traffic::{self, TrafficFile};

const CONTROL: &str = "127.0.0.1:7500";

/// Simulated model servers of a ferry operator, for Wendor's demo and tests.
#[derive(Debug, Parser)]
#[command(name = "wendor-standins", version)]
struct StandIns {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the stand-ins of a file, with a control call beside them.
    #[command(after_help = "Example: wendor-standins run demo/standins.toml")]
    Run {
        /// Scene to play (TOML).
        file: PathBuf,
        /// Where the control call listens.
        #[arg(long, default_value = CONTROL)]
        control: SocketAddr,
    },
    /// Let a stand-in fail: none, refuse, stall-before-first, stall-after-role, stall-midway, cut-midway, end-midway,
    /// garbage, garbage-midway, or a status such as 500 or 429:30 (with Retry-After).
    #[command(after_help = "Example: wendor-standins fault quayside-a refuse")]
    Fault {
        /// Which.
        name: String,
        /// How.
        fault: String,
        /// Where the control call listens.
        #[arg(long, default_value = CONTROL)]
        control: SocketAddr,
    },
    /// What each stand-in served, as JSON.
    #[command(after_help = "Example: wendor-standins tally")]
    Tally {
        /// Where the control call listens.
        #[arg(long, default_value = CONTROL)]
        control: SocketAddr,
    },
    /// Write a made-up past into the spool of a service that is not running; it drains it when it starts.
    #[command(
        after_help = "Example: wendor-standins history --catalogue demo/catalogue.toml --traffic demo/traffic.toml --spool wendor-spool --keys timetables=3f9k2mq7"
    )]
    History {
        /// Catalogue whose offers are filled with history (TOML).
        #[arg(long)]
        catalogue: PathBuf,
        /// What teams ask.
        #[arg(long)]
        traffic: PathBuf,
        /// The spool's folder.
        #[arg(long)]
        spool: PathBuf,
        /// Ids of keys, as TEAM=ID.
        #[arg(long, value_delimiter = ',')]
        keys: Vec<String>,
        /// Days back from now.
        #[arg(long, default_value_t = 30)]
        days: u32,
        /// What it is made from: equal seeds make equal pasts.
        #[arg(long, default_value_t = 7)]
        seed: u64,
    },
    /// Ask now and then, as the teams do, until stopped. Keys come from WENDOR_KEY_<TEAM>.
    #[command(after_help = "Example: wendor-standins traffic demo/traffic.toml --every 2s")]
    Traffic {
        /// What teams ask.
        file: PathBuf,
        /// Where the gateway is.
        #[arg(long, default_value = "http://127.0.0.1:7420")]
        url: String,
        /// Seconds between two requests, on average.
        #[arg(long, default_value_t = 2)]
        every_seconds: u64,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct StandInFile {
    standin: Vec<Profile>,
}

pub(super) fn run() -> anyhow::Result<()> {
    let command = StandIns::parse().command;
    tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(dispatch(command))
}

async fn dispatch(command: Command) -> anyhow::Result<()> {
    match command {
        Command::Run { file, control } => {
            let profiles: StandInFile = read(&file)?;
            let mut standins = Vec::new();
            for profile in profiles.standin {
                let (name, listen) = (profile.name.clone(), profile.listen);
                let started = StandIn::start(profile).await;
                standins.push(started.with_context(|| format!("stand-in {name} cannot listen on {listen}"))?);
            }
            print(&format!("{} stand-ins run; control call at http://{control}/", standins.len()))?;
            control::serve(control, standins)
                .await
                .with_context(|| format!("the control call cannot listen on {control}"))
        }
        Command::Fault { name, fault, control } => set_fault(&name, &fault, control).await,
        Command::Tally { control } => print(&client()?.get(format!("http://{control}/")).send().await?.text().await?),
        Command::History { catalogue, traffic, spool, keys, days, seed } => {
            let traffic: TrafficFile = read(&traffic)?;
            let text = std::fs::read_to_string(&catalogue).with_context(|| catalogue.display().to_string())?;
            let file = wendor_core::catalog::file::read(&text).map_err(|problems| {
                anyhow!("{}: {}", catalogue.display(), problems.first().map(ToString::to_string).unwrap_or_default())
            })?;
            let keys = keys.iter().map(|pair| pair.split_once('=').map(|(team, id)| (team.to_owned(), id.to_owned())));
            let keys = keys
                .collect::<Option<BTreeMap<_, _>>>()
                .ok_or_else(|| anyhow!("--keys must look like timetables=3f9k2mq7"))?;
            let past = Past { file: &file, asks: &traffic.ask, keys: &keys, days, seed, until: Utc::now() };
            let entries = history::make(&past)?;
            let path =
                history::write(&spool, &entries).with_context(|| format!("{} cannot be written", spool.display()))?;
            print(&format!("{} requests of {days} days are in {}", entries.len(), path.display()))
        }
        Command::Traffic { file, url, every_seconds } => {
            let traffic: TrafficFile = read(&file)?;
            traffic::run(&client()?, &url, &traffic.ask, Duration::from_secs(every_seconds)).await
        }
    }
}

/// Sets the fault of one stand-in, and says what it is now.
async fn set_fault(name: &str, fault: &str, control: SocketAddr) -> anyhow::Result<()> {
    let response = client()?.post(format!("http://{control}/{name}/{fault}")).send().await?;
    let status = response.status();
    let text = response.text().await?;
    if !status.is_success() {
        return Err(anyhow!("{text}"));
    }
    let reports: Vec<StandInReport> = serde_json::from_str(&text)?;
    let shown = reports
        .iter()
        .filter(|report| report.name == name)
        .map(|report| Ok(format!("{}: {}", report.name, serde_json::to_string(&report.fault)?)));
    print(&shown.collect::<Result<Vec<_>, serde_json::Error>>()?.join("\n"))
}

fn read<T: serde::de::DeserializeOwned>(path: &Path) -> anyhow::Result<T> {
    let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    toml::from_str(&text).with_context(|| path.display().to_string())
}

fn client() -> anyhow::Result<reqwest::Client> {
    Ok(reqwest::Client::builder().no_proxy().build()?)
}

fn print(text: &str) -> anyhow::Result<()> {
    writeln!(std::io::stdout(), "{text}")?;
    Ok(())
}
