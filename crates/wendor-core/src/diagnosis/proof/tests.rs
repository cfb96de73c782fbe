use rstest::rstest;

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
    use wendor_wire::conversation::answer::Answer;
    use wendor_wire::conversation::event::Event;
    let text = r#"{"berth_1":"Fairhaven","berth":"123"}"#;
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
