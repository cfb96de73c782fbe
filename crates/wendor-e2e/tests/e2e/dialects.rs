//! Any client to any model: an app of every dialect at an upstream of every dialect, by what apps ask of models. What is expected is
//! what the stand-in says by itself; nothing here is refused.

use reqwest::Response;
use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header};
use wendor_standins::script::Script;
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::ability::Controls;
use wendor_wire::conversation::answer::{Answer, Block};
use wendor_wire::conversation::event::{Event, Stop};
use wendor_wire::conversation::turn::{CallKind, Thinking};
use wendor_wire::conversation::wish::Schema;
use wendor_wire::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool,
    ToolCall, ToolKind, ToolResult, Turn, UsageFrame,
};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::frames::FrameDecoder;
use wendor_wire::json::RawJson;
use wendor_wire::seal::SealDomain;
use wendor_wire::sse::Framing;
use wendor_wire::verdict::Target;

const MODEL: &str = "dunlin-7b";
const PICTURE: &str =
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";

/// Five upstreams, one of each dialect, each behind a route of its name.
struct Harbour {
    ferry: Ferry,
    standins: Vec<(Dialect, Profile, StandIn)>,
}

impl Harbour {
    async fn begin() -> Self {
        let ferry = Ferry::begin().await;
        let mut standins = Vec::new();
        let mut catalogue = String::from("[teams.timetables]\n");
        for dialect in Dialect::ALL {
            let profile = Profile { dialect, ..Profile::quick(dialect.as_str(), &[MODEL]) };
            let standin = StandIn::start(profile.clone()).await.unwrap();
            catalogue.push_str(&format!(
                "[upstreams.{dialect}]\naddress = \"http://{}\"\ndialect = \"{dialect}\"\nhosting = \"own\"\n\
                 offers.{MODEL} = {{ output_cap = 400, rates = [{{ from = 2026-01-01, input = 1, output = 2 }}] }}\n\
                 [routes.to-{dialect}]\nstages = [{{ offers = [\"{dialect}/{MODEL}\"] }}]\n",
                standin.address()
            ));
            standins.push((dialect, profile, standin));
        }
        ferry.apply(&catalogue).await;
        Self { ferry, standins }
    }

    fn standin(&self, dialect: Dialect) -> (&Profile, &StandIn) {
        let standin = self.standins.iter().find(|(known, ..)| *known == dialect).unwrap();
        (&standin.1, &standin.2)
    }

    /// Asks as an app of `from` would, at the upstream of dialect `to`.
    async fn ask(&self, from: Dialect, to: Dialect, conversation: &Conversation) -> Response {
        let route = format!("to-{to}");
        let conversation = Conversation { dialect: from, ..conversation.clone() };
        let target = Target {
            dialect: from,
            model: &route,
            marks: &[],
            controls: Controls::default(),
            seals: SealDomain::unmarked(),
            output_cap: None,
        };
        let body = dialects::of(from).write_request(&conversation, &target);
        let path = dialects::of(from).path(&route, conversation.delivery != Delivery::Whole);
        let url = format!("{}{path}", self.ferry.service.url);
        let request = self.ferry.http.post(url).bearer_auth(&self.ferry.key);
        request.header("content-type", "application/json").body(body).send().await.unwrap()
    }

    /// The answer, read as a client of `from` reads it.
    async fn answer(&self, from: Dialect, to: Dialect, conversation: &Conversation) -> Answer {
        let response = self.ask(from, to, conversation).await;
        let status = response.status().as_u16();
        let body = response.bytes().await.unwrap();
        let text = String::from_utf8_lossy(&body);
        assert_eq!(status, 200, "{from} to {to}: {text}");
        if conversation.delivery == Delivery::Whole {
            return Answer::of(dialects::of(from).read_whole(&body).unwrap());
        }
        assert_eq!(dialects::of(from).framing() == Framing::Lines, !text.contains("data: "), "{text}");
        Answer::of(events(from, &body))
    }

    /// What the stand-in says by itself.
    fn expected(&self, to: Dialect, conversation: &Conversation) -> Answer {
        let script = Script::of(self.standin(to).0, conversation);
        let usage = script.usage();
        Answer::of(script.events.into_iter().chain([Event::Usage(usage)]))
    }
}

