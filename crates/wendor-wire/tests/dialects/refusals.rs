//! What `docs/protocols.md` section 8.9 says pair by pair: each refusal names its field, each approximation is noted.

use rstest::rstest;
use wendor_wire::ability::Controls;
use wendor_wire::codec::Outside;
use wendor_wire::conversation::Conversation;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::seal::SealDomain;
use wendor_wire::verdict::{Target, Verdict, judge};

fn target(dialect: Dialect) -> Target<'static> {
    let (marks, controls) = (&[][..], Controls::default());
    Target { dialect, model: "m", marks, controls, seals: SealDomain::named("farlight"), output_cap: None }
}

/// A request of the dialect with these members beside what must be there.
fn request(dialect: Dialect, members: &str) -> Conversation {
    let base = match dialect {
        C => r#""model":"m","messages":[{"role":"user","content":"Hm"}]"#,
        R => r#""model":"m","input":"Hm""#,
        M => r#""model":"m","max_tokens":9,"messages":[{"role":"user","content":"Hm"}]"#,
        G => r#""contents":[{"role":"user","parts":[{"text":"Hm"}]}]"#,
        L => r#""model":"m","messages":[{"role":"user","content":"Hm"}]"#,
    };
    let body = match members {
        "" => format!("{{{base}}}"),
        members if members.starts_with('{') => members.to_owned(),
        members => format!("{{{base},{members}}}"),
    };
    let outside = Outside { model: Some("m"), ..Outside::default() };
    dialects::of(dialect).read_request(&body, outside).unwrap_or_else(|wrong| panic!("{wrong}: {body}"))
}

fn verdict(from: Dialect, to: Dialect, members: &str) -> Verdict {
    judge(&request(from, members), &target(to))
}

const CHAT_TURN: &str = r#"{"model":"m","messages":[{"role":"user","content":[PART]}]}"#;
const RESPONSES_TURN: &str = r#"{"model":"m","input":[{"role":"user","content":[PART]}]}"#;
const MESSAGES_TURN: &str = r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":[PART]}]}"#;
const CONTENT_TURN: &str = r#"{"contents":[{"role":"user","parts":[PART]}]}"#;

fn turn(frame: &str, part: &str) -> String {
    frame.replace("PART", part)
}

