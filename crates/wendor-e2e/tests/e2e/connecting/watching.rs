//! A check while it runs: each step is told as it begins and ends, whoever goes away ends it, and its own time is never taken for the server's.

use reqwest::Response;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::waiting::until;
use wendor_standins::server::{Profile, StandIn};

/// A check of quayside, watched.
async fn watched(ferry: &Ferry, more: Value) -> Response {
    let mut body = json!({ "name": "quayside" });
    body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    let request = ferry.http.post(ferry.manage("/upstreams/check")).bearer_auth(&ferry.owner).json(&body);
    request.header("accept", "application/x-ndjson").send().await.unwrap()
}

/// Reads lines until one is `last`, or to the end.
async fn lines_until(response: &mut Response, is_last: impl Fn(&Value) -> bool) -> Vec<Value> {
    let (mut rest, mut lines) = (Vec::new(), Vec::new());
    while let Some(piece) = response.chunk().await.unwrap() {
        rest.extend_from_slice(&piece);
        while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = rest.drain(..=end).collect();
            lines.push(serde_json::from_slice(&line).unwrap());
            if is_last(lines.last().unwrap()) {
                return lines;
            }
        }
    }
    lines
}

/// An answer that takes its time: so many tokens, thirty a second.
async fn slow(tokens: usize, first_token_ms: u64) -> Ferry {
    let quayside = Profile {
        tokens_per_second: 30,
        answer_tokens: (tokens, tokens),
        first_token_ms: (first_token_ms, first_token_ms),
        ..Profile::quick("quayside", &["dunlin-70b"])
    };
    Ferry::with(Wishes { quayside: Some(quayside), patience: Some("30s"), ..Wishes::default() }).await
}

#[tokio::test]
async fn each_step_is_told_as_it_begins_and_as_it_ends() {
    let ferry = Ferry::begin().await;
    let mut response = watched(&ferry, json!({})).await;
    assert_eq!(response.headers()["content-type"], "application/x-ndjson");
    let lines = lines_until(&mut response, |_| false).await;
    let begun: Vec<&str> = lines.iter().filter_map(|line| line["begins"].as_str()).collect();
    let steps = "settings name connection encryption http path key models";
    let wanted: Vec<&str> = steps.split(' ').chain(["streamed answer", "whole answer"]).collect();
    assert_eq!(begun, wanted);
    let place = |of: &dyn Fn(&Value) -> bool| lines.iter().position(of).unwrap();
    for step in &wanted {
        let began = place(&|line| line["begins"] == *step);
        assert_eq!(
            place(&|line| line["ended"]["step"] == *step),
            began + 1,
            "{step} is told of before the next one begins"
        );
    }
    let report = &lines.last().unwrap()["report"];
    let ended: Vec<&Value> = lines.iter().map(|line| &line["ended"]).filter(|step| !step.is_null()).collect();
    assert_eq!(report["steps"].as_array().unwrap().iter().collect::<Vec<_>>(), ended, "the report has what was told");
}

#[tokio::test]
async fn whoever_goes_away_ends_it_and_what_was_spent_stands_in_the_ledger() {
    let ferry = slow(2_000, 0).await;
    let mut response = watched(&ferry, json!({ "timeout_ms": 60_000 })).await;
    let begins = |line: &Value| line["begins"] == "streamed answer";
    let lines = lines_until(&mut response, begins).await;
    assert!(lines.last().is_some_and(begins), "{lines:?}");
    // A step is told of before its request is sent: who left now could leave before anything was asked or spent.
    until("the server to be asked", || async { (ferry.quayside.tally().requests > 0).then_some(()) }).await;
    drop(response);
    until("the server to be left", || async { (ferry.quayside.tally().client_left == 1).then_some(()) }).await;
    let shown = until("the check to be settled", || async {
        let shown = ferry.get("/requests?upstream=quayside").await;
        (shown["requests"] != json!([])).then_some(shown)
    })
    .await;
    let lines = shown["requests"].as_array().unwrap();
    assert_eq!(lines.len(), 1, "{shown}");
    assert_eq!(
        (lines[0]["route"].as_str(), lines[0]["end"].as_str()),
        (Some("upstream-check"), Some("cancelled")),
        "{shown}"
    );
    assert!(lines[0]["tokens"]["output"].as_u64().unwrap() > 0, "its worst case: {shown}");
}

#[tokio::test]
async fn its_own_time_is_never_the_servers() {
    let ferry = slow(20, 4_000).await;
    let report = ferry.post("/upstreams/check", &json!({ "name": "quayside", "timeout_ms": 1_500 })).await;
    let step = report["steps"].as_array().unwrap().iter().find(|step| step["state"] == "failing").unwrap().clone();
    assert_eq!(
        (step["step"].as_str(), step["findings"][0]["kind"].as_str()),
        (Some("streamed answer"), Some("time-up"))
    );
    let says = step["findings"][0]["says"].as_str().unwrap();
    assert!(says.contains("may be slow, loading its model, or busy"), "{says}");
    let more = ferry.wendor(&["--json", "upstream", "check", "quayside", "--timeout", "20s"]).await;
    assert_eq!(more.status, 0, "{} {}", more.out, more.err);
    let bad = ferry.wendor(&["upstream", "check", "quayside", "--timeout", "20m"]).await;
    assert!(
        bad.status != 0 && bad.err.contains("--timeout <TIME>") && bad.err.contains("from 1s to 10m"),
        "{}",
        bad.err
    );
}

/// A server can lead whoever asks it anywhere: nothing goes to another host before somebody says so, with a key or without one.
#[tokio::test]
async fn nobody_is_led_to_another_host_unasked() {
    let ferry = Ferry::begin().await;
    let elsewhere = StandIn::start(Profile::quick("elsewhere", &["dunlin-7b"])).await.unwrap();
    let mut leading = Profile::quick("leading", &["dunlin-7b"]);
    leading.manners.leads_to = Some(format!("http://localhost:{}/v1/models", elsewhere.address().port()));
    let leading = StandIn::start(leading).await.unwrap();
    let address = format!("http://{}", leading.address());
    let add = ["upstream", "add", address.as_str(), "--name", "pier", "--mend", "--yes"];
    let unsaid = ferry.wendor(&add).await;
    assert!(unsaid.status != 0 && unsaid.err.contains("--to-host localhost"), "{} {}", unsaid.out, unsaid.err);
    assert_eq!(elsewhere.looks(), 0);
    let said = ferry.wendor(&[&add[..], &["--to-host", "localhost"]].concat()).await;
    assert_eq!(said.status, 0, "{} {}", said.out, said.err);
    assert!(elsewhere.looks() > 0);
}
