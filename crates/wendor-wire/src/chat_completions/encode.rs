//! A neutral conversation as the body for an upstream of this dialect.

use crate::ability::Mark;
use crate::as_text::result_text;
use crate::conversation::turn::CallKind;
use crate::conversation::wish::custom_names;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, FunctionForm, Part, PartKind, Role, Tool, ToolCall, ToolChoice, ToolKind,
    ToolResult, Turn,
};
use crate::effort;
use crate::json::{Json, Members};
use crate::named_schema;
use crate::native::{give_back, given_back};
use crate::sound;
use crate::verdict::Target;

/// Writes the body.
#[must_use]
pub fn write(conversation: &Conversation, target: &Target<'_>) -> String {
    let body = Members::new().put("model", target.model).put("messages", messages(conversation, target));
    let body = tools(conversation, target, delivery(conversation, body));
    let body = sampling(conversation, target, body);
    let body = body.some("response_format", conversation.format.as_ref().map(format));
    let body = body.some("reasoning_effort", effort::word(conversation.thinking.amount));
    let body = body.some("user", conversation.end_user.as_ref());
    give_back(conversation, target, &conversation.native, "", body).to_line()
}

fn delivery(conversation: &Conversation, body: Members) -> Members {
    match conversation.delivery {
        Delivery::Whole => body,
        // Usage is always asked for: it is kept from an app that did not.
        Delivery::Streamed(_) => {
            body.put("stream", true).put("stream_options", Members::new().put("include_usage", true))
        }
    }
}

fn messages(conversation: &Conversation, target: &Target<'_>) -> Vec<Json> {
    let mut messages = Vec::with_capacity(conversation.turns.len());
    let mut turns = conversation.turns.iter().peekable();
    while let Some(turn) = turns.next() {
        match turn.role {
            Role::System | Role::Developer => messages.push(system(turn, conversation, target)),
            Role::User => {
                // What tools gave stands together behind their calls, whatever came between in the app's dialect.
                let mut said = Vec::new();
                user(turn, conversation, target, &mut messages, &mut said);
                while let Some(next) = turns.next_if(|next| next.role == Role::User) {
                    user(next, conversation, target, &mut messages, &mut said);
                }
                messages.extend(said);
            }
            Role::Assistant => {
                // Dialects that list calls and thinking beside messages make several turns of one.
                let mut parts: Vec<&Part> = turn.parts.iter().collect();
                while let Some(next) = turns.next_if(|next| next.role == Role::Assistant && next.name.is_none()) {
                    parts.extend(&next.parts);
                }
                messages.extend(assistant(turn, &parts, conversation, target));
            }
        }
    }
    messages
}

fn system(turn: &Turn, conversation: &Conversation, target: &Target<'_>) -> Json {
    let is_marked = |mark| target.marks.contains(&mark);
    let knows_developer =
        is_marked(Mark::Developer) || (conversation.dialect == target.dialect && !is_marked(Mark::NoDeveloper));
    let role = match turn.role {
        Role::Developer if knows_developer => "developer",
        Role::Developer | Role::System | Role::User | Role::Assistant => "system",
    };
    let message = Members::new().put("role", role).put("content", content(&turn.parts, conversation, target));
    give_back(conversation, target, &turn.native, "", message.some("name", turn.name.as_ref())).into()
}

