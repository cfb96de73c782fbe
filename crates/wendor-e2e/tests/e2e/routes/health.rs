//! What fails is left alone, its neighbours are not, and it comes back.

use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::Profile;

const TWO_MODELS: &str = r#"
[routes.manifests]
stages = [{ offers = ["quayside/dunlin-7b"] }]
"#;

async fn offer_of(ferry: &Ferry, route: &str) -> (u16, String, String) {
    let answer = ferry.ask(&question(route, true)).await;
    let seen = (answer.status().as_u16(), header(&answer, "wendor-offer"), header(&answer, "wendor-attempts"));
    answer.text().await.unwrap();
    seen
}

async fn quayside(ferry: &Ferry) -> Value {
    let upstreams = ferry.get("/upstreams").await;
    upstreams.as_array().unwrap().iter().find(|upstream| upstream["name"] == "quayside").unwrap().clone()
}

#[tokio::test]
async fn a_mended_server_comes_back_and_its_changes_are_told() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    for _ in 0..3 {
        assert_eq!(offer_of(&ferry, "night-sailings").await, (200, "quarry/fulmar-large".into(), "2".into()));
    }
    let asked = ferry.quayside.tally().requests;
    assert_eq!(offer_of(&ferry, "night-sailings").await, (200, "quarry/fulmar-large".into(), "1".into()));
    assert_eq!(ferry.quayside.tally().requests, asked, "it rests");
    let resting = quayside(&ferry).await;
    let health = &resting["offers"][0]["health"];
    assert_eq!((&resting["state"], &health["state"]), (&json!("failing"), &json!("failing")), "{resting}");
    assert!(health["next_trial"].is_string(), "{health}");
    assert_eq!(health["changes"][0]["why"], "3 failures in a row, the last: server-error (500)");
    let now = ferry.get("/now").await;
    let notice = now["attention"].as_array().unwrap().iter().find(|line| line["subject"] == "quayside/dunlin-70b");
    let why = notice.unwrap_or_else(|| panic!("{now}"))["why"].as_str().unwrap();
    assert!(why.contains("harbour has no working offer: no requests in the last 5 min"), "{why}");
    assert!(why.contains("night-sailings goes on to quarry/fulmar-large: none of 4 requests failed"), "{why}");
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    let began = Instant::now();
    until("it is asked as before", || async {
        (offer_of(&ferry, "night-sailings").await.1 == "quayside/dunlin-70b").then_some(())
    })
    .await;
    until("it is well", || async {
        offer_of(&ferry, "night-sailings").await;
        (quayside(&ferry).await["state"] == "well").then_some(())
    })
    .await;
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    for state in ["failing", "well"] {
        let line = format!("wendor_health_changes_total{{state=\"{state}\",upstream=\"quayside\"}} ");
        assert!(metrics.contains(&line), "{metrics}");
    }
}

#[tokio::test]
async fn one_model_that_is_limited_leaves_its_neighbours_asked() {
    let ferry = Ferry::with(Wishes::default()).await;
    let catalogue = ferry.catalogue(&Wishes { more: TWO_MODELS.to_owned(), ..Wishes::default() });
    let two = catalogue.replacen("offers.dunlin-70b", "offers.dunlin-7b = {}\noffers.dunlin-70b", 1);
    ferry.apply(&two).await;
    ferry.quayside.serve_models(&["dunlin-70b", "dunlin-7b"]);
    ferry.quayside.set_fault(Fault::Status { status: 429, retry_after: Some(30) }).await.unwrap();
    assert_eq!(offer_of(&ferry, "harbour").await.0, 429);
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    assert_eq!(offer_of(&ferry, "harbour").await.0, 503, "it asked to be left alone");
    assert_eq!(offer_of(&ferry, "manifests").await, (200, "quayside/dunlin-7b".into(), "1".into()));
}

