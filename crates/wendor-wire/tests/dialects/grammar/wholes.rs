//! A reply as one body of each dialect.

use serde_json::{Value, json};
use wendor_wire::dialect::Dialect;

use super::answered::{Answered, Ended};
use super::dice::Dice;
use super::text::written;

/// `answered` as a whole reply of `dialect`.
pub fn whole(answered: &Answered, dialect: Dialect, dice: &mut Dice) -> String {
    let value = match dialect {
        Dialect::ChatCompletions => chat_completions(answered, dice),
        Dialect::Responses => responses(answered, dice),
        Dialect::Messages => messages(answered),
        Dialect::GenerateContent => generate_content(answered),
        Dialect::LocalChat => local_chat(answered),
    };
    written(&value, dice, true)
}

fn chat_completions(answered: &Answered, dice: &mut Dice) -> Value {
    let mut message = json!({ "role": "assistant", "content": answered.text });
    if let Some(thinking) = &answered.thinking {
        message[*dice.one_of(&["reasoning_content", "reasoning"])] = json!(thinking);
    }
    let call = |(number, (name, arguments)): (usize, &(String, Value))| json!({ "id": format!("call_{number}"), "type": "function", "function": { "name": name, "arguments": written(arguments, dice, true) } });
    let calls: Vec<Value> = answered.calls.iter().enumerate().map(call).collect();
    if !calls.is_empty() || dice.coin() {
        message["tool_calls"] = json!(calls);
    }
    let (input, output) = answered.usage;
    json!({
        "id": "c1", "object": "chat.completion", "created": 1_790_000_000, "model": "m",
        "choices": [{ "index": 0, "message": message, "finish_reason": answered.stop("stop", "length", "tool_calls") }],
        "usage": { "prompt_tokens": input, "completion_tokens": output, "total_tokens": input + output },
    })
}

fn responses(answered: &Answered, dice: &mut Dice) -> Value {
    let thinking = answered.thinking.iter().map(
        |text| json!({ "type": "reasoning", "id": "rs_1", "summary": [{ "type": "summary_text", "text": text }] }),
    );
    let mut output: Vec<Value> = thinking.collect();
    output.extend(answered.text.iter().map(|text| json!({ "type": "message", "id": "msg_1", "status": "completed", "role": "assistant", "content": [{ "type": "output_text", "text": text, "annotations": [] }] })));
    output.extend(answered.calls.iter().enumerate().map(|(number, (name, arguments))| json!({ "type": "function_call", "id": format!("fc_{number}"), "call_id": format!("call_{number}"), "name": name, "arguments": written(arguments, dice, true), "status": "completed" })));
    let reason = (answered.ended == Ended::AtLimit).then(|| json!({ "reason": "max_output_tokens" }));
    let (input, used) = answered.usage;
    json!({
        "id": "resp_1", "object": "response", "created_at": 1_790_000_000, "model": "m", "output": output, "incomplete_details": reason,
        "status": answered.stop("completed", "incomplete", "completed"),
        "usage": { "input_tokens": input, "output_tokens": used, "total_tokens": input + used },
    })
}

fn messages(answered: &Answered) -> Value {
    let mut content: Vec<Value> =
        answered.thinking.iter().map(|text| json!({ "type": "thinking", "thinking": text, "signature": "" })).collect();
    content.extend(answered.text.iter().map(|text| json!({ "type": "text", "text": text })));
    let call = |(number, (name, arguments)): (usize, &(String, Value))| json!({ "type": "tool_use", "id": format!("tool_{number}"), "name": name, "input": arguments });
    content.extend(answered.calls.iter().enumerate().map(call));
    let (input, output) = answered.usage;
    json!({
        "id": "msg_1", "type": "message", "role": "assistant", "model": "m", "content": content, "stop_sequence": null,
        "stop_reason": answered.stop("end_turn", "max_tokens", "tool_use"),
        "usage": { "input_tokens": input, "output_tokens": output },
    })
}

fn generate_content(answered: &Answered) -> Value {
    let mut parts: Vec<Value> = answered.thinking.iter().map(|text| json!({ "text": text, "thought": true })).collect();
    parts.extend(answered.text.iter().map(|text| json!({ "text": text })));
    parts.extend(
        answered.calls.iter().map(|(name, arguments)| json!({ "functionCall": { "name": name, "args": arguments } })),
    );
    let (input, output) = answered.usage;
    json!({
        "candidates": [{ "content": { "role": "model", "parts": parts }, "index": 0, "finishReason": answered.stop("STOP", "MAX_TOKENS", "STOP") }],
        "usageMetadata": { "promptTokenCount": input, "candidatesTokenCount": output, "totalTokenCount": input + output }, "modelVersion": "m",
    })
}

fn local_chat(answered: &Answered) -> Value {
    let mut message = json!({ "role": "assistant", "content": answered.text.clone().unwrap_or_default() });
    if let Some(thinking) = &answered.thinking {
        message["thinking"] = json!(thinking);
    }
    if !answered.calls.is_empty() {
        message["tool_calls"] = answered
            .calls
            .iter()
            .map(|(name, arguments)| json!({ "function": { "name": name, "arguments": arguments } }))
            .collect();
    }
    let (input, output) = answered.usage;
    json!({
        "model": "m", "created_at": "2026-11-24T02:00:01Z", "message": message, "done": true, "done_reason": answered.stop("stop", "length", "stop"),
        "prompt_eval_count": input, "eval_count": output,
    })
}
