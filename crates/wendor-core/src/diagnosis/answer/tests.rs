use super::super::heard::{BodyTold, Listener, whole};
use super::super::sketch;
use super::*;
use rstest::rstest;
use wendor_wire::dialect::Dialect;
use wendor_wire::failure::Failure;

fn piece(text: &str) -> String {
    format!(
        "data: {{\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[{{\"index\":0,\"delta\":{{\"content\":\"{text}\"}},\"finish_reason\":null}}]}}\n\n"
    )
}

const FINISH: &str = "data: {\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\n";
const USAGE: &str = "data: {\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[],\"usage\":{\"prompt_tokens\":3,\"completion_tokens\":9,\"total_tokens\":12}}\n\n";
const DONE: &str = "data: [DONE]\n\n";

fn heard(parts: &[(String, u64)]) -> AnswerSeen {
    let mut listener = Listener::of(Dialect::ChatCompletions, CALL_TOKENS);
    for (part, at) in parts {
        listener.take(part.as_bytes(), *at);
    }
    listener.end(parts.last().map_or(0, |(_, at)| *at))
}

fn rhythm(wait: u64, between: u64, tail: &[&str]) -> AnswerSeen {
    let mut parts: Vec<(String, u64)> = (0..10).map(|index| (piece("one, "), wait + index * between)).collect();
    parts.extend(tail.iter().map(|part| ((*part).to_owned(), wait + 10 * between)));
    heard(&parts)
}

const OF: Of<'_> = Of { model: "dunlin-7b", output_cap: None };

#[rstest]
#[case::well(rhythm(500_000, 30_000, &[FINISH, USAGE, DONE]), None)]
#[case::quick(rhythm(1_000, 0, &[FINISH, USAGE, DONE]), None)]
#[case::no_usage(rhythm(1_000, 10, &[FINISH, DONE]), Some(FindingKind::NoUsage))]
#[case::no_terminator(rhythm(1_000, 10, &[FINISH, USAGE]), Some(FindingKind::NoTerminator))]
#[case::cut(rhythm(1_000, 10, &[]), Some(FindingKind::BrokenOff))]
#[case::garbage(rhythm(1_000, 10, &["data: {\"foghorn\":\n\n"]), Some(FindingKind::NotTheDialect))]
#[case::empty(heard(&[(FINISH.to_owned(), 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]), Some(FindingKind::AnswerEmpty))]
fn what_a_stream_tells(#[case] seen: AnswerSeen, #[case] expected: Option<FindingKind>) {
    let judged = judge_streamed(&seen, None, OF);
    assert_eq!(judged.findings.iter().map(|finding| finding.kind).collect::<Vec<_>>(), Vec::from_iter(expected));
}

#[rstest]
#[case::within(256, "one, ", 250, false)]
#[case::a_piece_for_each_letter(20, "o", 40, false)]
#[case::past_by_pieces(64, "one, ", 80, true)]
#[case::past_by_bytes_in_few_pieces(4, "one, two, three, four, five, six, seven, ", 3, true)]
fn past_its_limit_it_is_not_read_on(
    #[case] limit: u32,
    #[case] text: &str,
    #[case] pieces: usize,
    #[case] is_past: bool,
) {
    let mut listener = Listener::of(Dialect::ChatCompletions, limit);
    let goes_on = (0..pieces).all(|at| listener.take(piece(text).as_bytes(), at as u64));
    assert_eq!((goes_on, listener.end(1).is_past_limit), (!is_past, is_past));
}

