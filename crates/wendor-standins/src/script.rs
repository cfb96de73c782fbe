//! What a stand-in answers to a request, as the pieces of an answer in no dialect: text of a ferry operator, thinking where it is wished,
//! calls where there are functions, what an image is, JSON of a schema. Equal requests get equal answers.

use std::hash::{DefaultHasher, Hash, Hasher};

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use serde_json::{Value, json};
use wendor_wire::conversation::event::{Event, Stop, TokenLogprob, Usage};
use wendor_wire::conversation::turn::{CallKind, text_of};
use wendor_wire::conversation::{
    AnswerFormat, Conversation, Media, MediaSource, Part, PartKind, Role, ThinkingAmount, Tool, ToolChoice, ToolKind,
};
use wendor_wire::json::Number;
use wendor_wire::seal::Seal;

use crate::manners::Manners;
use crate::memory::Profile;
use crate::text;

/// Input tokens of the frame around each part of a conversation, beside its words. Turns are put together otherwise in every dialect,
/// parts are the same.
const TOKENS_A_PART: u64 = 4;

/// What an image counts as.
const TOKENS_AN_IMAGE: u64 = 85;

/// Functions that are called at once at most.
const MAX_CALLS: usize = 2;

/// Answers to one question at most.
const MOST_CHOICES: u64 = 8;

/// Other tokens beside one at most.
const MOST_OTHERS: u64 = 20;

/// An answer to be given piece by piece.
#[derive(Clone, Debug)]
pub struct Script {
    /// Its pieces, the finish among them. Each that is text, thinking or arguments is a token.
    pub events: Vec<Event>,
    /// What it uses.
    pub input_tokens: u64,
    /// The same of what it puts out.
    pub output_tokens: u64,
    /// The part of it that is thinking.
    pub reasoning_tokens: Option<u64>,
    /// What the answer was chosen by.
    pub seed: u64,
}

impl Script {
    /// The answer to `conversation`.
    #[must_use]
    pub fn of(profile: &Profile, conversation: &Conversation) -> Self {
        let seed = seed_of(profile, conversation);
        let mut events = Vec::new();
        let reasoning = thinking(profile, seed, conversation, &mut events);
        let called = calls(seed, conversation, &mut events);
        let mut stop = if called { Stop::ToolCalls } else { Stop::End };
        if !called {
            let pieces = pieces(profile, seed, conversation);
            let limit = conversation.output_limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX);
            if limit < pieces.len() {
                stop = Stop::OutputCap;
            }
            events.extend(pieces.into_iter().take(limit).map(|text| Event::Text { choice: 0, text }));
        }
        events.push(Event::Finish { choice: 0, stop });
        if !called {
            further_choices(profile, seed, conversation, &mut events);
        }
        let output_tokens = count(&events);
        let events = with_logprobs(conversation, events);
        let input_tokens = conversation.turns.iter().map(|turn| tokens_of(&turn.parts)).sum();
        Self { events, input_tokens, output_tokens, reasoning_tokens: (reasoning > 0).then_some(reasoning), seed }
    }

    /// The same of a server with these manners: one that cuts prompts, or thinks first whatever is asked.
    #[must_use]
    pub fn with(mut self, manners: &Manners, conversation: &Conversation) -> Self {
        if let Some(most) = manners.cuts_to {
            self.input_tokens = self.input_tokens.min(most);
        }
        if manners.thinks > 0 {
            let limit = conversation.output_limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX);
            let thoughts: Vec<Event> = text::pieces(self.seed ^ 2, manners.thinks)
                .into_iter()
                .cycle()
                .take(manners.thinks.min(limit))
                .map(|text| Event::Thinking { choice: 0, text })
                .collect();
            let room = limit.saturating_sub(manners.thinks);
            let spoken: Vec<Event> = std::mem::take(&mut self.events);
            let is_text = |event: &Event| matches!(event, Event::Text { .. });
            let words = spoken.iter().filter(|event| is_text(event)).count();
            let mut left = room;
            self.events = thoughts;
            for event in spoken {
                match is_text(&event) {
                    true if left == 0 => {}
                    true => {
                        left -= 1;
                        self.events.push(event);
                    }
                    false if words > room && matches!(event, Event::Finish { .. }) => {
                        self.events.push(Event::Finish { choice: 0, stop: Stop::OutputCap });
                    }
                    false => self.events.push(event),
                }
            }
            self.output_tokens = count(&self.events);
            self.reasoning_tokens = u64::try_from(manners.thinks.min(limit)).ok();
        }
        self
    }

    /// What it used.
    #[must_use]
    pub fn usage(&self) -> Usage {
        Usage {
            input: Some(self.input_tokens),
            output: Some(self.output_tokens),
            reasoning: self.reasoning_tokens,
            ..Usage::default()
        }
    }
}

