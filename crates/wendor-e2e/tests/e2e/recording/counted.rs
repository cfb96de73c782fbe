//! What is counted where: every endpoint with usage told and not told, images, limits that are reserved, and usage for apps that asked.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::server::{Profile, StandIn};

use super::reply;

/// Three upstreams, of the dialects that have endpoints beside a conversation's.
async fn begin() -> (Ferry, Vec<StandIn>) {
    let ferry = Ferry::begin().await;
    let (mut standins, mut catalogue) = (Vec::new(), String::from("[teams.timetables]\n"));
    for dialect in ["chat-completions", "generate-content", "local-chat"] {
        let standin = StandIn::start(Profile::quick(dialect, &["knot"])).await.unwrap();
        catalogue.push_str(&format!(
            "[upstreams.{dialect}]\naddress = \"http://{}\"\ndialect = \"{dialect}\"\nhosting = \"own\"\n\
             offers.knot = {{ rates = [{{ from = 2026-01-01, input = 1, output = 2, image = 0.04, image_sizes = {{ \"64x64\" = 0.01 }} }}] }}\n\
             [routes.to-{dialect}]\nstages = [{{ offers = [\"{dialect}/knot\"] }}]\n",
            standin.address()
        ));
        standins.push(standin);
    }
    ferry.apply(&catalogue).await;
    (ferry, standins)
}

const IMAGE: &str = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";

/// What is asked, what comes back, and what is counted of it: input or more, output, images, whether it is an estimate, cost.
#[rstest]
#[case::completions_told((0, "/v1/completions"), json!({ "model": "to-chat-completions", "prompt": "Tide" }), r#"{"choices":[{"text":"High at nine","index":0,"finish_reason":"stop"}],"usage":{"prompt_tokens":3,"completion_tokens":4,"total_tokens":7}}"#, (3, 4, 0, false), "0.000011")]
#[case::completions_untold((0, "/v1/completions"), json!({ "model": "to-chat-completions", "prompt": "Tide" }), r#"{"choices":[{"text":"High at nine","index":0,"finish_reason":"stop"}]}"#, (1, 3, 0, true), "")]
#[case::generate_told((2, "/api/generate"), json!({ "model": "to-local-chat", "prompt": "Tide", "stream": false }), r#"{"response":"High at nine","done":true,"prompt_eval_count":3,"eval_count":4}"#, (3, 4, 0, false), "0.000011")]
#[case::generate_untold((2, "/api/generate"), json!({ "model": "to-local-chat", "prompt": "Tide", "stream": false }), r#"{"response":"High at nine","done":true}"#, (1, 3, 0, true), "")]
#[case::embeddings_told((0, "/v1/embeddings"), json!({ "model": "to-chat-completions", "input": "Tide" }), r#"{"object":"list","data":[{"object":"embedding","index":0,"embedding":[0.5]}],"usage":{"prompt_tokens":3,"total_tokens":3}}"#, (3, 0, 0, false), "0.000003")]
#[case::embeddings_untold((0, "/v1/embeddings"), json!({ "model": "to-chat-completions", "input": "Tide" }), r#"{"object":"list","data":[{"object":"embedding","index":0,"embedding":[0.5]}]}"#, (1, 0, 0, true), "")]
#[case::vectors_of_contents((1, "/v1beta/models/to-generate-content:embedContent"), json!({ "content": { "parts": [{ "text": "Tide" }] } }), r#"{"embedding":{"values":[0.5]}}"#, (1, 0, 0, true), "")]
#[case::vectors_of_a_local_server((2, "/api/embed"), json!({ "model": "to-local-chat", "input": "Tide" }), r#"{"embeddings":[[0.5]],"prompt_eval_count":3}"#, (3, 0, 0, false), "0.000003")]
#[case::images_untold((0, "/v1/images/generations"), json!({ "model": "to-chat-completions", "prompt": "A ferry", "n": 2 }), r#"{"data":[{"b64_json":"IMAGE"},{"b64_json":"IMAGE"}]}"#, (1, 0, 2, true), "")]
#[case::images_of_a_size((0, "/v1/images/generations"), json!({ "model": "to-chat-completions", "prompt": "A ferry", "size": "64x64" }), r#"{"data":[{"url":"https://gull-sound.example/1.png"}]}"#, (1, 0, 1, true), "")]
#[case::counting((1, "/v1beta/models/to-generate-content:countTokens"), json!({ "contents": [{ "parts": [{ "text": "Tide" }] }] }), r#"{"totalTokens":7}"#, (0, 0, 0, false), "0")]
#[tokio::test]
async fn every_endpoint_is_counted_whether_usage_is_told_or_not(
    #[case] (upstream, path): (usize, &str),
    #[case] body: Value,
    #[case] answer: &str,
    #[case] (input, output, images, estimated): (u64, u64, u64, bool),
    #[case] cost: &str,
) {
    let (ferry, standins) = begin().await;
    // Half a million bytes of images must not count as text.
    let answer = answer.replace("IMAGE", &IMAGE.repeat(5_000));
    standins[upstream].replay(reply("application/json", &answer));
    let (status, id) = super::post(&ferry, &ferry.key, path, body.to_string()).await;
    assert_eq!(status, 200);
    let line = ferry.request(&id).await["request"].clone();
    let tokens = &line["tokens"];
    assert_eq!(
        (&tokens["output"], &line["images"], &line["estimated"]),
        (&json!(output), &json!(images), &json!(estimated)),
        "{line}"
    );
    let counted = tokens["all_input"].as_u64().unwrap();
    assert!(if estimated { (input..=60).contains(&counted) } else { counted == input }, "{line}");
    let expected = match images {
        0 if cost.is_empty() => {
            (rust_decimal::Decimal::from(counted) + rust_decimal::Decimal::from(2 * output))
                / rust_decimal::Decimal::from(1_000_000)
        }
        0 => cost.parse().unwrap(),
        count => {
            let each: rust_decimal::Decimal =
                if line["image_size"] == "64x64" { "0.01" } else { "0.04" }.parse().unwrap();
            each * rust_decimal::Decimal::from(count)
                + rust_decimal::Decimal::from(counted) / rust_decimal::Decimal::from(1_000_000)
        }
    };
    assert_eq!(line["cost"].as_str().unwrap().parse::<rust_decimal::Decimal>().unwrap(), expected, "{line}");
}

