//! Whoever has no key, all at once: sign-ins, bodies that come in drops, made-up keys, connections that say nothing, while a team asks on.

use std::time::{Duration, Instant};

use reqwest::Client;
use serde_json::json;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use wendor_core::catalog::key::{KeyKind, KeyText};
use wendor_e2e::ferry::{Ferry, question};
use wendor_e2e::waiting::until;

use super::{is_full, of, tell};

/// Requests of the team, one after the other, for so long; how long each took.
async fn asked(ferry: &Ferry, time: Duration) -> Vec<Duration> {
    let http = Client::builder().no_proxy().build().unwrap();
    let (mut took, over) = (Vec::new(), Instant::now() + time);
    while Instant::now() < over {
        let begun = Instant::now();
        let ask = http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        let answer = ask.json(&question("night-sailings", took.len() % 2 == 0)).send().await.unwrap();
        assert_eq!(answer.status(), 200);
        answer.text().await.unwrap();
        took.push(begun.elapsed());
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    took.sort_unstable();
    took
}

fn p99(took: &[Duration]) -> Duration {
    took[(took.len() * 99 / 100).min(took.len() - 1)]
}

/// Memory of the service's process, in megabytes.
fn memory(ferry: &Ferry) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", ferry.service.pid())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.trim().trim_end_matches(" kB").parse::<u64>().unwrap() / 1024
}

async fn silent(ferry: &Ferry) -> TcpStream {
    TcpStream::connect(ferry.service.url.trim_start_matches("http://")).await.unwrap()
}

/// A sign-in whose body does not go on.
async fn slow_body(ferry: &Ferry, number: usize) -> Option<TcpStream> {
    let mut stream = silent(ferry).await;
    let (path, key) = match number % 2 {
        0 => ("/manage/v1/sign-in", String::new()),
        _ => ("/v1/chat/completions", format!("authorization: Bearer {}\r\n", ferry.key)),
    };
    let head = format!(
        "POST {path} HTTP/1.1\r\nhost: x\r\n{key}content-type: application/json\r\ncontent-length: 60000\r\n\r\n"
    );
    stream.write_all(head.as_bytes()).await.ok()?;
    stream.write_all(&[b' '; 500]).await.ok()?;
    Some(stream)
}

fn made_up(number: u32) -> String {
    let bytes = std::array::from_fn(|at| number.to_be_bytes()[at % 4] ^ u8::try_from(at).unwrap());
    KeyText::mint(KeyKind::App, &bytes).0.expose().to_owned()
}

/// All of it at once, until `over`. Gives how many of each there were.
async fn noise(ferry: &Ferry, http: &Client, over: Instant) -> [usize; 3] {
    let (sign_ins, slow, keys) = (of(40, 200), of(100, 1_000), of(1_000, 10_000));
    let mut signing = JoinSet::new();
    for _ in 0..sign_ins {
        let body = json!({ "name": "harbour-master", "password": "a guess of somebody" });
        let call = http.post(ferry.manage("/sign-in")).json(&body);
        signing.spawn(async move { call.send().await.map(|answer| answer.status().as_u16()) });
    }
    let mut held = Vec::new();
    for number in 0..slow {
        held.extend(slow_body(ferry, number).await);
    }
    for _ in 0..of(20, 100) {
        held.push(silent(ferry).await);
    }
    // Spread over the time that there is: what counts is that there are so many.
    let pause = over.saturating_duration_since(Instant::now()).mul_f64(0.8) / keys;
    let mut asking = JoinSet::new();
    for number in 0..keys {
        let call = http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(made_up(number));
        let call = call.json(&question("night-sailings", false));
        asking.spawn(async move { call.send().await.map(|answer| answer.status().as_u16()) });
        tokio::time::sleep(pause).await;
        while let Some(status) = asking.try_join_next() {
            assert_eq!(status.unwrap().unwrap(), 401);
        }
    }
    let mut answered = 0;
    while let Some(status) = signing.join_next().await {
        let status = status.unwrap().unwrap();
        assert!([401, 429].contains(&status), "{status}");
        answered += 1;
    }
    while let Some(status) = asking.join_next().await {
        assert_eq!(status.unwrap().unwrap(), 401);
    }
    tokio::time::sleep(over.saturating_duration_since(Instant::now())).await;
    [answered, held.len(), keys as usize]
}

#[tokio::test]
async fn whoever_stands_at_the_gates_takes_nothing_from_those_inside() {
    let ferry = Ferry::begin().await;
    let http = Client::builder().no_proxy().pool_max_idle_per_host(50).build().unwrap();
    let time = of(Duration::from_secs(3), Duration::from_secs(30));
    asked(&ferry, of(Duration::from_secs(1), Duration::from_secs(5))).await;
    let before = p99(&asked(&ferry, time).await);
    // A real refusal, which nobody's noise may hide.
    assert_eq!(ferry.ask(&question("nowhere", false)).await.status(), 404);
    let memory_before = memory(&ferry);
    let over = Instant::now() + time;
    let ([sign_ins, held, keys], took) = tokio::join!(noise(&ferry, &http, over), asked(&ferry, time));
    let (during, grown) = (p99(&took), memory(&ferry).saturating_sub(memory_before));
    tell(&format!(
        "{sign_ins} sign-ins, {held} connections held, {keys} made-up keys; p99 of {} requests {during:?}, before {before:?}; memory +{grown} MB",
        took.len()
    ));
    let refusal = until("Now to show the real refusal", || async {
        let now = ferry.get("/now").await.to_string();
        let refusals = ferry.get("/refusals").await;
        let counted = refusals["counts"].as_array().unwrap().iter().any(|count| count["wanted"] == "nowhere");
        (counted && now.contains("nowhere")).then_some(now)
    })
    .await;
    assert!(!refusal.is_empty());
    assert!(grown <= 100, "memory grew by {grown} MB");
    // Times are for the full drill alone, on a machine that does nothing else.
    if is_full() {
        assert!(during <= 2 * before, "p99 went from {before:?} to {during:?}");
    }
}
