//! What an app of each dialect is told when its upstream answers with an error: the status, the shape of the body, the hint whether to
//! try again. The table was written down before the code.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header};
use wendor_standins::server::{Profile, Replay, StandIn};
use wendor_wire::dialect::Dialect;

const MODEL: &str = "dunlin-7b";

/// An upstream's status, and what its app gets for it: from an upstream of its own dialect whose error is proper, and otherwise.
const STATUSES: [(u16, u16, u16); 15] = [
    (400, 400, 400),
    // The gateway's own credential, address or model: the operator's business, which no app can mend.
    (401, 502, 502),
    (402, 502, 502),
    (403, 502, 502),
    (404, 502, 502),
    (408, 504, 504),
    // Clients try a conflict again by themselves.
    (409, 409, 502),
    (413, 413, 413),
    (422, 422, 422),
    // A limit that does not say when to come back.
    (429, 503, 503),
    (500, 502, 502),
    (502, 502, 502),
    (503, 503, 503),
    (504, 502, 502),
    (529, 503, 503),
];

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Body {
    Proper,
    Page,
    Empty,
    Text,
    /// The error stands under status 200.
    UnderSuccess,
}

const BODIES: [Body; 5] = [Body::Proper, Body::Page, Body::Empty, Body::Text, Body::UnderSuccess];

fn proper(dialect: Dialect, status: u16) -> Value {
    match dialect {
        Dialect::ChatCompletions | Dialect::Responses => {
            json!({ "error": { "message": "No berth is free.", "type": "server_error", "param": null, "code": "no_berth" } })
        }
        Dialect::Messages => {
            json!({ "type": "error", "error": { "type": "api_error", "message": "No berth is free." }, "request_id": "r" })
        }
        Dialect::GenerateContent => {
            json!({ "error": { "code": status, "message": "No berth is free.", "status": "INTERNAL" } })
        }
        Dialect::LocalChat => json!({ "error": "No berth is free." }),
    }
}

fn replay(dialect: Dialect, status: u16, body: Body) -> Replay {
    let (kind, text) = match body {
        Body::Proper | Body::UnderSuccess => ("application/json", proper(dialect, status).to_string()),
        Body::Page => ("text/html", "<html>the harbour office is closed</html>".to_owned()),
        Body::Empty => ("application/json", String::new()),
        Body::Text => ("application/json", json!("closed").to_string()),
    };
    let status = if body == Body::UnderSuccess { 200 } else { status };
    Replay { status, headers: vec![("content-type".to_owned(), kind.to_owned())], body: text.into() }
}

/// A request in that dialect: its path and its body.
pub(crate) fn request(dialect: Dialect, route: &str, streamed: bool) -> (String, Value) {
    let messages = json!([{ "role": "user", "content": "Which berth?" }]);
    match dialect {
        Dialect::ChatCompletions => {
            ("/v1/chat/completions".to_owned(), json!({ "model": route, "messages": messages, "stream": streamed }))
        }
        Dialect::Responses => {
            ("/v1/responses".to_owned(), json!({ "model": route, "input": "Which berth?", "stream": streamed }))
        }
        Dialect::Messages => (
            "/v1/messages".to_owned(),
            json!({ "model": route, "messages": messages, "max_tokens": 50, "stream": streamed }),
        ),
        Dialect::GenerateContent => {
            let method = if streamed { "streamGenerateContent?alt=sse" } else { "generateContent" };
            let contents = json!({ "contents": [{ "role": "user", "parts": [{ "text": "Which berth?" }] }] });
            (format!("/v1beta/models/{route}:{method}"), contents)
        }
        Dialect::LocalChat => {
            ("/api/chat".to_owned(), json!({ "model": route, "messages": messages, "stream": streamed }))
        }
    }
}

/// Whether a client of the dialect reads it as it should.
fn has_its_shape(dialect: Dialect, status: u16, body: &Value) -> bool {
    let error = &body["error"];
    match dialect {
        Dialect::ChatCompletions | Dialect::Responses => {
            error["message"].is_string()
                && error["type"].is_string()
                && error.get("param").is_some()
                && error.get("code").is_some()
        }
        Dialect::Messages => body["type"] == "error" && error["type"].is_string() && error["message"].is_string(),
        Dialect::GenerateContent => {
            error["code"] == status && error["message"].is_string() && error["status"].is_string()
        }
        Dialect::LocalChat => error.is_string(),
    }
}

#[rstest]
#[case::chat_completions(Dialect::ChatCompletions, Dialect::Messages)]
#[case::responses(Dialect::Responses, Dialect::ChatCompletions)]
#[case::messages(Dialect::Messages, Dialect::GenerateContent)]
#[case::generate_content(Dialect::GenerateContent, Dialect::LocalChat)]
#[case::local_chat(Dialect::LocalChat, Dialect::Responses)]
#[tokio::test]
async fn an_upstreams_error_arrives_in_the_apps_own_dialect(#[case] app: Dialect, #[case] other: Dialect) {
    let ferry = Ferry::begin().await;
    for upstream in [app, other] {
        let profile = Profile { dialect: upstream, ..Profile::quick("quayside-b", &[MODEL]) };
        let standin = StandIn::start(profile).await.unwrap();
        let catalogue = format!(
            "[upstreams.quayside-b]\naddress = \"http://{}\"\ndialect = \"{upstream}\"\nhosting = \"own\"\noffers.{MODEL} = {{}}\n\
             [routes.berths]\nstages = [{{ offers = [\"quayside-b/{MODEL}\"] }}]\n[teams.timetables]\n",
            standin.address()
        );
        ferry.apply(&catalogue).await;
        for (sent, own, told) in STATUSES {
            for body in BODIES {
                for streamed in [false, true] {
                    let place = format!("{app} at {upstream}: {sent} {body:?}, streamed {streamed}");
                    standin.replay(replay(upstream, sent, body));
                    let (path, asked) = request(app, "berths", streamed);
                    let url = format!("{}{path}", ferry.service.url);
                    let answer = ferry.http.post(url).bearer_auth(&ferry.key).json(&asked).send().await.unwrap();
                    let status = answer.status().as_u16();
                    let expected = match body {
                        Body::UnderSuccess => 502,
                        Body::Proper if app == upstream => own,
                        Body::Proper | Body::Page | Body::Empty | Body::Text => told,
                    };
                    assert_eq!(status, expected, "{place}");
                    let hint = header(&answer, "x-should-retry");
                    assert_eq!(hint == "false", status >= 500, "{place}: {hint}");
                    assert!(!header(&answer, "x-request-id").is_empty(), "{place}");
                    let body: Value = answer.json().await.unwrap();
                    assert!(has_its_shape(app, status, &body), "{place}: {body}");
                }
            }
        }
    }
}
