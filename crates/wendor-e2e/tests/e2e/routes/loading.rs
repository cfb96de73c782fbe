//! A server that loads its model: its stage holds the request or diverts it, nobody runs into it again and again, and cold starts are told.

use std::time::{Duration, Instant};

use futures_util::future::join_all;
use rstest::rstest;
use serde_json::Value;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::server::Profile;

fn loads_for(millis: u64) -> Wishes {
    let mut quayside = Profile::quick("quayside", &["dunlin-70b"]);
    quayside.manners.says_loading_ms = millis;
    Wishes { patience: Some("5s"), quayside: Some(quayside), ..Wishes::default() }
}

async fn asked(ferry: &Ferry, route: &str) -> (u16, String, String) {
    let answer = ferry.ask_with(&ferry.key, &question(route, true)).await;
    let (status, offer) = (answer.status().as_u16(), header(&answer, "wendor-offer"));
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    (status, offer, id)
}

async fn own_offer(ferry: &Ferry) -> Value {
    let upstreams = ferry.get("/upstreams").await;
    upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quayside").unwrap()["offers"][0].clone()
}

/// With another stage and nothing set it is diverted at once; with a time it is held for so long and then diverted.
#[rstest]
#[case::diverted_at_once(None, 60_000, "quarry/fulmar-large", 0)]
#[case::held_until_it_is_loaded(Some("5s"), 1_200, "quayside/dunlin-70b", 1_200)]
#[case::held_for_its_time(Some("800ms"), 60_000, "quarry/fulmar-large", 800)]
#[tokio::test]
async fn a_stage_holds_or_diverts(
    #[case] loading: Option<&str>,
    #[case] loads_ms: u64,
    #[case] offer: &str,
    #[case] least_ms: u128,
) {
    let wishes = loads_for(loads_ms);
    let mut ferry = Ferry::with(loads_for(loads_ms)).await;
    if let Some(time) = loading {
        let set = format!("first_event = \"5s\", loading = \"{time}\"");
        ferry.apply(&ferry.catalogue(&wishes).replacen("first_event = \"5s\"", &set, 1)).await;
    }
    let began = Instant::now();
    let (status, answered, id) = asked(&ferry, "night-sailings").await;
    assert_eq!((status, answered.as_str()), (200, offer));
    let took = began.elapsed().as_millis();
    assert!(took >= least_ms, "{took} ms");
    let shown = ferry.request(&id).await;
    assert_eq!(shown["attempts"][0]["failure"], "loading", "{shown}");
    assert_eq!(shown["request"]["attempts"], 2, "asked again while it loads it is one attempt: {shown}");
    let is_held = loading.is_some();
    assert_eq!(shown["request"]["waits"][0]["for"] == "load", is_held, "{shown}");
    assert_eq!(shown["request"]["waited_ms"].as_u64().unwrap() >= 700, is_held, "{shown}");
    let says = shown["summary"].as_str().unwrap();
    assert_eq!(says.contains("while a server loaded the model."), is_held, "{says}");
    ferry.service.terminate();
    ferry.service.ended().await;
}

/// Where nothing else is left all are held, one asks at a time, and the cold start is counted and timed.
#[tokio::test]
async fn where_nothing_else_is_left_all_wait_and_one_asks() {
    let ferry = Ferry::with(loads_for(1_500)).await;
    let began = Instant::now();
    let answers = join_all((0..20).map(|_| asked(&ferry, "harbour"))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
    assert!(began.elapsed() >= Duration::from_millis(1_500));
    let tally = ferry.quayside.tally();
    assert_eq!(tally.served, 20);
    assert!(tally.requests <= 20 + 20 + 6, "each once at first, then one at a time: {tally:?}");
    let offer = own_offer(&ferry).await;
    assert_eq!((&offer["cold_starts"], offer["health"]["state"].as_str()), (&1.into(), Some("well")), "{offer}");
    let took = offer["cold_start_ms"].as_u64().unwrap();
    assert!((1_300..4_000).contains(&took), "{took}");
    let listed = ferry.wendor(&["upstream", "list"]).await.out;
    assert!(listed.contains("loaded once, the last in "), "{listed}");
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    let counted = "wendor_cold_start_seconds_count{model=\"dunlin-70b\",upstream=\"quayside\"} 1";
    assert!(metrics.contains(counted), "{metrics}");
}

/// An app that does not want to wait says so, and is told at once what is the matter.
#[tokio::test]
async fn an_app_that_does_not_wait_is_told() {
    let ferry = Ferry::with(loads_for(60_000)).await;
    let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let answer = ask.header("wendor-deadlines", "loading=0s").json(&question("harbour", true)).send().await.unwrap();
    let (status, after) = (answer.status().as_u16(), header(&answer, "retry-after"));
    let text = answer.text().await.unwrap();
    assert_eq!(status, 503, "{text}");
    assert!(text.contains("it says that it loads the model"), "{text}");
    assert_eq!(after, "2");
}
