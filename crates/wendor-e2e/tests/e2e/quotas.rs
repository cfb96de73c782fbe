//! Quotas: what is admitted never passes the limit, and a refusal says which quota, how much is used, and when there is room.

use chrono::{Timelike, Utc};
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::server::Profile;

fn with_quotas(quotas: &str) -> Wishes {
    Wishes { quotas: quotas.to_owned(), ..Wishes::default() }
}

/// The first quota of timetables as it stands.
async fn first_quota(ferry: &Ferry) -> Value {
    let teams = ferry.get("/teams").await;
    teams.as_array().unwrap().iter().find(|team| team["name"] == "timetables").unwrap()["quotas"][0].clone()
}

#[tokio::test]
async fn of_thirty_requests_at_twenty_a_minute_twenty_are_answered() {
    // A window that ends in the middle would make room again: then it is done over, in the next.
    loop {
        let ferry = Ferry::with(with_quotas(r#"{ measure = "requests", per = "minute", limit = 20 }"#)).await;
        let minute = Utc::now().minute();
        let answers = futures_util::future::join_all((0..30).map(|_| async {
            let before = Utc::now();
            (before, ferry.ask(&question("night-sailings", false)).await)
        }))
        .await;
        if Utc::now().minute() != minute {
            continue;
        }
        let (answered, refused): (Vec<_>, Vec<_>) = answers.into_iter().partition(|(_, answer)| answer.status() == 200);
        assert_eq!((answered.len(), refused.len()), (20, 10));
        for (before, answer) in refused {
            assert_eq!(answer.status(), 429);
            let wait: u32 = header(&answer, "retry-after").parse().unwrap();
            let (earliest, latest) = (59 - Utc::now().second().min(58), 60 - before.second());
            assert!((earliest..=latest.max(1)).contains(&wait), "{wait} s at {before}");
            let body: Value = answer.json().await.unwrap();
            let message = body["error"]["message"].as_str().unwrap();
            assert!(
                message.contains("Quota timetables/requests/minute has no room")
                    && message.contains("of 20 requests this minute"),
                "{message}"
            );
        }
        assert_eq!(ferry.get("/refusals").await["counts"][0]["count"], 10);
        let quota = first_quota(&ferry).await;
        assert_eq!((&quota["used"], &quota["reserved"]), (&json!("20"), &json!("0")));
        return;
    }
}

#[tokio::test]
async fn tokens_are_reserved_at_their_worst_and_settled_to_what_was_used() {
    let quiet = Profile { answer_tokens: (10, 10), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let quotas =
        r#"{ measure = "tokens", per = "day", limit = 400 }, { measure = "output-tokens", per = "day", limit = 1000 }"#;
    // Patient: on a busy machine a late answer would go to the other offer, which says more.
    let patient = Some("10s");
    let ferry = Ferry::with(Wishes { quayside: Some(quiet), patience: patient, ..with_quotas(quotas) }).await;
    // Each reserves some twenty-five for input and a hundred, the offer's cap, for output; it uses less than thirty.
    for _ in 0..8 {
        let answer = ferry.ask(&question("night-sailings", true)).await;
        let (status, text) = (answer.status(), answer.text().await.unwrap());
        assert_eq!(status, 200, "{text}");
    }
    let mut large = question("night-sailings", false);
    large["max_tokens"] = json!(5_000);
    let refused = ferry.ask(&large).await;
    assert_eq!(refused.status(), 429);
    assert_eq!((header(&refused, "retry-after"), header(&refused, "x-should-retry")), ("59".into(), "false".into()));
    let message = refused.json::<Value>().await.unwrap()["error"]["message"].as_str().unwrap().to_owned();
    assert!(message.contains("This request alone may need 50") && message.contains("max_tokens"), "{message}");
    large["max_tokens"] = json!(5);
    assert_eq!(ferry.ask(&large).await.status(), 200, "a smaller one still fits");
}

#[tokio::test]
async fn cost_is_asked_of_each_offer_and_a_dearer_one_is_passed_over() {
    let ferry = Ferry::with(with_quotas(r#"{ measure = "cost", per = "month", limit = 0.001 }"#)).await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    // At quarry the worst case alone, a hundred tokens at 15 a million, passes the budget.
    ferry.quayside.set_fault(wendor_standins::fault::Fault::Status { status: 500, retry_after: None }).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(answer.status(), 502);
    let body: Value = answer.json().await.unwrap();
    let message = body["error"]["message"].as_str().unwrap();
    assert!(
        message.contains("quarry/fulmar-large: its worst case has no room in the quota timetables/cost/month"),
        "{message}"
    );
    assert_eq!(ferry.quarry.tally().requests, 0);
}

#[tokio::test]
async fn a_quota_that_warns_lets_requests_pass() {
    let ferry =
        Ferry::with(with_quotas(r#"{ measure = "requests", per = "day", limit = 1, at_limit = "warn" }"#)).await;
    for _ in 0..3 {
        assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    }
    let printed = ferry.wendor(&["team", "list"]).await.out;
    assert!(printed.contains("(warns)") && printed.contains("300%"), "{printed}");
}

#[tokio::test]
async fn what_is_used_survives_a_restart_and_a_changed_limit() {
    let mut ferry = Ferry::with(with_quotas(r#"{ measure = "requests", per = "month", limit = 3 }"#)).await;
    for _ in 0..3 {
        assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    }
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 429);
    ferry.service.terminate();
    ferry.service.ended().await;
    ferry.restart().await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 429);
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().replace("limit = 3", "limit = 4");
    ferry.apply(&text).await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 429);
}

#[tokio::test]
async fn a_failed_request_gives_back_what_it_did_not_use() {
    let ferry = Ferry::with(with_quotas(r#"{ measure = "tokens", per = "day", limit = 200 }"#)).await;
    ferry.quayside.set_fault(wendor_standins::fault::Fault::Refuse).await.unwrap();
    for _ in 0..5 {
        assert_eq!(ferry.ask(&question("harbour", false)).await.status(), 502);
    }
    let quota = first_quota(&ferry).await;
    assert_eq!((&quota["used"], &quota["reserved"]), (&json!("0"), &json!("0")));
}
