//! People who should not be in any more, and those who guess their way in.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header};
use wendor_e2e::waiting::until;

async fn status(ferry: &Ferry, token: &str, path: &str) -> u16 {
    ferry.http.get(ferry.manage(path)).bearer_auth(token).send().await.unwrap().status().as_u16()
}

async fn post(ferry: &Ferry, token: &str, path: &str, body: Value) -> (u16, Value) {
    let answer = ferry.http.post(ferry.manage(path)).bearer_auth(token).json(&body).send().await.unwrap();
    let status = answer.status().as_u16();
    (status, serde_json::from_str(&answer.text().await.unwrap()).unwrap_or_default())
}

async fn sign_in(ferry: &Ferry, body: Value) -> (u16, Value) {
    post(ferry, "", "/sign-in", body).await
}

#[tokio::test]
async fn whoever_is_disabled_is_out_at_once_and_everywhere() {
    let ferry = Ferry::begin().await;
    let token = ferry.sign_in("lookout", "operator", None).await;
    let waiting = ferry.one_time("deckhand", "operator", None).await;
    assert_eq!(status(&ferry, &token, "/upstreams").await, 200);
    let output = ferry.wendor(&["person", "disable", "lookout"]).await;
    assert_eq!(
        (output.status, output.out.as_str()),
        (0, "lookout is disabled: their password, sessions and tokens are refused.\n")
    );
    assert_eq!(status(&ferry, &token, "/upstreams").await, 401);
    assert!(ferry.wendor(&["person", "list"]).await.out.contains("disabled"));
    assert_eq!(ferry.wendor(&["person", "disable", "deckhand"]).await.status, 0);
    assert_eq!(sign_in(&ferry, json!({ "one_time": waiting })).await.0, 401, "a sign-in that waited");
    // Back again, by a new sign-in alone.
    assert_eq!(ferry.wendor(&["person", "enable", "lookout"]).await.status, 0);
    assert_eq!(status(&ferry, &token, "/upstreams").await, 401);
    let first = ferry.wendor(&["person", "reset", "lookout"]).await.out;
    let second = ferry.wendor(&["person", "reset", "lookout"]).await.out;
    assert_eq!(sign_in(&ferry, json!({ "one_time": first.trim() })).await.0, 401, "the last one alone works");
    assert_eq!(sign_in(&ferry, json!({ "one_time": second.trim() })).await.0, 200);
}

#[tokio::test]
async fn a_role_changes_for_tokens_that_are_out() {
    let ferry = Ferry::begin().await;
    let token = ferry.sign_in("lookout", "operator", None).await;
    let output = ferry.wendor(&["person", "change", "lookout", "--role", "viewer", "--team", "timetables"]).await;
    assert_eq!(output.out, "lookout is now viewer of timetables.\n", "{}", output.err);
    assert_eq!((status(&ferry, &token, "/upstreams").await, status(&ferry, &token, "/teams").await), (403, 200));
    let out = ferry.wendor(&["person", "sign-out", "lookout"]).await.out;
    assert!(out.starts_with("lookout is signed out: "), "{out}");
    assert_eq!(status(&ferry, &token, "/teams").await, 401);
    let (nobody, _) = post(&ferry, &ferry.owner, "/people/nobody", json!({ "disabled": true })).await;
    let (no_team, _) =
        post(&ferry, &ferry.owner, "/people/lookout", json!({ "role": "lead", "team": "pirates" })).await;
    assert_eq!((nobody, no_team), (404, 404));
}

/// Somebody always may do everything.
#[rstest]
#[case::disabled(json!({ "disabled": true }))]
#[case::another_role(json!({ "role": "operator" }))]
#[tokio::test]
async fn the_last_owner_stays(#[case] change: Value) {
    let ferry = Ferry::begin().await;
    let own = ferry.get("/me").await["name"].as_str().unwrap().to_owned();
    let path = format!("/people/{own}");
    let (refused, problem) = post(&ferry, &ferry.owner, &path, change.clone()).await;
    assert_eq!(refused, 409);
    assert!(problem["detail"].as_str().unwrap().contains("is the only owner"), "{problem}");
    let other = ferry.sign_in("second-owner", "owner", None).await;
    // Of two who remove each other at once one stays.
    let (one, two) = tokio::join!(
        post(&ferry, &ferry.owner, "/people/second-owner", change.clone()),
        post(&ferry, &other, &path, change)
    );
    assert!([one.0, two.0].contains(&204), "{one:?} {two:?}");
    let people = ferry.database.connect().await;
    let owners: i64 = sqlx::query_scalar("select count(*) from person where role = 'owner' and disabled_at is null")
        .fetch_one(&mut { people })
        .await
        .unwrap();
    assert_eq!(owners, 1);
}

