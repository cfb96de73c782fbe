//! Whether an offer can serve a request: its abilities, its window, and what its dialect can say of it.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde_json::Value;
use wendor_wire::ability::Ability;
use wendor_wire::address::is_fetchable;
use wendor_wire::asked::AppRequest;
use wendor_wire::conversation::{AnswerFormat, Conversation, Delivery, MediaSource, Part, PartKind, ThinkingAmount};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{EmbeddingRequest, form_of};
use wendor_wire::endpoint::Kind;
use wendor_wire::image::kind_of_base64;
use wendor_wire::refusal_code::RefusalCode;
use wendor_wire::verdict::field::Field;
use wendor_wire::verdict::{Note, Target, judge, judge_members};

use crate::catalog::upstream::Offer;

/// What a request holds, as far as it had to be looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// It passes by its outermost members alone.
    NotLookedAt,
    /// Turns, tools and limits, in any dialect.
    Conversation(Box<Conversation>),
    /// Texts to become vectors.
    Embedding(Box<EmbeddingRequest>),
}

/// Why an offer cannot serve a request, whenever it is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unfit {
    /// The cause in a word.
    pub code: RefusalCode,
    /// The member of the request that it is about.
    pub param: Option<String>,
    /// In words, for the plan and for the app.
    pub reason: String,
}

impl Unfit {
    fn lacks(ability: Ability) -> Self {
        Self { code: RefusalCode::AbilityMissing, param: None, reason: format!("does not offer {}", ability.as_str()) }
    }

    fn refused(note: &Note) -> Self {
        Self {
            code: RefusalCode::UnsupportedParameter,
            param: Some(note.path.clone()),
            reason: format!("cannot take `{}`: {}", note.path, note.what),
        }
    }
}

/// Whether `offer` at `target` can serve the request, and what is approximated if it does.
///
/// # Errors
/// Why not.
pub fn fit(
    request: &AppRequest,
    content: &Content,
    offer: &Offer,
    target: &Target<'_>,
    is_strict: bool,
) -> Result<Vec<Note>, Unfit> {
    for ability in request.needs(target.dialect) {
        can(offer, *ability)?;
    }
    window(request, offer)?;
    images_out(request, offer, target.dialect)?;
    match content {
        Content::NotLookedAt => passes(request, target, is_strict),
        Content::Embedding(embedding) => embeds(request, embedding, offer, target, is_strict),
        Content::Conversation(conversation) => converses(request, conversation, offer, target, is_strict),
    }
}

fn can(offer: &Offer, ability: Ability) -> Result<(), Unfit> {
    if offer.can(ability) { Ok(()) } else { Err(Unfit::lacks(ability)) }
}

/// Of an offer that is said to answer with images in a conversation, apps of other dialects would lose them: they have no place for one.
fn images_out(request: &AppRequest, offer: &Offer, dialect: Dialect) -> Result<(), Unfit> {
    let said = offer.abilities.as_ref().is_some_and(|abilities| abilities.contains(&Ability::ImagesOut));
    let is_other = dialects::of(dialect).answers_with_images() && request.endpoint.dialect != dialect;
    if !(said && is_other && matches!(request.endpoint.kind, Kind::Chat(_))) {
        return Ok(());
    }
    let app = request.endpoint.dialect;
    let reason = format!("it answers with images, which {app} cannot carry; ask in {dialect}");
    Err(Unfit { code: RefusalCode::AbilityMissing, param: None, reason })
}

fn window(request: &AppRequest, offer: &Offer) -> Result<(), Unfit> {
    let Some(window) = offer.context_window.map(|window| u64::from(window.get())) else { return Ok(()) };
    let wanted = request.input_tokens.saturating_add(request.output_limit.unwrap_or(0));
    if wanted <= window {
        return Ok(());
    }
    Err(Unfit {
        code: RefusalCode::ContextLengthExceeded,
        param: None,
        reason: format!("about {wanted} tokens of prompt and answer do not fit its window of {window}"),
    })
}

