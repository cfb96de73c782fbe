//! However its letters are written, a body is treated as the body that it is.

use proptest::prelude::*;
use serde_json::{Value, json};
use wendor_wire::dialect::Dialect::{self, ChatCompletions as C, LocalChat as L, Messages as M, Responses as R};

use crate::edges::{body, chat, sent_from, target};
use crate::vectors::all;

const DEPARTURES: &str = r#"{"type":"function","function":{"name":"departures"}}"#;

/// `text` as JSON in which some letters of texts are written as escapes.
fn escaped(text: &str, which: &[bool]) -> String {
    let (mut out, mut in_text, mut after_backslash) = (String::new(), false, false);
    let mut which = which.iter().cycle();
    for letter in text.chars() {
        let is_plain = in_text && !after_backslash && letter.is_ascii_alphanumeric();
        match letter {
            '"' if !after_backslash => in_text = !in_text,
            _ => {}
        }
        after_backslash = letter == '\\' && !after_backslash;
        if is_plain && *which.next().unwrap_or(&false) {
            out.push_str(&format!("\\u{:04x}", u32::from(letter)));
        } else {
            out.push(letter);
        }
    }
    out
}

fn requests() -> Vec<(Dialect, String)> {
    let of_vectors =
        all().into_iter().filter(|vector| vector.is_chat()).map(|vector| (vector.dialect, vector.body.to_string()));
    let more = [
        (C, body(C, r#""store":true,"service_tier":"flex","metadata":{"a":"b"}"#)),
        (R, body(R, r#""store":true,"text":{"verbosity":"low"}"#)),
        (L, body(L, r#""keep_alive":-1,"options":{"num_ctx":1,"seed":2,"num_gpu":3}"#)),
        (C, body(C, &format!(r#""tools":[{DEPARTURES},{{"type":"mcp","server_label":"x"}}]"#))),
        (M, body(M, r#""service_tier":"auto","mcp_servers":[]"#)),
    ];
    of_vectors.chain(more).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// However its letters are written, a body is treated as the body that it is.
    #[test]
    fn any_escaping_of_a_body_is_treated_as_the_body_itself(
        (dialect, plain) in prop::sample::select(requests()),
        which in proptest::collection::vec(any::<bool>(), 1..40),
        to in 0usize..5,
    ) {
        let written_otherwise = escaped(&plain, &which);
        let to = target(Dialect::ALL[to]);
        let value = |sent: Result<(Value, Vec<String>), String>| sent.map(|(value, changes)| (unescaped(value), changes));
        prop_assert_eq!(value(sent_from(chat(dialect), &written_otherwise, &to)), value(sent_from(chat(dialect), &plain, &to)));
    }
}

/// Arguments of calls are JSON in a text: what was escaped inside is the same.
fn unescaped(value: Value) -> Value {
    match value {
        Value::String(text) => match serde_json::from_str::<Value>(&text) {
            Ok(inner @ (Value::Object(_) | Value::Array(_))) => json!({ "json": unescaped(inner) }),
            _ => Value::String(text),
        },
        Value::Array(values) => values.into_iter().map(unescaped).collect(),
        Value::Object(members) => members.into_iter().map(|(name, value)| (name, unescaped(value))).collect(),
        Value::Null | Value::Bool(_) | Value::Number(_) => value,
    }
}
