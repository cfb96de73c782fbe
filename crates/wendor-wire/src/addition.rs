//! What a route adds to a request, put into the body in the app's own dialect: spliced, so that every other byte stays as it was.

mod settings;

use bytes::Bytes;
use serde_json::value::RawValue;

use crate::asked::AppRequest;
use crate::bad_request::BadRequest;
use crate::codec::Codec;
use crate::conversation::{Conversation, FunctionForm, Role, Turn};
use crate::dialect::Dialect;
use crate::dialects;
use crate::endpoint::Kind;
use crate::json::write::quoted;
use crate::members::{Edit, Found, Member, items, members, splice};
use crate::preset::{Added, Addition, PresetFate, PresetLine, PresetPart, PresetPlaces, Unsaid};
use crate::seal::SealDomain;
use crate::verdict::Target;

use settings::{Settings, insertion};

/// Puts `addition` into the body of `request`. Nothing is added but to turns of conversations and to counts of them, and nothing to a
/// request that asks nothing, which makes a local server load a model.
///
/// A parameter that the request sets stands, unless it is fixed; a fixed limit on output lowers the request's own and never raises it.
/// Instructions of the request stand instead of the route's, and behind them where those are fixed.
///
/// # Errors
/// [`BadRequest`] when the body cannot be read.
pub fn add(request: &AppRequest, body: &Bytes, addition: &Addition) -> Result<Added, BadRequest> {
    let is_chat = matches!(request.endpoint.kind, Kind::Chat(_));
    let nothing = || Added { body: body.clone(), lines: Vec::new(), unsaid: Unsaid::default() };
    if !is_chat && !matches!(request.endpoint.kind, Kind::Count(_)) {
        return Ok(nothing());
    }
    let conversation = if is_chat { request.understood(body)? } else { counted(request, body)? };
    if conversation.turns.iter().all(|turn| turn.role.is_system() || turn.parts.is_empty()) {
        return Ok(nothing());
    }
    let Ok(outer) = members(body) else { return Ok(nothing()) };
    let dialect = request.endpoint.dialect;
    let codec = dialects::of(dialect);
    let places = codec.preset_places();
    let mut adding = Adding {
        addition,
        conversation: &conversation,
        codec,
        places,
        outer,
        body,
        lines: Vec::new(),
        edits: Vec::new(),
        unsaid: Unsaid::default(),
    };
    adding.turns(dialect);
    if is_chat {
        adding.parameters();
    }
    let Adding { lines, edits, unsaid, .. } = adding;
    let body = if edits.is_empty() { body.clone() } else { Bytes::from(splice(body, edits).concat()) };
    Ok(Added { body, lines, unsaid })
}

/// The conversation whose tokens are counted: it says no limit, which one dialect demands of one that is answered.
fn counted(request: &AppRequest, body: &Bytes) -> Result<Conversation, BadRequest> {
    match dialects::of(request.endpoint.dialect).limit_member() {
        Some((None, name)) if !members(body).unwrap_or_default().iter().any(|member| member.name == name) => {
            let limited = splice(body, [insertion(body, &format!("\"{name}\":1"))]).concat();
            request.understood(&limited)
        }
        Some(_) | None => request.understood(body),
    }
}

struct Adding<'a> {
    addition: &'a Addition,
    conversation: &'a Conversation,
    codec: &'static dyn Codec,
    places: PresetPlaces,
    outer: Found<'a>,
    body: &'a Bytes,
    lines: Vec<PresetLine>,
    edits: Vec<Edit>,
    unsaid: Unsaid,
}

