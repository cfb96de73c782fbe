//! The strip: one request drawn as a line in time, in characters. Dots are the queue, a thin line is waiting for an offer, a cross
//! a failed attempt, a tick the first token, bars the stream, and the last sign says how it ended.

use wendor_gateway::admin::requests::{AttemptLine, RequestLine, RequestShown};

/// Columns of a strip in a line.
const SMALL: u64 = 14;

/// Columns of a strip on a request's own page.
const LARGE: u64 = 56;

fn end_sign(end: &str) -> char {
    match end {
        "output-cap" => '┤',
        "cancelled" => '▷',
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
    for attempt in &shown.attempts {
        strip.push_str(&lane(request, attempt, scale));
    }
    strip
}

fn lane(request: &RequestLine, attempt: &AttemptLine, scale: Scale) -> String {
    let answered = request.answering_ms == Some(attempt.began_ms);
    match (request.first_token_ms, answered) {
        (Some(first_ms), true) => format!(
            "├{}│{}{}",
            "─".repeat(scale.between(attempt.began_ms, first_ms)),
            "▇".repeat(scale.between(first_ms, attempt.ended_ms).max(1)),
            end_sign(&request.end)
        ),
        (_, _) => {
            let sign = if attempt.failure.is_some() { '×' } else { end_sign(&request.end) };
            format!("├{}{sign}", "─".repeat(scale.between(attempt.began_ms, attempt.ended_ms)))
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
    for attempt in &shown.attempts {
        let indent = " ".repeat(scale.column(attempt.began_ms));
        let reason = match (&attempt.failure, &attempt.detail) {
            (Some(kind), Some(detail)) => format!("  {kind}: {detail}"),
            (Some(kind), None) => format!("  {kind}"),
            (None, _) => String::new(),
        };
        lines.push(format!("{:width$}  {indent}{}{reason}", attempt.offer, lane(request, attempt, scale)));
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
