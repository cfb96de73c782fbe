//! The database refuses in every way that passes: nobody who asks is harmed, and nothing is missing afterwards.

use std::time::{Duration, Instant};

use rstest::rstest;
use sqlx::{Connection, PgConnection};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::waiting::until;
use wendor_postgres::PrivatePostgres;

use super::load::{Load, check_recorded};
use super::{of, tell};

const QUOTAS: &str = r#"{ measure = "requests", per = "month", limit = 100000000 }, { measure = "tokens", per = "month", limit = 100000000000 }, { measure = "cost", per = "month", limit = 100000000 }"#;

const END_OTHERS: &str = "select pg_reload_conf(), pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and usename = 'harbour'";

/// What the service says of it.
const MET: &str = "the spool does not drain; it grows until it can";

/// What is wrong with it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Trouble {
    Stopped,
    ReadOnly,
    PasswordChanged,
    DiskFull,
    Deadlocking,
}

/// Statements that bring it about and end it, where statements do.
fn statements(trouble: Trouble) -> (&'static str, &'static str) {
    match trouble {
        Trouble::Stopped | Trouble::Deadlocking => ("select 1", "select 1"),
        Trouble::ReadOnly => (
            "alter system set default_transaction_read_only = on",
            "set default_transaction_read_only = off; alter system reset default_transaction_read_only",
        ),
        Trouble::PasswordChanged => ("alter role harbour password 'another'", "alter role harbour password 'first'"),
        // The state that PostgreSQL tells when it can write no more, without the panic that a full disk of its log ends in.
        Trouble::DiskFull => (
            "create function full_disk() returns trigger language plpgsql as $$ begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end $$;
             create trigger full_disk before insert on ledger for each statement execute function full_disk()",
            "drop trigger full_disk on ledger; drop function full_disk()",
        ),
    }
}

/// Locks the drain's tables in the order in which it does not, again and again, until `until` has passed; how often either was ended.
async fn deadlock(url: &str, until: Instant) -> u32 {
    let mut connection = PgConnection::connect(url).await.unwrap();
    sqlx::raw_sql("set deadlock_timeout = '20ms'").execute(&mut connection).await.unwrap();
    let mut deadlocks = 0;
    while Instant::now() < until {
        let mut transaction = connection.begin().await.unwrap();
        sqlx::raw_sql("lock table usage_hour in exclusive mode; select pg_sleep(0.15)")
            .execute(&mut *transaction)
            .await
            .unwrap();
        let both = sqlx::raw_sql("lock table ledger in exclusive mode").execute(&mut *transaction).await;
        deadlocks += u32::from(both.is_err());
        transaction.rollback().await.unwrap();
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    deadlocks
}

#[rstest]
#[case::stopped(Trouble::Stopped)]
#[case::read_only(Trouble::ReadOnly)]
#[case::password_changed(Trouble::PasswordChanged)]
#[case::disk_full(Trouble::DiskFull)]
#[case::deadlocking(Trouble::Deadlocking)]
#[tokio::test]
async fn no_request_fails_and_nothing_is_missing(#[case] trouble: Trouble) {
    // A connection is waited for three seconds before it counts as gone.
    let time = of(Duration::from_secs(5), Duration::from_secs(180));
    let postgres = PrivatePostgres::start();
    postgres.demand_password("harbour");
    let mut admin = PgConnection::connect(&postgres.admin_url()).await.unwrap();
    sqlx::raw_sql("create role harbour superuser login password 'first'").execute(&mut admin).await.unwrap();
    let server = postgres.admin_url().replace("postgres@", "harbour:first@");
    let wishes =
        Wishes { quotas: QUOTAS.to_owned(), database_server: Some(server), patience: Some("10s"), ..Wishes::default() };
    let ferry = Ferry::with(wishes).await;
    let own = ferry.database.url.replace("harbour:first@", "postgres@");
    let load = Load::begin(&ferry, 4, of(Duration::from_millis(5), Duration::from_millis(20)));
    until("requests to be answered", || async { (load.answered() > 20).then_some(()) }).await;
    let (begin, end) = statements(trouble);
    let mut inside = PgConnection::connect(&own).await.unwrap();
    for statement in begin.split_inclusive("$$;") {
        sqlx::raw_sql(statement).execute(&mut inside).await.unwrap();
    }
    let over = Instant::now() + time;
    let before = load.answered();
    let mut deadlocks = 0;
    match trouble {
        Trouble::Stopped => postgres.stop(),
        // Connections that are open would go on as they are. Ended again and again: one that is being made is not among them yet.
        Trouble::ReadOnly | Trouble::PasswordChanged => {
            until("the drain to meet it", || async {
                let mut inside = PgConnection::connect(&own).await.ok()?;
                sqlx::raw_sql(END_OTHERS).execute(&mut inside).await.ok()?;
                ferry.service.logged(MET).map(drop)
            })
            .await;
        }
        Trouble::DiskFull => {}
        Trouble::Deadlocking => deadlocks = deadlock(&own, over).await,
    }
    tokio::time::sleep(over.saturating_duration_since(Instant::now())).await;
    let during = load.answered() - before;
    if deadlocks == 0 {
        until("the drain to meet it", || async { ferry.service.logged(MET).map(drop) }).await;
    }
    match trouble {
        Trouble::Stopped => postgres.resume(),
        Trouble::ReadOnly | Trouble::PasswordChanged | Trouble::DiskFull | Trouble::Deadlocking => {
            for statement in end.split("; ") {
                sqlx::raw_sql(statement).execute(&mut inside).await.unwrap();
            }
            sqlx::raw_sql("select pg_reload_conf()").execute(&mut inside).await.unwrap();
        }
    }
    let seen = load.end().await;
    assert!(seen.refused.is_empty(), "{:?}", seen.refused.first());
    until("people to be served again", || async {
        let answer = ferry.http.get(ferry.manage("/spool")).bearer_auth(&ferry.owner).send().await.ok()?;
        answer.status().is_success().then_some(())
    })
    .await;
    check_recorded(&ferry, &seen).await;
    tell(&format!(
        "database, {trouble:?}: {time:?}, {during} requests answered meanwhile, none refused, all {} recorded, none set aside{}",
        seen.whole.len(),
        if deadlocks > 0 { format!(", {deadlocks} deadlocks that ended the other side") } else { String::new() }
    ));
}
