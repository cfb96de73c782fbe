//! A reply as a stream of each dialect, in one of the forms in which servers send it.

use serde_json::{Value, json};
use wendor_wire::dialect::Dialect;

use super::answered::{Answered, Ended};
use super::dice::Dice;
use super::text::written;

/// `answered` as the frames of a stream of `dialect`.
pub fn frames(answered: &Answered, dialect: Dialect, dice: &mut Dice) -> Vec<String> {
    match dialect {
        Dialect::ChatCompletions => framed(chat_completions(answered, dice), Named::No, dice).chain_end("data: [DONE]"),
        Dialect::Responses => framed(responses(answered, dice), Named::OrNot, dice).frames,
        Dialect::Messages => framed(messages(answered, dice), Named::Yes, dice).frames,
        Dialect::GenerateContent => framed(generate_content(answered, dice), Named::No, dice).frames,
        Dialect::LocalChat => {
            let end = *dice.one_of(&["\n", "\n", "\r\n"]);
            local_chat(answered, dice).iter().map(|line| written(line, dice, false) + end).collect()
        }
    }
}

/// Whether frames are named in a line of their own.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Named {
    Yes,
    No,
    OrNot,
}

struct Framed {
    frames: Vec<String>,
    end: &'static str,
}

impl Framed {
    fn chain_end(mut self, line: &str) -> Vec<String> {
        self.frames.push(format!("{line}{0}{0}", self.end));
        self.frames
    }
}

/// Values as frames of an event stream, with what such streams may hold beside them.
fn framed(values: Vec<Value>, named: Named, dice: &mut Dice) -> Framed {
    let end = *dice.one_of(&["\n", "\n", "\r\n", "\r"]);
    let has_name = named == Named::Yes || (named == Named::OrNot && dice.coin());
    let (has_space, has_comments) = (dice.in_hundred(80), dice.in_hundred(20));
    let mut frames = Vec::new();
    for value in values {
        if has_comments && dice.coin() {
            frames.push(format!(": on its way{end}{end}"));
        }
        let mut frame = String::new();
        if has_name {
            frame.push_str(&format!("event: {}{end}", value["type"].as_str().unwrap_or_default()));
        }
        // A value over several lines is one text with the ends of lines in it.
        for line in written(&value, dice, true).split('\n') {
            frame.push_str(&format!("data:{}{line}{end}", if has_space { " " } else { "" }));
        }
        frames.push(frame + end);
    }
    Framed { frames, end }
}

/// `text` in pieces, each as `delta` makes it.
fn in_pieces(text: Option<&String>, dice: &mut Dice, delta: impl Fn(String) -> Value) -> Vec<Value> {
    text.map(|text| dice.pieces(text)).unwrap_or_default().into_iter().map(delta).collect()
}

fn chat_completions(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let deltas = chat_deltas(answered, dice);
    let stop = answered.stop("stop", "length", "tool_calls");
    let (input, output) = answered.usage;
    let usage = json!({ "prompt_tokens": input, "completion_tokens": output, "total_tokens": input + output });
    let is_with_last = dice.coin() && !deltas.is_empty();
    let unfinished = dice.one_of(&[Value::Null, json!("")]).clone();
    let chunk = |choices: Value| json!({ "id": "c1", "object": "chat.completion.chunk", "created": 1_790_000_000, "model": "m", "choices": choices });
    let last = deltas.len().saturating_sub(1);
    let mut values: Vec<Value> = Vec::new();
    for (number, delta) in deltas.into_iter().enumerate() {
        let finish = if is_with_last && number == last { json!(stop) } else { unfinished.clone() };
        values.push(chunk(json!([{ "index": 0, "delta": delta, "finish_reason": finish }])));
    }
    if !is_with_last {
        values.push(chunk(json!([{ "index": 0, "delta": {}, "finish_reason": stop }])));
    }
    if dice.coin() {
        values.push(chunk(json!([])));
    }
    if let Some(last) = values.last_mut() {
        last["usage"] = usage;
    }
    values
}

fn chat_deltas(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let mut deltas: Vec<Value> = Vec::new();
    if dice.in_hundred(80) {
        let content = *dice.one_of(&[Some(""), None]);
        deltas.push(json!({ "role": "assistant", "content": content }));
    }
    let thinking = *dice.one_of(&["reasoning_content", "reasoning"]);
    deltas.extend(in_pieces(answered.thinking.as_ref(), dice, |piece| json!({ thinking: piece })));
    deltas.extend(in_pieces(answered.text.as_ref(), dice, |piece| json!({ "content": piece })));
    let repeats_name = dice.in_hundred(30);
    for (index, (name, arguments)) in answered.calls.iter().enumerate() {
        let arguments = written(arguments, dice, true);
        let (first, rest) = if dice.coin() { (String::new(), arguments) } else { (arguments, String::new()) };
        let id = format!("call_{index}");
        deltas.push(json!({ "tool_calls": [{ "index": index, "id": id, "type": "function", "function": { "name": name, "arguments": first } }] }));
        for piece in dice.pieces(&rest) {
            let mut call = json!({ "index": index, "function": { "arguments": piece } });
            if repeats_name {
                call["id"] = json!(id);
                call["function"]["name"] = json!(name);
            }
            deltas.push(json!({ "tool_calls": [call] }));
        }
    }
    let (repeats_role, fills) = (dice.coin(), dice.coin());
    for delta in &mut deltas {
        if repeats_role {
            delta["role"] = json!("assistant");
        }
        if fills && delta.get("content").is_none() {
            delta["content"] = Value::Null;
        }
    }
    deltas
}

