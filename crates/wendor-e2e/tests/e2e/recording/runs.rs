//! Figures by run, of which an app may make one for each of its requests.

use serde_json::json;
use wendor_e2e::ferry::{Ferry, question};

#[tokio::test]
async fn of_many_runs_the_dearest_are_shown_and_all_are_summed() {
    let ferry = Ferry::begin().await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    ferry.drained().await;
    let many = "insert into ledger
        select (jsonb_populate_record(line, jsonb_build_object('entry_id', 'E' || n, 'run', 'run-' || n, 'cost_output', n))).*
        from ledger as line cross join generate_series(1, 2100) as n";
    sqlx::query(many).execute(&mut ferry.database.connect().await).await.unwrap();
    let ran = ferry.wendor(&["--json", "usage", "--by", "run", "--last", "24h"]).await;
    let usage: serde_json::Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err));
    let names: Vec<&str> =
        usage["lines"].as_array().unwrap().iter().map(|line| line["name"].as_str().unwrap()).collect();
    let dearest: Vec<String> = (101..=2_100).rev().map(|number| format!("run-{number}")).collect();
    assert_eq!(names, dearest);
    // With the one that has none.
    assert_eq!((&usage["left_out"], &usage["together"]["requests"]), (&json!(101), &json!(2_101)));
    let asked = ferry.wendor(&["--json", "usage", "--by", "end", "--last", "24h"]).await.out;
    let by_end: serde_json::Value = serde_json::from_str(&asked).unwrap();
    assert_eq!(usage["together"]["cost"], by_end["together"]["cost"]);
}
