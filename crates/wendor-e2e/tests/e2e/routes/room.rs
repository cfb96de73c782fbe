//! Room at an upstream: nobody takes more than there is, who finds none waits, teams take turns.

use std::time::{Duration, Instant};

use futures_util::future::join_all;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::server::Profile;

/// A server with two streams whose answers take a quarter of a second.
fn busy() -> Wishes {
    let quayside = Profile { first_token_ms: (250, 250), ..Profile::quick("quayside", &["dunlin-70b"]) };
    Wishes { streams: Some(2), patience: Some("5s"), quayside: Some(quayside), ..Wishes::default() }
}

async fn asked(ferry: &Ferry, key: &str, route: &str) -> (u16, String, String) {
    let answer = ferry.ask_with(key, &question(route, true)).await;
    let (status, offer) = (answer.status().as_u16(), header(&answer, "wendor-offer"));
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    (status, offer, id)
}

#[tokio::test]
async fn who_finds_no_room_waits_and_that_is_told_apart() {
    let ferry = Ferry::with(busy()).await;
    let answers = join_all((0..6).map(|_| asked(&ferry, &ferry.key, "harbour"))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
    let mut waited = Vec::new();
    for (.., id) in &answers {
        let shown = ferry.request(id).await;
        let request = &shown["request"];
        let millis = |what: &str| request[what].as_u64().unwrap();
        assert!(millis("answering_ms") >= millis("waited_ms"), "what it waited is not the upstream's: {request}");
        waited.push(millis("waited_ms"));
        if waited.last() > Some(&0) {
            assert_eq!(request["waits"][0]["offer"], "quayside/dunlin-70b");
            let parts = shown["latency"].as_array().unwrap();
            assert!(parts.iter().any(|part| part["what"] == "waiting for room"), "{parts:?}");
        }
    }
    waited.sort_unstable();
    assert!(waited[0] == 0 && waited[5] >= 400, "three turns of two: {waited:?}");
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("wendor_room_wait_seconds_count{upstream=\"quayside\"}"), "{metrics}");
}

/// Where a stage gives no time to wait, or too little, the plan moves on; never are there more than it can carry.
#[tokio::test]
async fn without_room_in_time_the_next_stage_answers() {
    let ferry = Ferry::with(Wishes { room: Some("0ms"), ..busy() }).await;
    let answers = join_all((0..12).map(|_| asked(&ferry, &ferry.key, "night-sailings"))).await;
    let own = answers.iter().filter(|(_, offer, _)| offer == "quayside/dunlin-70b").count();
    assert_eq!((own, answers.len() - own), (2, 10), "{answers:?}");
    let (.., id) = answers.iter().find(|(_, offer, _)| offer == "quarry/fulmar-large").unwrap();
    let shown = ferry.request(id).await;
    assert_eq!(shown["request"]["attempts"], 1);
    let reason = shown["plan"][0]["reason"].as_str().unwrap();
    assert!(reason == "2 of 2 streams taken" || reason.starts_with("no room"), "{reason}");
}

