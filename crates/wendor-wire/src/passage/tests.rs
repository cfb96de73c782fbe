use rstest::rstest;
use serde_json::{Value, json};

use super::*;
use crate::conversation::{FunctionForm, UsageFrame};
use crate::dialect::Dialect::{ChatCompletions as C, GenerateContent as G, Messages as M};
use crate::seal::SealDomain;

fn head(usage_frame: UsageFrame, estimates_usage: bool) -> AnswerHead {
    AnswerHead {
        request: "01JDF3-7QK2M0XZ4T".to_owned(),
        model: "night-sailings".to_owned(),
        at: chrono::DateTime::from_timestamp(1_790_000_000, 0).unwrap(),
        usage_frame,
        functions: FunctionForm::Tools,
        input_estimate: 12,
        estimates_usage,
        seals: SealDomain::named("farlight"),
    }
}

fn passage(from: Dialect, to: Dialect) -> Passage {
    Passage::new(from, to, head(UsageFrame::Asked, false))
}

fn frame(value: &Value) -> String {
    format!("data: {value}\n\n")
}

fn chunk(delta: &Value, reason: Option<&str>) -> String {
    frame(&json!({ "choices": [{ "index": 0, "delta": delta, "finish_reason": reason }] }))
}

fn opening() -> String {
    chunk(&json!({ "role": "assistant" }), None)
}

fn word(text: &str) -> String {
    chunk(&json!({ "content": text }), None)
}

fn finish() -> String {
    chunk(&json!({}), Some("stop"))
}

const DONE: &str = "data: [DONE]\n\n";

/// Everything that goes to the app, and how it ended: `end`, or why it broke.
fn run(mut passage: Passage, stream: &str) -> (String, String) {
    passage.push(stream.as_bytes()).unwrap();
    let (mut out, mut is_over) = (Vec::new(), false);
    let ended = loop {
        match if is_over { passage.upstream_ended() } else { passage.step() } {
            Step::Send(bytes) => out.extend_from_slice(&bytes),
            Step::More => is_over = true,
            Step::End(last) => {
                out.extend_from_slice(&last);
                break "end".to_owned();
            }
            Step::Broken(failure, _) => break failure.detail,
        }
    };
    (String::from_utf8(out).unwrap(), ended)
}

#[rstest]
#[case::nothing(String::new(), "its stream ended before a first token")]
#[case::noise("the harbour is closed\n\n".to_owned(), "what it sent is no stream of its dialect")]
#[case::an_opening(opening(), "its stream ended before a first token")]
#[case::a_piece(word("tide"), "its stream ended in the middle")]
#[case::a_terminator_alone(DONE.to_owned(), "its stream ended without an answer")]
#[case::a_terminator_behind_an_opening(opening() + DONE, "its stream ended without an answer")]
#[case::a_terminator_behind_a_piece(word("tide") + DONE, "its stream ended without a finish")]
#[case::all_of_it(word("tide") + &finish() + DONE, "end")]
#[case::an_answer_that_says_nothing(opening() + &finish() + DONE, "end")]
#[case::all_but_its_terminator(word("tide") + &finish(), "end")]
fn how_a_stream_ends(#[case] stream: String, #[case] expected: &str) {
    assert_eq!(run(passage(C, C), &stream).1, expected);
}

/// A frame of so many bytes that holds no piece of an answer.
fn filler(bytes: usize) -> String {
    let bare = frame(&json!({ "choices": [], "filler": "" })).len();
    frame(&json!({ "choices": [], "filler": "f".repeat(bytes - bare) }))
}

#[test]
fn what_holds_no_answer_is_given_up_beyond_its_bound_and_not_at_it() {
    let mut held = passage(C, C);
    (0..4).for_each(|_| held.push(filler(MAX_HELD_BYTES / 4).as_bytes()).unwrap());
    assert_eq!(held.step(), Step::More);
    held.push(opening().as_bytes()).unwrap();
    assert!(matches!(held.step(), Step::Broken(failure, _) if failure.detail == "its stream holds no answer"));
}

