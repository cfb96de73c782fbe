//! The end of an instance in order, another in its place, and whether it lives and is ready whatever the database does.

use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use serde_json::Value;
use sqlx::Connection;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::service::{Service, Start};
use wendor_e2e::waiting::until;
use wendor_standins::server::Profile;

fn slow(tokens: usize) -> Profile {
    Profile { tokens_per_second: 20, answer_tokens: (tokens, tokens), ..Profile::quick("quayside", &["dunlin-70b"]) }
}

/// Says so first, lets streams finish, tells those that have no time left, and loses no entry.
#[tokio::test]
async fn it_ends_in_order() {
    let settings = vec![("WENDOR_STOP_NOTICE", "1s".to_owned()), ("WENDOR_GRACE", "2s".to_owned())];
    let wishes = Wishes { quayside: Some(slow(25)), patience: Some("9s"), settings, ..Wishes::default() };
    let mut ferry = Ferry::with(wishes).await;
    let asked = question("harbour", true);
    let short = join_all((0..4).map(|_| ferry.ask(&asked))).await;
    let ids: Vec<String> = short.iter().map(|answer| header(answer, "wendor-request-id")).collect();
    ferry.service.terminate();
    let ready = async || {
        let answer = ferry.http.get(format!("{}/readyz", ferry.service.url)).send().await.ok()?;
        Some((answer.status().as_u16(), answer.text().await.ok()?))
    };
    let readiness =
        until("it says that it stops", || async { ready().await.filter(|(status, _)| *status == 503) }).await;
    assert!(readiness.1.contains("it stops"), "{}", readiness.1);
    // While it only says so, it serves.
    let late = ferry.ask(&question("harbour", true)).await;
    assert_eq!((late.status().as_u16(), header(&late, "connection")), (200, "close".to_owned()));
    let texts = join_all(short.into_iter().map(reqwest::Response::text)).await;
    assert!(texts.iter().all(|text| text.as_ref().is_ok_and(|text| text.ends_with("data: [DONE]\n\n"))), "{texts:?}");
    let late = late.text().await.unwrap();
    assert!(late.ends_with("data: [DONE]\n\n") || late.contains("\"code\":\"stopped\""), "{late}");
    assert!(ferry.service.ended().await, "{}", ferry.service.log());
    ferry.restart().await;
    ferry.drained().await;
    for id in ids {
        assert_eq!(ferry.get(&format!("/requests/{id}")).await["request"]["end"], "proper");
    }
}

#[tokio::test]
async fn what_has_no_time_left_is_told() {
    let settings = vec![("WENDOR_GRACE", "1s".to_owned())];
    let wishes = Wishes { quayside: Some(slow(400)), patience: Some("9s"), settings, ..Wishes::default() };
    let mut ferry = Ferry::with(wishes).await;
    let open = ferry.ask(&question("harbour", true)).await;
    let id = header(&open, "wendor-request-id");
    ferry.service.terminate();
    let text = open.text().await.unwrap();
    assert!(text.contains("\"code\":\"stopped\"") && !text.contains("[DONE]"), "{text}");
    assert!(ferry.service.ended().await, "{}", ferry.service.log());
    ferry.restart().await;
    ferry.drained().await;
    let line = ferry.get(&format!("/requests/{id}")).await["request"].clone();
    assert_eq!((&line["end"], &line["failure"]), (&"cut-off".into(), &Value::Null), "{line}");
    let upstreams = ferry.get("/upstreams").await;
    assert!(upstreams.to_string().contains("no traffic yet"), "nobody else is blamed: {upstreams}");
}

/// Under load another instance takes the socket over: no request fails, none is lost.
#[tokio::test]
async fn another_instance_takes_the_socket_over() {
    let mut ferry = Ferry::begin().await;
    ferry.service.terminate();
    ferry.service.ended().await;
    let socket = Arc::new(TcpListener::bind("127.0.0.1:0").unwrap());
    let mut environment = ferry.start.environment.clone();
    environment.push(("WENDOR_STOP_NOTICE".to_owned(), "1s".to_owned()));
    let first = Start { socket: Some(socket.clone()), environment, ..ferry.start.clone() };
    let second = Start { spool: ferry.folder().join("second"), ..first.clone() };
    ferry.service = Service::start(&first).await;
    let (is_over, answered) = (AtomicBool::new(false), AtomicU64::new(0));
    let ask = async |number: usize| {
        let mut failed = Vec::new();
        while !is_over.load(Ordering::Relaxed) {
            let body = question("night-sailings", number.is_multiple_of(2));
            let request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
            let answer = match request.json(&body).send().await {
                Ok(answer) => (answer.status().as_u16(), answer.text().await),
                Err(error) => (0, Err(error)),
            };
            match answer {
                (200, Ok(text)) if !text.contains("\"error\"") => drop(answered.fetch_add(1, Ordering::Relaxed)),
                other => failed.push(format!("{other:?}")),
            }
        }
        failed
    };
    let change = async {
        until("some are answered", || async { (answered.load(Ordering::Relaxed) > 40).then_some(()) }).await;
        let next = Service::start(&second).await;
        ferry.service.terminate();
        until("the first has ended", || async { ferry.service.logged("stopped") }).await;
        let before = answered.load(Ordering::Relaxed);
        until("the second answers", || async { (answered.load(Ordering::Relaxed) > before + 40).then_some(()) }).await;
        is_over.store(true, Ordering::Relaxed);
        next
    };
    let (next, failed) = tokio::join!(change, join_all((0..8).map(ask)));
    assert!(failed.iter().all(Vec::is_empty), "{failed:?}");
    let answered = usize::try_from(answered.load(Ordering::Relaxed)).unwrap();
    let mut old = std::mem::replace(&mut ferry.service, next);
    assert!(old.ended().await, "{}", old.log());
    ferry.drained().await;
    let usage = ferry.get("/usage?from=2026-01-01T00:00:00Z&to=2126-01-01T00:00:00Z").await;
    assert_eq!(usage["together"]["requests"], answered, "{usage}");
}

