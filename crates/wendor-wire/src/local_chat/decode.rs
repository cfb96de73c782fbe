//! An app's request as a neutral conversation (`docs/protocols.md` section 6.2). There are no ids of calls: results are matched by name and order.

use crate::codec::Outside;
use crate::conversation::turn::{CallKind, Thinking};
use crate::conversation::wish::Schema;
use crate::conversation::{
    AnswerFormat, Conversation, Delivery, Effort, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool,
    ToolCall, ToolKind, ToolResult, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::image::kind_of_base64;
use crate::json::{Node, Object, Wrong};
use crate::native::{Known, take_known};
use crate::schema;
use crate::verdict::field::Field;

pub(super) const KNOWN: &[Known] = &[("keep_alive", Field::KeepAlive)];

/// Options by which a server loads a model or cuts its context.
pub(crate) const KNOWN_OF_OPTIONS: &[Known] = &[
    ("num_ctx", Field::NumCtx),
    ("num_gpu", Field::LoadOptions),
    ("main_gpu", Field::LoadOptions),
    ("num_thread", Field::LoadOptions),
    ("num_batch", Field::LoadOptions),
    ("num_keep", Field::LoadOptions),
    ("numa", Field::LoadOptions),
    ("use_mmap", Field::LoadOptions),
    ("use_mlock", Field::LoadOptions),
    ("low_vram", Field::LoadOptions),
    ("repeat_last_n", Field::OwnKnob),
    ("typical_p", Field::OwnKnob),
    ("min_p", Field::OwnKnob),
    ("tfs_z", Field::OwnKnob),
    ("mirostat", Field::OwnKnob),
    ("mirostat_tau", Field::OwnKnob),
    ("mirostat_eta", Field::OwnKnob),
    ("penalize_newline", Field::OwnKnob),
];

/// Reads a body.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str, _outside: Outside<'_>) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).object()?;
    let model = object.required_text("model", "the name of a route")?;
    let mut conversation = Conversation::of(Dialect::LocalChat, model);
    // Servers of this dialect stream unless they are told not to.
    if object.flag("stream")?.unwrap_or(true) {
        conversation.delivery = Delivery::Streamed(UsageFrame::Asked);
    }
    for node in object.required("messages", "a list of messages")?.list()? {
        turn(&node, &mut conversation)?;
    }
    conversation.link();
    for node in object.list("tools")? {
        let tool = tool(&node, &mut conversation)?;
        conversation.tools.push(tool);
    }
    settings(&mut object, &mut conversation)?;
    take_known(&mut object, KNOWN, "", &mut conversation.native);
    conversation.not_known(object);
    Ok(conversation)
}

/// How the answer is to be drawn and to look like, which both forms of a request have.
pub(super) fn settings(object: &mut Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    if let Some(options) = object.object("options")? {
        sampling(options, conversation)?;
    }
    conversation.sampling.logprobs = object.flag("logprobs")?;
    conversation.sampling.top_logprobs = object.count("top_logprobs")?;
    conversation.format = object.take("format").map(|node| format(&node)).transpose()?.flatten();
    if let Some(node) = object.take("think") {
        conversation.thinking.amount = if node.is_text() {
            let word = node.text()?;
            let wrong = || node.wrong("true, false, low, medium or high");
            ThinkingAmount::Effort(Effort::parse(&word).ok_or_else(wrong)?)
        } else if node.flag()? {
            ThinkingAmount::Dynamic
        } else {
            ThinkingAmount::Off
        };
        conversation.places.push(("thinking", "think".to_owned()));
    }
    Ok(())
}

