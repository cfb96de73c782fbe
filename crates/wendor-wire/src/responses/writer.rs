//! Answers for an app of this dialect: a stream frame by frame, and whole replies (`docs/protocols.md` sections 3.3 and 3.4).

use std::collections::BTreeMap;

use crate::cited::Citation;
use crate::codec::{AnswerHead, Closing, ErrorTold, StreamWriter};
use crate::conversation::answer::{Answer, Block};
use crate::conversation::event::{Event, Stop, TokenLogprob, Usage};
use crate::conversation::turn::CallKind;
use crate::dialect::Dialect;
use crate::failure::Failure;
use crate::json::{Json, Members};
use crate::logprobs;
use crate::seal::Seal;
use crate::sse::named_frame;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Text,
    Refusal,
    Thinking,
    Call(u32, CallKind),
}

/// An item on its way.
#[derive(Clone, Debug)]
struct Item {
    kind: Kind,
    id: String,
    call_id: String,
    name: String,
    text: String,
    seal: Option<Seal>,
    logprobs: Vec<TokenLogprob>,
    citations: Vec<Json>,
    is_done: bool,
}

/// Writes a stream.
#[derive(Debug)]
pub struct ResponsesWriter {
    head: AnswerHead,
    sequence: u64,
    has_begun: bool,
    items: Vec<Item>,
    /// Place of each call's item.
    calls: BTreeMap<u32, usize>,
    stop: Option<Stop>,
}

impl ResponsesWriter {
    /// A writer of one answer.
    #[must_use]
    pub fn new(head: AnswerHead) -> Self {
        Self { head, sequence: 0, has_begun: false, items: Vec::new(), calls: BTreeMap::new(), stop: None }
    }

    fn frame(&mut self, name: &'static str, members: Members, out: &mut Vec<u8>) {
        let line = members.put("sequence_number", self.sequence).to_line();
        self.sequence += 1;
        named_frame(name, &line, out);
    }

    fn begin(&mut self, out: &mut Vec<u8>) {
        if self.has_begun {
            return;
        }
        self.has_begun = true;
        for name in ["response.created", "response.in_progress"] {
            let response = response(&self.head, "in_progress", Vec::new()).put("usage", Json::Null);
            self.frame(name, Members::typed(name).put("response", response), out);
        }
    }

    /// The last item, if it is of that kind and still open.
    fn open_item(&self, kind: Kind) -> Option<usize> {
        let last = self.items.len().checked_sub(1)?;
        self.items.get(last).filter(|item| item.kind == kind && !item.is_done).map(|_| last)
    }

    fn add(&mut self, kind: Kind, call_id: String, name: String, out: &mut Vec<u8>) -> usize {
        // Texts and thinking do not interleave; calls may.
        self.close_said(out);
        let place = self.items.len();
        let prefix = match kind {
            Kind::Text | Kind::Refusal => "msg",
            Kind::Thinking => "rs",
            Kind::Call(_, CallKind::Function) => "fc",
            Kind::Call(_, CallKind::Custom) => "ctc",
        };
        let id = format!("{prefix}_{}_{place}", self.head.request);
        let item = Item {
            kind,
            id,
            call_id,
            name,
            text: String::new(),
            seal: None,
            logprobs: Vec::new(),
            citations: Vec::new(),
            is_done: false,
        };
        let added = Members::typed("response.output_item.added").put("output_index", place);
        self.frame("response.output_item.added", added.put("item", item_of(&item, "in_progress", &self.head)), out);
        if let Some(part) = part_of(&item) {
            let name = part_event(kind, "added");
            let members = self.at(&item, place, name).put("part", part);
            self.frame(name, members, out);
        }
        self.items.push(item);
        place
    }

    /// The members that say where something stands.
    fn at(&self, item: &Item, place: usize, event: &'static str) -> Members {
        let members = Members::typed(event).put("item_id", &item.id).put("output_index", place);
        match item.kind {
            Kind::Thinking => members.put("summary_index", 0u64),
            Kind::Text | Kind::Refusal => members.put("content_index", 0u64),
            Kind::Call(..) => members,
        }
    }

