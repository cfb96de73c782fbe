//! What changes of a body on its way to an upstream of the same dialect, by place: what the offer does not let apps set is cut out, the
//! upstream's own seals leave as it made them. Everything else stays as the app wrote it.

use std::collections::BTreeSet;
use std::ops::Range;

use crate::conversation::Native;
use crate::dialect::Dialect;
use crate::dialects;
use crate::json::read::camel;
use crate::json::texts::{TextAt, has_escaped_letters, texts};
use crate::json::write::quoted;
use crate::members::{Edit, Edits, Member, behind_opening, cuts, items, members};
use crate::seal::{Origin, SealDomain, holds_mark};
use crate::verdict::{Target, goes_back};

/// What is cut out of a body for an upstream of the same dialect.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rewriting {
    pub(super) edits: Edits,
    /// Whether the answer is to come in another way than the app asked for.
    pub(super) is_delivered_otherwise: bool,
}

impl Rewriting {
    /// The same, and what stands at a place is written anew.
    #[must_use]
    pub fn writing(mut self, edit: Edit) -> Self {
        self.edits.push(edit);
        self
    }

    /// What must be cut out of `body` for `target`, which speaks its dialect: those of its own `members` that the offer does not pass on,
    /// and the marks of its own seals.
    /// `None` where cutting is not enough, and the body must be written anew.
    #[must_use]
    pub fn of(members: &[Native], target: &Target<'_>, body: &[u8]) -> Option<Self> {
        let held_back: Vec<&Native> =
            members.iter().filter(|native| !goes_back(target.dialect, target, native.field)).collect();
        let mut edits = marks_of(&target.seals, body);
        if !held_back.is_empty() {
            let places = places_of(&held_back, target.dialect, body)?;
            edits.extend(places.into_iter().map(|place| (place, String::new())));
        }
        Some(Self { edits, is_delivered_otherwise: false })
    }

    /// The same for an upstream of chat-completions that knows the limit on output only by its old name.
    #[must_use]
    pub fn with_old_limit(mut self, body: &[u8]) -> Self {
        let fields = members(body).unwrap_or_default();
        let limit = |name: &str| {
            let member = fields.iter().find(|member| member.name == name)?;
            Some((member.value.parse::<u64>().ok()?, member.place.clone()))
        };
        let Some((new, _)) = limit("max_completion_tokens") else { return self };
        let places = cuts(body, &fields, |member| member.name == "max_completion_tokens");
        self.edits.extend(places.into_iter().map(|place| (place, String::new())));
        match limit("max_tokens") {
            // Servers differ in which of the two they keep to: the larger one was reserved.
            Some((old, place)) => self.writing((place, old.max(new).to_string())),
            None => self.writing(insertion(body, &format!("\"max_tokens\":{new}"))),
        }
    }

    /// The same for an upstream of chat-completions that does not know the role `developer`: such turns go as `system`. Says whether there was
    /// one.
    #[must_use]
    pub fn with_system_role(mut self, body: &[u8]) -> (Self, bool) {
        let edits = if memchr::memmem::find(body, b"developer").is_some() { developer_roles(body) } else { None };
        let edits = edits.unwrap_or_default();
        let has_some = !edits.is_empty();
        self.edits.extend(edits);
        (self, has_some)
    }

    /// The same, and the service is told not to keep the answer.
    #[must_use]
    pub fn not_kept(self, body: &[u8]) -> Self {
        self.writing(insertion(body, "\"store\":false"))
    }

    /// The same, and the answer is asked for as a stream, or whole, whatever the app wants. `None` where the body cannot be read.
    #[must_use]
    pub fn delivered(mut self, dialect: Dialect, body: &[u8], is_streamed: bool) -> Option<Self> {
        let fields = members(body).ok()?;
        self.is_delivered_otherwise = true;
        let codec = dialects::of(dialect);
        if !codec.is_told_in_path() {
            let flag = is_streamed.to_string();
            self.edits.push(match fields.iter().find(|member| member.name == "stream") {
                Some(member) => (member.place.clone(), flag),
                None => insertion(body, &format!("\"stream\":{flag}")),
            });
        }
        if codec.tells_usage_apart() {
            let options = cuts(body, &fields, |member| member.name == "stream_options");
            self.edits.extend(options.into_iter().map(|place| (place, String::new())));
            if is_streamed {
                self.edits.push(insertion(body, "\"stream_options\":{\"include_usage\":true}"));
            }
        }
        Some(self)
    }
}

/// The role of each turn of the developer, written anew.
fn developer_roles(body: &[u8]) -> Option<Vec<Edit>> {
    let outer = members(body).ok()?;
    let list = outer.iter().find(|member| member.name == "messages")?;
    let mut edits = Vec::new();
    for item in items(list.value).ok()? {
        let turn = list.value.get(item.clone())?;
        for role in members(turn.as_bytes()).unwrap_or_default().iter().filter(|member| member.name == "role") {
            if serde_json::from_str::<&str>(role.value).is_ok_and(|role| role == "developer") {
                let from = list.place.start + item.start;
                edits.push((from + role.place.start..from + role.place.end, "\"system\"".to_owned()));
            }
        }
    }
    Some(edits)
}

/// `member` as the first of the body.
fn insertion(body: &[u8], member: &str) -> Edit {
    let place = behind_opening(body);
    (place..place, format!("{member},"))
}

/// Where members of the body, or of objects that stand in it, are to be cut. `None` where one of them stands elsewhere.
fn places_of(natives: &[&Native], dialect: Dialect, body: &[u8]) -> Option<Vec<Range<usize>>> {
    let is_named = |native: &Native, member: &Member<'_>| is_same_name(dialect, &member.name, &native.name);
    let outer = members(body).ok()?;
    let of_body =
        |member: &Member<'_>| natives.iter().any(|native| native.container.is_empty() && is_named(native, member));
    let mut places = cuts(body, &outer, of_body);
    let containers: BTreeSet<&str> =
        natives.iter().map(|native| native.container).filter(|container| !container.is_empty()).collect();
    for container in containers {
        let mut is_there = false;
        for holder in outer.iter().filter(|member| is_same_name(dialect, &member.name, container)) {
            is_there = true;
            let text = holder.value.as_bytes();
            let inner = members(text).ok()?;
            let of_container = |member: &Member<'_>| {
                natives.iter().any(|native| native.container == container && is_named(native, member))
            };
            let cut = cuts(text, &inner, of_container).into_iter();
            places.extend(cut.map(|place| holder.place.start + place.start..holder.place.start + place.end));
        }
        if !is_there {
            return None;
        }
    }
    Some(places)
}

/// Whether a member is the one of that name: one dialect has its names in two ways.
fn is_same_name(dialect: Dialect, written: &str, name: &str) -> bool {
    written == name || (dialects::of(dialect).has_names_both_ways() && camel(written) == name)
}

/// The marks of a domain's own seals, to be taken off: in front of each text that begins with it, however its letters are written.
fn marks_of(seals: &SealDomain, body: &[u8]) -> Edits {
    let has_escapes = has_escaped_letters(body);
    let Some(text) = std::str::from_utf8(body).ok().filter(|_| has_escapes || holds_mark(body)) else {
        return Edits::new();
    };
    let own = |found: TextAt<'_>| {
        let seal = found.text()?;
        let (Origin::Own(own) | Origin::OwnRedacted(own)) = seals.origin(&seal) else { return None };
        let mut written = String::with_capacity(own.len() + 2);
        quoted(own, &mut written);
        Some((found.quoted(), written))
    };
    texts(text).filter_map(own).collect()
}
