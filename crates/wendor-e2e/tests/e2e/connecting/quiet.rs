//! Looks harm nobody: on a server that serves one request at a time they wait for answers, one that is asked too often is left alone, and they
//! can be switched off.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::waiting::until;
use wendor_standins::server::Profile;
use wendor_wire::dialect::Dialect;

const TOKENS: usize = 200;

/// A server that serves one request at a time, and on which any listing ends a stream that runs.
fn one_at_a_time() -> Profile {
    let mut quayside = Profile {
        tokens_per_second: 100,
        answer_tokens: (TOKENS, TOKENS),
        ..Profile::quick("quayside", &["dunlin-70b"])
    };
    quayside.manners.one_at_a_time = true;
    quayside.manners.listing_ends_streams = true;
    quayside
}

fn wishes(streams: Option<u32>) -> Wishes {
    let often = |name: &'static str| (name, "200ms".to_owned());
    Wishes {
        quayside: Some(one_at_a_time()),
        streams: Some(streams.unwrap_or(1)),
        patience: Some("20s"),
        room: Some("20s"),
        output_cap: Some(400),
        settings: vec![often("WENDOR_INVENTORY_EVERY"), often("WENDOR_PROBE_EVERY")],
        ..Wishes::default()
    }
}

/// Whether a stream came to its end, with so many pieces of text at least.
fn is_whole(text: &str, least: usize) -> bool {
    let frames = text.lines().filter_map(|line| serde_json::from_str::<Value>(line.strip_prefix("data: ")?).ok());
    let pieces =
        frames.filter(|frame| frame["choices"][0]["delta"]["content"].as_str().is_some_and(|text| !text.is_empty()));
    pieces.count() >= least && text.trim_end().ends_with("data: [DONE]")
}

#[rstest]
#[case::declared(Some(1))]
#[case::not_declared(None)]
#[tokio::test]
async fn a_stream_is_whole_while_checks_and_looks_and_others_go_on(#[case] streams: Option<u32>) {
    let ferry = Ferry::with(wishes(streams)).await;
    if streams.is_none() {
        let text = ferry.get("/catalogue").await["text"].as_str().unwrap().replace("streams = 1\n", "");
        assert!(!text.contains("streams = 1"), "{text}");
        ferry.apply(&text).await;
    }
    let mut body = question("harbour", true);
    body["max_tokens"] = json!(400);
    let answer = ferry.ask(&body).await;
    assert_eq!(answer.status(), 200);
    // The stream runs. A check, a look, somebody's request through Wendor, and one beside it.
    let check = async { ferry.wendor(&["--json", "upstream", "check", "quayside"]).await };
    let only = json!({ "upstream": "quayside" });
    let look = ferry.post("/inventory/refresh", &only);
    let mut short = question("harbour", true);
    short["max_tokens"] = json!(10);
    let through = async { ferry.ask(&short).await.text().await.unwrap() };
    let direct = async {
        let url = format!("http://{}/v1/chat/completions", ferry.quayside.address());
        let mut body = question("dunlin-70b", true);
        body["max_tokens"] = json!(10);
        ferry.http.post(url).json(&body).send().await.unwrap().text().await.unwrap()
    };
    let (text, check, _look, through, direct) = tokio::join!(answer.text(), check, look, through, direct);
    let text = text.expect("the stream is not cut");
    assert!(is_whole(&text, TOKENS), "{text}");
    assert!(is_whole(&through, 10) && is_whole(&direct, 10), "{through} {direct}");
    let report: Value = serde_json::from_str(&check.out).unwrap();
    assert_eq!(report["green"], true, "the check waited, and found nothing: {} {}", check.out, check.err);
}

/// Where an answer goes on for longer than a check has time, it is told that the server is busy, and with what.
#[tokio::test]
async fn a_server_that_answers_is_busy_and_not_stuck() {
    let ferry = Ferry::with(wishes(Some(1))).await;
    let mut body = question("harbour", true);
    body["max_tokens"] = json!(400);
    let answer = ferry.ask(&body).await;
    let report = ferry.post("/upstreams/check", &json!({ "name": "quayside", "timeout_ms": 1_000 })).await;
    assert_eq!(
        report["steps"].as_array().unwrap().iter().find(|step| step["state"] == "failing").unwrap()["findings"][0]["kind"],
        "busy",
        "{report}"
    );
    assert!(is_whole(&answer.text().await.unwrap(), TOKENS));
}

