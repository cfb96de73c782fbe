//! Secrets that apps send up by mistake, or that somebody has them send: they reach no server.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::Ferry;

fn every_letter(text: &str, escape: impl Fn(usize, u8) -> String) -> String {
    text.bytes().enumerate().map(|(at, byte)| escape(at, byte)).collect()
}

fn hex(byte: u8) -> String {
    format!("\\u{byte:04x}")
}

/// Twenty ways in which letters of a text of JSON can be written.
fn ways(text: &str) -> Vec<String> {
    let plain = |byte: u8| char::from(byte).to_string();
    let only =
        |wanted: fn(usize) -> bool| every_letter(text, |at, byte| if wanted(at) { hex(byte) } else { plain(byte) });
    let percent = every_letter(text, |_, byte| format!("%{byte:02X}"));
    let all = only(|_| true);
    vec![
        text.to_owned(),
        all.clone(),
        all.to_uppercase().replace("\\U", "\\u"),
        only(|at| at == 0),
        only(|at| at < 4),
        only(|at| at == 3),
        only(|at| at > 40),
        only(|at| at % 2 == 0),
        only(|at| at % 2 == 1),
        only(|at| at % 3 == 0),
        all.replace('\\', "\\\\"),
        only(|at| at % 2 == 0).replace('\\', "\\\\"),
        all.replace('\\', "\\\\\\\\"),
        percent.clone(),
        percent.to_lowercase(),
        every_letter(text, |at, byte| if at % 2 == 0 { format!("%{byte:02x}") } else { hex(byte) }),
        percent.replace('%', "\\u0025"),
        format!("Authorization: Bearer {text}"),
        format!("{{\\\"key\\\": \\\"{text}\\\"}}"),
        format!("a{all}z"),
    ]
}

/// A body of each dialect in which something stands in a text.
fn bodies(text: &str) -> [(&'static str, String); 7] {
    [
        ("/v1/chat/completions", format!(r#"{{"model":"harbour","messages":[{{"role":"user","content":"{text}"}}]}}"#)),
        ("/v1/responses", format!(r#"{{"model":"harbour","input":"{text}"}}"#)),
        (
            "/v1/messages",
            format!(r#"{{"model":"harbour","max_tokens":9,"messages":[{{"role":"user","content":"{text}"}}]}}"#),
        ),
        (
            "/v1beta/models/harbour:generateContent",
            format!(r#"{{"contents":[{{"role":"user","parts":[{{"text":"{text}"}}]}}]}}"#),
        ),
        (
            "/api/chat",
            format!(r#"{{"model":"harbour","stream":false,"messages":[{{"role":"user","content":"{text}"}}]}}"#),
        ),
        ("/v1/completions", format!(r#"{{"model":"harbour","prompt":"{text}"}}"#)),
        ("/v1/embeddings", format!(r#"{{"model":"harbour","input":"{text}"}}"#)),
    ]
}

async fn refused(ferry: &Ferry, path: &str, body: String) -> String {
    let url = format!("{}{path}", ferry.service.url);
    let asked = ferry.http.post(url).bearer_auth(&ferry.key).header("content-type", "application/json");
    let answer = asked.body(body.clone()).send().await.unwrap();
    let (status, told) = (answer.status().as_u16(), answer.text().await.unwrap());
    assert_eq!(status, 400, "{path} {told} {body}");
    told
}

#[rstest]
#[case::a_live_key("key", "live key")]
#[case::a_persons_token("token", "live token")]
#[case::a_credential("credential", "credential of a model's server")]
#[tokio::test]
async fn no_secret_leaves_in_a_body(#[case] which: &str, #[case] told_as: &str) {
    let ferry = Ferry::begin().await;
    let other = ferry.issue_key("freight-desk").await;
    let secret = match which {
        "key" => other.as_str(),
        "token" => ferry.owner.as_str(),
        _ => wendor_e2e::ferry::CREDENTIAL.1,
    };
    for written in ways(secret) {
        for (path, body) in bodies(&written) {
            let refusal = refused(&ferry, path, body).await;
            assert!(refusal.contains(told_as) && !refusal.contains(secret) && !refusal.contains("quarry"), "{refusal}");
        }
    }
    assert!(ferry.quayside.last_seen().is_none() && ferry.quarry.last_seen().is_none(), "no server was asked");
}

#[tokio::test]
async fn a_key_that_opens_nothing_any_more_is_a_text_like_any_other() {
    let ferry = Ferry::begin().await;
    let key = ferry.issue_key("freight-desk").await;
    let keys = ferry.get("/keys?team=freight-desk").await;
    let id: &Value =
        keys.as_array().unwrap().iter().map(|key| &key["id"]).find(|id| key.contains(id.as_str().unwrap())).unwrap();
    let revoke =
        ferry.http.post(ferry.manage(&format!("/keys/{}/revoke", id.as_str().unwrap()))).bearer_auth(&ferry.owner);
    assert!(revoke.send().await.unwrap().status().is_success());
    let question =
        json!({ "model": "harbour", "messages": [{ "role": "user", "content": format!("Is {key} still good?") }] });
    wendor_e2e::waiting::until("it is revoked", || async {
        (ferry.ask(&question).await.status() == 200).then_some(())
    })
    .await;
}