fn events(dialect: Dialect, body: &[u8]) -> Vec<Event> {
    let codec = dialects::of(dialect);
    let (mut decoder, mut reader, mut events) = (FrameDecoder::new(codec.framing()), codec.reader(), Vec::new());
    decoder.push(body).unwrap();
    while let Some(frame) = decoder.next_frame() {
        if let Some(data) = frame.data {
            reader.read(&data, &mut events).unwrap();
        }
    }
    assert!(reader.is_finished(), "{}", String::from_utf8_lossy(body));
    events
}

fn asking(text: &str) -> Conversation {
    let mut conversation = Conversation::of(Dialect::ChatCompletions, MODEL);
    conversation.turns.push(Turn::of_text(Role::System, "You know the ferries.", "system"));
    conversation.turns.push(Turn::of_text(Role::User, text, "user"));
    conversation
}

fn streamed(conversation: Conversation) -> Conversation {
    Conversation { delivery: Delivery::Streamed(UsageFrame::Asked), ..conversation }
}

fn with_tools(mut conversation: Conversation) -> Conversation {
    for name in ["get_departures", "book_vehicle_space"] {
        let schema = r#"{"type":"object","properties":{"pier":{"type":"string"},"cars":{"type":"integer"}},"required":["pier"]}"#;
        let kind = ToolKind::Function { parameters: RawJson::parse(schema), typed: None };
        let description = Some("What the harbour office knows.".to_owned());
        let (path, native) = (format!("tools.{name}"), Vec::new());
        conversation.tools.push(Tool { name: name.to_owned(), description, kind, is_strict: None, path, native });
    }
    conversation
}

/// The answer's turn as an app sends it back, with a result for each call.
fn with_results(mut conversation: Conversation, answer: &Answer) -> Conversation {
    let (mut said, mut results) = (Vec::new(), Vec::new());
    for block in &answer.choices[0].blocks {
        match block {
            Block::Call { id, name, arguments, .. } => {
                let (call, kind) = (id.clone(), CallKind::Function);
                said.push(PartKind::ToolCall(ToolCall {
                    id: call.clone(),
                    name: name.clone(),
                    arguments: arguments.clone(),
                    kind,
                    seal: None,
                }));
                let parts = vec![Part::of(PartKind::Text(format!("{name}: berth 2")), "")];
                let result = ToolResult { call, name: Some(name.clone()), parts, is_error: false, kind, called: None };
                results.push(PartKind::ToolResult(result));
            }
            Block::Thinking { text, seal } => {
                said.push(PartKind::Thinking(Thinking { text: text.clone(), seal: seal.clone() }));
            }
            Block::Text { text, .. } => said.push(PartKind::Text(text.clone())),
            Block::Refusal(_) => {}
        }
    }
    let parts = |kinds: Vec<PartKind>| kinds.into_iter().map(|kind| Part::of(kind, "")).collect();
    conversation.turns.push(Turn::of(Role::Assistant, parts(said), ""));
    conversation.turns.push(Turn::of(Role::User, parts(results), ""));
    conversation.link();
    conversation
}

/// What two answers have in common whatever their dialects: not ids, which some have not.
fn said(answer: &Answer) -> Value {
    let choice = answer.choices.first().cloned().unwrap_or_default();
    let call = |block: &Block| match block {
        Block::Call { name, arguments, .. } => {
            Some(json!([name, serde_json::from_str::<Value>(arguments).unwrap_or_default()]))
        }
        Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => None,
    };
    let calls: Vec<Value> = choice.blocks.iter().filter_map(call).collect();
    let stop = match choice.stop {
        Some(Stop::OutputCap) => "cap",
        Some(Stop::ToolCalls) => "calls",
        _ => "end",
    };
    let usage = answer.usage.unwrap_or_default();
    json!({
        "text": choice.text_of(), "thinking": choice.thinking_of(), "calls": calls, "stop": stop,
        "input": usage.input, "output": usage.output,
    })
}

#[derive(Clone, Copy, Debug)]
enum Aspect {
    Plain,
    Streamed,
    ToolRoundTrip,
    ParallelCallsStreamed,
    Image,
    StructuredOutput,
    UsageAndStop,
}

