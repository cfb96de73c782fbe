//! Secrets and queries are planted and looked for where they must not be: logs, errors, answers, metrics, exports, the spool and
//! the database.

use std::process::Command;

use serde_json::json;
use wendor_e2e::ferry::{CREDENTIAL, Ferry, Wishes, header};
use wendor_standins::fault::Fault;

const QUERY: &str = "planted-query-about-the-harbour-master";

/// Asks in every way that goes wrong, and gives all that was answered.
async fn ask_about_it(ferry: &Ferry) -> String {
    let body = json!({ "model": "night-sailings", "stream": true, "messages": [{ "role": "user", "content": QUERY }] });
    let mut seen = String::new();
    let rejected = Fault::Status { status: 400, retry_after: None };
    for fault in [Fault::None, Fault::Refuse, Fault::CutMidway, Fault::Garbage, rejected] {
        ferry.quayside.set_fault(fault).await.unwrap();
        let answer = ferry.ask(&body).await;
        let id = header(&answer, "wendor-request-id");
        seen.push_str(&format!("{:?}", answer.headers()));
        answer.text().await.unwrap();
        seen.push_str(&ferry.request(&id).await.to_string());
    }
    let misplaced = format!("{{\"model\":\"night-sailings\",\"messages\":\"{QUERY}\"}}");
    for broken in [misplaced, format!("{{\"{QUERY}"), format!("[\"{QUERY}\"]")] {
        let request =
            ferry.http.post(format!("{}/v1/chat/completions?key={}", ferry.service.url, ferry.key)).body(broken);
        seen.push_str(&request.send().await.unwrap().text().await.unwrap());
    }
    seen
}

/// All that the service tells, logs and keeps.
async fn all_that_is_kept(ferry: &Ferry) -> String {
    let mut seen = String::new();
    let paths =
        ["keys", "tokens", "people", "upstreams", "catalogue", "requests", "refusals", "teams", "routes", "revisions"];
    for path in paths {
        seen.push_str(&ferry.get(&format!("/{path}")).await.to_string());
    }
    seen.push_str(
        &ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap(),
    );
    seen.push_str(&ferry.service.log());
    let dump = Command::new("pg_dump")
        .arg("--inserts")
        .arg(&ferry.database.url)
        .output()
        .expect("pg_dump comes with PostgreSQL");
    assert!(dump.status.success(), "{}", String::from_utf8_lossy(&dump.stderr));
    seen.push_str(&String::from_utf8_lossy(&dump.stdout));
    for file in std::fs::read_dir(&ferry.start.spool).unwrap() {
        seen.push_str(&String::from_utf8_lossy(&std::fs::read(file.unwrap().path()).unwrap()));
    }
    seen
}

#[tokio::test]
async fn neither_secrets_nor_queries_leave_where_they_belong() {
    let ferry = Ferry::with(Wishes { settings: vec![("WENDOR_LOG", "debug".into())], ..Wishes::default() }).await;
    let answers = ask_about_it(&ferry).await;
    ferry.drained().await;
    let password = "a password that is planted";
    let set = ferry.http.post(ferry.manage("/me/password")).bearer_auth(&ferry.owner);
    assert_eq!(set.json(&json!({ "password": password })).send().await.unwrap().status(), 204);
    let seen = answers + all_that_is_kept(&ferry).await.as_str();
    // What is looked in really holds these requests.
    assert!(
        seen.contains("request settled")
            && seen.contains("wendor_requests_total")
            && seen.contains("INSERT INTO public.app_key")
    );
    let secret_of = |text: &str| text.split('-').nth(2).unwrap().to_owned();
    for (what, planted) in [
        ("the query", QUERY.to_owned()),
        ("the upstream's credential", CREDENTIAL.1.to_owned()),
        ("the key's secret", secret_of(&ferry.key)),
        ("the token's secret", secret_of(&ferry.owner)),
        ("the password", password.to_owned()),
    ] {
        assert!(!seen.contains(&planted), "{what} has leaked: {}", around(&seen, &planted));
    }
    // The credential did arrive where it belongs.
    let sent = ferry.quarry.last_seen().unwrap().headers;
    assert!(sent.contains(&("authorization".into(), format!("Bearer {}", CREDENTIAL.1))));
}

fn around(text: &str, planted: &str) -> String {
    let at = text.find(planted).unwrap_or(0);
    String::from_utf8_lossy(&text.as_bytes()[at.saturating_sub(120)..(at + planted.len() + 40).min(text.len())])
        .into_owned()
}
