//! Nothing is counted twice, nothing is left behind, and nothing is kept for longer than it should be.

use serde_json::json;
use wendor_core::metering::detail::RequestDetail;
use wendor_core::metering::entry::{LedgerEntry, Settled};
use wendor_core::name::Name;
use wendor_core::request_id::RequestId;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::service::{Service, Start};
use wendor_e2e::waiting::until;
use wendor_postgres::PrivatePostgres;
use wendor_standins::fault::Fault;
use wendor_store::Store;

use super::used;

/// The service dies after the database has everything, and before anything of the spool is deleted.
#[tokio::test]
async fn a_window_is_counted_once_after_a_kill() {
    let quotas = r#"{ measure = "requests", per = "month", limit = 100 }"#;
    let mut ferry = Ferry::with(Wishes { quotas: quotas.to_owned(), ..Wishes::default() }).await;
    for _ in 0..11 {
        assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    }
    ferry.drained().await;
    ferry.service.kill();
    // A note beside the spool, as there was one once, must not decide.
    std::fs::remove_file(ferry.start.spool.join("drained")).ok();
    ferry.restart().await;
    assert_eq!(used(&ferry, "requests").await, json!("11"));
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    ferry.drained().await;
    let mut connection = ferry.database.connect().await;
    let settled: rust_decimal::Decimal =
        sqlx::query_scalar("select settled from quota_window").fetch_one(&mut connection).await.unwrap();
    assert_eq!(settled, rust_decimal::Decimal::from(12));
}

#[tokio::test]
async fn a_spool_of_another_installation_is_not_drained_into_this_one() {
    let (ferry, other) = (Ferry::begin().await, Ferry::begin().await);
    let (mut first, mut second) = (ferry, other);
    first.service.kill();
    second.service.kill();
    let start = Start { spool: first.start.spool.clone(), ..second.start.clone() };
    let mut wrong = Service::spawn(&start);
    assert!(!wrong.ended().await);
    until("its reason", || async { wrong.log().contains("holds entries of another installation").then_some(()) }).await;
    first.restart().await;
}

#[tokio::test]
async fn the_spool_of_an_instance_that_is_gone_is_drained_by_another_once() {
    let postgres = PrivatePostgres::start();
    let mut ferry = Ferry::with(Wishes { database_server: Some(postgres.admin_url()), ..Wishes::default() }).await;
    ferry.drained().await;
    postgres.stop();
    let mut ids = Vec::new();
    for _ in 0..3 {
        let answer = ferry.ask(&question("night-sailings", false)).await;
        ids.push(header(&answer, "wendor-request-id"));
    }
    ferry.service.kill();
    postgres.resume();
    let gone = ferry.start.clone();
    let environment = [&gone.environment[..], &[("WENDOR_SPOOL_ADOPT_AFTER".to_owned(), "0s".to_owned())]].concat();
    ferry.start = Start { spool: ferry.folder().join("second"), environment, ..gone.clone() };
    ferry.restart().await;
    until("the orphan to be drained", || async {
        let page = ferry.get("/requests").await;
        (page["requests"].as_array().unwrap().len() == 3).then_some(())
    })
    .await;
    until("it to be said", || async { ferry.service.logged("the spool of an instance that is gone is drained") }).await;
    // It comes back, and finds nothing to drain again.
    ferry.service.kill();
    ferry.start = gone;
    ferry.restart().await;
    let answer = ferry.ask(&question("night-sailings", false)).await;
    ids.push(header(&answer, "wendor-request-id"));
    ferry.drained().await;
    let page = ferry.get("/requests").await;
    let mut names: Vec<&str> =
        page["requests"].as_array().unwrap().iter().map(|line| line["id"].as_str().unwrap()).collect();
    names.sort_unstable();
    ids.sort_unstable();
    assert_eq!(names, ids);
}

