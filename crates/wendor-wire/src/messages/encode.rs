//! A neutral conversation as the body for an upstream of this dialect.

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;

use crate::ability::Mark;
use crate::as_text::name_first;
use crate::as_text::says_something;
use crate::as_text::system_note;
use crate::conversation::turn::Thinking;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool,
    ToolChoice, ToolKind, ToolResult,
};
use crate::json::{Json, Members};
use crate::native::{give_back, given_back};
use crate::schema::closed;
use crate::seal::Seal;
use crate::verdict::Target;

/// What is asked for where neither the app nor the offer says a limit: this dialect demands one (`docs/protocols.md` section 8.4).
const USUAL_LIMIT: u64 = 4_096;

/// The smallest budget of thinking that services take.
const LEAST_BUDGET: u64 = 1_024;

/// What is said in the system text where JSON is wanted and there is no field for it.
const ANSWER_IN_JSON: &str = "Answer with one valid JSON object and nothing else.";

/// Writes the body.
#[must_use]
pub fn write(conversation: &Conversation, target: &Target<'_>) -> String {
    let limit = conversation.output_limit.or(target.output_cap).unwrap_or(USUAL_LIMIT);
    let body = Members::new().put("model", target.model).put("max_tokens", limit);
    let body = body.some("system", system(conversation, target)).put("messages", messages(conversation, target));
    let body = match conversation.delivery {
        Delivery::Whole => body,
        Delivery::Streamed(_) => body.put("stream", true),
    };
    let body = tools(conversation, target, body);
    let sampling = &conversation.sampling;
    let is_above_one = sampling.temperature.as_ref().is_some_and(|temperature| temperature.as_f64() > 1.0);
    let body = match (is_above_one, &sampling.temperature) {
        (true, _) if conversation.dialect != target.dialect => body.put("temperature", 1u64),
        (_, temperature) => body.some("temperature", temperature.as_ref()),
    };
    let top_k = sampling.top_k.as_ref().and_then(|top_k| top_k.as_whole());
    let body = body
        .some("top_p", sampling.top_p.as_ref())
        .some("top_k", top_k)
        .list("stop_sequences", sampling.stop.iter().map(Json::from).collect());
    let body = thinking(conversation, target, limit, body);
    let user = conversation.end_user.as_ref().map(|user| Members::new().put("user_id", user));
    give_back(conversation, target, &conversation.native, "", body.some("metadata", user)).to_line()
}

/// The system's text, as one text or, where its blocks carry marks, as blocks.
fn system(conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let leading = conversation.leading_system_turns();
    let turns = conversation.turns.get(..leading).unwrap_or_default();
    let wants_json = conversation.format == Some(AnswerFormat::Json);
    if let [turn] = turns {
        let has_marks = turn.parts.iter().any(|part| !part.native.is_empty()) || turn.parts.len() > 1;
        if has_marks {
            let mut blocks = blocks(&turn.parts, conversation, target);
            blocks.extend(wants_json.then(|| Members::typed("text").put("text", ANSWER_IN_JSON).into()));
            return Some(blocks.into());
        }
    }
    match (conversation.leading_system(), wants_json) {
        (Some(text), true) => Some(format!("{text}\n\n{ANSWER_IN_JSON}").into()),
        (Some(text), false) => Some(text.into()),
        (None, true) => Some(ANSWER_IN_JSON.into()),
        (None, false) => None,
    }
}

