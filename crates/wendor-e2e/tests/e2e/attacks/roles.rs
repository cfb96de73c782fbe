//! Whoever gets hold of the service's own access to the database: what they cannot do with it.

use rstest::rstest;
use sqlx::{Connection, PgConnection};
use wendor_e2e::ferry::{Ferry, question};
use wendor_e2e::service::Service;

#[rstest]
#[case::the_audit_is_changed("update audit set by = 'nobody'")]
#[case::the_audit_is_shortened("delete from audit")]
#[case::the_audit_is_emptied("truncate audit")]
#[case::its_end_is_moved("update audit_head set number = 0")]
#[case::its_guard_is_taken_off("alter table audit disable trigger all")]
#[case::a_revision_is_changed("update revision set note = 'x'")]
#[case::a_rate_is_changed("update rate set input = 0")]
#[case::a_line_is_changed("update ledger set team = 'freight-desk'")]
#[case::lines_are_removed("delete from ledger")]
#[case::details_are_removed("delete from request_detail")]
#[case::a_key_is_removed("delete from app_key")]
#[case::a_person_is_removed("delete from person")]
#[case::a_table_is_dropped("drop table app_key")]
#[case::a_table_is_made("create table mine (a int)")]
#[case::another_role_is_let_in("select let_serve('public')")]
#[case::the_running_month_is_dropped("select drop_month('ledger', date_trunc('month', now())::date)")]
#[case::any_table_is_dropped("select drop_month('person', '2020-01-01')")]
#[case::triggers_are_passed_by("set session_replication_role = replica")]
#[tokio::test]
async fn who_serves_only_adds(#[case] attack: &'static str) {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("harbour", false)).await;
    ferry.drained().await;
    let mut connection = PgConnection::connect(&ferry.database.service_url).await.unwrap();
    let refused = sqlx::query(attack).execute(&mut connection).await.unwrap_err().to_string();
    let why = ["permission denied", "must be owner", "is not over", "comes in no partitions"];
    assert!(why.iter().any(|why| refused.contains(why)), "{refused}");
}

#[tokio::test]
async fn a_role_that_may_too_much_is_told_of() {
    let ferry = Ferry::begin().await;
    let warned = |service: &Service| service.logged_with("the role that serves may do more than it needs");
    assert!(warned(&ferry.service).is_none(), "the one of the tests has what it needs alone");
    let mut start = ferry.start.clone();
    start.database_url = ferry.database.url.clone();
    start.spool = ferry.folder().join("another-spool");
    let service = Service::start(&start).await;
    let line = warned(&service).expect("it is told of").to_string();
    assert!(line.contains("is a superuser") && line.contains("what stands in audit"), "{line}");
}

/// A database that nobody has migrated is not half made by a role that may not.
#[tokio::test]
async fn who_serves_does_not_migrate() {
    let ferry = Ferry::begin().await;
    let database = wendor_postgres::Database::fresh().await;
    let mut start = ferry.start.clone();
    start.spool = ferry.folder().join("another-spool");
    start.database_url = database.service_url.clone();
    start.environment.retain(|(name, _)| name != "WENDOR_MIGRATE_URL");
    let refusal = Service::refused(&start).await;
    assert!(refusal.contains("set WENDOR_MIGRATE_URL to one that may"), "{refusal}");
}
