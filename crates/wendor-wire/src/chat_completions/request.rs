//! What Wendor has to know of an app's request, and the body as the upstream gets it.
//!
//! A body enters; a [`ChatRequest`] leaves, or a [`BadRequest`] that names the member at fault and never repeats the query.
//! The body stays as the app wrote it but for `model` and, in a stream, `stream_options`: unknown members survive.

use std::ops::Range;

use smol_str::format_smolstr;

use crate::bad_request::BadRequest;
use crate::bad_request::outermost;
use crate::bad_request::route_name;
use crate::bad_request::stream_wish;
use crate::change::RequestChange;
use crate::conversation::Delivery;
use crate::json::write::quoted;
use crate::members::{Edit, Edits, Member, behind_opening};
use crate::refusal_code::RefusalCode;
use crate::usage::MOST_BELIEVED;
use crate::usage_wish::usage_asked;
use crate::usage_wish::usage_of;

/// The most choices that one request may ask for: each is paid for.
const MAX_CHOICES: u64 = 128;

/// What is known of a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChatRequest {
    /// How the answer is to come.
    pub delivery: Delivery,
    /// The most output tokens for one choice, if the app set a limit.
    pub output_limit: Option<u64>,
    /// Choices asked for.
    pub choices: u64,
    /// Estimated input tokens.
    pub input_tokens: u64,
    /// Whether it holds settings that an offer may not let apps set, or tools other than functions.
    pub has_controls: bool,
    model_place: Range<usize>,
    /// Behind the opening brace, where a member can be put.
    opening: usize,
    /// Where the members for a limit stand that say null, the newer one first.
    null_limits: [Option<Range<usize>>; 2],
    /// Where `stream_options` has to change, and into what.
    usage_edit: Option<Edit>,
}

impl ChatRequest {
    /// Reads a body: the route's name, as the app put it in `model`, and the rest.
    ///
    /// # Errors
    /// [`BadRequest`] when it is not JSON, nests too deep, lacks `model` or `messages`, repeats a member that Wendor reads, or
    /// one of these has the wrong type.
    pub fn read(body: &[u8]) -> Result<(String, Self), BadRequest> {
        let (scanned, members) = outermost(body)?;
        let find = |name: &str| members.iter().find(|member| member.name == name && member.value != "null");
        let model = find("model");
        let route = route_name(model)?;
        let model_place = model.map_or(0..0, |member| member.place.clone());
        check_messages(find("messages"))?;
        let is_streamed = stream_wish(find("stream"))?.unwrap_or(false);
        let options = members.iter().find(|member| member.name == "stream_options");
        let (delivery, usage_edit) = if is_streamed {
            let (usage, edit) = usage_of(options, body)?;
            (Delivery::Streamed(usage), edit)
        } else {
            (Delivery::Whole, None)
        };
        let new_limit = count(find("max_completion_tokens"), "max_completion_tokens")?;
        let old_limit = count(find("max_tokens"), "max_tokens")?;
        let choices = count(find("n"), "n")?.unwrap_or(1);
        if !(1..=MAX_CHOICES).contains(&choices) {
            return Err(BadRequest::of_member(
                "n",
                RefusalCode::InvalidValue,
                format!("`n` is {choices}; ask for 1 to {MAX_CHOICES} choices"),
            ));
        }
        let read = Self {
            delivery,
            // Servers differ in which of the two they keep to.
            output_limit: new_limit.max(old_limit),
            choices,
            input_tokens: scanned.tokens,
            has_controls: has_controls(&members),
            model_place,
            opening: behind_opening(body),
            null_limits: ["max_completion_tokens", "max_tokens"].map(|name| {
                members
                    .iter()
                    .find(|member| member.name == name && member.value == "null")
                    .map(|null| null.place.clone())
            }),
            usage_edit,
        };
        Ok((route, read))
    }

    /// The edit by which it asks for `limit` output tokens at most, in the member that the upstream knows.
    #[must_use]
    pub fn limit_edit(&self, limit: u64, is_old: bool) -> (&'static str, Edit) {
        let [new, old] = &self.null_limits;
        let (name, null) = if is_old { ("max_tokens", old) } else { ("max_completion_tokens", new) };
        match null {
            Some(place) => (name, (place.clone(), limit.to_string())),
            None => {
                let mut member = String::with_capacity(name.len() + 24);
                ["\"", name, "\":", &format_smolstr!("{limit}"), ","].iter().for_each(|part| member.push_str(part));
                (name, (self.opening..self.opening, member))
            }
        }
    }

    /// What changes on the way to an upstream of the same dialect, by place: `model` is its own name for the model, and in a stream it
    /// `asks_usage`.
    #[must_use]
    pub fn edits(&self, model: &str, asks_usage: bool) -> Edits {
        let mut quoted_model = String::with_capacity(model.len() + 2);
        quoted(model, &mut quoted_model);
        let mut edits = Edits::new();
        edits.push((self.model_place.clone(), quoted_model));
        edits.extend(self.usage_edit.clone().filter(|_| asks_usage));
        edits
    }

