//! Credentials that Wendor keeps: encrypted, never shown again, replaced with an overlap, and found nowhere else.

use std::process::Command;
use std::time::{Duration, Instant};

use serde_json::json;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_e2e::wendor::wendor;
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;

use super::{SECRET, with_secret};

const OLD: &str = "planted-first-key-of-the-pier";
const NEW: &str = "planted-second-key-of-the-pier";

/// A server that knows the first key alone.
async fn pier() -> StandIn {
    StandIn::start(Profile { credential: Some(OLD.into()), ..Profile::quick("pier", &["dunlin-7b"]) }).await.unwrap()
}

async fn with_pier(ferry: &Ferry, pier: &StandIn, key: &str) -> String {
    let environment = [("WENDOR_URL", ferry.service.url.as_str()), ("WENDOR_TOKEN", ferry.owner.as_str())];
    let address = format!("http://{}/v1/chat/completions", pier.address());
    let args = ["upstream", "add", &address, "--name", "pier", "--key-stdin", "--yes"];
    let added = wendor(&args, &environment, &format!("Bearer {key}\n")).await;
    assert_eq!(added.status, 0, "{} {}", added.out, added.err);
    ferry.post("/routes", &json!({ "name": "deck-plans", "offers": ["pier/dunlin-7b"] })).await;
    added.out + added.err.as_str()
}

