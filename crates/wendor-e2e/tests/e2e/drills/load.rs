//! Apps that go on asking while things go wrong, and what they have seen.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use reqwest::Client;
use tokio::task::JoinSet;
use wendor_e2e::ferry::{Ferry, header, question};

/// What the apps have seen.
#[derive(Debug, Default)]
pub struct Seen {
    /// Requests whose end an app saw, by their id.
    pub whole: Vec<String>,
    /// Answers with another status, with what they said.
    pub refused: Vec<(u16, String)>,
}

/// Apps that ask until they are told to stop.
pub struct Load {
    url: Arc<Mutex<String>>,
    seen: Arc<Mutex<Seen>>,
    stop: Arc<AtomicBool>,
    asked: Arc<AtomicU64>,
    apps: JoinSet<()>,
}

impl Load {
    /// So many apps with a pause between two requests of each.
    pub fn begin(ferry: &Ferry, apps: u64, pause: Duration) -> Self {
        let mut load = Self {
            url: Arc::new(Mutex::new(ferry.service.url.clone())),
            seen: Arc::default(),
            stop: Arc::default(),
            asked: Arc::default(),
            apps: JoinSet::new(),
        };
        for app in 0..apps {
            let (url, seen, stop, asked) = (load.url.clone(), load.seen.clone(), load.stop.clone(), load.asked.clone());
            let key = ferry.key.clone();
            load.apps.spawn(async move {
                let http = Client::builder().no_proxy().timeout(Duration::from_secs(30)).build().unwrap();
                let mut streamed = app % 2 == 0;
                while !stop.load(Ordering::Relaxed) {
                    let at = url.lock().unwrap().clone();
                    asked.fetch_add(1, Ordering::Relaxed);
                    ask(&http, &at, &key, streamed, &seen).await;
                    streamed = !streamed;
                    tokio::time::sleep(pause).await;
                }
            });
        }
        load
    }

    /// The service is somewhere else now.
    pub fn goes_to(&self, ferry: &Ferry) {
        self.url.lock().unwrap().clone_from(&ferry.service.url);
    }

    /// Requests asked so far, whatever came of them.
    pub fn asked(&self) -> u64 {
        self.asked.load(Ordering::Relaxed)
    }

    /// Answers seen to their end so far.
    pub fn answered(&self) -> usize {
        self.seen.lock().unwrap().whole.len()
    }

    /// Stops asking and gives what was seen.
    pub async fn end(mut self) -> Seen {
        self.stop.store(true, Ordering::Relaxed);
        while self.apps.join_next().await.is_some() {}
        std::mem::take(&mut *self.seen.lock().unwrap())
    }
}

async fn ask(http: &Client, url: &str, key: &str, streamed: bool, seen: &Mutex<Seen>) {
    let body = question("night-sailings", streamed);
    let request = http.post(format!("{url}/v1/chat/completions")).bearer_auth(key).json(&body);
    // Without an answer there is nothing that an app has seen.
    let Ok(answer) = request.send().await else { return };
    let (status, id) = (answer.status().as_u16(), header(&answer, "wendor-request-id"));
    let Ok(text) = answer.text().await else { return };
    let is_whole = if streamed { text.ends_with("data: [DONE]\n\n") } else { text.ends_with('}') };
    let mut seen = seen.lock().unwrap();
    match status {
        200 if is_whole => seen.whole.push(id),
        200 => {}
        status => seen.refused.push((status, text)),
    }
}

/// Every answer whose end was seen has exactly one line of its own; nothing stands there twice, and nothing is set aside.
pub async fn check_recorded(ferry: &Ferry, seen: &Seen) {
    ferry.drained().await;
    let mut connection = ferry.database.connect().await;
    let missing: Vec<String> = sqlx::query_scalar(
        "select id from unnest($1::text[]) id where (select count(*) from ledger where request = id and kind = 'request') <> 1",
    )
    .bind(&seen.whole)
    .fetch_all(&mut connection)
    .await
    .unwrap();
    assert!(
        missing.is_empty(),
        "{} of {} answers have not exactly one line: {missing:?}",
        missing.len(),
        seen.whole.len()
    );
    let doubled: i64 =
        sqlx::query_scalar("select count(*) - count(distinct request) from ledger where kind = 'request'")
            .fetch_one(&mut connection)
            .await
            .unwrap();
    assert_eq!(doubled, 0, "requests that stand there twice");
    assert_eq!(ferry.get("/spool").await["set_aside"], 0);
    check_sums(&mut connection).await;
}

/// Roll-ups and quota windows equal the sums of the lines, to the last digit.
async fn check_sums(connection: &mut sqlx::PgConnection) {
    type Sums = (i64, rust_decimal::Decimal, rust_decimal::Decimal, rust_decimal::Decimal);
    let lines: Sums = sqlx::query_as(
        "select count(*) filter (where kind = 'request'), coalesce(sum(tokens_input + tokens_input_cached + tokens_cache_written), 0),
         coalesce(sum(tokens_output), 0),
         coalesce(sum(cost_input + cost_input_cached + cost_cache_written + cost_output + coalesce(cost_images, 0)), 0) from ledger",
    )
    .fetch_one(&mut *connection)
    .await
    .unwrap();
    let rollups: Sums = sqlx::query_as(
        "select coalesce(sum(requests), 0)::bigint, coalesce(sum(tokens_input + tokens_input_cached + tokens_cache_written), 0),
         coalesce(sum(tokens_output), 0), coalesce(sum(cost), 0) from usage_hour",
    )
    .fetch_one(&mut *connection)
    .await
    .unwrap();
    assert_eq!(lines, rollups, "lines and roll-ups");
    let windows: Vec<(String, rust_decimal::Decimal)> =
        sqlx::query_as("select quota, sum(settled) from quota_window group by quota")
            .fetch_all(connection)
            .await
            .unwrap();
    for (quota, used) in windows {
        let expected = match quota.as_str() {
            "timetables/requests/month" => rust_decimal::Decimal::from(lines.0),
            "timetables/tokens/month" => lines.1 + lines.2,
            "timetables/cost/month" => lines.3,
            other => panic!("{other} is no quota of the drill"),
        };
        assert_eq!(used, expected, "{quota}");
    }
}
