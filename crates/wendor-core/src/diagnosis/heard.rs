//! Listening to an answer of a check: when each piece came, what it used, how it ended, and whether it went on past the limit that was asked for.

use serde::{Deserialize, Serialize};
use wendor_wire::codec::{FrameKind, StreamReader};
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::event::{Event, Stop, Usage};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::failure::Failure;
use wendor_wire::frames::FrameDecoder;
use wendor_wire::sse::MAX_EVENT_BYTES;

use super::refusal::quoted;
use super::seen::Heard;

/// Pieces that may come beyond a limit in tokens: an end, an empty one.
const PIECES_BEYOND: usize = 8;

/// Bytes of a token that is short on average, and of one that is longer than any on average.
const BYTES_A_SHORT_TOKEN: usize = 2;
const BYTES_A_LONG_TOKEN: usize = 16;

/// How much of what stands in the place of an answer is looked at.
const SAID_BYTES: usize = 64 * 1024;

/// What was heard of an answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AnswerSeen {
    /// When its first piece came, in microseconds from asking.
    pub first_us: Option<u64>,
    /// When its last piece came.
    pub last_us: u64,
    /// When it was over.
    pub end_us: u64,
    /// Pieces of text and thinking.
    pub pieces: usize,
    /// When each of them came.
    pub times: Vec<u64>,
    /// From when to when, in microseconds from asking, whoever listened was held up: what came meanwhile seems to have come at once.
    pub held_up: Vec<(u64, u64)>,
    /// What the head of the answer says of its body.
    pub head: BodyTold,
    /// What the server says where the answer should be, as a sentence; empty where it says nothing.
    pub said: String,
    /// What could be read of it, in its dialect.
    pub answer: Answer,
    /// Whether it came to its end, broke off or ran out of time.
    pub ended: Ended,
    /// Whether all of the answer is there, whatever became of its end.
    pub is_complete: bool,
    /// Whether it went on past the limit that was asked for: then the rest was not read.
    pub is_past_limit: bool,
    /// What was not as the dialect promises.
    pub fault: Option<Failure>,
}

/// What the head of an answer says of its body.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BodyTold {
    /// Its type, without parameters.
    pub content_type: String,
    /// How it is encoded; `None` where it is not.
    pub encoding: Option<String>,
}

/// How a stream ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ended {
    /// With all that belongs to it.
    Proper,
    /// Complete, but without its terminator.
    WithoutTerminator,
    /// In the middle.
    #[default]
    Midway,
}

impl AnswerSeen {
    pub(super) fn usage(&self) -> Option<Usage> {
        self.answer.usage.filter(|usage| usage.counts().is_some())
    }

    /// The text of its first choice, its blocks joined.
    #[must_use]
    pub fn text(&self) -> String {
        self.answer.choices.first().map(wendor_wire::conversation::answer::Choice::text_of).unwrap_or_default()
    }

    /// The same as requests have it: what their code says of it, which is right. `came` is how it would have failed, if it did.
    #[must_use]
    pub fn as_requests_have_it(mut self, came: Result<(), Failure>) -> Self {
        if came.is_ok() && self.ended == Ended::Midway {
            self.ended = Ended::Proper;
        }
        self.fault = came.err();
        self
    }

    fn is_at_cap(&self) -> bool {
        self.answer.choices.first().and_then(|choice| choice.stop.as_ref()).is_some_and(Stop::is_at_cap)
    }

    /// Whether it reached its cap without a word: then more is tried.
    #[must_use]
    pub fn is_silent_at_cap(&self) -> bool {
        self.is_at_cap()
            && self.text().trim().is_empty()
            && !self.answer.choices.iter().any(|choice| choice.has_calls())
    }
}

/// Listens to a stream.
#[derive(Debug)]
pub struct Listener {
    decoder: FrameDecoder,
    reader: Box<dyn StreamReader>,
    seen: AnswerSeen,
    has_terminator: bool,
    limit: u32,
}