fn request(aspect: Aspect) -> Conversation {
    let question = asking("When does the last boat to Stack Isle leave?");
    match aspect {
        Aspect::Plain => question,
        Aspect::Streamed => streamed(question),
        Aspect::ToolRoundTrip => with_tools(question),
        Aspect::ParallelCallsStreamed => streamed(with_tools(question)),
        Aspect::Image => {
            let mut conversation = question;
            let source = MediaSource::Bytes { kind: "image/png".to_owned(), base64: PICTURE.to_owned() };
            let image = Part::of(PartKind::Image(Media { source, name: None }), "");
            conversation.turns[1].parts.push(image);
            conversation
        }
        Aspect::StructuredOutput => {
            let schema = r#"{"type":"object","properties":{"pier":{"type":"string"},"minutes":{"type":"integer"}},"required":["pier"]}"#;
            let schema = RawJson::parse(schema).unwrap();
            let schema = Schema { schema, typed: None, name: None, description: None, is_strict: None };
            Conversation { format: Some(AnswerFormat::Schema(schema)), ..question }
        }
        Aspect::UsageAndStop => streamed(Conversation { output_limit: Some(3), ..question }),
    }
}

#[rstest]
#[case::chat_completions(Dialect::ChatCompletions)]
#[case::responses(Dialect::Responses)]
#[case::messages(Dialect::Messages)]
#[case::generate_content(Dialect::GenerateContent)]
#[case::local_chat(Dialect::LocalChat)]
#[tokio::test]
async fn an_app_of_this_dialect_gets_everything_from_every_upstream(#[case] from: Dialect) {
    let harbour = Harbour::begin().await;
    let aspects = [
        Aspect::Plain,
        Aspect::Streamed,
        Aspect::ToolRoundTrip,
        Aspect::ParallelCallsStreamed,
        Aspect::Image,
        Aspect::StructuredOutput,
        Aspect::UsageAndStop,
    ];
    for to in Dialect::ALL {
        for aspect in aspects {
            let conversation = request(aspect);
            let answer = harbour.answer(from, to, &conversation).await;
            assert_eq!(said(&answer), said(&harbour.expected(to, &conversation)), "{from} to {to}, {aspect:?}");
            if let Aspect::ToolRoundTrip = aspect {
                let second = with_results(conversation, &answer);
                let answer = harbour.answer(from, to, &second).await;
                assert_eq!(said(&answer), said(&harbour.expected(to, &second)), "{from} to {to}, with results");
            }
        }
    }
    // `scripts/test` shows it.
    let row = Dialect::ALL.map(|to| format!("to {to}: {} of {}", aspects.len(), aspects.len())).join(", ");
    let table = std::path::Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("dialects-{from}.txt"));
    std::fs::write(table, format!("  {from}: {row}\n")).unwrap();
    harbour.ferry.drained().await;
    for to in Dialect::ALL {
        let tally = harbour.standin(to).1.tally();
        assert_eq!(tally.requests, tally.served, "{from} to {to}");
        let range = "from=2020-01-01T00:00:00Z&to=2100-01-01T00:00:00Z";
        let usage = harbour.ferry.get(&format!("/usage?{range}&by=offer&route=to-{to}")).await;
        let tokens = &usage["together"]["tokens"];
        let counts = (tokens["input"].as_u64(), tokens["output"].as_u64());
        assert_eq!(counts, (Some(tally.input_tokens), Some(tally.output_tokens)), "{from} to {to}: {usage}");
    }
}

#[rstest]
#[case::same(Dialect::Messages, Dialect::Messages)]
#[case::same_responses(Dialect::Responses, Dialect::Responses)]
#[case::same_content(Dialect::GenerateContent, Dialect::GenerateContent)]
#[case::across(Dialect::Messages, Dialect::GenerateContent)]
#[case::across_to_responses(Dialect::Messages, Dialect::Responses)]
#[case::back(Dialect::GenerateContent, Dialect::Messages)]
#[tokio::test]
async fn sealed_thinking_comes_back_to_who_made_it(#[case] from: Dialect, #[case] to: Dialect) {
    let harbour = Harbour::begin().await;
    let mut first = with_tools(asking("Which berth?"));
    first.thinking.amount = ThinkingAmount::Effort(Effort::Low);
    first.output_limit = Some(4_000);
    for conversation in [first.clone(), streamed(first)] {
        let answer = harbour.answer(from, to, &conversation).await;
        assert_eq!(said(&answer), said(&harbour.expected(to, &conversation)), "{from} to {to}");
        let second = with_results(conversation, &answer);
        let sealed = harbour.answer(from, to, &second).await;
        assert!(!sealed.choices[0].text_of().is_empty());
        let seen = harbour.standin(to).1.last_seen().unwrap();
        let body = String::from_utf8_lossy(&seen.body);
        assert!(body.contains("c3RhbmQtaW4t") && !body.contains("d2VuZG9yLX"), "{from} to {to}: {body}");
        // Elsewhere it would be refused, so it is left out and that is said.
        let other = Dialect::ALL.into_iter().find(|other| *other != to && *other != Dialect::LocalChat).unwrap();
        let moved = harbour.ask(from, other, &second).await;
        assert_eq!(moved.status(), 200);
        assert!(header(&moved, "wendor-notes").contains("left out"), "{}", header(&moved, "wendor-notes"));
    }
}

