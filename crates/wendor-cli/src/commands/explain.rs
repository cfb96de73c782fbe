//! `wendor route explain`: what would become of a request, offer by offer.

use std::io::Read;

use serde_json::{Value, json};
use wendor_gateway::admin::explain::{ExplainLine, Explained};

use crate::client::{Management, part};
use crate::failure::Failure;
use crate::output::{self, Column, Reader};
use crate::words;

pub(super) async fn run(
    route: &str,
    team: String,
    file: Option<&str>,
    path: String,
    management: &Management,
    reader: Reader,
) -> Result<(), Failure> {
    let request = file.map(request_of).transpose()?;
    let ask = json!({ "team": team, "request": request, "path": path });
    let explained: Explained = management.post(&format!("/routes/{}/explain", part(route)), &ask).await?;
    if reader == Reader::Program {
        return output::json(&explained);
    }
    let tokens = words::grouped(explained.input_tokens);
    output::line(&format!("{} Nothing was sent; the request has about {tokens} input tokens.\n", explained.summary))?;
    let columns = [
        Column::Text("turn"),
        Column::Text("stage"),
        Column::Text("offer"),
        Column::Text("state"),
        Column::Text("why"),
        Column::Number("streams"),
        Column::Number("wait"),
        Column::Number("first token"),
        Column::Money("at most", explained.currency.clone()),
    ];
    output::table(&columns, explained.offers.iter().map(row).collect(), "The route has no offers.")
}

fn request_of(file: &str) -> Result<Value, Failure> {
    let unreadable =
        |error: std::io::Error| Failure::NotUnderstood(format!("The request in {file} cannot be read: {error}."));
    let text = if file == "-" {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(unreadable)?;
        text
    } else {
        std::fs::read_to_string(file).map_err(unreadable)?
    };
    serde_json::from_str(&text)
        .map_err(|error| Failure::NotUnderstood(format!("The request in {file} is not JSON: {error}.")))
}

fn row(line: &ExplainLine) -> Vec<String> {
    let streams = match line.streams {
        Some(all) => format!("{} of {all}", line.streams_open),
        None => line.streams_open.to_string(),
    };
    let wait = match (line.waiting, line.room_ms) {
        (0, _) => "-".to_owned(),
        (waiting, most) => format!("{waiting} wait, {} at most", words::seconds(most)),
    };
    vec![
        line.turn.map_or_else(|| "skipped".to_owned(), |turn| turn.to_string()),
        format!("{}, by {}", line.stage, line.pick),
        line.offer.clone(),
        line.state.clone(),
        line.reason.clone(),
        streams,
        wait,
        words::wait(line.first_token_ms),
        line.expected_cost.as_ref().map_or_else(|| "unpriced".to_owned(), |cost| words::small_money(cost)),
    ]
}
