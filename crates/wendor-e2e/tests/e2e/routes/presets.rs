//! What a route adds to requests: in the app's dialect, told on the record, counted apart, tried before.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};

/// Everything there is.
const RANGE: &str = "from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z";

const PRESET: &str = r#"
[routes.boards]
stages = [{ offers = ["quayside/dunlin-70b"] }]
[routes.boards.preset]
instructions = "You answer passengers of {{ferry}} at {{harbour}}."
variables = { ferry = "Storm Petrel" }
required = ["harbour"]
examples = [{ user = "When?", assistant = "At 22:10." }]
temperature = 0.2
stop = ["END"]
output_limit = 40
fixed = ["output_limit", "instructions"]

[routes.exact]
strict = true
stages = [{ offers = ["quayside/dunlin-70b"] }]
preset = { temperature = 0.2, fixed = ["temperature"] }
"#;

async fn ferry() -> Ferry {
    Ferry::with(Wishes { more: PRESET.to_owned(), ..Wishes::default() }).await
}

/// Asks with headers.
async fn ask(ferry: &Ferry, path: &str, body: &Value, headers: &[(&str, &str)]) -> reqwest::Response {
    let url = format!("{}{path}", ferry.service.url);
    let request = ferry.http.post(url).bearer_auth(&ferry.key).json(body);
    headers.iter().fold(request, |request, (name, value)| request.header(*name, *value)).send().await.unwrap()
}

/// The body that quayside got last.
fn seen(ferry: &Ferry) -> Value {
    serde_json::from_slice(&ferry.quayside.last_seen().unwrap().body).unwrap()
}

const HARBOUR: (&str, &str) = ("wendor-variables", "harbour=North%20Pier");

#[tokio::test]
async fn what_is_added_goes_up_and_stands_on_the_record() {
    let ferry = ferry().await;
    let mut body = question("boards", true);
    body["temperature"] = json!(1.5);
    body["max_tokens"] = json!(90);
    let answer = ask(&ferry, "/v1/chat/completions", &body, &[HARBOUR]).await;
    assert_eq!(answer.status(), 200);
    let (id, notes) = (header(&answer, "wendor-request-id"), header(&answer, "wendor-notes"));
    assert!(notes.contains("output_limit: 40 tokens, fixed by the route"), "{notes}");
    answer.text().await.unwrap();
    let up = seen(&ferry);
    assert_eq!(
        up["messages"][0],
        json!({ "role": "system", "content": "You answer passengers of Storm Petrel at North Pier." })
    );
    assert_eq!(up["messages"][1], json!({ "role": "user", "content": "When?" }));
    assert_eq!((&up["temperature"], &up["max_tokens"], &up["stop"]), (&json!(1.5), &json!(40), &json!(["END"])));
    let shown = ferry.request(&id).await;
    let fates: Vec<String> = shown["preset"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| format!("{} {}", line["part"], line["fate"]).replace('"', ""))
        .collect();
    assert_eq!(
        fates,
        ["instructions added", "examples added", "temperature own-kept", "stop added", "output_limit own-replaced"]
    );
    assert_eq!(shown["variables"], json!(["harbour"]));
    let summary = shown["summary"].as_str().unwrap();
    assert!(
        summary.contains("The route's preset added instructions (50 characters), 1 example and stop text END"),
        "{summary}"
    );
    assert!(!shown.to_string().contains("North Pier"), "what fills a variable is the app's own");
    // Its tokens are a part of the input, and are summed apart.
    let tokens = &shown["request"]["tokens"];
    let (preset, input) = (tokens["preset"].as_u64().unwrap(), tokens["all_input"].as_u64().unwrap());
    assert!(preset > 5 && preset < input, "{tokens}");
    ferry.drained().await;
    let usage = ferry.get(&format!("/usage?{RANGE}&route=boards")).await;
    assert_eq!(usage["together"]["tokens"]["preset"], preset, "{usage}");
    assert_eq!(ferry.get(&format!("/requests?{RANGE}&route=boards")).await["requests"][0]["tokens"]["preset"], preset);
}

