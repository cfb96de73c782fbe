//! Streams at their edges: what servers send that others do not, and what clients then see.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_wire::asked::AppRequest;
use wendor_wire::codec;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::facts::Facts;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::passage::{Passage, Step};

use crate::answers::{common, events_of, translated};
use crate::edges::chat;
use crate::vectors::head;

/// What an app of `to` gets of a stream that an upstream of `from` sends, and what is known of it then.
fn through(from: Dialect, to: Dialect, stream: &str) -> (String, Facts) {
    let mut passage = Passage::new(from, to, head());
    passage.push(stream.as_bytes()).unwrap();
    let (mut out, mut is_over) = (Vec::new(), false);
    loop {
        match if is_over { passage.upstream_ended() } else { passage.step() } {
            Step::Send(bytes) => out.extend_from_slice(&bytes),
            Step::More => is_over = true,
            Step::End(last) => {
                out.extend_from_slice(&last);
                return (String::from_utf8(out).unwrap(), passage.facts());
            }
            Step::Broken(failure, _) => panic!("{failure:?} after {}", String::from_utf8_lossy(&out)),
        }
    }
}

fn data(frames: &[Value]) -> String {
    frames.iter().map(|frame| format!("data: {frame}\n\n")).collect()
}

fn named(frames: &[Value]) -> String {
    frames.iter().map(|frame| format!("event: {}\ndata: {frame}\n\n", frame["type"].as_str().unwrap())).collect()
}

fn frames_of(sent: &str) -> Vec<Value> {
    sent.lines()
        .filter_map(|line| line.strip_prefix("data: "))
        .filter_map(|data| serde_json::from_str(data).ok())
        .collect()
}

fn chunk(delta: Value, reason: Value) -> Value {
    json!({ "choices": [{ "index": 0, "delta": delta, "finish_reason": reason }] })
}

#[test]
fn the_finish_is_written_once_and_last() {
    let stream = data(&[
        chunk(json!({ "content": "Berth" }), json!("")),
        chunk(json!({ "content": " 2" }), json!("stop")),
        chunk(json!({ "content": "." }), json!("stop")),
    ]) + "data: [DONE]\n\n";
    let (sent, _) = through(C, M, &stream);
    assert_eq!(sent.matches("message_delta").count(), 2, "{sent}");
    let again =
        data(&[chunk(json!({ "content": "a" }), json!("stop")), chunk(json!({}), json!("stop"))]) + "data: [DONE]\n\n";
    let events = {
        let (mut reader, mut events) = (dialects::of(C).reader(), Vec::new());
        for frame in again.lines().filter_map(|line| line.strip_prefix("data: ")) {
            reader.read(frame.as_bytes(), &mut events).unwrap();
        }
        events
    };
    let (mut writer, mut out) = (dialects::of(C).writer(head()), Vec::new());
    events.iter().for_each(|event| writer.write(event, &mut out).unwrap());
    writer.end(None, &mut out);
    let sent = String::from_utf8(out).unwrap();
    assert_eq!(sent.matches("\"finish_reason\":\"stop\"").count(), 1, "{sent}");
    assert!(sent.trim_end().ends_with("data: [DONE]") && !sent.contains("\"finish_reason\":\"\""));
}

#[rstest]
#[case::text(&["Berth 2", ", then 3."], "Berth 2, then 3.")]
#[case::one_letter(&["2"], "2")]
#[case::accents(&["é", "è"], "éè")]
fn the_last_frame_of_content_holds_the_last_part(#[case] pieces: &[&str], #[case] whole: &str) {
    let mut frames: Vec<Value> = pieces.iter().map(|text| chunk(json!({ "content": text }), Value::Null)).collect();
    frames.push(chunk(json!({}), json!("stop")));
    let (sent, _) = through(C, G, &(data(&frames) + "data: [DONE]\n\n"));
    let frames = frames_of(&sent);
    let text = |frame: &Value| frame["candidates"][0]["content"]["parts"][0]["text"].as_str().map(str::to_owned);
    assert!(frames.iter().all(|frame| text(frame).is_some_and(|text| !text.is_empty())), "{sent}");
    assert_eq!(frames.iter().filter_map(text).collect::<String>(), whole);
    assert_eq!(frames.last().unwrap()["candidates"][0]["finishReason"], "STOP");
}

