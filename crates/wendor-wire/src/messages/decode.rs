//! An app's request as a neutral conversation (`docs/protocols.md` section 4.2).

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;

use crate::codec::Outside;
use crate::conversation::turn::{CallKind, Foreign, Thinking, tell_cache_marks};
use crate::conversation::wish::Schema;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool,
    ToolCall, ToolChoice, ToolKind, ToolResult, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::json::{Node, Object, Wrong};
use crate::native::hosted;
use crate::native::{Known, take_known};
use crate::schema;
use crate::seal::Seal;
use crate::verdict::field::Field;

const KNOWN: &[Known] = &[
    ("service_tier", Field::ServiceTier),
    ("cache_control", Field::WideCacheMarks),
    ("container", Field::SharedState),
    ("mcp_servers", Field::HostedTool),
    ("context_management", Field::OwnOnly),
    ("diagnostics", Field::OwnKnob),
    ("inference_geo", Field::OwnKnob),
    ("speed", Field::ServiceTier),
    ("user_profile_id", Field::OwnKnob),
    ("workspace_id", Field::OwnKnob),
];

const CACHE: &[Known] = &[("cache_control", Field::CacheMarks)];

/// The same where other dialects have no place for it.
const WIDE_CACHE: &[Known] = &[("cache_control", Field::WideCacheMarks)];

/// Reads a body.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str, _outside: Outside<'_>) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).object()?;
    let model = object.required_text("model", "the name of a route")?;
    let mut conversation = Conversation::of(Dialect::Messages, model);
    conversation.delivery =
        if object.flag("stream")?.unwrap_or(false) { Delivery::Streamed(UsageFrame::Asked) } else { Delivery::Whole };
    if let Some(system) = object.take("system") {
        let mut parts = content(&system, &mut conversation)?;
        tell_cache_marks(&mut parts, Role::System);
        conversation.turns.push(Turn::of(Role::System, parts, "system"));
    }
    for node in object.required("messages", "a list of messages")?.list()? {
        turn(&node, &mut conversation)?;
    }
    conversation.link();
    conversation.output_limit = Some(object.required("max_tokens", "the most output tokens")?.count()?);
    conversation.places.push(("output_limit", "max_tokens".to_owned()));
    tools(&mut object, &mut conversation)?;
    let sampling = &mut conversation.sampling;
    sampling.temperature = object.number("temperature")?;
    sampling.top_p = object.number("top_p")?;
    sampling.top_k = object.number("top_k")?;
    sampling.stop = object.take("stop_sequences").map(|node| node.texts()).transpose()?.unwrap_or_default();
    conversation.places.push(("stop", "stop_sequences".to_owned()));
    thinking(&mut object, &mut conversation)?;
    if let Some(mut metadata) = object.object("metadata")? {
        conversation.end_user = metadata.text("user_id")?;
        conversation.places.push(("user", "metadata.user_id".to_owned()));
        conversation.not_known(metadata);
    }
    take_known(&mut object, KNOWN, "", &mut conversation.native);
    conversation.not_known(object);
    Ok(conversation)
}

fn turn(node: &Node<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let mut object = node.object()?;
    let role_node = object.required("role", "user or assistant")?;
    let role = match role_node.text()?.as_str() {
        "user" => Role::User,
        "assistant" => Role::Assistant,
        "system" => Role::System,
        _ => return Err(role_node.wrong("user or assistant")),
    };
    let mut parts = content(&object.required("content", "a text or a list of blocks")?, conversation)?;
    tell_cache_marks(&mut parts, role);
    conversation.not_known(object);
    conversation.turns.push(Turn::of(role, parts, node.path()));
    Ok(())
}

fn content(node: &Node<'_>, conversation: &mut Conversation) -> Result<Vec<Part>, Wrong> {
    if node.is_text() {
        return Ok(vec![Part::of(PartKind::Text(node.text()?), node.path())]);
    }
    node.list()?.iter().map(|node| block(node, conversation)).collect()
}

