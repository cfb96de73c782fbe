//! What is under way: how far each request is, for whoever may see it, until it ends.

use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::server::Profile;

/// One stream at a time, each of which takes some seconds.
fn one_at_a_time() -> Wishes {
    let slow =
        Profile { tokens_per_second: 25, answer_tokens: (60, 60), ..Profile::quick("quayside", &["dunlin-70b"]) };
    Wishes { streams: Some(1), patience: Some("9s"), room: Some("9s"), quayside: Some(slow), ..Wishes::default() }
}

async fn looked(ferry: &Ferry, query: &str) -> Value {
    ferry.get(&format!("/requests/under-way{query}")).await
}

fn at_step<'v>(looked: &'v Value, step: &str) -> Option<&'v Value> {
    looked["requests"].as_array().unwrap().iter().find(|request| request["step"] == step)
}

#[tokio::test]
async fn how_far_each_is_until_it_ends() {
    let ferry = Ferry::with(one_at_a_time()).await;
    assert_eq!(looked(&ferry, "").await["count"], 0);
    let first = ferry.ask(&question("harbour", true)).await;
    let id = header(&first, "wendor-request-id");
    let second = async {
        let answer = ferry.ask(&question("harbour", true)).await;
        let id = header(&answer, "wendor-request-id");
        answer.text().await.unwrap();
        id
    };
    let watched = async {
        let both = until("one is answered and one waits", || async {
            let seen = looked(&ferry, "?upstream=quayside").await;
            let is_told = at_step(&seen, "answering").is_some_and(|line| line["output_tokens"].as_u64() > Some(0));
            (is_told && at_step(&seen, "waiting for room").is_some()).then_some(seen)
        });
        let both = both.await;
        let (answered, waits) = (at_step(&both, "answering").unwrap(), at_step(&both, "waiting for room").unwrap());
        assert_eq!((&answered["id"], &answered["offer"]), (&json!(id), &json!("quayside/dunlin-70b")), "{both}");
        assert_eq!((&waits["place"], &waits["team"], &both["count"]), (&json!(1), &json!("timetables"), &json!(2)));
        let waiting = waits["id"].as_str().unwrap();
        let followed = ferry.wendor(&["request", "follow", waiting]).await;
        let cursor = both["cursor"].as_u64().unwrap();
        (waiting.to_owned(), followed, looked(&ferry, &format!("?after={cursor}")).await)
    };
    let (read, second, (waiting, followed, after)) = tokio::join!(first.text(), second, watched);
    assert!(read.unwrap().ends_with("data: [DONE]\n\n"));
    assert_eq!(second, waiting);
    let lines: Vec<&str> = followed.out.lines().collect();
    assert!(lines[0].contains("waits for room at quayside/dunlin-70b, place 1"), "{lines:?}");
    assert!(lines.iter().any(|line| line.contains("answered by quayside/dunlin-70b")), "{lines:?}");
    let last = lines.last().unwrap();
    assert!(
        last.contains("ended proper after") && last.contains("waited") && last.contains(" output tokens"),
        "{last}"
    );
    let ended: Vec<&Value> = after["ended"].as_array().unwrap().iter().map(|line| &line["id"]).collect();
    assert_eq!(ended, [&json!(id), &json!(waiting)], "in the order in which they ended: {after}");
    assert_eq!(after["count"], 0);
    let gone = ferry.wendor(&["request", "follow", &id]).await;
    assert!(gone.out.contains("ended proper after"), "one that has ended already: {}", gone.out);
    let none = ferry.wendor(&["request", "follow", "01JDF3-7QK2M0XZ4T"]).await;
    assert_eq!(none.status, 4, "{}", none.err);
}

#[tokio::test]
async fn a_lead_sees_the_own_team_alone() {
    let ferry = Ferry::with(one_at_a_time()).await;
    let _open = ferry.ask(&question("harbour", true)).await;
    let lead = ferry.sign_in("deckhand", "lead", Some("freight-desk")).await;
    let see = async |query: &str| {
        let ask = ferry.http.get(ferry.manage(&format!("/requests/under-way{query}"))).bearer_auth(&lead);
        let answer = ask.send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    assert_eq!(looked(&ferry, "").await["count"], 1);
    let (status, seen) = see("").await;
    assert_eq!((status, &seen["count"]), (200, &json!(0)), "{seen}");
    assert_eq!(see("?team=timetables").await.0, 403);
    assert_eq!(looked(&ferry, "?team=freight-desk").await["count"], 0);
    assert_eq!(looked(&ferry, "?route=harbour").await["count"], 1);
}
