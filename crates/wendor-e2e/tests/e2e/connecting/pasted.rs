//! What is pasted for an address: a whole command with its key is taken apart, said, kept, and never shown.

use serde_json::json;
use wendor_e2e::ferry::{Ferry, question};
use wendor_standins::server::{Profile, StandIn};

use super::with_secret;

const KEY: &str = "s3cret-of-the-pier";

#[tokio::test]
async fn a_command_becomes_an_upstream_with_its_key() {
    let ferry = Ferry::with(with_secret()).await;
    let mut profile = Profile { credential: Some(KEY.to_owned()), ..Profile::quick("pier", &["dunlin-7b"]) };
    profile.manners.wants_header = Some("x-harbour".to_owned());
    let server = StandIn::start(profile).await.unwrap();
    let command = format!(
        "http-client -X POST http://{}/v1/chat/completions \\\n  -H \"Authorization: Bearer {KEY}\" -H 'x-harbour: berth-2' -d '{{\"model\":\"dunlin-7b\"}}'",
        server.address()
    );
    let checked = ferry.wendor(&["upstream", "check", &command]).await;
    assert_eq!(checked.status, 0, "{} {}", checked.out, checked.err);
    for part in ["a command", "its key", "its header `x-harbour`"] {
        assert!(checked.out.contains(part), "{part}: {}", checked.out);
    }
    let added = ferry.wendor(&["upstream", "add", &command, "--name", "pier", "--yes"]).await;
    assert_eq!(added.status, 0, "{} {}", added.out, added.err);
    let printed = [&checked.out, &checked.err, &added.out, &added.err];
    assert!(printed.iter().all(|text| !text.contains(KEY)), "the key is not shown");
    assert!(!ferry.service.log().contains(KEY) && !ferry.get("/audit").await.to_string().contains(KEY));
    ferry.post("/routes", &json!({ "name": "deck-plans", "offers": ["pier/dunlin-7b"] })).await;
    let answer = ferry.ask(&question("deck-plans", false)).await;
    assert_eq!(answer.status(), 200, "{}", answer.text().await.unwrap());
}
