//! An app's request as a neutral conversation (`docs/protocols.md` sections 2.2, 2.3 and 2.6).

use crate::codec::Outside;
use crate::conversation::turn::{CallKind, Foreign, Thinking, tell_cache_marks};
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, FunctionForm, Media, MediaSource, Part, PartKind, Role, Tool, ToolCall,
    ToolChoice, ToolKind, ToolResult, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::effort;
use crate::json::{Node, Object, Wrong};
use crate::named_schema;
use crate::native::hosted;
use crate::native::{Known, take_known};
use crate::schema;
use crate::verdict::field::Field;

/// Members of the body that no other dialect has under a neutral word.
const KNOWN: &[Known] = &[
    ("safety_identifier", Field::UserMarks),
    ("prompt_cache_key", Field::UserMarks),
    ("prompt_cache_options", Field::UserMarks),
    ("prompt_cache_retention", Field::UserMarks),
    ("metadata", Field::Metadata),
    ("store", Field::Store),
    ("service_tier", Field::ServiceTier),
    ("verbosity", Field::Verbosity),
    ("prediction", Field::Prediction),
    ("audio", Field::AudioOut),
    ("modalities", Field::Usual),
    ("moderation", Field::OwnKnob),
    ("web_search_options", Field::HostedTool),
];

/// Members of a turn that only this dialect has.
const KNOWN_OF_TURN: &[Known] = &[("prompt_cache_breakpoint", Field::WideCacheMarks)];

/// Members of a part that only this dialect has.
const KNOWN_OF_PART: &[Known] = &[("prompt_cache_breakpoint", Field::CacheMarks)];

/// Reads a body.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str, _outside: Outside<'_>) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).object()?;
    let model = object.required_text("model", "the name of a route")?;
    let mut conversation = Conversation::of(Dialect::ChatCompletions, model);
    conversation.delivery = delivery(&mut object)?;
    for node in object.required("messages", "a list of messages")?.list()? {
        turn(&node, &mut conversation)?;
    }
    conversation.link();
    tools(&mut object, &mut conversation)?;
    functions(&mut object, &mut conversation)?;
    sampling(&mut object, &mut conversation)?;
    limits(&mut object, &mut conversation)?;
    conversation.format = object.take("response_format").map(|node| format(&node)).transpose()?.flatten();
    conversation.places.push(("format", "response_format".to_owned()));
    if let Some(node) = object.take("reasoning_effort") {
        conversation.thinking.amount = effort::read(&node)?;
        conversation.places.push(("thinking", "reasoning_effort".to_owned()));
    }
    conversation.end_user = object.text("user")?;
    // Another answer than text is told by `modalities`; text alone says nothing.
    take_known(&mut object, KNOWN, "", &mut conversation.native);
    for native in conversation.native.iter_mut().filter(|native| native.name == "modalities") {
        let is_audio = |listed: Vec<String>| listed.iter().any(|modality| modality == "audio");
        if serde_json::from_str(native.value.as_str()).is_ok_and(is_audio) {
            native.field = Field::AudioOut;
        }
    }
    conversation.not_known(object);
    Ok(conversation)
}

fn delivery(object: &mut Object<'_>) -> Result<Delivery, Wrong> {
    let is_streamed = object.flag("stream")?.unwrap_or(false);
    let mut wants_usage = false;
    if let Some(mut options) = object.object("stream_options")? {
        wants_usage = options.flag("include_usage")?.unwrap_or(false);
        // Padding is for the way to the app, which has no need of it here.
        options.flag("include_obfuscation")?;
    }
    Ok(match (is_streamed, wants_usage) {
        (false, _) => Delivery::Whole,
        (true, true) => Delivery::Streamed(UsageFrame::Asked),
        (true, false) => Delivery::Streamed(UsageFrame::NotAsked),
    })
}

