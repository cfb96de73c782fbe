//! Answers of this dialect as events: each frame of a stream is a whole reply with what is new (`docs/protocols.md` sections 5.3 and 5.4).

use std::collections::BTreeMap;

use bytes::Bytes;

use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::{Event, Stop, TokenLogprob, Usage};
use crate::conversation::turn::CallKind;
use crate::failure::{Failure, FailureKind};
use crate::json::write::raw_on_one_line;
use crate::json::{Node, Object, Wrong};
use crate::malformed::malformed;
use crate::seal::Seal;
use crate::sse::SseFrame;
use crate::sse::data_frame;
use crate::upstream_error::failure_of;

/// The most candidates that an upstream may answer with.
const MAX_CANDIDATES: u64 = 128;

/// Reads a stream.
#[derive(Debug, Default)]
pub struct ContentReader {
    /// By candidate: calls begun, and whether it has finished.
    candidates: BTreeMap<u32, Candidate>,
    is_blocked: bool,
}

#[derive(Clone, Copy, Debug, Default)]
struct Candidate {
    calls: u32,
    is_finished: bool,
}

impl StreamReader for ContentReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        // Its clients break on the terminator of another dialect, which some servers send all the same.
        if data == b"[DONE]" {
            return Ok(FrameKind::Foreign);
        }
        let text = std::str::from_utf8(data)
            .map_err(|_| Failure::new(FailureKind::Malformed, "a frame of its stream is not UTF-8"))?;
        let mut frame = Node::new(text, "").camel_object().map_err(|wrong| malformed(&wrong))?;
        if let Some(error) = frame.clone().take("error") {
            let mut error = error.object().ok();
            let code = error.as_mut().and_then(|error| error.count("code").ok().flatten());
            let status = error.as_mut().and_then(|error| error.text("status").ok().flatten());
            return Err(failure_of(code, status.as_deref()));
        }
        let before = events.len();
        self.frame(&mut frame, events).map_err(|wrong| malformed(&wrong))?;
        let is_piece = events.iter().skip(before).any(|event| !matches!(event, Event::Usage(_)));
        Ok(if is_piece { FrameKind::Piece } else { FrameKind::Opening })
    }

    fn is_finished(&self) -> bool {
        let all = self.candidates.values().all(|candidate| candidate.is_finished);
        self.is_blocked || (!self.candidates.is_empty() && all)
    }

    fn mended(&self, frame: &SseFrame) -> Option<String> {
        let data = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        // Its clients take a frame for nothing but one line of data behind a space.
        let is_plain =
            frame.raw.starts_with(b"data: ") && memchr::memchr_iter(b'\n', frame.raw.trim_ascii_end()).count() == 0;
        if is_plain {
            return None;
        }
        let (mut line, mut out) = (String::new(), Vec::new());
        raw_on_one_line(data, &mut line);
        data_frame(&line, &mut out);
        String::from_utf8(out).ok()
    }

    fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        let text = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        let mut error = Node::new(text, "").object().ok()?.object("error").ok()??;
        let code = error.count("code").ok()??;
        error.text("message").ok()??;
        // Anything but a number of an error crashes clients.
        (400..=599).contains(&code).then(|| frame.raw.clone())
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let mut out = Vec::new();
        data_frame(&crate::generate_content::error::write(told), &mut out);
        (String::from_utf8_lossy(&out).into_owned(), Closing::Broken)
    }
}

impl ContentReader {
    fn frame(&mut self, frame: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        for node in frame.list("candidates")? {
            self.candidate(&node, events)?;
        }
        if let Some(feedback) = frame.take("promptFeedback") {
            let is_blocked = feedback.camel_object()?.text("blockReason")?.is_some();
            if is_blocked && self.candidates.is_empty() {
                self.is_blocked = true;
                events.push(Event::Finish { choice: 0, stop: Stop::Filtered });
            }
        }
        // What cannot be read is not reported; the answer is none the worse.
        events.extend(usage(frame).ok().flatten().map(Event::Usage));
        Ok(())
    }

    fn candidate(&mut self, node: &Node<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let mut candidate = node.camel_object()?;
        let index = candidate.count("index")?.unwrap_or(0);
        let choice = u32::try_from(index).ok().filter(|_| index < MAX_CANDIDATES);
        let choice = choice.ok_or_else(|| node.wrong("a candidate with a small index"))?;
        let seen = self.candidates.entry(choice).or_default();
        if let Some(content) = candidate.take("content") {
            for part in content.camel_object()?.list("parts")? {
                crate::generate_content::answer::part(choice, &part, seen, events)?;
            }
        }
        logprobs(choice, &mut candidate, events)?;
        if let Some(reason) = candidate.text("finishReason")? {
            seen.is_finished = true;
            let stop = stop(&reason, seen.calls > 0);
            // A call that the model did not get right is never a natural end (`docs/protocols.md` section 8.2).
            events.push(Event::Finish {
                choice,
                stop: stop.ok_or_else(|| node.wrong("an answer with a call that can be read"))?,
            });
        }
        Ok(())
    }
}