    fn said(&mut self, kind: Kind, piece: &str, out: &mut Vec<u8>) {
        let place = match self.open_item(kind) {
            Some(place) => place,
            None => self.add(kind, String::new(), String::new(), out),
        };
        self.piece(place, piece, out);
    }

    fn piece(&mut self, place: usize, piece: &str, out: &mut Vec<u8>) {
        if let Some(item) = self.items.get_mut(place) {
            item.text.push_str(piece);
        }
        let Some(item) = self.items.get(place) else { return };
        let name = delta_event(item.kind);
        let members = self.at(item, place, name).put("delta", piece);
        let members = if item.kind == Kind::Text { members.put("logprobs", Vec::new()) } else { members };
        self.frame(name, members, out);
    }

    fn close_said(&mut self, out: &mut Vec<u8>) {
        let open = self.items.len().checked_sub(1);
        let is_said = |item: &Item| !matches!(item.kind, Kind::Call(..)) && !item.is_done;
        if let Some(place) = open.filter(|place| self.items.get(*place).is_some_and(is_said)) {
            self.close(place, out);
        }
    }

    fn close(&mut self, place: usize, out: &mut Vec<u8>) {
        let Some(item) = self.items.get_mut(place).filter(|item| !item.is_done) else { return };
        item.is_done = true;
        let item = item.clone();
        let name = done_event(item.kind);
        let done = self.at(&item, place, name);
        let done = match item.kind {
            Kind::Text => done.put("text", &item.text).put("logprobs", logprobs::write(&item.logprobs)),
            Kind::Thinking => done.put("text", &item.text),
            Kind::Refusal => done.put("refusal", &item.text),
            Kind::Call(_, CallKind::Function) => done.put("name", &item.name).put("arguments", &item.text),
            Kind::Call(_, CallKind::Custom) => done.put("input", &item.text),
        };
        self.frame(name, done, out);
        if let Some(part) = part_of(&item) {
            let name = part_event(item.kind, "done");
            let members = self.at(&item, place, name).put("part", part);
            self.frame(name, members, out);
        }
        let done = Members::typed("response.output_item.done").put("output_index", place);
        self.frame("response.output_item.done", done.put("item", item_of(&item, "completed", &self.head)), out);
    }

    /// A source of the last text.
    fn cited(&mut self, citation: &Citation, out: &mut Vec<u8>) {
        let Some(item) = self.items.last_mut().filter(|item| item.kind == Kind::Text) else { return };
        let Some(written) = citation.written(Dialect::Responses, &(0..item.text.chars().count())) else { return };
        item.citations.push(written.clone());
        let (item, place) = (item.clone(), self.items.len() - 1);
        let name = "response.output_text.annotation.added";
        let members = self.at(&item, place, name).put("annotation_index", item.citations.len() - 1);
        self.frame(name, members.put("annotation", written), out);
    }

    fn sealed(&mut self, seal: &Seal, out: &mut Vec<u8>) {
        let place = match self.open_item(Kind::Thinking) {
            Some(place) => place,
            None => self.add(Kind::Thinking, String::new(), String::new(), out),
        };
        if let Some(item) = self.items.get_mut(place) {
            item.seal = Some(seal.clone());
        }
        self.close(place, out);
    }
}

impl StreamWriter for ResponsesWriter {
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        self.begin(out);
        match event {
            Event::Text { text, .. } => self.said(Kind::Text, text, out),
            Event::Refusal { text, .. } => self.said(Kind::Refusal, text, out),
            Event::Thinking { text, .. } => self.said(Kind::Thinking, text, out),
            Event::NextBlock { .. } => self.close_said(out),
            Event::Sealed { seal, .. } => self.sealed(seal, out),
            Event::Call { choice, call, id, name, kind } => {
                let id = id.clone().unwrap_or_else(|| self.head.call_id(*choice, *call));
                let place = self.add(Kind::Call(*call, *kind), id, name.clone(), out);
                self.calls.insert(*call, place);
            }
            Event::Arguments { call, fragment, .. } => {
                if let Some(place) = self.calls.get(call).copied() {
                    self.piece(place, fragment, out);
                }
            }
            Event::CallEnd { call, .. } => {
                if let Some(place) = self.calls.get(call).copied() {
                    self.close(place, out);
                }
            }
            Event::Logprobs { tokens, .. } => {
                if let Some(item) = self.open_item(Kind::Text).and_then(|place| self.items.get_mut(place)) {
                    item.logprobs.extend(tokens.iter().cloned());
                }
            }
            Event::Finish { stop, .. } => {
                for place in 0..self.items.len() {
                    self.close(place, out);
                }
                self.stop = Some(stop.clone());
            }
            Event::Citation { citation, .. } => self.cited(citation, out),
            Event::Image { .. } | Event::Usage(_) => {}
        }
        Ok(())
    }

    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>) {
        self.begin(out);
        let stop = self.stop.clone().unwrap_or(Stop::End);
        let status = status_of(&stop);
        let items = self.items.iter().map(|item| item_of(item, "completed", &self.head).into()).collect();
        let response = ended(response(&self.head, status, items), &stop, usage);
        let name = if status == "completed" { "response.completed" } else { "response.incomplete" };
        self.frame(name, Members::typed(name).put("response", response), out);
    }

    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing {
        let id = format!("resp_{}", self.head.request);
        out.extend_from_slice(crate::responses::error::frames(told, &id, self.sequence).as_bytes());
        Closing::Clean
    }
}

