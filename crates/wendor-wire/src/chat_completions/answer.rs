//! Answers of this dialect as events: frames of a stream, and whole replies (`docs/protocols.md` sections 2.4 and 2.5).

use std::collections::BTreeSet;

use bytes::Bytes;

use crate::chat_completions::calls::{Calls, Fragment};
use crate::chat_completions::mend::mended;
use crate::chat_completions::stream::{ChatStream, DONE_FRAME, FrameSays};
use crate::cited::Citation;
use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::facts::Facts;
use crate::conversation::turn::CallKind;
use crate::dialect::Dialect;
use crate::failure::{Failure, FailureKind};
use crate::json::{Node, Object, Wrong};
use crate::logprobs;
use crate::malformed::malformed;
use crate::sse::SseFrame;
use crate::sse::data_frame;

/// The most choices that an upstream may answer with.
const MAX_CHOICES: u64 = 128;

/// Reads a stream: what passes untouched is looked at by [`ChatStream`] alone, this takes it apart.
#[derive(Debug, Default)]
pub struct ChatReader {
    seen: ChatStream,
    calls: Calls,
    /// Functions that are called and have no arguments yet.
    without_arguments: BTreeSet<(u32, u32)>,
}

impl StreamReader for ChatReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        let says = self.seen.observe(data).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
        let kind = kind_of(says)?;
        match kind {
            FrameKind::Foreign | FrameKind::Done => {}
            FrameKind::Opening | FrameKind::Piece | FrameKind::UsageOnly => {
                self.events(data, events).map_err(|wrong| malformed(&wrong))?;
            }
        }
        Ok(kind)
    }

    fn look(&mut self, data: &[u8], facts: &mut Facts, _events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        let says = self.seen.observe(data).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
        facts.counts = self.seen.usage();
        facts.output_bytes = self.seen.output_bytes();
        facts.is_at_cap = self.seen.is_at_cap();
        kind_of(says)
    }

    fn is_finished(&self) -> bool {
        self.seen.is_finished()
    }

    fn terminator(&self) -> &'static str {
        DONE_FRAME
    }

    fn mended(&self, frame: &SseFrame) -> Option<String> {
        if self.seen.mends().is_empty() {
            return None;
        }
        let mut out = Vec::new();
        data_frame(&mended(frame.data.as_ref()?, self.seen.mends())?, &mut out);
        String::from_utf8(out).ok()
    }

    fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        let text = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        let error = Node::new(text, "").object().ok()?.take("error")?;
        // Other shapes lose their message in some clients.
        error.object().ok()?.text("message").ok()??;
        Some(frame.raw.clone())
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let mut out = Vec::new();
        data_frame(&crate::error_object::write(told), &mut out);
        (String::from_utf8_lossy(&out).into_owned(), Closing::Clean)
    }
}

fn kind_of(says: FrameSays) -> Result<FrameKind, Failure> {
    match says {
        FrameSays::Opening => Ok(FrameKind::Opening),
        FrameSays::Answer => Ok(FrameKind::Piece),
        FrameSays::UsageOnly => Ok(FrameKind::UsageOnly),
        FrameSays::Foreign => Ok(FrameKind::Foreign),
        FrameSays::Error(failure) => Err(failure),
        FrameSays::Done => Ok(FrameKind::Done),
    }
}

fn text_of(data: &[u8]) -> Result<&str, Wrong> {
    std::str::from_utf8(data).map_err(|_| Wrong { path: "the answer".to_owned(), expected: "UTF-8".to_owned() })
}

