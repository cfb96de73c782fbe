//! Whoever has done something stands in the audit, and whoever changes that in the database is found.

use rstest::rstest;
use serde_json::{Value, json};
use sqlx::PgConnection;
use wendor_e2e::ferry::Ferry;
use wendor_store::Store;

async fn entries(ferry: &Ferry, query: &str) -> Vec<Value> {
    ferry.get(&format!("/audit?limit=500{query}")).await["entries"].as_array().unwrap().clone()
}

/// The newest entry of an action.
async fn told(ferry: &Ferry, action: &str) -> Value {
    let written = entries(ferry, &format!("&action={action}")).await;
    written.first().cloned().unwrap_or_else(|| panic!("no {action}"))
}

async fn post(ferry: &Ferry, path: &str, body: Value) -> Value {
    let answer = ferry.http.post(ferry.manage(path)).bearer_auth(&ferry.owner).json(&body).send().await.unwrap();
    serde_json::from_str(&answer.text().await.unwrap()).unwrap_or_default()
}

/// Does something of each kind. Gives the key that was issued on the way.
async fn everything_done(ferry: &Ferry) -> Value {
    let key = post(ferry, "/keys", json!({ "team": "timetables", "label": "board" })).await;
    let key_id = key["id"].as_str().unwrap();
    post(ferry, &format!("/keys/{key_id}/revoke"), json!({})).await;
    post(ferry, "/people", json!({ "name": "lookout", "role": "lead", "team": "timetables" })).await;
    post(ferry, "/people/lookout", json!({ "role": "viewer", "team": "timetables" })).await;
    post(ferry, "/people/lookout", json!({ "disabled": true })).await;
    post(ferry, "/people/lookout/reset", json!({})).await;
    post(ferry, "/people/lookout/sign-out", json!({})).await;
    post(ferry, "/tokens", json!({ "label": "nightly", "unasked": true })).await;
    post(ferry, "/me/password", json!({ "password": "a tide table in winter" })).await;
    post(ferry, "/sign-in", json!({ "name": "harbour-master", "password": "wrong" })).await;
    post(ferry, "/upstreams/check", json!({ "name": "quarry" })).await;
    let draft = json!({ "address": format!("http://{}", ferry.quayside.address()), "credential": { "value": "sk-a-drafted-secret" } });
    post(ferry, "/upstreams/check", json!({ "draft": draft })).await;
    post(ferry, "/routes", json!({ "name": "deck-plans", "offers": ["quayside/dunlin-70b"] })).await;
    post(ferry, "/spool/retry", json!({})).await;
    post(ferry, "/inventory/refresh", json!({})).await;
    ferry.get("/catalogue").await;
    key
}

