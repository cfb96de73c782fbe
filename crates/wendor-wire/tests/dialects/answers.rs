//! What replies mean: read, they say what the vector expects; written for an app of any other dialect and read back there, they say the
//! same.

use serde_json::{Value, json};
use wendor_wire::codec::ErrorTold;
use wendor_wire::conversation::answer::{Answer, Block, Choice};
use wendor_wire::conversation::event::{Event, Stop};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::failure::Failure;
use wendor_wire::frames::FrameDecoder;
use wendor_wire::passage::{Passage, Step};

use crate::vectors::{Reply, Vector, all, head};

/// The events of a stream in `dialect`, and how it broke, if it did.
pub fn events_of(dialect: Dialect, stream: &[u8]) -> (Vec<Event>, Option<Failure>) {
    let codec = dialects::of(dialect);
    let (mut decoder, mut reader, mut events) = (FrameDecoder::new(codec.framing()), codec.reader(), Vec::new());
    decoder.push(stream).unwrap();
    let mut frames: Vec<_> = std::iter::from_fn(|| decoder.next_frame()).collect();
    frames.extend(decoder.finish());
    for frame in frames {
        let Some(data) = frame.data else { continue };
        if let Err(failure) = reader.read(&data, &mut events) {
            return (events, Some(failure));
        }
    }
    (events, None)
}

/// The answer of a vector's reply.
pub fn answer_of(vector: &Vector) -> Result<Answer, Failure> {
    match &vector.reply {
        Reply::Whole(_, body) => dialects::of(vector.dialect).read_whole(body.to_string().as_bytes()).map(Answer::of),
        Reply::Stream(stream) => match events_of(vector.dialect, stream) {
            (events, None) => Ok(Answer::of(events)),
            (_, Some(failure)) => Err(failure),
        },
    }
}

/// The whole stream that an app of `to` gets of one of `from`.
pub fn translated(from: Dialect, to: Dialect, stream: &[u8]) -> Result<Vec<u8>, Failure> {
    let mut passage = Passage::new(from, to, head());
    passage.push(stream)?;
    let mut out = Vec::new();
    loop {
        match passage.step() {
            Step::Send(bytes) => out.extend_from_slice(&bytes),
            Step::End(bytes) => {
                out.extend_from_slice(&bytes);
                return Ok(out);
            }
            Step::Broken(failure, _) => return Err(failure),
            Step::More => match passage.upstream_ended() {
                Step::Send(bytes) => out.extend_from_slice(&bytes),
                Step::End(bytes) => {
                    out.extend_from_slice(&bytes);
                    return Ok(out);
                }
                Step::Broken(failure, _) => return Err(failure),
                Step::More => return Ok(out),
            },
        }
    }
}

fn is_error(vector: &Vector) -> bool {
    vector.expect.as_ref().is_some_and(|expect| expect.get("error").is_some())
}

fn usage(answer: &Answer, dialect: Dialect) -> Value {
    let Some(usage) = answer.usage else { return Value::Null };
    // The vectors count as the dialect itself does.
    let (cached, written) = (usage.cached.unwrap_or(0), usage.cache_write.unwrap_or(0));
    let (input, output) = match dialect {
        Dialect::Messages => (usage.input.map(|input| input - cached - written), usage.output),
        Dialect::GenerateContent => (usage.input, usage.output.map(|output| output - usage.reasoning.unwrap_or(0))),
        Dialect::ChatCompletions | Dialect::Responses | Dialect::LocalChat => (usage.input, usage.output),
    };
    json!({ "input": input, "output": output, "cached": cached, "cache_write": written, "reasoning": usage.reasoning.unwrap_or(0) })
}

fn calls(choice: &Choice) -> Vec<(Option<String>, String, String)> {
    let one = |block: &Block| match block {
        Block::Call { id, name, arguments, .. } => Some((id.clone(), name.clone(), arguments.clone())),
        Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => None,
    };
    choice.blocks.iter().filter_map(one).collect()
}

fn is_as_expected(vector: &Vector, expect: &Value, answer: &Answer) {
    let name = format!("{}/{}", vector.dialect, vector.name);
    if let Some(choices) = expect.get("choices").and_then(Value::as_array) {
        for (choice, expect) in answer.choices.iter().zip(choices) {
            assert_eq!(json!(choice.text_of()), expect["text"], "{name}");
        }
        assert_eq!(answer.choices.len(), choices.len(), "{name}");
        return;
    }
    let empty = Choice::default();
    let choice = answer.choices.first().unwrap_or(&empty);
    if let Some(text) = expect.get("text") {
        let said = choice.text_of();
        // A refusal is the text of dialects that have no other place for it.
        assert!(json!(said) == *text || expect.get("refusal").is_some(), "{name}: {said} is not {text}");
    }
    if let Some(thinking) = expect.get("thinking") {
        assert_eq!(json!(choice.thinking_of()), *thinking, "{name}");
    }
    let expected = expect.get("tool_calls").and_then(Value::as_array).cloned().unwrap_or_default();
    let answer_calls = calls(choice);
    assert_eq!(answer_calls.len(), expected.len(), "{name}: calls");
    for ((id, called, arguments), expect) in answer_calls.iter().zip(&expected) {
        assert_eq!(json!(called), expect["name"], "{name}");
        if let Some(expected) = expect.get("id").filter(|id| !id.is_null()) {
            assert_eq!(json!(id), *expected, "{name}");
        }
        match expect.get("input_text") {
            Some(text) => assert_eq!(json!(arguments), *text, "{name}"),
            None => {
                let written = match &expect["arguments"] {
                    Value::String(text) => serde_json::from_str(text).unwrap(),
                    Value::Null | Value::Bool(_) | Value::Number(_) | Value::Array(_) | Value::Object(_) => {
                        expect["arguments"].clone()
                    }
                };
                assert_eq!(serde_json::from_str::<Value>(arguments).unwrap(), written, "{name}");
            }
        }
    }
    if let Some(expected) = expect.get("usage").and_then(Value::as_object) {
        let counts = usage(answer, vector.dialect);
        // Tokens of sound are a part of the others, which nothing here counts apart.
        for (kind, number) in expected.iter().filter(|(kind, _)| !kind.starts_with("audio")) {
            let count = counts[kind].as_u64().unwrap_or(0);
            assert_eq!(json!(count), *number, "{name}: usage {kind}");
        }
    }
}