    /// What [`Self::edits`] changes of a request for `route`, for the record.
    #[must_use]
    pub fn changes(&self, route: &str, model: &str) -> Vec<RequestChange> {
        let mut changes = Vec::new();
        if route != model {
            changes.push(RequestChange::new("model", route, model));
        }
        if self.usage_edit.is_some() {
            changes.push(usage_asked());
        }
        changes
    }
}

/// Members by which an app asks for more than an answer from what it sends: who may, the offer says.
const CONTROLS: [&str; 5] = ["store", "service_tier", "web_search_options", "audio", "modalities"];

fn has_controls(members: &[Member<'_>]) -> bool {
    members.iter().any(|member| match &*member.name {
        "tools" => has_other_tools(member.value),
        name => CONTROLS.contains(&name) && member.value != "null",
    })
}

/// Whether a list of tools holds anything but functions, such as one that the service runs or a server that it asks.
fn has_other_tools(listed: &str) -> bool {
    #[derive(serde::Deserialize)]
    struct Tool<'a> {
        #[serde(borrow, rename = "type", default)]
        kind: Option<std::borrow::Cow<'a, str>>,
    }
    let Ok(tools) = serde_json::from_str::<Option<Vec<Tool<'_>>>>(listed) else { return true };
    tools.into_iter().flatten().any(|tool| tool.kind.as_deref() != Some("function"))
}

fn check_messages(member: Option<&Member<'_>>) -> Result<(), BadRequest> {
    match member {
        Some(messages) if messages.value.starts_with('[') => Ok(()),
        Some(_) => {
            Err(BadRequest::of_member("messages", RefusalCode::InvalidType, "`messages` must be a list of messages"))
        }
        None => {
            let message = "`messages` is missing: send the conversation as a list, at least one message";
            Err(BadRequest::of_member("messages", RefusalCode::MissingMember, message))
        }
    }
}

