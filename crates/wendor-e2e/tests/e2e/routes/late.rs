//! A streamed answer that lets wait: its head and heartbeats go out after a while, and what comes then comes in the stream, in each dialect as its
//! clients read it.

use std::time::{Duration, Instant};

use rstest::rstest;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::fault::Fault;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;

use super::faults::is_proper;
use crate::errors::request;

async fn patient() -> Ferry {
    let settings = vec![("WENDOR_HEAD_AFTER", "400ms".to_owned())];
    Ferry::with(Wishes { patience: Some("2s"), settings, ..Wishes::default() }).await
}

/// How an app of a dialect is answered: after how long with a head, of which status, and the body, which may break off.
async fn asked(ferry: &Ferry, dialect: Dialect, streamed: bool) -> (Duration, u16, String, Vec<u8>) {
    let (path, body) = request(dialect, "harbour", streamed);
    let began = Instant::now();
    let ask = ferry.http.post(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key).json(&body);
    let mut answer = ask.send().await.unwrap();
    let (head, status, id) = (began.elapsed(), answer.status().as_u16(), header(&answer, "wendor-request-id"));
    let mut bytes = Vec::new();
    while let Ok(Some(part)) = answer.chunk().await {
        bytes.extend_from_slice(&part);
    }
    (head, status, id, bytes)
}

#[rstest]
#[case(Dialect::ChatCompletions)]
#[case(Dialect::Responses)]
#[case(Dialect::Messages)]
#[case(Dialect::GenerateContent)]
#[tokio::test]
async fn a_head_goes_out_before_anyone_answers(#[case] dialect: Dialect) {
    let ferry = patient().await;
    ferry.quayside.set_fault(Fault::Slow { millis: 1_200, percent: 100 }).await.unwrap();
    let (head, status, id, body) = asked(&ferry, dialect, true).await;
    assert_eq!(status, 200);
    // That it went out first shows in the heartbeat before the answer.
    assert!(head >= Duration::from_millis(350), "{head:?}");
    let heartbeat = dialects::of(dialect).heartbeat().unwrap();
    assert!(body.starts_with(heartbeat.as_bytes()), "{}", String::from_utf8_lossy(&body));
    assert!(is_proper(dialect, true, &body), "{}", String::from_utf8_lossy(&body));
    let shown = ferry.request(&id).await;
    assert_eq!(
        (&shown["request"]["end"], &shown["request"]["offer"]),
        (&"proper".into(), &"quayside/dunlin-70b".into())
    );
    assert!(shown["request"]["first_token_ms"].as_u64().unwrap() >= 1_200, "a heartbeat is no token: {shown}");
}

/// Nobody answers in the end: the stream says so as its dialect can, and it is recorded as any other.
#[rstest]
#[case(Dialect::ChatCompletions)]
#[case(Dialect::Responses)]
#[case(Dialect::Messages)]
#[case(Dialect::GenerateContent)]
#[tokio::test]
async fn what_fails_after_its_head_is_told_in_the_stream(#[case] dialect: Dialect) {
    let ferry = patient().await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let (_, status, id, body) = asked(&ferry, dialect, true).await;
    let text = String::from_utf8_lossy(&body);
    assert_eq!(status, 200);
    assert!(!is_proper(dialect, true, &body), "{text}");
    assert!(text.contains("No offer answered") || dialect == Dialect::GenerateContent, "{text}");
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["request"]["end"], &shown["request"]["failure"]), (&"not-answered".into(), &"timed-out".into()));
}

#[rstest]
#[case::a_failure_that_comes_in_time(Fault::Status { status: 500, retry_after: None }, true, Dialect::ChatCompletions, 502)]
#[case::a_whole_reply(Fault::StallBeforeFirst, false, Dialect::ChatCompletions, 504)]
#[case::a_dialect_without_heartbeats(Fault::StallBeforeFirst, true, Dialect::LocalChat, 504)]
#[tokio::test]
async fn the_status_stays_free(
    #[case] fault: Fault,
    #[case] streamed: bool,
    #[case] dialect: Dialect,
    #[case] expected: u16,
) {
    let ferry = patient().await;
    ferry.quayside.set_fault(fault).await.unwrap();
    assert_eq!(asked(&ferry, dialect, streamed).await.1, expected);
}

/// An app that leaves while nobody answers is on record as one that left, and the upstream's connection is closed.
#[tokio::test]
async fn an_app_that_leaves_meanwhile_is_recorded() {
    let ferry = patient().await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let answer = ferry.ask(&question("harbour", true)).await;
    let id = header(&answer, "wendor-request-id");
    drop(answer);
    let shown = wendor_e2e::waiting::until("it is on record", || async {
        let shown = ferry.get(&format!("/requests/{id}")).await;
        shown["request"]["end"].is_string().then_some(shown)
    });
    assert_eq!(shown.await["request"]["end"], "cancelled");
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("wendor_streams_open 0"), "{metrics}");
}
