//! A neutral conversation as the body for an upstream of this dialect.

use crate::ability::Mark;
use crate::as_text::{name_first, says_something, system_note};
use crate::conversation::turn::{Thinking, text_of};
use crate::conversation::{
    AnswerFormat, Conversation, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool, ToolChoice,
    ToolKind, ToolResult,
};
use crate::dialect::Dialect;
use crate::generate_content::schema::typed_of_plain;
use crate::json::{Json, Members, RawJson};
use crate::native::{give_back, given_back};
use crate::seal::Seal;
use crate::verdict::Target;

/// Writes the body; the model's name goes into the path.
#[must_use]
pub fn write(conversation: &Conversation, target: &Target<'_>) -> String {
    let system = conversation
        .leading_system()
        .map(|text| Members::new().put("parts", vec![Members::new().put("text", text).into()]));
    let body = Members::new().put("contents", contents(conversation, target)).some("systemInstruction", system);
    let body = tools(conversation, target, body);
    let body = body.nested("generationConfig", settings(conversation, target));
    give_back(conversation, target, &conversation.native, "", body).to_line()
}

/// Turns alternate: neighbours of one role become one, and none says nothing.
fn contents(conversation: &Conversation, target: &Target<'_>) -> Vec<Json> {
    let mut merged: Vec<(&'static str, Vec<Part>)> = Vec::new();
    for turn in conversation.turns.iter().skip(conversation.leading_system_turns()) {
        let role = match turn.role {
            Role::System | Role::Developer | Role::User => "user",
            Role::Assistant => "model",
        };
        let mut parts = if turn.role.is_system() { vec![system_note(&turn.text())] } else { turn.parts.clone() };
        parts.retain(|part| says_something(part, conversation, target));
        if parts.is_empty() {
            continue;
        }
        if let Some(name) = &turn.name {
            name_first(&mut parts, name);
        }
        match merged.last_mut() {
            Some((last, open)) if *last == role => open.extend(parts),
            _ => merged.push((role, parts)),
        }
    }
    let content = |(role, parts): (&'static str, Vec<Part>)| {
        let mut written: Vec<Json> = Vec::new();
        for part in &with_seals_on_calls(parts) {
            written.extend(part_of(part, conversation, target));
        }
        Members::new().put("role", role).put("parts", written).into()
    };
    merged.into_iter().map(content).collect()
}

/// Services look for the seal of thinking on the call that it led to, where other dialects have it with the thinking.
fn with_seals_on_calls(mut parts: Vec<Part>) -> Vec<Part> {
    for at in 1..parts.len() {
        let (before, from) = parts.split_at_mut(at);
        let (Some(thinking), Some(call)) = (before.last_mut(), from.first_mut()) else { continue };
        if let (PartKind::Thinking(thinking), PartKind::ToolCall(call)) = (&mut thinking.kind, &mut call.kind) {
            call.seal = call.seal.take().or_else(|| thinking.seal.take());
        }
    }
    parts
}

fn part_of(part: &Part, conversation: &Conversation, target: &Target<'_>) -> Option<Json> {
    let members = match &part.kind {
        PartKind::Text(text) | PartKind::Refusal(text) => Members::new().put("text", text),
        PartKind::Image(media) => medium(media, "image/*"),
        PartKind::Audio(media) => medium(media, "audio/*"),
        PartKind::Video(media) => medium(media, "video/*"),
        PartKind::File(media) => medium(media, "application/pdf"),
        PartKind::ToolCall(call) => {
            let args = call.arguments_object().unwrap_or_else(RawJson::empty_object);
            let function = Members::new().some("id", call.id.as_ref()).put("name", &call.name).put("args", args);
            let own = call.seal.as_ref().and_then(|seal| target.own_seal(conversation, seal));
            Members::new().put("functionCall", function).some("thoughtSignature", own.as_ref().map(Seal::text))
        }
        PartKind::ToolResult(result) => Members::new().put("functionResponse", response(result)),
        PartKind::Thinking(thinking) => sealed(thinking, conversation, target)?,
        PartKind::Foreign(foreign) => return Some(Json::from(&foreign.value)),
    };
    Some(give_back(conversation, target, &part.native, "", members).into())
}

fn sealed(thinking: &Thinking, conversation: &Conversation, target: &Target<'_>) -> Option<Members> {
    let own = target.own_seal(conversation, thinking.seal.as_ref()?)?;
    Some(Members::new().put("text", &thinking.text).put("thought", true).put("thoughtSignature", own.text()))
}

fn medium(media: &Media, usual: &str) -> Members {
    match &media.source {
        MediaSource::Bytes { kind, base64 } => {
            Members::new().put("inlineData", Members::new().put("mimeType", kind).put("data", base64))
        }
        MediaSource::Url { url, kind } => {
            // Something has to stand there; services look at the file itself.
            let kind = kind.clone().unwrap_or_else(|| usual.to_owned());
            Members::new().put("fileData", Members::new().put("mimeType", kind).put("fileUri", url))
        }
        MediaSource::Handle(handle) => Members::new().put("fileData", Members::new().put("fileUri", handle)),
    }
}

/// A result is an object here: text is put into a member of one.
fn response(result: &ToolResult) -> Members {
    let text = text_of(&result.parts);
    let structured = RawJson::parse(&text).filter(|value| value.is_object() || value.as_str().starts_with('['));
    let value = match (structured, result.is_error) {
        (_, true) => Json::from(Members::new().put("error", text)),
        (Some(object), false) if object.is_object() => Json::from(object),
        (Some(list), false) => Json::from(Members::new().put("result", list)),
        (None, false) => Json::from(Members::new().put("result", text)),
    };
    let media = result.parts.iter().filter_map(|part| match &part.kind {
        PartKind::Image(media) => Some(Json::from(medium(media, "image/*"))),
        PartKind::Audio(media) => Some(Json::from(medium(media, "audio/*"))),
        PartKind::File(media) => Some(Json::from(medium(media, "application/pdf"))),
        PartKind::Text(_)
        | PartKind::Refusal(_)
        | PartKind::Video(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Thinking(_)
        | PartKind::Foreign(_) => None,
    });
    Members::new()
        .some("id", result.call.as_ref())
        .put("name", result.function())
        .put("response", value)
        .list("parts", media.collect())
}

fn tools(conversation: &Conversation, target: &Target<'_>, body: Members) -> Members {
    let declarations: Vec<Json> =
        conversation.tools.iter().map(|tool| declaration(tool, conversation, target).into()).collect();
    let mut listed: Vec<Json> = Vec::new();
    if !declarations.is_empty() {
        listed.push(Members::new().put("functionDeclarations", declarations).into());
    }
    let hosted = given_back(conversation, target, &conversation.native, "tools");
    listed.extend(hosted.map(|native| Members::new().put(native.name.clone(), &native.value).into()));
    let config = Members::new().some("functionCallingConfig", conversation.tool_choice.as_ref().map(calling));
    let config = give_back(conversation, target, &conversation.native, "toolConfig", config);
    body.list("tools", listed).nested("toolConfig", config)
}

fn declaration(tool: &Tool, conversation: &Conversation, target: &Target<'_>) -> Members {
    let members = Members::new().put("name", &tool.name).some("description", tool.description.as_ref());
    let members = match &tool.kind {
        ToolKind::Function { typed: Some(typed), .. } => members.put("parameters", typed),
        ToolKind::Function { parameters: Some(plain), .. } => {
            schema(members, "parameters", "parametersJsonSchema", plain, target)
        }
        ToolKind::Function { parameters: None, .. } | ToolKind::Custom(_) => members,
    };
    give_back(conversation, target, &tool.native, "", members)
}

/// A schema under its name in the form that the upstream knows. One that has no typed form goes as it is: the upstream says so.
fn schema(
    members: Members,
    typed: &'static str,
    plain: &'static str,
    schema: &RawJson,
    target: &Target<'_>,
) -> Members {
    match target.marks.contains(&Mark::TypedSchemas).then(|| typed_of_plain(schema)).flatten() {
        Some(converted) => members.put(typed, converted),
        None => members.put(plain, schema),
    }
}

fn calling(choice: &ToolChoice) -> Members {
    let mode = |mode: &'static str| Members::new().put("mode", mode);
    let names = |names: &[String]| names.iter().map(Json::from).collect::<Vec<Json>>();
    match choice {
        ToolChoice::Auto => mode("AUTO"),
        ToolChoice::None => mode("NONE"),
        ToolChoice::Required => mode("ANY"),
        ToolChoice::Named(name) | ToolChoice::NamedCustom(name) => {
            mode("ANY").put("allowedFunctionNames", vec![name.into()])
        }
        ToolChoice::Subset { names: wanted, must: true } => mode("ANY").put("allowedFunctionNames", names(wanted)),
        // Services take names only with a forced call; the validated mode lets the model choose.
        ToolChoice::Subset { names: wanted, must: false } => {
            mode("VALIDATED").put("allowedFunctionNames", names(wanted))
        }
    }
}

fn settings(conversation: &Conversation, target: &Target<'_>) -> Members {
    let sampling = &conversation.sampling;
    let config = Members::new()
        .some("maxOutputTokens", conversation.output_limit)
        .some("temperature", sampling.temperature.as_ref())
        .some("topP", sampling.top_p.as_ref())
        .some("topK", sampling.top_k.as_ref())
        .some("seed", sampling.seed.as_ref())
        .some("presencePenalty", sampling.presence_penalty.as_ref())
        .some("frequencyPenalty", sampling.frequency_penalty.as_ref())
        .list("stopSequences", sampling.stop.iter().map(Json::from).collect())
        .some("candidateCount", sampling.choices)
        .some("responseLogprobs", sampling.logprobs.or(sampling.top_logprobs.map(|_| true)))
        .some("logprobs", sampling.top_logprobs);
    let config = match &conversation.format {
        None => config,
        Some(AnswerFormat::Text) => config.put("responseMimeType", "text/plain"),
        Some(AnswerFormat::Json) => config.put("responseMimeType", "application/json"),
        Some(AnswerFormat::Schema(wanted)) => {
            let config = config.put("responseMimeType", "application/json");
            match &wanted.typed {
                Some(typed) => config.put("responseSchema", typed),
                None => schema(config, "responseSchema", "responseJsonSchema", &wanted.schema, target),
            }
        }
    };
    let config = config.nested("thinkingConfig", thinking(conversation));
    give_back(conversation, target, &conversation.native, "generationConfig", config)
}

fn thinking(conversation: &Conversation) -> Members {
    let is_own = conversation.dialect == Dialect::GenerateContent;
    // Apps of other dialects see thinking whenever there is some.
    let shown = match (conversation.thinking.is_shown, conversation.thinking.amount) {
        (Some(shown), _) => Some(shown),
        (None, ThinkingAmount::Unsaid | ThinkingAmount::Off) => None,
        (None, ThinkingAmount::Dynamic | ThinkingAmount::Effort(_) | ThinkingAmount::Budget(_)) => {
            (!is_own).then_some(true)
        }
    };
    let config = Members::new().some("includeThoughts", shown);
    match conversation.thinking.amount {
        ThinkingAmount::Unsaid => config,
        ThinkingAmount::Off => config.put("thinkingBudget", 0u64),
        ThinkingAmount::Dynamic => config.put("thinkingBudget", -1i64),
        ThinkingAmount::Budget(tokens) => config.put("thinkingBudget", tokens),
        ThinkingAmount::Effort(effort) => config.put("thinkingLevel", level(effort)),
    }
}

fn level(effort: Effort) -> &'static str {
    match effort {
        Effort::Minimal => "MINIMAL",
        Effort::Low => "LOW",
        Effort::Medium => "MEDIUM",
        Effort::High => "HIGH",
        Effort::Higher | Effort::Max => "XHIGH",
    }
}
