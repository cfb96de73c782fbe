//! The other form in which a local server is asked, `POST /api/generate` (`docs/protocols.md` section 6.2): one prompt with its system text and
//! images instead of turns. Elsewhere it is one turn of the user; what only a local server can do with a prompt goes to no other.

use crate::conversation::turn::text_of;
use crate::conversation::{
    Conversation, Delivery, FunctionForm, Media, MediaSource, Native, Part, PartKind, Role, Turn, UsageFrame,
};
use crate::dialect::Dialect;
use crate::json::{Json, Members, Node, Wrong};
use crate::local_chat::decode::{image, settings};
use crate::native::take_known;
use crate::verdict::field::Field;

/// What a local server does with a prompt beside answering it.
const KNOWN: [&str; 4] = ["raw", "template", "context", "suffix"];

/// Reads a body.
///
/// # Errors
/// What is wrong, by its path.
pub fn read(body: &str) -> Result<Conversation, Wrong> {
    let mut object = Node::of_request(body).object()?;
    let model = object.required_text("model", "the name of a route")?;
    let mut conversation = Conversation::of(Dialect::LocalChat, model);
    conversation.functions = FunctionForm::Prompt;
    if object.flag("stream")?.unwrap_or(true) {
        conversation.delivery = Delivery::Streamed(UsageFrame::Asked);
    }
    if let Some(system) = object.text("system")?.filter(|text| !text.is_empty()) {
        conversation.turns.push(Turn::of_text(Role::System, system, "system"));
    }
    let mut parts = Vec::new();
    let prompt = object.text("prompt")?.unwrap_or_default();
    if !prompt.is_empty() {
        parts.push(Part::of(PartKind::Text(prompt), "prompt"));
    }
    for node in object.list("images")? {
        parts.push(image(&node)?);
    }
    if parts.is_empty() {
        // Without a prompt a local server loads the model.
        conversation.native.push(own("prompt", Json::from("").to_line()));
    }
    conversation.turns.push(Turn::of(Role::User, parts, "prompt"));
    for name in KNOWN {
        if let Some(node) = object.take(name) {
            let raw = node.raw();
            // What is off or empty says nothing.
            let is_off = ["false", "\"\"", "[]"].contains(&raw.as_str());
            let native = own(name, raw.as_str().to_owned());
            conversation.native.push(Native { field: if is_off { Field::Usual } else { native.field }, ..native });
        }
    }
    settings(&mut object, &mut conversation)?;
    take_known(&mut object, crate::local_chat::decode::KNOWN, "", &mut conversation.native);
    conversation.not_known(object);
    Ok(conversation)
}

fn own(name: &str, value: String) -> Native {
    let value = crate::json::RawJson::parse(&value).unwrap_or_else(crate::json::RawJson::empty_object);
    Native { field: Field::OwnOnly, container: "", name: name.to_owned(), path: name.to_owned(), value }
}

/// The members of a body that say what is asked: the prompt, its system text and images.
#[must_use]
pub fn prompt(conversation: &Conversation, body: Members) -> Members {
    let asked = conversation.turns.iter().filter(|turn| turn.role == Role::User).flat_map(|turn| &turn.parts);
    let parts: Vec<Part> = asked.cloned().collect();
    let images = parts.iter().filter_map(|part| {
        let PartKind::Image(Media { source: MediaSource::Bytes { base64, .. }, .. }) = &part.kind else { return None };
        Some(Json::from(base64))
    });
    let images: Vec<Json> = images.collect();
    let text = text_of(&parts);
    let is_there = !text.is_empty() || !images.is_empty();
    body.some("prompt", is_there.then_some(text)).some("system", conversation.leading_system()).list("images", images)
}
