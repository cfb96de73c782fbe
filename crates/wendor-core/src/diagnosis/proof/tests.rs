use rstest::rstest;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::event::{Event, Usage};
use wendor_wire::conversation::turn::CallKind;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::json::Number;

use super::super::sketch;
use super::*;

fn at(day: u32) -> DateTime<Utc> {
    DateTime::from_timestamp(1_790_000_000 + i64::from(day) * 86_400, 0).unwrap()
}

#[rstest]
#[case::fresh(1, Some("aaaabbbbcccc"), Outcome::Proven, "proven")]
#[case::absent(1, Some("aaaabbbbcccc"), absent("no"), "absent")]
#[case::nothing_told(1, None, Outcome::Proven, "proven")]
#[case::other_weights(1, Some("ffffbbbbcccc"), Outcome::Proven, "unproven")]
#[case::too_old(30, Some("aaaabbbbcccc"), Outcome::Proven, "unproven")]
fn a_proof_ages_and_holds_for_its_weights_alone(
    #[case] day: u32,
    #[case] digest: Option<&str>,
    #[case] outcome: Outcome,
    #[case] standing: &str,
) {
    let kept = Kept { at: at(0), outcome, digest: Some("aaaabbbbcccc".into()) };
    assert_eq!(Standing::of(Some(&kept), digest, at(day)).as_str(), standing);
    assert_eq!(Standing::of(None, digest, at(day)), Standing::Unproven);
}

/// An answer that any model could give without having looked proves nothing.
#[rstest]
#[case::tools(Proof::Tools)]
#[case::images(Proof::ImagesIn)]
#[case::json(Proof::Json)]
#[case::reasoning(Proof::Reasoning)]
fn what_luck_can_say_is_no_proof(#[case] proof: Proof) {
    let text = r#"{"berth_1":"Farhythe","berth":"123"}"#;
    let answer = Answer::of([Event::Text { choice: 0, text: text.to_owned() }]);
    let seen = AnswerSeen { answer, ..AnswerSeen::default() };
    assert!(matches!(judge(proof, 482_913, &seen, &Offer::default()), Outcome::Absent { .. }));
}

#[test]
fn what_is_asked_fits_into_the_offers_window() {
    let offer = Offer { context_window: std::num::NonZeroU32::new(1_000), ..Offer::default() };
    assert_eq!(prompt_tokens(&offer), 750);
    assert_eq!(prompt_tokens(&Offer::default()), 3_072);
}

fn said(text: &str) -> AnswerSeen {
    let answer = Answer::of([Event::Text { choice: 0, text: text.to_owned() }]);
    AnswerSeen { answer, ..AnswerSeen::default() }
}

fn called(arguments: &str) -> AnswerSeen {
    let (choice, call, name) = (0, 0, "read_tide_gauge".to_owned());
    let begun = Event::Call { choice, call, id: None, name, kind: CallKind::Function };
    let answer = Answer::of([begun, Event::Arguments { choice, call, fragment: arguments.to_owned() }]);
    AnswerSeen { answer, ..AnswerSeen::default() }
}

fn counted(usage: Usage) -> AnswerSeen {
    AnswerSeen { answer: Answer::of([Event::Usage(usage)]), ..AnswerSeen::default() }
}

fn thought(text: &str) -> AnswerSeen {
    let answer = Answer::of([Event::Thinking { choice: 0, text: text.to_owned() }]);
    AnswerSeen { answer, ..AnswerSeen::default() }
}

fn broken() -> AnswerSeen {
    AnswerSeen { fault: Some(Failure::new(FailureKind::Malformed, "no JSON")), ..said("482913") }
}