/// Items of a reply, as they are told one by one.
struct Items {
    values: Vec<Value>,
    output: Vec<Value>,
}

impl Items {
    fn tell(&mut self, kind: &str, members: Value) {
        let mut value = members;
        value["type"] = json!(format!("response.{kind}"));
        value["output_index"] = json!(self.output.len());
        self.values.push(value);
    }

    fn done(&mut self, item: Value) {
        self.tell("output_item.done", json!({ "item": item }));
        self.output.push(item);
    }
}

fn responses(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let head = |status: &str, output: Value| json!({ "id": "resp_1", "object": "response", "created_at": 1_790_000_000, "status": status, "model": "m", "output": output });
    let mut values = vec![json!({ "type": "response.created", "response": head("in_progress", json!([])) })];
    if dice.coin() {
        values.push(json!({ "type": "response.in_progress", "response": head("in_progress", json!([])) }));
    }
    let mut items = Items { values, output: Vec::new() };
    let tells_done = dice.coin();
    if let Some(thinking) = &answered.thinking {
        items.tell("output_item.added", json!({ "item": { "type": "reasoning", "id": "rs_1", "summary": [] } }));
        items.tell(
            "reasoning_summary_part.added",
            json!({ "item_id": "rs_1", "summary_index": 0, "part": { "type": "summary_text", "text": "" } }),
        );
        for piece in dice.pieces(thinking) {
            items
                .tell("reasoning_summary_text.delta", json!({ "item_id": "rs_1", "summary_index": 0, "delta": piece }));
        }
        items.done(
            json!({ "type": "reasoning", "id": "rs_1", "summary": [{ "type": "summary_text", "text": thinking }] }),
        );
    }
    if let Some(text) = &answered.text {
        message_item(text, &mut items, tells_done, dice);
    }
    for (number, (name, arguments)) in answered.calls.iter().enumerate() {
        let id = format!("fc_{number}");
        let arguments = written(arguments, dice, true);
        let item = |arguments: &str| json!({ "type": "function_call", "id": id, "call_id": format!("call_{number}"), "name": name, "arguments": arguments, "status": "completed" });
        items.tell("output_item.added", json!({ "item": item("") }));
        for piece in dice.pieces(&arguments) {
            items.tell("function_call_arguments.delta", json!({ "item_id": id, "delta": piece }));
        }
        if tells_done {
            items.tell("function_call_arguments.done", json!({ "item_id": id, "arguments": arguments }));
        }
        items.done(item(&arguments));
    }
    let Items { mut values, output } = items;
    let status = answered.stop("completed", "incomplete", "completed");
    let mut whole = head(status, json!(output));
    if answered.ended == Ended::AtLimit {
        whole["incomplete_details"] = json!({ "reason": "max_output_tokens" });
    }
    let (input, used) = answered.usage;
    whole["usage"] = json!({ "input_tokens": input, "output_tokens": used, "total_tokens": input + used });
    values.push(json!({ "type": format!("response.{status}"), "response": whole }));
    for (number, value) in values.iter_mut().enumerate() {
        value["sequence_number"] = json!(number);
    }
    values
}

fn message_item(text: &str, items: &mut Items, tells_done: bool, dice: &mut Dice) {
    let part = |text: &str| json!({ "type": "output_text", "text": text, "annotations": [] });
    items.tell("output_item.added", json!({ "item": { "type": "message", "id": "msg_1", "status": "in_progress", "role": "assistant", "content": [] } }));
    items.tell("content_part.added", json!({ "item_id": "msg_1", "content_index": 0, "part": part("") }));
    for piece in dice.pieces(text) {
        items.tell("output_text.delta", json!({ "item_id": "msg_1", "content_index": 0, "delta": piece }));
    }
    if tells_done {
        items.tell("output_text.done", json!({ "item_id": "msg_1", "content_index": 0, "text": text }));
        items.tell("content_part.done", json!({ "item_id": "msg_1", "content_index": 0, "part": part(text) }));
    }
    items.done(json!({ "type": "message", "id": "msg_1", "status": "completed", "role": "assistant", "content": [part(text)] }));
}

