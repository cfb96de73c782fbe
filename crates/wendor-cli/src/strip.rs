//! The strip: one request drawn as a line in time, in characters. Dots are admission and waiting for room, a thin line is waiting for an
//! offer, a cross a failed attempt, a ring one that was given up since another answered, a tick the first token, bars the stream, and the
//! last sign says how it ended.

use wendor_gateway::admin::attempts::AttemptLine;
use wendor_gateway::admin::requests::RequestShown;

/// Columns of a strip in a line.
const SMALL: u64 = 14;

/// Columns of a strip on a request's own page.
const LARGE: u64 = 56;

fn end_sign(end: &str) -> char {
    match end {
        "output-cap" => '┤',
        "cancelled" | "abandoned" | "not-taken" => '▷',
        "cut-off" => '⌁',
        _ => '▏',
    }
}

/// Milliseconds as columns.
#[derive(Clone, Copy)]
struct Scale {
    columns: u64,
    whole_ms: u64,
}

impl Scale {
    fn column(self, millis: u64) -> usize {
        usize::try_from(millis.min(self.whole_ms) * self.columns / self.whole_ms.max(1)).unwrap_or(0)
    }

    fn between(self, from_ms: u64, to_ms: u64) -> usize {
        self.column(to_ms).saturating_sub(self.column(from_ms))
    }
}

/// The strip of a request in one line.
#[must_use]
pub fn small(shown: &RequestShown) -> String {
    let request = &shown.request;
    let scale = Scale { columns: SMALL, whole_ms: request.whole_ms };
    let mut strip = "·".repeat(scale.column(request.admitted_ms));
    let waited =
        |from: u64, to: u64| request.waits.iter().filter(move |wait| wait.began_ms >= from && wait.began_ms < to);
    let mut from = 0;
    for (index, attempt) in shown.attempts.iter().enumerate() {
        for wait in waited(from, attempt.began_ms) {
            strip.push_str(&"·".repeat(scale.between(wait.began_ms, wait.ended_ms)));
        }
        from = attempt.began_ms;
        // One that another was made beside ends where that begins: there is one line.
        let next = shown.attempts.get(index + 1).map_or(u64::MAX, |next| next.began_ms);
        strip.push_str(&lane(shown, attempt, if attempt.answered { u64::MAX } else { next }, scale));
        if attempt.answered {
            break;
        }
    }
    if shown.attempts.is_empty() {
        for wait in &request.waits {
            strip.push_str(&"·".repeat(scale.between(wait.began_ms, wait.ended_ms)));
        }
    }
    strip
}

fn lane(shown: &RequestShown, attempt: &AttemptLine, until_ms: u64, scale: Scale) -> String {
    let request = &shown.request;
    match (request.first_token_ms, attempt.answered) {
        (Some(first_ms), true) => format!(
            "├{}│{}{}",
            "─".repeat(scale.between(attempt.began_ms, first_ms)),
            "▇".repeat(scale.between(first_ms, attempt.ended_ms).max(1)),
            end_sign(&request.end)
        ),
        (_, answered) => {
            let sign = match (&attempt.failure, answered || request.answering_ms.is_none()) {
                (Some(_), _) => '×',
                (None, true) => end_sign(&request.end),
                (None, false) => '◦',
            };
            format!("├{}{sign}", "─".repeat(scale.between(attempt.began_ms, attempt.ended_ms.min(until_ms))))
        }
    }
}