#[rstest]
#[case::called(Proof::Tools, called(r#"{"gauge":482913}"#), None)]
#[case::called_with_another(Proof::Tools, called(r#"{"gauge":1}"#), Some("something else"))]
#[case::said_and_not_called(Proof::Tools, said("482913"), Some("not called"))]
#[case::seen(Proof::ImagesIn, said("It is 482,913."), None)]
#[case::seen_in_groups(Proof::ImagesIn, said("482 913"), None)]
#[case::not_seen(Proof::ImagesIn, said("481913"), Some("not in the answer"))]
#[case::kept_to(Proof::Json, said(r#" {"berth_482913":"Gull"} "#), None)]
#[case::another_property(Proof::Json, said(r#"{"berth":"Gull"}"#), Some("not what the schema"))]
#[case::no_json(Proof::Json, said("berth_482913"), Some("not JSON"))]
#[case::thought(Proof::Reasoning, thought("Well."), None)]
#[case::thinking_counted(Proof::Reasoning, counted(Usage { reasoning: Some(1), ..Usage::default() }), None)]
#[case::none_counted(Proof::Reasoning, counted(Usage { reasoning: Some(0), ..Usage::default() }), Some("no thinking"))]
#[case::read_whole(Proof::Context, counted(Usage { input: Some(2_764), ..Usage::default() }), None)]
#[case::cut(Proof::Context, counted(Usage { input: Some(2_763), ..Usage::default() }), Some("about 3072 tokens it read 2763"))]
#[case::remembered(Proof::Context, said("482913"), None)]
#[case::forgotten(Proof::Context, said("none"), Some("was not read"))]
#[case::an_answer_for_vectors(Proof::Embeddings, said("482913"), Some("an answer came"))]
#[case::unreadable(Proof::ImagesIn, broken(), Some("cannot be read: no JSON"))]
fn what_proves_an_ability(#[case] proof: Proof, #[case] seen: AnswerSeen, #[case] missing: Option<&str>) {
    match (judge(proof, 482_913, &seen, &Offer::default()), missing) {
        (Outcome::Proven, None) => {}
        (Outcome::Absent { why }, Some(words)) => assert!(why.contains(words), "{why}"),
        (outcome, _) => panic!("{outcome:?}"),
    }
}

#[rstest]
#[case::an_equal_text_is_nearest("1 0 | 0 1 | 1 0", None)]
#[case::by_as_much("1 0 | 0 1 | 0 1", Some("no nearer"))]
#[case::all_the_same("1 0 | 1 0 | 1 0", Some("no nearer"))]
#[case::squares_are_summed("0 0 | 3 0 | 2 2", None)]
#[case::two("1 0 | 0 1", Some("of three texts 2"))]
#[case::empty(" |  | ", Some("empty"))]
#[case::another_is_shorter("1 0 | 0 | 1 0", Some("several lengths"))]
#[case::the_last_is_shorter("1 0 | 0 1 | 1", Some("several lengths"))]
fn vectors_tell_texts_apart(#[case] vectors: &str, #[case] missing: Option<&str>) {
    let vector = |part: &str| part.split_whitespace().filter_map(|value| Number::of_f32(value.parse().ok()?)).collect();
    let vectors = vectors.split('|').map(vector).collect();
    match (judge_vectors(&Vectors { vectors, came_in_order: true, input_tokens: None }), missing) {
        (Outcome::Proven, None) => {}
        (Outcome::Absent { why }, Some(words)) => assert!(why.contains(words), "{why}"),
        (outcome, _) => panic!("{outcome:?}"),
    }
}

fn able(abilities: &[Ability]) -> Offer {
    Offer { abilities: Some(abilities.to_vec()), ..Offer::default() }
}

#[rstest]
#[case::nothing_declared(Offer::default(), Dialect::ChatCompletions, "tools images-in json context")]
#[case::tools_alone(able(&[Ability::Chat, Ability::Tools]), Dialect::ChatCompletions, "tools context")]
#[case::thinking(able(&[Ability::Chat, Ability::Reasoning]), Dialect::ChatCompletions, "reasoning context")]
#[case::vectors(able(&[Ability::Embeddings]), Dialect::ChatCompletions, "embeddings")]
#[case::vectors_in_a_dialect_without(able(&[Ability::Embeddings]), Dialect::Messages, "")]
#[case::no_chat(able(&[Ability::Tools, Ability::Json]), Dialect::ChatCompletions, "")]
fn what_is_asked_of_an_offer(#[case] offer: Offer, #[case] dialect: Dialect, #[case] expected: &str) {
    let asked = Proof::ALL.iter().filter(|proof| proof.is_asked(&offer, dialect)).map(|proof| proof.as_str());
    assert_eq!(asked.collect::<Vec<_>>().join(" "), expected);
}