#[tokio::test]
async fn images_without_a_rate_are_unpriced_and_said_to_be() {
    let ferry = Ferry::begin().await;
    ferry.quayside.replay(reply("application/json", r#"{"data":[{"b64_json":"AAAA"}]}"#));
    let body = json!({ "model": "night-sailings", "prompt": "A ferry" }).to_string();
    let (status, id) = super::post(&ferry, &ferry.key, "/v1/images/generations", body).await;
    assert_eq!(status, 200);
    let shown = ferry.request(&id).await;
    assert_eq!((&shown["request"]["images"], &shown["request"]["cost"]), (&json!(1), &Value::Null), "{shown}");
    let printed = ferry.wendor(&["request", "show", &id]).await.out;
    assert!(printed.contains("Unpriced"), "{printed}");
}

/// Where the app sets no limit and something is refused past one, the offer's cap is reserved and sent, and stands on the record.
#[rstest]
#[case::tokens(r#"{ measure = "tokens", per = "month", limit = 100000 }"#, true)]
#[case::cost(r#"{ measure = "cost", per = "month", limit = 100 }"#, true)]
#[case::it_only_warns(r#"{ measure = "tokens", per = "month", limit = 100000, at_limit = "warn" }"#, false)]
#[case::requests_alone(r#"{ measure = "requests", per = "month", limit = 1000 }"#, false)]
#[tokio::test]
async fn what_is_reserved_covers_what_can_be_used(#[case] quotas: &str, #[case] is_sent: bool) {
    let ferry = Ferry::with(Wishes { quotas: quotas.to_owned(), ..Wishes::default() }).await;
    let sent = |ferry: &Ferry| serde_json::from_slice::<Value>(&ferry.quayside.last_seen().unwrap().body).unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(sent(&ferry)["max_completion_tokens"], if is_sent { json!(100) } else { Value::Null });
    let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
    let change = shown["changes"].as_array().unwrap().iter().find(|change| change["member"] == "max_completion_tokens");
    assert_eq!(change.is_some(), is_sent, "{shown}");
    assert_eq!(header(&answer, "wendor-notes").contains("max_completion_tokens: 100"), is_sent);
    // The app's own limits stay as they are.
    let mut limited = question("night-sailings", false);
    limited["max_tokens"] = json!(7);
    ferry.ask(&limited).await;
    assert_eq!((&sent(&ferry)["max_tokens"], &sent(&ferry)["max_completion_tokens"]), (&json!(7), &Value::Null));
}

#[tokio::test]
async fn of_two_limits_the_larger_is_reserved() {
    let quotas = r#"{ measure = "output-tokens", per = "month", limit = 50 }"#;
    let ferry = Ferry::with(Wishes { quotas: quotas.to_owned(), ..Wishes::default() }).await;
    let mut body = question("night-sailings", false);
    (body["max_completion_tokens"], body["max_tokens"]) = (json!(5), json!(60));
    assert_eq!(ferry.ask(&body).await.status(), 429);
    body["max_tokens"] = json!(40);
    assert_eq!(ferry.ask(&body).await.status(), 200);
}

/// An upstream that does not tell what it used: the app that asked gets an estimate, and is told that it is one.
#[tokio::test]
async fn usage_that_an_app_asked_for_comes_as_an_estimate_where_nobody_tells_it() {
    let ferry = Ferry::begin().await;
    let stream = "data: {\"id\":\"x\",\"choices\":[{\"index\":0,\"delta\":{\"content\":\"High at nine\"}}]}\n\ndata: {\"id\":\"x\",\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\ndata: [DONE]\n\n";
    let mut body = question("night-sailings", true);
    body["stream_options"] = json!({ "include_usage": true });
    for round in 0..2 {
        ferry.quayside.replay(reply("text/event-stream", stream));
        let answer = ferry.ask(&body).await;
        // That it does not tell is known from its last answer on.
        assert_eq!(header(&answer, "wendor-notes").contains("usage"), round > 0, "{round}");
        let id = header(&answer, "wendor-request-id");
        let text = answer.text().await.unwrap();
        let frames: Vec<&str> = text.split("\n\n").filter(|frame| !frame.is_empty()).collect();
        assert_eq!(frames.len(), 4, "{text}");
        let usage: Value = serde_json::from_str(frames[2].strip_prefix("data: ").unwrap()).unwrap();
        assert_eq!((&usage["choices"], &usage["object"]), (&json!([]), &json!("chat.completion.chunk")));
        let line = ferry.request(&id).await["request"].clone();
        assert_eq!(
            usage["usage"]["completion_tokens"], line["tokens"]["output"],
            "what it is told is what is recorded"
        );
        assert_eq!(usage["usage"]["prompt_tokens"], line["tokens"]["all_input"]);
        assert_eq!(line["estimated"], true);
    }
    ferry.quayside.replay(reply("text/event-stream", stream));
    let unasked = ferry.ask(&question("night-sailings", true)).await.text().await.unwrap();
    assert!(!unasked.contains("usage"), "who did not ask gets none: {unasked}");
    let printed = ferry.wendor(&["upstream", "list"]).await.out;
    assert!(printed.contains("reports no usage"), "{printed}");
}

/// What an offer reports teaches how it counts: the estimate comes nearer, and its error is shown.
#[tokio::test]
async fn input_is_estimated_as_the_offer_counts_it() {
    let ferry = Ferry::begin().await;
    let mut body = question("harbour", false);
    body["messages"][0]["content"] = json!("When is the last ferry to Stack Isle? ".repeat(40));
    let by_bytes = u64::try_from(body.to_string().len()).unwrap() / 4;
    let reported = by_bytes * 3 / 2;
    let answer = |usage: bool| {
        let usage = if usage {
            format!(r#","usage":{{"prompt_tokens":{reported},"completion_tokens":2}}"#)
        } else {
            String::new()
        };
        format!(
            r#"{{"choices":[{{"index":0,"message":{{"role":"assistant","content":"At nine"}},"finish_reason":"stop"}}]{usage}}}"#
        )
    };
    for _ in 0..4 {
        ferry.quayside.replay(reply("application/json", &answer(true)));
        assert_eq!(ferry.ask(&body).await.status(), 200);
    }
    ferry.quayside.replay(reply("application/json", &answer(false)));
    let untold = ferry.ask(&body).await;
    assert!(header(&untold, "wendor-notes").contains("usage: the upstream does not report it"));
    let line = ferry.request(&header(&untold, "wendor-request-id")).await["request"].clone();
    let counted = line["tokens"]["all_input"].as_u64().unwrap();
    assert!(
        line["estimated"] == true && counted.abs_diff(reported) <= reported / 20,
        "{counted}, reported {reported}, by bytes {by_bytes}"
    );
    let upstreams = ferry.get("/upstreams").await;
    let quayside = upstreams.as_array().unwrap().iter().find(|upstream| upstream["name"] == "quayside").unwrap();
    let counting = &quayside["offers"][0]["input_counting"];
    assert!(counting["bytes_a_token"].as_str().unwrap().starts_with("2."), "{counting}");
    assert!(counting["error_percent"].is_string(), "{counting}");
}

/// What an answer holds that the app's dialect has no words for stands on the record, and in the head where that has not left yet.
#[rstest]
#[case::whole(false)]
#[case::streamed(true)]
#[tokio::test]
async fn an_image_that_cannot_be_passed_on_is_told(#[case] streamed: bool) {
    let (ferry, standins) = begin().await;
    let parts = json!([{ "text": "Here it is." }, { "inlineData": { "mimeType": "image/png", "data": IMAGE } }]);
    let answer = json!({ "candidates": [{ "content": { "role": "model", "parts": parts }, "index": 0, "finishReason": "STOP" }] });
    let (kind, answer) = if streamed {
        ("text/event-stream", format!("data: {answer}\n\n"))
    } else {
        ("application/json", answer.to_string())
    };
    standins[1].replay(reply(kind, &answer));
    let asked = ferry.ask(&question("to-generate-content", streamed)).await;
    assert_eq!(header(&asked, "wendor-notes").contains("images in the answer: left out"), !streamed);
    let id = header(&asked, "wendor-request-id");
    let _all = asked.text().await.unwrap();
    let shown = ferry.request(&id).await;
    let changes = shown["changes"].as_array().unwrap();
    let of_images = changes.iter().find(|change| change["member"] == "images in the answer").expect("it is told");
    assert_eq!((&of_images["before"], &shown["request"]["images"]), (&json!("1"), &json!(1)), "{shown}");
    let page = ferry.wendor(&["request", "show", &id]).await.out;
    assert!(page.contains("chat-completions has no place for them"), "{page}");
}
