//! An app asks and is answered.

use bytes::Bytes;
use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use wendor_core::request_id::RequestId;
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::server::{Profile, Replay, StandIn};
use wendor_wire::dialect::Dialect;

#[tokio::test]
async fn a_whole_answer_comes_with_who_answered() {
    let ferry = Ferry::begin().await;
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(answer.status(), 200);
    assert_eq!(header(&answer, "wendor-offer"), "quayside/dunlin-70b");
    assert_eq!((header(&answer, "wendor-attempts"), header(&answer, "wendor-revision")), ("1".into(), "1".into()));
    let id = header(&answer, "wendor-request-id");
    assert!(!id.is_empty());
    assert_eq!((header(&answer, "x-request-id"), header(&answer, "request-id")), (id.clone(), id.clone()));
    let body: Value = answer.json().await.unwrap();
    assert_eq!(body["model"], "dunlin-70b", "the reply's model is what the upstream said");
    let shown = ferry.request(&id).await;
    assert_eq!(shown["request"]["tokens"]["output"], body["usage"]["completion_tokens"]);
    let seen = ferry.quayside.last_seen().unwrap();
    let header = |name: &str| seen.headers.iter().find(|(seen, _)| seen == name).map(|(_, value)| value.clone());
    let attempt = header("x-request-id").and_then(|uuid| RequestId::of_uuid(&uuid));
    assert_eq!(attempt, RequestId::parse(&id).map(|id| (id, 1)));
    assert_eq!(header("authorization"), None, "the app's key goes no further");
    assert_eq!(serde_json::from_slice::<Value>(&seen.body).unwrap()["model"], "dunlin-70b");
}

#[rstest]
#[case::not_asked(json!({}), false)]
#[case::asked(json!({ "include_usage": true }), true)]
#[case::declined(json!({ "include_usage": false }), false)]
#[tokio::test]
async fn usage_is_metered_and_shown_only_to_an_app_that_asked(#[case] options: Value, #[case] is_shown: bool) {
    let ferry = Ferry::begin().await;
    let mut body = question("night-sailings", true);
    body["stream_options"] = options;
    let answer = ferry.ask(&body).await;
    assert_eq!(header(&answer, "content-type"), "text/event-stream");
    let id = header(&answer, "wendor-request-id");
    let text = answer.text().await.unwrap();
    assert!(text.ends_with("data: [DONE]\n\n"), "{text}");
    assert_eq!(text.contains("\"prompt_tokens\""), is_shown);
    let shown = ferry.request(&id).await;
    assert_eq!(shown["request"]["estimated"], false);
    let served = ferry.quayside.served().pop().unwrap();
    assert_eq!(
        (&shown["request"]["tokens"]["input"], &shown["request"]["tokens"]["output"]),
        (&json!(served.input_tokens), &json!(served.output_tokens))
    );
}

#[tokio::test]
async fn events_come_as_they_are_made() {
    // Ten tokens a second: an answer that was gathered first would come in one piece, after more than a second.
    let slow =
        Profile { tokens_per_second: 10, answer_tokens: (12, 12), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { quayside: Some(slow), ..Default::default() }).await;
    let mut answer = ferry.ask(&question("night-sailings", true)).await;
    let mut pieces = 0;
    while let Some(piece) = answer.chunk().await.unwrap() {
        pieces += 1;
        if pieces == 3 {
            assert_eq!(ferry.quayside.tally().served, 0, "the app has its third piece before the answer is whole");
        }
        assert!(!piece.is_empty());
    }
    assert!(pieces >= 10, "{pieces}");
}

#[rstest]
#[case::all_of_its_team("timetables", &["harbour", "night-sailings"])]
#[case::those_of_its_team("freight-desk", &["night-sailings"])]
#[tokio::test]
async fn the_listing_holds_the_routes_of_the_key(#[case] team: &str, #[case] routes: &[&str]) {
    let ferry = Ferry::begin().await;
    let key = ferry.issue_key(team).await;
    let get = |path: &str| ferry.http.get(format!("{}{path}", ferry.service.url)).bearer_auth(&key).send();
    let listed: Value = get("/v1/models").await.unwrap().json().await.unwrap();
    let names: Vec<&str> =
        listed["data"].as_array().unwrap().iter().map(|model| model["id"].as_str().unwrap()).collect();
    assert_eq!(names, routes);
    let one = get("/v1/models/night-sailings").await.unwrap();
    assert_eq!((one.status().as_u16(), one.json::<Value>().await.unwrap()["object"].clone()), (200, json!("model")));
    let other = get("/v1/models/harbour").await.unwrap().status().as_u16();
    assert_eq!(other, if routes.contains(&"harbour") { 200 } else { 404 });
    let slash: Value = get("/v1/models/night%2Fsailings").await.unwrap().json().await.unwrap();
    assert!(slash["error"]["message"].as_str().unwrap().contains("Nearest: night-sailings"), "{slash}");
}