fn count(member: Option<&Member<'_>>, name: &'static str) -> Result<Option<u64>, BadRequest> {
    let Some(member) = member else { return Ok(None) };
    let number: u64 = member.value.parse().map_err(|_| {
        BadRequest::of_member(name, RefusalCode::InvalidType, format!("`{name}` must be a whole number from 0 on"))
    })?;
    if number > MOST_BELIEVED {
        let message = format!("`{name}` is {number}; no model reaches more than {MOST_BELIEVED}");
        return Err(BadRequest::of_member(name, RefusalCode::InvalidValue, message));
    }
    Ok(Some(number))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conversation::UsageFrame;
    use crate::members::splice;
    use bytes::Bytes;
    use rstest::rstest;
    use serde_json::{Value, json};

    #[rstest]
    #[case::not_json("hello", None, RefusalCode::InvalidJson)]
    #[case::cut(r#"{"model":"a","#, None, RefusalCode::InvalidJson)]
    #[case::list("[]", None, RefusalCode::InvalidJson)]
    #[case::no_model(r#"{"messages":[]}"#, Some("model"), RefusalCode::MissingMember)]
    #[case::null_model(r#"{"model":null,"messages":[]}"#, Some("model"), RefusalCode::MissingMember)]
    #[case::number_as_model(r#"{"model":7,"messages":[]}"#, Some("model"), RefusalCode::InvalidType)]
    #[case::no_messages(r#"{"model":"a"}"#, Some("messages"), RefusalCode::MissingMember)]
    #[case::text_as_messages(r#"{"model":"a","messages":"hi"}"#, Some("messages"), RefusalCode::InvalidType)]
    #[case::model_twice(r#"{"model":"a","messages":[],"mod\u0065l":"b"}"#, Some("model"), RefusalCode::RepeatedMember)]
    #[case::messages_twice(
        r#"{"model":"a","messages":[],"messages":[]}"#,
        Some("messages"),
        RefusalCode::RepeatedMember
    )]
    #[case::stream_as_text(r#"{"model":"a","messages":[],"stream":"yes"}"#, Some("stream"), RefusalCode::InvalidType)]
    #[case::negative_limit(
        r#"{"model":"a","messages":[],"max_tokens":-1}"#,
        Some("max_tokens"),
        RefusalCode::InvalidType
    )]
    #[case::huge_limit(
        r#"{"model":"a","messages":[],"max_tokens":18446744073709551615}"#,
        Some("max_tokens"),
        RefusalCode::InvalidValue
    )]
    #[case::no_choices(r#"{"model":"a","messages":[],"n":0}"#, Some("n"), RefusalCode::InvalidValue)]
    #[case::options_as_list(
        r#"{"model":"a","messages":[],"stream":true,"stream_options":[]}"#,
        Some("stream_options"),
        RefusalCode::InvalidType
    )]
    fn a_bad_body_names_the_member(#[case] body: &str, #[case] param: Option<&str>, #[case] code: RefusalCode) {
        let bad = ChatRequest::read(body.as_bytes()).unwrap_err();
        assert_eq!((bad.param.as_deref(), bad.code), (param, code));
    }

    #[test]
    fn absurd_nesting_is_refused_before_it_is_parsed() {
        let nested =
            |levels: usize| format!(r#"{{"model":"a","messages":{}{}}}"#, "[".repeat(levels), "]".repeat(levels));
        assert!(ChatRequest::read(nested(127).as_bytes()).is_ok());
        assert_eq!(ChatRequest::read(nested(128).as_bytes()).unwrap_err().code, RefusalCode::NestedTooDeep);
        assert_eq!(ChatRequest::read("[".repeat(5_000_000).as_bytes()).unwrap_err().code, RefusalCode::NestedTooDeep);
    }

    #[rstest]
    #[case::whole(
        r#"{"model":"r","messages":[],"x":1.50}"#,
        r#"{"model":"m/1","messages":[],"x":1.50}"#,
        Delivery::Whole
    )]
    #[case::no_options(
        r#" {"messages":[],"model":"r","stream":true}"#,
        r#" {"stream_options":{"include_usage":true},"messages":[],"model":"m/1","stream":true}"#,
        Delivery::Streamed(UsageFrame::NotAsked)
    )]
    #[case::null_options(
        r#"{"stream_options":null,"model":"r","messages":[],"stream":true}"#,
        r#"{"stream_options":{"include_usage":true},"model":"m/1","messages":[],"stream":true}"#,
        Delivery::Streamed(UsageFrame::NotAsked)
    )]
    #[case::other_options(
        r#"{"model":"r","messages":[],"stream":true,"stream_options":{"include_obfuscation":false}}"#,
        r#"{"model":"m/1","messages":[],"stream":true,"stream_options":{"include_usage":true,"include_obfuscation":false}}"#,
        Delivery::Streamed(UsageFrame::NotAsked)
    )]
    #[case::declined(
        r#"{"model":"r","messages":[],"stream":true,"stream_options":{"include_usage":false}}"#,
        r#"{"model":"m/1","messages":[],"stream":true,"stream_options":{"include_usage":true}}"#,
        Delivery::Streamed(UsageFrame::NotAsked)
    )]
    #[case::asked(
        r#"{"model":"r","messages":[],"stream":true,"stream_options":{"include_usage":true}}"#,
        r#"{"model":"m/1","messages":[],"stream":true,"stream_options":{"include_usage":true}}"#,
        Delivery::Streamed(UsageFrame::Asked)
    )]
    fn only_what_must_change_does(#[case] body: &str, #[case] sent: &str, #[case] delivery: Delivery) {
        let (_, request) = ChatRequest::read(body.as_bytes()).unwrap();
        assert_eq!(request.delivery, delivery);
        let pieces = splice(&Bytes::copy_from_slice(body.as_bytes()), request.edits("m/1", true));
        assert_eq!(String::from_utf8(pieces.concat()).unwrap(), sent);
    }

    #[rstest]
    #[case::new(r#" {"model":"r","messages":[]}"#, false, r#" {"max_completion_tokens":9,"model":"m","messages":[]}"#)]
    #[case::old(r#"{"model":"r","messages":[]}"#, true, r#"{"max_tokens":9,"model":"m","messages":[]}"#)]
    #[case::null(
        r#"{"model":"r","max_tokens":null,"messages":[]}"#,
        true,
        r#"{"model":"m","max_tokens":9,"messages":[]}"#
    )]
    fn a_limit_is_written_in(#[case] body: &str, #[case] is_old: bool, #[case] sent: &str) {
        let (_, request) = ChatRequest::read(body.as_bytes()).unwrap();
        let (_, edit) = request.limit_edit(9, is_old);
        let mut edits = request.edits("m", true);
        edits.push(edit);
        let pieces = splice(&Bytes::copy_from_slice(body.as_bytes()), edits);
        assert_eq!(String::from_utf8(pieces.concat()).unwrap(), sent);
    }

    proptest::proptest! {
        /// Whatever else stands in a request, it arrives.
        #[test]
        fn unknown_members_survive(extra in proptest::collection::btree_map("[a-z_\"\\\\é]{1,8}", proptest::prelude::any::<i64>(), 0..6), stream: bool) {
            let mut body = serde_json::to_value(&extra).unwrap();
            body["model"] = json!("r");
            body["messages"] = json!([{"role": "user", "content": "When is the last ferry?"}]);
            body["stream"] = json!(stream);
            // `n` is the one short name that Wendor reads.
            body.as_object_mut().unwrap().remove("n");
            let text = body.to_string();
            let edits = ChatRequest::read(text.as_bytes()).unwrap().1.edits("m", true);
            let sent = splice(&Bytes::from(text), edits).concat();
            let mut sent: Value = serde_json::from_slice(&sent).unwrap();
            let options = sent.as_object_mut().unwrap().remove("stream_options");
            proptest::prop_assert_eq!(options, stream.then(|| json!({"include_usage": true})));
            body["model"] = json!("m");
            proptest::prop_assert_eq!(sent, body);
        }
    }
}