/// Without another offer nobody is refused for it: it is asked though it rests.
#[tokio::test]
async fn where_nothing_else_is_left_it_is_asked_though_it_rests() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    for _ in 0..4 {
        assert_eq!(offer_of(&ferry, "harbour").await.0, 502);
    }
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    let answer = ferry.ask(&question("harbour", true)).await;
    assert_eq!(answer.status(), 200);
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    let shown = ferry.request(&id).await;
    let reason = shown["plan"][0]["reason"].as_str().unwrap();
    assert!(
        reason.starts_with("rests after failures until") || reason.starts_with("on trial after failures"),
        "{reason}"
    );
}

/// A stage that is open costs no waiting while a later one is well.
#[tokio::test]
async fn a_dead_server_is_waited_for_by_few() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    for _ in 0..3 {
        offer_of(&ferry, "night-sailings").await;
    }
    for _ in 0..6 {
        assert_eq!(offer_of(&ferry, "night-sailings").await.2, "1");
    }
}

#[tokio::test]
async fn a_request_too_long_for_one_offer_goes_to_a_larger_window() {
    let ferry = Ferry::begin().await;
    let catalogue = ferry.catalogue(&Wishes::default());
    ferry.quayside.set_fault(Fault::Status { status: 413, retry_after: None }).await.unwrap();
    assert_eq!(offer_of(&ferry, "night-sailings").await.0, 413, "no window is known to be larger");
    let windows = catalogue
        .replacen("offers.dunlin-70b = {", "offers.dunlin-70b = { context_window = 8192,", 1)
        .replacen("offers.fulmar-large = {", "offers.fulmar-large = { context_window = 200000,", 1);
    ferry.apply(&windows).await;
    assert_eq!(offer_of(&ferry, "night-sailings").await, (200, "quarry/fulmar-large".into(), "2".into()));
    assert_eq!(
        quayside(&ferry).await["offers"][0]["health"]["state"],
        "no traffic yet",
        "it says nothing of its health"
    );
}

/// A server that closes a connection under its second request, before a byte: nobody has begun to answer it, so it is sent once more.
#[tokio::test]
async fn a_kept_connection_that_turns_out_closed_is_no_failure() {
    const REPLY: &str = r#"{"id":"1","object":"chat.completion","created":1,"model":"m","choices":[{"index":0,"message":{"role":"assistant","content":"At seven."},"finish_reason":"stop"}],"usage":{"prompt_tokens":1,"completion_tokens":1,"total_tokens":2}}"#;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let serving = tokio::spawn(async move {
        loop {
            let (mut stream, _) = listener.accept().await.unwrap();
            tokio::spawn(async move {
                let mut seen = Vec::new();
                let mut is_answered = false;
                let mut buffer = [0_u8; 4096];
                while let Ok(read @ 1..) = stream.read(&mut buffer).await {
                    seen.extend_from_slice(&buffer[..read]);
                    if !seen.ends_with(b"}") {
                        continue;
                    }
                    if is_answered {
                        return;
                    }
                    (is_answered, seen) = (true, Vec::new());
                    let head = format!(
                        "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n",
                        REPLY.len()
                    );
                    stream.write_all(format!("{head}{REPLY}").as_bytes()).await.unwrap();
                }
            });
        }
    });
    let more = format!(
        "[upstreams.chartroom]\naddress = \"http://{address}\"\nhosting = \"own\"\noffers.dunlin-7b = {{}}\n\
         [routes.manifests]\nstages = [{{ offers = [\"chartroom/dunlin-7b\"] }}]\n"
    );
    let settings = vec![("WENDOR_WORKERS", "1".to_owned())];
    let ferry = Ferry::with(Wishes { more, settings, ..Wishes::default() }).await;
    for _ in 0..6 {
        let answer = ferry.ask(&question("manifests", false)).await;
        assert_eq!((answer.status().as_u16(), header(&answer, "wendor-attempts")), (200, "1".to_owned()));
        answer.text().await.unwrap();
    }
    serving.abort();
}

