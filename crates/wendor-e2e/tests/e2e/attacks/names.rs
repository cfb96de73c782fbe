//! Names that are none: whole keys put where names belong, and steps out of a path.

use serde_json::json;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};

#[tokio::test]
async fn a_whole_key_is_taken_for_its_id_and_repeated_nowhere() {
    let settings = vec![("WENDOR_LOG", "debug".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let answer = ferry.ask(&question("harbour", false)).await;
    let request = header(&answer, "wendor-request-id");
    ferry.drained().await;
    let other = ferry.issue_key("freight-desk").await;
    let mut told = String::new();
    // Where a name belongs, in a body, a path, a query and a command.
    let named = json!({ "model": ferry.owner, "messages": [{ "role": "user", "content": "Hm" }] });
    told += &ferry.ask(&named).await.text().await.unwrap();
    for path in [format!("/v1/models/{other}"), format!("/nothing/{other}"), format!("/v1beta/models/{other}")] {
        let asked = ferry.http.get(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key);
        told += &asked.send().await.unwrap().text().await.unwrap();
    }
    for path in [
        format!("/requests?team={other}"),
        format!("/keys?team={other}"),
        format!("/requests/{other}"),
        format!("/routes/{other}/code"),
    ] {
        told += &ferry.get(&path).await.to_string();
    }
    for args in [["request", "show", &other], ["route", "code", &other], ["upstream", "check", &other]] {
        let ran = ferry.wendor(&args).await;
        told += &format!("{}{}", ran.out, ran.err);
    }
    told += &ferry.get("/refusals").await.to_string();
    let listed = ferry.get(&format!("/requests?key={}", ferry.key)).await;
    assert_eq!(listed["requests"][0]["id"], json!(request), "the key's requests: {listed}");
    let revoked = ferry.wendor(&["key", "revoke", &other]).await;
    assert_eq!(revoked.status, 0, "{}", revoked.err);
    told += &format!("{}{}{}{listed}", revoked.out, revoked.err, ferry.service.log());
    for secret in [&other, &ferry.key, &ferry.owner] {
        assert!(!told.contains(secret.as_str()), "{secret} in {told}");
    }
}

#[tokio::test]
async fn what_is_typed_stays_in_its_part_of_a_path() {
    let ferry = Ferry::begin().await;
    for id in ["../people", "..", "x/../../people", "a?team=timetables", "a#b", "a b", "%2e%2e"] {
        let shown = ferry.wendor(&["request", "show", id]).await;
        assert_eq!((shown.status, shown.out.as_str()), (4, ""), "{id}: {}", shown.err);
    }
}
