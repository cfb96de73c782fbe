//! An app's request as a neutral conversation (`docs/protocols.md` section 3.2).

use crate::codec::Outside;
use crate::conversation::turn::{CallKind, Foreign, Thinking, tell_cache_marks};
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Media, MediaSource, Native, Part, PartKind, Role, Tool, ToolCall, ToolChoice,
    ToolKind, ToolResult, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::effort;
use crate::json::{Node, Object, Wrong};
use crate::named_schema;
use crate::native::hosted;
use crate::native::{Known, take_known};
use crate::schema;
use crate::seal::Seal;
use crate::verdict::field::Field;

const KNOWN: &[Known] = &[
    ("previous_response_id", Field::SharedState),
    ("conversation", Field::SharedState),
    ("prompt", Field::SharedState),
    ("max_tool_calls", Field::MaxToolCalls),
    ("metadata", Field::Metadata),
    ("safety_identifier", Field::UserMarks),
    ("prompt_cache_key", Field::UserMarks),
    ("prompt_cache_options", Field::UserMarks),
    ("prompt_cache_retention", Field::UserMarks),
    ("service_tier", Field::ServiceTier),
    ("store", Field::Store),
    ("context_management", Field::OwnOnly),
    ("moderation", Field::OwnKnob),
];

/// What an item carries of its own making, which comes back with it.
const KNOWN_OF_ITEM: &[Known] = &[
    ("id", Field::Usual),
    ("status", Field::Usual),
    ("phase", Field::Usual),
    ("prompt_cache_breakpoint", Field::WideCacheMarks),
];

/// Reads a body.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str, _outside: Outside<'_>) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).object()?;
    let model = object.required_text("model", "the name of a route")?;
    let mut conversation = Conversation::of(Dialect::Responses, model);
    conversation.delivery =
        if object.flag("stream")?.unwrap_or(false) { Delivery::Streamed(UsageFrame::Asked) } else { Delivery::Whole };
    object.take("stream_options");
    if let Some(instructions) = object.text("instructions")? {
        conversation.turns.push(Turn::of_text(Role::System, instructions, "instructions"));
    }
    let input = object.required("input", "a text or a list of items")?;
    if input.is_text() {
        conversation.turns.push(Turn::of_text(Role::User, input.text()?, "input"));
    } else {
        for node in input.list()? {
            item(&node, &mut conversation)?;
        }
    }
    conversation.link();
    tools(&mut object, &mut conversation)?;
    settings(&mut object, &mut conversation)?;
    include(&mut object, &mut conversation)?;
    take_known(&mut object, KNOWN, "", &mut conversation.native);
    switches(&mut object, &mut conversation)?;
    conversation.not_known(object);
    Ok(conversation)
}

fn settings(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    conversation.output_limit = object.count("max_output_tokens")?;
    conversation.places.push(("output_limit", "max_output_tokens".to_owned()));
    conversation.sampling.temperature = object.number("temperature")?;
    conversation.sampling.top_p = object.number("top_p")?;
    conversation.sampling.top_logprobs = object.count("top_logprobs")?;
    conversation.places.push(("logprobs", "top_logprobs".to_owned()));
    conversation.end_user = object.text("user")?;
    if let Some(mut text) = object.object("text")? {
        if let Some(node) = text.take("format") {
            conversation.places.push(("format", node.path().to_owned()));
            let mut format = node.object()?;
            conversation.format = match format.required_text("type", "text, json_object or json_schema")?.as_str() {
                "text" => Some(AnswerFormat::Text),
                "json_object" => Some(AnswerFormat::Json),
                "json_schema" => Some(AnswerFormat::Schema(named_schema::read(&mut format)?)),
                _ => return Err(node.wrong("of type text, json_object or json_schema")),
            };
        }
        take_known(&mut text, &[("verbosity", Field::Verbosity)], "text", &mut conversation.native);
    }
    let Some(mut reasoning) = object.object("reasoning")? else { return Ok(()) };
    if let Some(node) = reasoning.take("effort") {
        conversation.thinking.amount = effort::read(&node)?;
        conversation.places.push(("thinking", node.path().to_owned()));
    }
    let known = [("summary", Field::ThinkingShown), ("mode", Field::OwnKnob), ("context", Field::OwnKnob)];
    take_known(&mut reasoning, &known, "reasoning", &mut conversation.native);
    Ok(())
}

fn include(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    for node in object.list("include")? {
        let field = match node.text()?.as_str() {
            // Seals come and go by themselves; where nobody sealed there is nothing to include.
            "reasoning.encrypted_content" => Field::Usual,
            "message.output_text.logprobs" => {
                conversation.sampling.logprobs = Some(true);
                continue;
            }
            _ => Field::IncludeHosted,
        };
        conversation.native.push(native(&node, field, "include"));
    }
    Ok(())
}

