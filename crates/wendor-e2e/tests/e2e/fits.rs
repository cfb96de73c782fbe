//! Which offer can serve a request: abilities, windows, controls and marks are looked at before anything is sent.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header};
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;

const PICTURE: &str = "data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";

/// Two upstreams behind the route `berths`, each with what its offer says; the second is asked when the first cannot.
async fn harbour(offers: [(Dialect, &str); 2], route: &str) -> (Ferry, StandIn, StandIn) {
    let ferry = Ferry::begin().await;
    let mut started = Vec::new();
    let mut catalogue = String::new();
    for (name, (dialect, offer)) in ["quayside-a", "quayside-b"].into_iter().zip(offers) {
        let profile = Profile { dialect, ..Profile::quick(name, &["dunlin-7b"]) };
        let standin = StandIn::start(profile).await.unwrap();
        catalogue.push_str(&format!(
            "[upstreams.{name}]\naddress = \"http://{}\"\ndialect = \"{dialect}\"\nhosting = \"own\"\n[upstreams.{name}.offers.dunlin-7b]\n{offer}\n",
            standin.address()
        ));
        started.push(standin);
    }
    catalogue.push_str(&format!(
        "[routes.berths]\n{route}\nstages = [{{ offers = [\"quayside-a/dunlin-7b\"] }}, {{ offers = [\"quayside-b/dunlin-7b\"] }}]\n[teams.timetables]\n"
    ));
    ferry.apply(&catalogue).await;
    let second = started.pop().unwrap();
    (ferry, started.pop().unwrap(), second)
}

const CHAT: Dialect = Dialect::ChatCompletions;

fn chat(more: Value) -> Value {
    let mut body = json!({ "model": "berths", "messages": [{ "role": "user", "content": "Which berth?" }] });
    body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    body
}

fn picture() -> Value {
    json!({ "messages": [{ "role": "user", "content": [{ "type": "image_url", "image_url": { "url": PICTURE } }] }] })
}

#[rstest]
#[case::tools("abilities = [\"chat\", \"streaming\", \"whole\"]", json!({ "tools": [{ "type": "function", "function": { "name": "f" } }] }), "does not offer tools")]
#[case::images("abilities = [\"chat\", \"streaming\", \"whole\"]", picture(), "does not offer images-in")]
#[case::json("abilities = [\"chat\", \"streaming\", \"whole\"]", json!({ "response_format": { "type": "json_object" } }), "does not offer json")]
#[case::reasoning("abilities = [\"chat\", \"streaming\", \"whole\"]", json!({ "reasoning_effort": "low" }), "does not offer reasoning")]
#[case::image_kind("image_kinds = [\"image/jpeg\"]", picture(), "is image/png")]
#[case::window("context_window = 40", json!({ "max_tokens": 200 }), "do not fit its window of 40")]
#[case::control("controls = { service-tier = \"refuse\" }", json!({ "service_tier": "flex" }), "cannot take `service_tier`")]
#[tokio::test]
async fn an_offer_that_cannot_is_left_out_and_the_next_one_answers(
    #[case] first: &str,
    #[case] more: Value,
    #[case] reason: &str,
) {
    let (ferry, unasked, asked) = harbour([(CHAT, first), (CHAT, "")], "").await;
    let answer = ferry.ask(&chat(more)).await;
    let id = header(&answer, "wendor-request-id");
    let offer = header(&answer, "wendor-offer");
    let text = answer.text().await.unwrap();
    assert_eq!(offer, "quayside-b/dunlin-7b", "{text}");
    assert_eq!((unasked.tally().requests, asked.tally().requests), (0, 1));
    let plan = ferry.request(&id).await["plan"].clone();
    assert!(plan[0]["reason"].as_str().unwrap().contains(reason), "{plan}");
    // A plain one is taken by the first.
    assert_eq!(header(&ferry.ask(&chat(json!({}))).await, "wendor-offer"), "quayside-a/dunlin-7b");
}