/// A request that says nothing of its own is what it would be with all of it in the app.
#[rstest]
#[case::messages(
    "/v1/messages",
    json!({ "model": "boards", "max_tokens": 30, "messages": [{ "role": "user", "content": "Hi" }] }),
)]
#[case::responses("/v1/responses", json!({ "model": "boards", "input": "Hi" }))]
#[case::content("/v1beta/models/boards:generateContent", json!({ "contents": [{ "role": "user", "parts": [{ "text": "Hi" }] }] }))]
#[case::local("/api/chat", json!({ "model": "boards", "messages": [{ "role": "user", "content": "Hi" }], "stream": false }))]
#[tokio::test]
async fn apps_of_every_dialect_get_it(#[case] path: &str, #[case] body: Value) {
    let ferry = ferry().await;
    let answer = ask(&ferry, path, &body, &[HARBOUR]).await;
    assert_eq!(answer.status(), 200, "{}", answer.text().await.unwrap());
    let up = seen(&ferry);
    let texts: Vec<String> = up["messages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|turn| turn["content"].as_str().map_or_else(|| turn["content"][0]["text"].to_string(), str::to_owned))
        .collect();
    assert!(texts[0].contains("Storm Petrel at North Pier"), "{up}");
    assert_eq!(texts.len(), 4, "{up}");
    // Responses have no member for it, and the offer's dialect has.
    assert_eq!((&up["stop"], up["temperature"].as_f64()), (&json!(["END"]), Some(0.2)), "{up}");
}

#[rstest]
#[case::missing(&[], "must give `harbour`, which this route needs")]
#[case::unknown(&[("wendor-variables", "harbor=x,harbour=y")], "names `harbor`, which is no variable of this route; did you mean `harbour`?")]
#[case::no_pair(&[("wendor-variables", "harbour")], "must look like `ferry=Storm%20Petrel")]
#[case::no_word(&[("wendor-preset", "off")], "must be `none`")]
#[tokio::test]
async fn what_cannot_be_filled_is_refused(#[case] headers: &[(&str, &str)], #[case] says: &str) {
    let ferry = ferry().await;
    let answer = ask(&ferry, "/v1/chat/completions", &question("boards", false), headers).await;
    assert_eq!(answer.status(), 400);
    let told: Value = answer.json().await.unwrap();
    assert!(told["error"]["message"].as_str().unwrap().contains(says), "{told}");
    // A route without any says so too.
    let answer = ask(&ferry, "/v1/chat/completions", &question("harbour", false), &[("wendor-variables", "q=1")]).await;
    assert_eq!(answer.status(), 400);
}

#[tokio::test]
async fn what_is_fixed_stays_and_the_rest_can_be_left_out() {
    let ferry = ferry().await;
    let mut body = question("boards", false);
    let none = [HARBOUR, ("wendor-preset", "none")];
    assert_eq!(ask(&ferry, "/v1/chat/completions", &body, &none).await.status(), 200);
    let up = seen(&ferry);
    assert_eq!(
        (up["messages"].as_array().unwrap().len(), &up["stop"], &up["max_completion_tokens"]),
        (2, &Value::Null, &json!(40)),
        "{up}"
    );
    body["model"] = json!("exact");
    body["temperature"] = json!(1.0);
    let answer = ask(&ferry, "/v1/chat/completions", &body, &[]).await;
    assert_eq!(answer.status(), 400);
    let told: Value = answer.json().await.unwrap();
    assert_eq!(told["error"]["param"], "temperature");
    assert!(told["error"]["message"].as_str().unwrap().contains("fixed at 0.2 by the route exact"), "{told}");
    body["temperature"] = json!(0.2);
    body.as_object_mut().unwrap().remove("temperature");
    assert_eq!(ask(&ferry, "/v1/chat/completions", &body, &[]).await.status(), 200);
}

/// What fills a variable came in a header, and leaves like the rest of the body.
#[tokio::test]
async fn a_variable_carries_no_key_away() {
    let ferry = ferry().await;
    let held = format!("harbour={}", ferry.key);
    let answer = ask(&ferry, "/v1/chat/completions", &question("boards", false), &[("wendor-variables", &held)]).await;
    assert_eq!(answer.status(), 400);
    assert!(ferry.quayside.last_seen().is_none());
}

#[tokio::test]
async fn a_preset_is_made_tried_and_put_back_by_the_client() {
    let ferry = Ferry::begin().await;
    let set =
        ["route", "preset", "set", "harbour", "--instructions", "Answer for {{pier}}.", "--variable", "pier=Pier 2"];
    let tried = ferry.wendor(&[&set[..], &["--try", "When is the last boat?"]].concat()).await;
    assert_eq!(tried.status, 0, "{}{}", tried.out, tried.err);
    assert!(
        tried.out.contains("preset.instructions") && tried.out.ends_with("Nothing was changed: --try.\n"),
        "{}",
        tried.out
    );
    assert!(tried.out.contains("The route's preset added instructions (20 characters): about"), "{}", tried.out);
    assert!(tried.err.contains("quayside/dunlin-70b answered in"), "{}", tried.err);
    let up = seen(&ferry);
    assert_eq!(up["messages"][0]["content"], "Answer for Pier 2.");
    assert!(ferry.wendor(&["route", "preset", "show", "harbour"]).await.err.contains("has no preset"));
    // What it took stands in the ledger as a check, with the preset's part.
    ferry.drained().await;
    let checks = ferry.get(&format!("/requests?{RANGE}&route=upstream-check")).await;
    assert!(checks["requests"][0]["tokens"]["preset"].as_u64().unwrap() > 0, "{checks}");

    assert_eq!(ferry.wendor(&set).await.status, 0);
    let hotter = ["route", "preset", "set", "harbour", "--temperature", "0.5", "--note", "livelier"];
    assert_eq!(ferry.wendor(&hotter).await.status, 0);
    let shown = ferry.wendor(&["route", "preset", "show", "harbour"]).await.out;
    assert_eq!(shown, "instructions: Answer for {{pier}}.\ntemperature: 0.5\nvariables: pier=Pier 2\n");
    let versions: Value =
        serde_json::from_str(&ferry.wendor(&["--json", "route", "preset", "versions", "harbour"]).await.out).unwrap();
    assert_eq!((versions.as_array().unwrap().len(), &versions[0]["note"]), (2, &json!("livelier")), "{versions}");
    let first = versions[1]["revision"].to_string();
    let restored = ferry.wendor(&["route", "preset", "restore", "harbour", &first]).await;
    assert!(restored.out.contains("preset.temperature: 0.5 -> (absent)"), "{}{}", restored.out, restored.err);
    // Under another name its versions stay.
    assert_eq!(ferry.wendor(&["route", "rename", "harbour", "pier"]).await.status, 0);
    let versions = ferry.get("/routes/pier/preset/versions").await;
    assert_eq!(versions.as_array().unwrap().len(), 3, "{versions}");
    assert_eq!(ferry.wendor(&["route", "preset", "remove", "pier", "--yes"]).await.status, 0);
    assert_eq!(ferry.get("/routes/pier/preset/versions").await[0]["preset"], Value::Null);
}

#[rstest]
#[case::nothing(&["set", "harbour"], 2, "name at least one value")]
#[case::an_unknown_variable(&["set", "harbour", "--instructions", "At {{pier}}."], 2, "routes.harbour.preset.instructions: unknown variable `{{pier}}`")]
#[case::no_route(&["set", "harbor", "--temperature", "1"], 4, "nearest: `harbour`")]
#[case::too_hot(&["set", "harbour", "--temperature", "3"], 2, "routes.harbour.preset.temperature: must be a number from 0 to 2")]
#[case::no_question(&["try", "harbour", ""], 2, "`question`: must have 1 to 8000 characters")]
#[case::no_offer(&["try", "harbour", "Hi", "--offer", "quay/x"], 4, "no offer `quay/x`")]
#[case::no_such_variable(&["try", "harbour", "Hi", "--variable", "a=b"], 2, "names `a`, which is no variable of this route; it has none")]
#[case::no_version(&["restore", "harbour", "1"], 4, "No version 1")]
#[tokio::test]
async fn what_cannot_be_done_with_a_preset_is_told(#[case] args: &[&str], #[case] status: i32, #[case] says: &str) {
    let ferry = Ferry::begin().await;
    let ran = ferry.wendor(&[&["route", "preset"], args].concat()).await;
    assert_eq!(ran.status, status, "{}{}", ran.out, ran.err);
    assert!(ran.err.contains(says), "{}", ran.err);
}
