//! Answers of this dialect as events: frames of a stream, and whole replies (`docs/protocols.md` sections 4.3 and 4.4).

use std::collections::BTreeMap;

use bytes::Bytes;

use crate::cited::Citation;
use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::turn::CallKind;
use crate::dialect::Dialect;
use crate::failure::{Failure, FailureKind};
use crate::json::{Members, Node, Object, RawJson, Wrong};
use crate::malformed::malformed;
use crate::seal::Seal;
use crate::sse::SseFrame;
use crate::sse::named_frame;
use crate::upstream_error::failure_of_class;

/// Reads a stream.
#[derive(Debug, Default)]
pub struct MessagesReader {
    /// The call that stands in each open block, and whether it has arguments so far.
    calls: BTreeMap<u64, (u32, bool)>,
    calls_begun: u32,
    usage: ErrorFrame,
    has_stop: bool,
}

impl StreamReader for MessagesReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        let text = std::str::from_utf8(data)
            .map_err(|_| Failure::new(FailureKind::Malformed, "a frame of its stream is not UTF-8"))?;
        let mut frame = Node::new(text, "").object().map_err(|wrong| malformed(&wrong))?;
        let kind = frame.text("type").map_err(|wrong| malformed(&wrong))?.unwrap_or_default();
        if kind == "error" || (kind.is_empty() && frame.clone().take("error").is_some()) {
            let class = frame.object("error").ok().flatten().and_then(|mut error| error.text("type").ok().flatten());
            return Err(failure_of_class(class.as_deref()));
        }
        self.event(&kind, &mut frame, events).map_err(|wrong| malformed(&wrong))
    }

    fn is_finished(&self) -> bool {
        self.has_stop
    }

    fn terminator(&self) -> &'static str {
        "event: message_stop\ndata: {\"type\":\"message_stop\"}\n\n"
    }

    fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        let text = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        let mut object = Node::new(text, "").object().ok()?;
        let mut error = object.object("error").ok()??;
        let (class, message) = (error.text("type").ok()??, error.text("message").ok()??);
        let is_named = frame.raw.starts_with(b"event: error") || frame.raw.starts_with(b"event:error");
        if is_named && object.text("type").ok()?.as_deref() == Some("error") {
            return Some(frame.raw.clone());
        }
        // Without the outer type and the event's name it is dropped without a word.
        let error = Members::new().put("type", class).put("message", message);
        let mut out = Vec::new();
        named_frame("error", &Members::typed("error").put("error", error).to_line(), &mut out);
        Some(Bytes::from(out))
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let mut out = Vec::new();
        named_frame("error", &crate::messages::error::write(told), &mut out);
        (String::from_utf8_lossy(&out).into_owned(), Closing::Clean)
    }
}

impl MessagesReader {
    fn event(&mut self, kind: &str, frame: &mut Object<'_>, events: &mut Vec<Event>) -> Result<FrameKind, Wrong> {
        let before = events.len();
        match kind {
            "message_start" => {
                let mut message = frame.required("message", "the message")?.object()?;
                events.extend(self.usage.seen(&mut message).map(Event::Usage));
                return Ok(FrameKind::Opening);
            }
            "content_block_start" => {
                let index = frame.count("index")?.unwrap_or_default();
                let mut block = frame.required("content_block", "the block")?.object()?;
                self.block(index, &mut block, events)?;
            }
            "content_block_delta" => {
                let index = frame.count("index")?.unwrap_or_default();
                let mut delta = frame.required("delta", "the piece")?.object()?;
                self.delta(index, &mut delta, events)?;
            }
            "content_block_stop" => {
                let index = frame.count("index")?.unwrap_or_default();
                self.end_call(index, events);
                return Ok(FrameKind::Opening);
            }
            "message_delta" => {
                let mut delta = frame.required("delta", "what changed")?.object()?;
                if let Some(stop) = stop_of(&mut delta)? {
                    self.has_stop = true;
                    events.push(Event::Finish { choice: 0, stop });
                }
                events.extend(self.usage.seen(frame).map(Event::Usage));
                return Ok(if self.has_stop { FrameKind::Piece } else { FrameKind::Opening });
            }
            "message_stop" => return Ok(FrameKind::Done),
            "ping" => return Ok(FrameKind::Opening),
            _ => return Ok(FrameKind::Foreign),
        }
        let is_piece = events.iter().skip(before).any(|event| !matches!(event, Event::NextBlock { .. }));
        Ok(if is_piece { FrameKind::Piece } else { FrameKind::Opening })
    }

