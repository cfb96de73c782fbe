use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};

use super::*;
use crate::asked::AppRequest;
use crate::endpoint::{Hints, resolve};
use crate::json::Number;
use crate::preset::ExampleTurn;

fn number(text: &str) -> Number {
    Number::parse(text).unwrap()
}

/// Instructions, one example and every parameter.
fn full(fixed: &[PresetPart]) -> Addition {
    Addition {
        instructions: Some("Answer \"passengers\".".to_owned()),
        examples: vec![ExampleTurn { user: "When?".to_owned(), assistant: "At 22:10.".to_owned() }],
        numbers: vec![(PresetPart::Temperature, number("0.20")), (PresetPart::Seed, number("7"))],
        output_limit: Some(60),
        stop: vec!["END".to_owned()],
        fixed: fixed.to_vec(),
    }
}

fn added(path: &str, body: &str, addition: &Addition) -> Added {
    let request = AppRequest::read(resolve("POST", path, Hints::default()).unwrap(), body.as_bytes()).unwrap();
    let added = add(&request, &Bytes::copy_from_slice(body.as_bytes()), addition).unwrap();
    AppRequest::read(request.endpoint, &added.body).expect("what is added leaves a request");
    added
}

fn text(added: &Added) -> &str {
    std::str::from_utf8(&added.body).unwrap()
}

const CHAT: &str = "/v1/chat/completions";
const MESSAGES: &str = "/v1/messages";
const RESPONSES: &str = "/v1/responses";
const CONTENT: &str = "/v1beta/models/manifests:generateContent";
const LOCAL: &str = "/api/chat";
const PROMPT: &str = "/api/generate";

const ALL: &[PresetPart] = &PresetPart::ALL;