fn delta_event(kind: Kind) -> &'static str {
    match kind {
        Kind::Text => "response.output_text.delta",
        Kind::Refusal => "response.refusal.delta",
        Kind::Thinking => "response.reasoning_summary_text.delta",
        Kind::Call(_, CallKind::Function) => "response.function_call_arguments.delta",
        Kind::Call(_, CallKind::Custom) => "response.custom_tool_call_input.delta",
    }
}

fn done_event(kind: Kind) -> &'static str {
    match kind {
        Kind::Text => "response.output_text.done",
        Kind::Refusal => "response.refusal.done",
        Kind::Thinking => "response.reasoning_summary_text.done",
        Kind::Call(_, CallKind::Function) => "response.function_call_arguments.done",
        Kind::Call(_, CallKind::Custom) => "response.custom_tool_call_input.done",
    }
}

fn part_event(kind: Kind, which: &str) -> &'static str {
    match (kind, which) {
        (Kind::Thinking, "added") => "response.reasoning_summary_part.added",
        (Kind::Thinking, _) => "response.reasoning_summary_part.done",
        (_, "added") => "response.content_part.added",
        (_, _) => "response.content_part.done",
    }
}

fn part_of(item: &Item) -> Option<Members> {
    match item.kind {
        Kind::Text => Some(text_part(item)),
        Kind::Refusal => Some(Members::typed("refusal").put("refusal", &item.text)),
        Kind::Thinking => Some(Members::typed("summary_text").put("text", &item.text)),
        Kind::Call(..) => None,
    }
}

fn text_part(item: &Item) -> Members {
    Members::typed("output_text")
        .put("text", &item.text)
        .put("annotations", item.citations.clone())
        .put("logprobs", logprobs::write(&item.logprobs))
}

/// An item as it stands in frames and in the reply; while it is in progress its content is empty.
fn item_of(item: &Item, status: &'static str, head: &AnswerHead) -> Members {
    let is_whole = status == "completed";
    let members = Members::new().put("id", &item.id);
    match item.kind {
        Kind::Text | Kind::Refusal => {
            let content = if is_whole { part_of(item).map(Json::from).into_iter().collect() } else { Vec::new() };
            members.put("type", "message").put("status", status).put("role", "assistant").put("content", content)
        }
        Kind::Thinking => {
            let summary = if is_whole && !item.text.is_empty() {
                vec![Members::typed("summary_text").put("text", &item.text).into()]
            } else {
                Vec::new()
            };
            let seal = item.seal.as_ref().filter(|_| is_whole).map(|seal| head.seals.mark(seal));
            members.put("type", "reasoning").put("summary", summary).some("encrypted_content", seal)
        }
        Kind::Call(_, kind) => {
            let text = if is_whole { item.text.as_str() } else { "" };
            let (word, arguments) = match kind {
                CallKind::Function => ("function_call", "arguments"),
                CallKind::Custom => ("custom_tool_call", "input"),
            };
            members
                .put("type", word)
                .put("status", status)
                .put("call_id", &item.call_id)
                .put("name", &item.name)
                .put(arguments, text)
        }
    }
}