/// Further answers to the same question, each another text.
fn further_choices(profile: &Profile, seed: u64, conversation: &Conversation, events: &mut Vec<Event>) {
    let wanted = conversation.sampling.choices.unwrap_or(1).min(MOST_CHOICES);
    let limit = conversation.output_limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX);
    for choice in (1..wanted).filter_map(|choice| u32::try_from(choice).ok()) {
        let pieces = pieces(profile, seed.wrapping_add(u64::from(choice)), conversation);
        let stop = if limit < pieces.len() { Stop::OutputCap } else { Stop::End };
        events.extend(pieces.into_iter().take(limit).map(|text| Event::Text { choice, text }));
        events.push(Event::Finish { choice, stop });
    }
}

/// The same with the log probability of each token behind it, and as many others as are wanted, where they are.
fn with_logprobs(conversation: &Conversation, events: Vec<Event>) -> Vec<Event> {
    if conversation.sampling.logprobs != Some(true) {
        return events;
    }
    let others = conversation.sampling.top_logprobs.unwrap_or(0).min(MOST_OTHERS);
    let mut with_probabilities = Vec::with_capacity(events.len() * 2);
    for event in events {
        let token = if let Event::Text { choice, text } = &event { Some((*choice, text.clone())) } else { None };
        with_probabilities.push(event);
        if let Some((choice, token)) = token {
            with_probabilities
                .extend(logprob(token, others).map(|token| Event::Logprobs { choice, tokens: vec![token] }));
        }
    }
    with_probabilities
}

/// A token that was likely, with others that were less so.
fn logprob(token: String, others: u64) -> Option<TokenLogprob> {
    let number = |at: u64| Number::of_f32(-0.125 - u16::try_from(at).map_or(0.0, f32::from));
    let other = |at: u64| Some((text::place(at).to_owned(), number(at + 1)?));
    let top = (0..others).filter_map(other).collect();
    Some(TokenLogprob { logprob: number(0)?, token, top })
}

fn count(events: &[Event]) -> u64 {
    let is_token = |event: &&Event| {
        matches!(event, Event::Text { .. } | Event::Thinking { .. } | Event::Arguments { .. } | Event::Refusal { .. })
    };
    u64::try_from(events.iter().filter(is_token).count()).unwrap_or(0)
}

fn words(text: &str) -> u64 {
    u64::try_from(text.split_whitespace().count()).unwrap_or(0)
}

fn tokens_of(parts: &[Part]) -> u64 {
    let of = |part: &Part| match &part.kind {
        PartKind::Text(text) | PartKind::Refusal(text) => words(text) + TOKENS_A_PART,
        PartKind::Image(_) | PartKind::Audio(_) | PartKind::File(_) | PartKind::Video(_) => TOKENS_AN_IMAGE,
        PartKind::ToolCall(call) => words(&call.name) + TOKENS_A_PART,
        PartKind::ToolResult(result) => tokens_of(&result.parts),
        // What was thought before is read for nothing.
        PartKind::Thinking(_) | PartKind::Foreign(_) => 0,
    };
    parts.iter().map(of).sum()
}

