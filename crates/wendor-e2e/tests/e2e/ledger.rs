//! The ledger: one entry for each admitted request, tokens as the upstreams served them, roll-ups and figures that equal the sum of
//! the entries to the last digit.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use chrono::{DateTime, TimeDelta, Utc};
use futures_util::StreamExt;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::{Outcome, Profile, Served};

/// A request cancelled by the app: its id, and when the app closed.
type Closed = (String, SystemTime);

/// Asks and takes the answer to its end.
async fn ask_whole(ferry: &Ferry, route: &str, streamed: bool) -> u16 {
    let answer = ferry.ask(&question(route, streamed)).await;
    let status = answer.status().as_u16();
    answer.bytes().await.unwrap();
    status
}

/// Asks, takes two pieces, and goes away.
async fn leave_midway(ferry: &Ferry) -> Closed {
    let mut answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    answer.chunk().await.unwrap();
    answer.chunk().await.unwrap();
    drop(answer);
    (id, SystemTime::now())
}

/// Asks while the upstream stalls, and goes away once the upstream has the request.
async fn leave_while_waiting(ferry: &Ferry) -> SystemTime {
    let asked = ferry.quayside.tally().requests;
    let body = question("harbour", true);
    let asking = ferry.ask(&body);
    tokio::select! {
        _answer = asking => panic!("a stalled upstream has answered"),
        () = until("the stand-in to have it", || async { (ferry.quayside.tally().requests > asked).then_some(()) }) => {}
    }
    SystemTime::now()
}

#[tokio::test]
async fn five_hundred_mixed_requests_are_all_in_the_ledger_and_agree_with_the_upstreams() {
    let own =
        Profile { tokens_per_second: 400, answer_tokens: (20, 60), ..Profile::quick("quayside", &["dunlin-70b"]) };
    // Deadlines that a slow machine does not reach: an attempt that is given up may still have been served.
    let ferry = Ferry::with(Wishes { quayside: Some(own), patience: Some("20s"), ..Wishes::default() }).await;
    let begun = Utc::now() - TimeDelta::seconds(5);
    let ferry_ref = &ferry;
    let many = |count: usize, route: &'static str, streamed: bool| async move {
        let asks = futures_util::stream::iter(0..count).map(|_| ask_whole(ferry_ref, route, streamed));
        asks.buffer_unordered(16).collect::<Vec<u16>>().await
    };
    let mut statuses = many(170, "night-sailings", true).await;
    statuses.extend(many(110, "night-sailings", false).await);
    let left: Vec<Closed> =
        futures_util::stream::iter(0..50).map(|_| leave_midway(ferry_ref)).buffer_unordered(8).collect().await;
    for (fault, count) in
        [(Fault::Refuse, 40), (Fault::Status { status: 500, retry_after: None }, 40), (Fault::Garbage, 20)]
    {
        ferry.quayside.set_fault(fault).await.unwrap();
        statuses.extend(many(count, "night-sailings", true).await);
    }
    ferry.quayside.set_fault(Fault::CutMidway).await.unwrap();
    // It rests after what it has failed of, and is asked where there is nothing else.
    statuses.extend(many(20, "harbour", true).await);
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    statuses.extend(many(30, "harbour", false).await);
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let mut waited = Vec::new();
    for _ in 0..20 {
        waited.push(leave_while_waiting(&ferry).await);
    }
    assert_eq!(statuses.iter().filter(|status| **status == 502).count(), 30);
    assert_eq!(statuses.len() + left.len() + waited.len(), 500);
    let count = |end: &'static str| async move {
        ferry_ref.get(&format!("/requests?limit=1000&end={end}")).await["requests"].as_array().unwrap().clone()
    };
    until("all five hundred to be in the ledger", || async {
        let page = ferry_ref.get("/requests?limit=1000").await;
        (page["requests"].as_array().unwrap().len() >= 500).then_some(())
    })
    .await;
    ferry.drained().await;
    let counts = [
        count("proper").await.len(),
        count("cancelled").await.len(),
        count("cut-off").await.len(),
        count("not-answered").await.len(),
    ];
    assert_eq!(counts, [380, 70, 20, 30]);
    check_tokens(&ferry, &count("proper").await);
    check_cancels(&ferry, &left, &waited).await;
    check_rollups(&ferry).await;
    check_usage(&ferry, begun).await;
}

