//! How it grows, as pictures: CPU with requests a second, memory with open streams, reports with the size of the ledger.

use std::path::Path;
use std::time::Duration;

use anyhow::Context;

use crate::chart::{Labels, Series, draw};
use crate::machine::cpu_us;
use crate::measures::{profile_of, target};
use crate::setup::{Setup, Way};
use crate::{load, reports, streams};

/// Connections with one request at a time each, from idle to saturated.
const CONNECTIONS: [usize; 8] = [1, 2, 3, 4, 8, 16, 32, 64];

/// How long each is held.
const TIME: Duration = Duration::from_secs(3);

/// Sizes of the ledger, in thousands of entries.
const THOUSANDS: [u32; 4] = [50, 200, 500, 1_250];

/// Reports of which the time is drawn.
const REPORTS: [&str; 6] =
    ["the page Now", "a month by team", "a month by key", "a month by route and day", "a day by label", "a day by run"];

/// Draws what holds `only` in its name into `folder`; memory with so many streams.
///
/// # Errors
/// When something does not run or a picture cannot be written.
pub async fn measure(folder: &Path, only: &str, count: usize) -> anyhow::Result<()> {
    let is_wanted = |name: &str| name.contains(only);
    let write = |name: &str, svg: String| {
        let path = folder.join(format!("growth-{name}.svg"));
        std::fs::write(&path, svg).with_context(|| format!("{} cannot be written", path.display()))
    };
    if is_wanted("cpu") {
        let labels = Labels {
            title: "CPU with requests a second (one processor for the gateway)",
            x: "whole requests a second",
            y: "% of a processor",
        };
        write("cpu", draw(labels, &[cpu(Way::Plain).await?, cpu(Way::Wendor).await?])?)?;
    }
    if is_wanted("memory") {
        let labels = Labels { title: "Memory with open streams", x: "open streams, an event a second each", y: "MB" };
        write("memory", draw(labels, &[memory(Way::Plain, count).await?, memory(Way::Wendor, count).await?])?)?;
    }
    if is_wanted("reports") {
        let labels = Labels {
            title: "Reports over a growing ledger (95 of 100 calls take less)",
            x: "millions of entries, of 1,000 keys over 62 days",
            y: "ms",
        };
        write("reports", draw(labels, &of_reports().await?)?)?;
    }
    Ok(())
}

async fn memory(way: Way, count: usize) -> anyhow::Result<Series> {
    let memory = streams::one(way, count).await?.memory;
    let points = memory.into_iter().map(|(open, kb)| (streams::figure(open), kb / 1_024.0)).collect();
    Ok(Series { name: way.told().to_owned(), points })
}

async fn of_reports() -> anyhow::Result<[Series; REPORTS.len()]> {
    let mut lines = REPORTS.map(|name| Series { name: name.to_owned(), points: Vec::new() });
    for thousands in THOUSANDS {
        let (found, millions) = (reports::measure(thousands).await?, f64::from(thousands) / 1_000.0);
        for line in &mut lines {
            line.points.extend(found.iter().filter(|one| one.name == line.name).map(|one| (millions, one.wendor)));
        }
    }
    Ok(lines)
}

async fn cpu(way: Way) -> anyhow::Result<Series> {
    eprintln!("CPU with requests a second through {} ...", way.told());
    let setup = Setup::begin(profile_of(40, 0, 0)).await?;
    let (process, target) = (setup.process(way)?, target(&setup, way, false, 0)?);
    load::whole_for(&target, 32, TIME).await?;
    let mut points = vec![(0.0, 0.0)];
    for connections in CONNECTIONS {
        let before = cpu_us(process)?;
        let answered = load::whole_for(&target, connections, TIME).await?;
        let seconds = TIME.as_secs_f64();
        let (rate, percent) =
            (f64::from(u32::try_from(answered)?) / seconds, (cpu_us(process)? - before) / seconds / 10_000.0);
        eprintln!("  {connections} connections: {rate:.0} a second, {percent:.0}% of a processor");
        points.push((rate, percent));
    }
    points.sort_by(|one, other| one.0.total_cmp(&other.0));
    Ok(Series { name: way.told().to_owned(), points })
}
