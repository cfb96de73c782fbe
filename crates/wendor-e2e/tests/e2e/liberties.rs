//! Liberties that upstreams take with the dialect: what passes untouched, what is mended because clients would fail over it
//! silently, and what is an error.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_standins::server::Replay;

const ROLE: &str = "data: {\"choices\":[{\"index\":0,\"delta\":{\"role\":\"assistant\",\"content\":\"\"}}]}\n\n";
const TEXT: &str = "data: {\"choices\":[{\"index\":0,\"delta\":{\"content\":\"Berth 2\"}}], \"x\": 1.50}\n\n";
const STOP: &str = "data: {\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\n";
const USAGE: &str = "data: {\"choices\":[],\"usage\":{\"prompt_tokens\":7,\"completion_tokens\":3}}\n\n";
const DONE: &str = "data: [DONE]\n\n";

fn replay(body: &str) -> Replay {
    let headers = vec![("content-type".to_owned(), "text/event-stream; charset=utf-8".to_owned())];
    Replay { status: 200, headers, body: body.to_owned().into() }
}

/// What an app gets when the upstream sends `body`, and the request's record.
async fn through(ferry: &Ferry, body: &str) -> (String, Value) {
    ferry.quayside.replay(replay(body));
    let answer = ferry.ask(&question("harbour", true)).await;
    let id = header(&answer, "wendor-request-id");
    let text = answer.text().await.unwrap();
    (text, ferry.request(&id).await["request"].clone())
}

#[rstest]
#[case::as_it_should_be([ROLE, TEXT, STOP, DONE].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::comments_and_heartbeats([": hb\n\n", ROLE, "\n", TEXT, ": hb\n\n", STOP, DONE].concat(), [": hb\n\n", ROLE, "\n", TEXT, ": hb\n\n", STOP, DONE].concat())]
#[case::crlf([ROLE, TEXT, STOP, DONE].concat().replace('\n', "\r\n"), [ROLE, TEXT, STOP, DONE].concat().replace('\n', "\r\n"))]
#[case::no_space_after_the_colon([ROLE, TEXT, STOP, DONE].concat().replace("data: ", "data:"), [ROLE, TEXT, STOP, DONE].concat().replace("data: ", "data:"))]
#[case::byte_order_mark(["\u{feff}", ROLE, TEXT, STOP, DONE].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::no_terminator([ROLE, TEXT, STOP].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::no_blank_line_at_the_end([ROLE, TEXT, STOP, "data: [DONE]"].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::something_after_the_terminator([ROLE, TEXT, STOP, DONE, TEXT].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::an_event_of_its_own([ROLE, "data: {\"queue\":3}\n\n", TEXT, STOP, DONE].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[case::usage_that_nobody_asked_for([ROLE, TEXT, STOP, USAGE, DONE].concat(), [ROLE, TEXT, STOP, DONE].concat())]
#[tokio::test]
async fn a_stream_passes_untouched_or_mended(#[case] sent: String, #[case] received: String) {
    let ferry = Ferry::begin().await;
    let (text, record) = through(&ferry, &sent).await;
    assert_eq!(text, received);
    assert_eq!(record["end"], "proper");
    if sent.contains("prompt_tokens") {
        assert_eq!((&record["tokens"]["input"], &record["tokens"]["output"]), (&json!(7), &json!(3)));
    } else {
        assert_eq!(record["estimated"], true, "nobody reported usage");
    }
}

#[rstest]
#[case::no_finish([ROLE, TEXT, DONE].concat(), "without a finish")]
#[case::cut_in_a_frame([ROLE, TEXT, "data: {\"choi"].concat(), "not a chunk")]
#[case::one_choice_unfinished([ROLE, TEXT, "data: {\"choices\":[{\"index\":1,\"delta\":{\"content\":\"b\"}}]}\n\n", STOP].concat(), "in the middle")]
#[tokio::test]
async fn a_stream_that_is_not_whole_is_never_passed_as_one(#[case] sent: String, #[case] why: &str) {
    let ferry = Ferry::begin().await;
    let (text, record) = through(&ferry, &sent).await;
    assert!(text.contains("answer_broke_off") && text.contains(why) && !text.contains("[DONE]"), "{text}");
    assert_eq!(record["end"], "cut-off");
}

