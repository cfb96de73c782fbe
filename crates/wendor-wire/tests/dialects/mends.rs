//! Where app and upstream speak the same dialect a frame passes as it is, but for what clients break on silently.

use rstest::rstest;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::passage::{Passage, Step};

use crate::answers::told;
use crate::vectors::head;

/// What an app gets of its own dialect's stream, in the upstream's own words where it ends in an error.
fn passed(dialect: Dialect, stream: &str) -> String {
    let mut passage = Passage::new(dialect, dialect, head());
    passage.push(stream.as_bytes()).unwrap();
    let mut sent = String::new();
    let mut is_over = false;
    loop {
        let bytes = match if is_over { passage.upstream_ended() } else { passage.step() } {
            Step::Send(bytes) => bytes,
            Step::More if !is_over => {
                is_over = true;
                continue;
            }
            Step::More => return sent,
            Step::End(bytes) => return sent + std::str::from_utf8(&bytes).unwrap(),
            Step::Broken(_, Some(own)) => return sent + std::str::from_utf8(&own).unwrap(),
            Step::Broken(_, None) => {
                let (frames, _) = passage.broken_off(&told());
                return sent + std::str::from_utf8(&frames).unwrap();
            }
        };
        sent.push_str(std::str::from_utf8(&bytes).unwrap());
    }
}

const CHUNK: &str = "data: {\"choices\":[{\"index\":0,\"delta\":DELTA,\"finish_reason\":FINISH}]}\n\n";

fn chunk(delta: &str, finish: &str) -> String {
    CHUNK.replace("DELTA", delta).replace("FINISH", finish)
}

fn piece() -> String {
    chunk(r#"{"role":"assistant","content":"Berth "}"#, "null")
}

#[rstest]
#[case::role(chunk(r#"{"role":"assistant","content":"2."}"#, "null"), chunk(r#"{"content":"2."}"#, "null"))]
#[case::separator(chunk("{\"content\":\"a\u{2028}b\"}", "null"), chunk(r#"{"content":"a\u2028b"}"#, "null"))]
#[case::unknown_event("data: {\"detail\":\"x\"}\n\n".to_owned(), String::new())]
#[case::untouched(
    chunk(r#"{ "content" : "2." , "odd":1.50 }"#, "null"),
    chunk(r#"{ "content" : "2." , "odd":1.50 }"#, "null")
)]
fn a_frame_of_chat_completions(#[case] sent: String, #[case] got: String) {
    let end = chunk("{}", "\"stop\"") + "data: [DONE]\n\n";
    let mended = passed(C, &(piece() + &sent + &end));
    let middle =
        mended.strip_prefix(&piece()).and_then(|rest| rest.strip_suffix(&end)).unwrap_or_else(|| panic!("{mended}"));
    let json =
        |text: &str| text.strip_prefix("data: ").map(|data| serde_json::from_str::<serde_json::Value>(data).unwrap());
    assert_eq!(json(middle), json(&got), "{middle}");
    assert!(!middle.contains('\u{2028}'), "{middle}");
    if sent == got {
        assert_eq!(middle, got);
    }
}

#[test]
fn a_calls_id_and_name_are_told_once() {
    let call = |arguments: &str| {
        chunk(
            &format!(
                r#"{{"tool_calls":[{{"index":0,"id":"c1","type":"function","function":{{"name":"f","arguments":"{arguments}"}}}}]}}"#
            ),
            "null",
        )
    };
    let stream = call("") + &call("{}") + &chunk("{}", "\"tool_calls\"") + "data: [DONE]\n\n";
    let mended = passed(C, &stream);
    assert_eq!((mended.matches("\"c1\"").count(), mended.matches("\"f\"").count()), (1, 1), "{mended}");
    assert!(mended.contains("\"arguments\":\"{}\""), "{mended}");
}

#[rstest]
#[case::terminator(C, piece() + &chunk("{}", "\"stop\""), "data: [DONE]\n\n")]
#[case::blank_line(C, piece() + &chunk("{}", "\"stop\"") + "data: [DONE]", "data: [DONE]\n\n")]
#[case::stop_of_messages(M, "event: content_block_start\ndata: {\"type\":\"content_block_start\",\"index\":0,\"content_block\":{\"type\":\"text\",\"text\":\"a\"}}\n\nevent: message_delta\ndata: {\"type\":\"message_delta\",\"delta\":{\"stop_reason\":\"end_turn\"},\"usage\":{\"output_tokens\":1}}\n\n".to_owned(), "event: message_stop\ndata: {\"type\":\"message_stop\"}\n\n")]
fn an_end_that_lacks_only_its_form_gets_it(#[case] dialect: Dialect, #[case] stream: String, #[case] end: &str) {
    let mended = passed(dialect, &stream);
    assert!(mended.ends_with(end), "{mended}");
}

#[rstest]
#[case::proper(
    C,
    "data: {\"error\":{\"message\":\"full\",\"type\":\"e\"}}\n\n",
    "data: {\"error\":{\"message\":\"full\",\"type\":\"e\"}}\n\n"
)]
#[case::text(C, "data: {\"error\":\"full\"}\n\n", "\"code\":\"answer_broke_off\"")]
#[case::unnamed(
    M,
    "data: {\"type\":\"error\",\"error\":{\"type\":\"api_error\",\"message\":\"full\"}}\n\n",
    "event: error\ndata: {\"type\":\"error\",\"error\":{\"type\":\"api_error\",\"message\":\"full\"}}\n\n"
)]
#[case::flat(
    R,
    "event: error\ndata: {\"type\":\"error\",\"code\":\"busy\",\"message\":\"full\",\"param\":null}\n\n",
    "\"error\":{\"message\":\"full\""
)]
#[case::lone_failure(
    R,
    "event: response.failed\ndata: {\"type\":\"response.failed\",\"response\":{\"error\":{\"code\":\"busy\",\"message\":\"full\"}}}\n\n",
    "event: error\n"
)]
#[case::code_as_text(G, "data: {\"error\":{\"code\":\"503\",\"message\":\"full\"}}\n\n", "\"code\":502")]
#[case::object(L, "{\"error\":{\"message\":\"full\"}}\n", "{\"error\":\"The answer broke off.\"}\n")]
fn an_error_is_one_that_every_client_raises_on(#[case] dialect: Dialect, #[case] error: &str, #[case] end: &str) {
    let begun = match dialect {
        C => piece(),
        R => "event: response.output_text.delta\ndata: {\"type\":\"response.output_text.delta\",\"delta\":\"a\"}\n\n".to_owned(),
        M => "event: content_block_start\ndata: {\"type\":\"content_block_start\",\"index\":0,\"content_block\":{\"type\":\"text\",\"text\":\"a\"}}\n\n".to_owned(),
        G => "data: {\"candidates\":[{\"content\":{\"parts\":[{\"text\":\"a\"}]}}]}\n\n".to_owned(),
        L => "{\"message\":{\"role\":\"assistant\",\"content\":\"a\"},\"done\":false}\n".to_owned(),
    };
    let mended = passed(dialect, &(begun.clone() + error));
    assert!(mended.starts_with(&begun) && mended.contains(end), "{mended}");
}