#[tokio::test]
async fn a_kept_key_serves_requests_and_is_found_nowhere() {
    let settings = vec![(SECRET.0, SECRET.1.to_owned()), ("WENDOR_LOG", "debug".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let pier = pier().await;
    let mut seen = with_pier(&ferry, &pier, OLD).await;
    let answer = ferry.ask(&question("deck-plans", false)).await;
    assert_eq!(answer.status(), 200);
    seen.push_str(&ferry.request(&header(&answer, "wendor-request-id")).await.to_string());
    // Every way in which it could come back: checks, refusals that repeat it, exports, changes, errors.
    seen.push_str(&ferry.wendor(&["upstream", "check", "pier"]).await.out);
    seen.push_str(&ferry.post("/upstreams/pier/credential", &json!({ "value": NEW })).await.to_string());
    seen.push_str(&ferry.wendor(&["--json", "upstream", "check", "pier"]).await.out);
    let odd = ferry.http.post(ferry.manage("/upstreams/pier/credential")).bearer_auth(&ferry.owner);
    let odd = odd.json(&json!({ "value": format!("{OLD}ä") })).send().await.unwrap();
    assert_eq!(odd.status(), 400);
    seen.push_str(&odd.text().await.unwrap());
    let draft = json!({ "address": format!("http://{}", pier.address()), "credential": { "value": OLD } });
    seen.push_str(&ferry.post("/upstreams/check", &json!({ "draft": draft })).await.to_string());
    for path in ["catalogue", "revisions", "upstreams", "inventory", "now", "requests"] {
        seen.push_str(&ferry.get(&format!("/{path}")).await.to_string());
    }
    ferry.drained().await;
    // What is written into a log on purpose is found by the same search: a person's name is logged with what they do.
    let marked = "planted-name-that-is-logged";
    let token = ferry.sign_in(marked, "owner", None).await;
    let made = ferry.http.post(ferry.manage("/teams")).bearer_auth(token).json(&json!({ "name": "harbour-ops" }));
    assert_eq!(made.send().await.unwrap().status(), 200);
    seen.push_str(
        &ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap(),
    );
    seen.push_str(&ferry.service.log());
    let dump = Command::new("pg_dump").arg("--inserts").arg(&ferry.database.url).output().unwrap();
    seen.push_str(&String::from_utf8_lossy(&dump.stdout));
    for file in std::fs::read_dir(&ferry.start.spool).unwrap() {
        seen.push_str(&String::from_utf8_lossy(&std::fs::read(file.unwrap().path()).unwrap()));
    }
    assert!(seen.contains("INSERT INTO public.upstream_credential") && seen.contains("credential-kept"));
    assert!(seen.contains(marked), "the search does find what is logged");
    let hex = |text: &str| text.bytes().map(|byte| format!("{byte:02x}")).collect::<String>();
    for secret in [OLD, NEW, SECRET.1] {
        assert!(!seen.contains(secret), "{secret} has leaked");
        assert!(!seen.contains(&hex(secret)), "{secret} has leaked as hexadecimal digits");
    }
}

#[tokio::test]
async fn a_replaced_key_is_used_where_the_new_one_is_refused_until_its_time_is_over() {
    let ferry = Ferry::with(with_secret()).await;
    let pier = pier().await;
    with_pier(&ferry, &pier, OLD).await;
    let kept = ferry.post("/upstreams/pier/credential", &json!({ "value": NEW, "overlap_seconds": 3600 })).await;
    assert!(kept["previous_until"].is_string() && !kept.to_string().contains(NEW), "{kept}");
    // The server does not know the new one yet.
    assert_eq!(ferry.ask(&question("deck-plans", true)).await.status(), 200);
    let again = ferry.post("/upstreams/pier/credential", &json!({ "value": format!("{NEW}-again") })).await;
    assert_eq!(again["previous_until"], json!(null));
    assert_eq!(
        ferry.ask(&question("deck-plans", true)).await.status(),
        502,
        "without an overlap the new one stands alone"
    );
}

#[tokio::test]
async fn an_overlap_ends_when_it_was_said_to() {
    let ferry = Ferry::with(with_secret()).await;
    let pier = pier().await;
    with_pier(&ferry, &pier, OLD).await;
    let replaced = Instant::now();
    ferry.post("/upstreams/pier/credential", &json!({ "value": NEW, "overlap_seconds": 5 })).await;
    assert_eq!(ferry.ask(&question("deck-plans", true)).await.status(), 200, "the old one is used meanwhile");
    until("the old key to be left alone", async || {
        (ferry.ask(&question("deck-plans", true)).await.status() == 502).then_some(())
    })
    .await;
    assert!(replaced.elapsed() >= Duration::from_secs(5), "it was used for {:?}", replaced.elapsed());
}

#[tokio::test]
async fn nothing_is_kept_without_a_secret_and_another_secret_says_what_to_do() {
    let ferry = Ferry::begin().await;
    let refused = ferry.http.post(ferry.manage("/upstreams/quarry/credential")).bearer_auth(&ferry.owner);
    let refused = refused.json(&json!({ "value": NEW })).send().await.unwrap();
    assert_eq!(refused.status(), 400);
    assert!(refused.text().await.unwrap().contains("set WENDOR_SECRET"));

    let mut ferry = Ferry::with(with_secret()).await;
    let pier = pier().await;
    with_pier(&ferry, &pier, OLD).await;
    ferry.service.terminate();
    ferry.service.ended().await;
    for setting in &mut ferry.start.environment {
        if setting.0 == SECRET.0 {
            setting.1 = "another secret, which opens nothing of before".to_owned();
        }
    }
    ferry.restart().await;
    let report = ferry.post("/upstreams/check", &json!({ "name": "pier" })).await.to_string();
    assert!(
        report.contains("credential-missing") && report.contains("was kept under another WENDOR_SECRET"),
        "{report}"
    );
    let readiness = ferry.http.get(format!("{}/readyz", ferry.service.url)).send().await.unwrap();
    assert_eq!(readiness.status(), 503);
    let readiness = readiness.text().await.unwrap();
    assert!(readiness.contains("the credentials of pier were kept under another WENDOR_SECRET"), "{readiness}");
}

/// What a person types for a plain server is cleaned, and a placeholder refused, before anything is kept.
#[tokio::test]
async fn a_local_server_is_brought_in_by_a_whole_endpoint_path() {
    let ferry = Ferry::begin().await;
    let profile = Profile { dialect: Dialect::LocalChat, ..Profile::quick("chartroom", &["dunlin-7b:latest"]) };
    let server = StandIn::start(profile).await.unwrap();
    let address = format!("{}/api/chat", server.address());
    let added = ferry.wendor(&["upstream", "add", &address, "--yes"]).await;
    assert_eq!(added.status, 0, "{} {}", added.out, added.err);
    assert!(
        added.out.contains("+ upstream server-") && added.out.contains("offers.dunlin-7b:latest.context_window: 8192"),
        "{}",
        added.out
    );
    let unknown =
        ferry.wendor(&["upstream", "add", &address, "--name", "b", "--models", "dunlim-7b:latest", "--yes"]).await;
    assert_eq!(unknown.status, 4);
    assert!(unknown.err.contains("Nearest: dunlin-7b:latest."), "{}", unknown.err);
}