impl Adding<'_> {
    fn line(&mut self, part: PresetPart, fate: PresetFate) {
        self.lines.push(PresetLine { part, fate });
    }

    fn member(&self, name: &str) -> Option<&Member<'_>> {
        let is_named = |member: &&Member<'_>| {
            member.name == name || (self.codec.has_names_both_ways() && crate::json::read::camel(&member.name) == name)
        };
        self.outer.iter().find(is_named).filter(|member| member.value != "null")
    }

    fn turns(&mut self, dialect: Dialect) {
        let own = self.conversation.leading_system().filter(|text| !text.is_empty());
        let is_fixed = self.addition.is_fixed(PresetPart::Instructions);
        let instructions = self.addition.instructions.clone().filter(|_| own.is_none() || is_fixed);
        if self.addition.instructions.is_some() {
            let is_kept = instructions.is_none();
            self.line(PresetPart::Instructions, if is_kept { PresetFate::OwnKept } else { PresetFate::Added });
        }
        // A prompt has no turns, and what the service holds of a conversation has the examples already.
        let is_prompt = self.conversation.functions == FunctionForm::Prompt;
        let goes_on = self.member("previous_response_id").is_some() || self.member("conversation").is_some();
        let has_room = !is_prompt && !goes_on;
        let examples = if has_room { self.addition.examples.as_slice() } else { &[] };
        if !self.addition.examples.is_empty() {
            self.line(PresetPart::Examples, if has_room { PresetFate::Added } else { PresetFate::LeftOut });
        }
        let mut said = Conversation::of(dialect, "");
        // Such an app has them in a member of their own, which the encoder knows by its path.
        let path = self.places.instructions.unwrap_or_default();
        said.turns.extend(instructions.as_ref().map(|text| Turn::of_text(Role::System, text, path)));
        for example in examples {
            said.turns.push(Turn::of_text(Role::User, &example.user, ""));
            said.turns.push(Turn::of_text(Role::Assistant, &example.assistant, ""));
        }
        if said.turns.is_empty() {
            return;
        }
        let written = self.codec.write_request(&said, &plain(dialect));
        let Ok(written) = members(written.as_bytes()) else { return };
        let value = |name: &str| written.iter().find(|member| member.name == name).map(|member| member.value);
        let mut turns: Vec<&str> = value(self.places.turns).map(listed).unwrap_or_default();
        let instructions_member = if is_prompt { Some("system") } else { self.places.instructions };
        let mut edits = Vec::new();
        match (instructions_member, &instructions) {
            (Some(member), Some(text)) => edits.push(self.instructed(member, text, own.as_deref(), value(member))),
            (None, Some(_)) if !turns.is_empty() => {
                let first = turns.remove(0);
                edits.extend(self.inserted(0, &[first]));
            }
            (Some(_) | None, _) => {}
        }
        if !examples.is_empty() {
            edits.extend(self.inserted(self.leading_turns(), &turns));
        }
        self.edits.extend(edits);
    }

    /// The instructions in the member of the body that is for them, in front of the request's own.
    fn instructed(&self, name: &str, text: &str, own: Option<&str>, written: Option<&str>) -> Edit {
        let joined = own.map_or_else(|| text.to_owned(), |own| format!("{text}\n\n{own}"));
        let mut plain = String::with_capacity(joined.len() + 2);
        quoted(&joined, &mut plain);
        let Some(member) = self.member(name) else {
            let value = written.unwrap_or(&plain);
            // One that says null stays where it is.
            return match self.outer.iter().find(|member| member.name == name) {
                Some(null) => (null.place.clone(), value.to_owned()),
                None => insertion(self.body, &format!("\"{name}\":{value}")),
            };
        };
        // A list of blocks, or an object with a list of parts: theirs may be marked, so that each stays as it is.
        let blocks =
            if member.value.starts_with('{') { inner_list(member.value, "parts") } else { Some((0, member.value)) };
        let first = blocks.filter(|(_, list)| list.starts_with('[')).and_then(|(offset, list)| {
            let mut block =
                String::from(if member.value.starts_with('{') { "{\"text\":" } else { "{\"type\":\"text\",\"text\":" });
            quoted(text, &mut block);
            block.push('}');
            insert_into(list, member.place.start + offset, 0, &[&block])
        });
        first.unwrap_or_else(|| (member.place.clone(), plain))
    }

    /// `turns` before the one at `index`.
    fn inserted(&self, index: usize, turns: &[&str]) -> Option<Edit> {
        let list = self.member(self.places.turns)?;
        if list.value.starts_with('[') {
            return insert_into(list.value, list.place.start, index, turns);
        }
        // A text alone is the one turn of the user.
        let own = format!("{{\"role\":\"user\",\"content\":{}}}", list.value);
        Some((list.place.clone(), format!("[{},{own}]", turns.join(","))))
    }

    /// Turns of instructions at the front of the list.
    fn leading_turns(&self) -> usize {
        let list = self.member(self.places.turns).map_or("", |member| member.value);
        let is_system = |turn: &&&str| {
            let fields = members(turn.as_bytes()).unwrap_or_default();
            fields.iter().any(|field| field.name == "role" && matches!(field.value, "\"system\"" | "\"developer\""))
        };
        listed(list).iter().take_while(is_system).count()
    }

    fn parameters(&mut self) {
        let addition = self.addition;
        let sampling = &self.conversation.sampling;
        let mut settings = Settings::new(self.codec.has_names_both_ways());
        let own = |part| match part {
            PresetPart::Temperature => sampling.temperature.is_some(),
            PresetPart::TopP => sampling.top_p.is_some(),
            PresetPart::Seed => sampling.seed.is_some(),
            PresetPart::PresencePenalty => sampling.presence_penalty.is_some(),
            PresetPart::FrequencyPenalty => sampling.frequency_penalty.is_some(),
            PresetPart::Stop => !sampling.stop.is_empty(),
            PresetPart::OutputLimit => self.conversation.output_limit.is_some(),
            PresetPart::Instructions | PresetPart::Examples => false,
        };
        for (part, number) in &addition.numbers {
            let fate = self.set(&mut settings, *part, own(*part), number.as_str().to_owned());
            if fate == PresetFate::Unsaid {
                self.unsaid.numbers.push((*part, number.clone()));
            }
            self.line(*part, fate);
        }
        if !addition.stop.is_empty() {
            let list = serde_json::to_string(&addition.stop).unwrap_or_default();
            let fate = self.set(&mut settings, PresetPart::Stop, own(PresetPart::Stop), list);
            if fate == PresetFate::Unsaid {
                self.unsaid.stop.clone_from(&addition.stop);
            }
            self.line(PresetPart::Stop, fate);
        }
        if let Some(limit) = addition.output_limit {
            // A fixed one is the most; less is not in its way.
            let own = self.conversation.output_limit;
            let fate = if own.is_some_and(|own| own <= limit) {
                PresetFate::OwnKept
            } else {
                self.set(&mut settings, PresetPart::OutputLimit, own.is_some(), limit.to_string())
            };
            self.line(PresetPart::OutputLimit, fate);
        }
        let edits = settings.edits(self.body, &self.outer);
        self.edits.extend(edits);
    }

    fn set(&self, settings: &mut Settings<'_>, part: PresetPart, is_own: bool, value: String) -> PresetFate {
        let names = self.places.names_of(part);
        match (names.is_empty(), is_own, self.addition.is_fixed(part)) {
            (true, ..) => return PresetFate::Unsaid,
            (false, true, false) => return PresetFate::OwnKept,
            (false, _, _) => settings.set(&self.outer, names, value),
        }
        if is_own { PresetFate::OwnReplaced } else { PresetFate::Added }
    }
}

