//! What is measured, each with its bar: the gateways in turn, round after round, rounds that the machine spoilt left out.

use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

use anyhow::{Context, anyhow};
use bytes::Bytes;
use serde_json::json;
use wendor_core::catalog::key::{KeyKind, KeyText, RANDOM_BYTES};
use wendor_standins::server::Profile;

use crate::kernel::{self, Counted};
use crate::load::{self, Held, Target};
use crate::machine::{Ticks, cpu_us, resident_kb};
use crate::setup::{BATCH, Setup, Way};
use crate::verdict::{Against, Found, median};
use crate::{budget, report};

/// Rounds in which the host took more than this of the machine are left out.
const MOST_STOLEN: f64 = 0.05;

/// Rounds tried for each that is wanted, and how long a machine that is taken is left alone.
const MOST_TRIES: usize = 8;
const AFTER_A_SPOILT_ROUND: Duration = Duration::from_secs(5);

/// Connections that send whole requests.
const CONNECTIONS: usize = 32;

/// Answers of a round at one connection.
const ANSWERS: usize = 1_500;

/// How long a round of whole requests takes.
const WHOLE_TIME: Duration = Duration::from_secs(4);

/// Streams at once of the measure by event, and the events of each.
const STREAMS: usize = 100;
const EVENTS_A_STREAM: usize = 600;

/// How long memory is left to settle before it is read.
const SETTLING: Duration = Duration::from_secs(4);

/// What the end of an answer is measured with, and what may be added to it in milliseconds.
const ENDS: [(&str, &str, f64); 3] = [
    ("added to a whole answer at one connection, p50", BATCH, 0.3),
    // What a disk takes to write is the disk's: no bar.
    ("the same, `spool_sync = always`", "always", f64::INFINITY),
    ("the same, `spool_sync = never`", "never", 0.3),
];

/// Everything, or what is called `only`.
pub async fn all(rounds: usize, only: Option<&str>) -> anyhow::Result<Vec<Found>> {
    let (mut names, mut measured) = (Vec::new(), Vec::new());
    let mut wanted = |name: &'static str| {
        names.push(name);
        only.is_none_or(|only| name.contains(only))
    };
    if wanted("request") {
        keep(&mut measured, [whole_request("CPU of a whole request", BATCH, rounds).await?]);
        keep(&mut measured, [whole_request("the same, `spool_sync = always`", "always", rounds).await?]);
    }
    if wanted("refusal") {
        keep(&mut measured, [refusal(rounds).await?]);
    }
    if wanted("end") {
        for (name, sync, bar) in ENDS {
            keep(&mut measured, [end_of_answer(name, sync, rounds, bar).await?]);
        }
    }
    if wanted("event") {
        keep(&mut measured, [streamed_event(rounds).await?]);
    }
    if wanted("translated") {
        keep(&mut measured, [translated_event(rounds).await?]);
    }
    if wanted("stream-memory") {
        keep(&mut measured, [memory_of_a_stream(rounds).await?]);
    }
    if wanted("body-memory") {
        keep(&mut measured, [memory_of_bodies(rounds).await?]);
    }
    if wanted("first-token") {
        keep(&mut measured, first_token(rounds).await?);
    }
    if wanted("large-catalogue") {
        keep(&mut measured, crate::large::measure(rounds).await?);
    }
    if wanted("after-close") {
        keep(&mut measured, [after_close().await?]);
    }
    if wanted("now") {
        keep(&mut measured, [crate::now::measure(rounds).await?]);
    }
    anyhow::ensure!(
        !measured.is_empty(),
        "no measure's name holds `{}`: {}",
        only.unwrap_or_default(),
        names.join(", ")
    );
    Ok(measured)
}

/// Keeps what was found, and says it at once: a run takes minutes.
fn keep(all: &mut Vec<Found>, new: impl IntoIterator<Item = Found>) {
    for found in new {
        eprintln!("  {}", report::line(&found));
        all.push(found);
    }
}

