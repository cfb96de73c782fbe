//! Answers of this dialect as events: frames of a stream, and whole replies (`docs/protocols.md` sections 3.3 and 3.4).

use std::collections::BTreeMap;

use bytes::Bytes;

use crate::cited::Citation;
use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::turn::CallKind;
use crate::dialect::Dialect;
use crate::failure::{Failure, FailureKind};
use crate::gaps::GAP;
use crate::json::{Node, Object, Wrong};
use crate::logprobs;
use crate::malformed::malformed;
use crate::seal::Seal;
use crate::sse::SseFrame;
use crate::upstream_error::failure_of_class;

/// Reads a stream.
#[derive(Debug, Default)]
pub struct ResponsesReader {
    /// By output index: the call that stands there, and whether its arguments came in pieces.
    calls: BTreeMap<u64, (u32, bool)>,
    has_calls: bool,
    response_id: Option<String>,
    sequence: u64,
    is_over: bool,
}

impl StreamReader for ResponsesReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        if data == b"[DONE]" {
            return Ok(FrameKind::Foreign);
        }
        let text = std::str::from_utf8(data)
            .map_err(|_| Failure::new(FailureKind::Malformed, "a frame of its stream is not UTF-8"))?;
        let mut frame = Node::new(text, "").object().map_err(|wrong| malformed(&wrong))?;
        let kind = frame.text("type").map_err(|wrong| malformed(&wrong))?.unwrap_or_default();
        if let Some(failure) = told_failure(&kind, &frame) {
            return Err(failure);
        }
        self.event(&kind, &mut frame, events).map_err(|wrong| malformed(&wrong))
    }

    fn is_finished(&self) -> bool {
        self.is_over
    }

    fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        let text = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        let mut object = Node::new(text, "").object().ok()?;
        let mut holder = match object.object("response").ok()? {
            Some(response) => response,
            None => object.clone(),
        };
        let mut error = holder.object("error").ok()?.unwrap_or(object);
        let code = error.text("code").ok()?.unwrap_or_else(|| "server_error".to_owned());
        let error_told = ErrorTold {
            status: 502,
            class: "server_error",
            code,
            param: error.text("param").ok()?,
            message: error.text("message").ok()??,
            request: String::new(),
        };
        Some(Bytes::from(self.broken_off(&error_told).0))
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        let id = self.response_id.clone().unwrap_or_else(|| format!("resp_{}", told.request));
        (crate::responses::error::frames(told, &id, self.sequence), Closing::Clean)
    }
}

/// What the upstream says went wrong: an event `error`, flat or not, an error without a type, or a failed response.
fn told_failure(kind: &str, frame: &Object<'_>) -> Option<Failure> {
    let mut frame = frame.clone();
    let class = |object: &mut Object<'_>| {
        let code = object.text("code").ok().flatten();
        code.or_else(|| object.text("type").ok().flatten()).filter(|word| word != "error")
    };
    match kind {
        "error" => {
            let nested = frame.object("error").ok().flatten().and_then(|mut error| class(&mut error));
            Some(failure_of_class(class(&mut frame).or(nested).as_deref()))
        }
        "response.failed" => {
            let mut response = frame.object("response").ok().flatten();
            let error = response.as_mut().and_then(|response| response.object("error").ok().flatten());
            Some(failure_of_class(error.and_then(|mut error| class(&mut error)).as_deref()))
        }
        "" => frame.object("error").ok().flatten().map(|mut error| failure_of_class(class(&mut error).as_deref())),
        _ => None,
    }
}

