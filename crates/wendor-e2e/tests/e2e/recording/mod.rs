//! What was answered is on record: entries that nobody can make too large, what attempts used, what is counted where nobody tells, how
//! long all of it is kept, and how it is taken away.

mod attempts;
mod counted;
mod export;
mod keeping;
mod mean;
mod runs;

use serde_json::{Value, json};
use wendor_e2e::ferry::Ferry;
use wendor_standins::server::Replay;

/// A reply word for word.
pub(super) fn reply(content_type: &str, body: &str) -> Replay {
    let headers = vec![("content-type".to_owned(), content_type.to_owned())];
    Replay { status: 200, headers, body: body.to_owned().into() }
}

/// Asks any path as an app does; the status, and the request's id.
pub(super) async fn post(ferry: &Ferry, key: &str, path: &str, body: String) -> (u16, String) {
    let url = format!("{}{path}", ferry.service.url);
    let answer =
        ferry.http.post(url).bearer_auth(key).header("content-type", "application/json").body(body).send().await;
    let answer = answer.unwrap();
    let status_and_id = (answer.status().as_u16(), wendor_e2e::ferry::header(&answer, "wendor-request-id"));
    answer.bytes().await.unwrap();
    status_and_id
}

/// All figures there are, together.
pub(super) async fn together(ferry: &Ferry) -> Value {
    ferry.get("/usage?from=2020-01-01T00:00:00Z&to=2100-01-01T00:00:00Z").await["together"].clone()
}

/// What a quota of `timetables` has used.
pub(super) async fn used(ferry: &Ferry, measure: &str) -> Value {
    let teams = ferry.get("/teams").await;
    let team = teams.as_array().unwrap().iter().find(|team| team["name"] == "timetables").unwrap().clone();
    team["quotas"].as_array().unwrap().iter().find(|quota| quota["measure"] == measure).unwrap()["used"].clone()
}

/// A question in a dialect's own form.
pub(super) fn in_messages(route: &str) -> Value {
    json!({ "model": route, "max_tokens": 20, "messages": [{ "role": "user", "content": "When is the last ferry?" }] })
}