/// The strip of a request with a lane for each attempt, its reason beside it, and an axis below.
#[must_use]
pub fn large(shown: &RequestShown) -> Vec<String> {
    let request = &shown.request;
    let scale = Scale { columns: LARGE, whole_ms: request.whole_ms };
    let width = shown.attempts.iter().map(|attempt| attempt.offer.chars().count()).max().unwrap_or(0).max(5);
    let mut lines = Vec::new();
    let queue = scale.column(request.admitted_ms);
    if queue > 0 {
        lines.push(format!("{:width$}  {}", "queue", "·".repeat(queue)));
    }
    for wait in &request.waits {
        let indent = " ".repeat(scale.column(wait.began_ms));
        let dots = "·".repeat(scale.between(wait.began_ms, wait.ended_ms).max(1));
        let what = if wait.what == "load" { "waited for the model of" } else { "waited for room at" };
        lines.push(format!("{:width$}  {indent}{dots}  {what} {}", wait.what, wait.offer));
    }
    for attempt in &shown.attempts {
        let indent = " ".repeat(scale.column(attempt.began_ms));
        let reason = match (&attempt.failure, &attempt.detail) {
            (Some(kind), Some(detail)) => format!("  {kind}: {detail}"),
            (Some(kind), None) => format!("  {kind}"),
            (None, _) if attempt.answered || request.answering_ms.is_none() => String::new(),
            (None, _) => "  given up: another answered first".to_owned(),
        };
        lines.push(format!("{:width$}  {indent}{}{reason}", attempt.offer, lane(shown, attempt, u64::MAX, scale)));
    }
    if !lines.is_empty() {
        lines.push(format!("{:width$}  {}", "", axis(scale)));
    }
    lines
}

