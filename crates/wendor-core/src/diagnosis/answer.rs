//! What a check makes of a streamed and a whole answer ([`super::heard`] listens to them).

use wendor_wire::ability::Mark;
use wendor_wire::conversation::event::Usage;
use wendor_wire::failure::FailureKind;

use super::finding::{Finding, FindingKind};
use super::heard::{AnswerSeen, Ended};
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::rhythm::{Collected, collected, last_at_the_earliest, unheard};

/// Output tokens that a plain question may take: enough to see a rhythm.
pub const CALL_TOKENS: u32 = 256;

/// Output tokens of a second try, for models that think first.
pub const PATIENT_TOKENS: u32 = 2_560;

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

/// A silence of so many microseconds before a connection breaks tells of a time that was over, and not of a server that died.
const TIME_OVER_FROM_US: u64 = 900_000;

/// What bars the way in any answer.
fn barred(seen: &AnswerSeen, what: &str) -> Option<Finding> {
    let fault = seen.fault.as_ref();
    let owner = |kind, says: String, owner: &str| Some(Finding::failing(kind, says, vec![Remedy::owner(owner)]));
    if let Some(encoding) = seen.head.encoding.as_ref().filter(|_| fault.is_some()) {
        let says = format!("The {what} answer is compressed ({encoding}), though Wendor asks for it as it is.");
        let does = "Please let your server, or the proxy before it, compress no answers of the API: they were asked for without.";
        return owner(FindingKind::Compressed, says, does);
    }
    match fault.map(|fault| fault.kind) {
        None if seen.ended == Ended::Midway => Some(broken_off(seen, what)),
        None => None,
        Some(_) if !seen.said.is_empty() => {
            let says = format!("The server sends an error in the middle of the {what} answer.{}", seen.said);
            owner(
                FindingKind::ErrorInAnswer,
                says,
                &format!("Your server fails in the middle of answers.{}", seen.said),
            )
        }
        Some(FailureKind::TimedOut) if seen.is_complete => {
            let says = format!(
                "The answer was complete after {}, and then neither ended nor closed: apps wait until their time-out.",
                seconds(seen.last_us)
            );
            let does = "Streams of your server neither end with their terminator nor close; does a proxy before it hold them open?";
            owner(FindingKind::NeverEnds, says, does)
        }
        Some(FailureKind::TimedOut) if seen.pieces == 0 => Some(unanswered(fault.map_or("", |fault| &fault.detail))),
        Some(FailureKind::TimedOut | FailureKind::CutOff) => Some(broken_off(seen, what)),
        Some(_) if what == "streamed" && is_another_body(&seen.head.content_type) => {
            let says = format!(
                "Asked to stream, the server sends {}: apps that stream get no answer.",
                seen.head.content_type
            );
            let does = "Your server does not stream: asked for it, it sends the answer as another type. Is streaming turned off there, or a proxy before it collecting?";
            owner(FindingKind::NotAStream, says, does)
        }
        Some(_) => {
            let detail = fault.map_or("", |fault| &fault.detail);
            let says = format!("The {what} answer is not valid in its dialect: {detail}.");
            owner(FindingKind::NotTheDialect, says, &format!("Your server's {what} answers cannot be read: {detail}."))
        }
    }
}

fn is_another_body(content_type: &str) -> bool {
    ["application/json", "text/html"].contains(&content_type)
}

/// The server took the question and said nothing.
#[must_use]
pub fn unanswered(why: &str) -> Finding {
    let says = format!("The server accepts the request and does not answer it: {why}.");
    let owner = "Your model server accepts requests and does not answer them; does its log say why?";
    Finding::failing(FindingKind::NoAnswer, says, vec![Remedy::owner(owner)])
}

/// Requests are refused for the ids that Wendor sends with them: without them they are answered.
#[must_use]
pub fn ids_refused(host: &str, quoted: &str) -> Finding {
    let says = format!(
        "{host} refuses requests that carry the headers `x-request-id` and `traceparent`, by which they are found in its logs, and answers without them.{quoted}"
    );
    let remedy = Remedy::change("Send requests there without these headers", Change::NoRequestIds);
    Finding::failing(FindingKind::IdsRefused, says, vec![remedy])
}

/// The role of the developer is refused, in these words.
#[must_use]
pub fn role_unknown(model: &str, quoted: &str) -> Finding {
    let says = format!(
        "The server refuses turns of the role `developer`, which apps send in the place of `system`, and answers without one.{quoted}"
    );
    let mark = Change::Mark { model: model.to_owned(), mark: Mark::NoDeveloper };
    let remedy = Remedy::change("Send such turns as `system`, which it knows", mark);
    Finding::noted(FindingKind::RoleUnknown, says, vec![remedy])
}

/// The time of the check itself was over: nothing is said of the server's.
#[must_use]
pub fn time_up(what: &str, seconds: u64) -> Finding {
    let says = format!(
        "{what} was not finished within the check's own time limit ({seconds} s). The server may be slow, loading its model, or busy."
    );
    let does = "Check again with more time: `--timeout 2m`, or `It may take` in the console";
    Finding::failing(FindingKind::TimeUp, says, vec![Remedy::operator(does)])
}

