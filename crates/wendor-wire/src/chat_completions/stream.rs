//! What each frame of a stream says, and when a stream has come to its proper end.
//!
//! The data of frames enters [`ChatStream::observe`] one after the other; what to do with each leaves. The first frame that
//! commits an offer is one with content, a piece of a tool call, a finish or an error; frames that carry only a role are held
//! until then. A proper end needs a finish of every choice that began; `[DONE]` alone may be missing (`docs/protocols.md` section 1.6).

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::value::RawValue;
use smallvec::SmallVec;

use crate::chat_completions::calls::{Calls, Fragment, Place};
use crate::chat_completions::usage;
use crate::failure::{Failure, FailureKind};
use crate::usage::TokenCounts;

/// The terminator's data.
pub const DONE: &[u8] = b"[DONE]";

/// The terminator's frame, for upstreams that leave it out.
pub const DONE_FRAME: &str = "data: [DONE]\n\n";

/// What a frame means for the relay.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FrameSays {
    /// Only a role, or nothing: passed on, but does not commit.
    Opening,
    /// A part of the answer.
    Answer,
    /// Usage and no choice: passed on only if the app asked for it.
    UsageOnly,
    /// An event that this dialect does not know: kept from the app, whose client would fail over it.
    Foreign,
    /// The upstream gives up; how it failed.
    Error(Failure),
    /// The terminator.
    Done,
}

/// A frame that is not what the dialect promises.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a frame of its stream is not a chunk of this dialect")]
pub struct BadFrame;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ChoiceState {
    Open,
    Finished,
}

impl Mend {
    /// The place of its choice in the frame.
    pub(super) fn choice(self) -> usize {
        match self {
            Self::Role(choice) | Self::EmptyReason(choice) | Self::Call(choice, ..) => choice,
        }
    }
}

/// What has been seen of a stream so far.
#[derive(Clone, Debug, Default)]
pub struct ChatStream {
    choices: BTreeMap<u64, ChoiceState>,
    usage: Option<TokenCounts>,
    is_at_cap: bool,
    output_bytes: u64,
    calls: Calls,
    /// What of the last frame breaks clients.
    mends: Vec<Mend>,
}

/// Something in a frame that clients break on without a word: they put together what is said twice, and count on indexes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mend {
    /// The choice at that place of the frame says its role again.
    Role(usize),
    /// Its reason is an empty text, which is none.
    EmptyReason(usize),
    /// Its call at that place of the delta.
    Call(usize, usize, Place),
}

#[derive(Deserialize)]
struct Chunk<'a> {
    #[serde(borrow, default)]
    choices: Option<SmallVec<[Choice<'a>; 1]>>,
    #[serde(borrow, default)]
    usage: Option<&'a RawValue>,
    #[serde(borrow, default)]
    error: Option<&'a RawValue>,
}

#[derive(Deserialize)]
struct Choice<'a> {
    #[serde(default)]
    index: Option<u64>,
    #[serde(borrow, default)]
    delta: Option<Delta<'a>>,
    /// Of legacy completions.
    #[serde(borrow, default)]
    text: Option<&'a RawValue>,
    #[serde(borrow, default)]
    finish_reason: Option<Cow<'a, str>>,
}

#[derive(Deserialize)]
struct Delta<'a> {
    #[serde(borrow, default)]
    role: Option<&'a RawValue>,
    #[serde(borrow, default)]
    content: Option<&'a RawValue>,
    #[serde(borrow, default)]
    reasoning_content: Option<&'a RawValue>,
    #[serde(borrow, default)]
    reasoning: Option<&'a RawValue>,
    #[serde(borrow, default)]
    refusal: Option<&'a RawValue>,
    #[serde(borrow, default)]
    tool_calls: Option<&'a RawValue>,
    #[serde(borrow, default)]
    function_call: Option<&'a RawValue>,
    #[serde(borrow, default)]
    audio: Option<&'a RawValue>,
}

impl Delta<'_> {
    /// Bytes of everything in it that is part of an answer.
    fn bytes(&self) -> usize {
        let parts = [
            self.content,
            self.reasoning_content,
            self.reasoning,
            self.refusal,
            self.tool_calls,
            self.function_call,
            self.audio,
        ];
        parts.into_iter().flatten().map(text_bytes).sum()
    }
}

/// Bytes of a part of an answer.
fn text_bytes(part: &RawValue) -> usize {
    match part.get() {
        "null" | "\"\"" | "[]" | "{}" => 0,
        text if text.starts_with('"') => text.len() - 2,
        other => other.len(),
    }
}

