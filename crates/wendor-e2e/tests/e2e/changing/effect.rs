//! The effect of a change that is shown, beside what the same traffic does once the change is in force.

use std::collections::BTreeMap;

use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::traffic::Ask;

/// Requests of the traffic.
const REQUESTS: u64 = 40;

const ROUTE: &str = "/routes/night-sailings";
const OWN: &str = "quayside/dunlin-70b";
const HOSTED: &str = "quarry/fulmar-large";

/// Asks so often, and counts where requests went: the offer that answered, or that they were refused.
async fn traffic(ferry: &Ferry, name: &str) -> BTreeMap<String, u64> {
    let mut went = BTreeMap::new();
    for _ in 0..REQUESTS {
        let answer = ferry.ask(&question(name, false)).await;
        let to = if answer.status() == 200 { header(&answer, "wendor-offer") } else { "refused".to_owned() };
        answer.text().await.unwrap();
        *went.entry(to).or_default() += 1;
    }
    went
}

fn stage(offers: Value, pick: &str) -> Value {
    json!({ "offers": offers, "pick": pick })
}

/// Changes of every kind that moves requests; the shares are drawn.
fn changes(rng: &mut StdRng) -> Vec<Value> {
    let mut shared = || {
        let (own, hosted) = (rng.random_range(1..9), rng.random_range(1..9));
        let offers = json!([{ "offer": OWN, "share": own }, { "offer": HOSTED, "share": hosted }]);
        json!([{ "op": "replace", "path": format!("{ROUTE}/stages"), "value": [stage(offers, "share")] }])
    };
    vec![
        shared(),
        shared(),
        shared(),
        json!([{ "op": "move", "from": format!("{ROUTE}/stages/0"), "path": format!("{ROUTE}/stages/1") }]),
        json!([{ "op": "replace", "path": format!("{ROUTE}/stages"), "value": [stage(json!([OWN, HOSTED]), "room")] }]),
        json!([{ "op": "remove", "path": format!("{ROUTE}/stages/0") }]),
        json!([{ "op": "add", "path": "/upstreams/quayside/drained", "value": true }]),
        json!([{ "op": "add", "path": "/upstreams/quayside/offers/dunlin-70b/context_window", "value": 1 }]),
        json!([{ "op": "add", "path": "/teams/timetables/routes", "value": ["harbour"] }]),
        json!([{ "op": "add", "path": format!("{ROUTE}/retires"), "value": "2026-01-01" }]),
    ]
}

#[tokio::test]
async fn what_is_shown_is_what_the_same_traffic_does() {
    let ferry = Ferry::begin().await;
    traffic(&ferry, "night-sailings").await;
    ferry.drained().await;
    let base = ferry.get("/revisions/current").await["revision"].clone();
    // The traffic below must not count as the week before.
    let mut rng = StdRng::seed_from_u64(7);
    let looked = {
        let mut looked = Vec::new();
        for edits in changes(&mut rng) {
            let seen = ferry.post("/catalogue/difference", &json!({ "edits": edits, "effect": true })).await;
            assert_eq!(
                (&seen["effect"]["requests"], &seen["effect"]["planned"]),
                (&json!(REQUESTS), &json!(REQUESTS)),
                "{seen}"
            );
            looked.push((edits, seen));
        }
        looked
    };
    for (edits, seen) in looked {
        let applied = ferry.post("/catalogue", &json!({ "edits": edits, "note": "try" })).await;
        assert!(applied["revision"].as_i64().is_some(), "{applied}");
        let went = traffic(&ferry, "night-sailings").await;
        let lines = seen["effect"]["lines"].as_array().unwrap();
        let expected = |to: &str| -> u64 {
            let is_it = |line: &&Value| line["offer"].as_str().unwrap_or("refused") == to;
            lines.iter().filter(is_it).map(|line| line["after"].as_u64().unwrap()).sum()
        };
        assert!(!lines.is_empty(), "it changes something: {edits} {seen}");
        for to in [OWN, HOSTED, "refused"] {
            let (shown, did) = (expected(to), went.get(to).copied().unwrap_or(0));
            // By share and among equals both are drawn: four standard errors of the difference of two such counts.
            let part = f64::from(u32::try_from(shown + did).unwrap()) / (2.0 * REQUESTS as f64);
            let bound = 4.0 * (2.0 * REQUESTS as f64 * part * (1.0 - part)).sqrt();
            let off = f64::from(u32::try_from(shown.abs_diff(did)).unwrap());
            assert!(off <= bound, "{to}: shown {shown}, did {did}, bound {bound:.1}\n{edits}\n{seen}");
        }
        ferry.post("/catalogue", &json!({ "revision": base, "note": "back" })).await;
        until("the route to be as it was", || async {
            (ferry.ask(&question("night-sailings", false)).await.status() == 200).then_some(())
        })
        .await;
    }
}

#[tokio::test]
async fn the_client_tells_the_effect_with_its_cost() {
    let ferry = Ferry::begin().await;
    for _ in 0..5 {
        ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    }
    ferry.drained().await;
    let ran = ferry.wendor(&["route", "stage", "remove", "night-sailings", "1", "--dry-run"]).await;
    let words = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        words.contains("On the last 7 days: 5 of 5 requests would have gone elsewhere; together they cost"),
        "{}",
        ran.out
    );
    assert!(words.contains("Taken for granted: every upstream is well"), "{}", ran.out);
    let line = ran.out.lines().find(|line| line.contains(HOSTED) && line.contains(" 5 ")).unwrap_or_default();
    assert!(line.starts_with("night-sailings"), "{}", ran.out);
}

/// Of more requests than are planned it is told how far a count may be off, and it is not further off: what two routes lose is known exactly.
#[tokio::test]
async fn a_sample_is_as_far_off_as_it_says() {
    let mut ferry = Ferry::begin().await;
    let ask = |team: &str, route: &str, a_day: u32| Ask {
        team: team.to_owned(),
        route: route.to_owned(),
        a_day,
        input_tokens: (200, 2_000),
        output_tokens: (20, 200),
        cached: 0.0,
        weekend: 1.0,
        live: false,
    };
    let catalogue = ferry.catalogue(&Wishes::default());
    let asks = [ask("timetables", "night-sailings", 3_600), ask("timetables", "harbour", 600)];
    ferry.remember(&catalogue, &asks, 8).await;
    let mut connection = ferry.database.connect().await;
    for route in ["night-sailings", "harbour"] {
        let edits = json!([{ "op": "remove", "path": format!("/routes/{route}") }]);
        let begun = std::time::Instant::now();
        let seen = ferry.post("/catalogue/difference", &json!({ "edits": edits, "effect": true })).await;
        eprintln!("{route}: looked at in {:?}", begun.elapsed());
        let exact: i64 = sqlx::query_scalar(
            "select count(*) from ledger where kind = 'request' and route = $1 and at >= now() - interval '7 days'",
        )
        .bind(route)
        .fetch_one(&mut connection)
        .await
        .unwrap();
        let effect = &seen["effect"];
        let of = |member: &str| effect[member].as_u64().unwrap();
        assert!(of("planned") <= 20_000 && of("requests") > 20_000 && of("moved_error") > 0, "{effect}");
        let exact = u64::try_from(exact).unwrap();
        // At 95 in 100 it is within its error: twice that is passed once in ten thousand.
        assert!(of("moved").abs_diff(exact) <= 2 * of("moved_error"), "exactly {exact}: {effect}");
        assert!(of("moved_error") < exact / 10, "an error that says something: {effect}");
    }
}