impl ResponsesReader {
    fn event(&mut self, kind: &str, frame: &mut Object<'_>, events: &mut Vec<Event>) -> Result<FrameKind, Wrong> {
        let before = events.len();
        if let Some(sequence) = frame.count("sequence_number")? {
            self.sequence = sequence.saturating_add(1);
        }
        let index = frame.count("output_index")?.unwrap_or_default();
        let piece = |frame: &mut Object<'_>| Ok::<_, Wrong>(frame.text("delta")?.filter(|piece| !piece.is_empty()));
        match kind {
            "response.created" | "response.in_progress" | "response.queued" => {
                let mut response = frame.required("response", "the response")?.object()?;
                self.response_id = response.text("id")?.or(self.response_id.take());
            }
            "response.output_item.added" => {
                let mut item = frame.required("item", "the item")?.object()?;
                self.item(index, &mut item, events)?;
            }
            "response.output_text.delta" => {
                events.extend(piece(frame)?.map(|text| Event::Text { choice: 0, text }));
                logprobs(frame, events)?;
            }
            "response.content_part.added" | "response.reasoning_summary_part.added" => part_added(frame, events)?,
            "response.refusal.delta" => events.extend(piece(frame)?.map(|text| Event::Refusal { choice: 0, text })),
            "response.reasoning_summary_text.delta" | "response.reasoning_text.delta" => {
                events.extend(piece(frame)?.map(|text| Event::Thinking { choice: 0, text }));
            }
            "response.function_call_arguments.delta" | "response.custom_tool_call_input.delta" => {
                if let (Some((call, in_pieces)), Some(fragment)) = (self.calls.get_mut(&index), piece(frame)?) {
                    *in_pieces = true;
                    events.push(Event::Arguments { choice: 0, call: *call, fragment });
                }
            }
            "response.output_text.annotation.added" => {
                events.extend(frame.take("annotation").map(|node| cited(&node)));
            }
            "response.output_item.done" => {
                let mut item = frame.required("item", "the item")?.object()?;
                self.item_done(index, &mut item, events)?;
            }
            "response.completed" | "response.incomplete" => {
                let mut response = frame.required("response", "the response")?.object()?;
                self.finish(&mut response, events)?;
                return Ok(FrameKind::Done);
            }
            // Everything else of this dialect repeats what came, or is of tools that the service runs.
            other if other.starts_with("response.") => {}
            _ => return Ok(FrameKind::Foreign),
        }
        let tells = |event: &Event| !matches!(event, Event::CallEnd { .. } | Event::NextBlock { .. });
        let is_piece = events.iter().skip(before).any(tells);
        Ok(if is_piece { FrameKind::Piece } else { FrameKind::Opening })
    }

    fn item(&mut self, index: u64, item: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let kind = match item.text("type")?.as_deref() {
            Some("function_call") => CallKind::Function,
            Some("custom_tool_call") => CallKind::Custom,
            Some("message" | "reasoning") => {
                events.push(Event::NextBlock { choice: 0 });
                return Ok(());
            }
            Some(_) | None => return Ok(()),
        };
        let call = u32::try_from(self.calls.len()).unwrap_or(u32::MAX);
        self.calls.insert(index, (call, false));
        self.has_calls = true;
        let (id, name) = (item.text("call_id")?, item.required_text("name", "the function's name")?);
        events.push(Event::Call { choice: 0, call, id, name, kind });
        Ok(())
    }

    /// What a finished item says that its pieces did not.
    fn item_done(&mut self, index: u64, item: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let kind = item.text("type")?.unwrap_or_default();
        if kind == "reasoning" {
            let seal = item.text("encrypted_content")?;
            events.extend(seal.map(|seal| Event::Sealed { choice: 0, seal: Seal::Signature(seal) }));
            return Ok(());
        }
        let Some((call, in_pieces)) = self.calls.get(&index).copied() else { return Ok(()) };
        if !in_pieces {
            let arguments = item.text(if kind == "custom_tool_call" { "input" } else { "arguments" })?;
            let arguments = arguments.filter(|arguments| !arguments.is_empty());
            let piece = arguments.map(|fragment| Event::Arguments { choice: 0, call, fragment });
            let is_function = kind != "custom_tool_call";
            events.extend(piece.or_else(|| is_function.then(|| Event::no_arguments(0, call))));
        }
        events.push(Event::CallEnd { choice: 0, call });
        Ok(())
    }

    fn finish(&mut self, response: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        self.is_over = true;
        events.push(Event::Finish { choice: 0, stop: stop_of(response, self.has_calls)? });
        // What cannot be read is not reported; the answer is none the worse.
        events.extend(usage(response).ok().flatten().map(Event::Usage));
        Ok(())
    }
}

/// A part of a message or a summary begins.
fn part_added(frame: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    events.extend(match frame.count("summary_index")? {
        None => Some(Event::NextBlock { choice: 0 }),
        Some(0) => None,
        // Summaries of one item have one seal, so that they stay one block.
        Some(_) => Some(Event::Thinking { choice: 0, text: GAP.to_owned() }),
    });
    Ok(())
}

fn logprobs(from: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let tokens = logprobs::read(&from.list("logprobs")?)?;
    if !tokens.is_empty() {
        events.push(Event::Logprobs { choice: 0, tokens });
    }
    Ok(())
}

