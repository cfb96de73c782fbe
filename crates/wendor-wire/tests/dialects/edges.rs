//! What lies between the vectors: a body as it goes up, from every dialect to every other, and what an app is told of it.

use std::sync::Arc;

use bytes::Bytes;
use rstest::rstest;
use serde_json::{Value, json};
use wendor_core::catalog::upstream::Offer;
use wendor_core::serving::fit::{Content, fit};
use wendor_core::serving::sending::prepare;
use wendor_wire::ability::{Ability, ControlPolicy, Controls, Mark};
use wendor_wire::asked::AppRequest;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::endpoint::Passed;
use wendor_wire::endpoint::{Endpoint, InPath, Kind};
use wendor_wire::seal::{Seal, SealDomain};
use wendor_wire::verdict::Target;

pub fn target(dialect: Dialect) -> Target<'static> {
    let (marks, controls) = (&[][..], Controls::default());
    Target { dialect, model: "m", marks, controls, seals: SealDomain::named("farlight"), output_cap: None }
}

pub fn chat(dialect: Dialect) -> Endpoint {
    Endpoint {
        dialect,
        kind: Kind::Chat(InPath { model: Some("m".to_owned()), is_streamed: false, ..InPath::default() }),
    }
}

/// What goes up, and the members whose change is on the record; or why it cannot.
pub fn sent_from(endpoint: Endpoint, body: &str, target: &Target<'_>) -> Result<(Value, Vec<String>), String> {
    let body = Bytes::copy_from_slice(body.as_bytes());
    let is_chat = matches!(endpoint.kind, Kind::Chat(_));
    let is_other = endpoint.dialect != target.dialect;
    let request = AppRequest::read(endpoint, &body).map_err(|bad| bad.to_string())?;
    let content = if is_chat && (is_other || request.has_to_be_understood(&body)) {
        Content::Conversation(Box::new(request.understood(&body).map_err(|bad| bad.to_string())?))
    } else {
        Content::NotLookedAt
    };
    let offer = Offer::default();
    fit(&request, &content, &offer, target, false).map_err(|unfit| unfit.reason)?;
    let sending = prepare(&request, &Arc::new(content), &body, None, &offer, target);
    let text = sending.pieces.concat();
    let value =
        serde_json::from_slice(&text).unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&text)));
    Ok((value, sending.changes.iter().map(|change| change.member().to_owned()).collect()))
}

fn sent(from: Dialect, body: &str, to: Dialect) -> Value {
    sent_from(chat(from), body, &target(to)).unwrap_or_else(|why| panic!("{why}: {body}")).0
}

/// A body of the dialect with these members beside what must be there.
pub fn body(dialect: Dialect, members: &str) -> String {
    let base = match dialect {
        C | L => r#""model":"m","messages":[{"role":"user","content":"Hm"}]"#,
        R => r#""model":"m","input":"Hm""#,
        M => r#""model":"m","max_tokens":9,"messages":[{"role":"user","content":"Hm"}]"#,
        G => r#""contents":[{"role":"user","parts":[{"text":"Hm"}]}]"#,
    };
    if members.is_empty() { format!("{{{base}}}") } else { format!("{{{members},{base}}}") }
}

#[rstest]
#[case::two_options_at_the_front(L, r#""options":{"num_ctx":5,"num_gpu":1}"#, json!({ "options": {} }))]
#[case::options_around_one_that_stays(L, r#""options":{"num_ctx":5,"seed":1,"num_gpu":1}"#, json!({ "options": { "seed": 1 } }))]
#[case::at_the_front_of_the_body(C, r#""store":true,"service_tier":"flex""#, json!({}))]
#[case::escaped(C, r#""stor\u0065":true,"s\u0065rvice_tier":"flex""#, json!({}))]
#[case::snake_case(G, r#""service_tier":"flex","store":true"#, json!({}))]
#[case::keep_alive_among_others(L, r#""keep_alive":-1,"think":false"#, json!({ "think": false }))]
fn what_an_offer_does_not_pass_on_is_cut_out(#[case] dialect: Dialect, #[case] members: &str, #[case] left: Value) {
    let went = sent(dialect, &body(dialect, members), dialect);
    let mut expected: Value = serde_json::from_str(&body(dialect, "")).unwrap();
    expected.as_object_mut().unwrap().extend(left.as_object().unwrap().clone());
    assert_eq!(went, expected);
}

/// A local server asked with one prompt.
pub fn generate() -> Kind {
    Kind::Chat(InPath { is_prompt: true, ..InPath::default() })
}

