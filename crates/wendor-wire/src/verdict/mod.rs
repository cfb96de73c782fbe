//! What becomes of a request at an offer, said before anything is encoded: for each field lossless, approximated or refused.
//!
//! A conversation and what is known of an offer enter ([`judge`]); a [`Verdict`] leaves, and after it encoding cannot fail. The rules
//! are one table ([`table::TABLE`], `docs/protocols.md` sections 8.1 to 8.9), which drives the code, the tests and `docs/dialects.md`.
//!
//! - [`field`]: everything that a request can hold, as far as dialects differ in it
//! - [`table`]: what becomes of each field in each dialect
//! - [`found`]: the fields that a conversation holds, with their places

pub mod field;
pub mod found;
pub mod table;

#[cfg(test)]
mod tests;

use field::Field;
use table::{Cell, cell};

use crate::ability::{Control, ControlPolicy, Controls, Mark};
use crate::conversation::{Conversation, Native};
use crate::dialect::Dialect;
use crate::seal::{Origin, Seal, SealDomain};

/// What an encoder and a verdict have to know of an offer.
#[derive(Clone, Debug)]
pub struct Target<'a> {
    /// What its upstream speaks.
    pub dialect: Dialect,
    /// Its own name for the model.
    pub model: &'a str,
    /// What it can do beyond its dialect, or less.
    pub marks: &'a [Mark],
    /// What is done with controls that reach beyond one request.
    pub controls: Controls,
    /// Whose seals it recognises.
    pub seals: SealDomain,
    /// The most output tokens that it makes, for dialects in which a request has to say a limit.
    pub output_cap: Option<u64>,
}

impl Target<'_> {
    /// A seal as the upstream made it, if it may be one that it knows: one that never went through here goes back only in the dialect
    /// that it came in.
    #[must_use]
    pub fn own_seal(&self, conversation: &Conversation, seal: &Seal) -> Option<Seal> {
        match self.seals.origin(seal.text()) {
            Origin::Own(own) => Some(match seal {
                Seal::Signature(_) => Seal::Signature(own.to_owned()),
                Seal::Redacted(_) => Seal::Redacted(own.to_owned()),
            }),
            Origin::OwnRedacted(own) => Some(Seal::Redacted(own.to_owned())),
            Origin::Unmarked if conversation.dialect == self.dialect && !seal.text().is_empty() => Some(seal.clone()),
            Origin::Unmarked | Origin::Foreign => None,
        }
    }
}

/// A field that does not reach the upstream as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// Where it stands in the app's body.
    pub path: String,
    /// What becomes of it, or why it cannot be taken and what to do.
    pub what: String,
}

/// What becomes of a request.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Verdict {
    /// What cannot be said there. If there is any, the request is not sent.
    pub refused: Vec<Note>,
    /// What is said otherwise, or left out without harm to the answer's meaning.
    pub approximated: Vec<Note>,
}

impl Verdict {
    /// Whether the request can be sent: a strict route takes no approximation either.
    #[must_use]
    pub fn can_be_sent(&self, is_strict: bool) -> bool {
        self.refused.is_empty() && (!is_strict || self.approximated.is_empty())
    }

    /// The first field in the way of sending.
    #[must_use]
    pub fn in_the_way(&self, is_strict: bool) -> Option<&Note> {
        self.refused.first().or_else(|| self.approximated.first().filter(|_| is_strict))
    }
}

/// The verdict on `conversation` at `target`.
#[must_use]
pub fn judge(conversation: &Conversation, target: &Target<'_>) -> Verdict {
    let mut verdict = Verdict::default();
    let fields = found::fields(conversation, target);
    let is_written_anew = has_to_be_written_anew(conversation, target, &fields);
    for (field, path) in fields {
        apply(&mut verdict, rule(conversation.dialect, target, field), path);
    }
    if conversation.dialect != target.dialect || is_written_anew {
        let what = "unknown member, left out";
        let unknown = conversation.unknown.iter();
        verdict.approximated.extend(unknown.map(|path| Note { path: path.clone(), what: what.to_owned() }));
    }
    verdict
}