#[tokio::test]
async fn where_nobody_can_the_app_is_told_field_and_offer_and_nothing_is_sent() {
    let (ferry, first, second) = harbour([(Dialect::Messages, ""), (Dialect::Responses, "")], "").await;
    let answer = ferry.ask(&chat(json!({ "logit_bias": { "7": 1 } }))).await;
    assert_eq!(answer.status(), 400);
    let error: Value = answer.json().await.unwrap();
    assert_eq!(
        (&error["error"]["param"], &error["error"]["code"]),
        (&json!("logit_bias"), &json!("unsupported_parameter"))
    );
    let message = error["error"]["message"].as_str().unwrap();
    assert!(message.contains("quayside-a/dunlin-7b, quayside-b/dunlin-7b: cannot take `logit_bias`"), "{message}");
    let page = message.split("More: ").nth(1).unwrap();
    let page = ferry.http.get(page).send().await.unwrap();
    assert_eq!(page.status(), 200);
    assert!(page.text().await.unwrap().contains("unsupported_parameter"));
    assert_eq!((first.tally().requests, second.tally().requests), (0, 0));
}

#[tokio::test]
async fn a_strict_route_takes_no_approximation() {
    let seed = chat(json!({ "seed": 7 }));
    let (ferry, strict, exact) =
        harbour([(Dialect::Messages, ""), (Dialect::GenerateContent, "")], "strict = true").await;
    let answer = ferry.ask(&seed).await;
    assert_eq!(
        (header(&answer, "wendor-offer").as_str(), header(&answer, "wendor-notes").as_str()),
        ("quayside-b/dunlin-7b", "")
    );
    assert_eq!((strict.tally().requests, exact.tally().requests), (0, 1));
    let (ferry, _approximating, _exact) = harbour([(Dialect::Messages, ""), (Dialect::GenerateContent, "")], "").await;
    let answer = ferry.ask(&seed).await;
    assert_eq!(header(&answer, "wendor-offer"), "quayside-a/dunlin-7b");
    assert!(header(&answer, "wendor-notes").starts_with("seed: "), "{}", header(&answer, "wendor-notes"));
}

#[rstest]
#[case::gathered("abilities = [\"chat\", \"streaming\"]", false)]
#[case::taken_apart("abilities = [\"chat\", \"whole\"]", true)]
#[tokio::test]
async fn where_only_streams_or_only_whole_replies_exist_the_other_is_made(#[case] offer: &str, #[case] streamed: bool) {
    for dialect in [CHAT, Dialect::Messages, Dialect::LocalChat] {
        let (ferry, standin, _) = harbour([(dialect, offer), (CHAT, "")], "").await;
        let answer = ferry.ask(&chat(json!({ "stream": streamed }))).await;
        assert_eq!(header(&answer, "wendor-offer"), "quayside-a/dunlin-7b");
        let text = answer.text().await.unwrap();
        assert_eq!(text.ends_with("data: [DONE]\n\n"), streamed, "{text}");
        assert!(text.contains("\"content\":\""), "{text}");
        let seen: Value = serde_json::from_slice(&standin.last_seen().unwrap().body).unwrap();
        assert_eq!(seen["stream"] == true, !streamed, "{dialect}: {seen}");
        assert_eq!(standin.tally().served, 1);
    }
}

#[rstest]
#[case::stripped("", Value::Null, "service_tier")]
#[case::passed("controls = { service-tier = \"pass\" }", json!("flex"), "")]
#[tokio::test]
async fn what_reaches_beyond_one_request_is_as_the_offer_says(
    #[case] offer: &str,
    #[case] sent: Value,
    #[case] noted: &str,
) {
    let (ferry, standin, _) = harbour([(CHAT, offer), (CHAT, "")], "").await;
    let answer = ferry.ask(&chat(json!({ "service_tier": "flex", "sailing_mode": "fast" }))).await;
    assert!(header(&answer, "wendor-notes").starts_with(noted));
    let seen: Value = serde_json::from_slice(&standin.last_seen().unwrap().body).unwrap();
    // What nobody knows goes on untouched to an upstream of the same dialect.
    assert_eq!((&seen["service_tier"], &seen["sailing_mode"]), (&sent, &json!("fast")));
}

#[tokio::test]
async fn an_image_is_what_its_bytes_are() {
    let (ferry, standin, _) = harbour([(CHAT, ""), (CHAT, "")], "").await;
    let wrong = PICTURE.replace("image/png", "image/jpeg");
    let body = json!({ "model": "berths", "messages": [{ "role": "user", "content": [{ "type": "image_url", "image_url": { "url": wrong } }] }] });
    let answer = ferry.ask(&body).await;
    assert_eq!(answer.status(), 400);
    let error: Value = answer.json().await.unwrap();
    assert_eq!(error["error"]["param"], "messages[0].content[0]", "{error}");
    assert_eq!(standin.tally().requests, 0);
}