/// What passes as it is needs the same dialect.
fn passes(request: &AppRequest, target: &Target<'_>, is_strict: bool) -> Result<Vec<Note>, Unfit> {
    if request.endpoint.dialect == target.dialect {
        let verdict = judge_members(target.dialect, &request.controls, target);
        return match verdict.in_the_way(is_strict) {
            Some(note) => Err(Unfit::refused(note)),
            None => Ok(verdict.approximated),
        };
    }
    Err(Unfit {
        code: RefusalCode::EndpointNotOffered,
        param: None,
        reason: format!(
            "speaks {}, and this endpoint of {} has nothing like it there",
            target.dialect, request.endpoint.dialect
        ),
    })
}

fn embeds(
    request: &AppRequest,
    embedding: &EmbeddingRequest,
    offer: &Offer,
    target: &Target<'_>,
    is_strict: bool,
) -> Result<Vec<Note>, Unfit> {
    if form_of(target.dialect).is_none() {
        return Err(Unfit::lacks(Ability::Embeddings));
    }
    if let Some(note) = embedding.refused(target.dialect, &offer.marks) {
        return Err(Unfit::refused(&note));
    }
    if request.endpoint.dialect == target.dialect {
        return passes(request, target, is_strict);
    }
    let notes = embedding.approximated(target.dialect);
    match notes.first().filter(|_| is_strict) {
        Some(first) => Err(Unfit::refused(first)),
        None => Ok(notes),
    }
}

fn converses(
    request: &AppRequest,
    conversation: &Conversation,
    offer: &Offer,
    target: &Target<'_>,
    is_strict: bool,
) -> Result<Vec<Note>, Unfit> {
    if !conversation.tools.is_empty() {
        can(offer, Ability::Tools)?;
    }
    match &conversation.format {
        Some(AnswerFormat::Json | AnswerFormat::Schema(_)) => can(offer, Ability::Json)?,
        Some(AnswerFormat::Text) | None => {}
    }
    match conversation.thinking.amount {
        ThinkingAmount::Dynamic | ThinkingAmount::Effort(_) | ThinkingAmount::Budget(_) => {
            can(offer, Ability::Reasoning)?;
        }
        ThinkingAmount::Unsaid | ThinkingAmount::Off => {}
    }
    // Where only one of the two exists, an answer is gathered or taken apart.
    if !offer.can(Ability::Streaming) && !offer.can(Ability::Whole) {
        let wanted = if request.delivery == Delivery::Whole { Ability::Whole } else { Ability::Streaming };
        return Err(Unfit::lacks(wanted));
    }
    images(conversation, offer)?;
    addresses(conversation, offer)?;
    let verdict = judge(conversation, target);
    match verdict.in_the_way(is_strict) {
        Some(note) => Err(Unfit::refused(note)),
        None => Ok(verdict.approximated),
    }
}

fn images(conversation: &Conversation, offer: &Offer) -> Result<(), Unfit> {
    for part in every_part(conversation) {
        let PartKind::Image(media) = &part.kind else { continue };
        can(offer, Ability::ImagesIn).map_err(|unfit| Unfit { param: Some(part.path.clone()), ..unfit })?;
        let (Some(kinds), MediaSource::Bytes { kind, .. }) = (&offer.image_kinds, &media.source) else { continue };
        if !kinds.contains(kind) {
            let reason = format!("takes {}, and `{}` is {kind}", kinds.join(", "), part.path);
            return Err(Unfit { code: RefusalCode::ImageKind, param: Some(part.path.clone()), reason });
        }
    }
    Ok(())
}

/// What the offer may be given by address. What only one dialect knows is looked through too: it goes on as it is.
fn addresses(conversation: &Conversation, offer: &Offer) -> Result<(), Unfit> {
    for part in every_part(conversation) {
        for url in addresses_of(part) {
            offer.addresses.lets_fetch(&url).map_err(|why| Unfit {
                code: RefusalCode::AddressNotAllowed,
                param: Some(part.path.clone()),
                reason: format!("is not told to fetch what `{}` names: {why}", part.path),
            })?;
        }
    }
    Ok(())
}

fn addresses_of(part: &Part) -> Vec<Cow<'_, str>> {
    match &part.kind {
        PartKind::Image(media) | PartKind::Audio(media) | PartKind::File(media) | PartKind::Video(media) => {
            if let MediaSource::Url { url, .. } = &media.source {
                vec![Cow::Borrowed(url)]
            } else {
                Vec::new()
            }
        }
        PartKind::Foreign(foreign) if foreign.field == Field::HostedTool => Vec::new(),
        // What cannot be looked into may hold anything; nothing is no address that is taken.
        PartKind::Foreign(foreign) => {
            let fetched_of = |value: Value| if is_of_a_tool(&value) { Vec::new() } else { fetchable_in(&value) };
            foreign.value.to_value().map_or_else(|| vec![Cow::Borrowed("")], fetched_of)
        }
        PartKind::Text(_)
        | PartKind::Refusal(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Thinking(_) => Vec::new(),
    }
}

