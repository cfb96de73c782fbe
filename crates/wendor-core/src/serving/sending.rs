//! The body that goes up for one offer: the app's own, spliced where it has to change, where the offer speaks the same dialect;
//! otherwise written anew from the neutral conversation.

use std::sync::Arc;

use bytes::Bytes;
use smallvec::smallvec;
use wendor_wire::ability::{Ability, Mark};
use wendor_wire::asked::AppRequest;
use wendor_wire::change::{NOT_SET, RequestChange};
use wendor_wire::conversation::{Conversation, Delivery, FunctionForm, Native, ThinkingAmount, UsageFrame};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{form_of, path_of};
use wendor_wire::endpoint::Kind;
use wendor_wire::members::Spliced;
use wendor_wire::rewriting::Rewriting;
use wendor_wire::verdict::field::Field;
use wendor_wire::verdict::found::fields;
use wendor_wire::verdict::{Note, Target, is_given_back, is_written_anew, judge, judge_members, turns_thinking_off};

use crate::catalog::upstream::{Offer, Upstream};
use crate::serving::fit::{Content, asks_for_stream};

/// What goes to an upstream.
#[derive(Debug)]
pub struct Sending {
    /// The body, piece by piece.
    pub pieces: Spliced,
    /// The endpoint's path, where it is not the dialect's usual one.
    pub path: Option<String>,
    /// Whether a stream is asked for.
    pub is_streamed: bool,
    /// What was changed, for the record.
    pub changes: Vec<RequestChange>,
}

/// Makes the body for `target`, whose verdict was that it can be sent, with a `cap` on its output where one must be kept and the app
/// set none.
#[must_use]
pub fn prepare(
    request: &AppRequest,
    content: &Arc<Content>,
    body: &Bytes,
    cap: Option<u64>,
    offer: &Offer,
    target: &Target<'_>,
) -> Sending {
    let is_streamed = asks_for_stream(request, offer);
    let is_own = request.endpoint.dialect == target.dialect;
    let mut changes = request.changes(target.model);
    match content.as_ref() {
        Content::Conversation(conversation) => {
            let pieces = conversed(request, conversation, &Going { body, cap, is_streamed }, target, &mut changes);
            let is_prompt = is_own && conversation.functions == FunctionForm::Prompt;
            let usual = usual_path(target.dialect, target.model, is_streamed);
            let path = if is_prompt { Some("/api/generate".to_owned()) } else { usual };
            Sending { pieces, path, is_streamed, changes }
        }
        Content::Embedding(embedding) => {
            let form = form_of(target.dialect).unwrap_or(embedding.form);
            let own_form = if is_own { embedding.form } else { form };
            let pieces = if is_own {
                passed(request, body, None, target, &mut changes)
            } else {
                changes.extend(embedding.approximated(target.dialect).iter().map(changed));
                smallvec![Bytes::from(embedding.write(form, target.model))]
            };
            Sending { pieces, path: Some(path_of(own_form, target.model)), is_streamed: false, changes }
        }
        Content::NotLookedAt => {
            let pieces = passed(request, body, cap, target, &mut changes);
            let path = match &request.endpoint.kind {
                Kind::Passed(passed) => Some(passed.path().to_owned()),
                Kind::Count(_) => Some(dialects::of(target.dialect).count_path(target.model)),
                Kind::Chat(_)
                | Kind::Embed(..)
                | Kind::Models
                | Kind::Model(_)
                | Kind::ShowModel
                | Kind::Loaded
                | Kind::Version => usual_path(target.dialect, target.model, is_streamed),
            };
            Sending { pieces, path, is_streamed, changes }
        }
    }
}

/// What goes up of a conversation.
struct Going<'a> {
    /// The app's own body.
    body: &'a Bytes,
    /// The most output, where it must be written in.
    cap: Option<u64>,
    /// Whether a stream is asked for.
    is_streamed: bool,
}

/// The body of a conversation: spliced where the upstream speaks the app's dialect and that is enough, otherwise written anew.
fn conversed(
    request: &AppRequest,
    conversation: &Conversation,
    going: &Going<'_>,
    target: &Target<'_>,
    changes: &mut Vec<RequestChange>,
) -> Spliced {
    let Going { body, cap, is_streamed } = *going;
    let is_own = request.endpoint.dialect == target.dialect;
    changes.extend(judge(conversation, target).approximated.iter().map(changed));
    if is_own && is_told_not_to_keep(conversation, target) {
        changes.push(RequestChange::new("store", NOT_SET, "false, since teams share the credential"));
    }
    let rewriting = if is_own { spliced(conversation, target, body, is_streamed, changes) } else { None };
    if let Some(rewriting) = rewriting {
        let rewriting = capped(request, body, cap, target, rewriting, changes);
        return request.for_same_dialect(body, target.model, rewriting);
    }
    let cap = cap.filter(|_| conversation.output_limit.is_none());
    changes.extend(cap.map(|cap| RequestChange::cap("the limit on output", cap)));
    smallvec![written(conversation, target, is_streamed, cap)]
}

