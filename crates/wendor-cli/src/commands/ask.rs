//! `wendor ask`: one question to a route, the answer as it streams, then a line that says who answered, how fast, for how much. It asks in
//! any dialect, as an app would.

use std::io::{IsTerminal, Read};
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use futures_util::StreamExt;
use serde::Serialize;
use wendor_gateway::admin::requests::RequestShown;
use wendor_wire::ability::Controls;
use wendor_wire::conversation::event::Event;
use wendor_wire::conversation::wish::Schema;
use wendor_wire::conversation::{
    AnswerFormat, Conversation, Delivery, Media, MediaSource, Part, PartKind, Role, Turn, UsageFrame,
};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::frames::FrameDecoder;
use wendor_wire::image::kind_of;
use wendor_wire::json::RawJson;
use wendor_wire::seal::SealDomain;
use wendor_wire::verdict::Target;

use crate::client::{self, Management, part};
use crate::failure::Failure;
use crate::grammar::{AskArgs, DialectArg};
use crate::output::{self, Reader};
use crate::profile::Profile;
use crate::{strip, words};

#[derive(Serialize)]
struct Answer {
    text: String,
    request: RequestShown,
}

pub(super) async fn run(args: AskArgs, reader: Reader) -> Result<(), Failure> {
    asking(args, &Profile::key()?, reader).await
}

/// One plain question with that key.
///
/// # Errors
/// As with the command.
pub(super) async fn once(route: &str, question: &str, key: &str, reader: Reader) -> Result<(), Failure> {
    let args = AskArgs {
        route: route.to_owned(),
        question: vec![question.to_owned()],
        system: None,
        image: Vec::new(),
        schema: None,
        dialect: DialectArg(Dialect::ChatCompletions),
        show_wire: false,
        raw: false,
        max_tokens: Some(256),
        run: None,
        labels: None,
    };
    asking(args, key, reader).await
}

async fn asking(args: AskArgs, key: &str, reader: Reader) -> Result<(), Failure> {
    let profile = Profile::find()?;
    let dialect = args.dialect.0;
    let (path, body) = body_of(&args, conversation_of(&args)?);
    let url = format!("{}{path}", profile.url);
    if args.raw && std::io::stdout().is_terminal() {
        return Err(Failure::NotUnderstood("--raw is for files and programs: send the output there.".to_owned()));
    }
    if args.show_wire {
        output::note(&format!("> POST {url}\n> authorization: Bearer {}\n> {body}\n", hidden(key)));
    }
    let mut request = client::http()?.post(&url).bearer_auth(key).header("content-type", "application/json").body(body);
    for (name, value) in [("wendor-run", &args.run), ("wendor-labels", &args.labels)] {
        if let Some(value) = value {
            request = request.header(name, value);
        }
    }
    let response = request.send().await.map_err(|error| client::unreachable(&profile.url, &error))?;
    let status = response.status();
    if args.show_wire {
        show_head(&response);
    }
    if !status.is_success() {
        let body = response.bytes().await.unwrap_or_default();
        return Err(Failure::of_data_plane(status.as_u16(), &body));
    }
    let header =
        |name: &str| response.headers().get(name).and_then(|id| id.to_str().ok()).unwrap_or_default().to_owned();
    let (id, notes) = (header("wendor-request-id"), header("wendor-notes"));
    let streamed = stream(response, dialect, reader, args.show_wire, args.raw).await;
    let shown: RequestShown = Management::new(profile)?.get_as(key, &format!("/requests/{}", part(&id))).await?;
    match (&streamed, reader) {
        (Ok(text), Reader::Program) => output::json(&Answer { text: text.clone(), request: shown })?,
        (_, Reader::Person) => {
            output::note(&last_line(&shown));
            if !notes.is_empty() {
                output::note(&format!("changed on the way: {notes}"));
            }
        }
        (Err(_), Reader::Program) => {}
    }
    streamed.map(|_| ())
}

/// A key as it may be shown: its id says which, the rest is secret.
fn hidden(key: &str) -> String {
    let id = key.split('-').nth(1).unwrap_or_default();
    format!("wdr-{id}-…")
}

fn show_head(response: &reqwest::Response) {
    let mut text = format!("< {}", response.status());
    for (name, value) in response.headers() {
        text.push_str(&format!("\n< {name}: {}", value.to_str().unwrap_or_default()));
    }
    output::note(&format!("{text}\n"));
}

