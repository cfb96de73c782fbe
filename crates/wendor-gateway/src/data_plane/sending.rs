//! The body that goes up for one offer: the app's own, spliced where it has to change, where the offer speaks the same dialect;
//! otherwise written anew from the neutral conversation.

use std::sync::Arc;

use bytes::Bytes;
use wendor_core::catalog::ability::{Ability, Mark};
use wendor_core::catalog::upstream::{Dialect, Offer, Upstream};
use wendor_core::metering::detail::RequestChange;
use wendor_core::name::OfferName;
use wendor_core::wire::asked::{AppRequest, Rewriting};
use wendor_core::wire::codec;
use wendor_core::wire::conversation::{Conversation, Delivery, ThinkingAmount, UsageFrame};
use wendor_core::wire::embedding::{form_of, path_of};
use wendor_core::wire::endpoint::Kind;
use wendor_core::wire::fit::{Content, asks_for_stream};
use wendor_core::wire::verdict::field::Field;
use wendor_core::wire::verdict::found::fields;
use wendor_core::wire::verdict::{Note, Target, judge};

use crate::snapshot::Snapshot;

/// What goes to an upstream.
#[derive(Debug)]
pub struct Sending {
    /// The body, piece by piece.
    pub pieces: Vec<Bytes>,
    /// The endpoint's path, where it is not the dialect's usual one.
    pub path: Option<String>,
    /// Whether a stream is asked for.
    pub is_streamed: bool,
    /// What was changed, for the record.
    pub changes: Vec<RequestChange>,
}

/// What translation and verdict have to know of an offer.
#[must_use]
pub fn target_of<'a>(
    snapshot: &Snapshot,
    name: &'a OfferName,
    (upstream, offer): (&Upstream, &'a Offer),
) -> Target<'a> {
    Target {
        dialect: upstream.dialect,
        model: name.model(),
        marks: &offer.marks,
        controls: offer.controls,
        seals: snapshot.seals(name.upstream()),
        output_cap: offer.output_cap.map(|cap| u64::from(cap.get())),
    }
}

/// Makes the body for `target`, whose verdict was that it can be sent, with a `cap` on its output where one has to be kept and the app
/// set none.
#[must_use]
pub fn prepare(
    request: &AppRequest,
    content: &Arc<Content>,
    (body, cap): (&Bytes, Option<u64>),
    (offer, target): (&Offer, &Target<'_>),
) -> Sending {
    let is_streamed = asks_for_stream(request, offer);
    let is_own = request.endpoint.dialect == target.dialect;
    let mut changes = request.changes(target.model);
    match content.as_ref() {
        Content::Conversation(conversation) => {
            changes.extend(judge(conversation, target).approximated.iter().map(changed));
            let is_as_wanted = is_streamed == (request.delivery != Delivery::Whole);
            let rewriting = spliced(conversation, target, body).filter(|_| is_own && is_as_wanted);
            let pieces = match rewriting {
                Some(rewriting) => {
                    let rewriting = capped(request, body, (cap, target), (rewriting, &mut changes));
                    request.for_same_dialect(body, target.model, &rewriting)
                }
                None => {
                    let cap = cap.filter(|_| conversation.output_limit.is_none());
                    changes.extend(cap.map(|cap| cap_sent("the limit on output", cap)));
                    vec![written(conversation, target, (is_streamed, cap))]
                }
            };
            let path = usual_path(target.dialect, target.model, is_streamed);
            Sending { pieces, path, is_streamed, changes }
        }
        Content::Embedding(embedding) => {
            let form = form_of(target.dialect).unwrap_or(embedding.form);
            let own_form = if is_own { embedding.form } else { form };
            changes.extend(embedding.approximated(target.dialect).iter().map(changed));
            let pieces = match is_own {
                true => request.for_same_dialect(body, target.model, &Rewriting::default()),
                false => vec![Bytes::from(embedding.write(form, target.model))],
            };
            Sending { pieces, path: Some(path_of(own_form, target.model)), is_streamed: false, changes }
        }
        Content::NotLookedAt => {
            let rewriting = capped(request, body, (cap, target), (Rewriting::default(), &mut changes));
            let pieces = request.for_same_dialect(body, target.model, &rewriting);
            let path = match &request.endpoint.kind {
                Kind::Passed(path) => Some((*path).to_owned()),
                Kind::Count(_) => Some(count_path(target)),
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

fn count_path(target: &Target<'_>) -> String {
    match target.dialect {
        Dialect::Messages => "/v1/messages/count_tokens".to_owned(),
        Dialect::GenerateContent => format!("/v1beta/models/{}:countTokens", target.model),
        Dialect::Responses | Dialect::ChatCompletions | Dialect::LocalChat => "/v1/responses/input_tokens".to_owned(),
    }
}

/// Only one dialect has the model in its path; the others' path is made once for all requests.
fn usual_path(dialect: Dialect, model: &str, is_streamed: bool) -> Option<String> {
    (dialect == Dialect::GenerateContent).then(|| codec::of(dialect).path(model, is_streamed))
}

/// What has to be cut out of the app's own body. `None` where it has to be written anew: thinking that another service sealed is left out
/// block by block.
fn spliced(conversation: &Conversation, target: &Target<'_>, body: &Bytes) -> Option<Rewriting> {
    let found = fields(conversation, target);
    if found.iter().any(|(field, _)| *field == Field::ForeignSeal) {
        return None;
    }
    Rewriting::of(conversation, target, body)
}

/// The same rewriting, and the cap on output is written in.
fn capped(
    request: &AppRequest,
    body: &Bytes,
    (cap, target): (Option<u64>, &Target<'_>),
    (rewriting, changes): (Rewriting, &mut Vec<RequestChange>),
) -> Rewriting {
    let edit = cap.and_then(|cap| Some((cap, request.limit_edit(body, (cap, target.marks))?)));
    let Some((cap, (path, place, text))) = edit else { return rewriting };
    changes.push(cap_sent(&path, cap));
    rewriting.writing(place, text)
}

fn cap_sent(member: &str, cap: u64) -> RequestChange {
    RequestChange::new(member, "not set", &format!("{cap}, the offer's cap, since a quota has to be kept"))
}

fn written(conversation: &Conversation, target: &Target<'_>, (is_streamed, cap): (bool, Option<u64>)) -> Bytes {
    let delivery = match (conversation.delivery, is_streamed) {
        (Delivery::Streamed(usage), true) => Delivery::Streamed(usage),
        (Delivery::Whole, true) => Delivery::Streamed(UsageFrame::Asked),
        (_, false) => Delivery::Whole,
    };
    let conversation = without_lost_thinking(conversation, target);
    let output_limit = conversation.output_limit.or(cap);
    let conversation = Conversation { delivery, output_limit, ..conversation };
    Bytes::from(codec::of(target.dialect).write_request(&conversation, target))
}

/// Some services refuse a loop of tools whose sealed thinking does not come back, so where the seal is lost thinking is turned off.
fn without_lost_thinking(conversation: &Conversation, target: &Target<'_>) -> Conversation {
    let mut conversation = conversation.clone();
    let is_lost = |(field, _): &(Field, String)| matches!(field, Field::ForeignSeal | Field::ThinkingHistory);
    let has_calls = conversation.calls().next().is_some();
    if has_calls && target.marks.contains(&Mark::SealedLoops) && fields(&conversation, target).iter().any(is_lost) {
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