/// Bytes of the app stay as they are; what is added stands where each dialect has it.
#[rstest]
#[case::chat(
    CHAT,
    r#"{"model":"m",  "messages":[{"role":"user","content":"Hi"}],"odd":1.50}"#,
    &[],
    r#"{"temperature":0.20,"seed":7,"stop":["END"],"max_completion_tokens":60,"model":"m",  "messages":[{"role":"system","content":"Answer \"passengers\"."},{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}],"odd":1.50}"#
)]
#[case::chat_with_its_own(
    CHAT,
    r#"{"model":"m","max_tokens":9,"temperature":1,"messages":[{"role":"developer","content":"Own"},{"role":"user","content":"Hi"}]}"#,
    &[],
    r#"{"seed":7,"stop":["END"],"model":"m","max_tokens":9,"temperature":1,"messages":[{"role":"developer","content":"Own"},{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}]}"#
)]
#[case::chat_with_all_fixed(
    CHAT,
    r#"{"model":"m","max_tokens":900,"temperature":1,"stop":"x","messages":[{"role":"system","content":"Own"},{"role":"user","content":"Hi"}]}"#,
    ALL,
    r#"{"seed":7,"model":"m","max_tokens":60,"temperature":0.20,"stop":["END"],"messages":[{"role":"system","content":"Answer \"passengers\"."},{"role":"system","content":"Own"},{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}]}"#
)]
#[case::messages(
    MESSAGES,
    r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":"Hi"}]}"#,
    &[],
    r#"{"system":"Answer \"passengers\".","temperature":0.20,"stop_sequences":["END"],"model":"m","max_tokens":9,"messages":[{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}]}"#
)]
#[case::messages_with_marked_blocks(
    MESSAGES,
    r#"{"model":"m","max_tokens":900,"system":[{"type":"text","text":"Own","cache_control":{"type":"ephemeral"}}],"messages":[]}"#,
    ALL,
    r#"{"model":"m","max_tokens":900,"system":[{"type":"text","text":"Own","cache_control":{"type":"ephemeral"}}],"messages":[]}"#
)]
#[case::messages_with_blocks_before(
    MESSAGES,
    r#"{"model":"m","max_tokens":900,"system":[{"type":"text","text":"Own","cache_control":{"type":"ephemeral"}}],"messages":[{"role":"user","content":"Hi"}]}"#,
    &[PresetPart::Instructions, PresetPart::OutputLimit],
    r#"{"temperature":0.20,"stop_sequences":["END"],"model":"m","max_tokens":60,"system":[{"type":"text","text":"Answer \"passengers\"."},{"type":"text","text":"Own","cache_control":{"type":"ephemeral"}}],"messages":[{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}]}"#
)]
#[case::responses_of_a_text(
    RESPONSES,
    r#"{"model":"m","instructions":null,"input":"Hi"}"#,
    &[],
    r#"{"temperature":0.20,"max_output_tokens":60,"model":"m","instructions":"Answer \"passengers\".","input":[{"type":"message","role":"user","content":"When?"},{"type":"message","role":"assistant","content":[{"type":"output_text","text":"At 22:10.","annotations":[]}]},{"role":"user","content":"Hi"}]}"#
)]
#[case::responses_that_go_on(
    RESPONSES,
    r#"{"model":"m","instructions":"Own","previous_response_id":"r","input":[{"role":"user","content":"Hi"}]}"#,
    &[PresetPart::Instructions],
    r#"{"temperature":0.20,"max_output_tokens":60,"model":"m","instructions":"Answer \"passengers\".\n\nOwn","previous_response_id":"r","input":[{"role":"user","content":"Hi"}]}"#
)]
#[case::content(
    CONTENT,
    r#"{"contents":[{"role":"user","parts":[{"text":"Hi"}]}],"generation_config":{"max_output_tokens":900}}"#,
    &[PresetPart::OutputLimit],
    r#"{"systemInstruction":{"parts":[{"text":"Answer \"passengers\"."}]},"contents":[{"role":"user","parts":[{"text":"When?"}]},{"role":"model","parts":[{"text":"At 22:10."}]},{"role":"user","parts":[{"text":"Hi"}]}],"generation_config":{"temperature":0.20,"seed":7,"stopSequences":["END"],"max_output_tokens":60}}"#
)]
#[case::content_with_parts(
    CONTENT,
    r#"{"system_instruction":{"parts":[{"text":"Own"}]},"contents":[{"parts":[{"text":"Hi"}]}]}"#,
    &[PresetPart::Instructions],
    r#"{"generationConfig":{"temperature":0.20,"seed":7,"stopSequences":["END"],"maxOutputTokens":60},"system_instruction":{"parts":[{"text":"Answer \"passengers\"."},{"text":"Own"}]},"contents":[{"role":"user","parts":[{"text":"When?"}]},{"role":"model","parts":[{"text":"At 22:10."}]},{"parts":[{"text":"Hi"}]}]}"#
)]
#[case::local(
    LOCAL,
    r#"{"model":"m","messages":[{"role":"user","content":"Hi"}],"options":{"temperature":0.9}}"#,
    &[],
    r#"{"model":"m","messages":[{"role":"system","content":"Answer \"passengers\"."},{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}],"options":{"seed":7,"stop":["END"],"num_predict":60,"temperature":0.9}}"#
)]
#[case::a_prompt(
    PROMPT,
    r#"{"model":"m","prompt":"Hi"}"#,
    &[],
    r#"{"system":"Answer \"passengers\".","options":{"temperature":0.20,"seed":7,"stop":["END"],"num_predict":60},"model":"m","prompt":"Hi"}"#
)]
#[case::a_prompt_that_loads(PROMPT, r#"{"model":"m"}"#, ALL, r#"{"model":"m"}"#)]
#[case::counted(
    "/v1/messages/count_tokens",
    r#"{"model":"m","messages":[{"role":"user","content":"Hi"}]}"#,
    &[],
    r#"{"system":"Answer \"passengers\".","model":"m","messages":[{"role":"user","content":"When?"},{"role":"assistant","content":"At 22:10."},{"role":"user","content":"Hi"}]}"#
)]
#[case::vectors("/v1/embeddings", r#"{"model":"m","input":"Hi"}"#, ALL, r#"{"model":"m","input":"Hi"}"#)]
fn what_is_added_stands_where_the_dialect_has_it(
    #[case] path: &str,
    #[case] body: &str,
    #[case] fixed: &[PresetPart],
    #[case] expected: &str,
) {
    assert_eq!(text(&added(path, body, &full(fixed))), expected);
}

