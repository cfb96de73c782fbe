//! Where the time of a request went: parts that sum to the whole.

use super::detail::WaitFor;
use super::entry::Latency;

/// One part of a request's time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Part {
    /// What it was spent on.
    pub what: &'static str,
    /// How long, in milliseconds.
    pub ms: u64,
}

/// The parts of `latency` of a request with so many attempts, in order; together they are its whole time.
#[must_use]
pub fn parts(latency: &Latency, attempts: u32, waited_for: WaitFor) -> Vec<Part> {
    let answering = latency.answering_ms.unwrap_or(latency.whole_ms);
    let mut parts = vec![Part { what: "admission and plan", ms: latency.admitted_ms }];
    if latency.waited_ms > 0 {
        let what = if waited_for == WaitFor::Load { "waiting for a load" } else { "waiting for room" };
        parts.push(Part { what, ms: latency.waited_ms });
    }
    let failed = answering.saturating_sub(latency.admitted_ms).saturating_sub(latency.waited_ms);
    if latency.answering_ms.is_none() || attempts > 1 {
        parts.push(Part { what: "attempts without an answer", ms: failed });
    } else if failed > 0 {
        parts.push(Part { what: "before the attempt", ms: failed });
    }
    match (latency.answering_ms, latency.first_token_ms) {
        (Some(answering), Some(first)) => {
            parts.push(Part { what: "waiting for a first token", ms: first.saturating_sub(answering) });
            parts.push(Part { what: "answering", ms: latency.whole_ms.saturating_sub(first) });
        }
        (Some(answering), None) => {
            parts.push(Part { what: "waiting for the whole reply", ms: latency.whole_ms.saturating_sub(answering) });
        }
        (None, _) => {}
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::streamed((2, Some(2), Some(310)), 1, &[2, 308, 690])]
    #[case::second_offer((2, Some(42), Some(310)), 2, &[2, 40, 268, 690])]
    #[case::whole_reply((2, Some(2), None), 1, &[2, 998])]
    #[case::a_pause_before_it((2, Some(5), Some(310)), 1, &[2, 3, 305, 690])]
    #[case::nobody_answered((2, None, None), 3, &[2, 998])]
    fn parts_sum_to_the_whole(
        #[case] (admitted_ms, answering_ms, first_token_ms): (u64, Option<u64>, Option<u64>),
        #[case] attempts: u32,
        #[case] millis: &[u64],
    ) {
        let latency = Latency { admitted_ms, waited_ms: 0, answering_ms, first_token_ms, whole_ms: 1_000 };
        let parts: Vec<u64> = parts(&latency, attempts, WaitFor::Room).iter().map(|part| part.ms).collect();
        assert_eq!(parts, millis);
        assert_eq!(parts.iter().sum::<u64>(), latency.whole_ms);
    }

    #[rstest]
    #[case::room(40, 1, Some(42), WaitFor::Room, &["admission and plan", "waiting for room", "waiting for the whole reply"])]
    #[case::a_load(40, 1, Some(42), WaitFor::Load, &["admission and plan", "waiting for a load", "waiting for the whole reply"])]
    #[case::a_pause(0, 1, Some(42), WaitFor::Room, &["admission and plan", "before the attempt", "waiting for the whole reply"])]
    #[case::a_second_offer(0, 2, Some(42), WaitFor::Room, &["admission and plan", "attempts without an answer", "waiting for the whole reply"])]
    #[case::nobody(0, 1, None, WaitFor::Room, &["admission and plan", "attempts without an answer"])]
    fn parts_have_names(
        #[case] waited_ms: u64,
        #[case] attempts: u32,
        #[case] answering_ms: Option<u64>,
        #[case] waited_for: WaitFor,
        #[case] names: &[&str],
    ) {
        let latency = Latency { admitted_ms: 2, waited_ms, answering_ms, first_token_ms: None, whole_ms: 1_000 };
        let parts = parts(&latency, attempts, waited_for);
        assert_eq!(parts.iter().map(|part| part.what).collect::<Vec<_>>(), names);
        assert_eq!(parts.iter().map(|part| part.ms).sum::<u64>(), 1_000);
    }
}
