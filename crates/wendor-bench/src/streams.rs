//! Very many streams open at once, an event a second each: whether any fails, how late events come, what memory it takes, and what comes of
//! all being closed by their server at once.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use anyhow::{Context, ensure};
use tokio::task::JoinSet;
use tokio::time::Instant;

use crate::beats::{BEAT, Beats, under_way};
use crate::load::{Client, Target};
use crate::machine::{cpu_us, open_files, resident_kb};
use crate::measures::target;
use crate::setup::{Setup, Way};
use crate::verdict::{Against, Found};

/// Streams opened a second.
const A_SECOND: u32 = 500;

/// Streams where nobody says how many: what a process may have that is given twenty thousand handles.
pub const MOST: usize = 9_800;

/// How long they are watched once all are open.
const WATCHED: Duration = Duration::from_secs(30);

/// Handles of this process that are no streams.
const OTHER_HANDLES: usize = 300;

/// How long the gateway is left alone before it is looked at what stays.
const LEFT_ALONE: Duration = Duration::from_secs(10);

/// How long the apps may take to learn that a stream is over.
const TOLD: Duration = Duration::from_secs(30);

/// What is seen of all streams.
#[derive(Default)]
struct Seen {
    /// Under way so long, in milliseconds, since it was last emptied.
    delays: Vec<f64>,
    /// Streams with their first event.
    open: usize,
    /// Streams that are over, with what they said.
    over: Vec<String>,
}

/// What holds them open.
struct Opened {
    seen: Arc<Mutex<Seen>>,
    streams: JoinSet<()>,
    /// Memory of the gateway at so many, in kilobytes.
    memory: Vec<(usize, f64)>,
}

/// A count as a figure.
pub fn figure(count: usize) -> f64 {
    u32::try_from(count).map_or(f64::INFINITY, f64::from)
}

/// At one of so many.
fn at_percent(sorted: &[f64], percent: usize) -> f64 {
    sorted.get((sorted.len() * percent / 100).min(sorted.len().saturating_sub(1))).copied().unwrap_or(f64::NAN)
}

async fn open(target: &Target, count: usize, process: u32) -> anyhow::Result<Opened> {
    let mut opened = Opened { seen: Arc::default(), streams: JoinSet::new(), memory: vec![(0, resident_kb(process)?)] };
    let begun = Instant::now();
    for number in 0..count {
        tokio::time::sleep_until(begun + Duration::from_secs(1) * u32::try_from(number)? / A_SECOND).await;
        let (target, seen) = (target.clone(), opened.seen.clone());
        opened.streams.spawn(async move {
            let mut events = 0;
            let watched = async {
                let mut client = Client::connect(&target).await?;
                client
                    .frames(|piece| {
                        let delays = under_way(piece);
                        let mut seen = seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                        seen.open += usize::from(events == 0 && !delays.is_empty());
                        events += delays.len();
                        seen.delays.extend(delays.iter().map(|delay| delay.as_secs_f64() * 1_000.0));
                    })
                    .await
            };
            let said =
                watched.await.map_or_else(|error: anyhow::Error| error.to_string(), |_last| "its end".to_owned());
            seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner).over.push(said);
        });
        if number % 1_000 == 999 {
            opened.memory.push((number + 1, resident_kb(process)?));
        }
    }
    let until = Instant::now() + TOLD;
    while opened.look(|seen| seen.open) < count {
        ensure!(Instant::now() < until, "only {} of {count} streams have begun", opened.look(|seen| seen.open));
        tokio::time::sleep(BEAT / 10).await;
    }
    Ok(opened)
}

impl Opened {
    /// Delays since this was last asked, sorted.
    fn delays(&self) -> Vec<f64> {
        let mut delays = self.look(|seen| std::mem::take(&mut seen.delays));
        delays.sort_by(f64::total_cmp);
        delays
    }

    fn look<T>(&self, look: impl FnOnce(&mut Seen) -> T) -> T {
        look(&mut self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner))
    }
}

