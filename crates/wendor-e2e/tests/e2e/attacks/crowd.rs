//! A team that takes all that there is: memory of bodies, connections, streams. What others find all the same.

use std::time::Duration;

use futures_util::future::join_all;
use reqwest::{Client, Response};
use serde_json::Value;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;

async fn code_of(answer: Response) -> (u16, String) {
    let status = answer.status().as_u16();
    let body: Value = answer.json().await.unwrap();
    (status, body["error"]["code"].as_str().unwrap_or_default().to_owned())
}

/// A connection on which a request of that key has begun and does not go on.
async fn half_a_body(ferry: &Ferry, key: &str, bytes: usize) -> TcpStream {
    let mut stream = TcpStream::connect(ferry.service.url.trim_start_matches("http://")).await.unwrap();
    let head = format!(
        "POST /v1/chat/completions HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {key}\r\ncontent-length: {}\r\n\r\n",
        2 * bytes
    );
    stream.write_all(head.as_bytes()).await.unwrap();
    stream.write_all(&vec![b' '; bytes]).await.unwrap();
    stream
}

async fn answered(stream: &mut TcpStream) -> String {
    let mut text = vec![0; 4_096];
    let read = tokio::time::timeout(Duration::from_secs(20), stream.read(&mut text)).await;
    let read = read.expect("it is answered").unwrap();
    String::from_utf8_lossy(&text[..read]).into_owned()
}