#[tokio::test]
async fn vectors_are_the_same_bits_in_every_form() {
    let harbour = Harbour::begin().await;
    let url = &harbour.ferry.service.url;
    let ask = async |path: &str, body: Value| -> Value {
        let answer = harbour.ferry.http.post(format!("{url}{path}")).bearer_auth(&harbour.ferry.key).json(&body);
        let answer = answer.send().await.unwrap();
        let text = answer.text().await.unwrap();
        serde_json::from_str(&text).unwrap_or_else(|_| panic!("{text}"))
    };
    let text = "the 18:05 to Stack Isle";
    for to in ["chat-completions", "generate-content", "local-chat"] {
        let route = format!("to-{to}");
        let list = json!({ "model": route, "input": [text], "encoding_format": "float" });
        let numbers = ask("/v1/embeddings", list.clone()).await["data"][0]["embedding"].clone();
        assert_eq!(numbers.as_array().unwrap().len(), 8, "{to}: {numbers}");
        let local = ask("/api/embed", json!({ "model": route, "input": text })).await;
        assert_eq!(local["embeddings"][0], numbers, "{to}");
        let path = format!("/v1beta/models/{route}:batchEmbedContents");
        let content =
            json!({ "requests": [{ "model": format!("models/{route}"), "content": { "parts": [{ "text": text }] } }] });
        assert_eq!(ask(&path, content).await["embeddings"][0]["values"], numbers, "{to}");
        let base64 = json!({ "model": route, "input": [text], "encoding_format": "base64" });
        let base64 = ask("/v1/embeddings", base64).await["data"][0]["embedding"].clone();
        let bytes = decode(base64.as_str().unwrap());
        let floats: Vec<f32> = bytes.as_chunks::<4>().0.iter().map(|four| f32::from_le_bytes(*four)).collect();
        let expected: Vec<f32> =
            numbers.as_array().unwrap().iter().map(|number| number.as_f64().unwrap() as f32).collect();
        assert_eq!(floats, expected, "{to}");
    }
    let refused = ask("/v1/embeddings", json!({ "model": "to-messages", "input": text })).await;
    assert_eq!(refused["error"]["code"], "ability_missing", "{refused}");
}

fn decode(text: &str) -> Vec<u8> {
    let value = |letter: u8| {
        b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/".iter().position(|known| *known == letter)
    };
    let sextets: Vec<u32> = text.bytes().filter_map(value).map(|sextet| u32::try_from(sextet).unwrap()).collect();
    let mut bytes = Vec::new();
    for group in sextets.chunks(4) {
        let bits = group.iter().fold(0, |bits, sextet| (bits << 6) | sextet) << (6 * (4 - group.len()));
        bytes.extend_from_slice(&bits.to_be_bytes()[1..group.len()]);
    }
    bytes
}

#[tokio::test]
async fn counts_come_from_the_upstream_or_are_said_to_be_estimated() {
    let harbour = Harbour::begin().await;
    for (route, is_estimate) in [("to-messages", false), ("to-local-chat", true)] {
        let body = json!({ "model": route, "messages": [{ "role": "user", "content": "Which berth is free?" }] });
        let url = format!("{}/v1/messages/count_tokens", harbour.ferry.service.url);
        let answer = harbour.ferry.http.post(url).bearer_auth(&harbour.ferry.key).json(&body).send().await.unwrap();
        assert_eq!((answer.status().as_u16(), !header(&answer, "wendor-notes").is_empty()), (200, is_estimate));
        let count: Value = answer.json().await.unwrap();
        assert!(count["input_tokens"].as_u64().unwrap() > 0, "{count}");
    }
}

#[tokio::test]
async fn a_local_name_may_carry_its_usual_tag() {
    let harbour = Harbour::begin().await;
    let body =
        json!({ "model": "to-messages:latest", "stream": false, "messages": [{ "role": "user", "content": "Hm" }] });
    let url = format!("{}/api/chat", harbour.ferry.service.url);
    let answer = harbour.ferry.http.post(url).bearer_auth(&harbour.ferry.key).json(&body).send().await.unwrap();
    assert_eq!(answer.status(), 200);
}
