//! Room shared among teams and lanes under load, and a second attempt where first tokens are slow. Times are for the whole drill
//! alone, on a machine that does nothing else; the short form, which runs beside other tests, is held to counts.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::Relaxed};
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use serde_json::Value;
use tokio::task::JoinSet;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::Profile;

use super::{is_full, of, tell};

const LANE: &str = "wendor-lane";

async fn asked(ferry: &Ferry, key: &str, route: &str, lane: &str) -> String {
    let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(key);
    // Each its own question, so that not all take equally long.
    let mut body = question(route, true);
    body["messages"][0]["content"] = format!("When is sailing {}?", rand::random::<u32>()).into();
    let answer = ask.header(LANE, lane).json(&body).send().await.unwrap();
    let (status, id) = (answer.status(), header(&answer, "wendor-request-id"));
    let text = answer.text().await.unwrap();
    assert_eq!(status, 200, "{text}");
    id
}

async fn line(ferry: &Ferry, id: &str) -> Value {
    ferry.request(id).await["request"].clone()
}

fn quantile(mut values: Vec<u64>, permille: usize) -> u64 {
    values.sort_unstable();
    values[(values.len() * permille / 1_000).min(values.len() - 1)]
}

/// A server with so many streams, whose answers take about so long.
async fn ferry(streams: u32, millis: u64) -> (Ferry, String) {
    let quayside = Profile {
        first_token_ms: (millis / 2, millis),
        tokens_per_second: 400,
        ..Profile::quick("quayside", &["dunlin-70b"])
    };
    let wishes = Wishes {
        streams: Some(streams),
        patience: Some("60s"),
        room: Some("2m"),
        quayside: Some(quayside),
        ..Wishes::default()
    };
    let ferry = Ferry::with(wishes).await;
    let open = ferry.get("/catalogue").await["text"].as_str().unwrap().replace("routes = [\"night-sailings\"]", "");
    ferry.apply(&open.replace("streams = ", "queue = 400\nstreams = ")).await;
    let other = ferry.issue_key("freight-desk").await;
    (ferry, other)
}

/// What team B met with one of its requests.
struct Met {
    first_token_ms: u64,
    /// How many answers team A had meanwhile.
    answers_of_a: u64,
}

/// Team B asks one by one.
async fn one_by_one(ferry: &Ferry, key: &str, count: usize, answers_of_a: &AtomicUsize) -> Vec<Met> {
    let mut met = Vec::new();
    for _ in 0..count {
        let before = answers_of_a.load(Relaxed);
        let id = asked(ferry, key, "harbour", "interactive").await;
        let answers_of_a = (answers_of_a.load(Relaxed) - before) as u64;
        met.push(Met { first_token_ms: line(ferry, &id).await["first_token_ms"].as_u64().unwrap(), answers_of_a });
    }
    met
}

/// Team B asks so many times while team A asks for so many streams at a time.
async fn beside_a(ferry: &Ferry, key: &str, count: usize, at_once: usize) -> Vec<Met> {
    let (is_over, answers) = (AtomicBool::new(false), AtomicUsize::new(0));
    let of_a = join_all((0..at_once).map(async |_| {
        while !is_over.load(Relaxed) {
            asked(ferry, &ferry.key, "harbour", "interactive").await;
            answers.fetch_add(1, Relaxed);
        }
    }));
    let measured = async {
        until("A has its streams", || async { (streams(ferry).await >= at_once.min(7) as u64).then_some(()) }).await;
        let met = one_by_one(ferry, key, count, &answers).await;
        is_over.store(true, Relaxed);
        met
    };
    tokio::join!(of_a, measured).1
}

async fn streams(ferry: &Ferry) -> u64 {
    let upstreams = ferry.get("/upstreams").await;
    let quayside = upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quayside").unwrap();
    quayside["streams_open"].as_u64().unwrap()
}

#[tokio::test]
async fn fairness() {
    let (ferry, other) = ferry(8, 200).await;
    let count = of(12, 60);
    let half = beside_a(&ferry, &other, count, 4).await;
    let crowded = beside_a(&ferry, &other, count, 200).await;
    let typical = |met: &[Met]| quantile(met.iter().map(|met| met.first_token_ms).collect(), 500);
    let passed_by = quantile(crowded.iter().map(|met| met.answers_of_a).collect(), 500);
    let (half, crowded) = (typical(&half), typical(&crowded));
    tell(&format!(
        "B waits {crowded} ms for a first token beside 200 streams of A, {half} ms beside 4; A had {passed_by} answers meanwhile"
    ));
    // In turn with those who came before it, it would be passed by all 200.
    assert!(passed_by <= 50, "A had {passed_by} answers while B had one");
    if is_full() {
        assert!(crowded <= half * 2, "{crowded} ms beside 200 streams, {half} ms beside 4");
    }
}