#[tokio::test]
async fn large_bodies_of_one_team_leave_room_for_others() {
    let settings = vec![("WENDOR_BODIES_LIMIT", "1MiB".into()), ("WENDOR_BODY_RATE", "0".into())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let other = ferry.issue_key("freight-desk").await;
    let mut greedy = Vec::new();
    for _ in 0..20 {
        greedy.push(half_a_body(&ferry, &ferry.key, 100 * 1024).await);
    }
    // All of them do not fit into seven eighths of it. Which are refused depends on which parts come first: a refused one gives its room back.
    let answers = greedy.iter_mut().map(|stream| Box::pin(answered(stream)));
    let (refused, ..) = futures_util::future::select_all(answers).await;
    assert!(refused.starts_with("HTTP/1.1 503") && refused.contains("too_many_bodies"), "{refused}");
    let large = serde_json::json!({
        "model": "night-sailings", "messages": [{ "role": "user", "content": "a ".repeat(40 * 1024) }]
    });
    assert_eq!(ferry.ask_with(&other, &large).await.status(), 200);
}

#[tokio::test]
async fn bodies_that_come_in_drops_are_ended() {
    let ferry = Ferry::begin().await;
    let mut stream = half_a_body(&ferry, &ferry.key, 10).await;
    let (mut read, mut write) = stream.split();
    let mut text = vec![0; 4_096];
    let end = loop {
        tokio::select! {
            came = read.read(&mut text) => break came.unwrap(),
            () = tokio::time::sleep(Duration::from_millis(700)) => write.write_all(b" ").await.unwrap(),
        }
    };
    let head = String::from_utf8_lossy(&text[..end]);
    assert!(head.starts_with("HTTP/1.1 408") && head.contains("body_too_slow"), "{head}");
}

/// Streams that stay open until the fault is taken away.
async fn hung(ferry: &Ferry, key: &str, number: usize) -> Vec<tokio::task::JoinHandle<Response>> {
    let ask = |_| {
        let (http, url, key) = (ferry.http.clone(), ferry.service.url.clone(), key.to_owned());
        tokio::spawn(async move {
            let ask = http.post(format!("{url}/v1/chat/completions")).bearer_auth(key).json(&question("harbour", true));
            ask.send().await.unwrap()
        })
    };
    (0..number).map(ask).collect()
}

async fn streams_at_quayside(ferry: &Ferry) -> u64 {
    let upstreams = ferry.get("/upstreams").await;
    let all = upstreams.as_array().unwrap().iter();
    all.into_iter().find(|one| one["name"] == "quayside").unwrap()["streams_open"].as_u64().unwrap()
}

#[tokio::test]
async fn streams_of_one_team_leave_some_for_others() {
    let ferry =
        Ferry::with(Wishes { streams: Some(8), room: Some("0ms"), patience: Some("60s"), ..Wishes::default() }).await;
    let more = "[teams.freight-desk]";
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    assert!(text.contains(more), "{text}");
    let harbour = text.replace("routes = [\"night-sailings\"]", "");
    ferry.apply(&harbour).await;
    let other = ferry.issue_key("freight-desk").await;
    ferry.quayside.set_fault(Fault::StallMidway).await.unwrap();
    let greedy = hung(&ferry, &ferry.key, 7).await;
    until("seven streams", || async { (streams_at_quayside(&ferry).await == 7).then_some(()) }).await;
    let (status, _) = code_of(ferry.ask(&question("harbour", true)).await).await;
    assert_eq!(status, 503, "the eighth is kept for others");
    let others = hung(&ferry, &other, 1).await;
    until("eight streams", || async { (streams_at_quayside(&ferry).await == 8).then_some(()) }).await;
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    drop((greedy, others));
}

#[tokio::test]
async fn a_team_and_a_key_have_as_many_streams_as_they_are_given() {
    let quotas = r#"{ measure = "streams", per = "team", limit = 3 }, { measure = "streams", per = "key", limit = 2 }"#;
    let ferry = Ferry::with(Wishes { quotas: quotas.to_owned(), patience: Some("60s"), ..Wishes::default() }).await;
    let (second, other) = (ferry.issue_key("timetables").await, ferry.issue_key("freight-desk").await);
    ferry.quayside.set_fault(Fault::StallMidway).await.unwrap();
    let of_first = hung(&ferry, &ferry.key, 2).await;
    until("two streams", || async { (streams_at_quayside(&ferry).await == 2).then_some(()) }).await;
    assert_eq!(code_of(ferry.ask(&question("harbour", true)).await).await, (429, "streams_full".to_owned()));
    let of_second = hung(&ferry, &second, 1).await;
    until("three streams", || async { (streams_at_quayside(&ferry).await == 3).then_some(()) }).await;
    let full = ferry.ask_with(&second, &question("harbour", true)).await;
    assert_eq!(full.headers()["retry-after"], "1");
    let full: Value = full.json().await.unwrap();
    assert!(
        full["error"]["message"].as_str().unwrap().starts_with("Team timetables has 3 requests under way"),
        "{full}"
    );
    let teams = ferry.get("/teams").await;
    let team = teams.as_array().unwrap().iter().find(|team| team["name"] == "timetables").unwrap();
    assert_eq!(
        (&team["streams"]["limit"], &team["streams"]["open"], &team["streams_of_key"]),
        (&3.into(), &3.into(), &2.into())
    );
    let shown = ferry.wendor(&["team", "list"]).await.out;
    assert!(shown.contains("streams at once"), "{shown}");
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    assert_eq!(ferry.ask_with(&other, &question("night-sailings", false)).await.status(), 200);
    // Their answers go with them.
    drop((of_first, of_second));
    until("they are over", || async {
        let answer = ferry.ask(&question("harbour", false)).await;
        (answer.status() == 200).then_some(())
    })
    .await;
    // The file says it back.
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    assert!(text.contains(r#"{ measure = "streams", per = "team", limit = 3 }"#), "{text}");
}

#[tokio::test]
async fn connections_of_one_team_leave_some_for_others() {
    let settings = vec![("WENDOR_CONNECTIONS", "64".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let other = ferry.issue_key("freight-desk").await;
    let ask = async |key: String| {
        // A client of its own has a connection of its own.
        let client = Client::builder().no_proxy().build().unwrap();
        let ask = client.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(key);
        let answer = ask.json(&question("night-sailings", false)).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap(), client)
    };
    let mut open = Vec::new();
    let mut refused = None;
    for _ in 0..58 {
        let (status, text, client) = ask(ferry.key.clone()).await;
        open.push(client);
        if status == 429 {
            refused = Some(text);
            break;
        }
        assert_eq!(status, 200, "{text}");
    }
    assert!(refused.expect("some are kept for others").contains("too_many_connections"));
    assert_eq!(open.len(), 57, "seven eighths of 64, and the one that was refused");
    let answers = join_all((0..2).map(|_| ask(other.clone()))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
}