/// Of a dialect, and nothing more is known.
fn plain(dialect: Dialect) -> Target<'static> {
    let seals = SealDomain::unmarked();
    Target { dialect, model: "", marks: &[], controls: crate::ability::Controls::default(), seals, output_cap: None }
}

/// The items of a list as they stand there.
fn listed(list: &str) -> Vec<&str> {
    serde_json::from_str::<Vec<&RawValue>>(list)
        .map(|items| items.into_iter().map(RawValue::get).collect())
        .unwrap_or_default()
}

/// A list in an object, with its place there.
fn inner_list<'v>(object: &'v str, name: &str) -> Option<(usize, &'v str)> {
    let found = members(object.as_bytes()).ok()?;
    found.into_iter().find(|member| member.name == name).map(|member| (member.place.start, member.value))
}

/// `new` before the item at `index` of the list `text`, which stands at `offset`.
fn insert_into(text: &str, offset: usize, index: usize, new: &[&str]) -> Option<Edit> {
    if new.is_empty() {
        return None;
    }
    let places = items(text).ok()?;
    let joined = new.join(",");
    let (place, written) = match (places.get(index), places.last()) {
        (Some(item), _) => (item.start, format!("{joined},")),
        (None, Some(last)) => (last.end, format!(",{joined}")),
        (None, None) => (1, joined),
    };
    Some((offset + place..offset + place, written))
}

#[cfg(test)]
mod tests;
