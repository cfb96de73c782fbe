//! A panic on the path of a request stays with that request. It is brought about by name, which a debug build does when it is started for
//! it.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_wire::dialect::Dialect;

use crate::errors::request;

async fn ferry() -> Ferry {
    let settings = vec![("WENDOR_TEST_FAULTS", "1".to_owned())];
    Ferry::with(Wishes { settings, ..Wishes::default() }).await
}

/// As a member of the error, or in the address of the page that its message names.
fn tells_the_code(body: &str) -> bool {
    body.contains("internal_fault")
}

#[rstest]
#[tokio::test]
async fn a_fault_is_a_500_in_the_dialect_of_the_app_and_is_nobody_elses(
    #[values(
        Dialect::ChatCompletions,
        Dialect::Responses,
        Dialect::Messages,
        Dialect::GenerateContent,
        Dialect::LocalChat
    )]
    dialect: Dialect,
) {
    let ferry = ferry().await;
    let (path, body) = request(dialect, "night-sailings", true);
    let ask = |run: &'static str| {
        let request = ferry.http.post(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key);
        request.header("wendor-run", run).json(&body).send()
    };
    let failed = ask("fault-in-plan").await.unwrap();
    assert_eq!((failed.status().as_u16(), header(&failed, "x-should-retry").as_str()), (500, "false"));
    let id = header(&failed, "wendor-request-id");
    let text = failed.text().await.unwrap();
    assert!(tells_the_code(&text) && serde_json::from_str::<Value>(&text).is_ok(), "{text}");
    let line = ferry.request(&id).await["request"].clone();
    assert_eq!((&line["end"], &line["tokens"]["output"]), (&json!("not-answered"), &json!(0)), "{line}");

    let broken = ask("fault-in-relay").await.unwrap();
    let id = header(&broken, "wendor-request-id");
    // One dialect's clients see nothing but a broken connection.
    let text = broken.text().await.unwrap_or_else(|_| "internal_fault".to_owned());
    assert!(tells_the_code(&text), "{text}");
    let line = ferry.request(&id).await["request"].clone();
    assert_eq!((&line["end"], &line["failure"]), (&json!("cut-off"), &Value::Null), "{line}");

    assert_eq!(ask("as-usual").await.unwrap().status(), 200, "the next request is served");
    let now = ferry.get("/now").await;
    let says = "failed on 2 requests with an internal error in the last hour";
    let notices = now["attention"].as_array().unwrap();
    assert!(notices.iter().any(|notice| notice["says"] == says), "{now}");
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains(r#"reason="internal_fault"} 2"#), "{metrics}");
    assert!(ferry.service.logged("an internal error: please report the place").is_some());
}

#[tokio::test]
async fn what_a_faulty_request_had_reserved_is_given_back() {
    let quotas =
        r#"{ measure = "requests", per = "hour", limit = 2 }, { measure = "tokens", per = "day", limit = 5000 }"#;
    let settings = vec![("WENDOR_TEST_FAULTS", "1".to_owned())];
    let ferry = Ferry::with(Wishes { settings, quotas: quotas.to_owned(), ..Wishes::default() }).await;
    let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
    let failed = request.header("wendor-run", "fault-in-plan").json(&question("night-sailings", false)).send().await;
    assert_eq!(failed.unwrap().status(), 500);
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
}