#[rstest]
#[case::comment(
    ": still here\n\ndata: {\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"Hm\"}]},\"finishReason\":\"STOP\"}]}\n\n"
)]
#[case::no_space("data:{\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"Hm\"}]},\"finishReason\":\"STOP\"}]}\n\n")]
#[case::event_line(
    "event: x\ndata: {\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"Hm\"}]},\"finishReason\":\"STOP\"}]}\n\n"
)]
#[case::terminator(
    "data: {\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"Hm\"}]},\"finishReason\":\"STOP\"}]}\n\ndata: [DONE]\n\n"
)]
fn clients_of_content_get_lines_of_data_alone(#[case] stream: &str) {
    let (sent, _) = through(G, G, stream);
    assert_eq!(
        sent,
        "data: {\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"Hm\"}]},\"finishReason\":\"STOP\"}]}\n\n"
    );
}

fn messages_stream(start: Value, end: Value) -> String {
    named(&[
        json!({ "type": "message_start", "message": { "usage": start } }),
        json!({ "type": "content_block_start", "index": 0, "content_block": { "type": "text", "text": "" } }),
        json!({ "type": "content_block_delta", "index": 0, "delta": { "type": "text_delta", "text": "I look." } }),
        json!({ "type": "content_block_stop", "index": 0 }),
        json!({ "type": "content_block_start", "index": 1, "content_block": { "type": "tool_use", "id": "a", "name": "tides", "input": {} } }),
        json!({ "type": "content_block_stop", "index": 1 }),
        json!({ "type": "content_block_start", "index": 2, "content_block": { "type": "text", "text": "" } }),
        json!({ "type": "content_block_delta", "index": 2, "delta": { "type": "text_delta", "text": "A moment." } }),
        json!({ "type": "content_block_stop", "index": 2 }),
        json!({ "type": "message_delta", "delta": { "stop_reason": "tool_use" }, "usage": end }),
        json!({ "type": "message_stop" }),
    ])
}

#[rstest]
#[case::cache_told_at_the_start_alone(json!({ "input_tokens": 5, "cache_read_input_tokens": 100, "output_tokens": 1 }), json!({ "input_tokens": 5, "output_tokens": 9 }), Some((5, 100, 9)))]
#[case::told_at_the_end_alone(json!({ "input_tokens": 0, "output_tokens": 0 }), json!({ "input_tokens": 5, "cache_read_input_tokens": 100, "output_tokens": 9 }), Some((5, 100, 9)))]
#[case::cannot_be_read(json!({ "input_tokens": "many" }), json!({ "output_tokens": -1 }), None)]
fn usage_that_is_told_twice_counts_once(
    #[case] start: Value,
    #[case] end: Value,
    #[case] counts: Option<(u64, u64, u64)>,
) {
    for to in [M, C] {
        let (_, facts) = through(M, to, &messages_stream(start.clone(), end.clone()));
        let read_counts = facts.counts.map(|counts| (counts.input, counts.input_cached, counts.output));
        assert_eq!(read_counts, counts, "{to}");
    }
}