/// Batch fills what is idle, and interactive requests hardly notice.
#[tokio::test]
async fn lanes() {
    const STREAMS: u32 = 32;
    // Long answers: what is measured is the room, and not how many requests a small machine can make.
    let (ferry, other) = ferry(STREAMS, 1_000).await;
    let time = Duration::from_secs(of(8, 40));
    let alone = interactive(&ferry, &other, time).await;
    let is_over = AtomicBool::new(false);
    let batch = join_all((0..40).map(async |_| {
        while !is_over.load(Relaxed) {
            asked(&ferry, &ferry.key, "harbour", "batch").await;
        }
    }));
    let used = async {
        let mut used = Vec::new();
        while !is_over.load(Relaxed) {
            used.push(streams(&ferry).await);
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        used
    };
    let beside = async {
        until("batch has filled it", || async { (streams(&ferry).await >= 28).then_some(()) }).await;
        // What began all at once ends all at once; some time later ends come one by one, as they do in use.
        interactive(&ferry, &other, Duration::from_secs(3)).await;
        let took = interactive(&ferry, &other, time).await;
        is_over.store(true, Relaxed);
        took
    };
    let (_, used, beside) = tokio::join!(batch, used, beside);
    let waited = beside.iter().filter(|line| line["waited_ms"].as_u64().unwrap() > 0).count();
    let (of_all, permille) = (beside.len(), 990);
    let slow = |lines: &[Value]| {
        quantile(lines.iter().map(|line| line["first_token_ms"].as_u64().unwrap()).collect(), permille)
    };
    let (alone, beside) = (slow(&alone), slow(&beside));
    let filled: u64 =
        used.iter().skip(5).sum::<u64>() * 100 / (used.len().saturating_sub(5) as u64 * u64::from(STREAMS));
    tell(&format!(
        "interactive {permille} of 1000 within {beside} ms beside batch, {alone} ms without; {waited} of {of_all} waited for room; {filled}% of the room used"
    ));
    // In one queue with batch every one of them would wait.
    assert!(waited * 4 <= of_all, "{waited} of {of_all} waited for room");
    if is_full() {
        assert!(
            beside * 10 <= alone * 11,
            "interactive {permille} of 1000 within {beside} ms beside batch, {alone} ms without"
        );
        assert!(filled >= 90, "{filled}% of the room used");
    }
}

/// Four at a time, for so long; what each stands in the ledger with.
async fn interactive(ferry: &Ferry, key: &str, time: Duration) -> Vec<Value> {
    let over = Instant::now() + time;
    let one = async || {
        let mut ids = Vec::new();
        while Instant::now() < over {
            ids.push(asked(ferry, key, "harbour", "interactive").await);
        }
        ids
    };
    let ids = join_all((0..4).map(|_| one())).await.concat();
    join_all(ids.iter().map(|id| line(ferry, id))).await
}

/// Requests from which it is known what is usual.
const USUAL: u64 = 20;

/// Of a hundred first tokens five are slow.
#[tokio::test]
async fn hedging() {
    let requests = of(300, 1_500);
    let permille = 990;
    let measure = async |hedges: bool| {
        let quayside = Profile { first_token_ms: (60, 120), ..Profile::quick("quayside", &["dunlin-70b"]) };
        let ferry = Ferry::with(Wishes { patience: Some("20s"), quayside: Some(quayside), ..Wishes::default() }).await;
        let plain = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
        let stage = "pick = \"room\", ";
        ferry
            .apply(&plain.replacen(stage, if hedges { "pick = \"room\", hedge = true, " } else { stage }, usize::MAX))
            .await;
        for _ in 0..USUAL {
            asked(&ferry, &ferry.key, "night-sailings", "interactive").await;
        }
        ferry.quayside.set_fault(Fault::Slow { millis: 3_000, percent: 5 }).await.unwrap();
        let mut asking = JoinSet::new();
        let begun = tokio::time::Instant::now();
        for number in 0..requests {
            let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
            let mut body = question("night-sailings", true);
            body["messages"][0]["content"] = format!("When is sailing {number}?").into();
            let ask = ask.json(&body);
            asking.spawn(async move { header(&ask.send().await.unwrap(), "wendor-request-id") });
            tokio::time::sleep_until(begun + Duration::from_millis(33 * (number + 1))).await;
        }
        let ids = asking.join_all().await;
        let lines = join_all(ids.iter().map(|id| line(&ferry, id))).await;
        let first: Vec<u64> = lines.iter().filter_map(|line| line["first_token_ms"].as_u64()).collect();
        let attempts: u64 = lines.iter().map(|line| line["attempts"].as_u64().unwrap()).sum();
        (quantile(first, permille), attempts)
    };
    let (without, _) = measure(false).await;
    let (with, attempts) = measure(true).await;
    tell(&format!(
        "first token {permille} of 1000 {with} ms hedged, {without} ms without; {attempts} attempts of {requests} requests"
    ));
    if is_full() {
        assert!(with * 2 <= without, "first token {permille} of 1000 {with} ms hedged, {without} ms without");
    }
    assert!(attempts > requests, "none was hedged");
    // Three and a twentieth of the requests, those before among them.
    let hedges_allowed = 3 + (requests + USUAL) / 20;
    assert!(attempts <= requests + hedges_allowed, "{attempts} attempts of {requests} requests");
}
