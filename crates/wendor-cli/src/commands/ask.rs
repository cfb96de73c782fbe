//! `wendor ask`: one question to a route, the answer as it streams, then a line that says who answered, how fast, for how much.

use std::io::{IsTerminal, Read};

use futures_util::StreamExt;
use serde::Serialize;
use serde_json::{Value, json};
use wendor_core::wire::sse::SseDecoder;
use wendor_gateway::admin::requests::RequestShown;

use crate::client::{self, Management};
use crate::failure::Failure;
use crate::grammar::AskArgs;
use crate::output::{self, Reader};
use crate::profile::Profile;
use crate::{strip, words};

#[derive(Serialize)]
struct Answer {
    text: String,
    request: RequestShown,
}

pub(super) async fn run(args: AskArgs, reader: Reader) -> Result<(), Failure> {
    let (profile, key) = (Profile::find()?, Profile::key()?);
    let body = body_of(&args)?;
    let mut request =
        client::http()?.post(format!("{}/v1/chat/completions", profile.url)).bearer_auth(&key).json(&body);
    for (name, value) in [("wendor-run", &args.run), ("wendor-labels", &args.labels)] {
        if let Some(value) = value {
            request = request.header(name, value);
        }
    }
    let response = request.send().await.map_err(|error| client::unreachable(&profile.url, &error))?;
    let status = response.status();
    if !status.is_success() {
        let body = response.bytes().await.unwrap_or_default();
        return Err(Failure::of_data_plane(status.as_u16(), &body));
    }
    let id = response.headers().get("wendor-request-id").and_then(|id| id.to_str().ok()).unwrap_or_default().to_owned();
    let streamed = stream(response, reader).await;
    let shown: RequestShown = Management::new(profile)?.get_as(&key, &format!("/requests/{id}")).await?;
    match (&streamed, reader) {
        (Ok(text), Reader::Program) => output::json(&Answer { text: text.clone(), request: shown })?,
        (_, Reader::Person) => output::note(&last_line(&shown)),
        (Err(_), Reader::Program) => {}
    }
    streamed.map(|_| ())
}

fn body_of(args: &AskArgs) -> Result<Value, Failure> {
    let mut question = args.question.join(" ");
    if question.is_empty() || question == "-" {
        if std::io::stdin().is_terminal() {
            output::note("Type the question, then Ctrl-D.");
        }
        question.clear();
        std::io::stdin()
            .read_to_string(&mut question)
            .map_err(|error| Failure::Own(format!("standard input cannot be read: {error}")))?;
    }
    if question.trim().is_empty() {
        return Err(Failure::NotUnderstood(
            "There is no question: write it behind the route, or send it to standard input.".to_owned(),
        ));
    }
    let mut messages = Vec::new();
    messages.extend(args.system.as_ref().map(|text| json!({ "role": "system", "content": text })));
    messages.push(json!({ "role": "user", "content": question.trim_end() }));
    let mut body = json!({ "model": args.route, "stream": true, "messages": messages });
    if let Some(most) = args.max_tokens {
        body["max_tokens"] = json!(most);
    }
    Ok(body)
}

/// Prints the answer as it comes, for people; gives all of it.
async fn stream(response: reqwest::Response, reader: Reader) -> Result<String, Failure> {
    let mut bytes = response.bytes_stream();
    let (mut decoder, mut text) = (SseDecoder::default(), String::new());
    while let Some(piece) = bytes.next().await {
        let piece = piece
            .map_err(|_| Failure::UpstreamsFailed("The connection broke in the middle of the answer.".to_owned()))?;
        decoder.push(&piece).map_err(|error| Failure::Own(error.to_string()))?;
        while let Some(frame) = decoder.next_frame() {
            let Some(chunk) = frame.data.and_then(|data| serde_json::from_slice::<Value>(&data).ok()) else { continue };
            if let Some(error) = chunk.pointer("/error/message").and_then(Value::as_str) {
                return Err(Failure::UpstreamsFailed(format!("\n{error}")));
            }
            if let Some(content) = chunk.pointer("/choices/0/delta/content").and_then(Value::as_str) {
                text.push_str(content);
                if reader == Reader::Person {
                    output::print(content)?;
                }
            }
        }
    }
    if reader == Reader::Person {
        output::line("")?;
    }
    Ok(text)
}

/// `├──│▇▇▇▇▇▏  quayside-a/dunlin-70b · 412 in, 96 out · first token 0.31 s · 68 tokens/s · 0.0031 EUR · 01JDF3-7QK2`
fn last_line(shown: &RequestShown) -> String {
    let request = &shown.request;
    let tokens = &request.tokens;
    let about = if request.estimated { "about " } else { "" };
    let input = tokens.input + tokens.input_cached + tokens.cache_written;
    let attempts = match request.attempts {
        1 => "1 attempt".to_owned(),
        number => format!("{number} attempts"),
    };
    let mut parts = vec![
        request.offer.clone().unwrap_or_else(|| "no offer".to_owned()),
        attempts,
        format!("{about}{} in, {} out", words::grouped(input), words::grouped(tokens.output)),
        format!("first token {}", words::wait(request.first_token_ms)),
    ];
    parts.extend(rate(request).map(|rate| format!("{rate} tokens/s")));
    parts.push(match &shown.cost {
        Some(cost) => format!("{} {}", words::small_money(&cost.total), shown.currency),
        None => "unpriced".to_owned(),
    });
    parts.push(request.id.clone());
    format!("\n{}  {}", strip::small(shown), parts.join(" · "))
}

/// Output tokens a second from the first token on.
fn rate(request: &wendor_gateway::admin::requests::RequestLine) -> Option<u64> {
    let millis = request.whole_ms.checked_sub(request.first_token_ms?)?;
    (request.tokens.output * 1_000).checked_div(millis)
}