fn native(node: &Node<'_>, field: Field, container: &'static str) -> Native {
    Native { field, container, name: String::new(), path: node.path().to_owned(), value: node.raw() }
}

/// Members whose default says nothing and whose other values reach far.
fn switches(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let mut keep = |node: Node<'_>, name: &str, field: Field| {
        conversation.native.push(Native { name: name.to_owned(), ..native(&node, field, "") });
    };
    if let Some(node) = object.take("background") {
        let field = if node.flag()? { Field::Background } else { Field::Usual };
        keep(node, "background", field);
    }
    if let Some(node) = object.take("truncation") {
        let field = if node.text()? == "auto" { Field::TruncationAuto } else { Field::Usual };
        keep(node, "truncation", field);
    }
    Ok(())
}

fn item(node: &Node<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let mut object = node.object()?;
    let kind = object.text("type")?;
    let role_is_there = kind.is_none() || kind.as_deref() == Some("message");
    let (role, part) = match kind.as_deref() {
        _ if role_is_there => return message(node, object, conversation),
        Some("function_call") => (Role::Assistant, call(&mut object, CallKind::Function)?),
        Some("custom_tool_call") => (Role::Assistant, call(&mut object, CallKind::Custom)?),
        Some("function_call_output") => (Role::User, result(&mut object, CallKind::Function)?),
        Some("custom_tool_call_output") => (Role::User, result(&mut object, CallKind::Custom)?),
        Some("reasoning") => (Role::Assistant, reasoning(&mut object)?),
        Some("item_reference") => (Role::User, foreign(node, Field::SharedState)),
        Some(_) | None => (Role::Assistant, foreign(node, Field::HostedTool)),
    };
    let mut part = Part::of(part, node.path());
    if !matches!(part.kind, PartKind::Foreign(_)) {
        take_known(&mut object, KNOWN_OF_ITEM, "", &mut part.native);
        conversation.not_known(object);
    }
    conversation.turns.push(Turn::of(role, vec![part], node.path()));
    Ok(())
}

fn foreign(node: &Node<'_>, field: Field) -> PartKind {
    PartKind::Foreign(Foreign { field, value: node.raw() })
}

fn call(object: &mut Object<'_>, kind: CallKind) -> Result<PartKind, Wrong> {
    let arguments = if kind == CallKind::Function { "arguments" } else { "input" };
    Ok(PartKind::ToolCall(ToolCall {
        id: Some(object.required_text("call_id", "the call's id")?),
        name: object.required_text("name", "the function's name")?,
        arguments: object.text(arguments)?.unwrap_or_default(),
        kind,
        seal: None,
    }))
}

fn result(object: &mut Object<'_>, kind: CallKind) -> Result<PartKind, Wrong> {
    let call = object.required_text("call_id", "the id of the call")?;
    let parts = object.take("output").map(|node| content(&node)).transpose()?.unwrap_or_default();
    Ok(PartKind::ToolResult(ToolResult { call: Some(call), name: None, parts, is_error: false, kind, called: None }))
}

fn reasoning(object: &mut Object<'_>) -> Result<PartKind, Wrong> {
    let mut text = Vec::new();
    for name in ["summary", "content"] {
        for node in object.list(name)? {
            text.extend(node.object()?.text("text")?);
        }
    }
    let seal = object.text("encrypted_content")?.map(Seal::Signature);
    Ok(PartKind::Thinking(Thinking { text: text.join("\n"), seal }))
}

fn message(node: &Node<'_>, mut object: Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let role_node = object.required("role", "user, assistant, system or developer")?;
    let role = match role_node.text()?.as_str() {
        "user" => Role::User,
        "assistant" => Role::Assistant,
        "system" => Role::System,
        "developer" => Role::Developer,
        _ => return Err(role_node.wrong("user, assistant, system or developer")),
    };
    let mut parts = content(&object.required("content", "a text or a list of parts")?)?;
    tell_cache_marks(&mut parts, role);
    let mut turn = Turn::of(role, parts, node.path());
    take_known(&mut object, KNOWN_OF_ITEM, "", &mut turn.native);
    conversation.not_known(object);
    conversation.turns.push(turn);
    Ok(())
}

fn content(node: &Node<'_>) -> Result<Vec<Part>, Wrong> {
    if node.is_text() {
        return Ok(vec![Part::of(PartKind::Text(node.text()?), node.path())]);
    }
    node.list()?.iter().map(part).collect()
}