    fn end_call(&mut self, index: u64, events: &mut Vec<Event>) {
        let Some((call, has_arguments)) = self.calls.remove(&index) else { return };
        events.extend((!has_arguments).then(|| Event::no_arguments(0, call)));
        events.push(Event::CallEnd { choice: 0, call });
    }

    fn block(&mut self, index: u64, block: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        match block.text("type")?.as_deref() {
            Some("tool_use") => {
                let call = self.calls_begun;
                self.calls_begun += 1;
                let (id, name) = (block.text("id")?, block.required_text("name", "the function's name")?);
                events.push(Event::Call { choice: 0, call, id, name, kind: CallKind::Function });
                let input = block.take("input").map(|input| input.raw()).filter(|input| !input.says_nothing());
                self.calls.insert(index, (call, input.is_some()));
                let whole = |input: RawJson| Event::Arguments { choice: 0, call, fragment: input.as_str().to_owned() };
                events.extend(input.map(whole));
            }
            Some("text") => {
                events.push(Event::NextBlock { choice: 0 });
                let text = block.text("text")?.filter(|text| !text.is_empty());
                events.extend(text.map(|text| Event::Text { choice: 0, text }));
            }
            Some("thinking") => {
                events.push(Event::NextBlock { choice: 0 });
                let text = block.text("thinking")?.filter(|text| !text.is_empty());
                events.extend(text.map(|text| Event::Thinking { choice: 0, text }));
                let seal = block.text("signature")?.filter(|seal| !seal.is_empty());
                events.extend(seal.map(|seal| Event::Sealed { choice: 0, seal: Seal::Signature(seal) }));
            }
            Some("redacted_thinking") => {
                let seal = Seal::Redacted(block.text("data")?.unwrap_or_default());
                events.push(Event::Sealed { choice: 0, seal });
            }
            // A block of a hosted tool: nothing that can be said elsewhere.
            Some(_) | None => {}
        }
        Ok(())
    }

    fn delta(&mut self, index: u64, delta: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let kind = delta.text("type")?.unwrap_or_default();
        let piece = |delta: &mut Object<'_>, name: &str| -> Result<Option<String>, Wrong> {
            Ok(delta.text(name)?.filter(|piece| !piece.is_empty()))
        };
        match kind.as_str() {
            "text_delta" => events.extend(piece(delta, "text")?.map(|text| Event::Text { choice: 0, text })),
            "thinking_delta" => {
                events.extend(piece(delta, "thinking")?.map(|text| Event::Thinking { choice: 0, text }));
            }
            "signature_delta" => {
                let seal = piece(delta, "signature")?;
                events.extend(seal.map(|seal| Event::Sealed { choice: 0, seal: Seal::Signature(seal) }));
            }
            "input_json_delta" => {
                let fragment = piece(delta, "partial_json")?;
                if let (Some((call, has_arguments)), Some(fragment)) = (self.calls.get_mut(&index), fragment) {
                    *has_arguments = true;
                    events.push(Event::Arguments { choice: 0, call: *call, fragment });
                }
            }
            "citations_delta" => {
                events.extend(delta.take("citation").map(|node| cited(&node)));
            }
            _ => {}
        }
        Ok(())
    }
}

