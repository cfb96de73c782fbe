//! A neutral conversation as the body for an upstream of this dialect.

use crate::as_text::name_first;
use crate::as_text::result_text;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, FunctionForm, MediaSource, Part, PartKind, Role, ThinkingAmount,
    Tool, ToolChoice, ToolKind, ToolResult, Turn,
};
use crate::dialect::Dialect;
use crate::json::{Json, Members, RawJson};
use crate::local_chat::generate;
use crate::native::give_back;
use crate::verdict::Target;

/// Writes the body.
#[must_use]
pub fn write(conversation: &Conversation, target: &Target<'_>) -> String {
    let body = Members::new().put("model", target.model);
    let body = match conversation.functions {
        FunctionForm::Prompt if conversation.dialect == Dialect::LocalChat => generate::prompt(conversation, body),
        FunctionForm::Prompt | FunctionForm::Tools | FunctionForm::Functions => {
            body.put("messages", messages(conversation))
        }
    };
    let body = body.put("stream", conversation.delivery != Delivery::Whole);
    let body = body.list("tools", tools(conversation));
    let body = match &conversation.format {
        None | Some(AnswerFormat::Text) => body,
        Some(AnswerFormat::Json) => body.put("format", "json"),
        Some(AnswerFormat::Schema(schema)) => body.put("format", &schema.schema),
    };
    let body = thinking(conversation, body);
    let sampling = &conversation.sampling;
    let options = Members::new()
        .some("num_predict", conversation.output_limit)
        .some("temperature", sampling.temperature.as_ref())
        .some("top_p", sampling.top_p.as_ref())
        .some("top_k", sampling.top_k.as_ref().and_then(|top_k| top_k.as_whole()))
        .some("seed", sampling.seed.as_ref())
        .some("presence_penalty", sampling.presence_penalty.as_ref())
        .some("frequency_penalty", sampling.frequency_penalty.as_ref())
        .some("repeat_penalty", sampling.repeat_penalty.as_ref())
        .list("stop", sampling.stop.iter().map(Json::from).collect());
    let options = give_back(conversation, target, &conversation.native, "options", options);
    let body = body
        .nested("options", options)
        .some("logprobs", sampling.logprobs.or(sampling.top_logprobs.map(|_| true)))
        .some("top_logprobs", sampling.top_logprobs);
    give_back(conversation, target, &conversation.native, "", body).to_line()
}

fn thinking(conversation: &Conversation, body: Members) -> Members {
    let is_own = conversation.dialect == Dialect::LocalChat;
    match conversation.thinking.amount {
        ThinkingAmount::Unsaid => body,
        ThinkingAmount::Off => body.put("think", false),
        ThinkingAmount::Dynamic => body.put("think", true),
        ThinkingAmount::Effort(effort) if is_own => body.put("think", effort.word()),
        ThinkingAmount::Effort(effort) => body.put("think", level(effort)),
        ThinkingAmount::Budget(budget) => body.put("think", level(Effort::of_budget(budget))),
    }
}

fn level(effort: Effort) -> &'static str {
    match effort {
        Effort::Minimal | Effort::Low => "low",
        Effort::Medium => "medium",
        Effort::High | Effort::Higher | Effort::Max => "high",
    }
}

fn messages(conversation: &Conversation) -> Vec<Json> {
    let mut messages = Vec::with_capacity(conversation.turns.len());
    let mut turns = conversation.turns.iter().peekable();
    while let Some(turn) = turns.next() {
        match turn.role {
            Role::System | Role::Developer => {
                messages.push(Members::new().put("role", "system").put("content", turn.text()).into());
            }
            Role::User => user(turn, &mut messages),
            Role::Assistant => {
                // Dialects that list calls and thinking beside messages make several turns of one.
                let mut parts: Vec<Part> = turn.parts.clone();
                while let Some(next) = turns.next_if(|next| next.role == Role::Assistant) {
                    parts.extend(next.parts.iter().cloned());
                }
                messages.push(said("assistant", &parts).into());
            }
        }
    }
    messages
}

fn user(turn: &Turn, messages: &mut Vec<Json>) {
    let mut left: Vec<Part> = Vec::new();
    for part in &turn.parts {
        match &part.kind {
            PartKind::ToolResult(result) => messages.push(tool_message(result)),
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::ToolCall(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => left.push(part.clone()),
        }
    }
    if !left.is_empty() || turn.parts.is_empty() {
        if let Some(name) = &turn.name {
            name_first(&mut left, name);
        }
        messages.push(said("user", &left).into());
    }
}

/// Results are linked by the function's name.
fn tool_message(result: &ToolResult) -> Json {
    Members::new().put("role", "tool").put("tool_name", result.function()).put("content", result_text(result)).into()
}

fn said(role: &'static str, parts: &[Part]) -> Members {
    let (mut text, mut images, mut calls, mut thinking) = (Vec::new(), Vec::new(), Vec::new(), String::new());
    for part in parts {
        match &part.kind {
            PartKind::Text(said) | PartKind::Refusal(said) => text.push(said.as_str()),
            PartKind::Image(media) => {
                if let MediaSource::Bytes { base64, .. } = &media.source {
                    images.push(base64.into());
                }
            }
            PartKind::ToolCall(call) => {
                let arguments = call.arguments_object().unwrap_or_else(RawJson::empty_object);
                let function = Members::new().put("name", &call.name).put("arguments", arguments);
                calls.push(Members::new().put("function", function).into());
            }
            PartKind::Thinking(thought) if thought.seal.is_none() => thinking.push_str(&thought.text),
            PartKind::Thinking(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::ToolResult(_)
            | PartKind::Foreign(_) => {}
        }
    }
    let message = Members::new().put("role", role).put("content", text.join("\n"));
    let message = if thinking.is_empty() { message } else { message.put("thinking", thinking) };
    message.list("images", images).list("tool_calls", calls)
}

/// The tools that the model may call. Where none may be, or only some, the others are left out: there is no other way to say so.
fn tools(conversation: &Conversation) -> Vec<Json> {
    if conversation.tool_choice == Some(ToolChoice::None) {
        return Vec::new();
    }
    let allowed = conversation.tool_choice.as_ref().and_then(ToolChoice::allowed);
    let is_listed = |tool: &&Tool| allowed.as_ref().is_none_or(|names| names.contains(tool.name.as_str()));
    let one = |tool: &Tool| {
        let parameters = match &tool.kind {
            ToolKind::Function { parameters: Some(parameters), .. } => Json::from(parameters),
            ToolKind::Function { parameters: None, .. } | ToolKind::Custom(_) => Members::typed("object").into(),
        };
        let function = Members::new().put("name", &tool.name).some("description", tool.description.as_ref());
        Members::typed("function").put("function", function.put("parameters", parameters)).into()
    };
    conversation.tools.iter().filter(is_listed).map(one).collect()
}