#[test]
fn what_became_of_each_part_is_told() {
    let body =
        r#"{"model":"m","max_tokens":900,"temperature":1,"system":"Own","messages":[{"role":"user","content":"Hi"}]}"#;
    let told = |fixed: &[PresetPart]| -> Vec<(&str, &str)> {
        let added = added(MESSAGES, body, &full(fixed));
        added.lines.iter().map(|line| (line.part.as_str(), line.fate.as_str())).collect()
    };
    let examples = ("examples", "added");
    assert_eq!(
        told(&[]),
        [
            ("instructions", "own-kept"),
            examples,
            ("temperature", "own-kept"),
            ("seed", "unsaid"),
            ("stop", "added"),
            ("output_limit", "own-kept")
        ]
    );
    assert_eq!(
        told(ALL),
        [
            ("instructions", "added"),
            examples,
            ("temperature", "own-replaced"),
            ("seed", "unsaid"),
            ("stop", "added"),
            ("output_limit", "own-replaced")
        ]
    );
}

/// Offers of another dialect get what the app's own has no member for.
#[test]
fn what_a_dialect_cannot_say_goes_along() {
    let added = added(RESPONSES, r#"{"model":"m","input":"Hi"}"#, &full(&[]));
    let mut conversation = Conversation::of(crate::dialect::Dialect::Responses, "m");
    added.unsaid.say(&mut conversation);
    assert_eq!((conversation.sampling.seed, conversation.sampling.stop), (Some(number("7")), vec!["END".to_owned()]));
    assert_eq!(conversation.sampling.temperature, None);
}

/// A limit that is lower than the fixed one stays.
#[test]
fn a_fixed_limit_is_the_most() {
    let body = r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":"Hi"}]}"#;
    let only = Addition { output_limit: Some(60), fixed: ALL.to_vec(), ..Addition::default() };
    assert_eq!(text(&added(CHAT, body, &only)), body);
}

proptest! {
    /// Whatever else a body holds: without what was added, it is the body that it was.
    #[test]
    fn nothing_of_the_request_is_lost(
        names in proptest::collection::btree_set("[a-z]{6,9}", 0..6),
        turns in 1usize..5,
        system in any::<bool>(),
        set in any::<[bool; 3]>(),
        pretty in any::<bool>(),
    ) {
        let mut body = json!({ "model": "m" });
        let mut messages: Vec<Value> = system.then(|| json!({ "role": "system", "content": "Own" })).into_iter().collect();
        messages.extend((0..turns).map(|turn| json!({ "role": if turn % 2 == 0 { "user" } else { "assistant" }, "content": format!("t{turn}") })));
        body["messages"] = json!(messages);
        for name in names { body[format!("x_{name}")] = json!([name, 1.5]); }
        for (is_set, name) in set.into_iter().zip(["temperature", "max_tokens", "stop"]) {
            if is_set { body[name] = if name == "stop" { json!(["X"]) } else { json!(1) }; }
        }
        let written = if pretty { serde_json::to_string_pretty(&body).unwrap() } else { body.to_string() };
        let addition = full(&[]);
        let mut left: Value = serde_json::from_str(text(&added(CHAT, &written, &addition))).unwrap();
        for name in ["temperature", "seed", "stop", "max_completion_tokens"] {
            if body.get(name).is_none() { left.as_object_mut().unwrap().remove(name); }
        }
        let list = left["messages"].as_array_mut().unwrap();
        let examples = usize::from(system);
        list.drain(if system { examples..examples + 2 } else { 0..3 });
        prop_assert_eq!(left, body);
    }
}