#[rstest]
#[case::cap_of_the_offer(Some(64), "one, two", Some(FindingKind::ThinkingAtCap), true)]
#[case::only_the_check_was_impatient(None, "one, two", None, false)]
#[case::without_end(None, "", Some(FindingKind::ThinkingAtCap), false)]
fn thinking_that_eats_the_cap(
    #[case] output_cap: Option<u32>,
    #[case] later: &str,
    #[case] expected: Option<FindingKind>,
    #[case] is_mended: bool,
) {
    let at_cap = FINISH.replace("\"stop\"", "\"length\"");
    let silent = heard(&[(at_cap.clone(), 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]);
    assert!(silent.is_silent_at_cap());
    let again = heard(&[(piece(later), 5), (at_cap, 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]);
    let judged = judge_streamed(&silent, Some(&again), Of { output_cap, ..OF });
    assert_eq!(judged.findings.first().map(|finding| finding.kind), expected);
    let has_change =
        judged.findings.iter().flat_map(|finding| &finding.remedies).any(|remedy| remedy.as_change().is_some());
    assert_eq!(has_change, is_mended);
}

#[rstest]
#[case::loaded_between(3_000_000, 0, 400_000, Some(FindingKind::SlowLoad))]
#[case::slow_always(3_000_000, 400_000, 2_900_000, None)]
#[case::quick_always(30_000, 0, 9_000, None)]
#[case::held_back(900_000, 10, 900_000, Some(FindingKind::Buffered))]
#[case::a_rhythm(500_000, 30_000, 800_000, None)]
fn loading_and_holding_back_are_told_from_being_slow(
    #[case] first: u64,
    #[case] between: u64,
    #[case] whole_us: u64,
    #[case] expected: Option<FindingKind>,
) {
    let body = r#"{"id":"a","object":"chat.completion","created":1,"model":"m","choices":[{"index":0,"message":{"role":"assistant","content":"one"},"finish_reason":"stop"}],"usage":{"prompt_tokens":3,"completion_tokens":1,"total_tokens":4}}"#;
    let seen = whole(Dialect::ChatCompletions, body.as_bytes(), whole_us);
    let judged = judge_whole(&seen, &rhythm(first, between, &[FINISH, USAGE, DONE]), OF);
    assert_eq!(judged.findings.first().map(|finding| finding.kind), expected, "{judged:?}");
}

#[test]
fn what_was_not_heard_is_said() {
    let body = format!(
        "{{{}}}",
        r#""choices":[{"index":0,"message":{"role":"assistant","content":"one"},"finish_reason":"stop"}]"#
    );
    let seen = whole(Dialect::ChatCompletions, body.as_bytes(), 400_000);
    let said = |held_up: Vec<(u64, u64)>| {
        judge_whole(&seen, &AnswerSeen { held_up, ..rhythm(30_000, 9_000, &[FINISH, USAGE, DONE]) }, OF).came_back
    };
    assert!(said(vec![(31_000, 80_999)]).ends_with("proper end"));
    assert!(said(vec![(31_000, 81_000)]).ends_with("since Wendor was held up for 0.05 s while it came: check again"));
}

fn failed(kind: FailureKind) -> AnswerSeen {
    let fault = Some(Failure::new(kind, "nothing within 30 s"));
    AnswerSeen { fault, pieces: 3, last_us: 1_000_000, end_us: 1_100_000, ..AnswerSeen::default() }
}

/// Cut 800 ms after a last piece.
fn held_up_before(from: u64, to: u64) -> AnswerSeen {
    AnswerSeen { held_up: vec![(from, to)], end_us: 1_800_000, ..failed(FailureKind::CutOff) }
}

fn of_type(content_type: &str) -> AnswerSeen {
    let head = BodyTold { content_type: content_type.to_owned(), encoding: None };
    AnswerSeen { head, ..failed(FailureKind::Malformed) }
}

fn compressed(fault: Option<Failure>) -> AnswerSeen {
    let head = BodyTold { content_type: "application/json".to_owned(), encoding: Some("gzip".to_owned()) };
    AnswerSeen { head, fault, ..rhythm(1_000, 10, &[FINISH, USAGE, DONE]) }
}

#[rstest]
#[case::compressed(compressed(Some(Failure::new(FailureKind::Malformed, ""))), "compressed failing: owner", "(gzip)")]
#[case::compressed_and_read_all_the_same(compressed(None), "-", "proper end")]
#[case::an_error_in_it(AnswerSeen { said: " It says: \"out of memory\".".to_owned(), ..failed(FailureKind::TimedOut) }, "error-in-answer failing: owner", "out of memory")]
#[case::never_ends(AnswerSeen { is_complete: true, ..failed(FailureKind::TimedOut) }, "never-ends failing: owner", "complete after 1.00 s")]
#[case::complete_and_cut(AnswerSeen { is_complete: true, ..failed(FailureKind::CutOff) }, "broken-off failing: owner", "after 3 pieces")]
#[case::no_word(AnswerSeen { pieces: 0, ..failed(FailureKind::TimedOut) }, "no-answer failing: owner", "nothing within 30 s")]
#[case::no_word_and_cut(AnswerSeen { pieces: 0, ..failed(FailureKind::CutOff) }, "broken-off failing: owner", "after 0 pieces")]
#[case::silence_and_then_cut(AnswerSeen { end_us: 61_000_000, ..failed(FailureKind::CutOff) }, "gives-up failing: owner", "breaks off 60.0 s after its last piece")]
#[case::silence_from_the_first(AnswerSeen { pieces: 0, last_us: 0, end_us: 900_000, ..failed(FailureKind::CutOff) }, "gives-up failing: owner", "0.9 s after the question, before any piece")]
#[case::a_shorter_silence(AnswerSeen { last_us: 0, end_us: 899_999, ..failed(FailureKind::CutOff) }, "broken-off failing: owner", "in the middle")]
#[case::a_silence_begun_while_held_up(
    held_up_before(800_000, 998_000),
    "gives-up failing: owner",
    "breaks off 1.0 s after its last piece"
)]
#[case::held_up_long_before(held_up_before(800_000, 997_999), "broken-off failing: owner", "in the middle")]
#[case::json_instead(of_type("application/json"), "not-a-stream failing: owner", "sends application/json")]
#[case::a_page_instead(of_type("text/html"), "not-a-stream failing: owner", "sends text/html")]
#[case::noise(of_type("text/event-stream"), "not-the-dialect failing: owner", "nothing within 30 s")]
fn what_bars_the_way_in_a_stream(#[case] seen: AnswerSeen, #[case] expected: &str, #[case] words: &str) {
    let judged = judge_streamed(&seen, None, OF);
    assert_eq!(sketch::of(&judged), expected);
    let says = judged.findings.first().map_or(&judged.came_back, |finding| &finding.says);
    assert!(says.contains(words), "{says}");
}

