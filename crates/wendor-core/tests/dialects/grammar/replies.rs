//! A reply as a stream of each dialect, in one of the forms in which servers send it.

use serde_json::{Value, json};
use wendor_core::catalog::upstream::Dialect;

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

fn pieces(text: Option<&String>, dice: &mut Dice) -> Vec<String> {
    text.map(|text| dice.pieces(text)).unwrap_or_default()
}

fn chat_completions(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let (repeats_role, fills) = (dice.coin(), dice.coin());
    let mut deltas: Vec<Value> = Vec::new();
    if dice.in_hundred(80) {
        let content = *dice.one_of(&[Some(""), None]);
        deltas.push(json!({ "role": "assistant", "content": content }));
    }
    let thinking = *dice.one_of(&["reasoning_content", "reasoning"]);
    deltas.extend(pieces(answered.thinking.as_ref(), dice).into_iter().map(|piece| json!({ thinking: piece })));
    deltas.extend(pieces(answered.text.as_ref(), dice).into_iter().map(|piece| json!({ "content": piece })));
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
    for delta in &mut deltas {
        if repeats_role {
            delta["role"] = json!("assistant");
        }
        if fills && delta.get("content").is_none() {
            delta["content"] = Value::Null;
        }
    }
    let stop = match answered.ended {
        Ended::AtLimit => "length",
        Ended::Said if answered.calls.is_empty() => "stop",
        Ended::Said => "tool_calls",
    };
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
        let mut apart = chunk(json!([]));
        apart["usage"] = usage;
        values.push(apart);
    } else if let Some(last) = values.last_mut() {
        last["usage"] = usage;
    }
    values
}

fn responses(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let head = |status: &str, output: Value| json!({ "id": "resp_1", "object": "response", "created_at": 1_790_000_000, "status": status, "model": "m", "output": output });
    let mut values = vec![json!({ "type": "response.created", "response": head("in_progress", json!([])) })];
    if dice.coin() {
        values.push(json!({ "type": "response.in_progress", "response": head("in_progress", json!([])) }));
    }
    let mut output: Vec<Value> = Vec::new();
    let tells_done = dice.coin();
    if let Some(thinking) = &answered.thinking {
        let at = output.len();
        values.push(json!({ "type": "response.output_item.added", "output_index": at, "item": { "type": "reasoning", "id": "rs_1", "summary": [] } }));
        values.push(json!({ "type": "response.reasoning_summary_part.added", "output_index": at, "item_id": "rs_1", "summary_index": 0, "part": { "type": "summary_text", "text": "" } }));
        values.extend(dice.pieces(thinking).into_iter().map(|piece| json!({ "type": "response.reasoning_summary_text.delta", "output_index": at, "item_id": "rs_1", "summary_index": 0, "delta": piece })));
        let item =
            json!({ "type": "reasoning", "id": "rs_1", "summary": [{ "type": "summary_text", "text": thinking }] });
        values.push(json!({ "type": "response.output_item.done", "output_index": at, "item": item }));
        output.push(item);
    }
    if let Some(text) = &answered.text {
        let at = output.len();
        let part = |text: &str| json!({ "type": "output_text", "text": text, "annotations": [] });
        values.push(json!({ "type": "response.output_item.added", "output_index": at, "item": { "type": "message", "id": "msg_1", "status": "in_progress", "role": "assistant", "content": [] } }));
        values.push(json!({ "type": "response.content_part.added", "output_index": at, "item_id": "msg_1", "content_index": 0, "part": part("") }));
        values.extend(dice.pieces(text).into_iter().map(|piece| json!({ "type": "response.output_text.delta", "output_index": at, "item_id": "msg_1", "content_index": 0, "delta": piece })));
        if tells_done {
            values.push(json!({ "type": "response.output_text.done", "output_index": at, "item_id": "msg_1", "content_index": 0, "text": text }));
            values.push(json!({ "type": "response.content_part.done", "output_index": at, "item_id": "msg_1", "content_index": 0, "part": part(text) }));
        }
        let item = json!({ "type": "message", "id": "msg_1", "status": "completed", "role": "assistant", "content": [part(text)] });
        values.push(json!({ "type": "response.output_item.done", "output_index": at, "item": item }));
        output.push(item);
    }
    for (number, (name, arguments)) in answered.calls.iter().enumerate() {
        let (at, id) = (output.len(), format!("fc_{number}"));
        let arguments = written(arguments, dice, true);
        let item = |arguments: &str| json!({ "type": "function_call", "id": id, "call_id": format!("call_{number}"), "name": name, "arguments": arguments, "status": "completed" });
        values.push(json!({ "type": "response.output_item.added", "output_index": at, "item": item("") }));
        values.extend(dice.pieces(&arguments).into_iter().map(|piece| json!({ "type": "response.function_call_arguments.delta", "output_index": at, "item_id": id, "delta": piece })));
        if tells_done {
            values.push(json!({ "type": "response.function_call_arguments.done", "output_index": at, "item_id": id, "arguments": arguments }));
        }
        values.push(json!({ "type": "response.output_item.done", "output_index": at, "item": item(&arguments) }));
        output.push(item(&arguments));
    }
    let (kind, status) = if answered.ended == Ended::AtLimit {
        ("response.incomplete", "incomplete")
    } else {
        ("response.completed", "completed")
    };
    let mut whole = head(status, json!(output));
    if answered.ended == Ended::AtLimit {
        whole["incomplete_details"] = json!({ "reason": "max_output_tokens" });
    }
    let (input, output) = answered.usage;
    whole["usage"] = json!({ "input_tokens": input, "output_tokens": output, "total_tokens": input + output });
    values.push(json!({ "type": kind, "response": whole }));
    for (number, value) in values.iter_mut().enumerate() {
        value["sequence_number"] = json!(number);
    }
    values
}