/// Another's answer, of which Wendor knows nothing, makes a server silent; that it answered not long ago tells what it is.
#[tokio::test]
async fn a_server_that_answers_somebody_else_is_busy_if_it_answered_before() {
    let ferry = Ferry::with(wishes(Some(1))).await;
    let first = ferry.post("/upstreams/check", &json!({ "name": "quayside" })).await;
    assert_eq!(first["green"], true, "{first}");
    ferry.quayside.set_manners(wendor_standins::manners::Manners { one_at_a_time: true, ..Default::default() });
    let url = format!("http://{}/v1/chat/completions", ferry.quayside.address());
    let mut body = question("dunlin-70b", true);
    body["max_tokens"] = json!(400);
    let answer = ferry.http.post(url).json(&body).send().await.unwrap();
    let report = ferry.post("/upstreams/check", &json!({ "name": "quayside", "timeout_ms": 1_500 })).await;
    let failing = report["steps"].as_array().unwrap().iter().find(|step| step["state"] == "failing").unwrap().clone();
    let finding = &failing["findings"][0];
    assert_eq!(finding["kind"], "busy", "{report}");
    assert!(finding["says"].as_str().unwrap().contains("answered a request"), "{finding}");
    assert!(is_whole(&answer.text().await.unwrap(), TOKENS));
}

/// What rate-limits requests is left alone by whatever looks by itself; a person may look.
#[tokio::test]
async fn one_that_is_asked_too_often_is_left_alone() {
    let mut quayside = Profile::quick("quayside", &["dunlin-70b"]);
    quayside.manners.refuses_looks = true;
    let ferry = Ferry::with(Wishes { quayside: Some(quayside), ..Wishes::default() }).await;
    until("a first look", || async { (ferry.quayside.looks() > 0).then_some(()) }).await;
    until("it to be told", || async {
        let shown = ferry.get("/inventory").await;
        let line = shown["upstreams"].as_array().unwrap().iter().find(|line| line["upstream"] == "quayside")?.clone();
        line["held_back"].as_str()?.contains("asked too often").then_some(())
    })
    .await;
    let before = ferry.quayside.looks();
    for _ in 0..3 {
        ferry.post("/inventory/refresh", &json!({})).await;
    }
    assert_eq!(ferry.quayside.looks(), before);
    ferry.post("/inventory/refresh", &json!({ "upstream": "quayside" })).await;
    assert_eq!(ferry.quayside.looks(), before + 1);
}

/// Switched off, nothing looks but who is told to.
#[rstest]
#[case::chat(Dialect::ChatCompletions)]
#[case::local(Dialect::LocalChat)]
#[tokio::test]
async fn looks_can_be_switched_off(#[case] dialect: Dialect) {
    let ferry = Ferry::begin().await;
    let server = wendor_standins::server::StandIn::start(Profile { dialect, ..Profile::quick("pier", &["dunlin-7b"]) });
    let server = server.await.unwrap();
    let settings = json!({ "address": format!("http://{}", server.address()), "dialect": dialect.as_str(), "no_looks": true,
                           "offers": [{ "model": "dunlin-7b" }] });
    ferry.post("/upstreams", &json!({ "name": "pier", "settings": settings })).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    assert!(text.contains("looks = \"none\""), "{text}");
    let shown = ferry.post("/inventory/refresh", &json!({})).await;
    let line = shown["upstreams"].as_array().unwrap().iter().find(|line| line["upstream"] == "pier").unwrap().clone();
    assert!(line["held_back"].as_str().unwrap().contains("not looked at by itself"), "{line}");
    assert_eq!(server.looks(), 0);
    ferry.post("/inventory/refresh", &json!({ "upstream": "pier" })).await;
    assert!(server.looks() > 0);
}