#[tokio::test]
async fn a_new_password_needs_the_old_one_and_ends_other_sessions() {
    let ferry = Ferry::begin().await;
    let token = ferry.sign_in("helm", "operator", None).await;
    for bad in ["passwordpassword", "123456789012", "helmhelmhelm", "short"] {
        assert_eq!(post(&ferry, &token, "/me/password", json!({ "password": bad })).await.0, 400, "{bad}");
    }
    assert_eq!(post(&ferry, &token, "/me/password", json!({ "password": "seven gulls on a pier" })).await.0, 204);
    let with = |password: &str| json!({ "name": "helm", "password": password });
    let (_, session) = sign_in(&ferry, with("seven gulls on a pier")).await;
    let session = session["token"].as_str().unwrap().to_owned();
    let new = "nine terns above the quay";
    assert_eq!(post(&ferry, &session, "/me/password", json!({ "password": new })).await.0, 400, "without the old one");
    let wrong = json!({ "password": new, "old": "six gulls on a pier" });
    let (refused, problem) = post(&ferry, &session, "/me/password", wrong).await;
    assert_eq!((refused, problem["field"].as_str()), (400, Some("old")));
    let right = json!({ "password": new, "old": "seven gulls on a pier" });
    assert_eq!(post(&ferry, &session, "/me/password", right).await.0, 204);
    assert_eq!((status(&ferry, &session, "/me").await, status(&ferry, &token, "/me").await), (200, 401));
    assert_eq!(sign_in(&ferry, with(new)).await.0, 200);
}

#[tokio::test]
async fn tokens_end() {
    let ferry = Ferry::begin().await;
    let (_, issued) = post(&ferry, &ferry.owner, "/tokens", json!({ "label": "nightly report" })).await;
    let until: chrono::DateTime<chrono::Utc> = issued["expires_at"].as_str().unwrap().parse().unwrap();
    let days = (until - chrono::Utc::now()).num_days();
    assert!((89..=90).contains(&days), "{days}");
    let later = until + chrono::TimeDelta::days(1);
    let (refused, problem) = post(&ferry, &ferry.owner, "/tokens", json!({ "label": "x", "expires_at": later })).await;
    assert_eq!(refused, 400);
    assert!(problem["detail"].as_str().unwrap().contains("token_life"), "{problem}");
}

#[tokio::test]
async fn guessing_takes_longer_with_each_wrong_one() {
    let ferry = Ferry::begin().await;
    let token = ferry.sign_in("helm", "operator", None).await;
    assert_eq!(post(&ferry, &token, "/me/password", json!({ "password": "seven gulls on a pier" })).await.0, 204);
    let attempt = |password: &str| sign_in(&ferry, json!({ "name": "helm", "password": password }));
    for _ in 0..5 {
        assert_eq!(attempt("eight gulls on a pier").await.0, 401);
    }
    let body = json!({ "name": "helm", "password": "seven gulls on a pier" });
    let answer = ferry.http.post(ferry.manage("/sign-in")).json(&body).send().await.unwrap();
    assert_eq!(
        (answer.status().as_u16(), header(&answer, "retry-after").is_empty()),
        (429, false),
        "the right one too"
    );
    let session = until("the wait is over", || async {
        let (status, session) = attempt("seven gulls on a pier").await;
        (status == 200).then_some(session)
    })
    .await;
    assert_eq!(session["wrong_before"], 5, "{session}");
    assert_eq!(ferry.service.log().matches("a sign-in with a wrong password").count(), 5);
}