impl ChatStream {
    /// Takes the data of the next frame.
    ///
    /// # Errors
    /// [`BadFrame`] when it is not a chunk of this dialect.
    pub fn observe(&mut self, data: &[u8]) -> Result<FrameSays, BadFrame> {
        if data == DONE {
            return Ok(FrameSays::Done);
        }
        let chunk: Chunk<'_> = serde_json::from_slice(data).map_err(|_| BadFrame)?;
        if let Some(error) = chunk.error {
            return Ok(FrameSays::Error(failure_of(error)));
        }
        if let Some(reported) = chunk.usage {
            self.usage = usage::read(reported).or(self.usage);
        }
        let Some(choices) = chunk.choices else { return Ok(FrameSays::Foreign) };
        if choices.is_empty() && chunk.usage.is_some() {
            return Ok(FrameSays::UsageOnly);
        }
        let mut is_answer = false;
        self.mends.clear();
        for (place, choice) in choices.iter().enumerate() {
            let index = choice.index.unwrap_or(0);
            let delta = choice.delta.as_ref();
            if delta.is_some_and(|delta| delta.role.is_some()) && self.choices.contains_key(&index) {
                self.mends.push(Mend::Role(place));
            }
            if let Some(calls) = delta.and_then(|delta| delta.tool_calls) {
                self.see_calls(place, index, calls)?;
            }
            let reason = choice.finish_reason.as_deref().filter(|reason| !reason.is_empty());
            if choice.finish_reason.is_some() && reason.is_none() {
                self.mends.push(Mend::EmptyReason(place));
            }
            let bytes = choice.delta.as_ref().map_or(0, Delta::bytes) + choice.text.map_or(0, text_bytes);
            self.output_bytes = self.output_bytes.saturating_add(u64::try_from(bytes).unwrap_or(u64::MAX));
            let state = self.choices.entry(choice.index.unwrap_or(0)).or_insert(ChoiceState::Open);
            if let Some(reason) = reason {
                *state = ChoiceState::Finished;
                self.is_at_cap |= reason == "length";
            }
            is_answer |= bytes > 0 || reason.is_some();
        }
        Ok(if is_answer { FrameSays::Answer } else { FrameSays::Opening })
    }

    /// What of the last frame breaks clients; nearly always nothing.
    pub(super) fn mends(&self) -> &[Mend] {
        &self.mends
    }

    /// Notes the calls of a delta, and what of them is told again or has another index than clients count on.
    fn see_calls(&mut self, place: usize, choice: u64, calls: &RawValue) -> Result<(), BadFrame> {
        #[derive(Deserialize)]
        struct Named<'a> {
            #[serde(borrow, default)]
            name: Option<Cow<'a, str>>,
        }
        #[derive(Deserialize)]
        struct Call<'a> {
            #[serde(default)]
            index: Option<u64>,
            #[serde(borrow, default)]
            id: Option<Cow<'a, str>>,
            #[serde(borrow, default)]
            function: Option<Named<'a>>,
            #[serde(borrow, default)]
            custom: Option<Named<'a>>,
        }
        // What has another form is nobody's call; it passes as it is.
        let Ok(calls) = serde_json::from_str::<Vec<Call<'_>>>(calls.get()) else { return Ok(()) };
        for (at, call) in calls.iter().enumerate() {
            let index = call.index.unwrap_or_else(|| u64::try_from(at).unwrap_or(u64::MAX));
            let named = call.function.as_ref().or(call.custom.as_ref());
            let name = named.and_then(|named| named.name.as_deref());
            let placed = self.calls.place(Fragment { choice, index, id: call.id.as_deref(), name }).ok_or(BadFrame)?;
            if placed.repeats_id || placed.repeats_name || call.index != Some(u64::from(placed.call)) {
                self.mends.push(Mend::Call(place, at, placed));
            }
        }
        Ok(())
    }

    /// Whether every choice that began has finished, and one did begin.
    #[must_use]
    pub fn is_finished(&self) -> bool {
        !self.choices.is_empty() && self.choices.values().all(|state| *state == ChoiceState::Finished)
    }

    /// Whether a choice stopped at the output cap.
    #[must_use]
    pub fn is_at_cap(&self) -> bool {
        self.is_at_cap
    }

    /// The last usage that was reported.
    #[must_use]
    pub fn usage(&self) -> Option<TokenCounts> {
        self.usage
    }

    /// Bytes of text, reasoning and tool calls so far.
    #[must_use]
    pub fn output_bytes(&self) -> u64 {
        self.output_bytes
    }
}

