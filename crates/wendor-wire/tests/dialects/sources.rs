//! Sources that an answer names reach apps of every dialect that has words for them, and are counted where it has none.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_core::catalog::upstream::Offer;
use wendor_core::serving::fit::{Content, fit};
use wendor_wire::ability::Ability;
use wendor_wire::asked::AppRequest;
use wendor_wire::cited::LeftOut;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::passage::{Passage, Step};

use crate::edges::{body, chat, target};
use crate::vectors::head;

const URL: &str = "https://tides.example/march";

fn data(values: &[Value]) -> String {
    values.iter().map(|value| format!("data: {value}\n\n")).collect()
}

/// "High water." and, where the dialect has blocks, another before it; the last names its source.
fn stream(from: Dialect) -> String {
    let named = json!({ "type": "url_citation", "url": URL, "title": "Tides", "start_index": 0, "end_index": 10 });
    match from {
        C => {
            let mut inner = named.clone();
            inner.as_object_mut().unwrap().remove("type");
            let delta = |delta: Value, finish: Value| json!({ "choices": [{ "index": 0, "delta": delta, "finish_reason": finish }] });
            let cited = json!({ "annotations": [{ "type": "url_citation", "url_citation": inner }] });
            data(&[
                delta(json!({ "content": "High water." }), Value::Null),
                delta(cited, Value::Null),
                delta(json!({}), json!("stop")),
            ]) + "data: [DONE]\n\n"
        }
        R => data(&[
            json!({ "type": "response.created", "response": { "id": "r" } }),
            json!({ "type": "response.output_item.added", "output_index": 0, "item": { "type": "message", "id": "m", "content": [] } }),
            json!({ "type": "response.output_text.delta", "output_index": 0, "item_id": "m", "delta": "High water." }),
            json!({ "type": "response.output_text.annotation.added", "output_index": 0, "item_id": "m", "annotation": named }),
            json!({ "type": "response.completed", "response": { "id": "r", "status": "completed", "output": [] } }),
        ]),
        M => {
            let block = |index: u64, deltas: Vec<Value>| {
                let begun = json!({ "type": "content_block_start", "index": index, "content_block": { "type": "text", "text": "" } });
                let delta = |delta| json!({ "type": "content_block_delta", "index": index, "delta": delta });
                let ended = json!({ "type": "content_block_stop", "index": index });
                [begun].into_iter().chain(deltas.into_iter().map(delta)).chain([ended]).collect::<Vec<_>>()
            };
            let text = |text: &str| json!({ "type": "text_delta", "text": text });
            let of_web = json!({ "type": "web_search_result_location", "url": URL, "title": "Tides", "cited_text": "h", "encrypted_index": "x" });
            let of_document = json!({ "type": "char_location", "document_index": 0, "cited_text": "h" });
            let cited = |citation: Value| json!({ "type": "citations_delta", "citation": citation });
            let start =
                json!({ "type": "message_start", "message": { "usage": { "input_tokens": 1, "output_tokens": 1 } } });
            let end = json!({ "type": "message_delta", "delta": { "stop_reason": "end_turn" }, "usage": { "output_tokens": 3 } });
            let blocks =
                [block(0, vec![text("At 4.")]), block(1, vec![text("High water."), cited(of_web), cited(of_document)])];
            let all = [start].into_iter().chain(blocks.concat()).chain([end, json!({ "type": "message_stop" })]);
            data(&all.collect::<Vec<_>>())
        }
        G | L => panic!("{from} names no sources"),
    }
}

/// Each frame that an app of `to` gets, and what was left out for it.
fn through(from: Dialect, to: Dialect) -> (Vec<Value>, LeftOut) {
    let mut passage = Passage::new(from, to, head());
    passage.push(stream(from).as_bytes()).unwrap();
    let mut out = Vec::new();
    loop {
        match passage.step() {
            Step::Send(bytes) => out.extend_from_slice(&bytes),
            Step::End(bytes) => {
                out.extend_from_slice(&bytes);
                break;
            }
            other @ (Step::More | Step::Broken(..)) => panic!("{other:?}"),
        }
    }
    let text = String::from_utf8(out).unwrap();
    let frames = text.lines().filter_map(|line| serde_json::from_str(line.strip_prefix("data: ").unwrap_or(line)).ok());
    (frames.collect(), passage.facts().left_out)
}

