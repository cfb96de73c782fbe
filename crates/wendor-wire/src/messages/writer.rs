//! Answers for an app of this dialect: a stream frame by frame, and whole replies (`docs/protocols.md` sections 4.3 and 4.4).
//!
//! One block is open at a time. A call is closed only when its upstream says so or the answer ends, since its pieces may come in
//! between others; what belongs behind it is held until then.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use crate::codec::{AnswerHead, Closing, ErrorTold, StreamWriter};
use crate::conversation::answer::{Answer, Block};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::turn::arguments_object;
use crate::dialect::Dialect;
use crate::failure::Failure;
use crate::json::{Json, Members};
use crate::malformed::bad_arguments;
use crate::seal::Seal;
use crate::sse::named_frame;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Open {
    Text,
    Thinking,
    Call(u32),
}

/// Writes a stream.
#[derive(Debug)]
pub struct MessagesWriter {
    head: AnswerHead,
    has_begun: bool,
    open: Option<Open>,
    /// Blocks begun.
    blocks: u64,
    /// What waits for the open call to end.
    held: VecDeque<Event>,
    /// Arguments so far of calls that wait.
    waiting: BTreeMap<u32, String>,
    /// Calls that have ended while another was open.
    ended: BTreeSet<u32>,
    /// Arguments of the open call so far, to be looked at when it ends.
    arguments: String,
    stop: Option<Stop>,
}

impl MessagesWriter {
    /// A writer of one answer.
    #[must_use]
    pub fn new(head: AnswerHead) -> Self {
        Self {
            head,
            has_begun: false,
            open: None,
            blocks: 0,
            held: VecDeque::new(),
            waiting: BTreeMap::new(),
            ended: BTreeSet::new(),
            arguments: String::new(),
            stop: None,
        }
    }

    fn begin(&mut self, out: &mut Vec<u8>) {
        if self.has_begun {
            return;
        }
        self.has_begun = true;
        // What was read is known only at the end; the numbers there replace these.
        let usage = Members::new().put("input_tokens", 0u64).put("output_tokens", 0u64);
        let message = envelope(&self.head).put("content", Vec::new()).put("stop_reason", Json::Null);
        let message = message.put("stop_sequence", Json::Null).put("usage", usage);
        frame("message_start", Members::typed("message_start").put("message", message), out);
    }

    fn start(&mut self, open: Open, block: Members, out: &mut Vec<u8>) {
        self.open = Some(open);
        let start = Members::typed("content_block_start").put("index", self.blocks).put("content_block", block);
        frame("content_block_start", start, out);
        self.blocks += 1;
    }

    fn delta(&self, delta: Members, out: &mut Vec<u8>) {
        let members = Members::typed("content_block_delta").put("index", self.blocks.saturating_sub(1));
        frame("content_block_delta", members.put("delta", delta), out);
    }

    fn close(&mut self, out: &mut Vec<u8>) -> Result<(), Failure> {
        let Some(open) = self.open.take() else { return Ok(()) };
        if matches!(open, Open::Call(_)) && arguments_object(&std::mem::take(&mut self.arguments)).is_none() {
            // Helpers parse the arguments; broken ones would run the tool with half of them.
            return Err(bad_arguments());
        }
        let stop = Members::typed("content_block_stop").put("index", self.blocks.saturating_sub(1));
        frame("content_block_stop", stop, out);
        Ok(())
    }

    /// Whether an event has to wait for the open call.
    fn has_to_wait(&self, event: &Event) -> bool {
        let Some(Open::Call(open)) = self.open else { return false };
        match event {
            Event::Arguments { call, .. } | Event::CallEnd { call, .. } => *call != open,
            Event::Text { .. }
            | Event::Refusal { .. }
            | Event::Thinking { .. }
            | Event::Sealed { .. }
            | Event::NextBlock { .. }
            | Event::Call { .. }
            | Event::Citation { .. } => true,
            Event::Image { .. } | Event::Logprobs { .. } | Event::Finish { .. } | Event::Usage(_) => false,
        }
    }

