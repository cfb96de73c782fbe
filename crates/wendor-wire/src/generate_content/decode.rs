//! An app's request as a neutral conversation (`docs/protocols.md` sections 5.1 and 5.2). Names come in `camelCase` and `snake_case`, mixed in
//! one body.

use crate::codec::Outside;
use crate::conversation::turn::{CallKind, Foreign, Thinking};
use crate::conversation::wish::Schema;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Native, Part, PartKind, Role, ThinkingAmount,
    Tool, ToolCall, ToolChoice, ToolKind, ToolResult, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::generate_content::schema;
use crate::json::{Node, Object, Wrong};
use crate::native::{Known, take_known};
use crate::seal::Seal;
use crate::verdict::field::Field;

const KNOWN: &[Known] = &[
    ("safetySettings", Field::SafetySettings),
    ("cachedContent", Field::SharedState),
    ("continuationToken", Field::SharedState),
    ("labels", Field::BillingLabels),
    ("serviceTier", Field::ServiceTier),
    ("store", Field::Store),
];

const KNOWN_OF_CONFIG: &[Known] = &[
    ("mediaResolution", Field::OwnKnob),
    ("speechConfig", Field::AudioOut),
    ("imageConfig", Field::OtherModalities),
    ("audioTimestamp", Field::OwnKnob),
];

/// Reads a body; the model's name stands in the path.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str, outside: Outside<'_>) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).camel_object()?;
    let mut conversation = Conversation::of(Dialect::GenerateContent, outside.model.unwrap_or_default());
    if outside.is_streamed {
        conversation.delivery = Delivery::Streamed(UsageFrame::Asked);
    }
    object.take("model");
    if let Some(system) = object.take("systemInstruction") {
        let parts = if system.is_text() {
            vec![Part::of(PartKind::Text(system.text()?), system.path())]
        } else {
            content_parts(&system, &mut conversation)?.1
        };
        conversation.turns.push(Turn::of(Role::System, parts, system.path()));
    }
    for node in object.required("contents", "a list of turns")?.list()? {
        let (role, parts) = content_parts(&node, &mut conversation)?;
        conversation.turns.push(Turn::of(role, parts, node.path()));
    }
    conversation.link();
    tools(&mut object, &mut conversation)?;
    if let Some(config) = object.take("generationConfig") {
        settings(&mut config.camel_object()?, &mut conversation)?;
    }
    take_known(&mut object, KNOWN, "", &mut conversation.native);
    conversation.not_known(object);
    Ok(conversation)
}

fn content_parts(node: &Node<'_>, conversation: &mut Conversation) -> Result<(Role, Vec<Part>), Wrong> {
    let mut content = node.camel_object()?;
    let role_node = content.take("role");
    let role = match role_node.as_ref().map(Node::text).transpose()?.as_deref() {
        None | Some("user" | "function" | "system") => Role::User,
        Some("model") => Role::Assistant,
        Some(_) => return Err(role_node.map_or_else(|| node.wrong("a turn"), |role| role.wrong("user or model"))),
    };
    let mut parts = Vec::new();
    for node in content.list("parts")? {
        part(&node, &mut parts)?;
    }
    conversation.not_known(content);
    Ok((role, parts))
}

fn part(node: &Node<'_>, parts: &mut Vec<Part>) -> Result<(), Wrong> {
    let mut object = node.camel_object()?;
    let is_thought = object.flag("thought")?.unwrap_or(false);
    let seal = object.text("thoughtSignature")?.map(Seal::Signature);
    let kind = if let Some(text) = object.text("text")? {
        match (is_thought, seal) {
            // Thinking comes in pieces, each a part, the last with the seal: one seal is of all of them.
            (true, seal) => {
                if let Some(Part { kind: PartKind::Thinking(open @ Thinking { seal: None, .. }), .. }) =
                    parts.last_mut()
                {
                    open.text.push_str(&text);
                    open.seal = seal;
                    return Ok(());
                }
                PartKind::Thinking(Thinking { text, seal })
            }
            (false, None) => PartKind::Text(text),
            (false, Some(seal)) => {
                // The seal of a text: the thinking that it belongs to is not shown.
                parts.push(Part::of(PartKind::Text(text), node.path()));
                PartKind::Thinking(Thinking { text: String::new(), seal: Some(seal) })
            }
        }
    } else if let Some(data) = object.take("inlineData") {
        inline(&mut data.camel_object()?)?
    } else if let Some(data) = object.take("fileData") {
        file(&mut data.camel_object()?)?
    } else if let Some(call) = object.take("functionCall") {
        let mut call = call.camel_object()?;
        if let Some(seal) = seal {
            seal_thinking(parts, seal, node.path());
        }
        PartKind::ToolCall(ToolCall {
            id: call.text("id")?,
            name: call.required_text("name", "the function's name")?,
            arguments: call.take("args").map_or_else(|| "{}".to_owned(), |args| args.raw().as_str().to_owned()),
            kind: CallKind::Function,
            seal: None,
        })
    } else if let Some(response) = object.take("functionResponse") {
        result(&response)?
    } else {
        PartKind::Foreign(Foreign { field: Field::HostedTool, value: node.raw() })
    };
    parts.push(Part::of(kind, node.path()));
    Ok(())
}