/// A turn of the user: what tools gave becomes messages of its own, the rest goes behind them.
fn user(
    turn: &Turn,
    conversation: &Conversation,
    target: &Target<'_>,
    results: &mut Vec<Json>,
    messages: &mut Vec<Json>,
) {
    let mut said: Vec<Part> = Vec::new();
    for part in &turn.parts {
        match &part.kind {
            PartKind::ToolResult(result) => {
                results.push(tool_message(result, conversation));
                // A message of a tool holds text alone.
                said.extend(result.parts.iter().filter(|inner| inner.is_medium()).cloned());
            }
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::ToolCall(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => said.push(part.clone()),
        }
    }
    let has_results = said.len() < turn.parts.len();
    if said.is_empty() && has_results {
        return;
    }
    let message = Members::new().put("role", "user").put("content", content(&said, conversation, target));
    let message = message.some("name", turn.name.as_ref());
    messages.push(give_back(conversation, target, &turn.native, "", message).into());
}

fn tool_message(result: &ToolResult, conversation: &Conversation) -> Json {
    let text = result_text(result);
    let message = Members::new();
    match (conversation.functions, &result.name) {
        (FunctionForm::Functions, Some(name)) => {
            message.put("role", "function").put("name", name).put("content", text).into()
        }
        (FunctionForm::Functions | FunctionForm::Tools | FunctionForm::Prompt, _) => {
            let id = result.call.clone().unwrap_or_default();
            message.put("role", "tool").put("tool_call_id", id).put("content", text).into()
        }
    }
}

/// A turn of the model; `None` where nothing of it goes up.
fn assistant(turn: &Turn, parts: &[&Part], conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let (mut said, mut calls, mut thinking, mut refusal) = (Vec::new(), Vec::new(), String::new(), None);
    let takes_thinking = conversation.dialect == target.dialect || target.marks.contains(&Mark::ReasoningHistory);
    for part in parts {
        match &part.kind {
            PartKind::ToolCall(call) => calls.push((call, *part)),
            PartKind::Thinking(thought) if takes_thinking && thought.seal.is_none() => thinking.push_str(&thought.text),
            PartKind::Thinking(_) | PartKind::ToolResult(_) => {}
            PartKind::Refusal(text) => refusal = Some(text.clone()),
            PartKind::Text(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::Foreign(_) => said.push((*part).clone()),
        }
    }
    let is_other = conversation.dialect != target.dialect;
    if is_other && said.is_empty() && calls.is_empty() && thinking.is_empty() && refusal.is_none() {
        return None;
    }
    let message = Members::new().put("role", "assistant");
    let message = if said.is_empty() {
        message.put("content", Json::Null)
    } else {
        message.put("content", content(&said, conversation, target))
    };
    let message = message.some("refusal", refusal);
    let message = if thinking.is_empty() { message } else { message.put("reasoning_content", thinking) };
    let message = message.some("name", turn.name.as_ref());
    let message = match (conversation.functions, calls.as_slice()) {
        (FunctionForm::Functions, [(call, _)]) => message.put("function_call", function(call)),
        _ => message.list("tool_calls", tool_calls(&calls, conversation, target)),
    };
    Some(give_back(conversation, target, &turn.native, "", message).into())
}

fn function(call: &ToolCall) -> Members {
    Members::new().put("name", &call.name).put("arguments", &call.arguments)
}

fn tool_calls(calls: &[(&ToolCall, &Part)], conversation: &Conversation, target: &Target<'_>) -> Vec<Json> {
    let one = |(call, part): &(&ToolCall, &Part)| {
        let id = call.id.clone().unwrap_or_else(|| call.name.clone());
        let members = match call.kind {
            CallKind::Function => Members::new().put("id", id).put("type", "function").put("function", function(call)),
            CallKind::Custom => Members::new()
                .put("id", id)
                .put("type", "custom")
                .put("custom", Members::new().put("name", &call.name).put("input", &call.arguments)),
        };
        give_back(conversation, target, &part.native, "", members).into()
    };
    calls.iter().map(one).collect()
}

/// Content as one text where it is one, otherwise as parts.
fn content(parts: &[Part], conversation: &Conversation, target: &Target<'_>) -> Json {
    match parts {
        [] => "".into(),
        [Part { kind: PartKind::Text(text), native, .. }] if native.is_empty() => text.into(),
        parts => parts.iter().filter_map(|part| part_of(part, conversation, target)).collect::<Vec<Json>>().into(),
    }
}

fn part_of(part: &Part, conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let members = match &part.kind {
        PartKind::Text(text) => Members::typed("text").put("text", text),
        PartKind::Refusal(text) => Members::typed("refusal").put("refusal", text),
        PartKind::Image(media) => {
            let image = Members::new().put("url", media.source.to_url());
            let image = give_back(conversation, target, &part.native, "image_url", image);
            Members::typed("image_url").put("image_url", image)
        }
        PartKind::Audio(media) => Members::typed("input_audio").put("input_audio", sound::write(media)),
        PartKind::File(media) => {
            let file = Members::new().put("file_data", media.source.to_url());
            let name = media.name.clone().unwrap_or_else(|| "document.pdf".to_owned());
            Members::typed("file").put("file", file.put("filename", name))
        }
        PartKind::Foreign(foreign) => return Some(Json::from(&foreign.value)),
        PartKind::Video(_) | PartKind::ToolCall(_) | PartKind::ToolResult(_) | PartKind::Thinking(_) => return None,
    };
    Some(give_back(conversation, target, &part.native, "", members).into())
}

fn tools(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let functions = conversation.functions == FunctionForm::Functions && conversation.dialect == target.dialect;
    let mut listed: Vec<Json> = conversation.tools.iter().map(|tool| tool_of(tool, functions)).collect();
    let hosted = given_back(conversation, target, &conversation.native, "tools");
    listed.extend(hosted.map(|native| Json::from(&native.value)));
    let body = body.list(if functions { "functions" } else { "tools" }, listed);
    let choice = conversation.tool_choice.as_ref().map(|choice| choice_of(choice, functions, &conversation.tools));
    body.some(if functions { "function_call" } else { "tool_choice" }, choice)
        .some("parallel_tool_calls", conversation.parallel_tools.filter(|_| !conversation.tools.is_empty()))
}

fn tool_of(tool: &Tool, as_function: bool) -> Json {
    let members = Members::new().put("name", &tool.name).some("description", tool.description.as_ref());
    match &tool.kind {
        ToolKind::Function { parameters, .. } => {
            let function = members.some("parameters", parameters.as_ref()).some("strict", tool.is_strict);
            if as_function { function.into() } else { Members::typed("function").put("function", function).into() }
        }
        ToolKind::Custom(format) => {
            Members::typed("custom").put("custom", members.some("format", format.as_ref())).into()
        }
    }
}

fn choice_of(choice: &ToolChoice, as_function: bool, tools: &[Tool]) -> Json {
    let named = |name: &String| Members::new().put("name", name);
    match choice {
        ToolChoice::Auto => "auto".into(),
        ToolChoice::None => "none".into(),
        ToolChoice::Required => "required".into(),
        ToolChoice::Named(name) if as_function => named(name).into(),
        ToolChoice::Named(name) => Members::typed("function").put("function", named(name)).into(),
        ToolChoice::NamedCustom(name) => Members::typed("custom").put("custom", named(name)).into(),
        ToolChoice::Subset { names, must } => {
            let customs = custom_names(tools);
            let kind = |name: &String| if customs.contains(name.as_str()) { "custom" } else { "function" };
            let tools: Vec<Json> =
                names.iter().map(|name| Members::typed(kind(name)).put(kind(name), named(name)).into()).collect();
            let mode = if *must { "required" } else { "auto" };
            let allowed = Members::new().put("mode", mode).put("tools", tools);
            Members::typed("allowed_tools").put("allowed_tools", allowed).into()
        }
    }
}

fn sampling(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let sampling = &conversation.sampling;
    let knows_top_k = conversation.dialect == target.dialect || target.marks.contains(&Mark::TopK);
    let limit = if target.marks.contains(&Mark::OldLimit) { "max_tokens" } else { "max_completion_tokens" };
    let stop: Vec<Json> = sampling.stop.iter().map(Json::from).collect();
    body.some(limit, conversation.output_limit)
        .some("temperature", sampling.temperature.as_ref())
        .some("top_p", sampling.top_p.as_ref())
        .some("top_k", sampling.top_k.as_ref().filter(|_| knows_top_k))
        .some("seed", sampling.seed.as_ref())
        .some("presence_penalty", sampling.presence_penalty.as_ref())
        .some("frequency_penalty", sampling.frequency_penalty.as_ref())
        .list("stop", stop)
        .some("n", sampling.choices)
        .some("logprobs", sampling.logprobs.or(sampling.top_logprobs.map(|_| true)))
        .some("top_logprobs", sampling.top_logprobs)
        .some("logit_bias", sampling.logit_bias.as_ref())
}

fn format(format: &AnswerFormat) -> Members {
    match format {
        AnswerFormat::Text => Members::typed("text"),
        AnswerFormat::Json => Members::typed("json_object"),
        AnswerFormat::Schema(schema) => Members::typed("json_schema").put("json_schema", named_schema::write(schema)),
    }
}