/// Answers of so many tokens, at that pace.
pub fn profile_of(tokens: usize, tokens_per_second: u32, first_token_ms: u64) -> Profile {
    let quick = Profile::quick("quayside", &["dunlin-70b"]);
    Profile {
        answer_tokens: (tokens, tokens),
        tokens_per_second,
        first_token_ms: (first_token_ms, first_token_ms),
        ..quick
    }
}

/// What apps ask, on that way.
pub fn target(setup: &Setup, way: Way, streamed: bool, padding: usize) -> anyhow::Result<Target> {
    let content = format!("When does the last boat to Stack Isle leave on Sundays? {}", "x".repeat(padding));
    let body = json!({
        "model": Setup::model(way), "stream": streamed, "temperature": 0.2,
        "messages": [{ "role": "system", "content": "You answer for Tern Isles Ferries, briefly and with times of day." },
                     { "role": "user", "content": content }],
    });
    Ok(Target {
        address: setup.address(way)?,
        key: setup.ferry.key.clone(),
        path: "/v1/chat/completions",
        end: "data: [DONE]\n\n",
        body: Bytes::from(body.to_string()),
        status: 200,
    })
}

/// The same question in the words of messages, which the stand-in does not speak.
fn translated_target(setup: &Setup) -> anyhow::Result<Target> {
    let body = json!({
        "model": Setup::model(Way::Wendor), "stream": true, "temperature": 0.2, "max_tokens": 4_096,
        "system": "You answer for Tern Isles Ferries, briefly and with times of day.",
        "messages": [{ "role": "user", "content": "When does the last boat to Stack Isle leave on Sundays?" }],
    });
    let passed = target(setup, Way::Wendor, true, 0)?;
    let end = "data: {\"type\":\"message_stop\"}\n\n";
    Ok(Target { path: "/v1/messages", end, body: Bytes::from(body.to_string()), ..passed })
}

/// Runs rounds until enough are valid; gives what each found.
pub async fn valid<T, F: Future<Output = anyhow::Result<T>>>(
    rounds: usize,
    mut round: impl FnMut() -> F,
) -> anyhow::Result<Vec<T>> {
    let mut measured = Vec::new();
    for _ in 0..rounds * MOST_TRIES {
        let ticks = Ticks::now()?;
        let one = round().await?;
        let stolen = ticks.stolen_since()?;
        if stolen > MOST_STOLEN {
            eprintln!("  a round is left out: {:.0}% of the machine was taken by its host", stolen * 100.0);
            tokio::time::sleep(AFTER_A_SPOILT_ROUND).await;
            continue;
        }
        measured.push(one);
        if measured.len() == rounds {
            return Ok(measured);
        }
    }
    Err(anyhow!("the machine is too busy: only {} of {rounds} rounds were valid", measured.len()))
}

/// A ratio from rounds of both ways.
pub fn compared(name: &'static str, unit: &'static str, pairs: &[(f64, f64)], bar: f64) -> Found {
    let (plain, wendor): (Vec<f64>, Vec<f64>) = pairs.iter().copied().unzip();
    let rounds = pairs.iter().map(|(plain, wendor)| wendor / plain).collect();
    Found { name, unit, plain: Some(median(&plain)), wendor: median(&wendor), rounds, against: Against::Ratio, bar }
}

/// CPU of `work` by the process of `way`, with what it has left to do afterwards.
pub async fn cpu_of(setup: &Setup, way: Way, work: impl Future<Output = anyhow::Result<u64>>) -> anyhow::Result<f64> {
    let process = setup.process(way)?;
    let before = cpu_us(process)?;
    let count = work.await?;
    if way == Way::Wendor {
        // Metering is part of the work: it is done when the database has the last entry.
        setup.ferry.drained().await;
    }
    let used = cpu_us(process)? - before;
    let count = u32::try_from(count)?;
    Ok(used / f64::from(count.max(1)))
}

