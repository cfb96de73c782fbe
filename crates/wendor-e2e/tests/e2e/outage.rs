//! The database goes away, the service is killed: known keys are answered, nothing answered is lost, nothing is doubled.

use serde_json::json;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::service::{Service, Start};
use wendor_e2e::waiting::until;
use wendor_postgres::{Database, PrivatePostgres};

#[tokio::test]
async fn with_the_database_away_known_keys_are_answered_and_the_spool_drains_later() {
    let postgres = PrivatePostgres::start();
    let ferry = Ferry::with(Wishes { database_server: Some(postgres.admin_url()), ..Wishes::default() }).await;
    ferry.ask(&question("night-sailings", false)).await;
    ferry.drained().await;
    postgres.stop();
    let mut ids = Vec::new();
    for streamed in [true, false, true] {
        let answer = ferry.ask(&question("night-sailings", streamed)).await;
        assert_eq!(answer.status(), 200);
        ids.push(header(&answer, "wendor-request-id"));
        answer.bytes().await.unwrap();
    }
    // The key that asked can look from memory; people's tokens need the database, and are told so.
    let shown =
        ferry.http.get(ferry.manage(&format!("/requests/{}", ids[0]))).bearer_auth(&ferry.key).send().await.unwrap();
    assert_eq!(shown.status(), 200);
    let usage = ferry.wendor(&["usage"]).await;
    assert_eq!(usage.status, 1);
    assert!(usage.err.contains("The database is unreachable"), "{}", usage.err);
    let ready = ferry.http.get(format!("{}/readyz", ferry.service.url)).send().await.unwrap();
    assert_eq!(ready.status(), 200);
    let ready: serde_json::Value = ready.json().await.unwrap();
    assert!(ready["not_ready"][0].as_str().unwrap().starts_with("database: "), "{ready}");
    assert_eq!(ready["spool_pending"], 3);
    postgres.resume();
    until("the records to be back", || async {
        let page = ferry.http.get(ferry.manage("/requests")).bearer_auth(&ferry.owner).send().await.ok()?;
        let page: serde_json::Value = page.json().await.ok()?;
        (page["requests"].as_array()?.len() == 4).then_some(())
    })
    .await;
    ferry.drained().await;
}

#[tokio::test]
async fn killing_the_service_loses_no_answered_request_and_doubles_none() {
    let mut ferry = Ferry::begin().await;
    let mut answered = Vec::new();
    // Many kills with few requests each: what matters is the moment right after an answer's last byte.
    for _ in 0..14 {
        for _ in 0..3 {
            let answer = ferry.ask(&question("night-sailings", true)).await;
            let id = header(&answer, "wendor-request-id");
            answer.bytes().await.unwrap();
            answered.push(id);
        }
        ferry.service.kill();
        ferry.restart().await;
    }
    ferry.drained().await;
    let page = ferry.get("/requests?limit=1000").await;
    let mut recorded: Vec<&str> =
        page["requests"].as_array().unwrap().iter().map(|request| request["id"].as_str().unwrap()).collect();
    recorded.sort_unstable();
    answered.sort_unstable();
    assert_eq!(recorded, answered);
    let together = ferry.get("/usage?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z").await["together"].clone();
    assert_eq!(together["requests"], json!(answered.len()));
}

#[tokio::test]
async fn a_database_that_is_not_there_yet_is_waited_for_and_said() {
    let postgres = PrivatePostgres::start();
    let database = Database::fresh_in(&postgres.admin_url()).await;
    postgres.stop();
    let folder = tempfile::tempdir().unwrap();
    let spool = folder.path().join("spool");
    let start = Start {
        database_url: database.url.clone(),
        spool,
        environment: vec![],
        unread_after: None,
        socket: None,
        files: None,
    };
    let service = Service::spawn(&start);
    until("the service to say that it waits", || async {
        let line = service.logged_with("waiting for the database");
        line.is_some_and(|line| line["retry_in"].is_string()).then_some(())
    })
    .await;
    postgres.resume();
    until("the service to listen", || async { service.logged("listening") }).await;
}

#[tokio::test]
async fn a_second_service_on_the_same_spool_refuses_to_start() {
    let ferry = Ferry::begin().await;
    let mut second = Service::spawn(&ferry.start);
    assert!(!second.ended().await);
    until("its reason", || async { second.log().contains("is in use by another service").then_some(()) }).await;
}

#[tokio::test]
async fn a_schema_newer_than_the_binary_is_refused() {
    let ferry = Ferry::begin().await;
    let mut connection = ferry.database.connect().await;
    let newer = "insert into _sqlx_migrations (version, description, success, checksum, execution_time) values (9999, 'later', true, '', 0)";
    sqlx::query(newer).execute(&mut connection).await.unwrap();
    let start = Start { spool: ferry.folder().join("other"), ..ferry.start.clone() };
    let mut service = Service::spawn(&start);
    assert!(!service.ended().await);
    until("its reason", || async { service.log().contains("the database has schema 9999").then_some(()) }).await;
}

#[tokio::test]
async fn an_entry_that_the_database_refuses_is_set_aside_and_keeps_no_other_out() {
    let ferry = Ferry::begin().await;
    let mut connection = ferry.database.connect().await;
    let refuse = "alter table ledger add constraint refuses_one check (run is distinct from 'refused')";
    sqlx::query(refuse).execute(&mut connection).await.unwrap();
    let ask = |run: &'static str| {
        let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        request.header("wendor-run", run).json(&question("night-sailings", false)).send()
    };
    let mut ids = Vec::new();
    for run in ["first", "refused", "last"] {
        ids.push(header(&ask(run).await.unwrap(), "wendor-request-id"));
    }
    ferry.drained().await;
    let recorded = ferry.get("/requests").await;
    let recorded: Vec<&str> =
        recorded["requests"].as_array().unwrap().iter().map(|request| request["id"].as_str().unwrap()).collect();
    assert_eq!(recorded, [&ids[2], &ids[0]]);
    let spool = ferry.get("/spool").await;
    assert_eq!((&spool["set_aside"], &spool["aside"][0]["request"]), (&json!(1), &json!(ids[1])), "{spool}");
    until("it to be said", || async { ferry.service.logged("the database refuses an entry: it is set aside") }).await;
    let metrics = ferry.http.get(format!("{}/metrics", ferry.service.url)).send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("wendor_spool_set_aside 1"), "{metrics}");
    let now = ferry.get("/now").await;
    assert!(now["attention"].as_array().unwrap().iter().any(|notice| notice["subject"] == "the ledger"), "{now}");
    let printed = ferry.wendor(&["spool", "show"]).await.out;
    assert!(
        !printed.contains("Nothing is pending") && printed.contains("refuses_one") && printed.contains(&ids[1]),
        "{printed}"
    );
    let again = ferry.wendor(&["spool", "retry"]).await.out;
    assert!(
        again.starts_with("No further entry could be recorded.") && again.contains("1 thing is set aside"),
        "{again}"
    );
    sqlx::query("alter table ledger drop constraint refuses_one").execute(&mut connection).await.unwrap();
    let again = ferry.wendor(&["spool", "retry"]).await.out;
    assert_eq!(again, "1 entry is in the ledger now.\nNothing is set aside.\n");
    assert_eq!(ferry.get("/requests").await["requests"].as_array().unwrap().len(), 3);
    let together = ferry.get("/usage?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z").await["together"].clone();
    assert_eq!(together["requests"], json!(3));
}