impl ChatReader {
    fn events(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<(), Wrong> {
        let mut chunk = Node::new(text_of(data)?, "").object()?;
        for node in chunk.list("choices")? {
            let mut choice = node.object()?;
            let index = index_of(&mut choice)?;
            if let Some(mut delta) = choice.object("delta")? {
                self.delta(index, &mut delta, events)?;
            }
            logprobs(index, &mut choice, events)?;
            if let Some(reason) = choice.text("finish_reason")?.filter(|reason| !reason.is_empty()) {
                self.finish(index, &reason, events);
            }
        }
        events.extend(usage(&mut chunk)?.map(Event::Usage));
        Ok(())
    }

    fn finish(&mut self, choice: u32, reason: &str, events: &mut Vec<Event>) {
        let calls = self.calls.count(u64::from(choice));
        let has_calls = calls > 0;
        for call in 0..calls {
            let is_without = self.without_arguments.remove(&(choice, call));
            events.extend(is_without.then(|| Event::no_arguments(choice, call)));
            events.push(Event::CallEnd { choice, call });
        }
        events.push(Event::Finish { choice, stop: stop(reason, has_calls) });
    }

    fn delta(&mut self, choice: u32, delta: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        said(choice, delta, events)?;
        for (place, node) in delta.list("tool_calls")?.iter().enumerate() {
            // Without an index it stands where it stands in its frame.
            let place = u64::try_from(place).unwrap_or(u64::MAX);
            self.call(choice, place, node, events)?;
        }
        if let Some(mut function) = delta.object("function_call")? {
            let (name, fragment) = (function.text("name")?, function.text("arguments")?);
            self.begin(choice, Opening { index: 0, id: None, name, kind: CallKind::Function }, events);
            self.arguments(choice, 0, fragment, events);
        }
        Ok(())
    }

    fn call(&mut self, choice: u32, place: u64, node: &Node<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let mut call = node.object()?;
        let index = call.count("index")?.unwrap_or(place);
        let id = call.text("id")?.filter(|id| !id.is_empty());
        let (name, fragment, kind) = match (call.object("function")?, call.object("custom")?) {
            (Some(mut function), _) => (function.text("name")?, function.text("arguments")?, CallKind::Function),
            (None, Some(mut custom)) => (custom.text("name")?, custom.text("input")?, CallKind::Custom),
            (None, None) => (None, None, CallKind::Function),
        };
        let call = self.begin(choice, Opening { index, id, name, kind }, events);
        let call = call.ok_or_else(|| node.wrong("one of fewer calls"))?;
        self.arguments(choice, call, fragment, events);
        Ok(())
    }

    fn arguments(&mut self, choice: u32, call: u32, fragment: Option<String>, events: &mut Vec<Event>) {
        if let Some(fragment) = fragment.filter(|fragment| !fragment.is_empty()) {
            self.without_arguments.remove(&(choice, call));
            events.push(Event::Arguments { choice, call, fragment });
        }
    }

    /// The first fragment of a call begins it. Gives which call it is; `None` when there are too many.
    fn begin(&mut self, choice: u32, opening: Opening, events: &mut Vec<Event>) -> Option<u32> {
        let Opening { index, id, name, kind } = opening;
        let fragment = Fragment { choice: u64::from(choice), index, id: id.as_deref(), name: name.as_deref() };
        let place = self.calls.place(fragment)?;
        if place.begins {
            events.push(Event::Call { choice, call: place.call, id, name: name.unwrap_or_default(), kind });
            if kind == CallKind::Function {
                self.without_arguments.insert((choice, place.call));
            }
        }
        Some(place.call)
    }
}

/// What a fragment says of the call that it may begin.
struct Opening {
    index: u64,
    id: Option<String>,
    name: Option<String>,
    kind: CallKind,
}

fn index_of(choice: &mut Object<'_>) -> Result<u32, Wrong> {
    let index = choice.count("index")?.unwrap_or(0);
    let path = choice.path_of("index");
    let is_small = index < MAX_CHOICES;
    u32::try_from(index).ok().filter(|_| is_small).ok_or_else(|| Wrong { path, expected: "a small index".to_owned() })
}

/// Texts of a delta or a message.
fn said(choice: u32, from: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let thinking = match from.text("reasoning_content")? {
        Some(text) => Some(text),
        // Another word for the same, where it is a text.
        None => from.take("reasoning").filter(Node::is_text).map(|node| node.text()).transpose()?,
    };
    let of = |text: Option<String>| text.filter(|text| !text.is_empty());
    events.extend(of(thinking).map(|text| Event::Thinking { choice, text }));
    events.extend(of(from.text("content")?).map(|text| Event::Text { choice, text }));
    events.extend(of(from.text("refusal")?).map(|text| Event::Refusal { choice, text }));
    let citations = from.take("annotations").filter(Node::is_list).map(|node| node.list()).transpose()?;
    let citations = citations.unwrap_or_default();
    events.extend(
        citations.iter().map(|node| Event::Citation { choice, citation: Citation::of(Dialect::ChatCompletions, node) }),
    );
    Ok(())
}

fn logprobs(choice: u32, from: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let Some(mut logprobs) = from.object("logprobs")? else { return Ok(()) };
    let tokens = logprobs::read(&logprobs.list("content")?)?;
    if !tokens.is_empty() {
        events.push(Event::Logprobs { choice, tokens });
    }
    Ok(())
}

/// Why an answer ended. Calls are the signal, not the reason: services answer `stop` where a function was forced.
fn stop(reason: &str, has_calls: bool) -> Stop {
    match reason {
        _ if has_calls && reason != "length" && reason != "content_filter" => Stop::ToolCalls,
        "stop" => Stop::End,
        "length" => Stop::OutputCap,
        "tool_calls" | "function_call" => Stop::ToolCalls,
        "content_filter" => Stop::Filtered,
        other => Stop::Unknown(other.to_owned()),
    }
}

fn usage(from: &mut Object<'_>) -> Result<Option<Usage>, Wrong> {
    // What cannot be read is not reported; the answer is none the worse.
    let Some(node) = from.take("usage") else { return Ok(None) };
    Ok(usage_of(&node).unwrap_or_default())
}

fn usage_of(node: &Node<'_>) -> Result<Option<Usage>, Wrong> {
    let mut usage = node.object()?;
    let mut prompt = usage.object("prompt_tokens_details")?;
    let mut completion = usage.object("completion_tokens_details")?;
    let detail = |details: &mut Option<Object<'_>>, name| details.as_mut().map(|object| object.count(name)).transpose();
    Ok(Some(Usage {
        input: usage.count("prompt_tokens")?,
        cached: detail(&mut prompt, "cached_tokens")?.flatten(),
        cache_write: detail(&mut prompt, "cache_write_tokens")?.flatten(),
        output: usage.count("completion_tokens")?,
        reasoning: detail(&mut completion, "reasoning_tokens")?.flatten(),
    }))
}

/// Reads a whole reply.
///
/// # Errors
/// When it is none.
pub fn read_whole(body: &[u8]) -> Result<Vec<Event>, Failure> {
    crate::chat_completions::reply::read(body).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
    whole_events(body).map_err(|wrong| malformed(&wrong))
}

fn whole_events(body: &[u8]) -> Result<Vec<Event>, Wrong> {
    let mut events = Vec::new();
    let mut reply = Node::new(text_of(body)?.trim(), "").object()?;
    for node in reply.list("choices")? {
        let mut choice = node.object()?;
        let index = index_of(&mut choice)?;
        let mut reader = ChatReader::default();
        let reason = choice.text("finish_reason")?;
        if let Some(mut message) = choice.object("message")? {
            said(index, &mut message, &mut events)?;
            for (place, node) in message.list("tool_calls")?.iter().enumerate() {
                reader.call(index, u64::try_from(place).unwrap_or(u64::MAX), node, &mut events)?;
            }
            if let Some(mut function) = message.object("function_call")? {
                let (name, fragment) = (function.text("name")?, function.text("arguments")?);
                reader.begin(index, Opening { index: 0, id: None, name, kind: CallKind::Function }, &mut events);
                reader.arguments(index, 0, fragment, &mut events);
            }
        }
        logprobs(index, &mut choice, &mut events)?;
        reader.finish(index, reason.as_deref().unwrap_or("stop"), &mut events);
    }
    events.extend(usage(&mut reply)?.map(Event::Usage));
    Ok(events)
}