/// The seal on a call is that of the thinking before it, which other dialects have in one place.
fn seal_thinking(parts: &mut Vec<Part>, seal: Seal, path: &str) {
    if let Some(Part { kind: PartKind::Thinking(Thinking { seal: open @ None, .. }), .. }) = parts.last_mut() {
        *open = Some(seal);
        return;
    }
    let thinking = Thinking { text: String::new(), seal: Some(seal) };
    parts.push(Part::of(PartKind::Thinking(thinking), path));
}

fn inline(data: &mut Object<'_>) -> Result<PartKind, Wrong> {
    let kind = data.required_text("mimeType", "the kind of the data")?;
    let base64 = data.required_text("data", "the data in base64")?;
    let name = data.text("displayName")?;
    Ok(medium(Media { source: MediaSource::bytes(&kind, base64), name }))
}

fn file(data: &mut Object<'_>) -> Result<PartKind, Wrong> {
    let url = data.required_text("fileUri", "where the file is")?;
    let kind = data.text("mimeType")?;
    let name = data.text("displayName")?;
    let is_address = url.starts_with("https://") || url.starts_with("http://");
    let source = if is_address { MediaSource::Url { url, kind: kind.clone() } } else { MediaSource::Handle(url) };
    Ok(match kind {
        None => PartKind::Image(Media { source, name }),
        Some(kind) => medium_of(&kind, Media { source, name }),
    })
}

fn medium(media: Media) -> PartKind {
    let kind = media.source.kind().unwrap_or_default().to_owned();
    medium_of(&kind, media)
}

fn medium_of(kind: &str, media: Media) -> PartKind {
    match kind.split('/').next() {
        Some("image") => PartKind::Image(media),
        Some("audio") => PartKind::Audio(media),
        Some("video") => PartKind::Video(media),
        Some(_) | None => PartKind::File(media),
    }
}

fn result(node: &Node<'_>) -> Result<PartKind, Wrong> {
    let mut response = node.camel_object()?;
    let call = response.text("id")?;
    let name = response.required_text("name", "the function's name")?;
    let mut parts = Vec::new();
    let mut is_error = false;
    if let Some(value) = response.take("response") {
        let (text, failed) = result_text(&value)?;
        is_error = failed;
        parts.push(Part::of(PartKind::Text(text), value.path()));
    }
    for node in response.list("parts")? {
        part(&node, &mut parts)?;
    }
    Ok(PartKind::ToolResult(ToolResult {
        call,
        name: Some(name),
        parts,
        is_error,
        kind: CallKind::Function,
        called: None,
    }))
}

/// What stands in the one member `result` or `error`; any other object as it is. Beside it whether the function failed.
fn result_text(value: &Node<'_>) -> Result<(String, bool), Wrong> {
    for (word, is_error) in [("result", false), ("error", true)] {
        let mut object = value.object()?;
        if let Some(node) = object.take(word)
            && object.rest().is_empty()
        {
            let text = if node.is_text() { node.text()? } else { node.raw().as_str().to_owned() };
            return Ok((text, is_error));
        }
    }
    // An error among other members is one all the same, where other dialects say so beside the text.
    let is_error = value.object()?.take("error").is_some();
    Ok((value.raw().as_str().to_owned(), is_error))
}

fn tools(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    for node in object.list("tools")? {
        let mut tool = node.camel_object()?;
        for declaration in tool.list("functionDeclarations")? {
            let tool = declaration_of(&declaration, conversation)?;
            conversation.tools.push(tool);
        }
        for left in tool.rest() {
            let name = left.path().rsplit('.').next().unwrap_or_default().to_owned();
            conversation.native.push(Native {
                field: Field::HostedTool,
                container: "tools",
                name,
                path: left.path().to_owned(),
                value: left.raw(),
            });
        }
    }
    let Some(config) = object.take("toolConfig") else { return Ok(()) };
    let mut config = config.camel_object()?;
    if let Some(calling) = config.take("functionCallingConfig") {
        let mut calling = calling.camel_object()?;
        conversation.places.push(("tool_choice", calling.path_of("mode")));
        let names: Option<Vec<String>> = calling.take("allowedFunctionNames").map(|names| names.texts()).transpose()?;
        let mode = calling.text("mode")?.map(|mode| mode.to_ascii_uppercase());
        conversation.tool_choice = match (mode.as_deref(), names) {
            (Some("NONE"), _) => Some(ToolChoice::None),
            (Some("ANY"), Some(names)) if names.len() == 1 => names.into_iter().next().map(ToolChoice::Named),
            (Some("ANY"), Some(names)) if !names.is_empty() => Some(ToolChoice::Subset { names, must: true }),
            (Some("ANY"), _) => Some(ToolChoice::Required),
            (_, Some(names)) if !names.is_empty() => Some(ToolChoice::Subset { names, must: false }),
            (Some(_), _) => Some(ToolChoice::Auto),
            (None, _) => None,
        };
    }
    take_known(&mut config, &[("retrievalConfig", Field::HostedTool)], "toolConfig", &mut conversation.native);
    Ok(())
}