fn turn(node: &Node<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let mut object = node.object()?;
    let role_node = object.required("role", "system, developer, user, assistant or tool")?;
    let role = match role_node.text()?.as_str() {
        "system" => Role::System,
        "developer" => Role::Developer,
        "user" => Role::User,
        "assistant" => Role::Assistant,
        "tool" => return result(object, node.path(), conversation),
        "function" => {
            conversation.functions = FunctionForm::Functions;
            return result(object, node.path(), conversation);
        }
        _ => return Err(role_node.wrong("system, developer, user, assistant or tool")),
    };
    let mut turn = Turn::of(role, Vec::new(), node.path());
    turn.name = object.text("name")?;
    if let Some(thinking) = object.text("reasoning_content")? {
        let kind = PartKind::Thinking(Thinking { text: thinking, seal: None });
        turn.parts.push(Part::of(kind, object.path_of("reasoning_content")));
    }
    if let Some(content) = object.take("content") {
        turn.parts.extend(parts(&content)?);
    }
    if let Some(refusal) = object.text("refusal")? {
        turn.parts.push(Part::of(PartKind::Refusal(refusal), object.path_of("refusal")));
    }
    for call in object.list("tool_calls")? {
        turn.parts.push(call_of(&call)?);
    }
    if let Some(mut call) = object.object("function_call")? {
        let path = call.path().to_owned();
        conversation.functions = FunctionForm::Functions;
        turn.parts.push(Part::of(PartKind::ToolCall(function_of(&mut call)?), path));
    }
    if let Some(audio) = object.take("audio") {
        // An answer in sound that the service keeps, named by its id.
        turn.parts.push(foreign(&audio, Field::SharedState));
    }
    tell_cache_marks(&mut turn.parts, role);
    take_known(&mut object, KNOWN_OF_TURN, "", &mut turn.native);
    conversation.not_known(object);
    conversation.turns.push(turn);
    Ok(())
}

fn foreign(node: &Node<'_>, field: Field) -> Part {
    Part::of(PartKind::Foreign(Foreign { field, value: node.raw() }), node.path())
}

fn result(mut object: Object<'_>, path: &str, conversation: &mut Conversation) -> Result<(), Wrong> {
    let content = object.take("content");
    let result = ToolResult {
        call: object.text("tool_call_id")?,
        name: object.text("name")?,
        parts: content.map(|node| parts(&node)).transpose()?.unwrap_or_default(),
        is_error: false,
        kind: CallKind::Function,
        called: None,
    };
    if result.call.is_none() && result.name.is_none() {
        return Err(Wrong { path: object.path_of("tool_call_id"), expected: "there: the id of the call".to_owned() });
    }
    conversation.not_known(object);
    let part = Part::of(PartKind::ToolResult(result), path);
    conversation.turns.push(Turn::of(Role::User, vec![part], path));
    Ok(())
}

/// Content that is a text or a list of parts.
fn parts(node: &Node<'_>) -> Result<Vec<Part>, Wrong> {
    if node.is_text() {
        return Ok(vec![Part::of(PartKind::Text(node.text()?), node.path())]);
    }
    node.list()?.iter().map(part).collect()
}

fn part(node: &Node<'_>) -> Result<Part, Wrong> {
    let mut object = node.object()?;
    let kind = object.required_text("type", "the kind of the part")?;
    let mut native = Vec::new();
    let kind = match kind.as_str() {
        "text" => PartKind::Text(object.required_text("text", "the text")?),
        "refusal" => PartKind::Refusal(object.required_text("refusal", "the text")?),
        "image_url" => {
            let mut image = object.required("image_url", "an object with `url`")?.object()?;
            let url = image.required_text("url", "an address")?;
            take_known(&mut image, &[("detail", Field::ImageDetail)], "image_url", &mut native);
            PartKind::Image(Media { source: MediaSource::of_url(url), name: None })
        }
        "input_audio" => {
            let mut audio = object.required("input_audio", "an object with `data` and `format`")?.object()?;
            let base64 = audio.required_text("data", "the sound in base64")?;
            let format = audio.required_text("format", "wav or mp3")?;
            let source = MediaSource::bytes(&format!("audio/{format}"), base64);
            PartKind::Audio(Media { source, name: None })
        }
        "file" => PartKind::File(file(&mut object)?),
        _ => return Ok(foreign(node, Field::OwnOnly)),
    };
    take_known(&mut object, KNOWN_OF_PART, "", &mut native);
    Ok(Part { kind, path: node.path().to_owned(), native })
}