impl Listener {
    /// Of that dialect, to an answer of at most so many tokens.
    #[must_use]
    pub fn of(dialect: Dialect, limit: u32) -> Self {
        let codec = dialects::of(dialect);
        Self {
            decoder: FrameDecoder::new(codec.framing()),
            reader: codec.reader(),
            seen: AnswerSeen::default(),
            has_terminator: false,
            limit,
        }
    }

    /// Whether more is to be read.
    #[must_use]
    pub fn wants_more(&self) -> bool {
        !self.seen.is_past_limit
    }

    /// Takes what came, so many microseconds after asking. Says whether more is to be read: past its limit an answer is not.
    pub fn take(&mut self, bytes: &[u8], at_us: u64) -> bool {
        self.hear(bytes, at_us);
        self.seen.is_past_limit = is_past(self.seen.pieces, self.seen.text().len(), self.limit);
        !self.seen.is_past_limit
    }

    fn hear(&mut self, bytes: &[u8], at_us: u64) {
        for part in bytes.chunks(MAX_EVENT_BYTES / 2) {
            if let Err(error) = self.decoder.push(part) {
                let failure = Failure::new(wendor_wire::failure::FailureKind::Malformed, error.to_string());
                self.seen.fault.get_or_insert(failure);
                return;
            }
            while let Some(frame) = self.decoder.next_frame() {
                self.frame(frame.data.as_deref(), at_us);
            }
        }
    }

    fn frame(&mut self, data: Option<&[u8]>, at_us: u64) {
        let Some(data) = data.filter(|_| self.seen.fault.is_none()) else { return };
        let mut events = Vec::new();
        match self.reader.read(data, &mut events) {
            Ok(kind) => self.has_terminator |= kind == FrameKind::Done,
            Err(failure) => {
                self.seen.said = said_in(data);
                self.seen.fault = Some(failure);
            }
        }
        for event in events {
            let is_piece = match &event {
                Event::Text { text, .. } | Event::Thinking { text, .. } | Event::Refusal { text, .. } => {
                    !text.is_empty()
                }
                Event::Arguments { .. } | Event::Call { .. } | Event::Image { .. } => true,
                Event::NextBlock { .. }
                | Event::Sealed { .. }
                | Event::CallEnd { .. }
                | Event::Citation { .. }
                | Event::Logprobs { .. }
                | Event::Finish { .. }
                | Event::Usage(_) => false,
            };
            if is_piece {
                self.seen.first_us.get_or_insert(at_us);
                self.seen.last_us = at_us;
                self.seen.pieces += 1;
                self.seen.times.push(at_us);
            }
            self.seen.answer.take(event);
        }
    }

    /// The stream is over.
    #[must_use]
    pub fn end(mut self, at_us: u64) -> AnswerSeen {
        if let Some(frame) = self.decoder.finish() {
            self.frame(frame.data.as_deref(), at_us);
        }
        self.seen.end_us = at_us;
        self.seen.is_complete = self.reader.is_finished();
        let needs_terminator = !self.reader.terminator().is_empty();
        self.seen.ended = match (self.reader.is_finished(), needs_terminator && !self.has_terminator) {
            (false, _) => Ended::Midway,
            (true, true) => Ended::WithoutTerminator,
            (true, false) => Ended::Proper,
        };
        self.seen
    }
}

/// Whether an answer of so many pieces and bytes is longer than that many tokens. Most servers send a token as a piece; some send several pieces
/// for one, and some many tokens in one.
fn is_past(pieces: usize, bytes: usize, limit: u32) -> bool {
    let limit = usize::try_from(limit).unwrap_or(usize::MAX);
    let by_pieces = pieces > limit.saturating_add(PIECES_BEYOND) && bytes > limit.saturating_mul(BYTES_A_SHORT_TOKEN);
    by_pieces || bytes > limit.saturating_mul(BYTES_A_LONG_TOKEN)
}

/// A whole answer, so many microseconds after asking.
#[must_use]
pub fn whole(dialect: Dialect, body: &[u8], at_us: u64) -> AnswerSeen {
    let mut seen = AnswerSeen { end_us: at_us, last_us: at_us, ended: Ended::Proper, ..AnswerSeen::default() };
    match dialects::of(dialect).read_whole(body) {
        Ok(events) => seen.answer = Answer::of(events),
        Err(failure) => {
            seen.said = said_in(body);
            seen.fault = Some(failure);
        }
    }
    seen
}