/// Whether it lives and is ready is told at once: before the database is there, and while it does not answer.
#[tokio::test]
async fn whether_it_lives_and_is_ready_is_told_whatever_the_database_does() {
    let ferry = Ferry::begin().await;
    // Takes connections and says nothing.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let database_url = format!("postgres://wendor@{}/wendor", silent.local_addr().unwrap());
    let socket = Arc::new(TcpListener::bind("127.0.0.1:0").unwrap());
    let url = format!("http://{}", socket.local_addr().unwrap());
    let environment: Vec<_> =
        ferry.start.environment.iter().filter(|(name, _)| name != "WENDOR_MIGRATE_URL").cloned().collect();
    let start = Start {
        database_url,
        spool: ferry.folder().join("waiting"),
        socket: Some(socket),
        environment,
        ..ferry.start.clone()
    };
    let waiting = Service::spawn(&start);
    let look = async |method: reqwest::Method, path: &str| {
        let began = Instant::now();
        let answer = ferry.http.request(method, format!("{url}{path}")).send().await.ok()?;
        let status = answer.status().as_u16();
        answer.text().await.ok()?;
        Some((status, began.elapsed()))
    };
    until("it answers", || async { look(reqwest::Method::GET, "/livez").await }).await;
    for method in [reqwest::Method::GET, reqwest::Method::HEAD] {
        for (path, expected) in [("/livez", 200), ("/readyz", 503), ("/v1/models", 503)] {
            let (status, took) = look(method.clone(), path).await.unwrap();
            assert_eq!(status, expected, "{method} {path}: {}", waiting.log());
            assert!(took < Duration::from_secs(3), "{path}: {took:?}");
        }
    }
    for (path, expected) in [("/livez", 200), ("/readyz", 200)] {
        let head = ferry.http.head(format!("{}{path}", ferry.service.url)).send().await.unwrap();
        assert_eq!(head.status(), expected);
    }
    let ready: Value =
        ferry.http.get(format!("{}/readyz", ferry.service.url)).send().await.unwrap().json().await.unwrap();
    assert!(ready["state_age_ms"].as_u64().unwrap() < 5_000, "{ready}");
}

/// A revision that this binary cannot read must not keep a revoked key alive.
#[tokio::test]
async fn keys_are_loaded_apart_from_a_catalogue_that_cannot_be_read() {
    let ferry = Ferry::begin().await;
    let mut database = ferry.database.connect().await;
    let spare = ferry.issue_key("timetables").await;
    let ask = async |key: &str| ferry.ask_with(key, &question("night-sailings", false)).await.status().as_u16();
    assert_eq!((ask(&ferry.key).await, ask(&spare).await), (200, 200));
    let strange = "insert into revision (number, made_at, made_by, note, document)
                   select max(number) + 1, now(), 'a newer release', '', '{\"of\": \"a newer release\"}' from revision";
    sqlx::query(strange).execute(&mut database).await.unwrap();
    let id = spare.split('-').nth(1).unwrap();
    let revoke = "update app_key set revoked_at = now(), revoked_by = 'harbour-master' where id = $1";
    sqlx::query(revoke).bind(id).execute(&mut database).await.unwrap();
    sqlx::query("update change_counter set value = value + 1").execute(&mut database).await.unwrap();
    until("the revoked one is refused", || async { (ask(&spare).await == 401).then_some(()) }).await;
    assert_eq!(ask(&ferry.key).await, 200, "the others are served by the revision of before");
    assert!(ferry.service.log().contains("a change cannot be read"), "{}", ferry.service.log());
}

/// State that could not be compared with the database for too long serves nobody, and says so.
#[tokio::test]
async fn state_that_is_too_old_serves_nobody() {
    let settings = vec![("WENDOR_SERVE_STALE", "1s".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let mut database = ferry.database.connect().await;
    let mut held = database.begin().await.unwrap();
    sqlx::query("lock table change_counter in access exclusive mode").execute(&mut *held).await.unwrap();
    let refused = until("it is too old", || async {
        let answer = ferry.ask(&question("night-sailings", false)).await;
        (answer.status() == 503).then_some(answer)
    })
    .await;
    assert_eq!(header(&refused, "retry-after"), "30");
    assert!(refused.text().await.unwrap().contains("out_of_date"));
    let ready = ferry.http.get(format!("{}/readyz", ferry.service.url)).send().await.unwrap();
    assert_eq!(ready.status(), 503);
    assert!(ready.text().await.unwrap().contains("serve_stale"));
    held.rollback().await.unwrap();
    until("it serves again", || async {
        (ferry.ask(&question("night-sailings", false)).await.status() == 200).then_some(())
    })
    .await;
}