fn file(object: &mut Object<'_>) -> Result<Media, Wrong> {
    let mut file = object.required("file", "an object with `file_data`")?.object()?;
    let name = file.text("filename")?;
    if let Some(handle) = file.text("file_id")? {
        return Ok(Media { source: MediaSource::Handle(handle), name });
    }
    let data = file.required_text("file_data", "the document as a `data:` address")?;
    let source = match MediaSource::of_url(data) {
        // Some clients send the bytes alone.
        MediaSource::Url { url, .. } => MediaSource::Bytes { kind: "application/pdf".to_owned(), base64: url },
        told @ (MediaSource::Bytes { .. } | MediaSource::Handle(_)) => told,
    };
    Ok(Media { source, name })
}

fn call_of(node: &Node<'_>) -> Result<Part, Wrong> {
    let mut object = node.object()?;
    let id = object.text("id")?;
    let call = if let Some(mut custom) = object.object("custom")? {
        ToolCall {
            id,
            name: custom.required_text("name", "the tool's name")?,
            arguments: custom.text("input")?.unwrap_or_default(),
            kind: CallKind::Custom,
            seal: None,
        }
    } else {
        let mut function = object.required("function", "an object with `name` and `arguments`")?.object()?;
        ToolCall { id, ..function_of(&mut function)? }
    };
    let mut part = Part::of(PartKind::ToolCall(call), node.path());
    object.take("type");
    // Some services seal the thinking behind a call here.
    take_known(&mut object, &[("extra_content", Field::OwnKnob)], "", &mut part.native);
    Ok(part)
}

fn function_of(function: &mut Object<'_>) -> Result<ToolCall, Wrong> {
    Ok(ToolCall {
        id: None,
        name: function.required_text("name", "the function's name")?,
        arguments: function.text("arguments")?.unwrap_or_default(),
        kind: CallKind::Function,
        seal: None,
    })
}

fn tools(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    for node in object.list("tools")? {
        let mut tool = node.object()?;
        let kind = tool.text("type")?;
        match kind.as_deref() {
            Some("function") | None => {
                let mut function = tool.required("function", "an object with `name`")?.object()?;
                conversation.tools.push(function_tool(&mut function, &node)?);
                conversation.not_known(function);
            }
            Some("custom") => {
                let mut custom = tool.required("custom", "an object with `name`")?.object()?;
                let format = custom.take("format").map(|node| node.raw());
                let name = custom.required_text("name", "the tool's name")?;
                let description = custom.text("description")?;
                conversation.tools.push(tool_of(name, description, ToolKind::Custom(format), node.path()));
                conversation.not_known(custom);
            }
            Some(_) => {
                conversation.native.push(hosted(&node, "tools"));
                continue;
            }
        }
        conversation.not_known(tool);
    }
    if let Some(node) = object.take("tool_choice") {
        conversation.tool_choice = Some(choice(&node)?);
    }
    conversation.parallel_tools = object.flag("parallel_tool_calls")?;
    Ok(())
}

fn tool_of(name: String, description: Option<String>, kind: ToolKind, path: &str) -> Tool {
    Tool { name, description, kind, is_strict: None, path: path.to_owned(), native: Vec::new() }
}

fn function_tool(function: &mut Object<'_>, node: &Node<'_>) -> Result<Tool, Wrong> {
    let parameters = function.take("parameters").map(|node| schema::read(&node));
    let name = function.required_text("name", "the function's name")?;
    let description = function.text("description")?;
    let is_strict = function.flag("strict")?;
    let kind = ToolKind::Function { parameters, typed: None };
    Ok(Tool { is_strict, ..tool_of(name, description, kind, node.path()) })
}