/// Turns alternate: neighbours of one role become one. Results come before anything else of their turn, as the dialect wants.
fn messages(conversation: &Conversation, target: &Target<'_>) -> Vec<Json> {
    let leading = conversation.leading_system_turns();
    let takes_system = conversation.dialect == target.dialect || target.marks.contains(&Mark::SystemTurns);
    let mut merged: Vec<(&'static str, Vec<Part>)> = Vec::new();
    for turn in conversation.turns.iter().skip(leading) {
        let role = match turn.role {
            Role::System | Role::Developer if takes_system => "system",
            Role::System | Role::Developer | Role::User => "user",
            Role::Assistant => "assistant",
        };
        let is_note = turn.role.is_system() && !takes_system;
        let mut parts = if is_note { vec![system_note(&turn.text())] } else { turn.parts.clone() };
        // Services refuse a turn that says nothing.
        parts.retain(|part| says_something(part, conversation, target));
        if parts.is_empty() {
            continue;
        }
        if let Some(name) = turn.name.as_ref().filter(|_| !is_note) {
            name_first(&mut parts, name);
        }
        match merged.last_mut() {
            Some((last, open)) if *last == role && role != "system" => open.extend(parts),
            _ => merged.push((role, parts)),
        }
    }
    let message = |(role, mut parts): (&'static str, Vec<Part>)| {
        parts.sort_by_key(|part| !matches!(part.kind, PartKind::ToolResult(_)) && role == "user");
        let content: Json = match parts.as_slice() {
            [Part { kind: PartKind::Text(text), native, .. }] if native.is_empty() => text.into(),
            parts => blocks(parts, conversation, target).into(),
        };
        Members::new().put("role", role).put("content", content).into()
    };
    merged.into_iter().map(message).collect()
}

fn blocks(parts: &[Part], conversation: &Conversation, target: &Target<'_>) -> Vec<Json> {
    let block = |part: &Part| {
        let members = block_of(part, conversation, target)?;
        Some(match members {
            Json::Object(members) => give_back(conversation, target, &part.native, "", members).into(),
            other @ (Json::Null | Json::Text(_) | Json::Raw(_) | Json::List(_)) => other,
        })
    };
    parts.iter().filter_map(block).collect()
}

fn block_of(part: &Part, conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let members = match &part.kind {
        // Services refuse empty texts.
        PartKind::Text(text) if text.is_empty() => return None,
        PartKind::Text(text) | PartKind::Refusal(text) => Members::typed("text").put("text", text),
        PartKind::Image(media) => Members::typed("image").put("source", source(media)),
        PartKind::File(media) => document(media),
        PartKind::ToolCall(call) => Members::typed("tool_use")
            .put("id", call.id.clone().unwrap_or_else(|| call.name.clone()))
            .put("name", &call.name)
            .put("input", call.arguments_object().unwrap_or_else(crate::json::RawJson::empty_object)),
        PartKind::ToolResult(result) => tool_result(result, conversation, target),
        PartKind::Thinking(thinking) => return sealed(thinking, conversation, target).map(Json::Object),
        PartKind::Foreign(foreign) => return Some(Json::from(&foreign.value)),
        PartKind::Audio(_) | PartKind::Video(_) => return None,
    };
    Some(members.into())
}

/// Thinking goes back only with a seal that this upstream made.
fn sealed(thinking: &Thinking, conversation: &Conversation, target: &Target<'_>) -> Option<Members> {
    Some(match target.own_seal(conversation, thinking.seal.as_ref()?)? {
        Seal::Signature(own) => Members::typed("thinking").put("thinking", &thinking.text).put("signature", own),
        Seal::Redacted(own) => Members::typed("redacted_thinking").put("data", own),
    })
}

fn source(media: &Media) -> Members {
    match &media.source {
        MediaSource::Bytes { kind, base64 } => Members::typed("base64").put("media_type", kind).put("data", base64),
        MediaSource::Url { url, .. } => Members::typed("url").put("url", url),
        MediaSource::Handle(id) => Members::typed("file").put("file_id", id),
    }
}

fn document(media: &Media) -> Members {
    let source = match &media.source {
        MediaSource::Bytes { kind, base64 } if kind.starts_with("text/") => {
            let text = BASE64.decode(base64).unwrap_or_default();
            Members::typed("text").put("media_type", "text/plain").put("data", String::from_utf8_lossy(&text).as_ref())
        }
        MediaSource::Bytes { .. } | MediaSource::Url { .. } | MediaSource::Handle(_) => source(media),
    };
    Members::typed("document").put("source", source).some("title", media.name.as_ref())
}

fn tool_result(result: &ToolResult, conversation: &Conversation, target: &Target<'_>) -> Members {
    let id = result.call.clone().or_else(|| result.name.clone()).unwrap_or_default();
    let members = Members::typed("tool_result").put("tool_use_id", id);
    let members = match result.parts.as_slice() {
        [] => members,
        [Part { kind: PartKind::Text(text), .. }] => members.put("content", text),
        parts => members.put("content", blocks(parts, conversation, target)),
    };
    if result.is_error { members.put("is_error", true) } else { members }
}

fn tools(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let allowed = conversation.tool_choice.as_ref().and_then(ToolChoice::allowed);
    let is_listed = |tool: &&Tool| allowed.as_ref().is_none_or(|names| names.contains(tool.name.as_str()));
    let mut listed: Vec<Json> = conversation
        .tools
        .iter()
        .filter(is_listed)
        .map(|tool| give_back(conversation, target, &tool.native, "", tool_of(tool)).into())
        .collect();
    let hosted = given_back(conversation, target, &conversation.native, "tools");
    listed.extend(hosted.map(|native| Json::from(&native.value)));
    if listed.is_empty() {
        return body;
    }
    body.put("tools", listed).some("tool_choice", choice(conversation))
}

fn tool_of(tool: &Tool) -> Members {
    let schema = match &tool.kind {
        ToolKind::Function { parameters: Some(parameters), .. } => Json::from(parameters),
        ToolKind::Function { parameters: None, .. } | ToolKind::Custom(_) => Members::typed("object").into(),
    };
    Members::new()
        .put("name", &tool.name)
        .some("description", tool.description.as_ref())
        .put("input_schema", schema)
        .some("strict", tool.is_strict.filter(|is_strict| *is_strict))
}

fn choice(conversation: &Conversation) -> Option<Members> {
    let is_serial = conversation.parallel_tools == Some(false);
    let choice = match &conversation.tool_choice {
        Some(ToolChoice::None) => return Some(Members::typed("none")),
        Some(ToolChoice::Required | ToolChoice::Subset { must: true, .. }) => Members::typed("any"),
        Some(ToolChoice::Named(name) | ToolChoice::NamedCustom(name)) => Members::typed("tool").put("name", name),
        Some(ToolChoice::Auto | ToolChoice::Subset { must: false, .. }) => Members::typed("auto"),
        None if is_serial => Members::typed("auto"),
        None => return None,
    };
    Some(if is_serial { choice.put("disable_parallel_tool_use", true) } else { choice })
}

fn thinking(conversation: &Conversation, target: &Target<'_>, limit: u64, body: Members) -> Members {
    let shown = |members| give_back(conversation, target, &conversation.native, "thinking", members);
    let is_own = conversation.dialect == target.dialect;
    let mut output = Members::new();
    let body = match conversation.thinking.amount {
        ThinkingAmount::Unsaid => body,
        ThinkingAmount::Off => body.put("thinking", Members::typed("disabled")),
        ThinkingAmount::Dynamic => body.put("thinking", shown(Members::typed("adaptive"))),
        ThinkingAmount::Effort(effort) if is_own => {
            output = output.put("effort", effort.word());
            body.put("thinking", shown(Members::typed("adaptive")))
        }
        ThinkingAmount::Effort(effort) => budget(fitting(effort, limit), body, shown),
        ThinkingAmount::Budget(tokens) => budget(Some(tokens), body, shown),
    };
    if let Some(AnswerFormat::Schema(schema)) = &conversation.format {
        output = output.put("format", Members::typed("json_schema").put("schema", closed(&schema.schema)));
    }
    body.nested("output_config", output)
}

/// A budget for an effort, which has to stay below the output limit. Where the limit leaves no room there is no thinking.
fn fitting(effort: Effort, limit: u64) -> Option<u64> {
    let budget = effort.budget().min(limit.saturating_sub(1) / 2);
    (budget >= LEAST_BUDGET).then_some(budget)
}

fn budget(tokens: Option<u64>, body: Members, shown: impl FnOnce(Members) -> Members) -> Members {
    match tokens {
        Some(tokens) => body.put("thinking", shown(Members::typed("enabled").put("budget_tokens", tokens))),
        None => body,
    }
}