/// What a whole answer takes longer through a gateway, where nothing else is asked at the time.
async fn end_of_answer(name: &'static str, sync: &str, rounds: usize, bar: f64) -> anyhow::Result<Found> {
    eprintln!("Added to a whole answer, spool_sync = {sync} ...");
    let setup = Setup::syncing(profile_of(40, 0, 0), sync).await?;
    let one = |way: Way| {
        let target = target(&setup, way, false, 0);
        async move {
            let waits = load::whole_waits(&target?, ANSWERS).await?;
            anyhow::Ok(waits.get(waits.len() / 2).context("no answer")?.as_secs_f64() * 1_000.0)
        }
    };
    one(Way::Wendor).await?;
    let measured =
        valid(rounds, || async { Ok((one(Way::Direct).await?, one(Way::Plain).await?, one(Way::Wendor).await?)) })
            .await?;
    let rounds: Vec<f64> = measured.iter().map(|(direct, _, wendor)| wendor - direct).collect();
    let plain: Vec<f64> = measured.iter().map(|(direct, plain, _)| plain - direct).collect();
    let (plain, wendor) = (Some(median(&plain)), median(&rounds));
    Ok(Found { name, unit: "ms", plain, wendor, rounds, against: Against::Value, bar })
}

async fn whole_request(name: &'static str, sync: &str, rounds: usize) -> anyhow::Result<Found> {
    eprintln!("CPU of a whole request, spool_sync = {sync} ...");
    let setup = Setup::syncing(profile_of(40, 0, 0), sync).await?;
    let one = |way: Way, time: Duration| {
        let (setup, target) = (&setup, target(&setup, way, false, 0));
        async move {
            let target = target?;
            cpu_of(setup, way, load::whole_for(&target, CONNECTIONS, time)).await
        }
    };
    for way in [Way::Plain, Way::Wendor] {
        one(way, Duration::from_secs(2)).await?;
    }
    let pairs =
        valid(rounds, || async { Ok((one(Way::Plain, WHOLE_TIME).await?, one(Way::Wendor, WHOLE_TIME).await?)) })
            .await?;
    Ok(compared(name, "us", &pairs, 2.0))
}

/// What a refusal of a key that nobody issued takes beyond the cheapest answer there is.
async fn refusal(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("CPU of a refusal ...");
    let setup = Setup::begin(profile_of(40, 0, 0)).await?;
    let asked = target(&setup, Way::Wendor, false, 0)?;
    let (unknown, _) = KeyText::mint(KeyKind::App, &[7; RANDOM_BYTES]);
    let refused = Target { key: unknown.expose().to_owned(), status: 401, ..asked.clone() };
    let alive = Target { path: "/livez", body: Bytes::new(), ..asked };
    let one =
        async |target: &Target| cpu_of(&setup, Way::Wendor, load::whole_for(target, CONNECTIONS, WHOLE_TIME)).await;
    one(&refused).await?;
    let pairs = valid(rounds, || async { Ok((one(&alive).await?, one(&refused).await?)) }).await?;
    let (alive, refused): (Vec<f64>, Vec<f64>) = pairs.iter().copied().unzip();
    Ok(Found {
        name: "CPU of a refusal of an unknown key, beyond `/livez`",
        unit: "us",
        plain: Some(median(&alive)),
        wendor: median(&refused),
        rounds: pairs.iter().map(|(alive, refused)| refused - alive).collect(),
        against: Against::Value,
        bar: 20.0,
    })
}

async fn streamed_event(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("CPU of a streamed event ...");
    let setup = Setup::begin(profile_of(EVENTS_A_STREAM, 200, 0)).await?;
    let one = |way: Way| {
        let (setup, target) = (&setup, target(&setup, way, true, 0));
        async move {
            let target = target?;
            cpu_of(setup, way, load::streams(&target, STREAMS, EVENTS_A_STREAM)).await
        }
    };
    for way in [Way::Plain, Way::Wendor] {
        one(way).await?;
    }
    let pairs = valid(rounds, || async { Ok((one(Way::Plain).await?, one(Way::Wendor).await?)) }).await?;
    Ok(compared("CPU of a streamed event", "us", &pairs, 1.2))
}

