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
    let mut refusals = String::new();
    // Where a name belongs, in a body, a path, a query and a command.
    let named = json!({ "model": ferry.owner, "messages": [{ "role": "user", "content": "Hm" }] });
    refusals += &ferry.ask(&named).await.text().await.unwrap();
    for path in [format!("/v1/models/{other}"), format!("/nothing/{other}"), format!("/v1beta/models/{other}")] {
        let asked = ferry.http.get(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key);
        refusals += &asked.send().await.unwrap().text().await.unwrap();
    }
    for path in [
        format!("/requests?team={other}"),
        format!("/keys?team={other}"),
        format!("/requests/{other}"),
        format!("/routes/{other}/code"),
    ] {
        refusals += &ferry.get(&path).await.to_string();
    }
    for args in [["request", "show", &other], ["route", "code", &other], ["upstream", "check", &other]] {
        let ran = ferry.wendor(&args).await;
        refusals += &format!("{}{}", ran.out, ran.err);
    }
    refusals += &ferry.get("/refusals").await.to_string();
    let listed = ferry.get(&format!("/requests?key={}", ferry.key)).await;
    assert_eq!(listed["requests"][0]["id"], json!(request), "the key's requests: {listed}");
    let revoked = ferry.wendor(&["key", "revoke", &other]).await;
    assert_eq!(revoked.status, 0, "{}", revoked.err);
    refusals += &format!("{}{}{}{listed}", revoked.out, revoked.err, ferry.service.log());
    for secret in [&other, &ferry.key, &ferry.owner] {
        assert!(!refusals.contains(secret.as_str()), "{secret} in {refusals}");
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

/// Who sees one team alone learns by no answer what else there is: neither that it is there nor what is called nearly so.
#[tokio::test]
async fn answers_name_nothing_that_the_asker_may_not_see() {
    let ferry = Ferry::begin().await;
    let lead = ferry.sign_in("timetabler", "lead", Some("timetables")).await;
    let others = ferry.post("/keys", &json!({ "team": "freight-desk", "label": "secret project" })).await;
    let id = others["id"].as_str().unwrap().to_owned();
    let nearly = format!("{}x", &id[..id.len() - 1]);
    let range = "from=2026-01-01T00:00:00Z&to=2027-01-01T00:00:00Z";
    let new_key = |team: &str| json!({ "team": team, "label": "x" });
    let mend = json!({ "change": { "setting": "plain-http" } });
    for (method, there, not_there, body) in [
        ("GET", "/keys?team=freight-desk".to_owned(), "/keys?team=freight-dsk".to_owned(), json!({})),
        ("GET", "/requests?team=freight-desk".into(), "/requests?team=freight-dsk".into(), json!({})),
        ("GET", format!("/usage?{range}&team=freight-desk"), format!("/usage?{range}&team=freight-dsk"), json!({})),
        ("GET", "/requests?upstream=quarry".into(), "/requests?upstream=quary".into(), json!({})),
        ("POST", format!("/keys/{id}/revoke"), format!("/keys/{nearly}/revoke"), json!({})),
        ("POST", "/upstreams/quayside/mend".into(), "/upstreams/quaysid/mend".into(), mend.clone()),
        (
            "POST",
            "/upstreams/quayside/credential".into(),
            "/upstreams/quaysid/credential".into(),
            json!({ "value": "x" }),
        ),
        ("POST", "/keys".into(), "/keys".into(), new_key("freight-desk")),
    ] {
        let mut refusals = Vec::new();
        for (path, is_there) in [(&there, true), (&not_there, false)] {
            let body = if path == "/keys" && !is_there { new_key("freight-dsk") } else { body.clone() };
            let call = ferry.http.request(method.parse().unwrap(), ferry.manage(path)).bearer_auth(&lead);
            let answer = if method == "POST" { call.json(&body) } else { call }.send().await.unwrap();
            let status = answer.status().as_u16();
            let text = answer.text().await.unwrap();
            for hidden in ["freight-desk", "quayside", "quarry", "secret project", id.as_str()] {
                let is_own_word = path.contains(hidden) || body.to_string().contains(hidden);
                assert!(is_own_word || !text.contains(hidden), "{path}: {text}");
            }
            refusals.push(status);
        }
        assert_eq!(refusals[0], refusals[1], "{there}: whether it is there shows");
    }
    // A route that a team may not use is to its lead as one that is not there.
    let lead = ferry.sign_in("freighter", "lead", Some("freight-desk")).await;
    for path in ["/requests?route=harbour".to_owned(), format!("/usage?{range}&route=harbour")] {
        for (path, nearest) in [(path.clone(), false), (path.replace("harbour", "night-sailing"), true)] {
            let answer = ferry.http.get(ferry.manage(&path)).bearer_auth(&lead).send().await.unwrap();
            assert_eq!(answer.status(), 404, "{path}");
            let text = answer.text().await.unwrap();
            assert_eq!(text.contains("nearest"), nearest, "{path}: {text}");
        }
    }
}

/// An offer of no route that a team may use is to its lead as one that is not there.
#[tokio::test]
async fn offers_of_other_routes_do_not_show() {
    let more = "\n[teams.lookouts]\nroutes = [\"harbour\"]\n".to_owned();
    let ferry = Ferry::with(Wishes { more, ..Wishes::default() }).await;
    let lead = ferry.sign_in("looker", "lead", Some("lookouts")).await;
    let ask = async |offer: &str| {
        let path = ferry.manage(&format!("/requests?offer={offer}"));
        let answer = ferry.http.get(path).bearer_auth(&lead).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    assert_eq!(ask("quayside/dunlin-70b").await.0, 200);
    let (hidden, missing) = (ask("quarry/fulmar-large").await, ask("quarry/fulmar-larg").await);
    assert_eq!((hidden.0, missing.0), (404, 404));
    assert!(!hidden.1.contains("nearest") && !missing.1.contains("fulmar-large"), "{hidden:?} {missing:?}");
    assert!(ask("quayside/dunlin-7").await.1.contains("nearest: `quayside/dunlin-70b`"));
}
