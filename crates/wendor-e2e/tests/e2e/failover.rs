//! An upstream fails: before the first byte another offer answers, after it the app is told.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::Replay;

#[rstest]
#[case::refused(Fault::Refuse, "unreachable", "connection refused on 127.0.0.1")]
#[case::broken(Fault::Status { status: 500, retry_after: None }, "server-error", "500")]
#[case::credential(Fault::Status { status: 401, retry_after: None }, "misconfigured", "it refuses our credential")]
#[case::unknown_model(Fault::Status { status: 404, retry_after: None }, "misconfigured", "it does not know")]
#[case::limited(Fault::Status { status: 429, retry_after: Some(7) }, "rate-limited", "retry after 7 s")]
#[case::busy(Fault::Status { status: 503, retry_after: None }, "overloaded", "503")]
#[case::stalled(Fault::StallBeforeFirst, "timed-out", "within 500ms")]
#[case::role_and_then_nothing(Fault::StallAfterRole, "timed-out", "no first token within 500ms")]
#[case::garbage(Fault::Garbage, "malformed", "")]
#[tokio::test]
async fn the_hosted_offer_answers_when_our_own_fails(#[case] fault: Fault, #[case] kind: &str, #[case] detail: &str) {
    let ferry = Ferry::begin().await;
    let healthy = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(header(&healthy, "wendor-offer"), "quayside/dunlin-70b");
    let before = header(&healthy, "wendor-request-id");
    healthy.text().await.unwrap();
    // Its success is counted before the failure that follows.
    ferry.request(&before).await;
    ferry.quayside.set_fault(fault).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!((answer.status().as_u16(), header(&answer, "wendor-offer")), (200, "quarry/fulmar-large".into()));
    assert_eq!(header(&answer, "wendor-attempts"), "2");
    let id = header(&answer, "wendor-request-id");
    assert!(answer.text().await.unwrap().ends_with("data: [DONE]\n\n"));
    let shown = ferry.request(&id).await;
    let first = &shown["attempts"][0];
    assert_eq!((&first["offer"], &first["failure"]), (&json!("quayside/dunlin-70b"), &json!(kind)), "{shown}");
    assert!(first["detail"].as_str().unwrap().contains(detail), "{first}");
    assert_eq!(shown["attempts"][1]["failure"], Value::Null);
    let printed = ferry.wendor(&["request", "show", &id]).await.out;
    assert!(printed.contains(kind) && printed.contains("the second offer tried"), "{printed}");
    let upstreams = ferry.get("/upstreams").await;
    let quayside = upstreams.as_array().unwrap().iter().find(|upstream| upstream["name"] == "quayside").unwrap();
    assert_eq!((&quayside["state"], &quayside["last_failure"]["kind"]), (&json!("degraded"), &json!(kind)));
}

#[rstest]
#[case::whole_cut(Fault::CutMidway)]
#[case::whole_ended_early(Fault::EndMidway)]
#[case::whole_stalled(Fault::StallBeforeFirst)]
#[tokio::test]
async fn a_whole_reply_that_breaks_moves_on(#[case] fault: Fault) {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(fault).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!((answer.status().as_u16(), header(&answer, "wendor-offer")), (200, "quarry/fulmar-large".into()));
}

#[rstest]
#[case::cut(Fault::CutMidway, "cut-off")]
#[case::ended_early(Fault::EndMidway, "cut-off")]
#[case::stalled(Fault::StallMidway, "timed-out")]
#[case::garbage(Fault::GarbageMidway, "malformed")]
#[tokio::test]
async fn a_stream_that_breaks_ends_with_an_error_and_without_the_terminator(#[case] fault: Fault, #[case] kind: &str) {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(fault).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    let text = answer.text().await.expect("the body itself ends cleanly: some clients lose the message otherwise");
    assert!(!text.contains("[DONE]") && text.contains("\"content\""), "{text}");
    let last = text.trim_end().rsplit("data: ").next().unwrap();
    let error: Value = serde_json::from_str::<Value>(last).unwrap()["error"].clone();
    assert_eq!(error["code"], "answer_broke_off");
    assert!(error["message"].as_str().unwrap().contains(kind), "{error}");
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["request"]["end"], &shown["request"]["failure"]), (&json!("cut-off"), &json!(kind)));
    assert_eq!(shown["request"]["estimated"], true);
}

#[rstest]
#[case::all_timed_out(Fault::StallBeforeFirst, 504, "")]
#[case::said_when(Fault::Status { status: 429, retry_after: Some(9) }, 429, "9")]
#[case::busy(Fault::Status { status: 503, retry_after: None }, 503, "")]
#[case::refused(Fault::Refuse, 502, "")]
#[tokio::test]
async fn when_all_offers_fail_the_app_is_told_each(
    #[case] fault: Fault,
    #[case] status: u16,
    #[case] retry_after: &str,
) {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(fault).await.unwrap();
    let answer = ferry.ask(&question("harbour", true)).await;
    assert_eq!((answer.status().as_u16(), header(&answer, "retry-after")), (status, retry_after.to_owned()));
    assert_eq!(header(&answer, "x-should-retry"), if retry_after.is_empty() { "false" } else { "" });
    let id = header(&answer, "wendor-request-id");
    let error: Value = answer.json().await.unwrap();
    assert!(error["error"]["message"].as_str().unwrap().contains("quayside/dunlin-70b"), "{error}");
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["request"]["end"], &shown["request"]["cost"]), (&json!("not-answered"), &json!("0")));
}