/// A translated event beside one that passes, both through Wendor.
async fn translated_event(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("CPU of a translated event ...");
    let setup = Setup::begin(profile_of(EVENTS_A_STREAM, 200, 0)).await?;
    let (passed, translated) = (target(&setup, Way::Wendor, true, 0)?, translated_target(&setup)?);
    let one =
        async |target: &Target| cpu_of(&setup, Way::Wendor, load::streams(target, STREAMS, EVENTS_A_STREAM)).await;
    one(&passed).await?;
    one(&translated).await?;
    let pairs = valid(rounds, || async { Ok((one(&passed).await?, one(&translated).await?)) }).await?;
    Ok(compared("CPU of a translated event, beside a passed one", "us", &pairs, 1.5))
}

/// Memory that `count` held requests take, in kilobytes, in a fresh process.
async fn memory_held(
    profile: Profile,
    way: Way,
    count: usize,
    held: Held,
    padding: usize,
) -> anyhow::Result<(f64, f64)> {
    let setup = Setup::begin(profile).await?;
    let process = setup.process(way)?;
    let streamed = matches!(held, Held::Stream);
    // The first requests fill caches that stay.
    let warm = target(&setup, way, streamed, 0)?;
    drop(load::held(&warm, 8, held).await?);
    tokio::time::sleep(Duration::from_secs(1)).await;
    let before = resident_kb(process)?;
    let open = load::held(&target(&setup, way, streamed, padding)?, count, held).await?;
    tokio::time::sleep(SETTLING).await;
    let during = resident_kb(process)?;
    drop(open);
    Ok((before, during))
}

async fn memory_of_a_stream(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("Memory of an open stream ...");
    let one = async |way: Way| {
        let (before, during) = memory_held(profile_of(600, 1, 0), way, 500, Held::Stream, 0).await?;
        anyhow::Ok((during - before) / 500.0)
    };
    let pairs = valid(rounds.min(3), || async { Ok((one(Way::Plain).await?, one(Way::Wendor).await?)) }).await?;
    Ok(compared("memory of an open stream", "KB", &pairs, 1.5))
}

async fn memory_of_bodies(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("Memory with 500 bodies of 100 KB ...");
    let one = async |way: Way| {
        let (_, during) = memory_held(profile_of(10, 0, 8_000), way, 500, Held::Whole, 100_000).await?;
        anyhow::Ok(during / 1_024.0)
    };
    let pairs = valid(rounds.min(3), || async { Ok((one(Way::Plain).await?, one(Way::Wendor).await?)) }).await?;
    Ok(compared("memory while 500 requests of 100 KB are answered", "MB", &pairs, 2.0))
}

async fn first_token(rounds: usize) -> anyhow::Result<Vec<Found>> {
    eprintln!("Added time to a first token ...");
    let setup = Setup::begin(profile_of(8, 0, 0)).await?;
    // Half of what it can do, found out first.
    let wendor = target(&setup, Way::Wendor, true, 0)?;
    let time = Duration::from_secs(2);
    let most = load::whole_for(&wendor, CONNECTIONS, time).await?;
    setup.ferry.drained().await;
    let each = time * 2 / u32::try_from(most)?.max(1);
    eprintln!("  one each {each:?}, half of what it can do");
    let one = |way: Way| {
        let target = target(&setup, way, true, 0);
        async move {
            let waits = load::first_tokens(&target?, each, Duration::from_secs(6)).await?;
            let at = |part: usize| {
                waits.get((waits.len() * part / 1_000).min(waits.len().saturating_sub(1))).map(Duration::as_secs_f64)
            };
            anyhow::Ok((at(500).context("no stream")? * 1_000.0, at(990).context("no stream")? * 1_000.0))
        }
    };
    one(Way::Wendor).await?;
    let measured =
        valid(rounds, || async { Ok((one(Way::Direct).await?, one(Way::Plain).await?, one(Way::Wendor).await?)) })
            .await?;
    let added = |name, bar, pick: fn(&(f64, f64)) -> f64| {
        let rounds: Vec<f64> = measured.iter().map(|(direct, _, wendor)| pick(wendor) - pick(direct)).collect();
        let plain: Vec<f64> = measured.iter().map(|(direct, plain, _)| pick(plain) - pick(direct)).collect();
        Found {
            name,
            unit: "ms",
            plain: Some(median(&plain)),
            wendor: median(&rounds),
            rounds,
            against: Against::Value,
            bar,
        }
    };
    Ok(vec![
        added("added to a first token, p50", 0.3, |waits| waits.0),
        added("added to a first token, p99", 1.0, |waits| waits.1),
    ])
}

