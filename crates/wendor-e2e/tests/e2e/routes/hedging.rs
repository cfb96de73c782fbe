//! A second attempt beside one that lets wait for its first token.

use futures_util::future::join_all;
use serde_json::Value;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::fault::Fault;

async fn hedged() -> Ferry {
    let ferry = Ferry::with(Wishes { patience: Some("20s"), ..Wishes::default() }).await;
    let catalogue = ferry.catalogue(&Wishes { patience: Some("20s"), ..Wishes::default() });
    let stage = "{ offers = [\"quayside/dunlin-70b\"], ";
    ferry.apply(&catalogue.replacen(stage, &format!("{stage}hedge = true, "), 1)).await;
    ferry
}

async fn asked(ferry: &Ferry, route: &str) -> (String, String) {
    let answer = ferry.ask(&question(route, true)).await;
    let seen = (header(&answer, "wendor-offer"), header(&answer, "wendor-request-id"));
    assert_eq!(answer.status(), 200);
    answer.text().await.unwrap();
    seen
}

#[tokio::test]
async fn the_first_to_speak_wins_and_the_other_stands_on_the_record() {
    let ferry = hedged().await;
    join_all((0..10).map(|_| asked(&ferry, "night-sailings"))).await;
    ferry.quayside.set_fault(Fault::Slow { millis: 15_000, percent: 100 }).await.unwrap();
    let (offer, id) = asked(&ferry, "night-sailings").await;
    assert_eq!(offer, "quarry/fulmar-large");
    let shown = ferry.request(&id).await;
    let attempts = shown["attempts"].as_array().unwrap();
    assert_eq!((attempts.len(), &shown["request"]["attempts"]), (2, &2.into()), "{shown}");
    let given_up = attempts.iter().find(|attempt| attempt["offer"] == "quayside/dunlin-70b").unwrap();
    assert_eq!(given_up["failure"], Value::Null);
    assert!(given_up["used"]["input"].as_u64().unwrap() > 0, "what it had read is counted: {given_up}");
    assert!(shown["request"]["whole_ms"].as_u64().unwrap() < 10_000);
    // The server sees that its client is gone.
    wendor_e2e::waiting::until("it is left", || async { (ferry.quayside.tally().client_left == 1).then_some(()) })
        .await;
}

#[tokio::test]
async fn hedges_are_bounded() {
    let ferry = hedged().await;
    join_all((0..10).map(|_| asked(&ferry, "night-sailings"))).await;
    let before = ferry.quarry.tally().requests;
    ferry.quayside.set_fault(Fault::Slow { millis: 1_200, percent: 100 }).await.unwrap();
    join_all((0..12).map(|_| asked(&ferry, "night-sailings"))).await;
    let hedges = ferry.quarry.tally().requests - before;
    assert!((1..=5).contains(&hedges), "three and a twentieth of the requests: {hedges}");
}
