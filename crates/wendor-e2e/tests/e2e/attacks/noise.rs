//! What anybody without a key could take from those who have one: cores, memory, connections, and the sight of what is wrong.

use std::collections::BTreeMap;
use std::time::Duration;

use futures_util::future::join_all;
use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use wendor_core::catalog::key::{KeyKind, KeyText};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};

/// Says `text` on a connection of its own, and gives all that comes until it is closed.
async fn said(ferry: &Ferry, text: &str) -> String {
    let mut stream = TcpStream::connect(ferry.service.url.trim_start_matches("http://")).await.unwrap();
    stream.write_all(text.as_bytes()).await.unwrap();
    let mut all = Vec::new();
    let read = tokio::time::timeout(Duration::from_secs(30), stream.read_to_end(&mut all)).await;
    read.expect("it is closed in time").unwrap();
    String::from_utf8(all).unwrap()
}

#[tokio::test]
async fn sign_ins_at_once_are_few_and_the_rest_is_told_to_come_back() {
    let ferry = Ferry::begin().await;
    let body = json!({ "name": "harbour-master", "password": "a tide table in summer" });
    let attempts = join_all((0..40).map(|_| ferry.http.post(ferry.manage("/sign-in")).json(&body).send())).await;
    let mut statuses: BTreeMap<u16, usize> = BTreeMap::new();
    for attempt in attempts.into_iter().map(Result::unwrap) {
        let status = attempt.status().as_u16();
        *statuses.entry(status).or_default() += 1;
        if status == 429 {
            assert_eq!(header(&attempt, "retry-after"), "2");
            assert!(attempt.text().await.unwrap().contains("urn:wendor:problem:too-many"));
        }
    }
    let (hashed, told) = (statuses.remove(&401).unwrap_or(0), statuses.remove(&429).unwrap_or(0));
    assert!(hashed >= 1 && told >= 1 && statuses.is_empty(), "{hashed} hashed, {told} told, {statuses:?}");
    assert_eq!(ferry.ask(&question("harbour", false)).await.status(), 200);
}

#[rstest]
#[case::sign_in("/sign-in")]
#[case::session("/session")]
#[tokio::test]
async fn what_anybody_can_send_is_small(#[case] path: &str) {
    let ferry = Ferry::begin().await;
    let large = json!({ "name": "a".repeat(64 * 1024), "password": "" });
    let answer = ferry.http.post(ferry.manage(path)).json(&large).send().await.unwrap();
    assert_eq!(answer.status(), 413);
    assert!(answer.text().await.unwrap().contains("larger than 65536 bytes"));
}

#[tokio::test]
async fn what_anybody_can_send_comes_in_time_or_not_at_all() {
    let ferry = Ferry::begin().await;
    let head = "POST /manage/v1/sign-in HTTP/1.1\r\nhost: x\r\nconnection: close\r\ncontent-type: application/json\r\ncontent-length: 40\r\n\r\n{";
    let refusal = said(&ferry, head).await;
    assert!(refusal.starts_with("HTTP/1.1 408"), "{refusal}");
    // Who has no key is told before anything of the body is waited for.
    let head = "POST /api/show HTTP/1.1\r\nhost: x\r\nconnection: close\r\ncontent-length: 40\r\n\r\n";
    let refusal = said(&ferry, head).await;
    assert!(refusal.starts_with("HTTP/1.1 401"), "{refusal}");
}

#[tokio::test]
async fn a_connection_that_sends_nothing_is_closed() {
    let settings = vec![("WENDOR_HEAD_TIME", "1s".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let (nothing, half) =
        tokio::join!(said(&ferry, ""), said(&ferry, "POST /v1/chat/completions HTTP/1.1\r\nhost: x\r\n"));
    assert!([nothing, half].iter().all(|told| told.is_empty() || told.starts_with("HTTP/1.1 408")));
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    let open = metrics.lines().find_map(|line| line.strip_prefix("wendor_connections_open ")).unwrap();
    assert!((1..=20).contains(&open.parse::<u32>().unwrap()), "{open} open");
}

#[tokio::test]
async fn made_up_keys_hide_no_real_refusal() {
    let ferry = Ferry::begin().await;
    let refused = ferry.ask(&question("nowhere", false)).await;
    assert_eq!(refused.status(), 404);
    let made_up = (0..1_500_u32).map(|number| {
        let bytes = std::array::from_fn(|at| number.to_be_bytes()[at % 4] ^ u8::try_from(at).unwrap());
        KeyText::mint(KeyKind::App, &bytes).0.expose().to_owned()
    });
    for keys in made_up.collect::<Vec<_>>().chunks(50) {
        let asked =
            keys.iter().map(|key| async { ferry.ask_with(key, &question("harbour", false)).await.status().as_u16() });
        assert!(join_all(asked).await.iter().all(|status| *status == 401));
    }
    let seen = ferry.get("/refusals").await;
    let of = |reason: &str| -> Vec<Value> {
        seen["counts"].as_array().unwrap().iter().filter(|count| count["reason"] == reason).cloned().collect()
    };
    let real = of("route_not_found");
    assert_eq!(
        (real.len(), &real[0]["team"], &real[0]["wanted"]),
        (1, &json!("timetables"), &json!("nowhere")),
        "{real:?}"
    );
    let unknown = of("unknown_key");
    assert!(unknown.len() <= 2 && unknown.iter().all(|count| count["key"].is_null()), "{unknown:?}");
    assert_eq!(unknown.iter().map(|count| count["count"].as_u64().unwrap()).sum::<u64>(), 1_500);
    assert!(seen["latest"].as_array().unwrap().iter().any(|one| one["wanted"] == "nowhere"));
    assert!(ferry.wendor(&["now"]).await.out.contains("nowhere"));
}