/// How an upstream failed that says so inside its stream: by a number in `code`, or by the class in `type`.
fn failure_of(error: &RawValue) -> Failure {
    #[derive(Deserialize)]
    struct ErrorFrame<'a> {
        #[serde(borrow, default)]
        code: Option<&'a RawValue>,
        #[serde(borrow, default, rename = "type")]
        class: Option<Cow<'a, str>>,
    }
    let error_frame: Option<ErrorFrame<'_>> = serde_json::from_str(error.get()).ok();
    let status = error_frame
        .as_ref()
        .and_then(|error_frame| error_frame.code)
        .and_then(|code| code.get().trim_matches('"').parse::<u16>().ok());
    let by_status = status.and_then(FailureKind::of_status);
    let by_class = match error_frame.as_ref().and_then(|error_frame| error_frame.class.as_deref()) {
        Some("rate_limit_error" | "insufficient_quota") => Some(FailureKind::RateLimited),
        Some("authentication_error" | "permission_error") => Some(FailureKind::Misconfigured),
        Some("invalid_request_error") => Some(FailureKind::Rejected),
        Some("overloaded_error") => Some(FailureKind::Overloaded),
        Some(_) | None => None,
    };
    Failure::new(by_status.or(by_class).unwrap_or(FailureKind::ServerError), "it sent an error inside its stream")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::role(
        r#"{"choices":[{"index":0,"delta":{"role":"assistant","content":""},"finish_reason":null}]}"#,
        FrameSays::Opening
    )]
    #[case::null_content(
        r#"{"choices":[{"index":0,"delta":{"role":"assistant","content":null}}]}"#,
        FrameSays::Opening
    )]
    #[case::nothing(r#"{"choices":[],"prompt_filter_results":[]}"#, FrameSays::Opening)]
    #[case::text(r#"{"choices":[{"index":0,"delta":{"content":"Berth"}}]}"#, FrameSays::Answer)]
    #[case::thinking(r#"{"choices":[{"index":0,"delta":{"reasoning_content":"Hm"}}]}"#, FrameSays::Answer)]
    #[case::tool_call(r#"{"choices":[{"index":0,"delta":{"tool_calls":[{"index":0,"id":"c"}]}}]}"#, FrameSays::Answer)]
    #[case::finish(r#"{"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}"#, FrameSays::Answer)]
    #[case::usage(r#"{"choices":[],"usage":{"prompt_tokens":1,"completion_tokens":2}}"#, FrameSays::UsageOnly)]
    #[case::other_object(r#"{"detail":"x"}"#, FrameSays::Foreign)]
    #[case::null_choices(r#"{"choices":null}"#, FrameSays::Foreign)]
    #[case::usage_without_choices(r#"{"usage":{"prompt_tokens":1}}"#, FrameSays::Foreign)]
    #[case::done("[DONE]", FrameSays::Done)]
    fn what_a_frame_says(#[case] data: &str, #[case] says: FrameSays) {
        assert_eq!(ChatStream::default().observe(data.as_bytes()), Ok(says));
    }

    #[rstest]
    #[case::limited(r#"{"error":{"message":"x","type":"rate_limit_error","code":null}}"#, FailureKind::RateLimited)]
    #[case::status_as_code(r#"{"error":{"message":"x","type":"e","code":"503"}}"#, FailureKind::Overloaded)]
    #[case::unknown(r#"{"error":{"message":"x"}}"#, FailureKind::ServerError)]
    #[case::text(r#"{"error":"x"}"#, FailureKind::ServerError)]
    fn an_error_frame_says_how(#[case] data: &str, #[case] kind: FailureKind) {
        let says = ChatStream::default().observe(data.as_bytes());
        assert!(matches!(&says, Ok(FrameSays::Error(failure)) if failure.kind == kind), "{says:?}");
    }

    #[rstest]
    #[case::garbage("%%%")]
    #[case::number("5")]
    #[case::choices_of_another_kind(r#"{"choices":{}}"#)]
    #[case::cut(r#"{"choices":[{"index":0,"del"#)]
    #[case::empty("")]
    fn what_is_no_chunk(#[case] data: &str) {
        assert_eq!(ChatStream::default().observe(data.as_bytes()), Err(BadFrame));
    }

    #[test]
    fn every_choice_needs_its_finish() {
        let mut stream = ChatStream::default();
        assert!(!stream.is_finished());
        for frame in [
            r#"{"choices":[{"index":0,"delta":{"content":"a"}},{"index":1,"delta":{"content":"b"}}]}"#,
            r#"{"choices":[{"index":1,"delta":{},"finish_reason":"length"}]}"#,
        ] {
            stream.observe(frame.as_bytes()).unwrap();
            assert!(!stream.is_finished());
        }
        stream.observe(br#"{"choices":[{"index":0,"delta":{},"finish_reason":"stop"}]}"#).unwrap();
        assert!(stream.is_finished() && stream.is_at_cap());
        assert_eq!(stream.output_bytes(), 2);
    }
}
