//! Bad input: each gets a clear error of the dialect that names the value and the remedy, and none of it reaches the ledger.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};

async fn post(ferry: &Ferry, body: impl Into<reqwest::Body>) -> (u16, Value) {
    let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let answer = request.body(body).send().await.unwrap();
    assert!(!header(&answer, "wendor-request-id").is_empty());
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[rstest]
#[case::not_json("hello", 400, Value::Null, "invalid_json")]
#[case::empty("", 400, Value::Null, "invalid_json")]
#[case::no_model(r#"{"messages":[]}"#, 400, json!("model"), "missing_member")]
#[case::no_messages(r#"{"model":"night-sailings"}"#, 400, json!("messages"), "missing_member")]
#[case::messages_twice(r#"{"model":"night-sailings","messages":[],"messages":[]}"#, 400, json!("messages"), "repeated_member")]
#[case::model_twice(r#"{"model":"night-sailings","model":"harbour","messages":[]}"#, 400, json!("model"), "repeated_member")]
#[case::wrong_type(r#"{"model":"night-sailings","messages":[],"stream":"yes"}"#, 400, json!("stream"), "invalid_type")]
#[case::no_such_route(r#"{"model":"night-sailing","messages":[]}"#, 404, json!("model"), "route_not_found")]
#[case::odd_route("{\"model\":\"\\u0000\u{1f6a2}\\\"\",\"messages\":[]}", 404, json!("model"), "route_not_found")]
#[tokio::test]
async fn a_bad_body_is_told_with_its_member(
    #[case] body: &'static str,
    #[case] status: u16,
    #[case] param: Value,
    #[case] code: &str,
) {
    let ferry = Ferry::begin().await;
    let (got, error) = post(&ferry, body).await;
    assert_eq!(
        (got, &error["error"]["param"], error["error"]["code"].as_str()),
        (status, &param, Some(code)),
        "{error}"
    );
    if code == "route_not_found" && body.contains("night") {
        let message = error["error"]["message"].as_str().unwrap();
        assert!(
            message.contains("Nearest: night-sailings.")
                && message.contains("This key may use harbour, night-sailings."),
            "{message}"
        );
    }
    let refusals = ferry.get("/refusals").await;
    assert!(refusals["counts"].as_array().unwrap().iter().any(|count| count["reason"] == code), "{refusals}");
    ferry.drained().await;
    assert_eq!(ferry.get("/requests").await["requests"], json!([]));
}

#[tokio::test]
async fn absurd_nesting_and_a_body_over_the_limit_are_refused() {
    let ferry =
        Ferry::with(Wishes { settings: vec![("WENDOR_BODY_LIMIT", "64KiB".into())], ..Wishes::default() }).await;
    let (status, error) =
        post(&ferry, format!(r#"{{"model":"night-sailings","messages":{}"#, "[".repeat(50_000))).await;
    assert_eq!((status, error["error"]["code"].as_str()), (400, Some("nested_too_deep")));
    let fits =
        format!(r#"{{"model":"night-sailings","messages":[{{"role":"user","content":"{}"}}]}}"#, "a ".repeat(30_000));
    assert_eq!(post(&ferry, fits.clone()).await.0, 200);
    let (status, error) = post(&ferry, fits.replace("a ", "ab ")).await;
    assert_eq!((status, error["error"]["code"].as_str()), (413, Some("body_too_large")));
    assert!(error["error"]["message"].as_str().unwrap().contains("65536 bytes"), "{error}");
    // Without a declared length the limit is met while reading.
    let pieces = futures_util::stream::iter((0..40).map(|_| Ok::<_, std::io::Error>("x".repeat(4_096))));
    assert_eq!(post(&ferry, reqwest::Body::wrap_stream(pieces)).await.0, 413);
}

#[tokio::test]
async fn bodies_together_are_bounded() {
    let settings = vec![("WENDOR_BODY_LIMIT", "64KiB".into()), ("WENDOR_BODIES_LIMIT", "16KiB".into())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let body = |length: usize| {
        format!(
            r#"{{"model":"night-sailings","messages":[{{"role":"user","content":"Hm"}}],"x":"{}"}}"#,
            "a".repeat(length)
        )
    };
    assert_eq!(post(&ferry, body(8_000)).await.0, 200);
    let (status, error) = post(&ferry, body(30_000)).await;
    assert_eq!((status, error["error"]["code"].as_str()), (503, Some("too_many_bodies")));
    assert_eq!(post(&ferry, body(8_000)).await.0, 200, "what was taken is given back");
}

#[rstest]
#[case::empty_run("wendor-run", "")]
#[case::long_run("wendor-run", "r".repeat(129))]
#[case::not_labels("wendor-labels", "search")]
#[case::too_many_labels("wendor-labels", (0..17).map(|number| format!("l{number}=1")).collect::<Vec<_>>().join(","))]
#[tokio::test]
async fn a_bad_header_of_ours_is_told(#[case] name: &str, #[case] value: impl Into<String>) {
    let ferry = Ferry::begin().await;
    let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let answer = request.header(name, value.into()).json(&question("night-sailings", false)).send().await.unwrap();
    assert_eq!(answer.status(), 400);
    let error: Value = answer.json().await.unwrap();
    assert!(error["error"]["message"].as_str().unwrap().contains(name), "{error}");
}

#[rstest]
#[case::near("/v1/chat/completion", "Nearest: /v1/chat/completions.")]
#[case::far("/harbour/office/hours/of/today", "There is nothing at /harbour/office/hours/of/today.")]
#[tokio::test]
async fn an_unknown_path_gets_the_nearest(#[case] path: &str, #[case] told: &str) {
    let ferry = Ferry::begin().await;
    let answer = ferry
        .http
        .post(format!("{}{path}", ferry.service.url))
        .bearer_auth(&ferry.key)
        .body("{}")
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 404);
    let error: Value = answer.json().await.unwrap();
    assert!(error["error"]["message"].as_str().unwrap().contains(told), "{error}");
}

#[tokio::test]
async fn a_wrong_method_and_an_unknown_call_are_told_in_the_form_of_their_plane() {
    let ferry = Ferry::begin().await;
    let get = ferry.http.get(format!("{}/v1/chat/completions", ferry.service.url)).send().await.unwrap();
    assert_eq!(get.status(), 405);
    let error: Value = get.json().await.unwrap();
    let message = error["error"]["message"].as_str().unwrap();
    assert!(message.starts_with("/v1/chat/completions accepts only POST."), "{message}");
    let unknown = ferry.http.get(ferry.manage("/harbours")).bearer_auth(&ferry.owner).send().await.unwrap();
    assert_eq!((unknown.status().as_u16(), header(&unknown, "content-type")), (404, "application/problem+json".into()));
    let problem: Value = unknown.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("GET /manage/v1/harbours"), "{problem}");
}