/// What a server says in the place of an answer, as a sentence that quotes it.
fn said_in(body: &[u8]) -> String {
    let body = bytes::Bytes::copy_from_slice(body.get(..SAID_BYTES).unwrap_or(body));
    let heard = Heard { body, ..Heard::default() };
    // What is no JSON is no error that a server says, but noise.
    if heard.json().is_some() { quoted(&heard) } else { String::new() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_wire::failure::FailureKind;

    #[rstest]
    #[case::many_pieces(19, 21, 10, true)]
    #[case::not_so_many(18, 21, 10, false)]
    #[case::many_that_hold_little(19, 20, 10, false)]
    #[case::few_that_hold_much(1, 161, 10, true)]
    #[case::few_that_hold_less(1, 160, 10, false)]
    fn an_answer_is_past_its_limit_by_pieces_or_by_bytes(
        #[case] pieces: usize,
        #[case] bytes: usize,
        #[case] limit: u32,
        #[case] expected: bool,
    ) {
        assert_eq!(is_past(pieces, bytes, limit), expected);
    }

    #[test]
    fn past_its_limit_nothing_more_is_wanted() {
        let event = |text: &str| {
            format!("data: {}\n\n", serde_json::json!({ "choices": [{ "index": 0, "delta": { "content": text } }] }))
        };
        let mut listener = Listener::of(Dialect::ChatCompletions, 10);
        assert!(listener.take(event("tide").as_bytes(), 5) && listener.wants_more());
        assert!(!listener.take(event(&"t".repeat(200)).as_bytes(), 6) && !listener.wants_more());
        assert!(listener.end(7).is_past_limit);
    }

    fn ended(ended: Ended) -> AnswerSeen {
        AnswerSeen {
            ended,
            fault: Some(Failure::new(FailureKind::Malformed, "as the check read it")),
            ..AnswerSeen::default()
        }
    }

    #[rstest]
    #[case::it_came_to_its_end(Ended::Midway, Ok(()), Ended::Proper)]
    #[case::without_its_terminator(Ended::WithoutTerminator, Ok(()), Ended::WithoutTerminator)]
    #[case::it_broke(Ended::Midway, Err(Failure::new(FailureKind::CutOff, "it broke")), Ended::Midway)]
    #[case::it_broke_after_its_end(Ended::Proper, Err(Failure::new(FailureKind::CutOff, "it broke")), Ended::Proper)]
    fn what_requests_have_decides(#[case] before: Ended, #[case] came: Result<(), Failure>, #[case] after: Ended) {
        let seen = ended(before).as_requests_have_it(came.clone());
        assert_eq!((seen.ended, seen.fault), (after, came.err()));
    }

    fn whole_of(finish: &str, message: serde_json::Value) -> AnswerSeen {
        let body = serde_json::json!({ "choices": [{ "index": 0, "finish_reason": finish, "message": message }] });
        whole(Dialect::ChatCompletions, body.to_string().as_bytes(), 70)
    }

    #[rstest]
    #[case::silent("length", serde_json::json!({ "role": "assistant", "content": " " }), true)]
    #[case::with_words("length", serde_json::json!({ "role": "assistant", "content": "tide" }), false)]
    #[case::by_itself("stop", serde_json::json!({ "role": "assistant", "content": "" }), false)]
    #[case::with_a_call("length", serde_json::json!({ "role": "assistant", "content": "", "tool_calls": [{ "id": "c1", "type": "function", "function": { "name": "tide_table", "arguments": "{}" } }] }), false)]
    fn silence_at_the_cap_is_told(#[case] finish: &str, #[case] message: serde_json::Value, #[case] expected: bool) {
        let seen = whole_of(finish, message);
        assert_eq!(seen.is_silent_at_cap(), expected, "{seen:?}");
        assert_eq!((seen.last_us, seen.end_us), (70, 70));
    }
}