#[tokio::test]
async fn an_upstream_that_asked_to_rest_is_left_alone() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::Status { status: 503, retry_after: Some(30) }).await.unwrap();
    ferry.ask(&question("night-sailings", false)).await;
    let asked = ferry.quayside.tally().requests;
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(
        (header(&answer, "wendor-offer"), header(&answer, "wendor-attempts")),
        ("quarry/fulmar-large".into(), "1".into())
    );
    assert_eq!(ferry.quayside.tally().requests, asked);
    let alone = ferry.ask(&question("harbour", false)).await;
    assert_eq!(alone.status(), 503);
    let seconds: u32 = header(&alone, "retry-after").parse().unwrap();
    assert!((20..=30).contains(&seconds), "{seconds}");
    let body: Value = alone.json().await.unwrap();
    assert!(body["error"]["message"].as_str().unwrap().contains("rate-limited until"), "{body}");
}

#[tokio::test]
async fn a_stage_moves_on_only_after_the_failures_that_it_names() {
    let more = "[routes.deck-plans]\nstages = [{ offers = [\"quayside/dunlin-70b\"], moves_on = [\"unreachable\", \"cut-off\"] }, { offers = [\"quarry/fulmar-large\"] }]\n";
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { more: more.into(), ..Default::default() }).await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 502);
    // A connection that was kept may break under the request before it is seen that there is nobody any more.
    ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
}

#[tokio::test]
async fn a_missing_credential_is_the_operators_fault_and_names_the_variable() {
    let more = "[upstreams.farlight]\naddress = \"http://127.0.0.1:9\"\nhosting = \"hosted\"\ncredential = { env = \"WENDOR_UPSTREAM_FARLIGHT\" }\noffers.fulmar-mini = {}\n[routes.manifests]\nstages = [{ offers = [\"farlight/fulmar-mini\"] }]\n";
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { more: more.into(), ..Default::default() }).await;
    let answer = ferry.ask(&question("manifests", false)).await;
    assert_eq!(answer.status(), 502);
    let body: Value = answer.json().await.unwrap();
    let message = body["error"]["message"].as_str().unwrap();
    assert!(message.contains("misconfigured") && message.contains("WENDOR_UPSTREAM_FARLIGHT is not set"), "{message}");
}

#[tokio::test]
async fn a_large_body_reaches_the_second_offer_whole() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    let mut body = question("night-sailings", false);
    let sailings: Vec<String> = (0..20_000).map(|number| format!("sailing {number} to Stack Isle")).collect();
    body["messages"][0]["content"] = json!(sailings.join("\n"));
    let answer = ferry.ask(&body).await;
    assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
    answer.text().await.unwrap();
    for (standin, model) in [(&ferry.quayside, "dunlin-70b"), (&ferry.quarry, "fulmar-large")] {
        let sent: Value = serde_json::from_slice(&standin.last_seen().unwrap().body).unwrap();
        assert_eq!(sent["messages"], body["messages"]);
        assert_eq!(sent["model"], model);
    }
}

#[tokio::test]
async fn the_log_tells_of_requests_that_failed_and_of_no_others() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    for standin in [&ferry.quayside, &ferry.quarry] {
        standin.set_fault(Fault::Refuse).await.unwrap();
    }
    let failed = ferry.ask(&question("night-sailings", false)).await;
    let id = header(&failed, "wendor-request-id");
    failed.text().await.unwrap();
    let line = until("the line of the one that failed", || async { ferry.service.logged("request settled") }).await;
    assert_eq!((&line["request"], &line["level"]), (&json!(id), &json!("WARN")));
    assert_eq!((&line["end"], &line["attempts"]), (&json!("not-answered"), &json!(2)));
    assert_eq!(ferry.service.log().matches("request settled").count(), 1, "one that went well leaves none");
}

/// What an attempt used before it failed may be billed, so it is kept apart from what the answer cost.
#[tokio::test]
async fn what_a_failed_attempt_had_used_is_kept() {
    let ferry = Ferry::begin().await;
    let catalogue = ferry.catalogue(&Default::default());
    let messages = "[upstreams.quayside]\ndialect = \"messages\"";
    ferry.apply(&catalogue.replacen("[upstreams.quayside]", messages, 1)).await;
    let begun = "event: message_start\ndata: {\"type\":\"message_start\",\"message\":{\"usage\":{\"input_tokens\":380,\"output_tokens\":1}}}\n\n";
    ferry.quayside.replay(Replay {
        status: 200,
        headers: vec![("content-type".to_owned(), "text/event-stream".to_owned())],
        body: begun.into(),
    });
    let answer = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["failed_used"]["input"], &shown["attempts"][0]["used"]["input"]), (&json!(380), &json!(380)));
    assert!(shown["request"]["tokens"]["input"].as_u64().unwrap() < 380, "{shown}");
    let printed = ferry.wendor(&["request", "show", &id]).await.out;
    assert!(printed.contains("Attempts that did not answer used 380 in"), "{printed}");
}
