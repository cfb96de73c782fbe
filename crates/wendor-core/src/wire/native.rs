//! Members that one dialect alone knows, taken out of a body: kept for that dialect, and named to the verdict.

use super::conversation::{Conversation, Native};
use super::json::{Json, Members, Object, RawJson};
use super::verdict::field::Field;
use super::verdict::{Target, is_given_back};

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

/// `into` with the members of `native` that stand in `container` and go back to the dialect that they came in, in their order.
#[must_use]
pub fn give_back(
    conversation: &Conversation,
    target: &Target<'_>,
    native: &[Native],
    container: &str,
    into: Members,
) -> Members {
    given_back(conversation, target, native, container)
        .fold(into, |members, member| members.put(member.name.clone(), Json::from(&member.value)))
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