#[rstest]
#[case::generate(generate(), L, r#"{"model":"m","prompt":"Hm","keep_alive":-1,"options":{"num_ctx":9,"num_gpu":1}}"#, json!({ "model": "m", "prompt": "Hm", "options": {} }))]
#[case::completions(Kind::Passed(Passed::Completions), C, r#"{"service_tier":"flex","stor\u0065":true,"model":"m","prompt":"Hm"}"#, json!({ "model": "m", "prompt": "Hm" }))]
fn bodies_that_pass_are_held_to_the_same_rules(
    #[case] kind: Kind,
    #[case] dialect: Dialect,
    #[case] body: &str,
    #[case] left: Value,
) {
    let endpoint = Endpoint { dialect, kind };
    let (went, changes) = sent_from(endpoint.clone(), body, &target(dialect)).unwrap();
    assert_eq!(went, left);
    assert!(changes.len() >= 2, "{changes:?}");
    let refuse = Some(ControlPolicy::Refuse);
    let controls = Controls { stay_loaded: refuse, service_tier: refuse, ..Controls::default() };
    assert!(sent_from(endpoint, body, &Target { controls, ..target(dialect) }).is_err());
}

#[rstest]
#[case::state(R, "/v1/responses/input_tokens", r#"{"model":"m","input":"Hm","previous_response_id":"r1"}"#)]
#[case::container(M, "/v1/messages/count_tokens", r#"{"model":"m","messages":[],"container":"c1"}"#)]
fn counting_uses_no_state_of_a_shared_credential(#[case] dialect: Dialect, #[case] _path: &str, #[case] body: &str) {
    let endpoint = Endpoint { dialect, kind: Kind::Count(InPath::default()) };
    let refused = sent_from(endpoint, body, &target(dialect)).unwrap_err();
    assert!(refused.contains("teams share"), "{refused}");
}

#[test]
fn counting_takes_the_marks_off_seals() {
    let marked = SealDomain::named("farlight").mark(&Seal::Signature("c2VhbA==".to_owned()));
    let thinking = json!({ "type": "thinking", "thinking": "Hm", "signature": marked });
    let body = json!({ "model": "m", "messages": [{ "role": "assistant", "content": [thinking] }] }).to_string();
    let endpoint = Endpoint { dialect: M, kind: Kind::Count(InPath::default()) };
    for body in [body.clone(), body.replace("d2Vu", "d2\\u0056u")] {
        let (went, _) = sent_from(endpoint.clone(), &body, &target(M)).unwrap();
        assert_eq!(went["messages"][0]["content"][0]["signature"], "c2VhbA==");
    }
}