#[rstest]
#[case::tools(Proof::Tools, 1_500, 256)]
#[case::reasoning(Proof::Reasoning, 1_500, 2_560)]
#[case::embeddings(Proof::Embeddings, 1_500, 0)]
#[case::context(Proof::Context, 4_572, 256)]
fn what_a_proof_takes_at_most(#[case] proof: Proof, #[case] input: u64, #[case] output: u64) {
    let worst = proof.worst(&Offer::default());
    assert_eq!((worst.input, worst.output), (input, output));
    assert_eq!(u64::from(proof.cap()).max(256), output.max(256));
}

#[test]
fn what_plain_questions_take_at_most() {
    assert_eq!((worst_of_call(64).input, worst_of_call(64).output), (1_500, 64));
    assert_eq!((worst_of_calls().input, worst_of_calls().output), (7_500, 256 * 4 + 2_560));
}

#[rstest]
#[case::tools(Proof::Tools, "482913", 256)]
#[case::images(Proof::ImagesIn, "Which number", 256)]
#[case::json(Proof::Json, "Which ferry", 256)]
#[case::reasoning(Proof::Reasoning, "482913 passengers", 2_560)]
#[case::context(Proof::Context, "Remember the number 482913.", 256)]
fn each_question_asks_for_its_number(#[case] proof: Proof, #[case] words: &str, #[case] cap: u64) {
    let asked = question(proof, 482_913, "dunlin-7b", &Offer::default());
    let PartKind::Text(text) = &asked.turns[0].parts[0].kind else { panic!("{asked:?}") };
    assert!(text.contains(words), "{text}");
    assert_eq!(asked.output_limit, Some(cap));
    assert_eq!(asked.tools.len(), usize::from(proof == Proof::Tools));
    assert_eq!(asked.turns[0].parts.len(), 1 + usize::from(proof == Proof::ImagesIn));
    let wants_schema = format!("{:?}", asked.format).contains("berth_482913");
    assert_eq!(wants_schema, proof == Proof::Json);
    let thinks = asked.thinking.amount == ThinkingAmount::Effort(Effort::Low);
    assert_eq!(thinks, proof == Proof::Reasoning);
    let capped = Offer { output_cap: std::num::NonZeroU32::new(99), ..Offer::default() };
    assert_eq!(question(proof, 1, "dunlin-7b", &capped).output_limit, Some(99));
}

#[test]
fn a_plain_question_may_have_the_developer_before_it() {
    let asked = as_developer(plain("dunlin-7b", true, 256));
    assert_eq!(asked.turns.iter().map(|turn| turn.role).collect::<Vec<_>>(), [Role::Developer, Role::User]);
    assert_eq!(asked.delivery, Delivery::Streamed(UsageFrame::Asked));
    assert_eq!(plain("dunlin-7b", false, 256).delivery, Delivery::Whole);
}

#[test]
fn vectors_are_asked_of_two_texts_the_first_of_them_twice() {
    let asked = embedding(7, Dialect::ChatCompletions).unwrap();
    let Inputs::Texts(texts) = asked.inputs else { panic!("{:?}", asked.inputs) };
    assert!(texts.len() == 3 && texts[0] == texts[2] && texts[0] != texts[1], "{texts:?}");
    assert!(texts[0].contains('7') && embedding(7, Dialect::Messages).is_none());
}

#[rstest]
#[case::tools(Proof::Tools, able(&[Ability::Chat, Ability::Tools]), None, r#"tools-ignored noted: {"setting":"abilities","model":"dunlin-7b","to":["chat"]}"#)]
#[case::nothing_declared(Proof::Json, Offer::default(), None, r#"schema-ignored noted: {"setting":"abilities","model":"dunlin-7b","to":["chat","streaming","whole","tools","images-in"]}"#)]
#[case::cut(
    Proof::Context,
    Offer::default(),
    Some(2_048),
    r#"context-cut noted: {"setting":"context-window","model":"dunlin-7b","to":2048}, owner"#
)]
#[case::cut_nobody_knows_where(Proof::Context, Offer::default(), None, "context-cut noted: owner")]
#[case::cut_to_nothing(Proof::Context, Offer::default(), Some(0), "context-cut noted: owner")]
fn what_an_absent_ability_means(
    #[case] proof: Proof,
    #[case] offer: Offer,
    #[case] read: Option<u64>,
    #[case] expected: &str,
) {
    assert_eq!(sketch::finding(&finding(proof, "why", "dunlin-7b", &offer, read)), expected);
}