fn declaration_of(node: &Node<'_>, conversation: &mut Conversation) -> Result<Tool, Wrong> {
    let mut declaration = node.camel_object()?;
    let typed = declaration.take("parameters").map(|node| node.raw());
    let plain = declaration.take("parametersJsonSchema").map(|node| crate::schema::read(&node));
    let parameters = match (plain, &typed) {
        (Some(plain), _) => Some(plain),
        (None, Some(typed)) => Some(schema::plain_of_typed(typed)),
        (None, None) => None,
    };
    let name = declaration.required_text("name", "the function's name")?;
    let description = declaration.text("description")?;
    let mut native = Vec::new();
    let known = [("response", Field::OwnKnob), ("responseJsonSchema", Field::OwnKnob), ("behavior", Field::OwnKnob)];
    take_known(&mut declaration, &known, "", &mut native);
    conversation.not_known(declaration);
    let kind = ToolKind::Function { parameters, typed };
    Ok(Tool { name, description, kind, is_strict: None, path: node.path().to_owned(), native })
}

fn settings(config: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let words = [
        ("output_limit", "maxOutputTokens"),
        ("temperature", "temperature"),
        ("top_p", "topP"),
        ("top_k", "topK"),
        ("seed", "seed"),
        ("presence_penalty", "presencePenalty"),
        ("frequency_penalty", "frequencyPenalty"),
        ("stop", "stopSequences"),
        ("n", "candidateCount"),
        ("logprobs", "responseLogprobs"),
        ("thinking", "thinkingConfig"),
        ("format", "responseMimeType"),
    ];
    conversation.places.extend(words.iter().map(|(word, name)| (*word, config.path_of(name))));
    conversation.output_limit = config.count("maxOutputTokens")?;
    let sampling = &mut conversation.sampling;
    sampling.temperature = config.number("temperature")?;
    sampling.top_p = config.number("topP")?;
    sampling.top_k = config.number("topK")?;
    sampling.seed = config.number("seed")?;
    sampling.presence_penalty = config.number("presencePenalty")?;
    sampling.frequency_penalty = config.number("frequencyPenalty")?;
    sampling.stop = config.take("stopSequences").map(|node| node.texts()).transpose()?.unwrap_or_default();
    sampling.choices = config.count("candidateCount")?;
    sampling.logprobs = config.flag("responseLogprobs")?;
    sampling.top_logprobs = config.count("logprobs")?;
    format(config, conversation)?;
    thinking(config, conversation)?;
    if let Some(node) = config.take("responseModalities") {
        let is_text = node.texts()?.iter().all(|modality| modality.eq_ignore_ascii_case("text"));
        let field = if is_text { Field::Usual } else { Field::OtherModalities };
        conversation.native.push(Native {
            field,
            container: "generationConfig",
            name: "responseModalities".to_owned(),
            path: node.path().to_owned(),
            value: node.raw(),
        });
    }
    take_known(config, KNOWN_OF_CONFIG, "generationConfig", &mut conversation.native);
    conversation.not_known(config.clone());
    Ok(())
}

fn format(config: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let kind = config.text("responseMimeType")?;
    let typed = config.take("responseSchema").map(|node| node.raw());
    let plain = config.take("responseJsonSchema").map(|node| node.raw());
    let schema = plain.or_else(|| typed.as_ref().map(schema::plain_of_typed));
    conversation.format = match (kind.as_deref(), schema) {
        (_, Some(schema)) => {
            Some(AnswerFormat::Schema(Schema { schema, typed, name: None, description: None, is_strict: None }))
        }
        (Some("application/json"), None) => Some(AnswerFormat::Json),
        (Some("text/plain"), None) => Some(AnswerFormat::Text),
        (Some(_) | None, None) => None,
    };
    Ok(())
}

fn thinking(config: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let Some(node) = config.take("thinkingConfig") else { return Ok(()) };
    let mut thinking = node.camel_object()?;
    conversation.thinking.is_shown = thinking.flag("includeThoughts")?;
    let budget = thinking.number("thinkingBudget")?;
    let level = thinking.take("thinkingLevel");
    conversation.thinking.amount = match (budget, level) {
        (Some(budget), _) => match (budget.as_whole(), budget.as_f64() < 0.0) {
            (Some(0), _) => ThinkingAmount::Off,
            (Some(tokens), _) => ThinkingAmount::Budget(tokens),
            (None, true) => ThinkingAmount::Dynamic,
            (None, false) => return Err(node.wrong("given a whole number of tokens")),
        },
        (None, Some(level)) => {
            let word = level.text()?.to_ascii_lowercase();
            let wrong = || level.wrong("MINIMAL, LOW, MEDIUM, HIGH or XHIGH");
            ThinkingAmount::Effort(Effort::parse(&word).ok_or_else(wrong)?)
        }
        (None, None) => ThinkingAmount::Unsaid,
    };
    Ok(())
}