fn turn(node: &Node<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let mut object = node.object()?;
    let role_node = object.required("role", "system, user, assistant or tool")?;
    let content = object.text("content")?;
    let role = match role_node.text()?.as_str() {
        "system" => Role::System,
        "user" => Role::User,
        "assistant" => Role::Assistant,
        "tool" => {
            let name = object.text("tool_name")?.or(object.text("name")?);
            let call = object.text("tool_call_id")?;
            let parts = vec![Part::of(PartKind::Text(content.unwrap_or_default()), object.path_of("content"))];
            let result = ToolResult { call, name, parts, is_error: false, kind: CallKind::Function, called: None };
            let part = Part::of(PartKind::ToolResult(result), node.path());
            conversation.turns.push(Turn::of(Role::User, vec![part], node.path()));
            return Ok(());
        }
        _ => return Err(role_node.wrong("system, user, assistant or tool")),
    };
    let mut turn = Turn::of(role, Vec::new(), node.path());
    if let Some(text) = object.text("thinking")? {
        let thinking = PartKind::Thinking(Thinking { text, seal: None });
        turn.parts.push(Part::of(thinking, object.path_of("thinking")));
    }
    if let Some(text) = content.filter(|text| !text.is_empty()) {
        turn.parts.push(Part::of(PartKind::Text(text), object.path_of("content")));
    }
    for node in object.list("images")? {
        turn.parts.push(image(&node)?);
    }
    for call in object.list("tool_calls")? {
        turn.parts.push(call_of(&call)?);
    }
    conversation.not_known(object);
    conversation.turns.push(turn);
    Ok(())
}

/// An image as its bytes alone: what it is, they tell.
pub(super) fn image(node: &Node<'_>) -> Result<Part, Wrong> {
    let base64 = node.text()?;
    let kind = kind_of_base64(&base64).unwrap_or("image/png").to_owned();
    let media = Media { source: MediaSource::Bytes { kind, base64 }, name: None };
    Ok(Part::of(PartKind::Image(media), node.path()))
}

fn call_of(node: &Node<'_>) -> Result<Part, Wrong> {
    let mut call = node.object()?;
    let id = call.text("id")?;
    let mut function = call.required("function", "an object with `name` and `arguments`")?.object()?;
    let name = function.required_text("name", "the function's name")?;
    let arguments = function.take("arguments").map_or_else(|| "{}".to_owned(), |node| node.raw().as_str().to_owned());
    let call = ToolCall { id, name, arguments, kind: CallKind::Function, seal: None };
    Ok(Part::of(PartKind::ToolCall(call), node.path()))
}

fn tool(node: &Node<'_>, conversation: &mut Conversation) -> Result<Tool, Wrong> {
    let mut tool = node.object()?;
    let mut function = tool.required("function", "an object with `name`")?.object()?;
    let parameters = function.take("parameters").map(|node| schema::read(&node));
    let (name, description) = (function.required_text("name", "the function's name")?, function.text("description")?);
    tool.take("type");
    conversation.not_known(tool);
    conversation.not_known(function);
    let kind = ToolKind::Function { parameters, typed: None };
    Ok(Tool { name, description, kind, is_strict: None, path: node.path().to_owned(), native: Vec::new() })
}

fn sampling(mut options: Object<'_>, conversation: &mut Conversation) -> Result<(), Wrong> {
    let words =
        ["temperature", "top_p", "top_k", "seed", "presence_penalty", "frequency_penalty", "repeat_penalty", "stop"];
    conversation.places.extend(words.iter().map(|word| (*word, options.path_of(word))));
    conversation.places.push(("output_limit", options.path_of("num_predict")));
    // A negative number is no limit.
    conversation.output_limit = options.number("num_predict")?.and_then(|number| number.as_whole());
    let sampling = &mut conversation.sampling;
    sampling.temperature = options.number("temperature")?;
    sampling.top_p = options.number("top_p")?;
    sampling.top_k = options.number("top_k")?;
    sampling.seed = options.number("seed")?;
    sampling.presence_penalty = options.number("presence_penalty")?;
    sampling.frequency_penalty = options.number("frequency_penalty")?;
    sampling.repeat_penalty = options.number("repeat_penalty")?;
    sampling.stop = options.take("stop").map(|node| node.texts()).transpose()?.unwrap_or_default();
    take_known(&mut options, KNOWN_OF_OPTIONS, "options", &mut conversation.native);
    conversation.not_known(options);
    Ok(())
}

fn format(node: &Node<'_>) -> Result<Option<AnswerFormat>, Wrong> {
    if node.is_object() {
        let schema = Schema { schema: schema::read(node), typed: None, name: None, description: None, is_strict: None };
        return Ok(Some(AnswerFormat::Schema(schema)));
    }
    match node.text()?.as_str() {
        "" => Ok(None),
        "json" => Ok(Some(AnswerFormat::Json)),
        _ => Err(node.wrong("\"json\" or a JSON Schema")),
    }
}
