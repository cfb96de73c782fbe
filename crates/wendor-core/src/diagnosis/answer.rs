//! What a check makes of a streamed and a whole answer ([`super::heard`] listens to them).

use super::finding::{Finding, FindingKind};
use super::heard::{AnswerSeen, Ended};
use super::remedy::{Change, Remedy};
use super::report::Judged;
use crate::catalog::ability::Mark;
use crate::wire::conversation::event::Usage;

/// Output tokens that a plain question may take: enough to see a rhythm.
pub const CALL_TOKENS: u32 = 256;

/// Output tokens of a second try, for models that think first.
pub const PATIENT_TOKENS: u32 = 2_560;

/// A first piece that comes later than this, in microseconds, tells a stream that was held back from one that is only quick.
const HELD_FROM_US: u64 = 400_000;

/// Pieces from which on a rhythm can be told.
const RHYTHM_PIECES: usize = 8;

/// A first piece that waits so long, in microseconds, while the next answer is quick, waited for the model to be loaded.
const LOAD_FROM_US: u64 = 2_000_000;

/// What a plain question asks.
pub const QUESTION: &str = "Count from one to twenty in words, separated by commas. Write nothing else.";

/// What the call was about.
#[derive(Clone, Copy, Debug)]
pub struct Of<'a> {
    /// The model.
    pub model: &'a str,
    /// The offer's output cap.
    pub output_cap: Option<u32>,
}

fn seconds(us: u64) -> String {
    format!("{}.{:02} s", us / 1_000_000, us % 1_000_000 / 10_000)
}

/// What bars the way in any answer.
fn barred(seen: &AnswerSeen, what: &str) -> Option<Finding> {
    let owner = |says: &str| vec![Remedy::owner(says)];
    if let Some(fault) = &seen.fault {
        let says = format!("The {what} answer is not what its dialect promises: {}.", fault.detail);
        return Some(Finding::failing(
            FindingKind::NotTheDialect,
            says,
            owner(&format!("Your server's {what} answers cannot be read: {}.", fault.detail)),
        ));
    }
    if seen.ended == Ended::Midway {
        let says = format!("The {what} answer breaks off in the middle, after {} pieces.", seen.pieces);
        return Some(Finding::failing(
            FindingKind::BrokenOff,
            says,
            owner("Answers of your server end without being complete; does it run out of memory or time?"),
        ));
    }
    None
}

fn used(seen: &AnswerSeen) -> String {
    match seen.usage().and_then(Usage::counts) {
        Some(counts) => {
            format!("{} in, {} out", counts.input + counts.input_cached + counts.cache_written, counts.output)
        }
        None => "usage not told".to_owned(),
    }
}

/// A stream that went on past the limit that was asked for. `has_old` says whether it keeps to the limit under its older name, where that was tried.
#[must_use]
pub fn judge_unlimited(seen: &AnswerSeen, limit: u32, of: Of<'_>, has_old: bool) -> Judged {
    let says = format!(
        "{} was asked for {limit} tokens at most and goes on after {} pieces; the rest was not read. What a request costs there has no bound but its own end.",
        of.model, seen.pieces
    );
    let mark = Change::Mark { model: of.model.to_owned(), mark: Mark::OldLimit };
    let owner =
        format!("Your server does not keep to the limit of output tokens that requests to {} ask for.", of.model);
    let mended = has_old.then(|| Remedy::change("Send the limit as `max_tokens`, which the server keeps to", mark));
    let remedies = mended.into_iter().chain([Remedy::owner(owner)]).collect();
    let told = format!("past its limit of {limit} tokens, reading stopped");
    Judged::found(told, Finding::noted(FindingKind::LimitIgnored, says, remedies))
}

/// Judges a stream. `again` is a second one with a higher cap, where the first was silent at its cap.
#[must_use]
pub fn judge_streamed(seen: &AnswerSeen, again: Option<&AnswerSeen>, of: Of<'_>) -> Judged {
    if let Some(finding) = barred(seen, "streamed") {
        return Judged::found("no proper stream", finding);
    }
    let first = seen.first_us.map_or("no token".to_owned(), |first| {
        let spread = seconds(seen.last_us.saturating_sub(first));
        format!("first token after {}, {} pieces within {spread}", seconds(first), seen.pieces)
    });
    let end = match seen.ended {
        Ended::Proper => "proper end",
        Ended::WithoutTerminator => "no terminator",
        Ended::Midway => "broken off",
    };
    let mut judged = Judged::well(format!("{first}, {}, {end}", used(seen)));
    if let Some(finding) = silent(seen, again, of) {
        judged.findings.push(finding);
        return judged;
    }
    if seen.ended == Ended::WithoutTerminator {
        let says = "The stream ends without its terminator. Wendor adds it for apps; a stream that is cut right there looks the same.";
        let owner = "Streams of your server end without their terminator; does a proxy before it cut the last line?";
        judged.findings.push(Finding::noted(FindingKind::NoTerminator, says, vec![Remedy::owner(owner)]));
    }
    if seen.usage().is_none() {
        let says = "The stream does not say how many tokens it used, so they are estimated in the ledger.";
        let owner = "Streams of your server do not tell their usage; please turn on usage in streams.";
        judged.findings.push(Finding::noted(FindingKind::NoUsage, says, vec![Remedy::owner(owner)]));
    }
    judged
}