fn response(head: &AnswerHead, status: &'static str, output: Vec<Json>) -> Members {
    Members::new()
        .put("id", format!("resp_{}", head.request))
        .put("object", "response")
        .put("created_at", head.created())
        .put("status", status)
        .put("background", false)
        .put("error", Json::Null)
        .put("instructions", Json::Null)
        .put("model", &head.model)
        .put("output", output)
        .put("parallel_tool_calls", true)
        .put("previous_response_id", Json::Null)
        .put("store", false)
        .put("tool_choice", "auto")
        .put("tools", Vec::new())
        .put("metadata", Members::new())
}

fn status_of(stop: &Stop) -> &'static str {
    match stop {
        Stop::OutputCap | Stop::ContextFull | Stop::Filtered | Stop::Paused => "incomplete",
        Stop::End | Stop::StopText(_) | Stop::ToolCalls | Stop::Unknown(_) => "completed",
    }
}

fn ended(response: Members, stop: &Stop, usage: Option<Usage>) -> Members {
    let details = match stop {
        Stop::OutputCap | Stop::ContextFull => Members::new().put("reason", "max_output_tokens").into(),
        Stop::Filtered => Members::new().put("reason", "content_filter").into(),
        Stop::Paused => Members::new().put("reason", "max_messages").into(),
        Stop::End | Stop::StopText(_) | Stop::ToolCalls | Stop::Unknown(_) => Json::Null,
    };
    response.put("incomplete_details", details).some("usage", usage.map(usage_of))
}

fn usage_of(usage: Usage) -> Members {
    let (input, output) = (usage.input.unwrap_or_default(), usage.output.unwrap_or_default());
    // The strictest readers want the details there.
    let input_details = Members::new()
        .put("cached_tokens", usage.cached.unwrap_or_default())
        .some("cache_write_tokens", usage.cache_write);
    let output_details = Members::new().put("reasoning_tokens", usage.reasoning.unwrap_or_default());
    Members::new()
        .put("input_tokens", input)
        .put("input_tokens_details", input_details)
        .put("output_tokens", output)
        .put("output_tokens_details", output_details)
        .put("total_tokens", input.saturating_add(output))
}

/// A whole reply.
#[must_use]
pub fn whole(answer: &Answer, head: &AnswerHead) -> String {
    let choice = answer.choices.first().cloned().unwrap_or_default();
    let stop = choice.stop.clone().unwrap_or(if answer.choices.is_empty() { Stop::Filtered } else { Stop::End });
    let mut logprobs = choice.logprobs.clone();
    let mut items: Vec<Json> = Vec::new();
    for (place, block) in choice.blocks.iter().enumerate() {
        let item = whole_item(place, block, head, &mut logprobs);
        items.push(item_of(&item, "completed", head).into());
    }
    ended(response(head, status_of(&stop), items), &stop, answer.usage).to_line()
}

fn whole_item(place: usize, block: &Block, head: &AnswerHead, logprobs: &mut Vec<TokenLogprob>) -> Item {
    let none = String::new;
    let (kind, prefix, call_id, name, text, seal) = match block {
        Block::Text { text, .. } => (Kind::Text, "msg", none(), none(), text.clone(), None),
        Block::Refusal(text) => (Kind::Refusal, "msg", none(), none(), text.clone(), None),
        Block::Thinking { text, seal } => (Kind::Thinking, "rs", none(), none(), text.clone(), seal.clone()),
        Block::Call { call, id, name, arguments, kind } => {
            let id = id.clone().unwrap_or_else(|| head.call_id(0, *call));
            (Kind::Call(*call, *kind), "fc", id, name.clone(), arguments.clone(), None)
        }
    };
    let logprobs = if kind == Kind::Text { std::mem::take(logprobs) } else { Vec::new() };
    let citations = match block {
        Block::Text { text, citations } => {
            let letters = 0..text.chars().count();
            citations.iter().filter_map(|citation| citation.written(Dialect::Responses, &letters)).collect()
        }
        Block::Refusal(_) | Block::Thinking { .. } | Block::Call { .. } => Vec::new(),
    };
    let id = format!("{prefix}_{}_{place}", head.request);
    Item { kind, id, call_id, name, text, seal, logprobs, citations, is_done: true }
}