#[tokio::test]
async fn every_change_sign_in_refusal_check_and_export_is_told_with_who_and_whence() {
    let ferry = Ferry::begin().await;
    let key = everything_done(&ferry).await;
    let key_id = key["id"].as_str().unwrap();
    let export = ferry.http.get(ferry.manage("/audit/export")).bearer_auth(&ferry.owner).send().await.unwrap();
    let export = export.text().await.unwrap();
    for (action, subject, before, after) in [
        ("key-issued", format!("key {key_id}"), json!(null), json!("board")),
        ("key-revoked", format!("key {key_id}"), json!(false), json!(true)),
        ("person-added", "person lookout".to_owned(), json!(null), json!("lead")),
        ("person-changed", "person lookout".to_owned(), json!(false), json!(true)),
        ("person-reset", "person lookout".to_owned(), json!(false), json!(false)),
        ("person-signed-out", "person lookout".to_owned(), json!(null), json!(1)),
        ("token-issued", "person harbour-master".to_owned(), json!(null), json!("nightly")),
        ("password-set", "person harbour-master".to_owned(), json!(false), json!("changed")),
        ("sign-in-refused", "person harbour-master".to_owned(), json!(null), json!("password")),
        ("upstream-checked", "a draft".to_owned(), json!(null), json!("given with the draft")),
        ("revision-made", "revision 2".to_owned(), json!(1), json!("route deck-plans")),
        ("spool-retried", "spool".to_owned(), json!(null), json!(0)),
        ("inventory-refreshed", "every upstream".to_owned(), json!(null), json!(null)),
        ("catalogue-exported", "revision 2".to_owned(), json!(null), json!(null)),
        ("audit-exported", "audit".to_owned(), json!(null), json!(null)),
    ] {
        let entry = told(&ferry, action).await;
        assert_eq!((&entry["subject"], &entry["address"]), (&json!(subject), &json!("127.0.0.1")), "{entry}");
        let by = if action == "sign-in-refused" { "somebody" } else { "harbour-master" };
        assert_eq!(entry["by"], by, "{entry}");
        for (side, value) in [("before", before), ("after", after)] {
            assert!(
                value.is_null() || entry[side].to_string().contains(&value.to_string().replace('"', "")),
                "{entry}"
            );
        }
    }
    let added = entries(&ferry, "&action=person-added&by=the%20server%27s%20console").await;
    assert_eq!(
        (added[0]["subject"].as_str(), added[0]["through"].as_str()),
        (Some("person harbour-master"), Some("server"))
    );
    assert!(!export.contains("a-drafted-secret") && !export.contains("tide table"), "no secret is in it");
    assert!(!export.contains(key["key"].as_str().unwrap()));
    let lines: Vec<Value> = export.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[0]["number"], 1);
    assert_eq!(lines.last().unwrap()["action"], "audit-exported");
}

#[tokio::test]
async fn a_change_that_cannot_be_told_is_not_made() {
    let ferry = Ferry::begin().await;
    let mut database = ferry.database.connect().await;
    let refuse = "create function refuse() returns trigger language plpgsql as $$ begin raise exception 'no'; end $$";
    sqlx::query(refuse).execute(&mut database).await.unwrap();
    sqlx::query("create trigger refuse before insert on audit for each row execute function refuse()")
        .execute(&mut database)
        .await
        .unwrap();
    let before = ferry.get("/keys").await.as_array().unwrap().len();
    let issued = post(&ferry, "/keys", json!({ "team": "timetables", "label": "board" })).await;
    assert_eq!(issued["status"], 500);
    assert_eq!(ferry.get("/keys").await.as_array().unwrap().len(), before);
    assert_eq!(post(&ferry, "/teams", json!({ "name": "harbour-ops" })).await["status"], 500);
    assert_eq!(ferry.get("/revisions").await.as_array().unwrap().len(), 1);
}

async fn as_superuser(database: &mut PgConnection, statement: &'static str) {
    sqlx::query("set session_replication_role = replica").execute(&mut *database).await.unwrap();
    sqlx::query(statement).execute(&mut *database).await.unwrap();
}

/// A superuser of the database does what no trigger keeps them from; each is found and named.
#[rstest]
#[case::edited("update audit set subject = 'key of nobody' where number = 3", "entry 3 was edited")]
#[case::deleted("delete from audit where number = 2", "entry 2 is missing")]
#[case::cut_off("delete from audit where number = (select max(number) from audit)", "is missing")]
#[case::swapped(
    "with p(a, b) as (values (2::bigint, 4::bigint), (4, 2)) update audit set number = -p.b from p where number = p.a;",
    "was moved there"
)]
#[tokio::test]
async fn what_a_superuser_does_to_it_is_named(#[case] attack: &'static str, #[case] named: &str) {
    let ferry = Ferry::begin().await;
    for label in ["one", "two", "three"] {
        post(&ferry, "/keys", json!({ "team": "timetables", "label": label })).await;
    }
    let sound = ferry.wendor(&["audit", "verify"]).await;
    assert_eq!(sound.status, 0, "{}{}", sound.out, sound.err);
    let mut database = ferry.database.connect().await;
    as_superuser(&mut database, attack).await;
    as_superuser(&mut database, "update audit set number = -number where number < 0").await;
    let output = ferry.wendor(&["audit", "verify"]).await;
    assert_eq!(output.status, 1, "{}", output.out);
    assert!(output.out.contains(named), "{}", output.out);
    assert!(output.err.contains("it was changed in the database"), "{}", output.err);
}