fn broken_off(seen: &AnswerSeen, what: &str) -> Finding {
    let silence = seen.end_us.saturating_sub(last_at_the_earliest(seen));
    if silence >= TIME_OVER_FROM_US {
        let since = if seen.pieces > 0 { "after its last piece" } else { "after the question, before any piece" };
        let says = format!(
            "The {what} answer breaks off {} {since}: something on the way, such as a proxy, gives up after that time.",
            tenths(silence)
        );
        let owner = format!(
            "Answers of your server are cut when nothing comes for {}; please raise the read time-out of the proxy before it (600 s is usual for models).",
            tenths(silence)
        );
        return Finding::failing(FindingKind::GivesUp, says, vec![Remedy::owner(owner)]);
    }
    let says = format!("The {what} answer breaks off in the middle, after {} pieces.", seen.pieces);
    let owner = "Answers of your server end without being complete; does it run out of memory or time?";
    Finding::failing(FindingKind::BrokenOff, says, vec![Remedy::owner(owner)])
}

fn tenths(us: u64) -> String {
    format!("{}.{} s", us / 1_000_000, us % 1_000_000 / 100_000)
}

fn used(seen: &AnswerSeen) -> String {
    match seen.usage().and_then(Usage::counts) {
        Some(counts) => {
            format!("{} in, {} out", counts.input + counts.input_cached + counts.cache_written, counts.output)
        }
        None => "usage not reported".to_owned(),
    }
}

/// A stream that went on past the limit that was asked for. `has_old` says whether it keeps to the limit under its older name, where that was tried.
#[must_use]
pub fn judge_unlimited(seen: &AnswerSeen, limit: u32, of: Of<'_>, has_old: bool) -> Judged {
    let says = format!(
        "{} was asked for {limit} tokens at most and goes on after {} pieces; the rest was not read. The cost of a request there is not bounded.",
        of.model, seen.pieces
    );
    let mark = Change::Mark { model: of.model.to_owned(), mark: Mark::OldLimit };
    let owner =
        format!("Your server does not keep to the limit of output tokens that requests to {} ask for.", of.model);
    let mended = has_old.then(|| Remedy::change("Send the limit as `max_tokens`, which the server keeps to", mark));
    let remedies = mended.into_iter().chain([Remedy::owner(owner)]).collect();
    let came_back = format!("past its limit of {limit} tokens, reading stopped");
    Judged::found(came_back, Finding::noted(FindingKind::LimitIgnored, says, remedies))
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
        let says = "The stream does not report usage, so it is estimated in the ledger.";
        let owner = "Streams of your server do not report usage; please turn on usage in streams.";
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
        let says = format!("{} answers with empty text.", of.model);
        let owner = format!("Answers of {} on your server are empty.", of.model);
        return Some(Finding::failing(FindingKind::AnswerEmpty, says, vec![Remedy::owner(owner)]));
    };
    let cap = of.output_cap.filter(|cap| *cap < PATIENT_TOKENS);
    match (has_words(again), cap) {
        // Only the check was impatient.
        (true, None) => None,
        (true, Some(cap)) => {
            let says = format!(
                "{} thinks for longer than the offer's output cap of {cap} tokens allows: apps get an empty answer.",
                of.model
            );
            let change = Change::OutputCap { model: of.model.to_owned(), to: PATIENT_TOKENS };
            let remedy = Remedy::change(format!("Raise the output cap to {PATIENT_TOKENS}"), change);
            Some(Finding::failing(FindingKind::ThinkingAtCap, says, vec![remedy]))
        }
        (false, _) => {
            let says = format!("{} thinks for {PATIENT_TOKENS} tokens and gives no answer.", of.model);
            let owner = format!(
                "{} thinks without end on a plain question; is there a limit for thinking to be set?",
                of.model
            );
            Some(Finding::failing(FindingKind::ThinkingAtCap, says, vec![Remedy::owner(owner)]))
        }
    }
}

/// Judges a whole answer, and by the time that it took the stream before it: one that waited as long for its first piece as a whole answer
/// takes was held back, one that waited much longer waited for the model.
#[must_use]
pub fn judge_whole(seen: &AnswerSeen, stream: &AnswerSeen, of: Of<'_>) -> Judged {
    if let Some(finding) = barred(seen, "whole") {
        return Judged::found("no proper answer", finding);
    }
    let mut judged = Judged::well(format!("after {}, {}, proper end", seconds(seen.end_us), used(seen)));
    judged.findings.extend(collected(stream, seen.end_us).map(buffered));
    if let Some(held_up) = unheard(stream).filter(|_| judged.findings.is_empty()) {
        judged.came_back.push_str(&format!(
            "; whether something buffers the stream cannot be told, since Wendor was held up for {} while it came: check again",
            seconds(held_up)
        ));
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
        let says = "The answer does not report usage, so it is estimated in the ledger.";
        judged.findings.push(Finding::noted(
            FindingKind::NoUsage,
            says,
            vec![Remedy::owner("Answers of your server do not report usage.")],
        ));
    }
    judged
}

fn buffered(how: Collected) -> Finding {
    let says = match how {
        Collected::Whole(after) => format!(
            "The stream came in one piece after {}: something on the way buffers it. Apps see nothing until the answer is complete.",
            seconds(after)
        ),
        Collected::Lumps(lumps, pieces) => format!(
            "The stream came in {lumps} lumps of about {} pieces each: something on the way buffers it. Apps see nothing in between.",
            pieces / lumps
        ),
    };
    let owner = "Streams of your server arrive buffered; please turn off response buffering in the proxy before it.";
    Finding::noted(FindingKind::Buffered, says, vec![Remedy::owner(owner)])
}

#[cfg(test)]
mod tests;
