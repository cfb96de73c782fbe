//! Two own servers die under load, come back, flap, and one becomes slow, while a hosted one is well. Everything that is judged, and the
//! chart, comes from what Wendor has recorded.

use std::time::Duration;

use chrono::{DateTime, Utc};
use serde_json::Value;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep, sleep_until};
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_standins::fault::Fault;
use wendor_standins::server::{Profile, StandIn};

use super::chart::chart;
use super::{is_full, of, tell};

const A_SECOND: u64 = 50;

/// From mending on, the shares must be as before within this time.
const BACK_WITHIN: f64 = 30.0;

fn own(name: &str) -> Profile {
    Profile {
        first_token_ms: (40, 80),
        tokens_per_second: 200,
        answer_tokens: (10, 20),
        ..Profile::quick(name, &["dunlin-70b"])
    }
}

/// One request as it stands on the record.
pub(super) struct Line {
    pub(super) at: DateTime<Utc>,
    pub(super) upstream: String,
    pub(super) attempts: u64,
    failed: bool,
    pub(super) first_token_ms: Option<u64>,
    /// From the attempt that answered.
    own_first_token_ms: Option<u64>,
}

fn line_of(line: &Value) -> Line {
    let number = |name: &str| line[name].as_u64();
    let offer = line["offer"].as_str().unwrap_or_default();
    let end = line["end"].as_str().unwrap();
    // A stream that had begun when its server died cannot be served by another; its app was told.
    let was_cut = end == "cut-off" && line["first_token_ms"].is_u64();
    Line {
        at: line["at"].as_str().unwrap().parse().unwrap(),
        upstream: offer.split('/').next().unwrap_or_default().to_owned(),
        attempts: number("attempts").unwrap(),
        failed: !matches!(end, "proper" | "output-cap") && !was_cut,
        first_token_ms: number("first_token_ms"),
        own_first_token_ms: number("first_token_ms").zip(number("answering_ms")).map(|(first, began)| first - began),
    }
}

/// Everything that was recorded, the oldest first.
async fn recorded(ferry: &Ferry) -> Vec<Line> {
    ferry.drained().await;
    let (mut lines, mut after) = (Vec::new(), String::new());
    loop {
        let page = ferry.get(&format!("/requests?limit=1000{after}")).await;
        lines.extend(page["requests"].as_array().unwrap().iter().map(line_of));
        match page["next"].as_str() {
            Some(next) => after = format!("&after={}", next.replace('+', "%2B")),
            None => break,
        }
    }
    lines.reverse();
    lines
}

/// Asks so many times a second until `over`, streamed and whole in turns. Gives how many there were.
async fn load(ferry: &Ferry, over: Instant) -> u64 {
    let mut asking = JoinSet::new();
    let (begun, mut count) = (Instant::now(), 0);
    while Instant::now() < over {
        let url = format!("{}/v1/chat/completions", ferry.service.url);
        let mut body = question("night-sailings", count % 4 != 0);
        body["messages"][0]["content"] = format!("When is sailing {count}?").into();
        let ask = ferry.http.post(url).bearer_auth(&ferry.key).json(&body);
        asking.spawn(async move {
            // A stream that is cut is told in it; what is judged is on the record.
            let _told = ask.send().await.expect("the service answers").text().await;
        });
        count += 1;
        while asking.try_join_next().is_some() {}
        sleep_until(begun + Duration::from_millis(count * 1_000 / A_SECOND)).await;
    }
    while let Some(ended) = asking.join_next().await {
        ended.unwrap();
    }
    count
}

pub(super) struct Event {
    pub(super) at: DateTime<Utc>,
    pub(super) says: &'static str,
    /// Whether all is well from then on.
    mends: bool,
}

async fn events(ferry: &Ferry, second: &StandIn) -> Vec<Event> {
    let long = |seconds: u64| Duration::from_millis(seconds * of(400, 1_000));
    let mut events = Vec::new();
    let mut note = |says, mends| events.push(Event { at: Utc::now(), says, mends });
    sleep(long(12)).await;
    note("both own servers die", false);
    ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
    second.set_fault(Fault::Refuse).await.unwrap();
    sleep(long(20)).await;
    note("both come back", true);
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    second.set_fault(Fault::None).await.unwrap();
    sleep(long(40)).await;
    note("quayside flaps", false);
    for _ in 0..5 {
        ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
        sleep(long(2)).await;
        ferry.quayside.set_fault(Fault::None).await.unwrap();
        sleep(long(2)).await;
    }
    note("quayside is mended", true);
    sleep(long(40)).await;
    note("quayside-b is slow", false);
    second.set_fault(Fault::Slow { millis: 3_000, percent: 100 }).await.unwrap();
    sleep(long(20)).await;
    note("quayside-b is quick again", true);
    second.set_fault(Fault::None).await.unwrap();
    sleep(long(45)).await;
    events
}