fn part(choice: u32, node: &Node<'_>, seen: &mut Candidate, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let mut part = node.camel_object()?;
    let is_thought = part.flag("thought")?.unwrap_or(false);
    let sealed = |seal: String| Event::Sealed { choice, seal: Seal::Signature(seal) };
    let seal = part.text("thoughtSignature")?;
    if let Some(text) = part.text("text")?.filter(|text| !text.is_empty()) {
        events.push(if is_thought { Event::Thinking { choice, text } } else { Event::Text { choice, text } });
    } else if let Some(call) = part.take("functionCall") {
        // The seal is that of the thinking before the call.
        events.extend(seal.map(sealed));
        let mut function = call.camel_object()?;
        let call = seen.calls;
        seen.calls += 1;
        let (id, name) = (function.text("id")?, function.required_text("name", "the function's name")?);
        events.push(Event::Call { choice, call, id, name, kind: CallKind::Function });
        let fragment = function.take("args").map_or_else(|| "{}".to_owned(), |args| args.raw().as_str().to_owned());
        events.push(Event::Arguments { choice, call, fragment });
        events.push(Event::CallEnd { choice, call });
        return Ok(());
    } else if let Some(data) = part.take("inlineData") {
        let kind = data.camel_object()?.text("mimeType")?.unwrap_or_default();
        events.extend(kind.starts_with("image/").then_some(Event::Image { choice }));
    }
    events.extend(seal.map(sealed));
    Ok(())
}

/// Why a candidate ended; `None` where the model wrote a call that cannot be read.
fn stop(reason: &str, has_calls: bool) -> Option<Stop> {
    Some(match reason {
        "MALFORMED_FUNCTION_CALL" | "MALFORMED_RESPONSE" => return None,
        "STOP" if has_calls => Stop::ToolCalls,
        "STOP" => Stop::End,
        "MAX_TOKENS" => Stop::OutputCap,
        "SAFETY" | "RECITATION" | "BLOCKLIST" | "PROHIBITED_CONTENT" | "SPII" | "IMAGE_SAFETY" => Stop::Filtered,
        other => Stop::Unknown(other.to_owned()),
    })
}

fn logprobs(choice: u32, candidate: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let Some(result) = candidate.take("logprobsResult") else { return Ok(()) };
    let mut result = result.camel_object()?;
    let chosen = result.list("chosenCandidates")?;
    let others = result.list("topCandidates")?;
    let pair = |node: &Node<'_>| {
        let mut token = node.camel_object()?;
        let logprob = token.number("logProbability")?.ok_or_else(|| node.wrong("a token with its `logProbability`"))?;
        Ok::<_, Wrong>((token.text("token")?.unwrap_or_default(), logprob))
    };
    let mut tokens = Vec::new();
    for (place, node) in chosen.iter().enumerate() {
        let (token, logprob) = pair(node)?;
        let listed = others.get(place).map(|node| node.camel_object()?.list("candidates")).transpose()?;
        let top = listed.unwrap_or_default().iter().map(pair).collect::<Result<Vec<_>, _>>()?;
        tokens.push(TokenLogprob { token, logprob, top });
    }
    if !tokens.is_empty() {
        events.push(Event::Logprobs { choice, tokens });
    }
    Ok(())
}

/// Usage: thinking is counted apart here, and belongs to the output elsewhere.
fn usage(from: &mut Object<'_>) -> Result<Option<Usage>, Wrong> {
    let Some(usage) = from.take("usageMetadata") else { return Ok(None) };
    let mut usage = usage.camel_object()?;
    let prompt = usage.count("promptTokenCount")?;
    let by_tools = usage.count("toolUsePromptTokenCount")?;
    let said = usage.count("candidatesTokenCount")?;
    let reasoning = usage.count("thoughtsTokenCount")?;
    let output = match (said, reasoning) {
        (None, None) => None,
        (said, thought) => Some(said.unwrap_or_default().saturating_add(thought.unwrap_or_default())),
    };
    let input = prompt.map(|prompt| prompt.saturating_add(by_tools.unwrap_or_default()));
    Ok(Some(Usage { input, cached: usage.count("cachedContentTokenCount")?, cache_write: None, output, reasoning }))
}

/// Reads a whole reply.
///
/// # Errors
/// When it is none.
pub fn read_whole(body: &[u8]) -> Result<Vec<Event>, Failure> {
    let text =
        std::str::from_utf8(body).map_err(|_| Failure::new(FailureKind::Malformed, "its answer is not UTF-8"))?;
    let mut reply = Node::new(text.trim(), "").camel_object().map_err(|wrong| malformed(&wrong))?;
    if reply.clone().take("error").is_some() {
        return Err(Failure::new(FailureKind::Malformed, "it answered with an error under status 200"));
    }
    let (mut events, mut reader) = (Vec::new(), ContentReader::default());
    reader.frame(&mut reply, &mut events).map_err(|wrong| malformed(&wrong))?;
    if reader.candidates.is_empty() && !reader.is_blocked {
        return Err(Failure::new(FailureKind::Malformed, "its answer has no candidates"));
    }
    Ok(events)
}