/// What so many streams take, by the way of each gateway.
pub async fn measure(count: usize) -> anyhow::Result<Vec<Found>> {
    let most = (open_files()? - OTHER_HANDLES) / 2;
    ensure!(
        count <= most,
        "{count} streams take two handles each, and this system gives a process enough for {most} (ulimit -Hn)"
    );
    let mut found = Vec::new();
    let plain = one(Way::Plain, count).await?;
    let wendor = one(Way::Wendor, count).await?;
    let value = |name, unit, of: fn(&One) -> f64, bar| Found {
        name,
        unit,
        plain: Some(of(&plain)),
        wendor: of(&wendor),
        rounds: vec![of(&wendor)],
        against: Against::Value,
        bar,
    };
    found.push(value("streams that failed while they were open", "", |one| one.failed, 0.0));
    found.push(value("delay of an event, p50", "ms", |one| one.delay[0], f64::INFINITY));
    found.push(value("delay of an event, p99", "ms", |one| one.delay[1], 50.0));
    found.push(value("delay of an event while they are opened, p99", "ms", |one| one.delay[2], f64::INFINITY));
    found.push(value("CPU of a second of them, of one processor", "%", |one| one.cpu_percent, f64::INFINITY));
    found.push(value("memory of one", "KB", |one| one.memory_kb, 33.0));
    found.push(value("apps that were not told of the end", "", |one| one.not_told, 0.0));
    found.push(value("until all apps were told of it", "s", |one| one.told_s, f64::INFINITY));
    found.push(value("memory left 10 s after the end", "MB", |one| one.left_mb, f64::INFINITY));
    Ok(found)
}

/// What was seen of one way.
pub struct One {
    /// Memory of the gateway at so many open streams, in kilobytes.
    pub memory: Vec<(usize, f64)>,
    failed: f64,
    delay: [f64; 3],
    cpu_percent: f64,
    memory_kb: f64,
    not_told: f64,
    told_s: f64,
    left_mb: f64,
}

/// So many streams through one gateway.
pub async fn one(way: Way, count: usize) -> anyhow::Result<One> {
    eprintln!("{count} streams through {}, {A_SECOND} more a second ...", way.told());
    let server = Beats::start().await?;
    let setup = Setup::before(server.address()).await?;
    let (process, target) = (setup.process(way)?, target(&setup, way, true, 0)?);
    let mut opened = open(&target, count, process).await?;
    let opening = opened.delays();
    let cpu = cpu_us(process)?;
    tokio::time::sleep(WATCHED).await;
    let cpu_percent = (cpu_us(process)? - cpu) / WATCHED.as_secs_f64() / 10_000.0;
    let delays = opened.delays();
    let wanted = count * usize::try_from(WATCHED.as_secs())?;
    ensure!(delays.len() * 100 >= wanted * 97, "{} events came where {wanted} were to come", delays.len());
    let failed = opened.look(|seen| std::mem::take(&mut seen.over));
    if let Some(first) = failed.first() {
        eprintln!("  one of {} that failed: {first}", failed.len());
    }
    opened.memory.push((count, resident_kb(process)?));
    let ended = Instant::now();
    drop(server);
    let open = count - failed.len();
    while opened.look(|seen| seen.over.len()) < open && ended.elapsed() < TOLD {
        tokio::time::sleep(BEAT / 20).await;
    }
    let (told_s, told) = (ended.elapsed().as_secs_f64(), opened.look(|seen| seen.over.len()));
    drop(opened.streams);
    if way == Way::Wendor {
        all_are_recorded(&setup, count).await?;
    }
    tokio::time::sleep(LEFT_ALONE).await;
    let memory = opened.memory;
    let at = |place: Option<&(usize, f64)>| place.map(|(_, kb)| *kb).context("memory was looked at");
    let (before, during) = (at(memory.first())?, at(memory.last())?);
    Ok(One {
        memory,
        failed: figure(failed.len()),
        delay: [at_percent(&delays, 50), at_percent(&delays, 99), at_percent(&opening, 99)],
        cpu_percent,
        memory_kb: (during - before) / figure(count),
        not_told: figure(open - told),
        told_s,
        left_mb: (resident_kb(process)? - before) / 1_024.0,
    })
}

/// Every stream stands in the ledger.
async fn all_are_recorded(setup: &Setup, count: usize) -> anyhow::Result<()> {
    setup.ferry.drained().await;
    let today = chrono::Utc::now().date_naive();
    let (from, to) = (today - chrono::TimeDelta::days(1), today + chrono::TimeDelta::days(1));
    let usage = setup.ferry.get(&format!("/usage?by=team&from={from}T00:00:00Z&to={to}T00:00:00Z")).await;
    let all = &usage["together"];
    ensure!(all["requests"] == count, "of {count} streams stand in the ledger: {all}");
    Ok(())
}