#[rstest]
#[case::json("application/json", "{\"choices\":[]}", "malformed", "it sent application/json")]
#[case::page("text/html; charset=utf-8", "<html>", "malformed", "it sent text/html")]
#[case::only_a_role("text/event-stream", ROLE, "cut-off", "ended before a first token")]
#[case::only_the_terminator("text/event-stream", DONE, "malformed", "ended without an answer")]
#[case::error_first(
    "text/event-stream",
    "data: {\"error\":{\"message\":\"x\",\"type\":\"rate_limit_error\"}}\n\n",
    "rate-limited",
    "an error inside its stream"
)]
#[case::nothing("text/event-stream", "", "cut-off", "ended before a first token")]
#[tokio::test]
async fn what_does_not_even_begin_moves_on(
    #[case] content_type: &str,
    #[case] sent: &str,
    #[case] kind: &str,
    #[case] why: &str,
) {
    let ferry = Ferry::begin().await;
    let headers = vec![("content-type".to_owned(), content_type.to_owned())];
    ferry.quayside.replay(Replay { status: 200, headers, body: sent.to_owned().into() });
    let answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
    answer.text().await.unwrap();
    let first = ferry.request(&id).await["attempts"][0].clone();
    assert_eq!(first["failure"], kind);
    assert!(first["detail"].as_str().unwrap().contains(why), "{first}");
}

#[rstest]
#[case::not_json("<html>", "not JSON")]
#[case::no_choices("{\"choices\":[]}", "no choices")]
#[case::error_as_success("{\"error\":{\"message\":\"x\"}}", "an error under status 200")]
#[tokio::test]
async fn a_whole_reply_that_is_none_moves_on(#[case] sent: &str, #[case] why: &str) {
    let ferry = Ferry::begin().await;
    ferry.quayside.replay(Replay { status: 200, headers: vec![], body: sent.to_owned().into() });
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
    let first = ferry.request(&header(&answer, "wendor-request-id")).await["attempts"][0].clone();
    assert!(first["failure"] == "malformed" && first["detail"].as_str().unwrap().contains(why), "{first}");
}

#[rstest]
#[case::beyond_belief("18446744073709551615")]
#[case::negative("-4")]
#[case::text("\"many\"")]
#[tokio::test]
async fn usage_that_cannot_be_believed_is_estimated_and_harms_nothing(#[case] count: &str) {
    let ferry = Ferry::begin().await;
    let usage =
        format!("data: {{\"choices\":[],\"usage\":{{\"prompt_tokens\":{count},\"completion_tokens\":{count}}}}}\n\n");
    let (text, record) = through(&ferry, &[ROLE, TEXT, STOP, &usage, DONE].concat()).await;
    assert_eq!(text, [ROLE, TEXT, STOP, DONE].concat());
    assert_eq!((&record["estimated"], &record["end"]), (&json!(true), &json!("proper")));
    ferry.drained().await;
    assert_eq!(ferry.get("/requests").await["requests"].as_array().unwrap().len(), 1);
}

#[tokio::test]
async fn a_limit_beyond_all_reason_is_refused_with_its_name() {
    let quotas = r#"{ measure = "cost", per = "month", limit = 1000000000000, at_limit = "warn" }, { measure = "tokens", per = "day", limit = 1, at_limit = "warn" }"#;
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { quotas: quotas.to_owned(), ..Default::default() }).await;
    let mut body = question("night-sailings", false);
    body["max_tokens"] = json!(1_000_000_000);
    body["n"] = json!(128);
    assert_eq!(ferry.ask(&body).await.status(), 200, "what is still a number of tokens is one");
    for huge in ["1000000001", "18446744073709551615", "18446744073709551616"] {
        body["max_tokens"] = serde_json::from_str(huge).unwrap();
        let refused = ferry.ask(&body).await;
        assert_eq!(refused.status(), 400);
        let body: serde_json::Value = refused.json().await.unwrap();
        assert_eq!(body["error"]["param"], "max_tokens", "{body}");
    }
}

#[tokio::test]
async fn the_apps_own_mistake_comes_back_as_the_upstream_said_it() {
    let ferry = Ferry::begin().await;
    let body = "{\"error\":{\"message\":\"temperature is 9\",\"type\":\"invalid_request_error\",\"param\":\"temperature\",\"code\":null}}";
    let headers = vec![
        ("content-type".to_owned(), "application/json".to_owned()),
        ("x-quarry-internal".to_owned(), "7".to_owned()),
    ];
    ferry.quayside.replay(Replay { status: 422, headers, body: body.into() });
    let answer = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!((answer.status().as_u16(), header(&answer, "wendor-attempts")), (422, "1".into()));
    assert_eq!(header(&answer, "x-quarry-internal"), "", "headers pass by allow-list");
    let id = header(&answer, "wendor-request-id");
    assert_eq!(answer.text().await.unwrap(), body);
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["request"]["end"], &shown["request"]["cost"]), (&json!("rejected"), &json!("0")));
    let upstreams = ferry.get("/upstreams").await;
    let quayside = upstreams.as_array().unwrap().iter().find(|upstream| upstream["name"] == "quayside").unwrap();
    assert_eq!(quayside["state"], "no traffic yet", "it says nothing about health");
}
