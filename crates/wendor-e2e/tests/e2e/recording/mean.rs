//! Requests that mean to harm: whatever one app sends, a good request of another team is answered and recorded afterwards.

use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header, question};

use super::{in_messages, post};

/// A good request of another team: answered, recorded, and nothing of the spool in the way.
async fn another_team_is_well(ferry: &Ferry) {
    let key = ferry.issue_key("freight-desk").await;
    let answer = ferry.ask_with(&key, &question("night-sailings", false)).await;
    assert_eq!(answer.status(), 200);
    let id = header(&answer, "wendor-request-id");
    ferry.drained().await;
    let page = ferry.get("/requests?team=freight-desk").await;
    assert!(page["requests"].as_array().unwrap().iter().any(|line| line["id"] == id.as_str()), "{page}");
    assert_eq!(ferry.get("/spool").await["set_aside"], 0);
}

/// Every request that was answered stands in the ledger, whatever was in it.
async fn recorded(ferry: &Ferry, ids: &[String]) {
    ferry.drained().await;
    for id in ids {
        let shown = ferry.request(id).await;
        assert_eq!(shown["request"]["id"], id.as_str(), "{shown}");
        let mut connection = ferry.database.connect().await;
        let lines: i64 = sqlx::query_scalar("select count(*) from ledger where request = $1 and kind = 'request'")
            .bind(id)
            .fetch_one(&mut connection)
            .await
            .unwrap();
        assert_eq!(lines, 1, "{id}");
    }
}

/// `wanted` put into the body in place of the text `HERE`.
fn with(mut body: Value, member: &str, value: Value) -> String {
    body[member] = value;
    body.to_string()
}

#[rstest]
#[case::a_name_of_seventeen_mebibytes("/v1/messages", with(in_messages("night-sailings"), &"n".repeat(17 << 20), json!(1)))]
#[case::a_value_of_seventeen_mebibytes("/v1/messages", with(in_messages("night-sailings"), "stray", json!("v".repeat(17 << 20))))]
#[case::ten_thousand_members("/v1/messages", (0..10_000).fold(in_messages("night-sailings"), |mut body, number| { body[format!("stray{number}")] = json!(number); body }).to_string())]
#[case::a_nul_in_a_name("/v1/messages", with(in_messages("night-sailings"), "x\u{0}y", json!(1)))]
#[case::control_characters_in_a_name("/v1/responses", with(json!({ "model": "night-sailings", "input": "When?" }), "x\u{1b}[2J\u{7f}\u{85}y", json!(1)))]
#[case::half_a_letter_in_a_name("/v1/messages", in_messages("night-sailings").to_string().replacen('{', r#"{"\ud800":1,"#, 1))]
#[case::a_nul_in_generation_config("/v1beta/models/night-sailings:generateContent", json!({ "contents": [{ "parts": [{ "text": "When?" }] }], "generationConfig": { "x\u{0}y": 1 } }).to_string())]
#[case::options_of_a_local_server("/api/chat", json!({ "model": "night-sailings", "stream": false, "options": { "num\u{0}ctx": 5, "mirostat": 1e308 }, "messages": [{ "role": "user", "content": "When?" }] }).to_string())]
#[case::numbers_beyond_all_ranges("/v1/messages", with(in_messages("night-sailings"), "stray", serde_json::from_str("[1e999, -1e999, 123456789012345678901234567890]").unwrap_or(json!("none"))))]
#[case::letters_of_every_width("/v1/messages", with(in_messages("night-sailings"), "ß漢🚢\u{202e}\u{feff}", json!("ß漢🚢")))]
#[tokio::test]
async fn one_app_cannot_keep_others_out_of_the_ledger(#[case] path: &str, #[case] body: String) {
    let mut ferry = Ferry::begin().await;
    let (status, id) = post(&ferry, &ferry.key, path, body).await;
    assert!(status == 200 || status == 400, "{status}");
    another_team_is_well(&ferry).await;
    if status == 200 {
        recorded(&ferry, std::slice::from_ref(&id)).await;
    }
    // What it left behind does not stand in the way of a start either.
    ferry.service.kill();
    ferry.restart().await;
    another_team_is_well(&ferry).await;
}

/// Names and values drawn from what databases, logs and JSON readers stumble over, in every dialect.
#[tokio::test]
async fn whatever_is_in_a_request_it_is_recorded_if_it_was_answered() {
    const PIECES: [&str; 14] = [
        "\\u0000",
        "\\u001f",
        "\\\\",
        "\\\"",
        "\\ud83d\\udea2",
        "é",
        "漢",
        "'",
        ";--",
        "%s",
        "{}",
        "\\u2028",
        "0",
        "aaaaaaaaaaaaaaaa",
    ];
    let ferry = Ferry::begin().await;
    let mut random = SmallRng::seed_from_u64(1_711);
    let bodies = [
        ("/v1/messages", in_messages("night-sailings")),
        ("/v1/chat/completions", question("night-sailings", false)),
        ("/v1/responses", json!({ "model": "night-sailings", "input": "When?" })),
        ("/v1beta/models/night-sailings:generateContent", json!({ "contents": [{ "parts": [{ "text": "When?" }] }] })),
        (
            "/api/chat",
            json!({ "model": "night-sailings", "stream": false, "messages": [{ "role": "user", "content": "When?" }] }),
        ),
    ];
    let mut answered = Vec::new();
    for round in 0..100 {
        let mut text = |most: usize| {
            let pieces = random.random_range(1..most);
            (0..pieces).map(|_| PIECES[random.random_range(0..PIECES.len())]).collect::<String>()
        };
        let stray = format!(r#"{{"{}":"{}","metadata":{{"{}":"{}"}},"#, text(8), text(40), text(8), text(8));
        let (path, body) = &bodies[round % bodies.len()];
        let (status, id) = post(&ferry, &ferry.key, path, body.to_string().replacen('{', &stray, 1)).await;
        assert!(status == 200 || status == 400, "{status} of {stray}");
        answered.extend((status == 200).then_some(id));
    }
    assert!(answered.len() > 40, "{} of 100 were answered", answered.len());
    recorded(&ferry, &answered).await;
    another_team_is_well(&ferry).await;
}

/// Where the database takes the line and not the detail, the line is recorded, and says so.
#[tokio::test]
async fn the_detail_never_decides_over_the_line() {
    let ferry = Ferry::begin().await;
    let mut connection = ferry.database.connect().await;
    let refuse =
        "alter table request_detail add constraint no_attempts check (jsonb_array_length(detail -> 'attempts') = 0)";
    sqlx::query(refuse).execute(&mut connection).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    let id = header(&answer, "wendor-request-id");
    ferry.drained().await;
    assert_eq!(ferry.get("/spool").await["set_aside"], 0);
    let kept: Value = sqlx::query_scalar("select detail from request_detail").fetch_one(&mut connection).await.unwrap();
    assert!(kept["cut"].as_str().unwrap().contains("no_attempts"), "{kept}");
    let page = ferry.get("/requests").await;
    assert_eq!((&page["requests"][0]["id"], page["requests"].as_array().unwrap().len()), (&json!(id), 1));
}
