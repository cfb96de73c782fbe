//! What stand-ins answer beside conversations: vectors, counts, legacy texts, images.

use std::hash::{DefaultHasher, Hash, Hasher};

use serde_json::{Value, json};
use wendor_wire::asked::AppRequest;
use wendor_wire::embedding::{EmbeddingRequest, Inputs, Vectors};
use wendor_wire::endpoint::EmbedForm;
use wendor_wire::endpoint::Passed;
use wendor_wire::json::Number;

use crate::memory::Profile;
use crate::text;

/// Numbers of a vector, where nobody says how many.
const DIMENSIONS: u64 = 8;

/// A picture of one point, as PNG in base64.
const PICTURE: &str =
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";

fn words(text: &str) -> u64 {
    u64::try_from(text.split_whitespace().count()).unwrap_or(0)
}

/// Vectors: equal texts get equal ones. With what they took.
pub(crate) fn vectors(form: EmbedForm, request: &AppRequest, body: &[u8]) -> Option<(String, u64)> {
    let asked = EmbeddingRequest::read(form, body).ok()?;
    let texts = match &asked.inputs {
        Inputs::Texts(texts) => texts.clone(),
        Inputs::TokenIds(ids) => vec![ids.as_str().to_owned()],
    };
    let dimensions = asked.dimensions.unwrap_or(DIMENSIONS).min(4_096);
    let one = |text: &String| (0..dimensions).filter_map(|at| number(text, at)).collect::<Vec<Number>>();
    let tokens = texts.iter().map(|text| words(text)).sum();
    let vectors = Vectors { vectors: texts.iter().map(one).collect(), came_in_order: true, input_tokens: Some(tokens) };
    Some((asked.reply(&vectors, request), tokens))
}

/// A number between -1 and 1 that the text and its place decide.
fn number(text: &str, at: u64) -> Option<Number> {
    let mut hasher = DefaultHasher::new();
    (text, at).hash(&mut hasher);
    let part = u16::try_from(hasher.finish() >> 48).unwrap_or(0);
    Number::of_f32(f32::from(part) / 32_768.0 - 1.0)
}

/// How many tokens a request has: its words.
pub(crate) fn counted(body: &[u8]) -> Value {
    let tokens = words(&String::from_utf8_lossy(body));
    json!({ "input_tokens": tokens, "totalTokens": tokens, "object": "response.input_tokens" })
}

/// A legacy text as a stream: a chunk for each piece, the usage where it is wanted, the terminator.
pub(crate) fn streamed(profile: &Profile, body: &Value) -> (String, u64, u64) {
    let prompt = body.get("prompt").map(ToString::to_string).unwrap_or_default();
    let pieces = text::pieces(profile.seed, profile.answer_tokens.0);
    let (input, output) = (words(&prompt), u64::try_from(pieces.len()).unwrap_or(0));
    let chunk = |choices: Value, usage: Value| {
        let chunk = json!({
            "id": "text-1", "object": "text_completion", "created": 1_790_000_000, "model": body["model"],
            "choices": choices, "usage": usage,
        });
        format!("data: {chunk}\n\n")
    };
    let piece = |text: &str, finish: Value| {
        chunk(json!([{ "text": text, "index": 0, "logprobs": null, "finish_reason": finish }]), Value::Null)
    };
    let mut stream: String = pieces.iter().map(|text| piece(text, Value::Null)).collect();
    stream.push_str(&piece("", json!("stop")));
    if body["stream_options"]["include_usage"] == true {
        let usage = json!({ "prompt_tokens": input, "completion_tokens": output, "total_tokens": input + output });
        stream.push_str(&chunk(json!([]), usage));
    }
    stream.push_str("data: [DONE]\n\n");
    (stream, input, output)
}

/// A legacy text.
pub(crate) fn completed(profile: &Profile, passed: Passed, body: &Value) -> (Value, u64, u64) {
    let prompt = body.get("prompt").map(ToString::to_string).unwrap_or_default();
    let pieces = text::pieces(profile.seed, profile.answer_tokens.0);
    let (input, output) = (words(&prompt), u64::try_from(pieces.len()).unwrap_or(0));
    let text = pieces.concat();
    let reply = match passed {
        Passed::Images => json!({
            "created": 1_790_000_000, "data": [{ "b64_json": PICTURE }],
            "usage": { "input_tokens": input, "output_tokens": output, "total_tokens": input + output },
        }),
        Passed::Completions | Passed::Transcriptions => json!({
            "id": "text-1", "object": "text_completion", "created": 1_790_000_000, "model": body["model"],
            "choices": [{ "text": text, "index": 0, "logprobs": null, "finish_reason": "stop" }],
            "usage": { "prompt_tokens": input, "completion_tokens": output, "total_tokens": input + output },
        }),
    };
    (reply, input, output)
}