#[rstest]
#[case::choices(C, &[R, M, L], r#""n":2"#, "n")]
#[case::stop(C, &[R], r#""stop":["x"]"#, "stop")]
#[case::penalty(C, &[R, M], r#""presence_penalty":0.5"#, "presence_penalty")]
#[case::bias(C, &[R, M, G, L], r#""logit_bias":{"5":1}"#, "logit_bias")]
#[case::audio_out(C, &[R, M, G, L], r#""modalities":["text","audio"],"audio":{"voice":"a","format":"wav"}"#, "audio")]
#[case::prediction(C, &[R, M, G, L], r#""prediction":{"type":"content","content":"x"}"#, "prediction")]
#[case::logprobs(C, &[M], r#""logprobs":true"#, "logprobs")]
#[case::custom(C, &[M, G, L], r#""tools":[{"type":"custom","custom":{"name":"a"}}]"#, "tools[0]")]
#[case::forced(C, &[L], r#""tools":[{"type":"function","function":{"name":"a"}}],"tool_choice":"required""#, "tool_choice")]
#[case::state(R, &[C, M, G, L, R], r#""previous_response_id":"x""#, "previous_response_id")]
#[case::conversation(R, &[C, M, G, L, R], r#""conversation":"x""#, "conversation")]
#[case::background(R, &[C, M, G, L, R], r#""background":true"#, "background")]
#[case::hosted(R, &[C, M, G, L, R], r#""tools":[{"type":"web_search"}]"#, "tools[0]")]
#[case::truncation(R, &[C, M, G, L], r#""truncation":"auto""#, "truncation")]
#[case::hosted_calls(R, &[C, M, G, L], r#""max_tool_calls":3"#, "max_tool_calls")]
#[case::include(R, &[C, M, G, L], r#""include":["file_search_call.results"]"#, "include[0]")]
#[case::top_logprobs(R, &[M], r#""top_logprobs":3"#, "top_logprobs")]
#[case::hosted_of_messages(M, &[C, R, G, L, M], r#""tools":[{"type":"web_search_1","name":"web_search"}]"#, "tools[0]")]
#[case::container(M, &[C, R, G, L, M], r#""container":"x""#, "container")]
#[case::stops(M, &[R], r#""stop_sequences":["x"]"#, "stop_sequences")]
#[case::forced_of_messages(M, &[L], r#""tools":[{"name":"a","input_schema":{}}],"tool_choice":{"type":"any"}"#, "tool_choice")]
#[case::cached(G, &[C, R, M, L, G], r#""cachedContent":"x""#, "cachedContent")]
#[case::modalities(G, &[C, R, M, L], r#""generationConfig":{"responseModalities":["AUDIO"]}"#, "generationConfig.responseModalities")]
#[case::candidates(G, &[R, M, L], r#""generationConfig":{"candidateCount":2}"#, "generationConfig.candidateCount")]
#[case::hosted_of_content(G, &[C, R, M, L, G], r#""tools":[{"codeExecution":{}}]"#, "tools[0].codeExecution")]
#[case::any(G, &[L], r#""tools":[{"functionDeclarations":[{"name":"a"}]}],"toolConfig":{"functionCallingConfig":{"mode":"ANY"}}"#, "toolConfig.functionCallingConfig.mode")]
#[case::local_penalty(L, &[R, M], r#""options":{"presence_penalty":1}"#, "options.presence_penalty")]
#[case::local_stop(L, &[R], r#""options":{"stop":["x"]}"#, "options.stop")]
#[case::local_logprobs(L, &[M], r#""logprobs":true"#, "logprobs")]
fn a_refusal_names_its_field(
    #[case] from: Dialect,
    #[case] to: &[Dialect],
    #[case] members: &str,
    #[case] field: &str,
) {
    for to in to {
        let judged = verdict(from, *to, members);
        assert!(judged.refused.iter().any(|note| note.path == field), "{from} to {to}: {judged:?}");
        assert!(!judged.can_be_sent(false));
    }
    let unhurt = verdict(from, from, "");
    assert!(unhurt.can_be_sent(true), "{unhurt:?}");
}

#[rstest]
#[case::image_url(C, &[L], turn(CHAT_TURN, r#"{"type":"image_url","image_url":{"url":"https://pier.example/a.png"}}"#), "messages[0].content[0]")]
#[case::audio(C, &[M, L], turn(CHAT_TURN, r#"{"type":"input_audio","input_audio":{"data":"AA==","format":"wav"}}"#), "messages[0].content[0]")]
#[case::file(C, &[L], turn(CHAT_TURN, r#"{"type":"file","file":{"file_data":"data:application/pdf;base64,AA=="}}"#), "messages[0].content[0]")]
#[case::handle(C, &[C, R, M, G, L], turn(CHAT_TURN, r#"{"type":"file","file":{"file_id":"x"}}"#), "messages[0].content[0]")]
#[case::reference(R, &[C, R, M, G, L], r#"{"model":"m","input":[{"type":"item_reference","id":"x"}]}"#.to_owned(), "input[0]")]
#[case::image_of_responses(R, &[L], turn(RESPONSES_TURN, r#"{"type":"input_image","image_url":"https://pier.example/a.png"}"#), "input[0].content[0]")]
#[case::citations(M, &[C, R, G, L], turn(MESSAGES_TURN, r#"{"type":"document","source":{"type":"base64","media_type":"application/pdf","data":"AA=="},"citations":{"enabled":true}}"#), "messages[0].content[0].citations")]
#[case::blocks(M, &[C, R, G, L], turn(MESSAGES_TURN, r#"{"type":"document","source":{"type":"content","content":[]}}"#), "messages[0].content[0]")]
#[case::prefill(M, &[C, R, G, L], r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":"a"},{"role":"assistant","content":"b"}]}"#.to_owned(), "messages[1]")]
#[case::assistant_first(C, &[M, G], r#"{"model":"m","messages":[{"role":"assistant","content":"a"},{"role":"user","content":"b"}]}"#.to_owned(), "messages[0]")]
#[case::private_file(G, &[C, R, M, L, G], turn(CONTENT_TURN, r#"{"fileData":{"mimeType":"image/png","fileUri":"store://x"}}"#), "contents[0].parts[0]")]
#[case::video(G, &[C, R, M, L], turn(CONTENT_TURN, r#"{"inlineData":{"mimeType":"video/mp4","data":"AA=="}}"#), "contents[0].parts[0]")]
#[case::result_image(M, &[L], r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":"a"},{"role":"assistant","content":[{"type":"tool_use","id":"t","name":"f","input":{}}]},{"role":"user","content":[{"type":"tool_result","tool_use_id":"t","content":[{"type":"image","source":{"type":"base64","media_type":"image/png","data":"AA=="}}]}]}]}"#.to_owned(), "messages[2].content[0].content[0]")]
#[case::unknown_call(M, &[C, R, G, L], r#"{"model":"m","max_tokens":9,"messages":[{"role":"user","content":[{"type":"tool_result","tool_use_id":"t","content":"a"}]}]}"#.to_owned(), "messages[0].content[0]")]
fn a_refused_part_is_named_by_its_place(
    #[case] from: Dialect,
    #[case] to: &[Dialect],
    #[case] body: String,
    #[case] place: &str,
) {
    for to in to {
        let judged = verdict(from, *to, &body);
        assert!(judged.refused.iter().any(|note| note.path == place), "{from} to {to}: {judged:?}");
    }
}

