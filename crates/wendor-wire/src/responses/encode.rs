//! A neutral conversation as the body for an upstream of this dialect.

use crate::as_text::{FAILED, result_text};
use crate::conversation::turn::{CallKind, Thinking};
use crate::conversation::wish::custom_names;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool, ToolCall,
    ToolChoice, ToolKind, ToolResult, Turn,
};
use crate::dialect::Dialect;
use crate::effort;
use crate::json::{Json, Members};
use crate::named_schema;
use crate::native::{give_back, given_back};
use crate::sound;
use crate::verdict::Target;

/// Writes the body.
#[must_use]
pub fn write(conversation: &Conversation, target: &Target<'_>) -> String {
    let is_own = conversation.dialect == Dialect::Responses;
    let body = Members::new().put("model", target.model);
    let leading = conversation.leading_system_turns();
    // Instructions have a member of their own; an app of this dialect may have put them among the items, and then they stay.
    let in_front = match conversation.turns.first() {
        Some(first) if is_own => usize::from(first.path == "instructions"),
        Some(_) => leading,
        None => 0,
    };
    let texts: Vec<String> = conversation.turns.iter().take(in_front).map(Turn::text).collect();
    let body = if texts.is_empty() { body } else { body.put("instructions", texts.join("\n\n")) };
    let mut items = Vec::new();
    for turn in conversation.turns.iter().skip(in_front) {
        turn_items(turn, conversation, target, &mut items);
    }
    let body = body.put("input", items);
    let body = match conversation.delivery {
        Delivery::Whole => body,
        Delivery::Streamed(_) => body.put("stream", true),
    };
    let body = tools(conversation, target, body);
    let body = settings(conversation, target, body);
    let body = give_back(conversation, target, &conversation.native, "", body);
    // Services keep answers unless they are told not to, for whoever has the credential, which teams share.
    let keeps = given_back(conversation, target, &conversation.native, "").any(|native| native.name == "store");
    if keeps { body.to_line() } else { body.put("store", false).to_line() }
}

fn settings(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let sampling = &conversation.sampling;
    // Apps of this dialect say both apart.
    let is_own = conversation.dialect == Dialect::Responses;
    let wants_logprobs = sampling.logprobs == Some(true) || (sampling.top_logprobs.is_some() && !is_own);
    let mut include: Vec<Json> = given_back(conversation, target, &conversation.native, "include")
        .map(|native| Json::from(&native.value))
        .collect();
    if wants_logprobs {
        include.push("message.output_text.logprobs".into());
    }
    // Where apps send seals back they are asked for, since nothing is kept at the service.
    let seals_come_back = matches!(conversation.dialect, Dialect::Messages | Dialect::GenerateContent);
    if seals_come_back && wants_thinking(conversation) {
        include.push("reasoning.encrypted_content".into());
    }
    let text = match &conversation.format {
        None => Members::new(),
        Some(AnswerFormat::Text) => Members::new().put("format", Members::typed("text")),
        Some(AnswerFormat::Json) => Members::new().put("format", Members::typed("json_object")),
        Some(AnswerFormat::Schema(schema)) => {
            let Json::Object(named) = Json::from(named_schema::write(schema)) else { return body };
            Members::new().put("format", named.put("type", "json_schema"))
        }
    };
    let text = give_back(conversation, target, &conversation.native, "text", text);
    let reasoning = Members::new().some("effort", effort::word(conversation.thinking.amount));
    let reasoning = give_back(conversation, target, &conversation.native, "reasoning", reasoning);
    body.some("max_output_tokens", conversation.output_limit)
        .some("temperature", sampling.temperature.as_ref())
        .some("top_p", sampling.top_p.as_ref())
        .some("top_logprobs", sampling.top_logprobs)
        .list("include", include)
        .nested("text", text)
        .nested("reasoning", reasoning)
        .some("user", conversation.end_user.as_ref())
}

fn wants_thinking(conversation: &Conversation) -> bool {
    match conversation.thinking.amount {
        ThinkingAmount::Dynamic | ThinkingAmount::Effort(_) | ThinkingAmount::Budget(_) => true,
        ThinkingAmount::Unsaid | ThinkingAmount::Off => false,
    }
}

fn turn_items(turn: &Turn, conversation: &Conversation, target: &Target<'_>, items: &mut Vec<Json>) {
    let mut said: Vec<Part> = Vec::new();
    for part in &turn.parts {
        let item = match &part.kind {
            PartKind::ToolCall(call) => Some(call_item(call)),
            PartKind::ToolResult(result) => Some(result_item(result, conversation, target)),
            PartKind::Thinking(thinking) => match thinking_item(thinking, conversation, target) {
                Some(item) => Some(item),
                None => continue,
            },
            PartKind::Foreign(foreign) if turn.parts.len() == 1 => {
                items.push(Json::from(&foreign.value));
                continue;
            }
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::Foreign(_) => None,
        };
        match item {
            Some(item) => {
                flush(turn, &mut said, conversation, target, items);
                items.push(give_back(conversation, target, &part.native, "", item).into());
            }
            None => said.push(part.clone()),
        }
    }
    flush(turn, &mut said, conversation, target, items);
}

/// What was said so far of a turn as a message.
fn flush(turn: &Turn, said: &mut Vec<Part>, conversation: &Conversation, target: &Target<'_>, items: &mut Vec<Json>) {
    let mut parts = std::mem::take(said);
    if parts.is_empty() {
        return;
    }
    if let Some(name) = &turn.name {
        crate::as_text::name_first(&mut parts, name);
    }
    let role = match turn.role {
        Role::System => "system",
        Role::Developer => "developer",
        Role::User => "user",
        Role::Assistant => "assistant",
    };
    let content: Json = match parts.as_slice() {
        [Part { kind: PartKind::Text(text), native, .. }] if native.is_empty() && turn.role != Role::Assistant => {
            text.into()
        }
        parts => {
            parts.iter().filter_map(|part| part_of(part, turn.role, conversation, target)).collect::<Vec<_>>().into()
        }
    };
    let message = Members::typed("message").put("role", role).put("content", content);
    items.push(give_back(conversation, target, &turn.native, "", message).into());
}

