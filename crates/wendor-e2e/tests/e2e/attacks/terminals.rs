//! What others write must do nothing to the terminal of whoever looks, nor be read on the disk by anybody.

use std::os::unix::fs::PermissionsExt;

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::wendor::wendor;
use wendor_standins::memory::Replay;

/// Colours, a cleared screen in one byte, and an order of reading that is turned.
const NASTY: &str = "\u{1b}[31mred\u{9b}2J\u{202e}dne";

fn is_harmless(text: &str) -> bool {
    text.chars().all(|letter| !wendor_core::shown::is_hidden(letter))
}

#[tokio::test]
async fn nothing_of_others_reaches_a_terminal_raw() {
    let ferry = Ferry::begin().await;
    let stream = json!({ "choices": [{ "index": 0, "delta": { "role": "assistant", "content": NASTY }, "finish_reason": "stop" }] });
    let listing = json!({ "object": "list", "data": [{ "id": format!("gull{NASTY}") }, { "id": "dunlin-70b", "family": NASTY }] });
    let as_stream = |text: String| Replay {
        status: 200,
        headers: vec![("content-type".to_owned(), "text/event-stream".to_owned())],
        body: text.into(),
    };
    let sent = format!("data: {stream}\n\ndata: [DONE]\n\n");
    let environment = [
        ("WENDOR_URL", ferry.service.url.as_str()),
        ("WENDOR_KEY", ferry.key.as_str()),
        ("WENDOR_TOKEN", ferry.owner.as_str()),
    ];
    ferry.quayside.replay(as_stream(sent.clone()));
    let asked = wendor(&["ask", "harbour", "Hm", "--labels", "feature=search"], &environment, "").await;
    assert!(asked.out.contains("\\u{1b}[31mred\\u{9b}2J\\u{202e}dne"), "{:?} {}", asked.out, asked.err);
    assert!(is_harmless(&asked.out) && is_harmless(&asked.err));
    ferry.quayside.replay(as_stream(sent.clone()));
    let raw = wendor(&["ask", "harbour", "Hm", "--raw"], &environment, "").await;
    assert!(raw.out.contains(NASTY), "into a pipe, as it came");
    ferry.quayside.replay(as_stream(sent));
    let wire = wendor(&["ask", "harbour", "Hm", "--show-wire"], &environment, "").await;
    assert!(is_harmless(&wire.out) && is_harmless(&wire.err), "{:?}", wire.err);

    // Names that a server lists, and what an error of a server says.
    let replay = |status: u16, body: &Value| Replay {
        status,
        headers: vec![("content-type".to_owned(), "application/json".to_owned())],
        body: body.to_string().into(),
    };
    ferry.quayside.replay(replay(400, &json!({ "error": { "message": NASTY } })));
    let refused = wendor(&["ask", "harbour", "Hm"], &environment, "").await;
    assert!(is_harmless(&refused.out) && is_harmless(&refused.err) && refused.err.contains("red"), "{:?}", refused.err);
    let seen = wendor_core::diagnosis::listing::read(&listing);
    assert_eq!(seen.iter().map(|model| model.name.as_str()).collect::<Vec<_>>(), ["dunlin-70b"]);
    assert!(is_harmless(&seen[0].about["family"]));
    ferry.drained().await;
    for args in [&["request", "list"][..], &["--json", "request", "list"], &["now"], &["upstream", "list"]] {
        let ran = ferry.wendor(args).await;
        assert!(is_harmless(&ran.out) && is_harmless(&ran.err), "{args:?} {:?}", ran.out);
    }
}

/// Such letters are taken nowhere that a name or a word is kept.
#[rstest]
#[case::key("/keys", json!({ "team": "timetables", "label": NASTY }))]
#[case::nothing("/keys", json!({ "team": "timetables", "label": "a\u{0}" }))]
#[case::token("/tokens", json!({ "label": NASTY }))]
#[case::revision("/catalogue", json!({ "text": "", "base": 1, "note": NASTY }))]
#[case::upstream("/upstreams", json!({ "name": "gull", "settings": { "address": "http://127.0.0.1:9", "dialect": "messages", "place": NASTY } }))]
#[tokio::test]
async fn words_that_are_kept_hold_no_such_letters(#[case] path: &str, #[case] body: Value) {
    let ferry = Ferry::begin().await;
    let answer = ferry.http.post(ferry.manage(path)).bearer_auth(&ferry.owner).json(&body).send().await.unwrap();
    assert_eq!(answer.status(), 400);
    assert!(answer.text().await.unwrap().contains("control character"));
}

#[rstest]
#[case::query("/requests?run=%00")]
#[case::path("/requests/%00")]
#[case::usage("/usage?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z&team=%00")]
#[tokio::test]
async fn a_letter_that_no_record_has_is_a_mistake_of_the_asker(#[case] path: &str) {
    let ferry = Ferry::begin().await;
    let answer = ferry.http.get(ferry.manage(path)).bearer_auth(&ferry.owner).send().await.unwrap();
    assert_eq!(answer.status(), 400);
}

#[tokio::test]
async fn the_spool_is_read_by_the_service_alone() {
    let mut ferry = Ferry::with(Wishes::default()).await;
    assert_eq!(ferry.ask(&question("harbour", false)).await.status(), 200);
    let spool = ferry.start.spool.clone();
    let modes = || -> Vec<u32> {
        let folder = std::fs::metadata(&spool).unwrap().permissions().mode() & 0o777;
        let files = std::fs::read_dir(&spool)
            .unwrap()
            .map(|file| file.unwrap().metadata().unwrap().permissions().mode() & 0o777);
        [folder].into_iter().chain(files).collect()
    };
    let is_ours = |modes: &[u32]| modes[0] == 0o700 && modes[1..].iter().all(|mode| matches!(mode, 0o600 | 0o700));
    assert!(modes().len() > 2 && is_ours(&modes()), "{:?}", modes());
    // What an earlier release left open is closed at the next start.
    ferry.service.terminate();
    assert!(ferry.service.ended().await);
    for file in std::fs::read_dir(&spool).unwrap() {
        std::fs::set_permissions(file.unwrap().path(), std::fs::Permissions::from_mode(0o644)).unwrap();
    }
    std::fs::set_permissions(&spool, std::fs::Permissions::from_mode(0o755)).unwrap();
    ferry.restart().await;
    assert!(is_ours(&modes()), "{:?}", modes());
}
