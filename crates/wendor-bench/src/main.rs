//! `wendor-bench`: measures the service as it is used (keys, quotas, metering and spool on) beside a plain reverse proxy, against
//! the same stand-in, in interleaved rounds. `scripts/bench` does the set-up.
//!
//! - [`machine`]: what a process used, and whether the machine was ours
//! - [`setup`]: the installation and the proxy
//! - [`load`]: requests and streams
//! - [`measures`]: what is measured
//! - [`large`]: beside it a large catalogue
//! - [`now`]: how long the page Now takes
//! - [`reports`]: how long reports take over a large ledger, made up for it
//! - [`streams`]: very many streams at once, of the server of [`beats`]
//! - [`growth`]: how all of it grows, drawn by [`chart`]
//! - [`kernel`]: system calls of a request, and [`budget`]: where its time goes
//! - [`verdict`]: ratios, spreads, bars
//! - [`report`]: the table and the page

mod beats;
mod budget;
mod chart;
mod growth;
mod kernel;
mod large;
mod load;
mod machine;
mod measures;
mod now;
mod report;
mod reports;
mod setup;
mod streams;
mod verdict;

use std::path::PathBuf;

use clap::Parser;

/// Measures Wendor beside a plain reverse proxy in the same run.
#[derive(Debug, Parser)]
#[command(name = "wendor-bench", version)]
struct Bench {
    /// Valid rounds of each measure.
    #[arg(long, default_value_t = 5)]
    rounds: usize,
    /// Only the measures whose names hold this.
    #[arg(long)]
    only: Option<String>,
    /// Write the page here.
    #[arg(long)]
    page: Option<PathBuf>,
    /// Time reports over a ledger of so many millions of entries instead.
    #[arg(long)]
    reports: Option<u32>,
    /// Hold so many streams of one event a second open instead.
    #[arg(long)]
    streams: Option<usize>,
    /// Draw how it grows into this folder instead.
    #[arg(long)]
    growth: Option<PathBuf>,
    /// Say where the time of a whole request goes, step by step, instead of measuring.
    #[arg(long)]
    profile: bool,
    /// Count the system calls of a whole request instead of measuring.
    #[arg(long)]
    counts: bool,
}

fn main() -> anyhow::Result<()> {
    let options = Bench::parse();
    let _installed = rustls::crypto::ring::default_provider().install_default();
    machine::pin_all_but_gateways()?;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    runtime.block_on(async {
        if let Some(millions) = options.reports {
            return report::print(&reports::measure(millions * 1_000).await?);
        }
        if let Some(folder) = &options.growth {
            let streams = options.streams.unwrap_or(streams::MOST);
            return growth::measure(folder, options.only.as_deref().unwrap_or_default(), streams).await;
        }
        if let Some(count) = options.streams {
            return report::print(&streams::measure(count).await?);
        }
        if options.counts {
            return report::print_counts(&measures::counts().await?);
        }
        if options.profile {
            return measures::profile().await;
        }
        let measured = measures::all(options.rounds, options.only.as_deref()).await?;
        report::print(&measured)?;
        match &options.page {
            Some(page) => Ok(std::fs::write(page, report::page(&measured)?)?),
            None => Ok(()),
        }
    })
}