fn part_of(part: &Part, role: Role, conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let members = match &part.kind {
        PartKind::Text(text) if role == Role::Assistant => {
            Members::typed("output_text").put("text", text).put("annotations", Vec::new())
        }
        PartKind::Text(text) => Members::typed("input_text").put("text", text),
        PartKind::Refusal(text) => Members::typed("refusal").put("refusal", text),
        PartKind::Image(media) => Members::typed("input_image").put("image_url", media.source.to_url()),
        PartKind::Audio(media) => Members::typed("input_audio").put("input_audio", sound::write(media)),
        PartKind::File(media) => file(media),
        PartKind::Foreign(foreign) => return Some(Json::from(&foreign.value)),
        PartKind::Video(_) | PartKind::ToolCall(_) | PartKind::ToolResult(_) | PartKind::Thinking(_) => return None,
    };
    Some(give_back(conversation, target, &part.native, "", members).into())
}

fn file(media: &Media) -> Members {
    let name = || media.name.clone().unwrap_or_else(|| "document.pdf".to_owned());
    match &media.source {
        MediaSource::Url { url, .. } => Members::typed("input_file").put("file_url", url),
        MediaSource::Bytes { .. } => {
            Members::typed("input_file").put("file_data", media.source.to_url()).put("filename", name())
        }
        MediaSource::Handle(id) => Members::typed("input_file").put("file_id", id),
    }
}

fn call_item(call: &ToolCall) -> Members {
    let id = call.id.clone().unwrap_or_else(|| call.name.clone());
    match call.kind {
        CallKind::Function => {
            Members::typed("function_call").put("call_id", id).put("name", &call.name).put("arguments", &call.arguments)
        }
        CallKind::Custom => {
            Members::typed("custom_tool_call").put("call_id", id).put("name", &call.name).put("input", &call.arguments)
        }
    }
}

fn result_item(result: &ToolResult, conversation: &Conversation, target: &Target<'_>) -> Members {
    let id = result.call.clone().or_else(|| result.name.clone()).unwrap_or_default();
    let has_media = result.parts.iter().any(|part| !matches!(part.kind, PartKind::Text(_)));
    let output: Json = if has_media {
        let failed = result.is_error.then(|| Json::from(Members::typed("input_text").put("text", FAILED)));
        let of = |part| part_of(part, Role::User, conversation, target);
        failed.into_iter().chain(result.parts.iter().filter_map(of)).collect::<Vec<_>>().into()
    } else {
        result_text(result).into()
    };
    let kind = match result.kind {
        CallKind::Function => "function_call_output",
        CallKind::Custom => "custom_tool_call_output",
    };
    Members::typed(kind).put("call_id", id).put("output", output)
}

/// Thinking goes back only with a seal that this upstream made.
fn thinking_item(thinking: &Thinking, conversation: &Conversation, target: &Target<'_>) -> Option<Members> {
    let own = target.own_seal(conversation, thinking.seal.as_ref()?)?;
    let summary = if thinking.text.is_empty() {
        Vec::new()
    } else {
        vec![Members::typed("summary_text").put("text", &thinking.text).into()]
    };
    Some(Members::typed("reasoning").put("summary", summary).put("encrypted_content", own.text()))
}

fn tools(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let mut listed: Vec<Json> = conversation.tools.iter().map(tool_of).collect();
    let hosted = given_back(conversation, target, &conversation.native, "tools");
    listed.extend(hosted.map(|native| Json::from(&native.value)));
    body.list("tools", listed)
        .some("tool_choice", conversation.tool_choice.as_ref().map(|wanted| choice(wanted, &conversation.tools)))
        .some("parallel_tool_calls", conversation.parallel_tools)
}

fn tool_of(tool: &Tool) -> Json {
    match &tool.kind {
        ToolKind::Function { parameters, .. } => Members::typed("function")
            .put("name", &tool.name)
            .some("description", tool.description.as_ref())
            .put("parameters", parameters.as_ref().map_or_else(|| Members::typed("object").into(), Json::from))
            // Services hold the model to the schema unless they are told not to.
            .put("strict", tool.is_strict.unwrap_or(false))
            .into(),
        ToolKind::Custom(format) => Members::typed("custom")
            .put("name", &tool.name)
            .some("description", tool.description.as_ref())
            .some("format", format.as_ref())
            .into(),
    }
}

fn choice(choice: &ToolChoice, tools: &[Tool]) -> Json {
    match choice {
        ToolChoice::Auto => "auto".into(),
        ToolChoice::None => "none".into(),
        ToolChoice::Required => "required".into(),
        ToolChoice::Named(name) => Members::typed("function").put("name", name).into(),
        ToolChoice::NamedCustom(name) => Members::typed("custom").put("name", name).into(),
        ToolChoice::Subset { names, must } => {
            let customs = custom_names(tools);
            let kind = |name: &String| if customs.contains(name.as_str()) { "custom" } else { "function" };
            let tools: Vec<Json> =
                names.iter().map(|name| Members::typed(kind(name)).put("name", name).into()).collect();
            let mode = if *must { "required" } else { "auto" };
            Members::typed("allowed_tools").put("mode", mode).put("tools", tools).into()
        }
    }
}