fn block(node: &Node<'_>, conversation: &mut Conversation) -> Result<Part, Wrong> {
    let mut object = node.object()?;
    let kind = object.required_text("type", "the kind of the block")?;
    let mut native = Vec::new();
    let kind = match kind.as_str() {
        "text" => {
            take_known(&mut object, &[("citations", Field::Usual)], "", &mut native);
            PartKind::Text(object.required_text("text", "the text")?)
        }
        "image" => {
            let source = object.required("source", "where the image is")?;
            PartKind::Image(Media { source: source_of(&source, "image/png")?, name: None })
        }
        "document" => document(node, &mut object, &mut native)?,
        "tool_use" => PartKind::ToolCall(ToolCall {
            id: Some(object.required_text("id", "the call's id")?),
            name: object.required_text("name", "the function's name")?,
            arguments: object.take("input").map_or_else(|| "{}".to_owned(), |input| input.raw().as_str().to_owned()),
            kind: CallKind::Function,
            seal: None,
        }),
        "tool_result" => result(&mut object, conversation)?,
        "thinking" => {
            let text = object.text("thinking")?.unwrap_or_default();
            let seal = object.text("signature")?.filter(|seal| !seal.is_empty()).map(Seal::Signature);
            PartKind::Thinking(Thinking { text, seal })
        }
        "redacted_thinking" => {
            let seal = object.required_text("data", "the sealed thinking")?;
            PartKind::Thinking(Thinking { text: String::new(), seal: Some(Seal::Redacted(seal)) })
        }
        "server_tool_use" | "web_search_tool_result" | "search_result" => {
            PartKind::Foreign(Foreign { field: Field::HostedTool, value: node.raw() })
        }
        _ => PartKind::Foreign(Foreign { field: Field::OwnOnly, value: node.raw() }),
    };
    take_known(&mut object, CACHE, "", &mut native);
    // What cannot be understood goes along whole, so its members are not unknown.
    if !matches!(kind, PartKind::Foreign(_)) {
        conversation.not_known(object);
    }
    Ok(Part { kind, path: node.path().to_owned(), native })
}

