//! A model that vanishes, changes its weights or appears is noticed at the next look; the warning names routes and teams; a pin stops
//! requests; a request's record keeps what served it.

use rstest::rstest;
use serde_json::json;
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_standins::manners::Manners;

use super::{bring_in, chartroom};

async fn refreshed(ferry: &Ferry) -> serde_json::Value {
    ferry.post("/inventory/refresh", &json!({})).await
}

async fn needs_someone(ferry: &Ferry) -> Vec<String> {
    let now = ferry.get("/now").await;
    let notices = now["attention"].as_array().unwrap();
    notices
        .iter()
        .map(|notice| format!("{} {} {}", notice["subject"], notice["says"], notice["why"]).replace('"', ""))
        .collect()
}

#[tokio::test]
async fn what_changes_at_a_server_is_noticed_within_one_look() {
    let ferry = Ferry::begin().await;
    let server = chartroom(&["dunlin-7b", "knot-13b"]).await;
    bring_in(&ferry, "chartroom", &server, json!([{ "model": "dunlin-7b" }, { "model": "knot-13b" }])).await;
    ferry.post("/routes", &json!({ "name": "deck-plans", "offers": ["chartroom/dunlin-7b"] })).await;
    let first = refreshed(&ferry).await;
    assert_eq!(first["events"], json!([]), "a first look finds nothing changed");

    server.serve_models(&["knot-13b", "kittiwake"]);
    let digests = [("knot-13b".to_owned(), "5eaf00d5eaf00d5eaf00d".to_owned())].into();
    server.set_manners(Manners { digests, version: Some("2.0.0".into()), ..Manners::default() });
    let seen = refreshed(&ferry).await;
    let kinds: Vec<&str> =
        seen["events"].as_array().unwrap().iter().map(|event| event["says"].as_str().unwrap()).collect();
    for (what, words) in [
        ("appeared", "kittiwake appeared at chartroom; it must be offered before it can be used"),
        ("vanished", "dunlin-7b vanished from chartroom"),
        ("weights", "knot-13b at chartroom stands for other weights"),
        ("version", "chartroom has another version: 1.0.0 before, 2.0.0 now"),
    ] {
        assert!(kinds.iter().any(|says| says.starts_with(words)), "{what}: {kinds:?}");
    }
    assert_eq!(refreshed(&ferry).await["events"].as_array().unwrap().len(), 4, "each is told once");

    let warnings = needs_someone(&ferry).await;
    let gone = warnings.iter().find(|says| says.starts_with("chartroom does not serve dunlin-7b any more")).unwrap();
    assert!(gone.contains("It concerns deck-plans, used by timetables"), "{gone}");
    assert!(!gone.contains("freight-desk"), "freight-desk may not use that route: {gone}");

    let shown = ferry.wendor(&["upstream", "models", "chartroom"]).await;
    assert!(shown.out.contains("× gone") && shown.out.contains("kittiwake appeared at chartroom"), "{}", shown.out);
    ferry.post("/upstreams/chartroom/offers", &json!({ "models": ["kittiwake"] })).await;
    let offered = ferry.get("/upstreams").await;
    let line = offered.as_array().unwrap().iter().find(|line| line["name"] == "chartroom").unwrap().clone();
    let new = line["offers"].as_array().unwrap().iter().find(|offer| offer["model"] == "kittiwake").unwrap().clone();
    assert_eq!(new["context_window"], 8_192, "what the server tells of it goes into the offer: {new}");
}

#[rstest]
#[case::a_failed_look(&["dunlin-7b"], true, 0)]
#[case::an_empty_list(&[], false, 1)]
#[tokio::test]
async fn only_what_was_seen_before_can_have_changed(
    #[case] models: &[&str],
    #[case] fails: bool,
    #[case] events: usize,
) {
    let ferry = Ferry::begin().await;
    let server = chartroom(models).await;
    if fails {
        server.set_manners(Manners { prefix: Some("/serve".into()), ..Manners::default() });
    }
    bring_in(&ferry, "chartroom", &server, json!([{ "model": "dunlin-7b" }])).await;
    assert_eq!(refreshed(&ferry).await["events"], json!([]), "a first look finds nothing changed");
    server.serve_models(&["dunlin-7b"]);
    server.set_manners(Manners::default());
    let seen = refreshed(&ferry).await;
    assert_eq!(seen["events"].as_array().unwrap().len(), events, "{seen}");
}

#[tokio::test]
async fn a_pin_stops_requests_to_other_weights_and_records_keep_what_served_them() {
    let ferry = Ferry::begin().await;
    let server = chartroom(&["dunlin-7b"]).await;
    let good = "aaaabbbbccccddddeeee";
    let serving = |digest: &str| Manners {
        digests: [("dunlin-7b".to_owned(), digest.to_owned())].into(),
        version: Some("1.4.2".into()),
        ..Manners::default()
    };
    server.set_manners(serving(good));
    bring_in(&ferry, "chartroom", &server, json!([{ "model": "dunlin-7b", "weights": format!("sha256:{good}") }]))
        .await;
    ferry.post("/routes", &json!({ "name": "deck-plans", "offers": ["chartroom/dunlin-7b"] })).await;
    refreshed(&ferry).await;
    let answer = ferry.ask(&question("deck-plans", false)).await;
    assert_eq!(answer.status(), 200);
    let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
    assert_eq!(
        (&shown["attempts"][0]["digest"], &shown["attempts"][0]["server_version"]),
        (&json!(good), &json!("1.4.2"))
    );

    let summary = shown["summary"].as_str().unwrap();
    assert!(summary.ends_with("It came from the weights aaaabbbbcccc, by version 1.4.2 of the server."), "{summary}");

    server.set_manners(serving("0000bbbbccccddddeeee"));
    refreshed(&ferry).await;
    let stopped = ferry.ask(&question("deck-plans", false)).await;
    assert_eq!(stopped.status(), 503);
    let text = stopped.text().await.unwrap();
    assert!(text.contains("pinned to the weights aaaabbbbcccc, and the server has 0000bbbbcccc"), "{text}");
    assert_eq!(server.tally().served, 1, "no request went there");
    let warnings = needs_someone(&ferry).await;
    assert!(warnings.iter().any(|says| says.contains("no request goes there")), "{warnings:?}");

    server.set_manners(serving(good));
    refreshed(&ferry).await;
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
}