fn choice(node: &Node<'_>) -> Result<ToolChoice, Wrong> {
    let expected = "none, auto, required, or an object that names a function";
    if node.is_text() {
        return match node.text()?.as_str() {
            "none" => Ok(ToolChoice::None),
            "auto" => Ok(ToolChoice::Auto),
            "required" => Ok(ToolChoice::Required),
            _ => Err(node.wrong(expected)),
        };
    }
    let mut object = node.object()?;
    match object.text("type")?.as_deref() {
        Some("function") => {
            let mut function = object.required("function", "an object with `name`")?.object()?;
            Ok(ToolChoice::Named(function.required_text("name", "the function's name")?))
        }
        Some("custom") => {
            let mut custom = object.required("custom", "an object with `name`")?.object()?;
            Ok(ToolChoice::NamedCustom(custom.required_text("name", "the tool's name")?))
        }
        Some("allowed_tools") => {
            let mut allowed = object.required("allowed_tools", "an object with `tools`")?.object()?;
            let must = allowed.text("mode")?.as_deref() == Some("required");
            let mut names = Vec::new();
            for tool in allowed.list("tools")? {
                let mut tool = tool.object()?;
                let named = if let Some(custom) = tool.take("custom") { Some(custom) } else { tool.take("function") };
                let mut named = named.ok_or_else(|| node.wrong("a list of functions and custom tools"))?.object()?;
                names.push(named.required_text("name", "the tool's name")?);
            }
            Ok(ToolChoice::Subset { names, must })
        }
        Some(_) | None => Err(node.wrong(expected)),
    }
}

/// The form before tools.
fn functions(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let listed = object.list("functions")?;
    if !listed.is_empty() {
        conversation.functions = FunctionForm::Functions;
    }
    for node in listed {
        let mut function = node.object()?;
        conversation.tools.push(function_tool(&mut function, &node)?);
        conversation.not_known(function);
    }
    if let Some(node) = object.take("function_call") {
        conversation.tool_choice = Some(if node.is_text() {
            choice(&node)?
        } else {
            ToolChoice::Named(node.object()?.required_text("name", "the function's name")?)
        });
    }
    Ok(())
}

fn sampling(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let sampling = &mut conversation.sampling;
    sampling.temperature = object.number("temperature")?;
    sampling.top_p = object.number("top_p")?;
    sampling.top_k = object.number("top_k")?;
    sampling.seed = object.number("seed")?;
    sampling.presence_penalty = object.number("presence_penalty")?;
    sampling.frequency_penalty = object.number("frequency_penalty")?;
    sampling.stop = object.take("stop").map(|node| node.texts()).transpose()?.unwrap_or_default();
    sampling.choices = object.count("n")?;
    sampling.logprobs = object.flag("logprobs")?;
    sampling.top_logprobs = object.count("top_logprobs")?;
    sampling.logit_bias = object.take("logit_bias").map(|node| node.raw());
    Ok(())
}

fn limits(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let new = object.count("max_completion_tokens")?;
    let old = object.take("max_tokens");
    let old_limit = old.as_ref().map(Node::count).transpose()?;
    if let (Some(new), Some(old), Some(old_limit)) = (new, &old, old_limit)
        && new != old_limit
    {
        conversation.native.push(crate::conversation::Native {
            field: Field::OutputLimits,
            container: "",
            name: "max_tokens".to_owned(),
            path: old.path().to_owned(),
            value: old.raw(),
        });
    }
    let word = if new.is_some() { "max_completion_tokens" } else { "max_tokens" };
    conversation.places.push(("output_limit", word.to_owned()));
    conversation.output_limit = new.max(old_limit);
    Ok(())
}

fn format(node: &Node<'_>) -> Result<Option<AnswerFormat>, Wrong> {
    let mut object = node.object()?;
    match object.required_text("type", "text, json_object or json_schema")?.as_str() {
        "text" => Ok(Some(AnswerFormat::Text)),
        "json_object" => Ok(Some(AnswerFormat::Json)),
        "json_schema" => {
            let mut schema = object.required("json_schema", "an object with `schema`")?.object()?;
            Ok(Some(AnswerFormat::Schema(named_schema::read(&mut schema)?)))
        }
        _ => Err(node.wrong("of type text, json_object or json_schema")),
    }
}