/// Whether a value is what a service's own tool was asked or has given: its addresses were fetched where they were, and are not again.
fn is_of_a_tool(value: &Value) -> bool {
    const ENDS: [&str; 4] = ["_tool_use", "_tool_result", "_call", "_call_output"];
    value.get("type").and_then(Value::as_str).is_some_and(|kind| ENDS.iter().any(|end| kind.ends_with(end)))
}

/// Every text in a value that something could be fetched from.
fn fetchable_in(value: &Value) -> Vec<Cow<'static, str>> {
    match value {
        Value::String(text) if is_fetchable(text) => vec![Cow::Owned(text.clone())],
        Value::Array(items) => items.iter().flat_map(fetchable_in).collect(),
        Value::Object(members) => members.values().flat_map(fetchable_in).collect(),
        Value::String(_) | Value::Null | Value::Bool(_) | Value::Number(_) => Vec::new(),
    }
}

/// The addresses of a conversation's images, each with the part's path.
#[must_use]
pub fn image_addresses(conversation: &Conversation) -> Vec<(String, String)> {
    let of_part = |part: &Part| {
        let PartKind::Image(media) = &part.kind else { return None };
        if let MediaSource::Url { url, .. } = &media.source { Some((part.path.clone(), url.clone())) } else { None }
    };
    every_part(conversation).filter_map(of_part).collect()
}

/// The conversation with the images that were fetched in place of their addresses: their kinds and bytes in base64, by address.
#[must_use]
pub fn with_images(conversation: &Conversation, fetched: &BTreeMap<String, (&'static str, String)>) -> Conversation {
    let mut conversation = conversation.clone();
    let put = |part: &mut Part| {
        let PartKind::Image(media) = &mut part.kind else { return };
        let MediaSource::Url { url, .. } = &media.source else { return };
        if let Some((kind, base64)) = fetched.get(url) {
            media.source = MediaSource::bytes(kind, base64.clone());
        }
    };
    for part in conversation.turns.iter_mut().flat_map(|turn| &mut turn.parts) {
        put(part);
        if let PartKind::ToolResult(result) = &mut part.kind {
            result.parts.iter_mut().for_each(put);
        }
    }
    conversation.is_changed = true;
    conversation
}

fn every_part(conversation: &Conversation) -> impl Iterator<Item = &Part> {
    let parts = conversation.turns.iter().flat_map(|turn| &turn.parts);
    parts.flat_map(|part| {
        let inner: &[Part] = if let PartKind::ToolResult(result) = &part.kind { &result.parts } else { &[] };
        std::iter::once(part).chain(inner)
    })
}

/// The first image whose bytes are of another kind than is said, with what is said and what it is.
#[must_use]
pub fn mislabelled_image(conversation: &Conversation) -> Option<(String, String, &'static str)> {
    every_part(conversation).find_map(|part| {
        let PartKind::Image(media) = &part.kind else { return None };
        let MediaSource::Bytes { kind, base64 } = &media.source else { return None };
        let is = kind_of_base64(base64)?;
        let said = if kind == "image/jpg" { "image/jpeg" } else { kind };
        (said != is).then(|| (part.path.clone(), kind.clone(), is))
    })
}

/// Whether such a request goes to an upstream as a stream: as the app wants it, unless the offer has only the other.
#[must_use]
pub fn asks_for_stream(request: &AppRequest, offer: &Offer) -> bool {
    let wants_stream = request.delivery != Delivery::Whole;
    match request.endpoint.kind {
        Kind::Chat(_) if wants_stream => offer.can(Ability::Streaming),
        Kind::Chat(_) => !offer.can(Ability::Whole),
        Kind::Count(_)
        | Kind::Embed(..)
        | Kind::Passed(_)
        | Kind::Models
        | Kind::Model(_)
        | Kind::ShowModel
        | Kind::Loaded
        | Kind::Version => wants_stream,
    }
}