#[test]
fn a_whole_answer_is_not_held_against_its_type() {
    let stream = rhythm(1_000, 10, &[FINISH, USAGE, DONE]);
    let judged = judge_whole(&of_type("application/json"), &stream, OF);
    assert_eq!(sketch::of(&judged), "not-the-dialect failing: owner");
}

#[test]
fn a_well_stream_is_told_with_its_figures() {
    let judged = judge_streamed(&rhythm(1_230_000, 30_000, &[FINISH, USAGE, DONE]), None, OF);
    assert_eq!(judged.came_back, "first token after 1.23 s, 10 pieces within 0.27 s, 3 in, 9 out, proper end");
    let untold = judge_streamed(&rhythm(1_000, 0, &[FINISH, DONE]), None, OF);
    assert!(untold.came_back.contains("usage not reported"), "{}", untold.came_back);
}

#[rstest]
#[case::no_usage(r#""#, "no-usage noted: owner")]
#[case::usage(r#","usage":{"prompt_tokens":3,"completion_tokens":1,"total_tokens":4}"#, "-")]
fn what_a_whole_answer_tells(#[case] usage: &str, #[case] expected: &str) {
    let body = format!(
        r#"{{"id":"a","object":"chat.completion","created":1,"model":"m","choices":[{{"index":0,"message":{{"role":"assistant","content":"one"}},"finish_reason":"stop"}}]{usage}}}"#
    );
    let seen = whole(Dialect::ChatCompletions, body.as_bytes(), 9_000);
    assert_eq!(sketch::of(&judge_whole(&seen, &rhythm(1_000, 10, &[FINISH, USAGE, DONE]), OF)), expected);
}

#[rstest]
#[case::twice_as_long_and_a_bit(2_000_002, true)]
#[case::twice_as_long(2_000_000, false)]
fn a_load_is_told_by_a_first_piece_that_waited_twice_as_long(#[case] first_us: u64, #[case] is_load: bool) {
    let mut stream = rhythm(first_us, 100, &[FINISH, USAGE, DONE]);
    stream.first_us = Some(first_us);
    let seen =
        AnswerSeen { end_us: 1_000_000, ended: Ended::Proper, answer: stream.answer.clone(), ..AnswerSeen::default() };
    let kinds: Vec<_> = judge_whole(&seen, &stream, OF).findings.iter().map(|finding| finding.kind).collect();
    assert_eq!(kinds.contains(&FindingKind::SlowLoad), is_load, "{kinds:?}");
}

#[rstest]
#[case::under_its_older_name(
    true,
    r#"limit-ignored noted: {"setting":"mark","model":"dunlin-7b","mark":"old-limit"}, owner"#
)]
#[case::under_none(false, "limit-ignored noted: owner")]
fn a_limit_that_is_not_kept_to(#[case] has_old: bool, #[case] expected: &str) {
    let judged = judge_unlimited(&failed(FailureKind::CutOff), 64, OF, has_old);
    assert_eq!(sketch::of(&judged), expected);
    assert!(judged.findings[0].says.contains("64 tokens") && judged.findings[0].says.contains("3 pieces"));
}

#[rstest]
#[case::unanswered(unanswered("it hangs"), "no-answer failing: owner")]
#[case::ids(ids_refused("quayside", ""), r#"ids-refused failing: {"setting":"no-request-ids"}"#)]
#[case::role(
    role_unknown("dunlin-7b", ""),
    r#"role-unknown noted: {"setting":"mark","model":"dunlin-7b","mark":"no-developer"}"#
)]
#[case::time(time_up("The listing", 10), "time-up failing: operator")]
fn findings_beside_an_answer(#[case] finding: Finding, #[case] expected: &str) {
    assert_eq!(sketch::finding(&finding), expected);
}

#[rstest]
#[case::lumps(Collected::Lumps(3, 60), "3 lumps of about 20 pieces")]
#[case::whole(Collected::Whole(1_500_000), "in one piece after 1.50 s")]
fn how_a_stream_was_collected_is_said(#[case] how: Collected, #[case] words: &str) {
    assert!(buffered(how).says.contains(words), "{:?}", buffered(how));
}

#[test]
fn what_stands_in_the_place_of_an_answer_is_quoted() {
    let seen = whole(Dialect::ChatCompletions, br#"{"error":{"message":"out of memory"}}"#, 9);
    assert_eq!(seen.said, r#" It says: "out of memory""#);
    assert_eq!(whole(Dialect::ChatCompletions, b"out of memory", 9).said, "");
}