fn result(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<PartKind, Wrong> {
    let call = object.required_text("tool_use_id", "the id of the call")?;
    let mut parts = object.take("content").map(|node| content(&node, conversation)).transpose()?.unwrap_or_default();
    // Of parts of a result alone no dialect is told.
    tell_cache_marks(&mut parts, Role::System);
    let is_error = object.flag("is_error")?.unwrap_or(false);
    Ok(PartKind::ToolResult(ToolResult {
        call: Some(call),
        name: None,
        parts,
        is_error,
        kind: CallKind::Function,
        called: None,
    }))
}

fn source_of(node: &Node<'_>, usual_kind: &str) -> Result<MediaSource, Wrong> {
    let mut source = node.object()?;
    match source.required_text("type", "base64, url or file")?.as_str() {
        "base64" => Ok(MediaSource::Bytes {
            kind: source.text("media_type")?.unwrap_or_else(|| usual_kind.to_owned()),
            base64: source.required_text("data", "the bytes in base64")?,
        }),
        "url" => Ok(MediaSource::Url { url: source.required_text("url", "an address")?, kind: None }),
        "file" => Ok(MediaSource::Handle(source.required_text("file_id", "the file's id")?)),
        _ => Err(node.wrong("of type base64, url or file")),
    }
}

fn document(
    node: &Node<'_>,
    object: &mut Object<'_>,
    native: &mut Vec<crate::conversation::Native>,
) -> Result<PartKind, Wrong> {
    let source = object.required("source", "where the document is")?;
    let mut inner = source.object()?;
    let kind = inner.text("type")?.unwrap_or_default();
    let name = object.text("title")?;
    let wants_citations = object.take("citations");
    let is_on = wants_citations.as_ref().and_then(|node| node.object().ok()?.flag("enabled").ok()?).unwrap_or(false);
    if let Some(citations) = wants_citations {
        native.push(crate::conversation::Native {
            field: if is_on { Field::Citations } else { Field::Usual },
            container: "",
            name: "citations".to_owned(),
            path: citations.path().to_owned(),
            value: citations.raw(),
        });
    }
    take_known(object, &[("context", Field::OwnKnob)], "", native);
    match kind.as_str() {
        "text" => {
            let text = inner.required_text("data", "the document's text")?;
            Ok(PartKind::File(Media {
                source: MediaSource::Bytes { kind: "text/plain".to_owned(), base64: BASE64.encode(text) },
                name,
            }))
        }
        "content" => Ok(PartKind::Foreign(Foreign { field: Field::BlockDocument, value: node.raw() })),
        _ => Ok(PartKind::File(Media { source: source_of(&source, "application/pdf")?, name })),
    }
}

fn tools(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    for node in object.list("tools")? {
        let mut tool = node.object()?;
        let kind = tool.text("type")?;
        if kind.as_deref().is_some_and(|kind| kind != "custom") {
            conversation.native.push(hosted(&node, "tools"));
            continue;
        }
        let parameters = tool.take("input_schema").map(|node| schema::read(&node));
        let mut native = Vec::new();
        take_known(&mut tool, WIDE_CACHE, "", &mut native);
        let is_strict = tool.flag("strict")?;
        let description = tool.text("description")?;
        let name = tool.required_text("name", "the function's name")?;
        let kind = ToolKind::Function { parameters, typed: None };
        conversation.tools.push(Tool { name, description, kind, is_strict, path: node.path().to_owned(), native });
        conversation.not_known(tool);
    }
    let Some(node) = object.take("tool_choice") else { return Ok(()) };
    let mut choice = node.object()?;
    let kind = choice.required_text("type", "auto, any, none or tool")?;
    conversation.tool_choice = Some(match kind.as_str() {
        "auto" => ToolChoice::Auto,
        "any" => ToolChoice::Required,
        "none" => ToolChoice::None,
        "tool" => ToolChoice::Named(choice.required_text("name", "the function's name")?),
        _ => return Err(node.wrong("of type auto, any, none or tool")),
    });
    if let Some(is_off) = choice.flag("disable_parallel_tool_use")? {
        conversation.parallel_tools = Some(!is_off);
        conversation.places.push(("parallel_tool_calls", "tool_choice.disable_parallel_tool_use".to_owned()));
    }
    Ok(())
}

fn thinking(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    if let Some(node) = object.take("thinking") {
        let mut thinking = node.object()?;
        conversation.thinking.amount = match thinking.required_text("type", "enabled, adaptive or disabled")?.as_str() {
            "enabled" => {
                ThinkingAmount::Budget(thinking.required("budget_tokens", "how many tokens to think")?.count()?)
            }
            "disabled" => ThinkingAmount::Off,
            _ => ThinkingAmount::Dynamic,
        };
        take_known(&mut thinking, &[("display", Field::ThinkingShown)], "thinking", &mut conversation.native);
    }
    conversation.places.push(("thinking", "thinking".to_owned()));
    let Some(mut output) = object.object("output_config")? else { return Ok(()) };
    if let Some(node) = output.take("effort") {
        let word = node.text()?;
        let effort = Effort::parse(&word).ok_or_else(|| node.wrong("low, medium, high or max"))?;
        // A budget says the same more exactly.
        if !matches!(conversation.thinking.amount, ThinkingAmount::Budget(_)) {
            conversation.thinking.amount = ThinkingAmount::Effort(effort);
        }
    }
    if let Some(node) = output.take("format") {
        let mut format = node.object()?;
        let schema = schema::read(&format.required("schema", "a JSON Schema")?);
        let schema = Schema { schema, typed: None, name: None, description: None, is_strict: None };
        conversation.format = Some(AnswerFormat::Schema(schema));
        conversation.places.push(("format", node.path().to_owned()));
    }
    conversation.not_known(output);
    Ok(())
}