#[tokio::test]
async fn the_app_going_away_cancels_the_upstream_and_is_billed_by_what_had_come() {
    let slow =
        Profile { tokens_per_second: 50, answer_tokens: (90, 90), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { quayside: Some(slow), ..Default::default() }).await;
    let mut answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    answer.chunk().await.unwrap();
    answer.chunk().await.unwrap();
    drop(answer);
    let shown = ferry.request(&id).await;
    let request = &shown["request"];
    assert_eq!((&request["end"], &request["estimated"]), (&json!("cancelled"), &json!(true)));
    assert!(request["tokens"]["output"].as_u64().unwrap() < 90, "{request}");
    assert_ne!(request["cost"], "0");
    until("the stand-in to see it", || async { (ferry.quayside.tally().client_left == 1).then_some(()) }).await;
}

#[tokio::test]
async fn marks_of_the_app_stand_on_the_record() {
    let ferry = Ferry::begin().await;
    let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let request = request
        .header("wendor-run", "night-batch")
        .header("wendor-step", "7")
        .header("wendor-labels", "feature=search, env=prod");
    let answer = request.json(&question("night-sailings", false)).send().await.unwrap();
    let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
    let request = &shown["request"];
    assert_eq!((&request["run"], &request["step"]), (&json!("night-batch"), &json!("7")));
    assert_eq!(request["labels"], json!({ "feature": "search", "env": "prod" }));
    ferry.drained().await;
    assert_eq!(ferry.get("/requests?run=night-batch").await["requests"].as_array().unwrap().len(), 1);
    assert_eq!(ferry.get("/requests?run=other").await["requests"].as_array().unwrap().len(), 0);
}

#[tokio::test]
async fn open_streams_finish_after_sigterm_and_new_requests_do_not_begin() {
    let slow =
        Profile { tokens_per_second: 40, answer_tokens: (40, 40), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let mut ferry = Ferry::with(wendor_e2e::ferry::Wishes { quayside: Some(slow), ..Default::default() }).await;
    let mut answer = ferry.ask(&question("night-sailings", true)).await;
    answer.chunk().await.unwrap();
    ferry.service.terminate();
    until("the service to stop listening", || async {
        let asked = reqwest::Client::builder()
            .no_proxy()
            .build()
            .unwrap()
            .get(format!("{}/livez", ferry.service.url))
            .send()
            .await;
        asked.is_err().then_some(())
    })
    .await;
    let rest = answer.text().await.unwrap();
    assert!(rest.ends_with("data: [DONE]\n\n"), "{rest}");
    assert!(ferry.service.ended().await, "{}", ferry.service.log());
    // The log is read by a thread of its own, which may be a moment behind.
    let last = until("its last word", || async { ferry.service.logged("stopped") }).await;
    assert_eq!(last["pending"], 0, "its entry is in the database\n{}", ferry.service.log());
}

#[tokio::test]
async fn an_upstream_gets_ids_that_lead_back_to_the_record() {
    let ferry = Ferry::begin().await;
    let trace = "4bf92f3577b34da6a3ce929d0e0e4736";
    let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let request = request.header("traceparent", format!("00-{trace}-00f067aa0ba902b7-01"));
    let request = request.header("x-harbour-beta", "tides-2026").header("x-request-id", "of-the-app");
    let answer = request.json(&question("night-sailings", false)).send().await.unwrap();
    let id = header(&answer, "wendor-request-id");
    let seen = ferry.quayside.last_seen().unwrap();
    let sent = |name: &str| seen.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.clone());
    assert_eq!(sent("x-harbour-beta").as_deref(), Some("tides-2026"));
    let traceparent = sent("traceparent").unwrap();
    assert!(traceparent.contains(trace) && traceparent.ends_with("-01"), "{traceparent}");
    assert!(!traceparent.contains("00f067aa0ba902b7"), "it has a span of its own: {traceparent}");
    let uuid = sent("x-request-id").unwrap();
    assert_eq!((uuid.len(), &uuid[14..15]), (36, "8"), "{uuid}");
    let shown = ferry.request(&uuid).await;
    assert_eq!((&shown["request"]["id"], &shown["attempts"][0]["upstream_request_id"]), (&json!(id), &json!(uuid)));
}

