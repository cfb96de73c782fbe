//! Lines of the ledger for other programs: however many they are, all of them, and their sums are those of figures.

use rust_decimal::Decimal;
use serde_json::json;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_standins::traffic::Ask;

/// Lines that are read from the database at once.
const PAGE: usize = 1_000;

fn ask(team: &str, a_day: u32) -> Ask {
    Ask {
        team: team.to_owned(),
        route: "night-sailings".to_owned(),
        a_day,
        input_tokens: (200, 2_000),
        output_tokens: (20, 200),
        cached: 0.3,
        weekend: 1.0,
        live: false,
    }
}

fn records(text: &str) -> (csv::StringRecord, Vec<csv::StringRecord>) {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let head = reader.headers().unwrap().clone();
    (head, reader.records().collect::<Result<_, _>>().unwrap())
}

#[tokio::test]
async fn every_line_of_a_range_is_exported_once_and_sums_to_its_figures() {
    let mut ferry = Ferry::begin().await;
    let catalogue = ferry.catalogue(&Wishes::default());
    ferry.remember(&catalogue, &[ask("timetables", 200), ask("freight-desk", 100)], 8).await;
    for narrow in [&[][..], &["--team", "freight-desk"], &["--upstream", "quarry"]] {
        let args = |command: &'static [&'static str]| [command, &["--last", "9d"], narrow].concat();
        let exported = ferry.wendor(&args(&["ledger", "export"])).await;
        let (head, lines) = records(&exported.out);
        let column = |name: &str| head.iter().position(|column| column == name).unwrap();
        let (cost, kind, entry, at) = (column("cost"), column("kind"), column("entry"), column("at"));
        let usage = ferry.wendor(&args(&["--json", "usage"])).await.out;
        let usage: serde_json::Value = serde_json::from_str(&usage).unwrap_or_else(|_| panic!("{}", exported.err));
        let sum: Decimal = lines.iter().map(|line| line[cost].parse().unwrap_or(Decimal::ZERO)).sum();
        assert_eq!(json!(sum.normalize().to_string()), usage["together"]["cost"], "{narrow:?}");
        let requests = lines.iter().filter(|line| &line[kind] == "request").count();
        assert_eq!(json!(requests), usage["together"]["requests"], "{narrow:?}");
        assert!(requests > 0 && (requests > 2 * PAGE || !narrow.is_empty()), "{requests} of {narrow:?}");
        assert!(lines.is_sorted_by(|one, next| (&one[at], &one[entry]) < (&next[at], &next[entry])), "{narrow:?}");
    }
    let told = ferry.get("/audit?action=ledger-exported").await;
    let subjects: Vec<_> = told["entries"].as_array().unwrap().iter().map(|entry| entry["subject"].clone()).collect();
    assert_eq!(subjects, [json!("ledger"), json!("ledger of freight-desk"), json!("ledger")]);
}

/// Nobody takes away what they may not see, and a range of nothing is a head.
#[tokio::test]
async fn a_lead_exports_the_lines_of_their_team() {
    let ferry = Ferry::begin().await;
    let asked = ferry.ask(&question("night-sailings", false)).await;
    ferry.request(&header(&asked, "wendor-request-id")).await;
    ferry.drained().await;
    for (name, team, lines) in [("timetabler", "timetables", 1), ("forwarder", "freight-desk", 0)] {
        let token = ferry.sign_in(name, "lead", Some(team)).await;
        let of_all = ferry.wendor_in(&["ledger", "export", "--last", "24h"], &[("WENDOR_TOKEN", &token)]).await;
        assert_eq!(records(&of_all.out).1.len(), lines, "{}{}", of_all.out, of_all.err);
    }
    let wrong = ferry.wendor(&["ledger", "export", "--team", "freight-dsek"]).await;
    assert!(wrong.out.is_empty() && wrong.err.contains("freight-dsek"), "{}{}", wrong.out, wrong.err);
    let as_json = ferry.wendor(&["--json", "ledger", "export"]).await;
    assert!(as_json.out.is_empty() && as_json.err.contains("leave `--json` out"), "{}{}", as_json.out, as_json.err);
}
