//! Keys: where they are found, which are refused and how, and how soon after revoking.

use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, question};
use wendor_e2e::waiting::until;

async fn ask_as(ferry: &Ferry, headers: &[(&str, String)], query: &str) -> (u16, String) {
    let mut request = ferry.http.post(format!("{}/v1/chat/completions{query}", ferry.service.url));
    for (name, value) in headers {
        request = request.header(*name, value);
    }
    let answer = request.json(&question("night-sailings", false)).send().await.unwrap();
    let status = answer.status().as_u16();
    let body: Value = answer.json().await.unwrap();
    (status, body["error"]["code"].as_str().unwrap_or_default().to_owned())
}

#[tokio::test]
async fn a_key_is_found_wherever_client_libraries_put_it() {
    let ferry = Ferry::begin().await;
    let key = ferry.key.clone();
    for (name, value) in [
        ("authorization", format!("Bearer {key}")),
        ("authorization", format!("bearer  {key}")),
        ("x-api-key", key.clone()),
        ("api-key", key.clone()),
        ("x-harbour-api-key", key.clone()),
    ] {
        assert_eq!(ask_as(&ferry, &[(name, value)], "").await.0, 200, "{name}");
    }
    assert_eq!(ask_as(&ferry, &[], &format!("?key={key}")).await.0, 200);
    let twice = [("authorization", format!("Bearer {key}")), ("x-api-key", key.clone())];
    assert_eq!(ask_as(&ferry, &twice, "").await.0, 200, "the same key twice is one key");
    let two = [("authorization", format!("Bearer {key}")), ("x-api-key", "wdr-other".to_owned())];
    assert_eq!(ask_as(&ferry, &two, "").await, (401, "two_keys".into()));
}

#[rstest]
#[case::none("", "no_key")]
#[case::other_form("quarry-4711", "not_a_key")]
#[case::persons_token("{owner}", "not_a_key")]
#[case::mistyped("{key}x", "mistyped_key")]
#[case::cut("{cut}", "mistyped_key")]
#[case::unknown("{unknown}", "unknown_key")]
#[tokio::test]
async fn each_wrong_key_is_told_apart(#[case] presented: &str, #[case] code: &str) {
    let ferry = Ferry::begin().await;
    let (_, unknown) =
        (0, wendor_core::catalog::key::KeyText::mint(wendor_core::catalog::key::KeyKind::App, &[9; 25]).0);
    let presented = presented
        .replace("{owner}", &ferry.owner)
        .replace("{key}", &ferry.key)
        .replace("{cut}", &ferry.key[..ferry.key.len() - 3])
        .replace("{unknown}", unknown.expose());
    assert_eq!(ask_as(&ferry, &[("authorization", format!("Bearer {presented}"))], "").await, (401, code.to_owned()));
}

#[tokio::test]
async fn a_revoked_key_is_refused_within_a_second() {
    let ferry = Ferry::begin().await;
    let id = ferry.key.split('-').nth(1).unwrap().to_owned();
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    let revoked = ferry.wendor(&["key", "revoke", &id]).await;
    assert_eq!(revoked.status, 0, "{}", revoked.err);
    let began = Instant::now();
    until("the key to be refused", || async {
        let answer = ferry.ask(&question("night-sailings", false)).await;
        (answer.status() == 401).then_some(answer.json::<Value>().await.unwrap())
    })
    .await;
    assert!(began.elapsed() < Duration::from_secs(1), "{:?}", began.elapsed());
    let (status, code) = ask_as(&ferry, &[("api-key", ferry.key.clone())], "").await;
    assert_eq!((status, code.as_str()), (401, "revoked_key"));
    let listed = ferry.wendor(&["key", "list"]).await.out;
    assert!(listed.contains("revoked"), "{listed}");
}

#[tokio::test]
async fn another_instance_refuses_a_revoked_key_within_a_second_too() {
    let ferry = Ferry::begin().await;
    let other = wendor_e2e::service::Start { spool: ferry.folder().join("other-spool"), ..ferry.start.clone() };
    let other = wendor_e2e::service::Service::start(&other).await;
    let ask = || {
        ferry
            .http
            .post(format!("{}/v1/chat/completions", other.url))
            .bearer_auth(&ferry.key)
            .json(&question("night-sailings", false))
            .send()
    };
    assert_eq!(ask().await.unwrap().status(), 200);
    let id = ferry.key.split('-').nth(1).unwrap();
    ferry.post(&format!("/keys/{id}/revoke"), &json!({})).await;
    let began = Instant::now();
    until("the other instance to refuse it", || async { (ask().await.unwrap().status() == 401).then_some(()) }).await;
    assert!(began.elapsed() < Duration::from_secs(1), "{:?}", began.elapsed());
}

#[tokio::test]
async fn an_expired_key_is_refused_and_one_with_routes_reaches_only_these() {
    let ferry = Ferry::begin().await;
    let soon = chrono::Utc::now() + chrono::TimeDelta::milliseconds(1_500);
    let issue = async |body: Value| ferry.post("/keys", &body).await["key"].as_str().unwrap().to_owned();
    let short = issue(json!({ "team": "timetables", "label": "short", "expires_at": soon })).await;
    let narrow = issue(json!({ "team": "timetables", "label": "narrow", "routes": ["harbour"] })).await;
    let code = async |key: &str, route: &str| {
        let answer: Value = ferry.ask_with(key, &question(route, false)).await.json().await.unwrap();
        answer["error"]["code"].as_str().unwrap_or("answered").to_owned()
    };
    until("the key to work", || async { (code(&short, "harbour").await == "answered").then_some(()) }).await;
    until("the key to expire", || async { (code(&short, "harbour").await == "expired_key").then_some(()) }).await;
    assert_eq!(code(&narrow, "harbour").await, "answered");
    assert_eq!(code(&narrow, "night-sailings").await, "route_not_found");
}

#[rstest]
#[case::no_such_team(json!({ "team": "timetable", "label": "x" }), 404, "nearest: `timetables`")]
#[case::no_label(json!({ "team": "timetables", "label": " " }), 400, "say what the key is for")]
#[case::in_the_past(json!({ "team": "timetables", "label": "x", "expires_at": "2020-01-01T00:00:00Z" }), 400, "lies in the past")]
#[case::no_such_route(json!({ "team": "timetables", "label": "x", "routes": ["harbor"] }), 404, "nearest: `harbour`")]
#[case::not_of_the_team(json!({ "team": "freight-desk", "label": "x", "routes": ["harbour"] }), 400, "may not use harbour")]
#[case::no_route_at_all(json!({ "team": "timetables", "label": "x", "routes": [] }), 400, "would never work")]
#[case::unknown_field(json!({ "team": "timetables", "label": "x", "quota": 1 }), 400, "unknown field `quota`")]
#[tokio::test]
async fn a_key_that_would_be_wrong_is_not_issued(#[case] body: Value, #[case] status: u16, #[case] detail: &str) {
    let ferry = Ferry::begin().await;
    let answer = ferry.http.post(ferry.manage("/keys")).bearer_auth(&ferry.owner).json(&body).send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "application/problem+json");
    assert_eq!(answer.status().as_u16(), status);
    let problem: Value = answer.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
    assert_eq!(ferry.get("/keys").await.as_array().unwrap().len(), 1);
}