async fn after_close() -> anyhow::Result<Found> {
    eprintln!("Memory after 2,000 streams have closed ...");
    let setup = Setup::begin(profile_of(600, 1, 0)).await?;
    let process = setup.process(Way::Wendor)?;
    let target = target(&setup, Way::Wendor, true, 0)?;
    drop(load::held(&target, 8, Held::Stream).await?);
    tokio::time::sleep(Duration::from_secs(1)).await;
    let before = resident_kb(process)?;
    let open = load::held(&target, 2_000, Held::Stream).await?;
    tokio::time::sleep(SETTLING).await;
    let during = resident_kb(process)?;
    drop(open);
    tokio::time::sleep(Duration::from_secs(10)).await;
    let left = (resident_kb(process)? - before) / 1_024.0;
    eprintln!("  {:.0} MB before, {:.0} MB with them open", before / 1_024.0, during / 1_024.0);
    Ok(Found {
        name: "memory left 10 s after 2,000 streams closed",
        unit: "MB",
        plain: None,
        wendor: left,
        rounds: vec![left],
        against: Against::Value,
        bar: 20.0,
    })
}

/// System calls and switches of a whole request.
pub async fn counts() -> anyhow::Result<Vec<Counted>> {
    eprintln!("System calls of a whole request ...");
    let setup = Setup::begin(profile_of(40, 0, 0)).await?;
    kernel::measure(&setup, &target(&setup, Way::Wendor, false, 0)?).await
}

/// Where the time of a whole request goes: by step, in microseconds and in times of the plain proxy's whole request, and by thread.
pub async fn profile() -> anyhow::Result<()> {
    let setup = Setup::begin(profile_of(40, 0, 0)).await?;
    let plain = target(&setup, Way::Plain, false, 0)?;
    let plain_us = cpu_of(&setup, Way::Plain, load::whole_for(&plain, CONNECTIONS, WHOLE_TIME)).await?;
    let target = target(&setup, Way::Wendor, false, 0)?;
    load::whole_for(&target, CONNECTIONS, Duration::from_secs(2)).await?;
    let wendor_us = cpu_of(&setup, Way::Wendor, load::whole_for(&target, CONNECTIONS, WHOLE_TIME)).await?;
    let folder = tempfile::tempdir()?;
    let samples = folder.path().join("perf.data");
    // By what every build has for unwinding, so that what is shipped is what is looked at.
    let mut sampling = Command::new("perf")
        .args([
            "record",
            "-q",
            "-F",
            "797",
            "--call-graph",
            "dwarf,24000",
            "-p",
            &setup.process(Way::Wendor)?.to_string(),
            "-o",
        ])
        .arg(&samples)
        .args(["--", "sleep", "6"])
        .spawn()
        .context("perf is needed (Debian's linux-perf)")?;
    load::whole_for(&target, CONNECTIONS, Duration::from_secs(6)).await?;
    sampling.wait()?;
    let script = ["script", "--no-inline", "-F", "comm,ip,sym,dso", "-i"];
    let shown = Command::new("perf").args(script).arg(&samples).stderr(Stdio::null()).output()?;
    let shares = budget::shares(&String::from_utf8_lossy(&shown.stdout));
    report::print_budget(&shares, plain_us, wendor_us)?;
    let by_thread = ["report", "--stdio", "-q", "--no-children", "-g", "none", "--sort", "comm", "-i"];
    let shown = Command::new("perf").args(by_thread).arg(&samples).stderr(Stdio::null()).output()?;
    std::io::stdout().write_all(&shown.stdout)?;
    Ok(())
}