#[test]
fn replies_say_what_is_expected() {
    let mut looked_at = 0;
    for vector in all().into_iter().filter(Vector::is_chat) {
        let Some(expect) = &vector.expect else { continue };
        if is_error(&vector) {
            if let Reply::Stream(_) = vector.reply {
                assert!(answer_of(&vector).is_err(), "{}/{}", vector.dialect, vector.name);
            }
            continue;
        }
        let answer =
            answer_of(&vector).unwrap_or_else(|failure| panic!("{} {}: {failure:?}", vector.dialect, vector.name));
        is_as_expected(&vector, expect, &answer);
        looked_at += 1;
    }
    assert!(looked_at > 120, "{looked_at}");
}

/// An answer without what some dialect has no place for.
pub fn common(answer: &Answer) -> Value {
    let choice = answer.choices.first().cloned().unwrap_or_default();
    let stop = match choice.stop {
        Some(Stop::OutputCap | Stop::ContextFull) => "cap",
        Some(Stop::ToolCalls) => "calls",
        // Local servers have no word for it, and no stop text is told by most.
        _ => "end",
    };
    let text = format!("{}{}", choice.text_of(), choice.refusal_of().unwrap_or_default());
    let called: Vec<Value> = calls(&choice)
        .into_iter()
        .map(|(_, name, arguments)| {
            json!([name, serde_json::from_str::<Value>(&arguments).unwrap_or(json!(arguments))])
        })
        .collect();
    let usage = answer.usage.map(|usage| json!([usage.input.unwrap_or(0), usage.output.unwrap_or(0)]));
    json!({ "text": text, "thinking": choice.thinking_of(), "calls": called, "stop": stop, "usage": usage })
}

fn can_be_said_elsewhere(vector: &Vector, answer: &Answer) -> bool {
    // Several choices and free-text calls are refused before anything is asked; thinking that is sealed whole has no text.
    let is_custom = vector.name.contains("custom");
    answer.choices.len() <= 1 && !is_custom && answer.usage.is_some()
}

#[test]
fn whole_replies_say_the_same_in_every_dialect() {
    let mut looked_at = 0;
    for vector in all().into_iter().filter(Vector::is_chat).filter(|vector| !is_error(vector)) {
        if matches!(vector.reply, Reply::Whole(status, _) if status != 200) {
            continue;
        }
        let answer = answer_of(&vector).unwrap();
        if !can_be_said_elsewhere(&vector, &answer) {
            continue;
        }
        for to in Dialect::ALL {
            let codec = dialects::of(to);
            let written = codec.write_whole(&answer, &head()).unwrap();
            let read = Answer::of(
                codec.read_whole(written.as_bytes()).unwrap_or_else(|failure| panic!("{failure:?} {written}")),
            );
            assert_eq!(common(&read), common(&answer), "{}/{} to {to}: {written}", vector.dialect, vector.name);
            looked_at += 1;
        }
    }
    assert!(looked_at > 500, "{looked_at}");
}

#[test]
fn streams_say_the_same_in_every_dialect() {
    let mut looked_at = 0;
    for vector in all().into_iter().filter(Vector::is_chat).filter(|vector| !is_error(vector)) {
        let Reply::Stream(stream) = &vector.reply else { continue };
        let answer = answer_of(&vector).unwrap();
        if !can_be_said_elsewhere(&vector, &answer) {
            continue;
        }
        for to in Dialect::ALL {
            let written = translated(vector.dialect, to, stream).unwrap();
            let (events, failure) = events_of(to, &written);
            let text = String::from_utf8_lossy(&written);
            assert_eq!(failure, None, "{text}");
            assert_eq!(
                common(&Answer::of(events)),
                common(&answer),
                "{}/{} to {to}: {text}",
                vector.dialect,
                vector.name
            );
            looked_at += 1;
        }
    }
    assert!(looked_at > 120, "{looked_at}");
}

/// An error for an app.
pub fn told() -> ErrorTold {
    ErrorTold {
        status: 502,
        class: "server_error",
        code: "answer_broke_off".to_owned(),
        param: None,
        message: "The answer broke off.".to_owned(),
        request: "01JDF3-7QK2M0XZ4T".to_owned(),
    }
}