/// What the answer is chosen by: what was said, so that it is the same in every dialect.
fn seed_of(profile: &Profile, conversation: &Conversation) -> u64 {
    let mut hasher = DefaultHasher::new();
    for part in conversation.turns.iter().filter(|turn| !turn.role.is_system()).flat_map(|turn| &turn.parts) {
        match &part.kind {
            PartKind::Text(text) | PartKind::Refusal(text) => text.hash(&mut hasher),
            PartKind::ToolResult(result) => text_of(&result.parts).hash(&mut hasher),
            PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::ToolCall(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => {}
        }
    }
    profile.seed.hash(&mut hasher);
    hasher.finish()
}

fn thinking(profile: &Profile, seed: u64, conversation: &Conversation, events: &mut Vec<Event>) -> u64 {
    let wants = match conversation.thinking.amount {
        ThinkingAmount::Unsaid | ThinkingAmount::Off => false,
        ThinkingAmount::Dynamic | ThinkingAmount::Effort(_) | ThinkingAmount::Budget(_) => true,
    };
    if !wants {
        return 0;
    }
    let pieces = text::pieces(seed ^ 1, 8);
    let number = u64::try_from(pieces.len()).unwrap_or(0);
    events.extend(pieces.into_iter().map(|text| Event::Thinking { choice: 0, text }));
    events.push(Event::Sealed { choice: 0, seal: Seal::Signature(format!("{}{seed:016x}", sign_of(profile))) });
    number
}

/// What a stand-in's seals begin with, so that it knows its thinking when it comes back.
fn sign_of(profile: &Profile) -> String {
    let mut hasher = DefaultHasher::new();
    profile.name.hash(&mut hasher);
    format!("c3RhbmQtaW4t{:016x}", hasher.finish())
}

/// Whether all thinking that comes back was sealed here, as services demand it.
#[must_use]
pub fn knows_its_thinking(profile: &Profile, conversation: &Conversation) -> bool {
    let sign = sign_of(profile);
    let seal = |part: &Part| match &part.kind {
        PartKind::Thinking(thinking) => thinking.seal.clone(),
        PartKind::ToolCall(call) => call.seal.clone(),
        PartKind::Text(_)
        | PartKind::Refusal(_)
        | PartKind::Image(_)
        | PartKind::Audio(_)
        | PartKind::File(_)
        | PartKind::Video(_)
        | PartKind::ToolResult(_)
        | PartKind::Foreign(_) => None,
    };
    let mut seals = conversation.turns.iter().flat_map(|turn| &turn.parts).filter_map(seal);
    seals.all(|seal| seal.text().starts_with(&sign))
}

/// Calls a function, or two where that is not forbidden, unless one has just given its result. Says whether it did.
fn calls(seed: u64, conversation: &Conversation, events: &mut Vec<Event>) -> bool {
    let has_result = conversation.turns.last().is_some_and(|turn| {
        turn.role == Role::User && turn.parts.iter().any(|part| matches!(part.kind, PartKind::ToolResult(_)))
    });
    let is_wanted = |tool: &&Tool| match &conversation.tool_choice {
        Some(ToolChoice::None) => false,
        Some(ToolChoice::Named(name) | ToolChoice::NamedCustom(name)) => tool.name == *name,
        Some(ToolChoice::Subset { names, .. }) => names.contains(&tool.name),
        Some(ToolChoice::Auto | ToolChoice::Required) | None => true,
    };
    if has_result {
        return false;
    }
    let most = if conversation.parallel_tools == Some(false) { 1 } else { MAX_CALLS };
    let wanted: Vec<&Tool> = conversation.tools.iter().filter(is_wanted).take(most).collect();
    for (index, tool) in wanted.iter().enumerate() {
        let call = u32::try_from(index).unwrap_or(0);
        let id = Some(format!("call_{:08x}_{index}", seed & 0xffff_ffff));
        let (kind, arguments) = match &tool.kind {
            ToolKind::Function { parameters, .. } => {
                let schema = parameters.as_ref().and_then(|raw| serde_json::from_str(raw.as_str()).ok());
                let arguments = named(conversation, sample(seed, &schema.unwrap_or(Value::Null)));
                (CallKind::Function, arguments.to_string())
            }
            ToolKind::Custom(_) => (CallKind::Custom, text::pieces(seed, 3).concat()),
        };
        events.push(Event::Call { choice: 0, call, id, name: tool.name.clone(), kind });
        let middle = arguments.char_indices().nth(arguments.chars().count() / 2).map_or(0, |(at, _)| at);
        let (first, second) = arguments.split_at(middle);
        for fragment in [first, second].into_iter().filter(|fragment| !fragment.is_empty()) {
            events.push(Event::Arguments { choice: 0, call, fragment: fragment.to_owned() });
        }
        events.push(Event::CallEnd { choice: 0, call });
    }
    !wanted.is_empty()
}

/// Arguments with the number that was asked for, if one was: long ones, as those of gauges and bookings are.
fn named(conversation: &Conversation, mut arguments: Value) -> Value {
    let texts = conversation.turns.last().map(|turn| text_of(&turn.parts)).unwrap_or_default();
    let mut numbers = texts.split(|each: char| !each.is_ascii_digit()).filter(|digits| digits.len() > 4);
    let number: Option<u64> = numbers.next().and_then(|digits| digits.parse().ok());
    if let (Some(number), Some(members)) = (number, arguments.as_object_mut())
        && let Some(value) = members.values_mut().find(|value| value.is_u64())
    {
        *value = json!(number);
    }
    arguments
}

/// A value that a schema allows: the first of an enumeration, a place for a text, a small number.
fn sample(seed: u64, schema: &Value) -> Value {
    if let Some(first) = schema.get("enum").and_then(Value::as_array).and_then(|values| values.first()) {
        return first.clone();
    }
    if let Some(constant) = schema.get("const") {
        return constant.clone();
    }
    let kind = match schema.get("type") {
        Some(Value::Array(kinds)) => kinds.first().and_then(Value::as_str).unwrap_or("object"),
        Some(kind) => kind.as_str().unwrap_or("object"),
        None => "object",
    };
    match kind {
        "string" => json!(text::place(seed)),
        "integer" | "number" => json!(seed % 20 + 1),
        "boolean" => json!(seed.is_multiple_of(2)),
        "null" => Value::Null,
        "array" => json!([sample(seed, schema.get("items").unwrap_or(&Value::Null))]),
        _ => {
            let properties = schema.get("properties").and_then(Value::as_object).cloned().unwrap_or_default();
            let each = properties.iter().enumerate().map(|(index, (name, schema))| {
                (name.clone(), sample(seed.wrapping_add(u64::try_from(index).unwrap_or(0)), schema))
            });
            Value::Object(each.collect())
        }
    }
}

/// The text of an answer: JSON where that is wanted, what the images are, or sentences.
fn pieces(profile: &Profile, seed: u64, conversation: &Conversation) -> Vec<String> {
    match &conversation.format {
        Some(AnswerFormat::Schema(schema)) => {
            let schema = serde_json::from_str(schema.schema.as_str()).unwrap_or(Value::Null);
            return in_pieces(&sample(seed, &schema).to_string());
        }
        Some(AnswerFormat::Json) => return in_pieces(&json!({ "answer": text::place(seed) }).to_string()),
        Some(AnswerFormat::Text) | None => {}
    }
    let seen: Vec<String> = conversation.turns.iter().flat_map(|turn| &turn.parts).filter_map(described).collect();
    let (from, to) = profile.answer_tokens;
    let wished = SmallRng::seed_from_u64(seed).random_range(from..=to.max(from));
    let mut pieces: Vec<String> = seen.iter().flat_map(|text| in_pieces(text)).collect();
    pieces.extend(text::pieces(seed, wished));
    pieces
}

fn in_pieces(text: &str) -> Vec<String> {
    text.split_inclusive([' ', ',', ':']).map(str::to_owned).collect()
}

/// What a medium is, as far as a stand-in can see.
fn described(part: &Part) -> Option<String> {
    let what = |media: &Media| match &media.source {
        MediaSource::Bytes { kind, base64 } => format!("{kind} of {} bytes", base64.len() / 4 * 3),
        MediaSource::Url { url, .. } => format!("what is at {url}"),
        MediaSource::Handle(id) => format!("the file {id}"),
    };
    match &part.kind {
        PartKind::Image(media) | PartKind::Audio(media) | PartKind::File(media) | PartKind::Video(media) => {
            Some(match number_in(media) {
                Some(number) => format!("{number}. "),
                None => format!("I see {}. ", what(media)),
            })
        }
        PartKind::Text(_)
        | PartKind::Refusal(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Thinking(_)
        | PartKind::Foreign(_) => None,
    }
}

/// The number in a picture, if it holds one.
fn number_in(media: &Media) -> Option<u32> {
    let MediaSource::Bytes { base64, .. } = &media.source else { return None };
    wendor_core::diagnosis::picture::read(&BASE64.decode(base64.as_bytes()).ok()?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::object(json!({"type":"object","properties":{"a":{"type":"integer"},"b":{"type":"string"}}}))]
    #[case::list(json!({"type":"array","items":{"type":"boolean"}}))]
    #[case::words(json!({"enum":["Farhythe"]}))]
    fn a_sample_is_what_its_schema_says(#[case] schema: Value) {
        let value = sample(7, &schema);
        match schema.get("type").and_then(Value::as_str) {
            Some("object") => assert!(value["a"].is_u64() && value["b"].is_string(), "{value}"),
            Some("array") => assert!(value[0].is_boolean(), "{value}"),
            _ => assert_eq!(value, json!("Farhythe")),
        }
    }
}