/// Every answer that was not cancelled has the tokens that its upstream served.
fn check_tokens(ferry: &Ferry, proper: &[Value]) {
    let served: Vec<Served> = [ferry.quayside.served(), ferry.quarry.served()].concat();
    let by_request: BTreeMap<String, Served> = served
        .into_iter()
        .filter(|served| served.outcome == Outcome::Served)
        .filter_map(|served| Some((served.request.clone()?, served)))
        .collect();
    let mut sums = (0, 0);
    for request in proper {
        let id = request["id"].as_str().unwrap();
        let served = by_request.get(id).unwrap_or_else(|| panic!("{id} was served by nobody"));
        let tokens = (&request["tokens"]["input"], &request["tokens"]["output"]);
        assert_eq!(tokens, (&json!(served.input_tokens), &json!(served.output_tokens)), "{id}");
        sums = (sums.0 + served.input_tokens, sums.1 + served.output_tokens);
    }
    let tally = (ferry.quayside.tally(), ferry.quarry.tally());
    // The tally holds some more: answers that were whole before their app's leaving was noticed, which the ledger has as
    // cancelled. None may be missing.
    let whole = (tally.0.input_tokens + tally.1.input_tokens, tally.0.output_tokens + tally.1.output_tokens);
    let raced = by_request.len() - proper.len();
    if raced == 0 {
        assert_eq!(sums, whole);
    }
    assert!(raced <= 70, "{raced}");
}

/// The stand-ins saw the cancels within 100 ms of the app's close: the median of them, and each within some seconds, since a
/// machine that is loaded or paused says nothing about the gateway.
async fn check_cancels(ferry: &Ferry, left: &[Closed], waited: &[SystemTime]) {
    let seen = until("the stand-ins to have seen them leave", || async {
        let all = [ferry.quayside.served(), ferry.quarry.served()].concat();
        let left_ids: Vec<&String> = left.iter().map(|(id, _)| id).collect();
        let seen: Vec<Served> =
            all.into_iter().filter(|served| served.request.as_ref().is_some_and(|id| left_ids.contains(&id))).collect();
        (seen.len() >= left.len()).then_some(seen)
    })
    .await;
    let after =
        |served: &Served, closed: &SystemTime| served.ended_at.duration_since(*closed).unwrap_or(Duration::ZERO);
    let of_left = left
        .iter()
        .map(|(id, closed)| after(seen.iter().find(|served| served.request.as_ref() == Some(id)).unwrap(), closed));
    check_delays(of_left.collect());
    let while_waiting: Vec<Served> = ferry.quayside.served();
    let while_waiting =
        while_waiting.iter().rev().filter(|served| served.outcome == Outcome::ClientLeft).take(waited.len());
    check_delays(while_waiting.zip(waited.iter().rev()).map(|(served, closed)| after(served, closed)).collect());
}

fn check_delays(mut delays: Vec<Duration>) {
    delays.sort_unstable();
    let (median, longest) = (delays[delays.len() / 2], delays[delays.len() - 1]);
    assert!(
        median < Duration::from_millis(100) && longest < Duration::from_secs(5),
        "median {median:?}, longest {longest:?}"
    );
}

/// The roll-ups equal the sum of the entries to the last digit.
async fn check_rollups(ferry: &Ferry) {
    let mut connection = ferry.database.connect().await;
    let sums = "select count(*)::bigint, sum(tokens_input)::bigint, sum(tokens_output)::bigint,
        sum(cost_input + cost_input_cached + cost_cache_written + cost_output), count(first_token_ms)::bigint from ledger";
    let entries: (i64, i64, i64, Decimal, i64) = sqlx::query_as(sums).fetch_one(&mut connection).await.unwrap();
    let sums = "select sum(requests)::bigint, sum(tokens_input)::bigint, sum(tokens_output)::bigint, sum(cost) from usage_hour";
    let rollups: (i64, i64, i64, Decimal) = sqlx::query_as(sums).fetch_one(&mut connection).await.unwrap();
    assert_eq!((entries.1, entries.2, entries.3), (rollups.1, rollups.2, rollups.3));
    let requests: i64 = sqlx::query_scalar("select count(*) from ledger where kind = 'request'")
        .fetch_one(&mut connection)
        .await
        .unwrap();
    assert_eq!((requests, rollups.0), (500, 500), "attempts that used something are no requests");
    let details: i64 =
        sqlx::query_scalar("select count(*) from request_detail").fetch_one(&mut connection).await.unwrap();
    assert_eq!(details, 500);
    let sketches: Vec<Vec<u8>> =
        sqlx::query_scalar("select first_token from usage_hour").fetch_all(&mut connection).await.unwrap();
    let timed: u64 =
        sketches.iter().map(|bytes| wendor_core::metering::sketch::Sketch::from_bytes(bytes).unwrap().count()).sum();
    assert_eq!(timed, u64::try_from(entries.4).unwrap());
}