/// An app may wait for less than its route would, and that is not the offer's failure.
#[tokio::test]
async fn an_app_lowers_deadlines() {
    let ferry = Ferry::with(Wishes { patience: Some("20s"), ..Wishes::default() }).await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let ask = async |deadlines: &str| {
        let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        ask.header("wendor-deadlines", deadlines).json(&question("night-sailings", true)).send().await.unwrap()
    };
    let began = Instant::now();
    for _ in 0..4 {
        let answer = ask("first_event=200ms").await;
        assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
        answer.text().await.unwrap();
    }
    assert!(began.elapsed() < Duration::from_secs(20), "less than the route would wait once: {:?}", began.elapsed());
    assert_eq!(quayside(&ferry).await["offers"][0]["health"]["state"], "no traffic yet");
    // Also in the middle of an answer.
    ferry.quayside.set_fault(Fault::StallMidway).await.unwrap();
    for _ in 0..4 {
        let text = ask("between_events=200ms").await.text().await.unwrap_or_default();
        assert!(!text.contains("[DONE]"), "{text}");
    }
    let health = quayside(&ferry).await["offers"][0]["health"].clone();
    assert_eq!((&health["state"], &health["last_failure"]), (&"well".into(), &serde_json::Value::Null), "{health}");
    let wrong = ask("soon").await;
    assert_eq!(wrong.status(), 400);
    assert!(wrong.text().await.unwrap().contains("first_event=2s, whole=30s"));
}

/// Who takes nothing holds nothing for longer than the service lets it, and for no longer than the time of its request: the server polls no
/// stream whose app does not take what there is.
#[rstest]
#[case::by_the_service("1s", "60s")]
// Time enough for a busy machine to make what the sockets hold, some 4 MB.
#[case::by_its_route("60s", "10s")]
#[tokio::test]
async fn who_does_not_take_an_answer_holds_nothing_for_long(#[case] take_time: &str, #[case] whole: &str) {
    let talkative = Profile { answer_tokens: (400_000, 400_000), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let wishes = Wishes {
        quayside: Some(talkative),
        output_cap: Some(1_000_000),
        more: format!(
            "[routes.deck-plans]\nstages = [{{ offers = [\"quayside/dunlin-70b\"], whole = \"{whole}\" }}]\n"
        ),
        settings: vec![("WENDOR_TAKE_TIME", take_time.to_owned())],
        ..Wishes::default()
    };
    let ferry = Ferry::with(wishes).await;
    let answer = ferry.ask(&question("deck-plans", true)).await;
    assert_eq!(answer.status(), 200);
    until("nothing is under way there", || async { (quayside(&ferry).await["streams_open"] == 0).then_some(()) }).await;
    let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
    assert_eq!(shown["request"]["end"], "not-taken", "{shown}");
    assert!(shown["request"]["whole_ms"].as_u64().unwrap() < 20_000, "{shown}");
    assert_eq!(shown["attempts"][0]["failure"], Value::Null, "not the upstream's failure");
    assert_eq!(quayside(&ferry).await["state"], "well");
}

/// An app that takes all that comes is not slow, however slowly it comes.
#[tokio::test]
async fn a_server_that_is_slow_is_not_taken_for_an_app_that_is() {
    let slow = Profile { tokens_per_second: 1, answer_tokens: (3, 3), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let settings = vec![("WENDOR_TAKE_TIME", "200ms".to_owned())];
    let ferry = Ferry::with(Wishes { quayside: Some(slow), patience: Some("9s"), settings, ..Wishes::default() }).await;
    let answer = ferry.ask(&question("harbour", true)).await;
    let id = header(&answer, "wendor-request-id");
    assert!(answer.text().await.unwrap().ends_with("data: [DONE]\n\n"));
    assert_eq!(ferry.request(&id).await["request"]["end"], "proper");
}
