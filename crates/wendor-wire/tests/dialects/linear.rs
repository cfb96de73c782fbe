//! Translation is linear in what comes in: bodies and streams that are mean-minded in one way each, once and twice as long, through every
//! pair of dialects; counted in steps, not in time.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_wire::ability::Mark;
use wendor_wire::codec::Outside;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::passage::{Passage, Step};
use wendor_wire::steps::so_far;
use wendor_wire::verdict::{Target, judge};

use crate::edges::{chat, sent_from, target};
use crate::vectors::head;

/// Of each kind in the shorter one.
const MANY: usize = 300;

/// Twice as much may take so many times the steps: the rest is what every request takes, and digits that grow.
const MOST: f64 = 2.3;

fn listed(count: usize, one: impl Fn(usize) -> Value) -> Value {
    (0..count).map(one).collect()
}

fn with(members: Value) -> String {
    let mut body = json!({ "model": "m", "messages": [{ "role": "user", "content": "Hm" }] });
    body.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
    body.to_string()
}

fn unknown_members(count: usize) -> String {
    let members: serde_json::Map<String, Value> = (0..count).map(|at| (format!("x{at}"), json!(at))).collect();
    with(Value::Object(members))
}

fn parts(count: usize) -> String {
    with(
        json!({ "messages": [{ "role": "user", "content": listed(count, |at| json!({ "type": "text", "text": format!("a\"{at}") })) }] }),
    )
}

fn calls(count: usize) -> String {
    let call = |at: usize| json!({ "id": format!("c{at}"), "type": "function", "function": { "name": "f", "arguments": "{\"a\":1}" } });
    let mut messages = vec![
        json!({ "role": "user", "content": "Hm" }),
        json!({ "role": "assistant", "content": null, "tool_calls": listed(count, call) }),
    ];
    messages.extend(
        (0..count).rev().map(|at| json!({ "role": "tool", "tool_call_id": format!("c{at}"), "content": "ok" })),
    );
    with(json!({ "messages": messages }))
}

fn calls_by_name(count: usize) -> String {
    let call = |at: usize| json!({ "function": { "name": format!("f{}", at % 7), "arguments": {} } });
    let mut messages = vec![
        json!({ "role": "user", "content": "Hm" }),
        json!({ "role": "assistant", "content": "", "tool_calls": listed(count, call) }),
    ];
    messages
        .extend((0..count).map(|at| json!({ "role": "tool", "tool_name": format!("f{}", at % 7), "content": "ok" })));
    with(json!({ "messages": messages }))
}

fn subset_of_tools(count: usize) -> String {
    let tool = |at: usize| json!({ "type": "function", "function": { "name": format!("f{at}") } });
    let allowed = json!({ "mode": "auto", "tools": listed(count, tool) });
    with(json!({ "tools": listed(count, tool), "tool_choice": { "type": "allowed_tools", "allowed_tools": allowed } }))
}

fn turns(count: usize) -> String {
    with(
        json!({ "messages": listed(count, |at| json!({ "role": if at % 2 == 0 { "user" } else { "assistant" }, "content": "Hm" })) }),
    )
}

fn definitions(count: usize) -> String {
    let mut all: serde_json::Map<String, Value> = (0..count)
        .map(|at| (format!("d{at}"), json!({ "type": "array", "items": { "$ref": format!("#/$defs/d{}", at + 1) } })))
        .collect();
    all.insert(format!("d{count}"), json!({ "type": "string" }));
    let schema = json!({ "$ref": "#/$defs/d0", "$defs": all });
    with(json!({ "tools": [{ "type": "function", "function": { "name": "f", "parameters": schema } }] }))
}

#[rstest]
#[case::unknown_members(C, unknown_members)]
#[case::parts(C, parts)]
#[case::calls(C, calls)]
#[case::calls_by_name(L, calls_by_name)]
#[case::subset_of_tools(C, subset_of_tools)]
#[case::turns(C, turns)]
#[case::definitions(C, definitions)]
fn twice_the_body_takes_twice_the_steps(#[case] from: Dialect, #[case] body: fn(usize) -> String) {
    for to in Dialect::ALL {
        let steps = |count: usize| {
            let body = body(count);
            let target = Target { marks: &[Mark::TypedSchemas], ..target(to) };
            let before = so_far();
            let sent = sent_from(chat(from), &body, &target);
            let outside = Outside { model: Some("m"), ..Outside::default() };
            let conversation = dialects::of(from).read_request(&body, outside).unwrap();
            let _verdict = judge(&conversation, &target);
            drop(sent);
            so_far() - before
        };
        let (once, twice) = (steps(MANY), steps(2 * MANY));
        assert!(is_linear(once, twice), "{from} to {to}: {once} steps, then {twice}");
    }
}

#[expect(clippy::cast_precision_loss, reason = "a ratio of counts that are far below the limit")]
fn is_linear(once: u64, twice: u64) -> bool {
    twice as f64 <= once as f64 * MOST
}

fn chunk(calls: &[Value]) -> String {
    format!(
        "data: {}\n\n",
        json!({ "choices": [{ "index": 0, "delta": { "role": "assistant", "tool_calls": calls } }] })
    )
}

fn call(index: usize, arguments: &str) -> Value {
    json!({ "index": index, "id": format!("c{index}"), "function": { "name": "f", "arguments": arguments } })
}

/// All calls in one frame, each told again and again.
fn one_frame(count: usize) -> String {
    let begun: Vec<Value> = (0..count).map(|at| call(at, "{\"a\":")).collect();
    let ended: Vec<Value> = (0..count).map(|at| call(at, "1}")).collect();
    chunk(&begun) + &chunk(&ended) + &finish()
}

/// Calls whose pieces come in between each other.
fn interleaved(count: usize) -> String {
    let frames = |arguments: &'static str| (0..count).map(move |at| chunk(&[call(at, arguments)]));
    frames("{\"a\":").chain(frames("1}")).collect::<String>() + &finish()
}

fn finish() -> String {
    let last = json!({ "choices": [{ "index": 0, "delta": {}, "finish_reason": "tool_calls" }] });
    format!("data: {last}\n\ndata: [DONE]\n\n")
}

#[rstest]
#[case::one_frame(one_frame)]
#[case::interleaved(interleaved)]
fn twice_the_stream_takes_twice_the_steps(#[case] stream: fn(usize) -> String, #[values(C, R, M, G, L)] to: Dialect) {
    let steps = |count: usize| {
        let stream = stream(count);
        let before = so_far();
        let mut passage = Passage::new(C, to, head());
        passage.push(stream.as_bytes()).unwrap();
        loop {
            match passage.step() {
                Step::Send(_) => {}
                Step::End(_) => return so_far() - before,
                other @ (Step::More | Step::Broken(..)) => panic!("{other:?}"),
            }
        }
    };
    let (once, twice) = (steps(MANY), steps(2 * MANY));
    assert!(is_linear(once, twice), "to {to}: {once} steps, then {twice}");
}