/// `wendor usage` over a closed range equals the ledger's sums, and each of its figures leads to its requests.
async fn check_usage(ferry: &Ferry, begun: DateTime<Utc>) {
    let mut connection = ferry.database.connect().await;
    // A range that cuts hours, and cuts the requests in two.
    let middle: DateTime<Utc> =
        sqlx::query_scalar("select percentile_disc(0.5) within group (order by at) from ledger")
            .fetch_one(&mut connection)
            .await
            .unwrap();
    let (from, to) = (begun.to_rfc3339(), middle.to_rfc3339());
    for by in ["team", "route", "offer", "key"] {
        let output = ferry.wendor(&["usage", "--by", by, "--from", &from, "--to", &to, "--json"]).await;
        assert_eq!(output.status, 0, "{}", output.err);
        let usage: Value = serde_json::from_str(&output.out).unwrap();
        let sums: (i64, i64, Decimal) = sqlx::query_as(
            "select (count(*) filter (where kind = 'request'))::bigint, sum(tokens_output)::bigint,
             sum(cost_input + cost_input_cached + cost_cache_written + cost_output) from ledger where at >= $1 and at < $2",
        )
        .bind(begun)
        .bind(middle)
        .fetch_one(&mut connection)
        .await
        .unwrap();
        let together = &usage["together"];
        assert_eq!((&together["requests"], &together["tokens"]["output"]), (&json!(sums.0), &json!(sums.1)), "{by}");
        assert_eq!(together["cost"].as_str().unwrap().parse::<Decimal>().unwrap(), sums.2, "{by}");
        for line in usage["lines"].as_array().unwrap() {
            let page = ferry
                .get(&format!("/requests?limit=1000&{}", line["requests_query"].as_str().unwrap().replace('+', "%2B")))
                .await;
            let requests = page["requests"].as_array().unwrap();
            assert_eq!(json!(requests.len()), line["requests"], "{by} {line}");
            let cost: Decimal =
                requests.iter().map(|request| request["cost"].as_str().unwrap().parse::<Decimal>().unwrap()).sum();
            assert_eq!(cost, line["cost"].as_str().unwrap().parse::<Decimal>().unwrap(), "{by}");
        }
    }
}

#[tokio::test]
async fn lists_are_paged_without_gaps_or_repeats() {
    let ferry = Ferry::begin().await;
    for _ in 0..7 {
        ask_whole(&ferry, "night-sailings", false).await;
    }
    ferry.drained().await;
    let (mut seen, mut after) = (Vec::new(), String::new());
    loop {
        let page = ferry.get(&format!("/requests?limit=3{after}")).await;
        seen.extend(
            page["requests"].as_array().unwrap().iter().map(|request| request["id"].as_str().unwrap().to_owned()),
        );
        match page["next"].as_str() {
            Some(next) => after = format!("&after={}", next.replace('+', "%2B")),
            None => break,
        }
    }
    let all: Vec<String> = ferry.get("/requests").await["requests"]
        .as_array()
        .unwrap()
        .iter()
        .map(|request| request["id"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!((seen.len(), seen), (7, all));
}

/// What apps say of their requests tells figures apart too, and so does how they ended; each line leads to its requests.
#[tokio::test]
async fn figures_by_run_label_and_end() {
    let ferry = Ferry::begin().await;
    for (run, label) in [("night & day", "search"), ("night & day", "help"), ("two", "search"), ("", "")] {
        let body = question("night-sailings", false);
        let mut request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        if !run.is_empty() {
            request = request.header("wendor-run", run).header("wendor-labels", format!("feature={label}"));
        }
        assert_eq!(request.json(&body).send().await.unwrap().status(), 200);
    }
    ferry.drained().await;
    for (by, expected) in [
        ("run", vec![("", 1), ("night & day", 2), ("two", 1)]),
        ("label:feature", vec![("", 1), ("help", 1), ("search", 2)]),
        ("end", vec![("proper", 4)]),
    ] {
        let ran = ferry.wendor(&["--json", "usage", "--by", by, "--last", "24h"]).await;
        let usage: Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err));
        assert_eq!(usage["by"], by);
        let lines = usage["lines"].as_array().unwrap();
        let mut told: Vec<(&str, u64)> =
            lines.iter().map(|line| (line["name"].as_str().unwrap(), line["requests"].as_u64().unwrap())).collect();
        told.sort_unstable();
        assert_eq!(told, expected, "{by}");
        for line in lines.iter().filter(|line| line["name"] != "") {
            let page = ferry.get(&format!("/requests?{}", line["requests_query"].as_str().unwrap())).await;
            assert_eq!(json!(page["requests"].as_array().unwrap().len()), line["requests"], "{line}");
        }
    }
    let pairs = ferry.wendor(&["usage", "--by", "route,label:feature", "--last", "24h", "--csv"]).await;
    assert!(pairs.out.starts_with("route,label:feature,label,currency,cost,"), "{}{}", pairs.out, pairs.err);
    assert!(pairs.out.contains("\r\nnight-sailings,search,"), "{}", pairs.out);
    let shown = ferry.wendor(&["usage", "--by", "run", "--last", "24h"]).await.out;
    assert!(shown.contains("(no run)") && shown.contains("There are no records of the previous period."), "{shown}");
    assert!(shown.contains("wendor request list --run"), "{shown}");
    let why = ferry.wendor(&["usage", "--why", "--last", "24h"]).await;
    let told = why.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("more than") || told.contains("cost as much as"), "{}{}", why.out, why.err);
    let why = ferry.get("/usage/why?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z").await;
    let part = |name: &str| why[name].as_str().unwrap().parse::<Decimal>().unwrap();
    let parts = part("volume") + part("price") + part("mix") + part("other");
    assert_eq!(parts, part("cost") - part("cost_before"), "{why}");
    assert!(part("volume") > Decimal::ZERO, "{why}");
}
