//! Taking a server out of the way, and asking what would become of a request.

use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::Profile;

#[tokio::test]
async fn a_drained_server_finishes_what_it_has_and_gets_nothing_new() {
    let quayside =
        Profile { tokens_per_second: 40, answer_tokens: (30, 30), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let ferry = Ferry::with(Wishes { quayside: Some(quayside), patience: Some("5s"), ..Wishes::default() }).await;
    let open = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(header(&open, "wendor-offer"), "quayside/dunlin-70b");
    let output = ferry.wendor(&["upstream", "drain", "quayside"]).await;
    assert!(output.out.contains("quayside takes no new requests"), "{} {}", output.out, output.err);
    let next = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(
        (header(&next, "wendor-offer"), header(&next, "wendor-attempts")),
        ("quarry/fulmar-large".into(), "1".into())
    );
    let id = header(&next, "wendor-request-id");
    next.text().await.unwrap();
    let shown = ferry.request(&id).await;
    assert_eq!(shown["plan"][0]["reason"], "its upstream is drained: it takes no new requests");
    let alone = ferry.ask(&question("harbour", false)).await;
    assert_eq!(alone.status(), 503);
    assert!(alone.text().await.unwrap().contains("drained"));
    let (waited, text) = tokio::join!(ferry.wendor(&["upstream", "drain", "quayside", "--wait"]), open.text());
    assert!(text.unwrap().ends_with("data: [DONE]\n\n"), "what was under way goes on to its end");
    assert!(waited.out.contains("is drained already"), "{}", waited.out);
    assert!(waited.out.trim_end().ends_with("Nothing is under way there."), "{}", waited.out);
    let listed = ferry.wendor(&["upstream", "list"]).await.out;
    assert!(listed.contains("drained"), "{listed}");
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    assert!(text.contains("drained = true"), "{text}");
    let back = ferry.wendor(&["upstream", "resume", "quayside"]).await.out;
    assert!(back.contains("quayside takes requests again"), "{back}");
    let again = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(header(&again, "wendor-offer"), "quayside/dunlin-70b");
}

#[tokio::test]
async fn what_would_become_of_a_request_is_told_and_nothing_is_sent() {
    let ferry = Ferry::begin().await;
    let before = (ferry.quayside.tally().requests, ferry.quarry.tally().requests);
    let explain = async |ask: Value| ferry.post("/routes/night-sailings/explain", &ask).await;
    let explained = explain(json!({ "team": "timetables" })).await;
    let turns = |answer: &Value| -> Vec<(Value, Value)> {
        let lines = answer["offers"].as_array().unwrap();
        lines.iter().map(|line| (line["turn"].clone(), line["offer"].clone())).collect()
    };
    let both = [(json!(1), json!("quayside/dunlin-70b")), (json!(2), json!("quarry/fulmar-large"))];
    assert_eq!(turns(&explained), both);
    assert_eq!(
        explained["summary"],
        "quayside/dunlin-70b would be asked first, and quarry/fulmar-large if that fails."
    );
    assert!(explained["offers"][1]["expected_cost"].is_string(), "{explained}");
    let long = "tide ".repeat(40_000);
    let body = json!({ "messages": [{ "role": "user", "content": long }] });
    let windows = ferry.catalogue(&Wishes::default()).replacen(
        "offers.dunlin-70b = {",
        "offers.dunlin-70b = { context_window = 8192,",
        1,
    );
    ferry.apply(&windows).await;
    let explained = explain(json!({ "team": "timetables", "request": body })).await;
    assert_eq!(
        (&explained["offers"][0]["turn"], &explained["offers"][1]["turn"]),
        (&Value::Null, &json!(1)),
        "{explained}"
    );
    assert!(explained["offers"][0]["reason"].as_str().unwrap().contains("8192"), "{explained}");
    assert_eq!((ferry.quayside.tally().requests, ferry.quarry.tally().requests), before, "nothing is sent");
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    for _ in 0..3 {
        ferry.ask(&question("night-sailings", false)).await;
    }
    let shown = ferry.wendor(&["route", "explain", "night-sailings", "--team", "timetables"]).await;
    assert!(
        shown.out.starts_with("Only quarry/fulmar-large would be asked. Nothing was sent"),
        "{} {}",
        shown.out,
        shown.err
    );
    assert!(shown.out.contains("rests after failures"), "{}", shown.out);
    let wrong = ferry.wendor(&["route", "explain", "night-sailings", "--team", "timetable"]).await;
    assert!(wrong.status != 0 && wrong.err.contains("timetables"), "{}", wrong.err);
}

/// What an attempt before the last failed of is found, and so is where it was made.
#[tokio::test]
async fn any_attempt_is_found() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let count = async |query: &str| {
        let page = ferry.get(&format!("/requests?{query}")).await;
        page["requests"].as_array().unwrap_or_else(|| panic!("{page}")).len()
    };
    assert_eq!(count("upstream=quayside").await, 2);
    assert_eq!(count("upstream=quayside&tried=last").await, 1);
    assert_eq!(count("failure=server-error").await, 1);
    assert_eq!(count("failure=server-error&upstream=quayside").await, 1);
    assert_eq!(count("failure=server-error&upstream=quarry").await, 0, "both of the same attempt");
    assert_eq!(count("offer=quayside/dunlin-70b&failure=server-error&attempts=2%2B").await, 1);
    assert_eq!((count("attempts=1").await, count("attempts=2").await, count("attempts=3%2B").await), (1, 1, 0));
    let listed = ferry.wendor(&["request", "list", "--failure", "server-error", "--attempts", "2+", "--json"]).await;
    assert!(listed.out.contains("quarry/fulmar-large"), "{} {}", listed.out, listed.err);
    let usage = ferry.get("/usage?from=2026-01-01T00:00:00Z&to=2126-01-01T00:00:00Z&by=minute").await;
    assert!(usage["detail"].as_str().unwrap().contains("at most 400 lines"), "{usage}");
    let by_minute = ferry.wendor(&["usage", "--by", "minute", "--last", "10m"]).await;
    assert!(by_minute.out.lines().count() >= 10, "{} {}", by_minute.out, by_minute.err);
    until("a green check is a trial", || async {
        ferry.quayside.set_fault(Fault::None).await.unwrap();
        ferry.wendor(&["upstream", "check", "quayside", "--prove", "--yes", "--json"]).await;
        let upstreams = ferry.get("/upstreams").await;
        let line = upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quayside").unwrap().clone();
        (line["offers"][0]["health"]["state"] == "well").then_some(())
    })
    .await;
}