fn stop_of(response: &mut Object<'_>, has_calls: bool) -> Result<Stop, Wrong> {
    let status = response.text("status")?;
    let mut details = response.object("incomplete_details")?;
    let reason = details.as_mut().map(|details| details.text("reason")).transpose()?.flatten();
    Ok(match (status.as_deref(), reason.as_deref()) {
        (Some("incomplete"), Some("max_output_tokens")) => Stop::OutputCap,
        (Some("incomplete"), Some("content_filter")) => Stop::Filtered,
        (Some("incomplete"), _) => Stop::Paused,
        _ if has_calls => Stop::ToolCalls,
        (Some("completed") | None, _) => Stop::End,
        (Some(other), _) => Stop::Unknown(other.to_owned()),
    })
}

fn usage(from: &mut Object<'_>) -> Result<Option<Usage>, Wrong> {
    let Some(mut usage) = from.object("usage")? else { return Ok(None) };
    let mut input = usage.object("input_tokens_details")?;
    let mut output = usage.object("output_tokens_details")?;
    let detail = |details: &mut Option<Object<'_>>, name| details.as_mut().map(|object| object.count(name)).transpose();
    Ok(Some(Usage {
        input: usage.count("input_tokens")?,
        cached: detail(&mut input, "cached_tokens")?.flatten(),
        cache_write: detail(&mut input, "cache_write_tokens")?.flatten(),
        output: usage.count("output_tokens")?,
        reasoning: detail(&mut output, "reasoning_tokens")?.flatten(),
    }))
}

/// Reads a whole reply.
///
/// # Errors
/// When it is none, or says that it failed.
pub fn read_whole(body: &[u8]) -> Result<Vec<Event>, Failure> {
    let text =
        std::str::from_utf8(body).map_err(|_| Failure::new(FailureKind::Malformed, "its answer is not UTF-8"))?;
    let read = || -> Result<Result<Vec<Event>, Failure>, Wrong> {
        let mut reply = Node::new(text.trim(), "").object()?;
        let status = reply.clone().text("status")?;
        let error = reply.take("error");
        match (status.as_deref(), error) {
            (Some("failed"), error) => {
                let code = error.and_then(|node| node.object().ok()?.text("code").ok().flatten());
                return Ok(Err(failure_of_class(code.as_deref())));
            }
            (None, Some(_)) => {
                return Ok(Err(Failure::new(FailureKind::Malformed, "it answered with an error under status 200")));
            }
            _ => {}
        }
        let (mut events, mut reader) = (Vec::new(), ResponsesReader::default());
        for (index, node) in reply.required("output", "a list of items")?.list()?.iter().enumerate() {
            let index = u64::try_from(index).unwrap_or(u64::MAX);
            let mut item = node.object()?;
            match item.clone().text("type")?.as_deref() {
                Some("message") => message(&mut item, &mut events)?,
                Some("reasoning") => {
                    thinking(&mut item, &mut events)?;
                    reader.item_done(index, &mut item, &mut events)?;
                }
                Some(_) | None => {
                    reader.item(index, &mut item.clone(), &mut events)?;
                    reader.item_done(index, &mut item, &mut events)?;
                }
            }
        }
        reader.finish(&mut reply, &mut events)?;
        Ok(Ok(events))
    };
    read().map_err(|wrong| malformed(&wrong))?
}

fn message(item: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    for node in item.list("content")? {
        let mut part = node.object()?;
        let of = |text: Option<String>| text.filter(|text| !text.is_empty());
        match part.text("type")?.as_deref() {
            Some("refusal") => {
                events.extend(of(part.text("refusal")?).map(|text| Event::Refusal { choice: 0, text }));
            }
            Some(_) | None => {
                events.push(Event::NextBlock { choice: 0 });
                events.extend(of(part.text("text")?).map(|text| Event::Text { choice: 0, text }));
                events.extend(part.list("annotations")?.iter().map(cited));
                logprobs(&mut part, events)?;
            }
        }
    }
    Ok(())
}

fn cited(node: &Node<'_>) -> Event {
    Event::Citation { choice: 0, citation: Citation::of(Dialect::Responses, node) }
}

fn thinking(item: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
    let mut texts = Vec::new();
    for name in ["summary", "content"] {
        for node in item.list(name)? {
            texts.extend(node.object()?.text("text")?);
        }
    }
    events.push(Event::NextBlock { choice: 0 });
    if !texts.is_empty() {
        events.push(Event::Thinking { choice: 0, text: texts.join(GAP) });
    }
    Ok(())
}