/// What 99 of 100 do not pass; of the short form, in which as many meet a slow server and few others follow, what 97 do not.
fn slow_of(mut times: Vec<u64>) -> u64 {
    times.sort_unstable();
    times.get((times.len() * of(97, 99) / 100).min(times.len().saturating_sub(1))).copied().unwrap_or(0)
}

pub(super) fn seconds(from: DateTime<Utc>, to: DateTime<Utc>) -> f64 {
    (to - from).as_seconds_f64()
}

/// After how many seconds from `mended` on both own servers have a third of the requests each, over three seconds.
fn back_after(lines: &[Line], mended: DateTime<Utc>) -> Option<f64> {
    (0..400).map(|tenth| f64::from(tenth) / 10.0).find(|start| {
        let within = lines.iter().filter(|line| (*start..start + 3.0).contains(&seconds(mended, line.at)));
        let upstreams: Vec<&str> = within.map(|line| line.upstream.as_str()).collect();
        let count = |name: &str| upstreams.iter().filter(|upstream| **upstream == name).count();
        upstreams.len() > 30 && [count("quayside"), count("quayside-b")].iter().all(|own| own * 3 >= upstreams.len())
    })
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn outage() {
    let second = StandIn::start(Profile { seed: 5, ..own("quayside-b") }).await.unwrap();
    let more = format!(
        "[upstreams.quayside-b]\naddress = \"http://{}\"\nhosting = \"own\"\nstreams = 400\n\
         offers.dunlin-70b = {{ output_cap = 100 }}\n",
        second.address()
    );
    let wishes = Wishes { quayside: Some(own("quayside")), patience: Some("5s"), more, ..Wishes::default() };
    let ferry = Ferry::with(Wishes { more: wishes.more.clone(), ..wishes }).await;
    let both = ferry.get("/catalogue").await["text"].as_str().unwrap().replacen(
        "offers = [\"quayside/dunlin-70b\"], pick = \"room\"",
        "offers = [\"quayside/dunlin-70b\", \"quayside-b/dunlin-70b\"], pick = \"share\"",
        usize::MAX,
    );
    assert!(both.contains("quayside-b/dunlin-70b\"]"), "{both}");
    ferry.apply(&both).await;
    let whole = of(72, 197);
    let over = Instant::now() + Duration::from_secs(whole);
    let (asked, events) = tokio::join!(load(&ferry, over), events(&ferry, &second));
    let lines = recorded(&ferry).await;
    assert_eq!(lines.len() as u64, asked, "every request is on the record");
    if let Ok(path) = std::env::var("WENDOR_CHART") {
        std::fs::write(path, chart(&lines, &events)).unwrap();
    }

    let failed = lines.iter().filter(|line| line.failed).count();
    let attempts: u64 = lines.iter().map(|line| line.attempts).sum();
    let is_outage =
        |line: &&Line| events.iter().rev().find(|event| event.at <= line.at).is_some_and(|event| !event.mends);
    let during = slow_of(lines.iter().filter(is_outage).filter_map(|line| line.first_token_ms).collect());
    let healthy =
        lines.iter().filter(is_outage).filter(|line| line.upstream == "quarry" || line.upstream == "quayside");
    let healthy = slow_of(healthy.filter_map(|line| line.own_first_token_ms).collect());
    let back: Vec<Option<f64>> =
        events.iter().filter(|event| event.mends).map(|event| back_after(&lines, event.at)).collect();
    tell(&format!(
        "{asked} requests, {failed} failed; {attempts} attempts; first token of 99 in 100 (97 in the short form) {during} ms in trouble, {healthy} ms of what was \
         well; back to shares after {back:?} s"
    ));
    assert_eq!(failed, 0, "no request fails that a healthy offer could have served");
    assert!(attempts * 4 <= asked * 5, "{attempts} attempts of {asked} requests");
    if is_full() {
        assert!(during * 2 <= healthy * 3, "first token {during} ms in trouble, {healthy} ms of what was well");
    }
    assert!(back.iter().all(|after| after.is_some_and(|after| after <= BACK_WITHIN)), "{back:?}");
}
