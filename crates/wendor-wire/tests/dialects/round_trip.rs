//! A conversation to each dialect and back is the same conversation: what the verdict calls carried is carried, turn by turn. What it calls
//! approximated or refused is told in notes, and is not looked at here.

use proptest::prelude::*;
use serde_json::{Value, json};
use wendor_wire::codec::Outside;
use wendor_wire::conversation::turn::{CallKind, text_of};
use wendor_wire::conversation::{
    AnswerFormat, Conversation, Media, MediaSource, Part, PartKind, Role, Tool, ToolCall, ToolChoice, ToolKind,
    ToolResult, Turn,
};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::json::{Number, RawJson};
use wendor_wire::verdict::judge;

use crate::edges::target;

/// What one exchange holds: the user's texts, whether with an image, the model's text, its calls with their results.
#[derive(Clone, Debug)]
struct Exchange {
    asked: Vec<String>,
    has_image: bool,
    answered: Option<String>,
    calls: Vec<(String, Value, String)>,
}

fn text() -> impl Strategy<Value = String> {
    "[a-zA-Zé0-9 .,!?\"\\\\\n\u{2028}🌊]{1,24}".prop_filter("says something", |text| !text.trim().is_empty())
}

fn arguments() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(json!({})),
        (text(), any::<i32>())
            .prop_map(|(route, day)| json!({ "route": route, "day": day, "stops": [1.5, null, { "a": true }] })),
    ]
}

fn exchange() -> impl Strategy<Value = Exchange> {
    let calls = proptest::collection::vec(("[a-z_]{1,12}", arguments(), text()), 0..4);
    (proptest::collection::vec(text(), 1..3), any::<bool>(), proptest::option::of(text()), calls).prop_map(
        |(asked, has_image, answered, calls)| {
            // A turn of the model says something.
            let answered = if calls.is_empty() { answered.or(Some("Berth 2.".to_owned())) } else { answered };
            Exchange { asked, has_image, answered, calls }
        },
    )
}

/// How an answer is wanted.
#[derive(Clone, Debug)]
struct Wish {
    system: Option<String>,
    limit: Option<u64>,
    has_tools: bool,
    choice: Option<ToolChoice>,
    format: u8,
    stop: Vec<String>,
    user: Option<String>,
}

fn wish() -> impl Strategy<Value = Wish> {
    let choice = prop_oneof![
        Just(None),
        Just(Some(ToolChoice::Auto)),
        Just(Some(ToolChoice::None)),
        Just(Some(ToolChoice::Required))
    ];
    let stop = proptest::collection::vec("[a-z]{1,4}", 0..3);
    (
        proptest::option::of(text()),
        proptest::option::of(1u64..9_000),
        any::<bool>(),
        choice,
        0u8..3,
        stop,
        proptest::option::of("[a-z]{1,8}"),
    )
        .prop_map(|(system, limit, has_tools, choice, format, stop, user)| {
            let choice = choice.filter(|_| has_tools);
            Wish { system, limit, has_tools, choice, format, stop, user }
        })
}