fn cited(node: &Node<'_>) -> Event {
    Event::Citation { choice: 0, citation: Citation::of(Dialect::Messages, node) }
}

fn stop_of(from: &mut Object<'_>) -> Result<Option<Stop>, Wrong> {
    let sequence = from.text("stop_sequence")?;
    Ok(from.text("stop_reason")?.map(|reason| match reason.as_str() {
        "end_turn" => Stop::End,
        "max_tokens" => Stop::OutputCap,
        "stop_sequence" => Stop::StopText(sequence),
        "tool_use" => Stop::ToolCalls,
        "pause_turn" => Stop::Paused,
        "refusal" => Stop::Filtered,
        "model_context_window_exceeded" => Stop::ContextFull,
        _ => Stop::Unknown(reason),
    }))
}

/// Usage as it was told so far, in this dialect's own members: what is cached is counted apart here, and belongs to the input elsewhere. It
/// is told twice in a stream, the second time often without some of them, so of each the larger counts.
#[derive(Clone, Copy, Debug, Default)]
struct ErrorFrame {
    fresh: Option<u64>,
    cached: Option<u64>,
    cache_write: Option<u64>,
    output: Option<u64>,
    reasoning: Option<u64>,
}

impl ErrorFrame {
    /// Takes what `from` says of usage. `None` where it says nothing, or nothing that can be read: the answer is none the worse.
    fn seen(&mut self, from: &mut Object<'_>) -> Option<Usage> {
        let mut usage = from.object("usage").ok()??;
        let mut count = |name| usage.count(name).ok().flatten();
        self.fresh = self.fresh.max(count("input_tokens"));
        self.cached = self.cached.max(count("cache_read_input_tokens"));
        self.cache_write = self.cache_write.max(count("cache_creation_input_tokens"));
        self.output = self.output.max(count("output_tokens"));
        let mut details = usage.object("output_tokens_details").ok().flatten();
        let reasoning = details.as_mut().and_then(|details| details.count("thinking_tokens").ok().flatten());
        self.reasoning = self.reasoning.max(reasoning);
        let apart = self.cached.unwrap_or_default().saturating_add(self.cache_write.unwrap_or_default());
        let input = self.fresh.map(|fresh| fresh.saturating_add(apart));
        let Self { cached, cache_write, output, reasoning, fresh: _ } = *self;
        Some(Usage { input, cached, cache_write, output, reasoning })
    }
}

/// Reads a whole reply.
///
/// # Errors
/// When it is none.
pub fn read_whole(body: &[u8]) -> Result<Vec<Event>, Failure> {
    let text =
        std::str::from_utf8(body).map_err(|_| Failure::new(FailureKind::Malformed, "its answer is not UTF-8"))?;
    let read = || -> Result<Result<Vec<Event>, Failure>, Wrong> {
        let mut reply = Node::new(text.trim(), "").object()?;
        if reply.text("type")?.as_deref() == Some("error") || reply.clone().take("error").is_some() {
            return Ok(Err(Failure::new(FailureKind::Malformed, "it answered with an error under status 200")));
        }
        let mut events = Vec::new();
        let mut reader = MessagesReader::default();
        for (index, node) in reply.required("content", "a list of blocks")?.list()?.iter().enumerate() {
            let index = u64::try_from(index).unwrap_or(u64::MAX);
            let mut block = node.object()?;
            let citations = block.list("citations")?;
            reader.block(index, &mut block, &mut events)?;
            events.extend(citations.iter().map(cited));
        }
        let open: Vec<u64> = reader.calls.keys().copied().collect();
        open.into_iter().for_each(|index| reader.end_call(index, &mut events));
        events.push(Event::Finish { choice: 0, stop: stop_of(&mut reply)?.unwrap_or(Stop::End) });
        events.extend(reader.usage.seen(&mut reply).map(Event::Usage));
        Ok(Ok(events))
    };
    read().map_err(|wrong| malformed(&wrong))?
}