#[tokio::test]
async fn a_server_that_counts_no_tokens_gives_an_estimate() {
    let ferry = Ferry::begin().await;
    let profile = Profile { dialect: Dialect::Messages, ..Profile::quick("farlight", &["fulmar-large"]) };
    let farlight = StandIn::start(profile).await.unwrap();
    ferry
        .apply(&format!(
            "[upstreams.farlight]\naddress = \"http://{}\"\ndialect = \"messages\"\nhosting = \"hosted\"\noffers.fulmar-large = {{}}\n\
             [routes.manifests]\nstages = [{{ offers = [\"farlight/fulmar-large\"] }}]\n[teams.timetables]\n",
            farlight.address()
        ))
        .await;
    let body = Bytes::from_static(b"{\"error\":\"no such path\"}");
    farlight.replay(Replay { status: 404, headers: Vec::new(), body });
    let request = ferry.http.post(format!("{}/v1/messages/count_tokens", ferry.service.url)).bearer_auth(&ferry.key);
    let asked = json!({ "model": "manifests", "messages": [{ "role": "user", "content": "Which berth?" }] });
    let answer = request.json(&asked).send().await.unwrap();
    assert_eq!(answer.status(), 200);
    assert!(header(&answer, "wendor-notes").contains("estimate"), "{:?}", answer.headers());
    assert!(answer.json::<Value>().await.unwrap()["input_tokens"].as_u64().unwrap() > 0);
    let states = ferry.get("/upstreams").await.to_string();
    assert!(!states.contains("\"failing\""), "it is well: {states}");
}

#[tokio::test]
async fn a_log_that_nobody_reads_stops_nothing() {
    let mut ferry = Ferry::begin().await;
    ferry.service.terminate();
    ferry.service.ended().await;
    ferry.start.unread_after = Some("listening");
    ferry.restart().await;
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(answer.status(), 200);
    ferry.drained().await;
    ferry.service.terminate();
    assert!(ferry.service.ended().await, "{}", ferry.service.log());
}

#[tokio::test]
async fn health_readiness_and_metrics_tell_what_is() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", true)).await.text().await.unwrap();
    let whole = ferry.ask(&question("night-sailings", false)).await;
    let whole = ferry.request(&header(&whole, "wendor-request-id")).await["request"].clone();
    assert!(
        whole["first_token_ms"].is_null() && whole["answering_ms"].is_u64(),
        "a whole reply has no first token: {whole}"
    );
    let get = |path: &str| ferry.http.get(format!("{}{path}", ferry.service.url)).send();
    assert_eq!(get("/livez").await.unwrap().status(), 200);
    let ready: Value = get("/readyz").await.unwrap().json().await.unwrap();
    assert_eq!((&ready["ready"], &ready["not_ready"], &ready["revision"]), (&json!(true), &json!([]), &json!(1)));
    let metrics = get("/metrics").await.unwrap().text().await.unwrap();
    for line in [
        "wendor_requests_total{end=\"proper\",route=\"night-sailings\"} 2",
        "wendor_first_token_seconds_count{route=\"night-sailings\"} 1",
        "wendor_streams_open 0",
    ] {
        assert!(metrics.contains(line), "{line} is not in\n{metrics}");
    }
}

/// Processes begin with few open files on most systems, and may have more.
#[tokio::test]
async fn more_connections_are_open_than_a_process_begins_with_files() {
    let mut ferry = Ferry::begin().await;
    ferry.start.files = Some((128, 1_024));
    ferry.service.kill();
    ferry.restart().await;
    let address = ferry.service.url.trim_start_matches("http://").to_owned();
    let connections = (0..200).map(|_| async {
        let mut connection = tokio::net::TcpStream::connect(&address).await.unwrap();
        connection.write_all(b"GET /livez HTTP/1.1\r\nhost: ferry\r\n\r\n").await.unwrap();
        let mut said = [0; 12];
        connection.read_exact(&mut said).await.unwrap();
        assert_eq!(&said, b"HTTP/1.1 200");
        connection
    });
    let held = futures_util::future::join_all(connections).await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    assert_eq!(held.len(), 200);
    let log = ferry.service.log();
    assert!(log.contains("or set `connections` to 412"), "it is told that even the most is too little: {log}");
}
