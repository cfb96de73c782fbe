//! Each row of the verdict table is true: what it says of a field is what becomes of it, in every pair, with a strict route beside. A field
//! that is carried is found again when the body that went up is read back in its dialect.

use std::collections::BTreeSet;

use bytes::Bytes;
use rstest::rstest;
use wendor_wire::ability::{Control, ControlPolicy, Controls, Mark};
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::Outside;
use wendor_wire::conversation::Conversation;
use wendor_wire::dialect::Dialect::{
    self, ChatCompletions as C, GenerateContent as G, LocalChat as L, Messages as M, Responses as R,
};
use wendor_wire::dialects;
use wendor_wire::endpoint::{Endpoint, InPath, Kind};
use wendor_wire::seal::{Seal, SealDomain};
use wendor_wire::verdict::field::Field;
use wendor_wire::verdict::found::fields;
use wendor_wire::verdict::table::{Cell, cell};
use wendor_wire::verdict::{Target, judge};

/// A field, a dialect that can say it, and the members of a body that do.
type Sample = (Field, Dialect, &'static str);

const TOOL_C: &str = r#""tools":[{"type":"function","function":{"name":"f"}}]"#;

/// At least one for every field.
const SAMPLES: &[Sample] = &[
    (Field::SystemText, C, r#""messages":[{"role":"system","content":"Be brief."},{"role":"user","content":"Hm"}]"#),
    (Field::SystemText, R, r#""instructions":"Be brief.""#),
    (Field::SystemText, M, r#""system":"Be brief.""#),
    (Field::SystemText, G, r#""systemInstruction":{"parts":[{"text":"Be brief."}]}"#),
    (
        Field::DeveloperText,
        C,
        r#""messages":[{"role":"developer","content":"Be brief."},{"role":"user","content":"Hm"}]"#,
    ),
    (
        Field::SystemMidway,
        C,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"system","content":"Be brief."},{"role":"user","content":"And?"}]"#,
    ),
    (Field::TurnName, C, r#""messages":[{"role":"user","name":"purser","content":"Hm"}]"#),
    (Field::Prefill, M, r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":"The"}]"#),
    (Field::AssistantFirst, C, r#""messages":[{"role":"assistant","content":"Ahoy"},{"role":"user","content":"Hm"}]"#),
    (
        Field::ImageBytes,
        C,
        r#""messages":[{"role":"user","content":[{"type":"image_url","image_url":{"url":"data:image/png;base64,iVBORw0KGgo="}}]}]"#,
    ),
    (
        Field::ImageUrl,
        C,
        r#""messages":[{"role":"user","content":[{"type":"image_url","image_url":{"url":"http://pier/a.png"}}]}]"#,
    ),
    (
        Field::ImageDetail,
        C,
        r#""messages":[{"role":"user","content":[{"type":"image_url","image_url":{"url":"data:image/png;base64,iVBORw0KGgo=","detail":"low"}}]}]"#,
    ),
    (
        Field::ImageDetail,
        R,
        r#""input":[{"role":"user","content":[{"type":"input_image","image_url":"data:image/png;base64,iVBORw0KGgo=","detail":"low"}]}]"#,
    ),
    (
        Field::AudioIn,
        C,
        r#""messages":[{"role":"user","content":[{"type":"input_audio","input_audio":{"data":"AAAA","format":"wav"}}]}]"#,
    ),
    (
        Field::OtherAudioIn,
        G,
        r#""contents":[{"role":"user","parts":[{"inlineData":{"mimeType":"audio/ogg","data":"AAAA"}}]}]"#,
    ),
    (Field::AudioOut, C, r#""modalities":["text","audio"],"audio":{"voice":"a","format":"wav"}"#),
    (
        Field::FileBytes,
        C,
        r#""messages":[{"role":"user","content":[{"type":"file","file":{"file_data":"data:application/pdf;base64,AAAA","filename":"t.pdf"}}]}]"#,
    ),
    (
        Field::FileUrl,
        R,
        r#""input":[{"role":"user","content":[{"type":"input_file","file_url":"http://pier/t.pdf"}]}]"#,
    ),
    (
        Field::BlockDocument,
        M,
        r#""messages":[{"role":"user","content":[{"type":"document","source":{"type":"content","content":[]}}]}]"#,
    ),
    (
        Field::Video,
        G,
        r#""contents":[{"role":"user","parts":[{"inlineData":{"mimeType":"video/mp4","data":"AAAA"}}]}]"#,
    ),
    (Field::FunctionTool, C, TOOL_C),
    (Field::ToolStrict, C, r#""tools":[{"type":"function","function":{"name":"f","strict":true}}]"#),
    (Field::CustomTool, C, r#""tools":[{"type":"custom","custom":{"name":"f"}}]"#),
    (Field::HostedTool, R, r#""tools":[{"type":"web_search"}]"#),
    (Field::ChoiceAuto, C, r#""tools":[{"type":"function","function":{"name":"f"}}],"tool_choice":"auto""#),
    (Field::ChoiceNone, C, r#""tools":[{"type":"function","function":{"name":"f"}}],"tool_choice":"none""#),
    (Field::ChoiceRequired, C, r#""tools":[{"type":"function","function":{"name":"f"}}],"tool_choice":"required""#),
    (
        Field::ChoiceNamed,
        C,
        r#""tools":[{"type":"function","function":{"name":"f"}}],"tool_choice":{"type":"function","function":{"name":"f"}}"#,
    ),
    (
        Field::ChoiceSubset,
        C,
        r#""tools":[{"type":"function","function":{"name":"f"}},{"type":"function","function":{"name":"g"}}],"tool_choice":{"type":"allowed_tools","allowed_tools":{"mode":"auto","tools":[{"type":"function","function":{"name":"f"}},{"type":"function","function":{"name":"g"}}]}}"#,
    ),
    (Field::ParallelOff, C, r#""tools":[{"type":"function","function":{"name":"f"}}],"parallel_tool_calls":false"#),
    (
        Field::ToolResultImage,
        M,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":[{"type":"tool_use","id":"a","name":"f","input":{}}]},{"role":"user","content":[{"type":"tool_result","tool_use_id":"a","content":[{"type":"image","source":{"type":"base64","media_type":"image/png","data":"iVBORw0KGgo="}}]}]}]"#,
    ),
    (
        Field::ToolResultFile,
        M,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":[{"type":"tool_use","id":"a","name":"f","input":{}}]},{"role":"user","content":[{"type":"tool_result","tool_use_id":"a","content":[{"type":"document","source":{"type":"base64","media_type":"application/pdf","data":"AAAA"}}]}]}]"#,
    ),
    (
        Field::BrokenArguments,
        C,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":null,"tool_calls":[{"id":"a","type":"function","function":{"name":"f","arguments":"{\"a\""}}]},{"role":"tool","tool_call_id":"a","content":"ok"}]"#,
    ),
    (
        Field::ToolResultError,
        M,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":[{"type":"tool_use","id":"a","name":"f","input":{}}]},{"role":"user","content":[{"type":"tool_result","tool_use_id":"a","is_error":true,"content":"late"}]}]"#,
    ),
    (
        Field::UnlinkedResult,
        L,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"tool","tool_name":"f","content":"ok"}]"#,
    ),
    (
        Field::UnnamedResult,
        C,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"tool","tool_call_id":"zz","content":"ok"}]"#,
    ),
    (Field::OutputLimit, C, r#""max_completion_tokens":77"#),
    (Field::OutputLimit, G, r#""generationConfig":{"maxOutputTokens":77}"#),
    (Field::OutputLimits, C, r#""max_completion_tokens":77,"max_tokens":78"#),
    (Field::Temperature, C, r#""temperature":0.3"#),
    (Field::TemperatureAboveOne, C, r#""temperature":1.3"#),
    (Field::TopP, C, r#""top_p":0.9"#),
    (Field::TopK, M, r#""top_k":40"#),
    (Field::Stop, C, r#""stop":["x"]"#),
    (Field::StopsAboveFour, M, r#""stop_sequences":["a","b","c","d","e"]"#),
    (Field::StopsAboveFive, M, r#""stop_sequences":["a","b","c","d","e","f"]"#),
    (Field::Seed, C, r#""seed":7"#),
    (Field::Penalties, C, r#""presence_penalty":0.5"#),
    (Field::PenaltiesZero, C, r#""presence_penalty":0"#),
    (Field::RepeatPenalty, L, r#""options":{"repeat_penalty":1.1}"#),
    (Field::Choices, C, r#""n":2"#),
    (Field::Logprobs, C, r#""logprobs":true,"top_logprobs":2"#),
    (Field::Logprobs, R, r#""include":["message.output_text.logprobs"]"#),
    (Field::Logprobs, L, r#""logprobs":true"#),
    (Field::LogitBias, C, r#""logit_bias":{"5":1}"#),
    (Field::JsonMode, C, r#""response_format":{"type":"json_object"}"#),
    (
        Field::JsonSchema,
        C,
        r#""response_format":{"type":"json_schema","json_schema":{"name":"r","schema":{"type":"object"}}}"#,
    ),
    (Field::Effort, C, r#""reasoning_effort":"high""#),
    (Field::ThinkingBudget, M, r#""max_tokens":9000,"thinking":{"type":"enabled","budget_tokens":2048}"#),
    (Field::ThinkingDynamic, L, r#""think":true"#),
    (Field::ThinkingOff, L, r#""think":false"#),
    (
        Field::ThinkingInLoop,
        C,
        r#""reasoning_effort":"high","messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":null,"tool_calls":[{"id":"a","type":"function","function":{"name":"f","arguments":"{}"}}]},{"role":"tool","tool_call_id":"a","content":"ok"}]"#,
    ),
    (Field::ThinkingShown, G, r#""generationConfig":{"thinkingConfig":{"includeThoughts":true}}"#),
    (
        Field::ThinkingHistory,
        L,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","thinking":"So","content":"Berth 2."},{"role":"user","content":"And?"}]"#,
    ),
    (
        Field::SealedThinking,
        M,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":[{"type":"thinking","thinking":"So","signature":"OWN"},{"type":"text","text":"Berth 2."}]},{"role":"user","content":"And?"}]"#,
    ),
    (
        Field::ForeignSeal,
        M,
        r#""messages":[{"role":"user","content":"Hm"},{"role":"assistant","content":[{"type":"thinking","thinking":"So","signature":"OTHER"},{"type":"text","text":"Berth 2."}]},{"role":"user","content":"And?"}]"#,
    ),
    (Field::EndUser, C, r#""user":"u""#),
    (Field::UserMarks, C, r#""safety_identifier":"s","prompt_cache_key":"k""#),
    (Field::UserMarks, R, r#""safety_identifier":"s""#),
    (Field::Metadata, C, r#""metadata":{"a":"b"}"#),
    (Field::Metadata, R, r#""metadata":{"a":"b"}"#),
    (
        Field::CacheMarks,
        M,
        r#""messages":[{"role":"user","content":[{"type":"text","text":"Hm","cache_control":{"type":"ephemeral","ttl":"1h"}}]}]"#,
    ),
    (
        Field::CacheMarks,
        C,
        r#""messages":[{"role":"user","content":[{"type":"text","text":"Hm","prompt_cache_breakpoint":{"mode":"explicit"}}]}]"#,
    ),
    (
        Field::CacheMarks,
        R,
        r#""input":[{"role":"user","content":[{"type":"input_text","text":"Hm","prompt_cache_breakpoint":{"mode":"explicit"}}]}]"#,
    ),
    (Field::WideCacheMarks, M, r#""cache_control":{"type":"ephemeral"}"#),
    (
        Field::WideCacheMarks,
        C,
        r#""messages":[{"role":"user","content":"Hm","prompt_cache_breakpoint":{"mode":"explicit"}}]"#,
    ),
    (Field::Verbosity, C, r#""verbosity":"low""#),
    (Field::Verbosity, R, r#""text":{"verbosity":"low"}"#),
    (Field::Prediction, C, r#""prediction":{"type":"content","content":"x"}"#),
    (
        Field::Citations,
        M,
        r#""messages":[{"role":"user","content":[{"type":"document","source":{"type":"base64","media_type":"application/pdf","data":"AAAA"},"citations":{"enabled":true}}]}]"#,
    ),
    (Field::SafetySettings, G, r#""safetySettings":[{"category":"a","threshold":"b"}]"#),
    (Field::OtherModalities, G, r#""generationConfig":{"responseModalities":["IMAGE"]}"#),
    (Field::BillingLabels, G, r#""labels":{"a":"b"}"#),
    (Field::TruncationAuto, R, r#""truncation":"auto""#),
    (Field::MaxToolCalls, R, r#""max_tool_calls":3"#),
    (Field::IncludeHosted, R, r#""include":["file_search_call.results"]"#),
    (Field::KeepAlive, L, r#""keep_alive":-1"#),
    (Field::NumCtx, L, r#""options":{"num_ctx":9}"#),
    (Field::LoadOptions, L, r#""options":{"num_gpu":9}"#),
    (Field::ServiceTier, C, r#""service_tier":"flex""#),
    (Field::Store, C, r#""store":true"#),
    (Field::SharedState, R, r#""previous_response_id":"r""#),
    (Field::Background, R, r#""background":true"#),
    (Field::OwnKnob, L, r#""options":{"min_p":0.1}"#),
    (Field::Usual, C, r#""service_tier":"auto""#),
    (Field::OwnOnly, R, r#""context_management":[]"#),
];

/// As what a field is found in another dialect, where it is another word for the same there; `None` where it is without effect.
fn found_as(field: Field, to: Dialect) -> Option<Field> {
    match (field, to) {
        (Field::DeveloperText, R | G | L) => Some(Field::SystemText),
        // Whoever has the tools alone chooses among them.
        (Field::ChoiceSubset, M) => Some(Field::ChoiceAuto),
        (Field::ChoiceAuto | Field::ChoiceSubset | Field::ChoiceNone, L) => None,
        (Field::StopsAboveFour | Field::StopsAboveFive, _) => Some(Field::Stop),
        // A seal that went out as it was made belongs to nobody here.
        (Field::SealedThinking, _) => None,
        // Zero is said where there is such a setting.
        (Field::Usual | Field::PenaltiesZero, _) => None,
        // Seen from its own dialect a history is as its app wrote it.
        (Field::ThinkingInLoop, _) => None,
        (other, _) => Some(other),
    }
}

fn target(dialect: Dialect, marks: &'static [Mark], controls: Controls) -> Target<'static> {
    Target { dialect, model: "m", marks, controls, seals: SealDomain::named("farlight"), output_cap: None }
}

fn body(dialect: Dialect, members: &str) -> String {
    let mark = |name: &str| SealDomain::named(name).mark(&Seal::Signature("c2VhbA==".to_owned()));
    let members = members.replace("OWN", &mark("farlight")).replace("OTHER", &mark("quarry"));
    let base: &[(&str, &str)] = match dialect {
        C | L => &[("model", r#""m""#), ("messages", r#"[{"role":"user","content":"Hm"}]"#)],
        R => &[("model", r#""m""#), ("input", r#""Hm""#)],
        M => &[("model", r#""m""#), ("max_tokens", "900"), ("messages", r#"[{"role":"user","content":"Hm"}]"#)],
        G => &[("contents", r#"[{"role":"user","parts":[{"text":"Hm"}]}]"#)],
    };
    let mut object: serde_json::Map<String, serde_json::Value> =
        base.iter().map(|(name, value)| ((*name).to_owned(), serde_json::from_str(value).unwrap())).collect();
    object.extend(serde_json::from_str::<serde_json::Map<_, _>>(&format!("{{{members}}}")).unwrap());
    serde_json::Value::Object(object).to_string()
}

fn read(dialect: Dialect, body: &str) -> Conversation {
    let outside = Outside { model: Some("m"), ..Outside::default() };
    dialects::of(dialect).read_request(body, outside).unwrap_or_else(|wrong| panic!("{wrong}: {body}"))
}

/// What goes up to `target`.
fn sent(from: Dialect, body: &str, target: &Target<'_>) -> String {
    let bytes = Bytes::copy_from_slice(body.as_bytes());
    let in_path = InPath { model: Some("m".to_owned()), ..InPath::default() };
    let request = AppRequest::read(Endpoint { dialect: from, kind: Kind::Chat(in_path) }, &bytes).unwrap();
    let content = wendor_core::serving::fit::Content::Conversation(Box::new(request.understood(&bytes).unwrap()));
    let offer = wendor_core::catalog::upstream::Offer::default();
    let sending = wendor_core::serving::sending::prepare(&request, &content.into(), &bytes, None, &offer, target);
    String::from_utf8(sending.pieces.concat()).unwrap()
}

/// Every way to settle a cell's condition: marks, controls, and what the cell says then.
fn settled(cell: Cell, is_own: bool) -> Vec<(&'static [Mark], Controls, Cell)> {
    let plain = Controls::default();
    match cell {
        Cell::Carried | Cell::Approximated(_) | Cell::Refused(_) => vec![(&[], plain, cell)],
        Cell::Marked(mark, else_) => {
            let marked: &'static [Mark] = Box::leak(vec![mark].into_boxed_slice());
            vec![(&[], plain, *else_), (marked, plain, Cell::Carried)]
        }
        Cell::OwnOnly(else_) => vec![(&[], plain, if is_own { Cell::Carried } else { *else_ })],
        Cell::Controlled(control, else_) => {
            let with = |policy| {
                let mut controls = plain;
                controls.set(control, policy);
                controls
            };
            let strip = Cell::Approximated("the offer does not let apps set this, so it is left out");
            let refuse = Cell::Refused("the offer does not let apps set this; leave it out");
            let passed = if is_own { Cell::Carried } else { *else_ };
            let stripped = if control == Control::HostedTools {
                Vec::new()
            } else {
                vec![(&[][..], with(ControlPolicy::Strip), strip)]
            };
            let rest = [(&[][..], with(ControlPolicy::Refuse), refuse), (&[][..], with(ControlPolicy::Pass), passed)];
            stripped.into_iter().chain(rest).collect()
        }
    }
}

/// In its own dialect a request goes as it is, but for what is looked at everywhere.
fn in_its_own_dialect(field: Field, cell: Cell) -> Cell {
    let is_looked_at = [Field::SharedState, Field::Background, Field::ForeignSeal].contains(&field);
    if is_looked_at || matches!(cell, Cell::Controlled(..)) { cell } else { Cell::Carried }
}

fn holds(field: Field, from: Dialect, members: &str, to: Dialect) {
    let body = body(from, members);
    let conversation = read(from, &body);
    let is_own = from == to;
    let cell = if is_own { in_its_own_dialect(field, cell(field, to)) } else { cell(field, to) };
    for (marks, controls, says) in settled(cell, is_own) {
        let target = target(to, marks, controls);
        let here = || format!("{} from {from} to {to} with {marks:?}: {says:?}", field.word());
        let used = fields(&conversation, &target);
        let Some((_, path)) = used.iter().find(|(known, _)| *known == field) else {
            // Some are there only as seen from certain upstreams.
            assert!([Field::ThinkingInLoop, Field::SealedThinking].contains(&field) && is_own, "{}: {used:?}", here());
            return;
        };
        let verdict = judge(&conversation, &target);
        let is_noted = |notes: &[wendor_wire::verdict::Note], what: &str| {
            notes.iter().any(|note| note.path == *path && note.what == what)
        };
        match says {
            Cell::Refused(why) => assert!(is_noted(&verdict.refused, why), "{}: {verdict:?}", here()),
            Cell::Approximated(what) => {
                assert!(is_noted(&verdict.approximated, what), "{}: {verdict:?}", here());
                assert!(!verdict.can_be_sent(true), "a strict route takes none of it: {}", here());
            }
            Cell::Carried => {
                let all = verdict.approximated.iter().chain(&verdict.refused);
                let of_field = all.filter(|note| note.path == *path).count();
                let others = used.iter().filter(|(known, at)| *known != field && at == path).count();
                assert!(of_field <= others, "{}: {verdict:?}", here());
                if verdict.refused.is_empty()
                    && let Some(expected) = found_as(field, to)
                {
                    let went = sent(from, &body, &target);
                    let back = fields(&read(to, &went), &target);
                    assert!(back.iter().any(|(known, _)| *known == expected), "{}: {went}\n{back:?}", here());
                }
            }
            Cell::Marked(..) | Cell::OwnOnly(_) | Cell::Controlled(..) => unreachable!("it is settled"),
        }
    }
}

#[rstest]
fn what_the_table_says_of_a_field_is_what_becomes_of_it(#[values(C, R, M, G, L)] to: Dialect) {
    for (field, from, members) in SAMPLES {
        holds(*field, *from, members, to);
    }
}

#[test]
fn every_field_has_its_sample() {
    let sampled: BTreeSet<Field> = SAMPLES.iter().map(|(field, ..)| *field).collect();
    let missing: Vec<_> =
        Field::ALL.iter().filter(|field| !sampled.contains(field)).map(|field| field.word()).collect();
    assert!(missing.is_empty(), "{missing:?}");
}
