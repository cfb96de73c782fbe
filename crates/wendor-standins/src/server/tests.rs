use super::*;
use rstest::rstest;
use serde_json::{Value, json};

async fn ask(standin: &StandIn, body: &Value) -> reqwest::Result<reqwest::Response> {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let client = reqwest::Client::builder().no_proxy().build()?;
    client.post(format!("http://{}/v1/chat/completions", standin.address())).json(body).send().await
}

fn question(model: &str, streamed: bool) -> Value {
    json!({ "model": model, "stream": streamed, "stream_options": { "include_usage": true },
            "messages": [{ "role": "user", "content": "When is the next sailing?" }] })
}

#[tokio::test]
async fn a_stream_and_a_whole_reply_say_the_same_and_are_tallied() {
    let standin = StandIn::start(Profile::quick("quayside", &["dunlin-7b"])).await.unwrap();
    let whole: Value = ask(&standin, &question("dunlin-7b", false)).await.unwrap().json().await.unwrap();
    let text = ask(&standin, &question("dunlin-7b", true)).await.unwrap().text().await.unwrap();
    let frames: Vec<Value> =
        text.lines().filter_map(|line| serde_json::from_str(line.strip_prefix("data: ")?).ok()).collect();
    let streamed: String = frames.iter().filter_map(|frame| frame["choices"][0]["delta"]["content"].as_str()).collect();
    assert_eq!(whole["choices"][0]["message"]["content"], json!(streamed));
    assert!(text.ends_with("data: [DONE]\n\n"));
    let usage = &frames.last().unwrap()["usage"];
    assert_eq!(usage, &whole["usage"]);
    let tally = standin.tally();
    assert_eq!((tally.served, json!(tally.output_tokens / 2)), (2, usage["completion_tokens"].clone()));
}

#[rstest]
#[case::refused(Fault::Refuse, None)]
#[case::status(Fault::Status { status: 429, retry_after: Some(7) }, Some(429))]
#[case::garbage(Fault::Garbage, Some(200))]
#[tokio::test]
async fn a_fault_is_shown_until_it_is_taken_back(#[case] fault: Fault, #[case] status: Option<u16>) {
    let standin = StandIn::start(Profile::quick("quayside", &["dunlin-7b"])).await.unwrap();
    standin.set_fault(fault).await.unwrap();
    let shown = ask(&standin, &question("dunlin-7b", false)).await;
    assert_eq!(shown.as_ref().ok().map(|answer| answer.status().as_u16()), status);
    standin.set_fault(Fault::None).await.unwrap();
    assert_eq!(ask(&standin, &question("dunlin-7b", false)).await.unwrap().status(), 200);
    assert_eq!(standin.tally().served, 1);
}

#[tokio::test]
async fn it_demands_its_credential_and_knows_its_models() {
    let profile = Profile { credential: Some("s3cret".into()), ..Profile::quick("quarry", &["fulmar-large"]) };
    let closed = StandIn::start(profile).await.unwrap();
    assert_eq!(ask(&closed, &question("fulmar-large", false)).await.unwrap().status(), 401);
    let open = StandIn::start(Profile::quick("quarry", &["fulmar-large"])).await.unwrap();
    assert_eq!(ask(&open, &question("dunlin-7b", false)).await.unwrap().status(), 404);
}

#[rstest]
#[case::no_messages(json!([]), "at least one")]
#[case::an_unknown_role(json!([{ "role": "harbourmaster", "content": "Hm" }]), "role")]
#[case::another_type(json!("Hm"), "messages")]
#[tokio::test]
async fn what_servers_refuse_it_refuses_in_its_dialect(#[case] messages: Value, #[case] told: &str) {
    let standin = StandIn::start(Profile::quick("quayside", &["dunlin-7b"])).await.unwrap();
    let answer = ask(&standin, &json!({ "model": "dunlin-7b", "messages": messages })).await.unwrap();
    assert_eq!(answer.status(), 400);
    let error: Value = answer.json().await.unwrap();
    assert!(error["error"]["message"].as_str().unwrap().contains(told), "{error}");
}

#[tokio::test]
async fn choices_and_log_probabilities_come_as_they_are_wanted() {
    let standin = StandIn::start(Profile::quick("quayside", &["dunlin-7b"])).await.unwrap();
    let mut body = question("dunlin-7b", false);
    body["n"] = json!(3);
    body["logprobs"] = json!(true);
    body["top_logprobs"] = json!(2);
    let whole: Value = ask(&standin, &body).await.unwrap().json().await.unwrap();
    let choices = whole["choices"].as_array().unwrap();
    let texts: Vec<&str> = choices.iter().map(|choice| choice["message"]["content"].as_str().unwrap()).collect();
    assert!(texts.len() == 3 && texts[0] != texts[1] && texts[1] != texts[2], "{texts:?}");
    for (choice, text) in choices.iter().zip(texts) {
        let tokens = choice["logprobs"]["content"].as_array().unwrap();
        let said: String = tokens.iter().map(|token| token["token"].as_str().unwrap()).collect();
        assert_eq!(said, text);
        assert!(tokens.iter().all(|token| token["top_logprobs"].as_array().unwrap().len() == 2), "{tokens:?}");
    }
}

#[tokio::test]
async fn a_legacy_text_streams() {
    let standin = StandIn::start(Profile::quick("quayside", &["dunlin-7b"])).await.unwrap();
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let body =
        json!({ "model": "dunlin-7b", "prompt": "Hm", "stream": true, "stream_options": { "include_usage": true } });
    let asked = client.post(format!("http://{}/v1/completions", standin.address())).json(&body);
    let answer = asked.send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "text/event-stream");
    let text = answer.text().await.unwrap();
    assert!(text.ends_with("data: [DONE]\n\n") && text.contains("\"completion_tokens\""), "{text}");
}