/// Ticks at whole steps of 1, 2 or 5, at most six of them.
fn axis(scale: Scale) -> String {
    let steps = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000, 60_000, 120_000];
    let step = steps.into_iter().find(|step| scale.whole_ms / step <= 5).unwrap_or(300_000);
    let mut axis = String::new();
    for tick in (0..).map(|number| number * step).take_while(|tick| *tick <= scale.whole_ms) {
        let column = scale.column(tick);
        let label = match tick {
            0 => "0".to_owned(),
            _ if step >= 1_000 => format!("{} s", tick / 1_000),
            _ => format!("{tick} ms"),
        };
        let used = axis.chars().count();
        if column >= used {
            axis.push_str(&" ".repeat(column - used));
            axis.push_str(&label);
        }
    }
    axis
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value, json};

    struct Times {
        admitted: u64,
        answering: Option<u64>,
        first: Option<u64>,
        whole: u64,
    }

    fn shown(times: &Times, end: &str, attempts: &Value) -> RequestShown {
        let Times { admitted, answering, first, whole } = *times;
        let tokens = json!({ "input": 1, "input_cached": 0, "cache_written": 0, "all_input": 1, "output": 1, "reasoning": 0, "preset": 0 });
        let request = json!({
            "id": "01JDF3-7QK2M0XZ4T", "kind": "request", "images": 0, "image_size": null, "at": "2026-11-25T08:10:40Z", "team": "freight-desk", "key": "k1", "route": "manifests",
            "offer": null, "attempts": 1, "streamed": true, "end": end, "failure": null, "tokens": tokens, "estimated": false,
            "cost": null, "waited_ms": 0, "waits": [], "lane": "interactive", "admitted_ms": admitted, "answering_ms": answering, "first_token_ms": first, "whole_ms": whole,
            "run": null, "step": null, "labels": {}, "revision": 1, "tries": []
        });
        let shown = json!({
            "request": request, "summary": "", "key_label": null, "currency": "EUR", "cost": null, "attempts": attempts,
            "plan": [], "latency": [], "changes": [], "preset": [], "variables": [], "corrections": [], "detail_kept": true
        });
        serde_json::from_value(shown).unwrap()
    }

    fn attempt(offer: &str, began_ms: u64, ended_ms: u64, failure: Option<&str>) -> Value {
        json!({ "answered": failure.is_none() || failure == Some("cut-off"), "offer": offer, "upstream_request_id": "00000000-0000-8000-8000-000000000000", "began_ms": began_ms, "ended_ms": ended_ms, "failure": failure, "detail": failure.map(|_| "why"), "used_estimated": false })
    }

    fn given_up(offer: &str, began_ms: u64, ended_ms: u64) -> Value {
        let mut attempt = attempt(offer, began_ms, ended_ms, None);
        attempt["answered"] = json!(false);
        attempt
    }

    #[test]
    fn a_wait_for_room_has_its_lane() {
        let mut shown = shown(
            &Times { admitted: 0, answering: Some(700), first: Some(1_000), whole: 1_400 },
            "proper",
            &json!([attempt("a/m", 700, 1_400, None)]),
        );
        shown.request.waits =
            serde_json::from_value(json!([{ "for": "room", "offer": "a/m", "began_ms": 0, "ended_ms": 700 }])).unwrap();
        assert_eq!(small(&shown), "·······├───│▇▇▇▇▏");
        assert!(large(&shown)[0].ends_with("····  waited for room at a/m"), "{:?}", large(&shown));
    }

    #[rstest]
    #[case::answered((0, Some(0), Some(400), 1_400), "proper", json!([attempt("a/m", 0, 1_400, None)]), "├────│▇▇▇▇▇▇▇▇▇▇▏")]
    #[case::at_the_cap((0, Some(0), Some(400), 1_400), "output-cap", json!([attempt("a/m", 0, 1_400, None)]), "├────│▇▇▇▇▇▇▇▇▇▇┤")]
    #[case::queued((700, Some(700), Some(1_000), 1_400), "proper", json!([attempt("a/m", 700, 1_400, None)]), "·······├───│▇▇▇▇▏")]
    #[case::fell_over((0, Some(700), Some(1_000), 1_400), "proper", json!([attempt("a/m", 0, 700, Some("unreachable")), attempt("b/m", 700, 1_400, None)]), "├───────×├───│▇▇▇▇▏")]
    #[case::fell_over_at_once((0, Some(0), Some(400), 1_400), "proper", json!([attempt("a/m", 0, 0, Some("unreachable")), attempt("b/m", 0, 1_400, None)]), "├×├────│▇▇▇▇▇▇▇▇▇▇▏")]
    #[case::left_midway((0, Some(0), Some(700), 1_400), "cancelled", json!([attempt("a/m", 0, 1_400, None)]), "├───────│▇▇▇▇▇▇▇▷")]
    #[case::left_waiting((0, None, None, 1_400), "cancelled", json!([given_up("a/m", 0, 1_400)]), "├──────────────▷")]
    #[case::given_up((0, None, None, 1_400), "abandoned", json!([given_up("a/m", 0, 1_400)]), "├──────────────▷")]
    #[case::broke_off((0, Some(0), Some(700), 1_400), "cut-off", json!([attempt("a/m", 0, 1_400, Some("cut-off"))]), "├───────│▇▇▇▇▇▇▇⌁")]
    #[case::hedged((0, Some(700), Some(1_000), 1_400), "proper", json!([given_up("a/m", 0, 1_000), attempt("b/m", 700, 1_400, None)]), "├───────◦├───│▇▇▇▇▏")]
    #[case::in_no_time((0, Some(0), Some(0), 0), "proper", json!([attempt("a/m", 0, 0, None)]), "├│▇▏")]
    #[case::nothing_tried((0, None, None, 0), "not-answered", json!([]), "")]
    fn a_request_in_a_line(
        #[case] times: (u64, Option<u64>, Option<u64>, u64),
        #[case] end: &str,
        #[case] attempts: Value,
        #[case] strip: &str,
    ) {
        let (admitted, answering, first, whole) = times;
        assert_eq!(small(&shown(&Times { admitted, answering, first, whole }, end, &attempts)), strip);
    }

    #[test]
    fn each_attempt_has_its_lane_and_failures_say_why() {
        let attempts = json!([
            attempt("quayside-a/dunlin-70b", 0, 2_350, Some("unreachable")),
            attempt("farlight/fulmar-large", 2_350, 4_700, None)
        ]);
        let lines = large(&shown(
            &Times { admitted: 0, answering: Some(2_350), first: Some(3_525), whole: 4_700 },
            "output-cap",
            &attempts,
        ));
        assert_eq!(
            lines,
            [
                "quayside-a/dunlin-70b  ├────────────────────────────×  unreachable: why",
                "farlight/fulmar-large                              ├──────────────│▇▇▇▇▇▇▇▇▇▇▇▇▇▇┤",
                "                       0          1 s         2 s         3 s         4 s",
            ]
        );
    }
}