#[rstest]
#[case::chat(C)]
#[case::responses(R)]
fn a_call_without_arguments_has_an_empty_object(#[case] to: Dialect) {
    let (sent, _) = through(M, to, &messages_stream(json!({}), json!({})));
    assert!(sent.contains(r#""{}""#), "{sent}");
    let body = json!({ "content": [{ "type": "tool_use", "id": "a", "name": "tides", "input": {} }], "stop_reason": "tool_use" });
    let answer = Answer::of(dialects::of(M).read_whole(body.to_string().as_bytes()).unwrap());
    assert!(dialects::of(to).write_whole(&answer, &head()).unwrap().contains(r#""arguments":"{}""#));
}

#[rstest]
#[case::chat(C, "I look.\\n\\nA moment.")]
#[case::local(L, "I look.\\n\\nA moment.")]
fn texts_around_a_call_are_not_glued(#[case] to: Dialect, #[case] whole: &str) {
    let (sent, _) = through(M, to, &messages_stream(json!({}), json!({})));
    assert!(sent.contains("\\n\\nA moment."), "{sent}");
    let text = |text: &str| json!({ "type": "text", "text": text });
    let call = json!({ "type": "tool_use", "id": "a", "name": "tides", "input": {} });
    let body = json!({ "content": [text("I look."), call, text("A moment.")], "stop_reason": "tool_use" });
    let answer = Answer::of(dialects::of(M).read_whole(body.to_string().as_bytes()).unwrap());
    let reply = dialects::of(to).write_whole(&answer, &head()).unwrap();
    assert!(reply.contains(whole), "{reply}");
}

#[rstest]
#[case::chat(C)]
#[case::content(G)]
fn messages_of_one_answer_are_not_glued(#[case] to: Dialect) {
    let message = |text: &str| json!({ "type": "message", "content": [{ "type": "output_text", "text": text, "annotations": [] }] });
    let body = json!({ "status": "completed", "output": [message("Berth 2."), message("Berth 3.")] });
    let answer = Answer::of(dialects::of(R).read_whole(body.to_string().as_bytes()).unwrap());
    let reply = dialects::of(to).write_whole(&answer, &head()).unwrap();
    assert!(reply.contains("\\n\\nBerth 3."), "{reply}");
}

#[test]
fn a_lone_half_of_a_letter_is_named_with_its_place() {
    let body = r#"{"model":"m","input":[{"role":"user","content":"\ud83d"}]}"#;
    let wrong = dialects::of(R).read_request(body, codec::Outside::default()).unwrap_err();
    assert_eq!(wrong.path, "input[0].content");
    assert!(wrong.to_string().contains("without its other half"), "{wrong}");
}

#[test]
fn a_half_inside_of_arguments_is_named_too() {
    let body = br#"{"contents":[{"role":"model","parts":[{"functionCall":{"name":"f","args":{"a":"\ud83d"}}}]}]}"#;
    let bad = AppRequest::read(chat(G), body).and_then(|request| request.understood(body)).unwrap_err();
    assert!(bad.message.contains("at byte 79 of the body"), "{}", bad.message);
}

/// Frames pass as they came, and a line that ends otherwise is a line nevertheless.
#[rstest]
#[case::lf("\n")]
#[case::crlf("\r\n")]
#[case::cr("\r")]
fn what_clients_take_for_the_end_of_a_line_is_escaped_and_lines_stay(#[case] end: &str) {
    let delta = |text: &str, finish: &str| {
        let choice = format!(r#"{{"index":0,"delta":{{"content":"{text}"}},"finish_reason":{finish}}}"#);
        format!(r#"data: {{"choices":[{choice}]}}{end}{end}"#)
    };
    let stream = delta("Berth\u{2028}2", "null") + &delta("!", r#""stop""#) + &format!("data: [DONE]{end}{end}");
    let passed = translated(C, C, stream.as_bytes()).unwrap();
    // Whether a last CR is followed by an LF is not told any more.
    let passed = String::from_utf8(passed).unwrap();
    assert_eq!(passed.trim_end(), stream.trim_end().replace('\u{2028}', "\\u2028"));
}

#[rstest]
#[case::none("{}")]
#[case::space("{ }")]
#[case::a_line("{\n}")]
fn arguments_that_a_call_begins_with_count_once(#[case] input: &str) {
    let call = format!(
        r#"{{"type":"content_block_start","index":0,"content_block":{{"type":"tool_use","id":"t","name":"f","input":{input}}}}}"#
    );
    let delta =
        r#"{"type":"content_block_delta","index":0,"delta":{"type":"input_json_delta","partial_json":"{\"a\":1}"}}"#;
    let frames: String = [&call.replace('\n', "\ndata:"), delta, r#"{"type":"content_block_stop","index":0}"#]
        .iter()
        .map(|data| format!("data: {data}\n\n"))
        .collect();
    let (events, _) = events_of(M, frames.as_bytes());
    let answer = Answer::of(events);
    assert_eq!(common(&answer)["calls"], json!([["f", { "a": 1 }]]));
}