#[rstest]
#[case::tool_server(r#"{"type":"mcp","server_label":"x","server_url":"http://x"}"#)]
#[case::escaped_kind(r#"{"typ\u0065":"m\u0063p","server_label":"x"}"#)]
#[case::search(r#"{"type":"web_search"}"#)]
fn tools_of_a_service_are_told_by_their_kind(#[case] tool: &str) {
    let refused = sent_from(chat(C), &body(C, &format!(r#""tools":[{tool}]"#)), &target(C)).unwrap_err();
    assert!(refused.contains("tools[0]"), "{refused}");
}

#[rstest]
#[case::outermost(C, r#""store":false,"store":true"#, "store")]
#[case::escaped(R, r#""stor\u0065":false,"store":true"#, "store")]
#[case::nested(L, r#""options":{"num_ctx":1,"num_ctx":2}"#, "options.num_ctx")]
fn a_member_twice_is_refused(#[case] dialect: Dialect, #[case] members: &str, #[case] named: &str) {
    let refused = sent_from(chat(dialect), &body(dialect, members), &target(dialect)).unwrap_err();
    assert!(refused.contains(&format!("`{named}`")), "{refused}");
}

#[rstest]
#[case::said_nothing("", json!(false))]
#[case::said_true(r#""store":true"#, json!(false))]
#[case::said_false(r#""store":false"#, json!(false))]
fn responses_are_not_kept(#[case] members: &str, #[case] store: Value) {
    assert_eq!(sent(R, &body(R, members), R)["store"], store);
    let controls = Controls { store: Some(ControlPolicy::Pass), ..Controls::default() };
    let (went, _) = sent_from(chat(R), &body(R, r#""store":true"#), &Target { controls, ..target(R) }).unwrap();
    assert_eq!(went["store"], true, "where the offer lets apps set it");
}

fn history_of_chat(results: &[(&str, Value)]) -> String {
    let calls: Vec<Value> = results
        .iter()
        .map(|(id, _)| json!({ "id": id, "type": "function", "function": { "name": format!("f_{id}"), "arguments": "{}" } }))
        .collect();
    let mut messages = vec![
        json!({ "role": "user", "content": "Hm" }),
        json!({ "role": "assistant", "content": null, "tool_calls": calls }),
    ];
    messages
        .extend(results.iter().map(|(id, content)| json!({ "role": "tool", "tool_call_id": id, "content": content })));
    json!({ "model": "m", "messages": messages }).to_string()
}

#[test]
fn documents_of_a_tool_are_moved_behind_its_result() {
    let document = json!({ "type": "document", "title": "Tides", "source": { "type": "text", "media_type": "text/plain", "data": "High at 4" } });
    let body = json!({ "model": "m", "max_tokens": 9, "messages": [
        { "role": "user", "content": "Hm" },
        { "role": "assistant", "content": [{ "type": "tool_use", "id": "a", "name": "tides", "input": {} }] },
        { "role": "user", "content": [{ "type": "tool_result", "tool_use_id": "a", "content": [{ "type": "text", "text": "see" }, document] }] },
    ]});
    let (went, changes) = sent_from(chat(M), &body.to_string(), &target(C)).unwrap();
    assert_eq!(went["messages"][2], json!({ "role": "tool", "tool_call_id": "a", "content": "see" }));
    assert_eq!(went["messages"][3]["content"][0]["file"]["filename"], "Tides");
    assert!(changes.iter().any(|member| member.starts_with("messages[2].content[0].content[1]")), "{changes:?}");
}

#[test]
fn parallel_results_stand_together() {
    let image = "data:image/png;base64,iVBORw0KGgo=";
    let output = |id: &str| json!({ "type": "function_call_output", "call_id": id, "output": [{ "type": "input_image", "image_url": image }] });
    let call = |id: &str| json!({ "type": "function_call", "call_id": id, "name": "chart", "arguments": "{}" });
    let body = json!({ "model": "m", "input": [{ "role": "user", "content": "Hm" }, call("a"), call("b"), output("a"), output("b")] });
    let went = sent(R, &body.to_string(), C);
    let roles: Vec<&str> =
        went["messages"].as_array().unwrap().iter().map(|message| message["role"].as_str().unwrap()).collect();
    assert_eq!(roles, ["user", "assistant", "tool", "tool", "user", "user"]);
}

#[test]
fn an_image_of_a_failed_tool_is_kept() {
    let source = json!({ "type": "base64", "media_type": "image/png", "data": "iVBORw0KGgo=" });
    let body = json!({ "model": "m", "max_tokens": 9, "messages": [
        { "role": "user", "content": "Hm" },
        { "role": "assistant", "content": [{ "type": "tool_use", "id": "a", "name": "chart", "input": {} }] },
        { "role": "user", "content": [{ "type": "tool_result", "tool_use_id": "a", "is_error": true, "content": [{ "type": "image", "source": source }] }] },
    ]});
    let went = sent(M, &body.to_string(), R);
    let output = &went["input"][2]["output"];
    assert_eq!((&output[0]["text"], &output[1]["type"]), (&json!("Error:"), &json!("input_image")), "{went}");
}

#[rstest]
#[case::both(json!({ "result": 4, "error": "late" }), r#"Error: {"result":4,"error":"late"}"#)]
#[case::result(json!({ "result": "berth 2" }), "berth 2")]
#[case::error(json!({ "error": "late" }), "Error: late")]
#[case::other(json!({ "berth": 2 }), r#"{"berth":2}"#)]
fn a_result_beside_an_error_keeps_both(#[case] response: Value, #[case] content: &str) {
    let body = json!({ "contents": [
        { "role": "user", "parts": [{ "text": "Hm" }] },
        { "role": "model", "parts": [{ "functionCall": { "name": "berth", "args": {} } }] },
        { "role": "user", "parts": [{ "functionResponse": { "name": "berth", "response": response } }] },
    ]});
    let went = sent(G, &body.to_string(), C);
    let system_text = went["messages"][2]["content"].as_str().unwrap().to_owned();
    let bare = |text: &str| text.strip_prefix("Error: ").map(|rest| ("Error: ".to_owned(), rest.to_owned()));
    match (bare(&system_text), bare(content)) {
        (Some((_, system_text)), Some((_, content))) if system_text.starts_with('{') => {
            let value = |text: &str| serde_json::from_str::<Value>(text).unwrap();
            assert_eq!(value(&system_text), value(&content));
        }
        _ => assert_eq!(system_text, content),
    }
}

#[test]
fn the_result_of_a_free_text_tool_stays_one() {
    let body = json!({ "model": "m", "messages": [
        { "role": "user", "content": "Hm" },
        { "role": "assistant", "content": null, "tool_calls": [{ "id": "a", "type": "custom", "custom": { "name": "log", "input": "x" } }] },
        { "role": "tool", "tool_call_id": "a", "content": "ok" },
    ]});
    assert_eq!(sent(C, &body.to_string(), R)["input"][2]["type"], "custom_tool_call_output");
}

#[rstest]
#[case::content(G)]
#[case::local(L)]
fn an_id_used_again_names_the_later_call(#[case] to: Dialect) {
    let call = |name: &str| json!({ "role": "assistant", "content": null, "tool_calls": [{ "id": "a", "type": "function", "function": { "name": name, "arguments": "{}" } }] });
    let result = json!({ "role": "tool", "tool_call_id": "a", "content": "ok" });
    let user = json!({ "role": "user", "content": "Hm" });
    let body = json!({ "model": "m", "messages": [user, call("tides"), result, user, call("berths"), result] });
    let went = sent(C, &body.to_string(), to).to_string();
    let names = |word: &str| went.matches(word).count();
    assert_eq!((names("tides"), names("berths")), (2, 2), "{went}");
}

#[rstest]
#[case::chat(C, r#"{"type":"custom","custom":{"name":"log"}}"#, r#"{"type":"custom","custom":{"name":"log"}}"#)]
#[case::responses(R, r#"{"type":"custom","name":"log"}"#, r#"{"type":"custom","name":"log"}"#)]
fn a_subset_may_name_free_text_tools(#[case] from: Dialect, #[case] tool: &str, #[case] allowed: &str) {
    let wrap = |inner: &str| match from {
        C => format!(r#"{{"type":"allowed_tools","allowed_tools":{{"mode":"auto","tools":[{inner}]}}}}"#),
        R | M | G | L => format!(r#"{{"type":"allowed_tools","mode":"auto","tools":[{inner}]}}"#),
    };
    let members = format!(r#""tools":[{tool}],"tool_choice":{}"#, wrap(allowed));
    let to = if from == C { R } else { C };
    let went = sent(from, &body(from, &members), to);
    let listed =
        if to == C { &went["tool_choice"]["allowed_tools"]["tools"][0] } else { &went["tool_choice"]["tools"][0] };
    assert_eq!(listed["type"], "custom", "{went}");
}

/// The seal of a service whose thinking an app of another dialect sends back.
fn sealed_body(from: Dialect, seal: &str) -> String {
    let call = json!({ "type": "function_call", "call_id": "a", "name": "tides", "arguments": "{}" });
    let user = json!({ "role": "user", "content": "Hm" });
    match from {
        R => json!({ "model": "m", "input": [user, { "type": "reasoning", "id": "r", "summary": [], "encrypted_content": seal }, call, { "type": "function_call_output", "call_id": "a", "output": "ok" }] }),
        G => json!({ "contents": [
            { "role": "user", "parts": [{ "text": "Hm" }] },
            { "role": "model", "parts": [{ "text": "", "thought": true, "thoughtSignature": seal }, { "functionCall": { "name": "tides", "args": {} } }] },
            { "role": "user", "parts": [{ "functionResponse": { "name": "tides", "response": {} } }] },
        ]}),
        C | M | L => json!({}),
    }
    .to_string()
}

#[rstest]
#[case::redacted_of_responses(R, Seal::Redacted("c2VhbA==".to_owned()), "redacted_thinking")]
#[case::signature_of_responses(R, Seal::Signature("c2VhbA==".to_owned()), "thinking")]
#[case::redacted_of_content(G, Seal::Redacted("c2VhbA==".to_owned()), "redacted_thinking")]
#[case::signature_of_content(G, Seal::Signature("c2VhbA==".to_owned()), "thinking")]
fn sealed_thinking_comes_back_as_the_kind_that_it_was(#[case] from: Dialect, #[case] seal: Seal, #[case] kind: &str) {
    let marked = SealDomain::named("farlight").mark(&seal);
    let went = sent(from, &sealed_body(from, &marked), M);
    assert_eq!(went["messages"][1]["content"][0]["type"], kind, "{went}");
}

#[test]
fn thinking_and_its_seal_come_back_as_one() {
    let marked = SealDomain::named("farlight").mark(&Seal::Signature("c2VhbA==".to_owned()));
    let parts = json!([{ "text": "High ", "thought": true }, { "text": "tide.", "thought": true }, { "text": "", "thought": true, "thoughtSignature": marked }, { "text": "At 4." }]);
    let body = json!({ "contents": [{ "role": "user", "parts": [{ "text": "Hm" }] }, { "role": "model", "parts": parts }, { "role": "user", "parts": [{ "text": "And?" }] }] });
    let went = sent(G, &body.to_string(), M);
    assert_eq!(
        went["messages"][1]["content"],
        json!([{ "type": "thinking", "thinking": "High tide.", "signature": "c2VhbA==" }, { "type": "text", "text": "At 4." }])
    );
}

#[rstest]
#[case::messages(M, "thinking", json!({ "type": "disabled" }))]
#[case::content(G, "generationConfig", json!({ "thinkingConfig": { "thinkingBudget": 0 } }))]
fn thinking_is_off_in_a_loop_whose_call_has_no_seal(#[case] to: Dialect, #[case] member: &str, #[case] off: Value) {
    let effort = r#""reasoning_effort":"high""#;
    let open = history_of_chat(&[("a", json!("ok"))]).replacen('{', &format!("{{{effort},"), 1);
    let (went, changes) = sent_from(chat(C), &open, &target(to)).unwrap();
    assert_eq!(went[member], off, "{went}");
    assert!(changes.contains(&"reasoning_effort".to_owned()), "{changes:?}");
    let (went, _) = sent_from(chat(C), &body(C, effort), &target(to)).unwrap();
    assert_ne!(went[member], off, "without a loop it stays on");
}

#[test]
fn an_app_that_sends_seals_back_gets_them() {
    let thinking = r#""thinking":{"type":"enabled","budget_tokens":2048}"#;
    let went = sent(M, &body(M, thinking).replace(r#""max_tokens":9"#, r#""max_tokens":9000"#), R);
    assert_eq!(went["include"], json!(["reasoning.encrypted_content"]));
    assert!(sent(M, &body(M, ""), R).get("include").is_none());
}

#[rstest]
#[case::only_whole(r#""stream":true,"stream_options":{"include_usage":true}"#, Ability::Whole, json!(false), Value::Null)]
#[case::only_streams(r#""stream":false"#, Ability::Streaming, json!(true), json!({ "include_usage": true }))]
fn unknown_members_survive_where_the_offer_has_only_the_other_delivery(
    #[case] members: &str,
    #[case] only: Ability,
    #[case] stream: Value,
    #[case] options: Value,
) {
    let body = Bytes::from(body(C, &format!(r#""x_unknown":{{"a":1.50}},{members}"#)));
    let request = AppRequest::read(chat(C), &body).unwrap();
    let content = Content::Conversation(Box::new(request.understood(&body).unwrap()));
    let offer = Offer { abilities: Some(vec![Ability::Chat, only]), ..Offer::default() };
    let sending = prepare(&request, &Arc::new(content), &body, None, &offer, &target(C));
    let went: Value = serde_json::from_slice(&sending.pieces.concat()).unwrap();
    assert_eq!((&went["x_unknown"], &went["stream"]), (&json!({ "a": 1.5 }), &stream));
    assert_eq!(went["stream_options"], options);
}

#[test]
fn what_a_rewrite_drops_is_told_in_the_same_dialect_too() {
    let foreign = SealDomain::named("quarry").mark(&Seal::Signature("c2VhbA==".to_owned()));
    let body = json!({ "model": "m", "max_tokens": 9, "x_unknown": 1, "tools": [{ "name": "a", "input_schema": {}, "y_unknown": 1 }], "messages": [
        { "role": "user", "content": "Hm" },
        { "role": "assistant", "content": [{ "type": "thinking", "thinking": "x", "signature": foreign }, { "type": "text", "text": "y" }] },
        { "role": "user", "content": "And?" },
    ]});
    let (went, changes) = sent_from(chat(M), &body.to_string(), &target(M)).unwrap();
    assert!(!went.to_string().contains("_unknown"), "{went}");
    assert!(
        changes.contains(&"x_unknown".to_owned()) && changes.contains(&"tools[0].y_unknown".to_owned()),
        "{changes:?}"
    );
}

#[test]
fn the_mark_for_the_old_limit_works_in_the_same_dialect() {
    let marked = Target { marks: &[Mark::OldLimit], ..target(C) };
    let (went, _) = sent_from(chat(C), &body(C, r#""max_completion_tokens":7"#), &marked).unwrap();
    assert_eq!((&went["max_tokens"], went.get("max_completion_tokens")), (&json!(7), None));
}

#[rstest]
#[case::messages(M, "messages")]
#[case::content(G, "contents")]
fn no_empty_turn_leaves(#[case] to: Dialect, #[case] turns: &str) {
    let foreign = SealDomain::named("quarry").mark(&Seal::Signature("c2VhbA==".to_owned()));
    let body = json!({ "model": "m", "input": [
        { "role": "user", "content": "Hm" },
        { "type": "reasoning", "summary": [], "encrypted_content": foreign },
        { "role": "user", "content": "" },
        { "role": "user", "content": "And?" },
    ]});
    let went = sent(R, &body.to_string(), to);
    assert_eq!(went[turns].as_array().unwrap().len(), 1, "{went}");
}

#[test]
fn json_mode_always_instructs() {
    let system = r#""messages":[{"role":"system","content":[{"type":"text","text":"Be brief."},{"type":"text","text":"Be kind."}]},{"role":"user","content":"Hm"}]"#;
    let body = format!(r#"{{"model":"m","response_format":{{"type":"json_object"}},{system}}}"#);
    let went = sent(C, &body, M);
    assert!(went["system"][2]["text"].as_str().unwrap().contains("JSON"), "{went}");
}

/// What an answer must look like, where services hold the model to it: no further members, and held only where all are required.
#[rstest]
#[case::to_messages(G, M, r#""generationConfig":{"responseSchema":{"type":"OBJECT","properties":{"a":{"type":"STRING"}}}}"#, "/output_config/format", json!({ "type": "json_schema", "schema": { "type": "object", "properties": { "a": { "type": "string" } }, "additionalProperties": false } }))]
#[case::all_required(G, C, r#""generationConfig":{"responseSchema":{"type":"OBJECT","properties":{"a":{"type":"STRING"}},"required":["a"]}}"#, "/response_format/json_schema", json!({ "name": "response", "strict": true, "schema": { "type": "object", "properties": { "a": { "type": "string" } }, "required": ["a"], "additionalProperties": false } }))]
#[case::one_is_left_to_choice(G, R, r#""generationConfig":{"responseSchema":{"type":"OBJECT","properties":{"a":{"type":"STRING"}}}}"#, "/text/format", json!({ "type": "json_schema", "name": "response", "schema": { "type": "object", "properties": { "a": { "type": "string" } } } }))]
#[case::capitals(C, G, r#""response_format":{"type":"json_schema","json_schema":{"name":"s","schema":{"type":"OBJECT","properties":{"a":{"type":["STRING","NULL"]}}}}}"#, "/generationConfig/responseJsonSchema", json!({ "type": "object", "properties": { "a": { "type": ["string", "null"] } } }))]
fn schemas_are_as_services_want_them(
    #[case] from: Dialect,
    #[case] to: Dialect,
    #[case] members: &str,
    #[case] place: &str,
    #[case] expected: Value,
) {
    let members =
        members.replace(r#""generationConfig":{"#, r#""generationConfig":{"responseMimeType":"application/json","#);
    let went = sent(from, &body(from, &members), to);
    assert_eq!(went.pointer(place), Some(&expected), "{went}");
}

#[rstest]
#[case::named_otherwise(C, "audio/x-wav", Some("wav"))]
#[case::mpeg(R, "audio/mpeg", Some("mp3"))]
#[case::neither(C, "audio/ogg", None)]
fn sound_goes_by_the_names_that_services_know(#[case] to: Dialect, #[case] kind: &str, #[case] format: Option<&str>) {
    let media = format!(r#"{{"inlineData":{{"mimeType":"{kind}","data":"AAAA"}}}}"#);
    let body = format!(r#"{{"contents":[{{"role":"user","parts":[{media}]}}]}}"#);
    match (sent_from(chat(G), &body, &target(to)), format) {
        (Ok((went, _)), Some(format)) => {
            assert!(went.to_string().contains(&format!(r#""format":"{format}""#)), "{went}")
        }
        (Err(why), None) => assert!(why.contains("wav or mp3"), "{why}"),
        (found, _) => panic!("{found:?}"),
    }
}