fn schema() -> RawJson {
    RawJson::parse(r#"{"type":"object","properties":{"a":{"type":"string"}}}"#).unwrap()
}

fn part(kind: PartKind) -> Part {
    Part::of(kind, "")
}

fn conversation(dialect: Dialect, exchanges: &[Exchange], wish: &Wish) -> Conversation {
    let mut conversation = Conversation::of(dialect, "m");
    conversation.turns.extend(wish.system.iter().map(|text| Turn::of_text(Role::System, text.clone(), "")));
    for (number, exchange) in exchanges.iter().enumerate() {
        let mut asked: Vec<Part> = exchange.asked.iter().map(|text| part(PartKind::Text(text.clone()))).collect();
        if exchange.has_image {
            let source = MediaSource::bytes("image/png", "iVBORw0KGgo=".to_owned());
            asked.push(part(PartKind::Image(Media { source, name: None })));
        }
        conversation.turns.push(Turn::of(Role::User, asked, ""));
        let mut said: Vec<Part> = exchange.answered.iter().map(|text| part(PartKind::Text(text.clone()))).collect();
        let mut results = Vec::new();
        for (place, (name, arguments, result)) in exchange.calls.iter().enumerate() {
            let id = Some(format!("call_{number}_{place}"));
            let kind = CallKind::Function;
            let call =
                ToolCall { id: id.clone(), name: name.clone(), arguments: arguments.to_string(), kind, seal: None };
            said.push(part(PartKind::ToolCall(call)));
            let parts = vec![part(PartKind::Text(result.clone()))];
            let result = ToolResult { call: id, name: Some(name.clone()), parts, is_error: false, kind, called: None };
            results.push(part(PartKind::ToolResult(result)));
        }
        conversation.turns.push(Turn::of(Role::Assistant, said, ""));
        if !results.is_empty() {
            conversation.turns.push(Turn::of(Role::User, results, ""));
        }
    }
    conversation.turns.push(Turn::of_text(Role::User, "And now?", ""));
    wished(&mut conversation, wish);
    conversation.link();
    conversation
}

fn wished(conversation: &mut Conversation, wish: &Wish) {
    if wish.has_tools {
        let kind = ToolKind::Function { parameters: Some(schema()), typed: None };
        let (name, description) = ("tides".to_owned(), Some("Tells tides.".to_owned()));
        conversation.tools.push(Tool {
            name,
            description,
            kind,
            is_strict: None,
            path: String::new(),
            native: Vec::new(),
        });
    }
    conversation.tool_choice.clone_from(&wish.choice);
    conversation.output_limit = wish.limit;
    conversation.sampling.stop.clone_from(&wish.stop);
    conversation.end_user.clone_from(&wish.user);
    conversation.format = match wish.format {
        0 => None,
        1 => Some(AnswerFormat::Json),
        _ => Some(AnswerFormat::Schema(wendor_wire::conversation::wish::Schema {
            schema: schema(),
            typed: None,
            name: None,
            description: None,
            is_strict: None,
        })),
    };
}

fn parts_seen(parts: &[Part]) -> Vec<Value> {
    let mut seen: Vec<Value> = Vec::new();
    let mut texts: Vec<&str> = Vec::new();
    for part in parts {
        match &part.kind {
            // How texts of one turn are put together is the dialect's business.
            PartKind::Text(text) => texts.push(text),
            PartKind::Image(media) => seen.push(json!({ "image": media.source.to_url() })),
            PartKind::ToolCall(call) => {
                let arguments: Value = serde_json::from_str(call.arguments_object().unwrap().as_str()).unwrap();
                seen.push(json!({ "call": call.name, "arguments": arguments }));
            }
            PartKind::ToolResult(result) => {
                seen.push(json!({ "result_of": result.function(), "text": text_of(&result.parts) }));
            }
            PartKind::Refusal(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => panic!("none was made: {part:?}"),
        }
    }
    if !texts.is_empty() {
        seen.insert(0, json!({ "text": texts.join("\n") }));
    }
    seen
}

/// A schema without the word that it is closed, which services demand that hold the model to it.
fn opened(value: Value) -> Value {
    match value {
        Value::Object(members) => {
            let is_closing = |name: &str, value: &Value| name == "additionalProperties" && *value == Value::Bool(false);
            let kept = members.into_iter().filter(|(name, value)| !is_closing(name, value));
            kept.map(|(name, value)| (name, opened(value))).collect()
        }
        Value::Array(values) => values.into_iter().map(opened).collect(),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => value,
    }
}

/// What a neutral reader sees of a conversation.
pub fn seen(conversation: &Conversation) -> Value {
    let leading = conversation.leading_system_turns();
    let mut turns: Vec<(bool, Vec<Part>)> = Vec::new();
    for turn in conversation.turns.iter().skip(leading) {
        let is_model = turn.role == Role::Assistant;
        match turns.last_mut() {
            Some((last, parts)) if *last == is_model => parts.extend(turn.parts.clone()),
            _ => turns.push((is_model, turn.parts.clone())),
        }
    }
    let turns: Vec<Value> = turns.iter().map(|(is_model, parts)| json!([is_model, parts_seen(parts)])).collect();
    let value = |raw: &RawJson| serde_json::from_str::<Value>(raw.as_str()).unwrap();
    let tool = |tool: &Tool| match &tool.kind {
        ToolKind::Function { parameters, .. } => json!([tool.name, tool.description, parameters.as_ref().map(value)]),
        ToolKind::Custom(_) => json!("custom"),
    };
    let format = match &conversation.format {
        None | Some(AnswerFormat::Text) => Value::Null,
        Some(AnswerFormat::Json) => json!("json"),
        Some(AnswerFormat::Schema(schema)) => opened(value(&schema.schema)),
    };
    json!({
        "system": conversation.leading_system(),
        "turns": turns,
        "tools": conversation.tools.iter().map(tool).collect::<Vec<_>>(),
        "limit": conversation.output_limit,
        "temperature": conversation.sampling.temperature.as_ref().map(Number::as_f64),
        "stop": conversation.sampling.stop,
        "user": conversation.end_user,
        "format": format,
    })
}

fn there_and_back(conversation: &Conversation, to: Dialect) -> Conversation {
    let body = dialects::of(to).write_request(conversation, &target(to));
    let outside = Outside { model: Some("m"), ..Outside::default() };
    dialects::of(to).read_request(&body, outside).unwrap_or_else(|wrong| panic!("{wrong}: {body}"))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_carried_comes_back(exchanges in proptest::collection::vec(exchange(), 0..4), wish in wish(), from in 0usize..5) {
        let from = Dialect::ALL[from];
        let made = conversation(from, &exchanges, &wish);
        prop_assume!(judge(&made, &target(from)).refused.is_empty());
        let as_app_sends_it = there_and_back(&made, from);
        for to in Dialect::ALL {
            let mut wanted = as_app_sends_it.clone();
            // What is told in a note is not looked at; nor is a limit that the dialect demands and the app left out.
            let verdict = judge(&wanted, &target(to));
            if !verdict.can_be_sent(true) {
                continue;
            }
            let mut back = there_and_back(&wanted, to);
            if wanted.output_limit.is_none() {
                (wanted.output_limit, back.output_limit) = (None, None);
            }
            // Where no tool may be called, they may be left out.
            if wanted.tool_choice == Some(ToolChoice::None) {
                wanted.tools.clear();
                back.tools.clear();
            }
            prop_assert_eq!(seen(&back), seen(&wanted), "{} to {}", from, to);
        }
    }
}
