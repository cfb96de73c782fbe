//! Prompts without turns: `/api/generate` to every dialect and back, `/v1/completions` in its own.

use bytes::Bytes;
use rstest::rstest;
use serde_json::{Value, json};
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::{Delivery, FunctionForm, UsageFrame};
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::endpoint::Passed;
use wendor_wire::endpoint::{Endpoint, Hints, Kind, resolve};
use wendor_wire::rewriting::Rewriting;

use crate::edges::{generate, sent_from, target};
use crate::vectors::head;

fn sent(body: &Value, to: Dialect) -> Result<Value, String> {
    let endpoint = Endpoint { dialect: L, kind: generate() };
    sent_from(endpoint, &body.to_string(), &target(to)).map(|(went, _)| went)
}

#[rstest]
#[case::chat(C, "/messages/1/content", "/messages/0/content")]
#[case::responses(R, "/input/0/content", "/instructions")]
#[case::messages(M, "/messages/0/content", "/system")]
#[case::content(G, "/contents/0/parts/0/text", "/systemInstruction/parts/0/text")]
#[case::local(L, "/prompt", "/system")]
fn a_prompt_is_one_turn_of_the_user(#[case] to: Dialect, #[case] prompt: &str, #[case] system: &str) {
    let body = json!({ "model": "m", "prompt": "When is the tide?", "system": "Be brief.", "options": { "temperature": 0.5 }, "raw": false });
    let went = sent(&body, to).unwrap();
    let at = |place: &str| went.pointer(place).and_then(Value::as_str).map(str::to_owned);
    assert_eq!(
        (at(prompt).as_deref(), at(system).as_deref()),
        (Some("When is the tide?"), Some("Be brief.")),
        "{went}"
    );
    assert!(went.to_string().contains("0.5"), "{went}");
}

#[test]
fn images_go_along() {
    let body = json!({ "model": "m", "prompt": "What is it?", "images": ["iVBORw0KGgo="] });
    let went = sent(&body, M).unwrap();
    assert_eq!(went["messages"][0]["content"][1]["source"]["media_type"], "image/png", "{went}");
    assert_eq!(sent(&body, L).unwrap(), body, "and pass in its own dialect");
}

#[rstest]
#[case::raw(json!({ "model": "m", "prompt": "Hm", "raw": true }), "raw")]
#[case::template(json!({ "model": "m", "prompt": "Hm", "template": "{{ .Prompt }}" }), "template")]
#[case::context(json!({ "model": "m", "prompt": "Hm", "context": [1, 2] }), "context")]
#[case::suffix(json!({ "model": "m", "prompt": "Hm", "suffix": "x" }), "suffix")]
#[case::loading(json!({ "model": "m" }), "prompt")]
fn what_only_a_local_server_does_with_a_prompt_goes_to_no_other(#[case] body: Value, #[case] member: &str) {
    for to in [C, R, M, G] {
        let refused = sent(&body, to).unwrap_err();
        assert!(refused.contains(&format!("`{member}`")), "{to}: {refused}");
    }
    assert_eq!(sent(&body, L).unwrap(), body);
}

#[test]
fn the_answer_comes_back_in_the_form_of_a_prompt() {
    let head = AnswerHead { functions: FunctionForm::Prompt, ..head() };
    let reply = json!({ "choices": [{ "index": 0, "message": { "role": "assistant", "content": "At four." }, "finish_reason": "stop" }], "usage": { "prompt_tokens": 3, "completion_tokens": 2 } });
    let events = dialects::of(C).read_whole(reply.to_string().as_bytes()).unwrap();
    let (mut writer, mut out) = (dialects::of(L).writer(head.clone()), Vec::new());
    events.iter().for_each(|event| writer.write(event, &mut out).unwrap());
    writer.end(None, &mut out);
    let lines: Vec<Value> =
        String::from_utf8(out).unwrap().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((&lines[0]["response"], lines[0].get("message")), (&json!("At four."), None));
    assert_eq!((&lines.last().unwrap()["done"], &lines.last().unwrap()["response"]), (&json!(true), &json!("")));
    let answer = wendor_wire::conversation::answer::Answer::of(events);
    let whole: Value = serde_json::from_str(&dialects::of(L).write_whole(&answer, &head).unwrap()).unwrap();
    assert_eq!((&whole["response"], &whole["eval_count"]), (&json!("At four."), &json!(2)));
}

#[rstest]
#[case::not_asked(r#""stream":true"#, UsageFrame::NotAsked)]
#[case::asked(r#""stream":true,"stream_options":{"include_usage":true}"#, UsageFrame::Asked)]
fn streamed_completions_are_asked_what_they_used(#[case] members: &str, #[case] usage: UsageFrame) {
    let body = Bytes::from(format!(r#"{{{members},"model":"m","prompt":"Hm","n":2,"echo":true,"suffix":"x"}}"#));
    let endpoint = resolve("POST", "/v1/completions", Hints::default()).unwrap();
    assert_eq!(endpoint.kind, Kind::Passed(Passed::Completions));
    let request = AppRequest::read(endpoint, &body).unwrap();
    assert_eq!((request.delivery, request.choices), (Delivery::Streamed(usage), 2));
    let went: Value =
        serde_json::from_slice(&request.for_same_dialect(&body, "own", Rewriting::default()).concat()).unwrap();
    assert_eq!(
        (&went["stream_options"]["include_usage"], &went["model"], &went["echo"]),
        (&json!(true), &json!("own"), &json!(true))
    );
    assert_eq!(request.changes("own").len(), if usage == UsageFrame::Asked { 1 } else { 2 });
}