/// The names of all partitions, as the client tells them.
async fn partitions(ferry: &Ferry) -> Vec<String> {
    let output = ferry.wendor(&["ledger", "partitions", "--json"]).await;
    let listed: serde_json::Value = serde_json::from_str(&output.out).unwrap();
    listed["partitions"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect()
}

#[tokio::test]
async fn months_are_made_ahead_kept_as_the_settings_say_and_dropped_whole() {
    let mut ferry = Ferry::begin().await;
    let store = Store::new(&ferry.database.url).unwrap();
    let at: chrono::DateTime<chrono::Utc> = "2026-01-15T08:00:00Z".parse().unwrap();
    let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
    let entry = LedgerEntry::of_request(at, RequestId::mint(at, 1, 1), team, route);
    let old = Settled { entry, detail: Some(RequestDetail::default()), quotas: vec![] }.spooled();
    store.drain(&[old], None).await.unwrap();
    let next = chrono::Utc::now().date_naive().checked_add_months(chrono::Months::new(1)).unwrap().format("%Y_%m");
    let (ahead, january) = (format!("ledger_{next}"), "request_detail_2026_01".to_owned());
    let kept = partitions(&ferry).await;
    assert!(kept.contains(&ahead) && kept.contains(&january), "{kept:?}");
    ferry.start.environment.push(("WENDOR_KEEP_DETAILS".to_owned(), "60d".to_owned()));
    ferry.service.terminate();
    ferry.service.ended().await;
    ferry.restart().await;
    until("January's details to be dropped", || async { ferry.service.logged_with("a month was kept long enough") })
        .await;
    let kept = partitions(&ferry).await;
    assert!(!kept.contains(&january) && kept.contains(&"ledger_2026_01".to_owned()), "{kept:?}");
    let printed = ferry.wendor(&["ledger", "partitions"]).await.out;
    assert!(printed.contains("request_detail for 60 days") && printed.contains("ledger for ever"), "{printed}");
}

/// A month without a partition does not stop the drain: its lines go where all else goes.
#[tokio::test]
async fn a_partition_that_cannot_be_made_stops_nothing() {
    let ferry = Ferry::begin().await;
    let mut connection = ferry.database.connect().await;
    let month = chrono::Utc::now().format("%Y_%m").to_string();
    for table in ["ledger", "request_detail", "usage_hour"] {
        let mut drop_it = sqlx::QueryBuilder::<sqlx::Postgres>::new("drop table if exists ");
        drop_it.push(format!("{table}_{month}")).build().execute(&mut connection).await.unwrap();
    }
    let answer = ferry.ask(&question("night-sailings", false)).await;
    let id = header(&answer, "wendor-request-id");
    ferry.drained().await;
    let kept: String =
        sqlx::query_scalar("select request from ledger_default").fetch_one(&mut connection).await.unwrap();
    assert_eq!(kept, id);
    assert_eq!(ferry.get("/spool").await["set_aside"], 0);
}

/// The caller of a check goes away while the server is asked: what was spent stands in the ledger.
#[tokio::test]
async fn a_check_whose_caller_left_is_recorded() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let asked = ferry.quayside.tally().requests;
    let body = json!({ "name": "quayside" });
    let check = ferry.http.post(ferry.manage("/upstreams/check")).bearer_auth(&ferry.owner).json(&body).send();
    tokio::select! {
        answer = check => panic!("a stalled upstream has answered: {}", answer.unwrap().text().await.unwrap()),
        () = until("the server to be asked", || async { (ferry.quayside.tally().requests > asked).then_some(()) }) => {}
    }
    let line = until("it to be recorded", || async {
        ferry.get("/requests?route=upstream-check").await["requests"].as_array().unwrap().first().cloned()
    })
    .await;
    assert_eq!(
        (&line["kind"], &line["end"], &line["estimated"]),
        (&json!("check"), &json!("cancelled"), &json!(true)),
        "{line}"
    );
    assert!(line["tokens"]["all_input"].as_u64().unwrap() > 0, "{line}");
}