fn silent(seen: &AnswerSeen, again: Option<&AnswerSeen>, of: Of<'_>) -> Option<Finding> {
    let has_words = |seen: &AnswerSeen| !seen.text().trim().is_empty();
    if has_words(seen) {
        return None;
    }
    let Some(again) = again.filter(|_| seen.is_silent_at_cap()) else {
        let says = format!("{} answers, but there is no word in the answer.", of.model);
        let owner = format!("Answers of {} on your server are empty.", of.model);
        return Some(Finding::failing(FindingKind::AnswerEmpty, says, vec![Remedy::owner(owner)]));
    };
    let cap = of.output_cap.filter(|cap| *cap < PATIENT_TOKENS);
    match (has_words(again), cap) {
        // Only the check was impatient.
        (true, None) => None,
        (true, Some(cap)) => {
            let says = format!(
                "{} thinks for longer than the offer's output cap of {cap} tokens lets it speak: apps get an answer without a word.",
                of.model
            );
            let change = Change::OutputCap { model: of.model.to_owned(), to: PATIENT_TOKENS };
            let remedy = Remedy::change(format!("Raise the output cap to {PATIENT_TOKENS}"), change);
            Some(Finding::failing(FindingKind::ThinkingAtCap, says, vec![remedy]))
        }
        (false, _) => {
            let says = format!("{} thinks for {PATIENT_TOKENS} tokens and says nothing.", of.model);
            let owner = format!(
                "{} thinks without end on a plain question; is there a limit for thinking to be set?",
                of.model
            );
            Some(Finding::failing(FindingKind::ThinkingAtCap, says, vec![Remedy::owner(owner)]))
        }
    }
}

/// Whether all pieces came at once after a wait in which a stream would have begun.
fn is_held_back(seen: &AnswerSeen) -> bool {
    let Some(first) = seen.first_us.filter(|first| *first >= HELD_FROM_US) else { return false };
    let is_long = seen.pieces >= RHYTHM_PIECES || (seen.pieces == 1 && seen.text().len() > 40);
    is_long && seen.last_us.saturating_sub(first) < first / 20
}

/// Judges a whole answer, and by the time that it took the stream before it: one that waited as long for its first piece as a whole answer
/// takes was held back, one that waited much longer waited for the model.
#[must_use]
pub fn judge_whole(seen: &AnswerSeen, stream: &AnswerSeen, of: Of<'_>) -> Judged {
    if let Some(finding) = barred(seen, "whole") {
        return Judged::found("no proper answer", finding);
    }
    let mut judged = Judged::well(format!("after {}, {}, proper end", seconds(seen.end_us), used(seen)));
    let waited = stream.first_us.unwrap_or_default();
    if is_held_back(stream) && seen.end_us >= waited / 2 {
        let says = format!(
            "The stream came in one piece after {}: something on the way collects it. Apps see nothing until the answer is complete.",
            seconds(waited)
        );
        let owner =
            "Streams of your server arrive in one piece; please turn off response buffering in the proxy before it.";
        judged.findings.push(Finding::noted(FindingKind::Buffered, says, vec![Remedy::owner(owner)]));
    }
    if let Some(first_us) = stream.first_us.filter(|first| *first >= LOAD_FROM_US && seen.end_us < first / 2) {
        let says = format!(
            "The first answer began after {}, this one was complete after {}: the model was being loaded.",
            seconds(first_us),
            seconds(seen.end_us)
        );
        let owner =
            format!("Please keep {} loaded on your server: whoever asks first waits {}.", of.model, seconds(first_us));
        let routes = "Or give the stages that use it a longer `first_event`";
        judged.findings.push(Finding::noted(
            FindingKind::SlowLoad,
            says,
            vec![Remedy::owner(owner), Remedy::operator(routes)],
        ));
    }
    if seen.usage().is_none() {
        let says = "The answer does not say how many tokens it used, so they are estimated in the ledger.";
        judged.findings.push(Finding::noted(
            FindingKind::NoUsage,
            says,
            vec![Remedy::owner("Answers of your server do not tell their usage.")],
        ));
    }
    judged
}

#[cfg(test)]
mod tests {
    use super::super::heard::{Listener, whole};
    use super::*;
    use crate::catalog::upstream::Dialect;
    use rstest::rstest;

    fn piece(text: &str) -> String {
        format!(
            "data: {{\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[{{\"index\":0,\"delta\":{{\"content\":\"{text}\"}},\"finish_reason\":null}}]}}\n\n"
        )
    }

    const FINISH: &str = "data: {\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\n";
    const USAGE: &str = "data: {\"id\":\"a\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"m\",\"choices\":[],\"usage\":{\"prompt_tokens\":3,\"completion_tokens\":9,\"total_tokens\":12}}\n\n";
    const DONE: &str = "data: [DONE]\n\n";