#[tokio::test]
async fn a_full_queue_and_a_time_out_move_on() {
    let mut ferry = Ferry::with(busy()).await;
    let catalogue = ferry.catalogue(&Wishes { room: Some("400ms"), ..busy() });
    ferry.apply(&catalogue.replacen("streams = 2", "streams = 2\nqueue = 3", 1)).await;
    let answers = join_all((0..10).map(|_| asked(&ferry, &ferry.key, "night-sailings"))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
    let own = answers.iter().filter(|(_, offer, _)| offer == "quayside/dunlin-70b").count();
    assert!((4..=5).contains(&own), "two at once, and those of three places whose turn came in time: {answers:?}");
    ferry.service.terminate();
    ferry.service.ended().await;
}

#[tokio::test]
async fn tokens_under_way_are_room_too() {
    let ferry = Ferry::with(Wishes { streams: Some(100), ..busy() }).await;
    let catalogue = ferry.catalogue(&Wishes { streams: Some(100), ..busy() });
    // Each asks for 100 tokens of output and some of input.
    ferry.apply(&catalogue.replacen("streams = 100", "streams = 100\ntokens = 250", 1)).await;
    let began = Instant::now();
    let answers = join_all((0..4).map(|_| asked(&ferry, &ferry.key, "harbour"))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
    assert!(began.elapsed() >= Duration::from_millis(450), "two at once: {:?}", began.elapsed());
}

#[tokio::test]
async fn a_team_with_many_requests_does_not_hold_up_another() {
    let ferry = Ferry::with(Wishes { streams: Some(4), ..busy() }).await;
    let open = ferry.get("/catalogue").await["text"].as_str().unwrap().replace("routes = [\"night-sailings\"]", "");
    ferry.apply(&open).await;
    let other = ferry.issue_key("freight-desk").await;
    let many = join_all((0..24).map(|_| asked(&ferry, &ferry.key, "harbour")));
    let one_by_one = async {
        let mut waited = Vec::new();
        for _ in 0..5 {
            let (status, _, id) = asked(&ferry, &other, "harbour").await;
            assert_eq!(status, 200);
            waited.push(ferry.request(&id).await["request"]["waited_ms"].as_u64().unwrap());
        }
        waited
    };
    let (many, mut waited) = tokio::join!(many, one_by_one);
    assert!(many.iter().all(|(status, ..)| *status == 200), "{many:?}");
    waited.sort_unstable();
    assert!(waited[2] < 750, "the next streams that end are its turn, and not the last of {}: {waited:?}", many.len());
}

#[tokio::test]
async fn batch_waits_behind_interactive_and_is_recorded_as_such() {
    let ferry = Ferry::with(busy()).await;
    let batch = async |number: u32| {
        let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        let answer = ask.header("wendor-lane", "batch").json(&question("harbour", true)).send().await.unwrap();
        let (status, id) = (answer.status().as_u16(), header(&answer, "wendor-request-id"));
        answer.text().await.unwrap();
        (number, status, id)
    };
    let (batches, interactive) =
        tokio::join!(join_all((0..4).map(batch)), join_all((0..2).map(|_| asked(&ferry, &ferry.key, "harbour"))));
    assert!(batches.iter().all(|(_, status, _)| *status == 200), "{batches:?}");
    assert!(interactive.iter().all(|(status, ..)| *status == 200), "{interactive:?}");
    let shown = ferry.request(&batches[0].2).await;
    assert_eq!(shown["request"]["lane"], "batch");
    ferry.drained().await;
    let kept: Value = ferry.get("/requests?limit=10").await;
    let lanes = kept["requests"].as_array().unwrap().iter().filter(|line| line["lane"] == json!("batch")).count();
    assert_eq!(lanes, 4, "{kept}");
    let issued = ferry.wendor(&["key", "issue", "--team", "timetables", "--label", "nightly", "--lane", "batch"]).await;
    let (_, _, id) = asked(&ferry, issued.out.trim(), "harbour").await;
    assert_eq!(ferry.request(&id).await["request"]["lane"], "batch", "by its key");
    let listed = ferry.wendor(&["key", "list"]).await.out;
    assert!(listed.contains("batch"), "{listed}");
    let ask = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let wrong = ask.header("wendor-lane", "express").json(&question("harbour", true)).send().await.unwrap();
    assert_eq!(wrong.status(), 400);
    assert!(wrong.text().await.unwrap().contains("`interactive` or `batch`"));
}

/// A service that takes so many requests in a minute is paced, not run into: none is refused there, and what is left is told.
#[tokio::test]
async fn a_declared_limit_by_the_minute_is_paced() {
    let limited = |limit: u32| {
        let mut profile = Profile::quick("quayside", &["dunlin-70b"]);
        profile.manners.requests_a_minute = Some(limit);
        Wishes { quayside: Some(profile), ..busy() }
    };
    let ferry = Ferry::with(limited(60)).await;
    let catalogue = ferry.catalogue(&busy()).replacen("streams = 2", "streams = 400\nrequests_a_minute = 60", 1);
    ferry.apply(&catalogue).await;
    let began = Instant::now();
    let answers = join_all((0..7).map(|_| asked(&ferry, &ferry.key, "harbour"))).await;
    assert!(answers.iter().all(|(status, ..)| *status == 200), "{answers:?}");
    assert!(began.elapsed() >= Duration::from_millis(1_900), "five at once, then about one a second");
    assert_eq!(ferry.quayside.tally().served, 7, "none was refused there");
    let upstreams = ferry.get("/upstreams").await;
    let upstream = upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quayside").unwrap();
    let declared = &upstream["limits"][0];
    assert_eq!((&declared["what"], &declared["limit"], &declared["used"]), (&json!("requests"), &json!(60), &json!(7)));
    let limit = &upstream["offers"][0]["limits"][0];
    assert_eq!(
        (&limit["source"], &limit["limit"], &limit["left"]),
        (&json!("told"), &json!(60), &json!(53)),
        "{limit}"
    );
    let listed = ferry.wendor(&["upstream", "list"]).await.out;
    assert!(listed.contains("7 of 60 requests a minute used") && listed.contains("53 of 60 requests left"), "{listed}");
}

/// What a service tells of its limit is kept without anything being declared: the next stage answers before it would be refused.
#[tokio::test]
async fn a_limit_that_the_service_tells_is_kept() {
    let mut profile = Profile::quick("quayside", &["dunlin-70b"]);
    profile.manners.requests_a_minute = Some(4);
    let ferry = Ferry::with(Wishes { quayside: Some(profile), room: Some("1s"), ..Wishes::default() }).await;
    let mut offers = Vec::new();
    for _ in 0..6 {
        offers.push(asked(&ferry, &ferry.key, "night-sailings").await);
    }
    let of_own = offers.iter().filter(|(_, offer, _)| offer == "quayside/dunlin-70b").count();
    assert_eq!((of_own, offers.iter().all(|(status, ..)| *status == 200)), (4, true), "{offers:?}");
    let tally = ferry.quayside.tally();
    assert_eq!((tally.requests, tally.served), (4, 4), "nothing ran into its limit");
    let shown = ferry.request(&offers[5].2).await;
    let reason = shown["plan"][0]["reason"].as_str().unwrap();
    assert!(reason.starts_with("its limit by the minute is used up, enough of it is left in "), "{reason}");
    let alone = ferry.ask_with(&ferry.key, &question("harbour", true)).await;
    let (status, after) = (alone.status().as_u16(), header(&alone, "retry-after"));
    assert_eq!(status, 503);
    assert!((1..=59).contains(&after.parse::<u32>().unwrap()), "{after}");
}