fn messages(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let (input, output) = answered.usage;
    let told_at_start = dice.coin();
    let start = json!({ "input_tokens": if told_at_start { input } else { 0 }, "output_tokens": 1 });
    let mut values = vec![
        json!({ "type": "message_start", "message": { "id": "msg_1", "type": "message", "role": "assistant", "model": "m", "content": [], "stop_reason": null, "stop_sequence": null, "usage": start } }),
    ];
    let mut at = 0;
    let mut block = |begun: Value, deltas: Vec<Value>, dice: &mut Dice| {
        values.push(json!({ "type": "content_block_start", "index": at, "content_block": begun }));
        if dice.in_hundred(20) {
            values.push(json!({ "type": "ping" }));
        }
        values.extend(
            deltas.into_iter().map(|delta| json!({ "type": "content_block_delta", "index": at, "delta": delta })),
        );
        values.push(json!({ "type": "content_block_stop", "index": at }));
        at += 1;
    };
    if let Some(thinking) = &answered.thinking {
        let deltas = dice
            .pieces(thinking)
            .into_iter()
            .map(|piece| json!({ "type": "thinking_delta", "thinking": piece }))
            .collect();
        block(json!({ "type": "thinking", "thinking": "" }), deltas, dice);
    }
    if let Some(text) = &answered.text {
        let deltas =
            dice.pieces(text).into_iter().map(|piece| json!({ "type": "text_delta", "text": piece })).collect();
        block(json!({ "type": "text", "text": "" }), deltas, dice);
    }
    for (number, (name, arguments)) in answered.calls.iter().enumerate() {
        // Of a call without arguments nothing may come at all.
        let is_silent = *arguments == json!({}) && dice.coin();
        let text = if is_silent { String::new() } else { written(arguments, dice, true) };
        let deltas = dice
            .pieces(&text)
            .into_iter()
            .map(|piece| json!({ "type": "input_json_delta", "partial_json": piece }))
            .collect();
        block(json!({ "type": "tool_use", "id": format!("tool_{number}"), "name": name, "input": {} }), deltas, dice);
    }
    let stop = match answered.ended {
        Ended::AtLimit => "max_tokens",
        Ended::Said if answered.calls.is_empty() => "end_turn",
        Ended::Said => "tool_use",
    };
    let usage = if told_at_start {
        json!({ "output_tokens": output })
    } else {
        json!({ "input_tokens": input, "output_tokens": output })
    };
    values.push(
        json!({ "type": "message_delta", "delta": { "stop_reason": stop, "stop_sequence": null }, "usage": usage }),
    );
    values.push(json!({ "type": "message_stop" }));
    values
}

fn generate_content(answered: &Answered, dice: &mut Dice) -> Vec<Value> {
    let (input, output) = answered.usage;
    let mut parts: Vec<Value> = pieces(answered.thinking.as_ref(), dice)
        .into_iter()
        .map(|piece| json!({ "text": piece, "thought": true }))
        .collect();
    parts.extend(pieces(answered.text.as_ref(), dice).into_iter().map(|piece| json!({ "text": piece })));
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
    let stop = if answered.ended == Ended::AtLimit { "MAX_TOKENS" } else { "STOP" };
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
    let mut values: Vec<Value> = pieces(answered.thinking.as_ref(), dice)
        .into_iter()
        .map(|piece| line(json!({ "role": "assistant", "content": "", "thinking": piece })))
        .collect();
    values.extend(
        pieces(answered.text.as_ref(), dice)
            .into_iter()
            .map(|piece| line(json!({ "role": "assistant", "content": piece }))),
    );
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
    let stop = if answered.ended == Ended::AtLimit { "length" } else { "stop" };
    values.push(json!({ "model": "m", "created_at": "2026-11-24T02:00:01Z", "message": { "role": "assistant", "content": "" }, "done": true, "done_reason": stop, "prompt_eval_count": input, "eval_count": output }));
    values
}