fn conversation_of(args: &AskArgs) -> Result<Conversation, Failure> {
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
            "No question: write it after the route, or send it to standard input.".to_owned(),
        ));
    }
    let mut conversation = Conversation::of(args.dialect.0, &args.route);
    conversation.delivery = Delivery::Streamed(UsageFrame::NotAsked);
    conversation.output_limit = args.max_tokens.map(u64::from);
    let system = args.system.as_ref().map(|text| Turn::of_text(Role::System, text, "instructions"));
    conversation.turns.extend(system);
    let mut turn = Turn::of_text(Role::User, question.trim_end(), "question");
    for file in &args.image {
        turn.parts.push(Part::of(PartKind::Image(image(file)?), file.display().to_string()));
    }
    conversation.turns.push(turn);
    if let Some(file) = &args.schema {
        conversation.format = Some(AnswerFormat::Schema(schema(file)?));
    }
    Ok(conversation)
}

fn image(file: &Path) -> Result<Media, Failure> {
    let bytes = read(file)?;
    let Some(kind) = kind_of(&bytes) else {
        let message = format!("{} is not a supported image (PNG, JPEG, GIF, WebP, BMP).", file.display());
        return Err(Failure::NotUnderstood(message));
    };
    let source = MediaSource::Bytes { kind: kind.to_owned(), base64: BASE64.encode(&bytes) };
    Ok(Media { source, name: None })
}

fn schema(file: &Path) -> Result<Schema, Failure> {
    let bytes = read(file)?;
    let text = String::from_utf8_lossy(&bytes);
    let schema = RawJson::parse(text.trim()).filter(RawJson::is_object);
    let wrong = || Failure::NotUnderstood(format!("{} is not a JSON Schema.", file.display()));
    Ok(Schema { schema: schema.ok_or_else(wrong)?, typed: None, name: None, description: None, is_strict: None })
}

fn read(file: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(file).map_err(|error| Failure::NotUnderstood(format!("{} cannot be read: {error}", file.display())))
}

/// Path and body as an app of the dialect sends them.
fn body_of(args: &AskArgs, conversation: Conversation) -> (String, String) {
    let dialect = args.dialect.0;
    let target = Target {
        dialect,
        model: &args.route,
        marks: &[],
        controls: Controls::default(),
        seals: SealDomain::unmarked(),
        output_cap: None,
    };
    let codec = dialects::of(dialect);
    (codec.path(&args.route, true), codec.write_request(&conversation, &target))
}

/// Prints the answer as it comes, for people; gives all of it.
async fn stream(
    response: reqwest::Response,
    dialect: Dialect,
    reader: Reader,
    show_wire: bool,
    is_raw: bool,
) -> Result<String, Failure> {
    let broken = || Failure::UpstreamsFailed("The connection broke in the middle of the answer.".to_owned());
    let mut bytes = response.bytes_stream();
    let codec = dialects::of(dialect);
    let (mut decoder, mut frames, mut text) = (FrameDecoder::new(codec.framing()), codec.reader(), String::new());
    while let Some(piece) = bytes.next().await {
        let piece = piece.map_err(|_| broken())?;
        decoder.push(&piece).map_err(|error| Failure::Own(error.to_string()))?;
        while let Some(frame) = decoder.next_frame() {
            if show_wire {
                output::note(String::from_utf8_lossy(&frame.raw).trim_end());
            }
            let Some(data) = frame.data.clone() else { continue };
            let mut events = Vec::new();
            if let Err(failure) = frames.read(&data, &mut events) {
                let own = frames.own_error(&frame).map(|frame| String::from_utf8_lossy(&frame).into_owned());
                return Err(Failure::UpstreamsFailed(own.unwrap_or(failure.detail)));
            }
            say(&events, reader, show_wire, is_raw, &mut text)?;
        }
    }
    if reader == Reader::Person && !show_wire {
        output::line("")?;
    }
    Ok(text)
}

fn say(events: &[Event], reader: Reader, show_wire: bool, is_raw: bool, text: &mut String) -> Result<(), Failure> {
    for event in events {
        if let Event::Text { text: piece, .. } | Event::Refusal { text: piece, .. } = event {
            text.push_str(piece);
            match reader {
                Reader::Person if is_raw => output::print_raw(piece)?,
                Reader::Person if !show_wire => output::print_answer(piece)?,
                Reader::Person | Reader::Program => {}
            }
        }
    }
    Ok(())
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