/// The verdict on members that a passed body of the dialect `from` holds.
#[must_use]
pub fn judge_members(from: Dialect, members: &[Native], target: &Target<'_>) -> Verdict {
    let mut verdict = Verdict::default();
    for member in members {
        apply(&mut verdict, rule(from, target, member.field), member.path.clone());
    }
    verdict
}

/// Whether thinking must be turned off for the request to be taken.
#[must_use]
pub fn turns_thinking_off(conversation: &Conversation, target: &Target<'_>) -> bool {
    found::fields(conversation, target).iter().any(|(field, _)| {
        *field == Field::ThinkingInLoop && !matches!(rule(conversation.dialect, target, *field), Cell::Carried)
    })
}

/// Whether a request of the upstream's own dialect cannot go as the app wrote it but for what is cut out of its members: something in its
/// turns or among its tools is left out.
#[must_use]
pub fn is_written_anew(conversation: &Conversation, target: &Target<'_>) -> bool {
    has_to_be_written_anew(conversation, target, &found::fields(conversation, target))
}

fn has_to_be_written_anew(conversation: &Conversation, target: &Target<'_>, found: &[(Field, String)]) -> bool {
    let is_cut_from_a_list =
        |native: &Native| native.container == "tools" && !is_given_back(conversation, target, native.field);
    found.iter().any(|(field, _)| *field == Field::ForeignSeal) || conversation.native.iter().any(is_cut_from_a_list)
}

fn apply(verdict: &mut Verdict, cell: Cell, path: String) {
    match cell {
        Cell::Carried | Cell::Marked(..) | Cell::OwnOnly(_) | Cell::Controlled(..) => {}
        Cell::Approximated(what) => verdict.approximated.push(Note { path, what: what.to_owned() }),
        Cell::Refused(why) => verdict.refused.push(Note { path, what: why.to_owned() }),
    }
}

/// The cell with its conditions resolved: what is left is carried, approximated or refused.
fn rule(from: Dialect, target: &Target<'_>, field: Field) -> Cell {
    let is_own = from == target.dialect;
    let cell = cell(field, target.dialect);
    if is_own && !is_judged_in_its_own_dialect(field, cell) {
        return Cell::Carried;
    }
    match cell {
        Cell::Marked(mark, else_) => {
            if target.marks.contains(&mark) {
                Cell::Carried
            } else {
                *else_
            }
        }
        Cell::OwnOnly(else_) => {
            if is_own {
                Cell::Carried
            } else {
                *else_
            }
        }
        Cell::Controlled(control, else_) => controlled(target, control, is_own, else_),
        settled @ (Cell::Carried | Cell::Approximated(_) | Cell::Refused(_)) => settled,
    }
}

/// In its own dialect a request goes through as it is; only what reaches beyond it is looked at.
fn is_judged_in_its_own_dialect(field: Field, cell: Cell) -> bool {
    const ALWAYS: [Field; 4] = [Field::SharedState, Field::Background, Field::ForeignSeal, Field::ThinkingInLoop];
    matches!(cell, Cell::Controlled(..)) || ALWAYS.contains(&field)
}

fn controlled(target: &Target<'_>, control: Control, is_own: bool, elsewhere: &'static Cell) -> Cell {
    match (target.controls.of(control), is_own) {
        (ControlPolicy::Refuse, _) => Cell::Refused("the offer does not let apps set this; leave it out"),
        (ControlPolicy::Strip, _) => Cell::Approximated("the offer does not let apps set this, so it is left out"),
        (ControlPolicy::Pass, true) => Cell::Carried,
        (ControlPolicy::Pass, false) => *elsewhere,
    }
}

/// Whether a member of the app's own dialect is given back to it at this offer.
#[must_use]
pub fn is_given_back(conversation: &Conversation, target: &Target<'_>, field: Field) -> bool {
    goes_back(conversation.dialect, target, field)
}

/// Whether a member of the dialect `from` goes back to it at this offer.
#[must_use]
pub fn goes_back(from: Dialect, target: &Target<'_>, field: Field) -> bool {
    from == target.dialect && matches!(rule(from, target, field), Cell::Carried)
}