/// The sources that are named in a frame or reply, as one form.
fn sources(value: &Value) -> Vec<(String, String, u64, u64)> {
    let of = |named: &Value| {
        let text = |name: &str| named[name].as_str().unwrap().to_owned();
        let letter = |name: &str| named[name].as_u64().unwrap();
        (text("url"), text("title"), letter("start_index"), letter("end_index"))
    };
    match value {
        Value::Object(members) if members.contains_key("start_index") => vec![of(value)],
        Value::Object(members) => members.values().flat_map(sources).collect(),
        Value::Array(values) => values.iter().flat_map(sources).collect(),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => Vec::new(),
    }
}

#[rstest]
#[case::chat_to_responses(C, R, (0, 10), 0)]
#[case::responses_to_chat(R, C, (0, 10), 0)]
// The second block begins behind a blank line; without letters it is all of it.
#[case::messages_to_chat(M, C, (7, 18), 1)]
#[case::messages_to_responses(M, R, (0, 11), 1)]
fn sources_reach_apps_that_have_words_for_them(
    #[case] from: Dialect,
    #[case] to: Dialect,
    #[case] letters: (u64, u64),
    #[case] left_out: u32,
) {
    let expected = (URL.to_owned(), "Tides".to_owned(), letters.0, letters.1);
    let (frames, found) = through(from, to);
    let named: Vec<_> = frames.iter().map(sources).find(|named| !named.is_empty()).unwrap();
    assert_eq!(named, std::slice::from_ref(&expected), "{frames:#?}");
    assert_eq!(found, LeftOut { citations: left_out, images: 0 });

    let (events, _) = crate::answers::events_of(from, stream(from).as_bytes());
    let whole = dialects::of(to).write_whole(&Answer::of(events), &head()).unwrap();
    assert_eq!(sources(&serde_json::from_str(&whole).unwrap()), [expected], "{whole}");
}

#[rstest]
#[case::chat(C, M, 1)]
#[case::responses(R, G, 1)]
#[case::messages(M, L, 2)]
fn what_has_no_words_is_counted(#[case] from: Dialect, #[case] to: Dialect, #[case] citations: u32) {
    let (frames, found) = through(from, to);
    assert!(frames.iter().all(|frame| !frame.to_string().contains(URL)), "{frames:#?}");
    assert_eq!(found, LeftOut { citations, images: 0 });
}

/// An offer that only streams gives whole answers too, which name their sources as its own dialect does.
#[rstest]
fn gathered_answers_keep_their_sources(#[values(C, R, M)] dialect: Dialect) {
    let (events, _) = crate::answers::events_of(dialect, stream(dialect).as_bytes());
    let whole = dialects::of(dialect).write_whole(&Answer::of(events), &head()).unwrap();
    assert_eq!(whole.matches(URL).count(), 1, "{whole}");
    assert_eq!(whole.matches("char_location").count(), usize::from(dialect == M), "{whole}");
}

/// Images that an offer is said to answer with are refused before to apps that have no place for them, and passed to those that have.
#[rstest]
#[case::chat(C, false)]
#[case::local(L, false)]
#[case::its_own(G, true)]
fn an_offer_that_answers_with_images_is_for_its_own_dialect(#[case] from: Dialect, #[case] fits: bool) {
    let abilities = Some(vec![Ability::Chat, Ability::Whole, Ability::Streaming, Ability::ImagesOut]);
    let offer = Offer { abilities, ..Offer::default() };
    let body = body(from, "");
    let request = AppRequest::read(chat(from), body.as_bytes()).unwrap();
    let content = Content::Conversation(Box::new(request.understood(body.as_bytes()).unwrap()));
    let fitting = fit(&request, &content, &offer, &target(G), false);
    assert_eq!(fitting.is_ok(), fits, "{fitting:?}");
    if let Err(unfit) = fitting {
        assert!(unfit.reason.contains("answers with images"), "{}", unfit.reason);
    }
}