    fn heard(parts: &[(String, u64)]) -> AnswerSeen {
        let mut listener = Listener::of(Dialect::ChatCompletions, CALL_TOKENS);
        for (part, at) in parts {
            listener.take(part.as_bytes(), *at);
        }
        listener.end(parts.last().map_or(0, |(_, at)| *at))
    }

    fn rhythm(wait: u64, between: u64, tail: &[&str]) -> AnswerSeen {
        let mut parts: Vec<(String, u64)> = (0..10).map(|index| (piece("one, "), wait + index * between)).collect();
        parts.extend(tail.iter().map(|part| ((*part).to_owned(), wait + 10 * between)));
        heard(&parts)
    }

    const OF: Of<'_> = Of { model: "dunlin-7b", output_cap: None };

    #[rstest]
    #[case::well(rhythm(500_000, 30_000, &[FINISH, USAGE, DONE]), None)]
    #[case::quick(rhythm(1_000, 0, &[FINISH, USAGE, DONE]), None)]
    #[case::no_usage(rhythm(1_000, 10, &[FINISH, DONE]), Some(FindingKind::NoUsage))]
    #[case::no_terminator(rhythm(1_000, 10, &[FINISH, USAGE]), Some(FindingKind::NoTerminator))]
    #[case::cut(rhythm(1_000, 10, &[]), Some(FindingKind::BrokenOff))]
    #[case::garbage(rhythm(1_000, 10, &["data: {\"foghorn\":\n\n"]), Some(FindingKind::NotTheDialect))]
    #[case::empty(heard(&[(FINISH.to_owned(), 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]), Some(FindingKind::AnswerEmpty))]
    fn what_a_stream_tells(#[case] seen: AnswerSeen, #[case] expected: Option<FindingKind>) {
        let judged = judge_streamed(&seen, None, OF);
        assert_eq!(judged.findings.iter().map(|finding| finding.kind).collect::<Vec<_>>(), Vec::from_iter(expected));
    }

    #[rstest]
    #[case::within(256, "one, ", 250, false)]
    #[case::a_piece_for_each_letter(20, "o", 40, false)]
    #[case::past_by_pieces(64, "one, ", 80, true)]
    #[case::past_by_bytes_in_few_pieces(4, "one, two, three, four, five, six, seven, ", 3, true)]
    fn past_its_limit_it_is_not_read_on(
        #[case] limit: u32,
        #[case] text: &str,
        #[case] pieces: usize,
        #[case] is_past: bool,
    ) {
        let mut listener = Listener::of(Dialect::ChatCompletions, limit);
        let goes_on = (0..pieces).all(|at| listener.take(piece(text).as_bytes(), at as u64));
        assert_eq!((goes_on, listener.end(1).is_past_limit), (!is_past, is_past));
    }

    #[rstest]
    #[case::cap_of_the_offer(Some(64), "one, two", Some(FindingKind::ThinkingAtCap), true)]
    #[case::only_the_check_was_impatient(None, "one, two", None, false)]
    #[case::without_end(None, "", Some(FindingKind::ThinkingAtCap), false)]
    fn thinking_that_eats_the_cap(
        #[case] output_cap: Option<u32>,
        #[case] later: &str,
        #[case] expected: Option<FindingKind>,
        #[case] is_mended: bool,
    ) {
        let at_cap = FINISH.replace("\"stop\"", "\"length\"");
        let silent = heard(&[(at_cap.clone(), 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]);
        assert!(silent.is_silent_at_cap());
        let again = heard(&[(piece(later), 5), (at_cap, 5), (USAGE.to_owned(), 5), (DONE.to_owned(), 5)]);
        let judged = judge_streamed(&silent, Some(&again), Of { output_cap, ..OF });
        assert_eq!(judged.findings.first().map(|finding| finding.kind), expected);
        let has_change =
            judged.findings.iter().flat_map(|finding| &finding.remedies).any(|remedy| remedy.as_change().is_some());
        assert_eq!(has_change, is_mended);
    }

    #[rstest]
    #[case::loaded_between(3_000_000, 0, 400_000, Some(FindingKind::SlowLoad))]
    #[case::slow_always(3_000_000, 400_000, 2_900_000, None)]
    #[case::quick_always(30_000, 0, 9_000, None)]
    #[case::held_back(900_000, 10, 900_000, Some(FindingKind::Buffered))]
    #[case::a_rhythm(500_000, 30_000, 800_000, None)]
    fn loading_and_holding_back_are_told_from_being_slow(
        #[case] first: u64,
        #[case] between: u64,
        #[case] whole_us: u64,
        #[case] expected: Option<FindingKind>,
    ) {
        let body = r#"{"id":"a","object":"chat.completion","created":1,"model":"m","choices":[{"index":0,"message":{"role":"assistant","content":"one"},"finish_reason":"stop"}],"usage":{"prompt_tokens":3,"completion_tokens":1,"total_tokens":4}}"#;
        let seen = whole(Dialect::ChatCompletions, body.as_bytes(), whole_us);
        let judged = judge_whole(&seen, &rhythm(first, between, &[FINISH, USAGE, DONE]), OF);
        assert_eq!(judged.findings.first().map(|finding| finding.kind), expected, "{judged:?}");
    }
}
