//! Members that one dialect alone knows, taken out of a body: kept for that dialect, and named to the verdict.

use crate::conversation::{Conversation, Native};
use crate::dialect::Dialect;
use crate::json::{Json, Members, Node, Object, RawJson};
use crate::verdict::field::Field;
use crate::verdict::{Target, is_given_back};

/// A member's name, and what it is to the verdict.
pub type Known = (&'static str, Field);

/// Takes the `known` members of `object` into `native`. Where `object` stands in a turn, a part or the body by a member of its own,
/// `container` is that member's name.
pub fn take_known(object: &mut Object<'_>, known: &[Known], container: &'static str, native: &mut Vec<Native>) {
    for (name, field) in known {
        if let Some(node) = object.take(name) {
            native.push(Native {
                field: if says_nothing(*field, &node.raw()) { Field::Usual } else { *field },
                container,
                name: (*name).to_owned(),
                path: node.path().to_owned(),
                value: node.raw(),
            });
        }
    }
}

/// Whether a control has the value that it has by itself: not to keep the answer, the usual tier.
fn says_nothing(field: Field, value: &RawJson) -> bool {
    let value: Option<serde_json::Value> = serde_json::from_str(value.as_str()).ok();
    let Some(value) = value else { return false };
    match value.as_str() {
        Some(word) => field == Field::ServiceTier && ["auto", "default", "standard"].contains(&word),
        None => field == Field::Store && value == false,
    }
}

/// `into` with the members of `native` that stand in `container` at the target: those that go back to the dialect that they came in, and
/// those that the target's dialect has in words of its own.
#[must_use]
pub fn give_back(
    conversation: &Conversation,
    target: &Target<'_>,
    native: &[Native],
    container: &str,
    into: Members,
) -> Members {
    let own = given_back(conversation, target, native, container)
        .fold(into, |members, member| members.put(member.name.clone(), Json::from(&member.value)));
    if conversation.dialect == target.dialect {
        return own;
    }
    let crossing = native.iter().filter_map(|member| crossing(member, target.dialect));
    crossing.filter(|(at, ..)| *at == container).fold(own, |members, (_, name, value)| members.put(name, value))
}

/// Where a member of another dialect stands in this one, under which name and with which value; `None` where it has no place.
fn crossing(member: &Native, to: Dialect) -> Option<(&'static str, String, Json)> {
    let same = |container| Some((container, member.name.clone(), Json::from(&member.value)));
    match (member.field, to) {
        // What these two dialects have of a service they have in common.
        (Field::Metadata | Field::UserMarks, Dialect::ChatCompletions | Dialect::Responses) => same(""),
        (Field::Verbosity, Dialect::ChatCompletions) => same(""),
        (Field::Verbosity, Dialect::Responses) => same("text"),
        (Field::ImageDetail, Dialect::ChatCompletions) => same("image_url"),
        (Field::ImageDetail, Dialect::Responses) => same(""),
        (Field::CacheMarks, Dialect::ChatCompletions | Dialect::Responses) => {
            Some(("", "prompt_cache_breakpoint".to_owned(), cache_mark(member, "mode", "explicit")))
        }
        (Field::CacheMarks, Dialect::Messages) => {
            Some(("", "cache_control".to_owned(), cache_mark(member, "type", "ephemeral")))
        }
        (_, _) => None,
    }
}

/// A mark of what is worth caching, with the kind that a dialect has; how long it is kept goes along.
fn cache_mark(member: &Native, kind: &'static str, word: &'static str) -> Json {
    let mark = Node::new(member.value.as_str(), "").object().ok();
    let kept = mark.and_then(|mut mark| mark.take("ttl")).map(|node| node.raw());
    Members::new().put(kind, word).some("ttl", kept.as_ref()).into()
}

/// The members of `native` that stand in `container` and go back to the dialect that they came in.
pub fn given_back<'n>(
    conversation: &'n Conversation,
    target: &'n Target<'_>,
    native: &'n [Native],
    container: &'n str,
) -> impl Iterator<Item = &'n Native> {
    let here = native.iter().filter(move |member| member.container == container);
    here.filter(move |member| is_given_back(conversation, target, member.field))
}

/// A tool that the service runs itself, kept as it came.
pub(crate) fn hosted(node: &Node<'_>, container: &'static str) -> Native {
    Native { field: Field::HostedTool, container, name: String::new(), path: node.path().to_owned(), value: node.raw() }
}