/// Whoever makes the whole chain anew is found by a head that was kept elsewhere, in the database and in an exported file.
#[tokio::test]
async fn a_chain_made_anew_does_not_fit_a_head_kept_elsewhere() {
    let ferry = Ferry::begin().await;
    let sound = ferry.wendor(&["audit", "verify"]).await.out;
    let head = sound.lines().find_map(|line| line.strip_prefix("Head: ")).unwrap().to_owned();
    post(&ferry, "/keys", json!({ "team": "timetables", "label": "later" })).await;
    assert_eq!(ferry.wendor(&["audit", "verify", "--head", &head]).await.status, 0);
    let store = Store::new(&ferry.database.url).unwrap();
    let mut database = ferry.database.connect().await;
    let mut chain = wendor_core::audit::Head::NONE;
    for mut entry in store.audit_after(0).await.unwrap() {
        entry.by = "nobody at all".to_owned();
        entry.previous = chain.hash;
        entry.hash = wendor_core::audit::hash(&entry, entry.number);
        chain = entry.head();
        sqlx::query("set session_replication_role = replica").execute(&mut database).await.unwrap();
        sqlx::query("update audit set by = $2, previous = $3, hash = $4 where number = $1")
            .bind(entry.number)
            .bind(&entry.by)
            .bind(&entry.previous.0[..])
            .bind(&entry.hash.0[..])
            .execute(&mut database)
            .await
            .unwrap();
    }
    sqlx::query("update audit_head set hash = $1").bind(&chain.hash.0[..]).execute(&mut database).await.unwrap();
    assert_eq!(ferry.wendor(&["audit", "verify"]).await.status, 0, "the chain fits itself");
    let output = ferry.wendor(&["audit", "verify", "--head", &head]).await;
    assert_eq!(output.status, 1);
    assert!(output.out.contains("entries were replaced or cut off"), "{}", output.out);
    let file = ferry.folder().join("audit.jsonl");
    std::fs::write(&file, ferry.wendor(&["audit", "export"]).await.out).unwrap();
    let file = file.to_str().unwrap();
    assert_eq!(ferry.wendor(&["audit", "verify", "--file", file]).await.status, 0);
    assert_eq!(ferry.wendor(&["audit", "verify", "--file", file, "--head", &head]).await.status, 1);
}

#[tokio::test]
async fn nobody_changes_it_by_way_of_the_table() {
    let ferry = Ferry::begin().await;
    let mut database = ferry.database.connect().await;
    for statement in [
        "update audit set by = 'x'",
        "delete from audit",
        "truncate audit",
        "update revision set note = 'x'",
        "delete from revision",
        "insert into audit select number + 7, at, by, address, through, action, subject, before, after, previous, decode(repeat('01', 32), 'hex') from audit limit 1",
    ] {
        let refused = sqlx::query(statement).execute(&mut database).await.unwrap_err().to_string();
        assert!(
            refused.contains("is never changed or removed") || refused.contains("does not follow"),
            "{statement}: {refused}"
        );
    }
}

/// Names that nobody has do not fill it, and what was typed there is not in it: some type their password as a name.
#[tokio::test]
async fn guesses_do_not_fill_it() {
    let ferry = Ferry::begin().await;
    for number in 0..4 {
        let body = json!({ "name": format!("my-password-{number}"), "password": "wrong" });
        post(&ferry, "/sign-in", body).await;
    }
    let refused = entries(&ferry, "&action=sign-in-refused").await;
    assert_eq!(refused.len(), 3, "the first, the second, the fourth: {refused:?}");
    assert!(refused.iter().all(|entry| entry["subject"] == "nobody who is known"));
    assert!(!refused.iter().any(|entry| entry.to_string().contains("my-password")));
}