#[rstest]
#[case::seed(C, &[R, M], r#""seed":7"#, "seed")]
#[case::hot(C, &[M], r#""temperature":1.5"#, "temperature")]
#[case::effort(C, &[M, G, L], r#""reasoning_effort":"high""#, "reasoning_effort")]
#[case::json(C, &[M], r#""response_format":{"type":"json_object"}"#, "response_format")]
#[case::zero(C, &[M, R], r#""presence_penalty":0"#, "presence_penalty")]
#[case::serial(C, &[G, L], r#""tools":[{"type":"function","function":{"name":"a"}}],"parallel_tool_calls":false"#, "parallel_tool_calls")]
#[case::strict(C, &[G, L], r#""tools":[{"type":"function","function":{"name":"a","strict":true}}]"#, "tools[0].strict")]
#[case::user(C, &[G, L], r#""user":"x""#, "user")]
#[case::unknown(C, &[R, M, G, L], r#""sailing_mode":"fast""#, "sailing_mode")]
#[case::verbosity(R, &[M, G, L], r#""text":{"verbosity":"low"}"#, "text.verbosity")]
#[case::top_k(M, &[C, R], r#""top_k":4"#, "top_k")]
#[case::budget(M, &[C, R, L], r#""thinking":{"type":"enabled","budget_tokens":2048}"#, "thinking")]
#[case::safety(G, &[C, R, M, L], r#""safetySettings":[]"#, "safetySettings")]
#[case::repeat(L, &[C, R, M, G], r#""options":{"repeat_penalty":1.1}"#, "options.repeat_penalty")]
#[case::keep_alive(L, &[C, R, M, G, L], r#""keep_alive":"5m""#, "keep_alive")]
#[case::num_ctx(L, &[C, R, M, G, L], r#""options":{"num_ctx":4096}"#, "options.num_ctx")]
#[case::tier(C, &[C, R, M, G, L], r#""service_tier":"flex""#, "service_tier")]
fn an_approximation_is_noted(
    #[case] from: Dialect,
    #[case] to: &[Dialect],
    #[case] members: &str,
    #[case] field: &str,
) {
    for to in to {
        let judged = verdict(from, *to, members);
        assert!(judged.refused.is_empty(), "{from} to {to}: {judged:?}");
        assert!(judged.approximated.iter().any(|note| note.path == field), "{from} to {to}: {judged:?}");
    }
}

#[test]
fn a_call_with_broken_arguments_is_never_sent_as_an_empty_one() {
    let body = r#"{"model":"m","messages":[{"role":"user","content":"a"},{"role":"assistant","content":null,"tool_calls":[{"id":"t","type":"function","function":{"name":"f","arguments":"{\"a\":"}}]},{"role":"tool","tool_call_id":"t","content":"b"}]}"#;
    for to in [M, G, L] {
        assert!(!verdict(C, to, body).can_be_sent(false), "{to}");
    }
    assert!(verdict(C, R, body).can_be_sent(false));
}
