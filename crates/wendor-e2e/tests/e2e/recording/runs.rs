//! Figures by run, of which an app may make one for each of its requests.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, question};

/// So many runs of today and of the day before, the later of each dearer, beside a request of today that has none.
#[rstest]
#[case::more_than_are_shown(2_100, 50, 2_000, 0, 101)]
#[case::as_many_as_are_shown(1_999, 50, 1_999, 0, 0)]
#[case::all_are_shown(10, 50, 10, 50, 0)]
#[case::more_before(10, 2_100, 10, 1_989, 0)]
#[tokio::test]
async fn of_many_runs_the_dearest_are_shown_and_all_are_summed(
    #[case] runs: usize,
    #[case] before: usize,
    #[case] shown: usize,
    #[case] gone: usize,
    #[case] left_out: usize,
) {
    let ferry = Ferry::begin().await;
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    ferry.drained().await;
    let many = "insert into ledger select copy.* from ledger as line
            cross join (select 'run-' || n as run, n, 0 as days from generate_series(1, $1) as n
                union all select 'gone-' || n, n, 1 from generate_series(1, $2) as n) as new
            cross join lateral jsonb_populate_record(line, jsonb_build_object('entry_id', 'E-' || new.run, 'run', new.run,
                'cost_output', new.n, 'at', line.at - new.days * interval '24 hours')) as copy";
    let [runs_sent, before_sent] = [runs, before].map(|number| i32::try_from(number).unwrap());
    sqlx::query(many).bind(runs_sent).bind(before_sent).execute(&mut ferry.database.connect().await).await.unwrap();
    let ran = ferry.wendor(&["--json", "usage", "--by", "run", "--last", "24h"]).await;
    let usage: Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err));
    let names: Vec<&str> =
        usage["lines"].as_array().unwrap().iter().map(|line| line["name"].as_str().unwrap()).collect();
    let dearest: Vec<String> = (1..=runs).rev().take(shown).map(|number| format!("run-{number}")).collect();
    assert_eq!(names[..shown], dearest);
    // What has no run is the cheapest of today.
    let none = usize::from(left_out == 0);
    assert_eq!(names.len(), shown + none + gone, "{names:?}");
    assert!(names[shown + none..].iter().all(|name| name.starts_with("gone-")), "{names:?}");
    assert_eq!(usage["left_out"], json!(left_out));
    let together = &usage["together"];
    assert_eq!((&together["requests"], &together["before"]["requests"]), (&json!(runs + 1), &json!(before)));
    let asked = ferry.wendor(&["--json", "usage", "--by", "end", "--last", "24h"]).await.out;
    let by_end: Value = serde_json::from_str(&asked).unwrap();
    assert_eq!(usage["together"]["cost"], by_end["together"]["cost"]);
    assert_eq!(usage["together"]["before"]["cost"], by_end["together"]["before"]["cost"]);
}