fn messages(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let mut blocks: Vec<(Value, Vec<Value>)> = Vec::new();
    if answered.thinking.is_some() {
        let deltas =
            in_pieces(answered.thinking.as_ref(), dice, |piece| json!({ "type": "thinking_delta", "thinking": piece }));
        blocks.push((json!({ "type": "thinking", "thinking": "" }), deltas));
    }
    if answered.text.is_some() {
        let deltas = in_pieces(answered.text.as_ref(), dice, |piece| json!({ "type": "text_delta", "text": piece }));
        blocks.push((json!({ "type": "text", "text": "" }), deltas));
    }
    for (number, (name, arguments)) in answered.calls.iter().enumerate() {
        // Of a call without arguments nothing may come at all.
        let is_silent = *arguments == json!({}) && dice.coin();
        let text = (!is_silent).then(|| written(arguments, dice, true));
        let deltas =
            in_pieces(text.as_ref(), dice, |piece| json!({ "type": "input_json_delta", "partial_json": piece }));
        blocks.push((json!({ "type": "tool_use", "id": format!("tool_{number}"), "name": name, "input": {} }), deltas));
    }
    let (input, output) = answered.usage;
    let told_at_start = dice.coin();
    let start = json!({ "input_tokens": if told_at_start { input } else { 0 }, "output_tokens": 1 });
    let mut values = vec![
        json!({ "type": "message_start", "message": { "id": "msg_1", "type": "message", "role": "assistant", "model": "m", "content": [], "stop_reason": null, "stop_sequence": null, "usage": start } }),
    ];
    for (at, (begun, deltas)) in blocks.into_iter().enumerate() {
        values.push(json!({ "type": "content_block_start", "index": at, "content_block": begun }));
        values.extend(dice.in_hundred(20).then(|| json!({ "type": "ping" })));
        values.extend(
            deltas.into_iter().map(|delta| json!({ "type": "content_block_delta", "index": at, "delta": delta })),
        );
        values.push(json!({ "type": "content_block_stop", "index": at }));
    }
    let mut usage = json!({ "output_tokens": output });
    if !told_at_start {
        usage["input_tokens"] = json!(input);
    }
    let stop = answered.stop("end_turn", "max_tokens", "tool_use");
    values.push(
        json!({ "type": "message_delta", "delta": { "stop_reason": stop, "stop_sequence": null }, "usage": usage }),
    );
    values.push(json!({ "type": "message_stop" }));
    values
}

fn generate_content(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let (input, output) = answered.usage;
    let mut parts = in_pieces(answered.thinking.as_ref(), dice, |piece| json!({ "text": piece, "thought": true }));
    parts.extend(in_pieces(answered.text.as_ref(), dice, |piece| json!({ "text": piece })));
    parts.extend(
        answered.calls.iter().map(|(name, arguments)| json!({ "functionCall": { "name": name, "args": arguments } })),
    );
    let usage = |output: usize| json!({ "promptTokenCount": input, "candidatesTokenCount": output, "totalTokenCount": input + output });
    let (tells_midway, apart) = (dice.coin(), dice.coin());
    let mut values: Vec<Value> = Vec::new();
    while !parts.is_empty() {
        let together = (1 + dice.below(2)).min(parts.len());
        let frame: Vec<Value> = parts.drain(..together).collect();
        let mut value = json!({ "candidates": [{ "content": { "role": "model", "parts": frame }, "index": 0 }], "modelVersion": "m" });
        if tells_midway {
            value["usageMetadata"] = usage(1);
        }
        values.push(value);
    }
    let stop = answered.stop("STOP", "MAX_TOKENS", "STOP");
    if apart || values.is_empty() {
        values
            .push(json!({ "candidates": [{ "content": { "role": "model", "parts": [{ "text": "" }] }, "index": 0 }] }));
    }
    if let Some(last) = values.last_mut() {
        last["candidates"][0]["finishReason"] = json!(stop);
        last["usageMetadata"] = usage(output);
    }
    values
}

fn local_chat(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let line = |message: Value| json!({ "model": "m", "created_at": "2026-11-24T02:00:00Z", "message": message, "done": false });
    let thought = |piece: String| line(json!({ "role": "assistant", "content": "", "thinking": piece }));
    let said = |piece: String| line(json!({ "role": "assistant", "content": piece }));
    let mut values = in_pieces(answered.thinking.as_ref(), dice, thought);
    values.extend(in_pieces(answered.text.as_ref(), dice, said));
    let call = |(name, arguments): &(String, Value)| json!({ "function": { "name": name, "arguments": arguments } });
    if dice.coin() && !answered.calls.is_empty() {
        values.push(line(json!({ "role": "assistant", "content": "", "tool_calls": answered.calls.iter().map(call).collect::<Vec<_>>() })));
    } else {
        values.extend(
            answered
                .calls
                .iter()
                .map(|one| line(json!({ "role": "assistant", "content": "", "tool_calls": [call(one)] }))),
        );
    }
    let (input, output) = answered.usage;
    let stop = answered.stop("stop", "length", "stop");
    values.push(json!({ "model": "m", "created_at": "2026-11-24T02:00:01Z", "message": { "role": "assistant", "content": "" }, "done": true, "done_reason": stop, "prompt_eval_count": input, "eval_count": output }));
    values
}