    /// Writes what waited, until another call holds it up.
    fn release(&mut self, out: &mut Vec<u8>) -> Result<(), Failure> {
        while self.open.is_none() || !matches!(self.open, Some(Open::Call(_))) {
            let Some(event) = self.held.pop_front() else { return Ok(()) };
            self.block(&event, out)?;
            if let Event::Call { call, .. } = event {
                // Its own pieces that waited follow it at once.
                if let Some(fragment) = self.waiting.remove(&call) {
                    self.block(&Event::Arguments { choice: 0, call, fragment }, out)?;
                }
                if self.ended.remove(&call) {
                    self.close(out)?;
                }
            }
        }
        Ok(())
    }

    fn text(&mut self, kind: Open, piece: Members, out: &mut Vec<u8>) -> Result<(), Failure> {
        if self.open != Some(kind) {
            self.close(out)?;
            let block = match kind {
                Open::Thinking => Members::typed("thinking").put("thinking", "").put("signature", ""),
                Open::Text | Open::Call(_) => Members::typed("text").put("text", ""),
            };
            self.start(kind, block, out);
        }
        self.delta(piece, out);
        Ok(())
    }

    fn block(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        match event {
            Event::Text { text, .. } | Event::Refusal { text, .. } => {
                self.text(Open::Text, Members::typed("text_delta").put("text", text), out)
            }
            Event::Thinking { text, .. } => {
                self.text(Open::Thinking, Members::typed("thinking_delta").put("thinking", text), out)
            }
            Event::Sealed { seal, .. } => self.sealed(seal, out),
            Event::Call { choice, call, id, name, .. } => {
                self.close(out)?;
                let id = id.clone().unwrap_or_else(|| self.head.call_id(*choice, *call));
                let block = Members::typed("tool_use").put("id", id).put("name", name).put("input", Members::new());
                self.start(Open::Call(*call), block, out);
                Ok(())
            }
            Event::Arguments { fragment, .. } => {
                self.arguments.push_str(fragment);
                self.delta(Members::typed("input_json_delta").put("partial_json", fragment), out);
                Ok(())
            }
            Event::CallEnd { .. } => self.close(out),
            Event::NextBlock { .. } => match self.open {
                Some(Open::Text | Open::Thinking) => self.close(out),
                Some(Open::Call(_)) | None => Ok(()),
            },
            Event::Citation { citation, .. } => match citation.written(Dialect::Messages, &(0..0)) {
                Some(citation) => {
                    self.text(Open::Text, Members::typed("citations_delta").put("citation", citation), out)
                }
                None => Ok(()),
            },
            // Log probabilities have no place.
            Event::Image { .. } | Event::Logprobs { .. } | Event::Finish { .. } | Event::Usage(_) => Ok(()),
        }
    }

    fn sealed(&mut self, seal: &Seal, out: &mut Vec<u8>) -> Result<(), Failure> {
        match seal {
            Seal::Signature(_) => {
                let marked = self.head.seals.mark(seal);
                self.text(Open::Thinking, Members::typed("signature_delta").put("signature", marked), out)
            }
            Seal::Redacted(_) => {
                self.close(out)?;
                let block = Members::typed("redacted_thinking").put("data", self.head.seals.mark(seal));
                self.start(Open::Thinking, block, out);
                self.close(out)
            }
        }
    }
}

impl StreamWriter for MessagesWriter {
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        self.begin(out);
        if self.has_to_wait(event) {
            if let Event::CallEnd { call, .. } = event {
                self.ended.insert(*call);
            } else if let Event::Arguments { call, fragment, .. } = event {
                self.waiting.entry(*call).or_default().push_str(fragment);
            } else {
                self.held.push_back(event.clone());
            }
            return Ok(());
        }
        if let Event::Finish { stop, .. } = event {
            self.stop = Some(stop.clone());
            while self.open.is_some() || !self.held.is_empty() {
                self.close(out)?;
                self.release(out)?;
            }
            return Ok(());
        }
        self.block(event, out)?;
        if matches!(event, Event::CallEnd { .. }) { self.release(out) } else { Ok(()) }
    }

    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>) {
        self.begin(out);
        let stop = self.stop.clone().unwrap_or(Stop::End);
        let (reason, sequence) = reason(&stop);
        let delta = Members::new().put("stop_reason", reason).put("stop_sequence", sequence);
        let usage = usage_of(usage, self.head.input_estimate);
        frame("message_delta", Members::typed("message_delta").put("delta", delta).put("usage", usage), out);
        frame("message_stop", Members::typed("message_stop"), out);
    }

    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing {
        named_frame("error", &crate::messages::error::write(told), out);
        Closing::Clean
    }
}