/// Where a terminator follows, a finish goes out as it comes; without one it is what an app takes for the end.
#[rstest]
#[case::with_a_terminator(C, word("tide"), finish(), true)]
#[case::without_one(G, frame(&json!({ "candidates": [{ "content": { "role": "model", "parts": [{ "text": "tide" }] } }] })), frame(&json!({ "candidates": [{ "content": { "parts": [] }, "finishReason": "STOP" }] })), false)]
fn a_finish_is_held_where_it_is_the_end(
    #[case] dialect: Dialect,
    #[case] piece: String,
    #[case] finish: String,
    #[case] is_sent: bool,
) {
    let mut passage = passage(dialect, dialect);
    passage.push(piece.as_bytes()).unwrap();
    assert!(matches!(passage.step(), Step::Send(_)));
    assert!(!passage.facts().is_finished);
    passage.push(finish.as_bytes()).unwrap();
    assert_eq!(matches!(passage.step(), Step::Send(_)), is_sent);
    assert!(passage.facts().is_finished);
    assert!(matches!(passage.upstream_ended(), Step::End(last) if !last.is_empty() || is_sent));
}

fn with_usage() -> String {
    frame(&json!({ "choices": [], "usage": { "prompt_tokens": 7, "completion_tokens": 2, "total_tokens": 9 } }))
}

/// Of a prompt of 12 tokens, as estimated, and two words of four bytes.
#[rstest]
#[case::estimated(UsageFrame::Asked, true, false, Some((12, 2)))]
#[case::not_asked(UsageFrame::NotAsked, true, false, None)]
#[case::no_estimates(UsageFrame::Asked, false, false, None)]
#[case::told(UsageFrame::Asked, true, true, Some((7, 2)))]
#[case::told_and_not_asked(UsageFrame::NotAsked, true, true, None)]
fn usage_that_nobody_told_is_estimated_for_those_who_asked(
    #[case] usage_frame: UsageFrame,
    #[case] estimates_usage: bool,
    #[case] is_told: bool,
    #[case] expected: Option<(u64, u64)>,
) {
    let told = if is_told { with_usage() } else { String::new() };
    let stream = [word("tide"), word("s 12"), finish(), told, DONE.to_owned()].concat();
    let (sent, ended) = run(Passage::new(C, C, head(usage_frame, estimates_usage)), &stream);
    assert_eq!(ended, "end");
    let frames = sent.lines().filter_map(|line| serde_json::from_str::<Value>(line.strip_prefix("data: ")?).ok());
    let usage: Vec<(u64, u64)> = frames
        .filter_map(|frame| {
            Some((frame["usage"]["prompt_tokens"].as_u64()?, frame["usage"]["completion_tokens"].as_u64()?))
        })
        .collect();
    assert_eq!(usage, expected.into_iter().collect::<Vec<_>>(), "{sent}");
    assert!(sent.ends_with(DONE), "{sent}");
}

/// Clients of messages fail without numbers, whoever asked.
#[test]
fn an_app_of_messages_always_gets_numbers() {
    let stream = word("tide") + &word("s 12") + &finish() + DONE;
    let (sent, _) = run(Passage::new(C, M, head(UsageFrame::NotAsked, false)), &stream);
    assert!(sent.contains("\"output_tokens\":2") && sent.contains("\"input_tokens\":12"), "{sent}");
}

#[test]
fn a_stream_made_of_a_whole_reply_says_what_it_says() {
    let body = json!({ "choices": [{ "index": 0, "finish_reason": "stop", "message": { "role": "assistant", "content": "tides 12" } }] });
    let events = dialects::of(C).read_whole(body.to_string().as_bytes()).unwrap();
    let (out, last, passage) = Passage::of_whole(C, M, events, head(UsageFrame::NotAsked, false)).unwrap();
    let sent = String::from_utf8([out, last].concat()).unwrap();
    assert!(sent.contains("tides 12") && sent.contains("\"output_tokens\":2"), "{sent}");
    assert_eq!(passage.facts().output_bytes, 8);
}