fn part(node: &Node<'_>) -> Result<Part, Wrong> {
    let mut object = node.object()?;
    let mut native = Vec::new();
    let kind = match object.required_text("type", "the kind of the part")?.as_str() {
        "input_text" | "output_text" | "text" => PartKind::Text(object.required_text("text", "the text")?),
        "refusal" => PartKind::Refusal(object.required_text("refusal", "the text")?),
        "input_image" => {
            take_known(&mut object, &[("detail", Field::ImageDetail)], "", &mut native);
            let source = match object.text("file_id")? {
                Some(handle) => MediaSource::Handle(handle),
                None => MediaSource::of_url(object.required_text("image_url", "an address")?),
            };
            PartKind::Image(Media { source, name: None })
        }
        "input_audio" => {
            let mut audio = object.required("input_audio", "an object with `data` and `format`")?.object()?;
            let base64 = audio.required_text("data", "the sound in base64")?;
            let kind = format!("audio/{}", audio.required_text("format", "wav or mp3")?);
            PartKind::Audio(Media { source: MediaSource::bytes(&kind, base64), name: None })
        }
        "input_file" => PartKind::File(file(&mut object)?),
        _ => foreign(node, Field::OwnOnly),
    };
    take_known(&mut object, &[("prompt_cache_breakpoint", Field::CacheMarks)], "", &mut native);
    Ok(Part { kind, path: node.path().to_owned(), native })
}

fn file(object: &mut Object<'_>) -> Result<Media, Wrong> {
    let name = object.text("filename")?;
    let source = match (object.text("file_id")?, object.text("file_url")?) {
        (Some(handle), _) => MediaSource::Handle(handle),
        (None, Some(url)) => MediaSource::Url { url, kind: None },
        (None, None) => {
            match MediaSource::of_url(object.required_text("file_data", "the document as a `data:` address")?) {
                MediaSource::Url { url, .. } => MediaSource::Bytes { kind: "application/pdf".to_owned(), base64: url },
                told @ (MediaSource::Bytes { .. } | MediaSource::Handle(_)) => told,
            }
        }
    };
    Ok(Media { source, name })
}

fn tools(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    for node in object.list("tools")? {
        let mut tool = node.object()?;
        let kind = tool.required_text("type", "function or custom")?;
        let kind = match kind.as_str() {
            "function" => {
                ToolKind::Function { parameters: tool.take("parameters").map(|node| schema::read(&node)), typed: None }
            }
            "custom" => ToolKind::Custom(tool.take("format").map(|node| node.raw())),
            _ => {
                conversation.native.push(hosted(&node, "tools"));
                continue;
            }
        };
        conversation.tools.push(Tool {
            name: tool.required_text("name", "the function's name")?,
            description: tool.text("description")?,
            kind,
            is_strict: tool.flag("strict")?,
            path: node.path().to_owned(),
            native: Vec::new(),
        });
        conversation.not_known(tool);
    }
    conversation.parallel_tools = object.flag("parallel_tool_calls")?;
    let Some(node) = object.take("tool_choice") else { return Ok(()) };
    conversation.tool_choice = choice(&node, conversation)?;
    Ok(())
}

/// A choice that names tools of the service.
fn hosted_choice(node: &Node<'_>, conversation: &mut Conversation) -> Option<ToolChoice> {
    conversation.native.push(Native { name: "tool_choice".to_owned(), ..native(node, Field::HostedTool, "") });
    None
}

fn choice(node: &Node<'_>, conversation: &mut Conversation) -> Result<Option<ToolChoice>, Wrong> {
    let expected = "none, auto, required, or an object that names a function";
    if node.is_text() {
        return match node.text()?.as_str() {
            "none" => Ok(Some(ToolChoice::None)),
            "auto" => Ok(Some(ToolChoice::Auto)),
            "required" => Ok(Some(ToolChoice::Required)),
            _ => Err(node.wrong(expected)),
        };
    }
    let mut object = node.object()?;
    match object.required_text("type", "function, custom or allowed_tools")?.as_str() {
        "function" => Ok(Some(ToolChoice::Named(object.required_text("name", "the function's name")?))),
        "custom" => Ok(Some(ToolChoice::NamedCustom(object.required_text("name", "the tool's name")?))),
        "allowed_tools" => {
            let must = object.text("mode")?.as_deref() == Some("required");
            let mut names = Vec::new();
            for tool in object.list("tools")? {
                let mut tool = tool.object()?;
                if !matches!(tool.text("type")?.as_deref(), Some("function" | "custom") | None) {
                    return Ok(hosted_choice(node, conversation));
                }
                names.push(tool.required_text("name", "the tool's name")?);
            }
            Ok(Some(ToolChoice::Subset { names, must }))
        }
        _ => Ok(hosted_choice(node, conversation)),
    }
}
