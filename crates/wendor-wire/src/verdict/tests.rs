use std::collections::BTreeSet;

use rstest::rstest;

use super::*;
use crate::codec::Outside;
use crate::dialects;

fn target(dialect: Dialect) -> Target<'static> {
    Target {
        dialect,
        model: "dunlin-7b",
        marks: &[],
        controls: Controls::default(),
        seals: SealDomain::named("farlight"),
        output_cap: None,
    }
}

fn chat(body: &str) -> Conversation {
    let body = format!(r#"{{"model":"m","messages":[{{"role":"user","content":"Hm"}}],{body}}}"#);
    dialects::of(Dialect::ChatCompletions).read_request(&body, Outside::default()).unwrap()
}

#[test]
fn every_field_stands_in_the_table_once() {
    let listed: Vec<Field> = table::TABLE.iter().map(|(field, _)| *field).collect();
    let distinct: BTreeSet<Field> = listed.iter().copied().collect();
    assert_eq!(distinct.len(), listed.len());
    assert_eq!(distinct, Field::ALL.iter().copied().collect());
}

#[rstest]
#[case::own_dialect(r#""n":2"#, Dialect::ChatCompletions, None)]
#[case::choices(r#""n":2"#, Dialect::Messages, Some("n"))]
#[case::candidates(r#""n":2"#, Dialect::GenerateContent, None)]
#[case::bias(r#""logit_bias":{"7":1}"#, Dialect::Responses, Some("logit_bias"))]
#[case::no_bias(r#""logit_bias":{}"#, Dialect::Responses, None)]
#[case::stop(r#""stop":["a"]"#, Dialect::Responses, Some("stop"))]
#[case::forced(
    r#""tool_choice":"required","tools":[{"type":"function","function":{"name":"f"}}]"#,
    Dialect::LocalChat,
    Some("tool_choice")
)]
#[case::two_limits(r#""max_tokens":5,"max_completion_tokens":6"#, Dialect::Messages, Some("max_tokens"))]
#[case::hosted(r#""web_search_options":{}"#, Dialect::ChatCompletions, Some("web_search_options"))]
fn a_refusal_names_the_field(#[case] body: &str, #[case] to: Dialect, #[case] param: Option<&str>) {
    let verdict = judge(&chat(body), &target(to));
    assert_eq!(verdict.in_the_way(false).map(|note| note.path.as_str()), param, "{verdict:?}");
}

#[test]
fn a_strict_route_takes_no_approximation() {
    let verdict = judge(&chat(r#""seed":7"#), &target(Dialect::Messages));
    assert!(verdict.can_be_sent(false) && !verdict.can_be_sent(true), "{verdict:?}");
    assert_eq!(verdict.in_the_way(true).unwrap().path, "seed");
    assert!(judge(&chat(r#""seed":7"#), &target(Dialect::LocalChat)).can_be_sent(true));
}

#[test]
fn a_mark_of_the_offer_lets_a_field_through() {
    let conversation = chat(r#""top_k":40"#);
    let marked = Target { marks: &[Mark::TopK], ..target(Dialect::ChatCompletions) };
    let of_messages = Conversation { dialect: Dialect::Messages, ..conversation };
    assert_eq!(judge(&of_messages, &target(Dialect::ChatCompletions)).approximated.len(), 1);
    assert!(judge(&of_messages, &marked).approximated.is_empty());
    assert!(dialects::of(Dialect::ChatCompletions).write_request(&of_messages, &marked).contains(r#""top_k":40"#));
}

#[rstest]
#[case::by_default(Controls::default(), 1, 0)]
#[case::passed(Controls { service_tier: Some(ControlPolicy::Pass), ..Controls::default() }, 0, 0)]
#[case::refused(Controls { service_tier: Some(ControlPolicy::Refuse), ..Controls::default() }, 0, 1)]
fn controls_are_as_the_offer_says(#[case] controls: Controls, #[case] approximated: usize, #[case] refused: usize) {
    let conversation = chat(r#""service_tier":"flex""#);
    let target = Target { controls, ..target(Dialect::ChatCompletions) };
    let verdict = judge(&conversation, &target);
    assert_eq!((verdict.approximated.len(), verdict.refused.len()), (approximated, refused), "{verdict:?}");
    let written = dialects::of(Dialect::ChatCompletions).write_request(&conversation, &target);
    assert_eq!(written.contains("flex"), approximated + refused == 0, "{written}");
}