/// A body that passes to an upstream of its own dialect, without the settings that the offer does not let apps set.
fn passed(
    request: &AppRequest,
    body: &Bytes,
    cap: Option<u64>,
    target: &Target<'_>,
    changes: &mut Vec<RequestChange>,
) -> Spliced {
    let verdict = judge_members(target.dialect, &request.controls, target);
    changes.extend(verdict.approximated.iter().map(changed));
    let rewriting = Rewriting::of(&request.controls, target, body).unwrap_or_default();
    let is_chat = matches!(request.endpoint.kind, Kind::Chat(_));
    let rewriting = if is_chat { for_marks(rewriting, target, body, changes) } else { rewriting };
    let rewriting = capped(request, body, cap, target, rewriting, changes);
    request.for_same_dialect(body, target.model, rewriting)
}

/// Only one dialect has the model in its path; the others' path is made once for all requests.
fn usual_path(dialect: Dialect, model: &str, is_streamed: bool) -> Option<String> {
    dialects::of(dialect).is_told_in_path().then(|| dialects::of(dialect).path(model, is_streamed))
}

/// What must be cut out of the app's own body. `None` where it must be written anew: thinking that another service sealed is left out
/// block by block.
fn spliced(
    conversation: &Conversation,
    target: &Target<'_>,
    body: &Bytes,
    is_streamed: bool,
    changes: &mut Vec<RequestChange>,
) -> Option<Rewriting> {
    if conversation.is_changed || is_written_anew(conversation, target) {
        return None;
    }
    let mut rewriting = for_marks(Rewriting::of(&conversation.native, target, body)?, target, body, changes);
    if is_told_not_to_keep(conversation, target) {
        rewriting = rewriting.not_kept(body);
    }
    // An offer that only streams, or never does, is asked in its own way, and the answer is gathered or taken apart.
    let is_as_wanted = is_streamed == (conversation.delivery != Delivery::Whole);
    if is_as_wanted { Some(rewriting) } else { rewriting.delivered(target.dialect, body, is_streamed) }
}

/// What the marks of an offer ask for beside.
fn for_marks(
    mut rewriting: Rewriting,
    target: &Target<'_>,
    body: &Bytes,
    changes: &mut Vec<RequestChange>,
) -> Rewriting {
    if !dialects::of(target.dialect).has_old_servers() {
        return rewriting;
    }
    if target.marks.contains(&Mark::OldLimit) {
        rewriting = rewriting.with_old_limit(body);
    }
    if target.marks.contains(&Mark::NoDeveloper) {
        let (written, has_some) = rewriting.with_system_role(body);
        rewriting = written;
        let to = "system, since the offer does not know that role";
        changes.extend(has_some.then(|| RequestChange::new("messages.role", "developer", to)));
    }
    rewriting
}

/// Whether a service that keeps answers unless it is told not to must be told: it keeps them for whoever has the credential, which
/// teams share.
fn is_told_not_to_keep(conversation: &Conversation, target: &Target<'_>) -> bool {
    let says_so = |native: &Native| native.name == "store" && is_given_back(conversation, target, native.field);
    dialects::of(target.dialect).keeps_answers() && !conversation.native.iter().any(says_so)
}

/// The same rewriting, and the cap on output is written in.
fn capped(
    request: &AppRequest,
    body: &Bytes,
    cap: Option<u64>,
    target: &Target<'_>,
    rewriting: Rewriting,
    changes: &mut Vec<RequestChange>,
) -> Rewriting {
    let edit = cap.and_then(|cap| Some((cap, request.limit_edit(body, cap, target.marks)?)));
    let Some((cap, (path, edit))) = edit else { return rewriting };
    changes.push(RequestChange::cap(&path, cap));
    rewriting.writing(edit)
}

fn written(conversation: &Conversation, target: &Target<'_>, is_streamed: bool, cap: Option<u64>) -> Bytes {
    let delivery = match (conversation.delivery, is_streamed) {
        (Delivery::Streamed(usage), true) => Delivery::Streamed(usage),
        (Delivery::Whole, true) => Delivery::Streamed(UsageFrame::Asked),
        (_, false) => Delivery::Whole,
    };
    let conversation = without_lost_thinking(conversation, target);
    let output_limit = conversation.output_limit.or(cap);
    let conversation = Conversation { delivery, output_limit, ..conversation };
    Bytes::from(dialects::of(target.dialect).write_request(&conversation, target))
}

/// Some services refuse a loop of tools whose sealed thinking does not come back, so where the seal is lost thinking is turned off.
fn without_lost_thinking(conversation: &Conversation, target: &Target<'_>) -> Conversation {
    let mut conversation = conversation.clone();
    let is_lost = |(field, _): &(Field, String)| matches!(field, Field::ForeignSeal | Field::ThinkingHistory);
    let has_calls = conversation.calls().next().is_some();
    let is_marked = has_calls && target.marks.contains(&Mark::SealedLoops);
    if turns_thinking_off(&conversation, target) || (is_marked && fields(&conversation, target).iter().any(is_lost)) {
        conversation.thinking.amount = ThinkingAmount::Off;
    }
    conversation
}

fn changed(note: &Note) -> RequestChange {
    RequestChange::new(&note.path, "as the app sent it", &note.what)
}

/// Whether any offer of a route makes it necessary to look into a request.
#[must_use]
pub fn is_choosy(offer: &Offer, upstream: &Upstream, dialect: Dialect) -> bool {
    upstream.dialect != dialect
        || offer.abilities.is_some()
        || offer.image_kinds.is_some()
        || !offer.can(Ability::Streaming)
}