fn frame(name: &'static str, members: Members, out: &mut Vec<u8>) {
    named_frame(name, &members.to_line(), out);
}

fn envelope(head: &AnswerHead) -> Members {
    Members::new()
        .put("id", format!("msg_{}", head.request))
        .put("type", "message")
        .put("role", "assistant")
        .put("model", &head.model)
}

fn reason(stop: &Stop) -> (&'static str, Json) {
    match stop {
        Stop::End | Stop::Unknown(_) | Stop::StopText(None) => ("end_turn", Json::Null),
        Stop::StopText(Some(text)) => ("stop_sequence", text.into()),
        Stop::OutputCap => ("max_tokens", Json::Null),
        Stop::ContextFull => ("model_context_window_exceeded", Json::Null),
        Stop::ToolCalls => ("tool_use", Json::Null),
        Stop::Filtered => ("refusal", Json::Null),
        Stop::Paused => ("pause_turn", Json::Null),
    }
}

/// Usage as this dialect has it: clients need the two numbers, so an estimate stands in where nobody reported any.
fn usage_of(usage: Option<Usage>, input_estimate: u64) -> Members {
    let usage = usage.unwrap_or_default();
    let apart = usage.cached.unwrap_or_default().saturating_add(usage.cache_write.unwrap_or_default());
    let input = usage.input.map_or(input_estimate, |input| input.saturating_sub(apart));
    let details = usage.reasoning.map(|reasoning| Members::new().put("thinking_tokens", reasoning));
    Members::new()
        .put("input_tokens", input)
        .put("output_tokens", usage.output.unwrap_or_default())
        .some("cache_creation_input_tokens", usage.cache_write)
        .some("cache_read_input_tokens", usage.cached)
        .some("output_tokens_details", details)
}

/// A whole reply.
///
/// # Errors
/// When the arguments of a call are no object.
pub fn whole(answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
    let choice = answer.choices.first().cloned().unwrap_or_default();
    let is_blocked = answer.choices.is_empty();
    let mut content: Vec<Json> = Vec::new();
    for block in &choice.blocks {
        content.push(match block {
            Block::Text { text, citations } => {
                let citations = citations.iter().filter_map(|citation| citation.written(Dialect::Messages, &(0..0)));
                Members::typed("text").put("text", text).list("citations", citations.collect()).into()
            }
            Block::Refusal(text) => Members::typed("text").put("text", text).into(),
            Block::Thinking { text, seal } => thinking(text, seal.as_ref(), head).into(),
            Block::Call { call, id, name, arguments, .. } => Members::typed("tool_use")
                .put("id", id.clone().unwrap_or_else(|| head.call_id(0, *call)))
                .put("name", name)
                .put("input", arguments_object(arguments).ok_or_else(bad_arguments)?)
                .into(),
        });
    }
    let stop = choice.stop.unwrap_or(if is_blocked { Stop::Filtered } else { Stop::End });
    let (reason, sequence) = reason(&stop);
    Ok(envelope(head)
        .put("content", content)
        .put("stop_reason", reason)
        .put("stop_sequence", sequence)
        .put("usage", usage_of(answer.usage, head.input_estimate))
        .to_line())
}

fn thinking(text: &str, seal: Option<&Seal>, head: &AnswerHead) -> Members {
    match seal {
        Some(seal @ Seal::Redacted(_)) => Members::typed("redacted_thinking").put("data", head.seals.mark(seal)),
        Some(seal @ Seal::Signature(_)) => {
            Members::typed("thinking").put("thinking", text).put("signature", head.seals.mark(seal))
        }
        // A seal is never forged; clients read an empty one without complaint, and it is taken out when it comes back.
        None => Members::typed("thinking").put("thinking", text).put("signature", ""),
    }
}
