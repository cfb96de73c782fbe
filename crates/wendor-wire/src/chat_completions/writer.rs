//! Answers for an app of this dialect: a stream frame by frame, and whole replies (`docs/protocols.md` sections 2.4 and 2.5).

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::chat_completions::stream::DONE_FRAME;
use crate::codec::{AnswerHead, Closing, ErrorTold, StreamWriter};
use crate::conversation::answer::{Answer, Block, Choice};
use crate::conversation::event::{Event, Stop, TokenLogprob, Usage};
use crate::conversation::turn::CallKind;
use crate::conversation::{FunctionForm, UsageFrame};
use crate::dialect::Dialect;
use crate::failure::Failure;
use crate::gaps::{Gaps, Said};
use crate::json::{Json, Members};
use crate::logprobs;
use crate::sse::data_frame;

/// Writes a stream.
#[derive(Debug)]
pub struct ChatWriter {
    head: AnswerHead,
    /// Choices that have begun.
    choices: BTreeSet<u32>,
    /// Why each ended: told once, at the end, whatever the upstream says how often.
    stops: BTreeMap<u32, Stop>,
    gaps: Gaps,
    /// The letters of the block that is being written, by choice: sources are named by their place.
    letters: BTreeMap<u32, Range<usize>>,
}

impl ChatWriter {
    /// A writer of one answer.
    #[must_use]
    pub fn new(head: AnswerHead) -> Self {
        Self { head, choices: BTreeSet::new(), stops: BTreeMap::new(), gaps: Gaps::default(), letters: BTreeMap::new() }
    }

    fn chunk(&self, choices: Vec<Json>, usage: Option<Members>) -> String {
        let chunk = envelope(&self.head, "chat.completion.chunk").put("choices", choices);
        match (self.head.usage_frame, usage) {
            (UsageFrame::NotAsked, _) => chunk,
            (UsageFrame::Asked, Some(usage)) => chunk.put("usage", usage),
            (UsageFrame::Asked, None) => chunk.put("usage", Json::Null),
        }
        .to_line()
    }

    fn delta(&mut self, choice: u32, delta: Members, out: &mut Vec<u8>) {
        self.begin(choice, out);
        self.choice(choice, delta, Json::Null, Json::Null, out);
    }

    fn choice(&self, index: u32, delta: Members, logprobs: Json, finish: Json, out: &mut Vec<u8>) {
        let choice = Members::new().put("index", index).put("delta", delta).put("logprobs", logprobs);
        data_frame(&self.chunk(vec![choice.put("finish_reason", finish).into()], None), out);
    }

    /// A choice begins with its role, once, and not before the choices that stand before it: clients count on both.
    fn begin(&mut self, choice: u32, out: &mut Vec<u8>) {
        for index in 0..=choice {
            if self.choices.insert(index) {
                let role = Members::new().put("role", "assistant").put("content", "");
                self.choice(index, role, Json::Null, Json::Null, out);
            }
        }
    }

    fn call(&self, choice: u32, call: u32, id: Option<&String>, name: &str, kind: CallKind) -> Members {
        if self.head.functions == FunctionForm::Functions {
            let function = Members::new().put("name", name).put("arguments", "");
            return Members::new().put("function_call", function);
        }
        let id = id.cloned().unwrap_or_else(|| self.head.call_id(choice, call));
        let first = Members::new().put("index", call).put("id", id);
        let first = match kind {
            CallKind::Function => {
                first.put("type", "function").put("function", Members::new().put("name", name).put("arguments", ""))
            }
            CallKind::Custom => {
                first.put("type", "custom").put("custom", Members::new().put("name", name).put("input", ""))
            }
        };
        Members::new().put("tool_calls", vec![first.into()])
    }

    fn arguments(&self, call: u32, fragment: &str) -> Members {
        let function = Members::new().put("arguments", fragment);
        if self.head.functions == FunctionForm::Functions {
            return Members::new().put("function_call", function);
        }
        Members::new().put("tool_calls", vec![Members::new().put("index", call).put("function", function).into()])
    }
}

impl StreamWriter for ChatWriter {
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        match event {
            Event::Text { choice, text } => {
                let gap = self.gaps.before(*choice, Said::Text);
                let letters = self.letters.entry(*choice).or_default();
                if !gap.is_empty() {
                    *letters = letters.end + gap.len()..letters.end + gap.len();
                }
                letters.end += text.chars().count();
                let text = format!("{gap}{text}");
                self.delta(*choice, Members::new().put("content", text), out);
            }
            Event::NextBlock { choice } => self.gaps.next_block(*choice),
            Event::Refusal { choice, text } => self.delta(*choice, Members::new().put("refusal", text), out),
            Event::Thinking { choice, text } => {
                let text = format!("{}{text}", self.gaps.before(*choice, Said::Thinking));
                self.delta(*choice, Members::new().put("reasoning_content", text), out);
            }
            Event::Call { choice, call, id, name, kind } => {
                let delta = self.call(*choice, *call, id.as_ref(), name, *kind);
                self.delta(*choice, delta, out);
            }
            Event::Arguments { choice, call, fragment } => {
                let delta = self.arguments(*call, fragment);
                self.delta(*choice, delta, out);
            }
            Event::Logprobs { choice, tokens } => {
                self.begin(*choice, out);
                self.choice(*choice, Members::new(), logprobs(tokens), Json::Null, out);
            }
            Event::Finish { choice, stop } => {
                self.begin(*choice, out);
                self.stops.insert(*choice, stop.clone());
            }
            Event::Citation { choice, citation } => {
                let letters = self.letters.get(choice).cloned().unwrap_or_default();
                if let Some(written) = citation.written(Dialect::ChatCompletions, &letters) {
                    self.delta(*choice, Members::new().put("annotations", vec![written]), out);
                }
            }
            // Seals have no place here; usage goes out last.
            Event::Sealed { .. } | Event::CallEnd { .. } | Event::Image { .. } | Event::Usage(_) => {}
        }
        Ok(())
    }

    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>) {
        for (choice, stop) in std::mem::take(&mut self.stops) {
            let reason = reason(&stop, self.head.functions);
            self.choice(choice, Members::new(), Json::Null, reason.into(), out);
        }
        if let (UsageFrame::Asked, Some(usage)) = (self.head.usage_frame, usage) {
            data_frame(&self.chunk(Vec::new(), Some(usage_of(usage))), out);
        }
        out.extend_from_slice(DONE_FRAME.as_bytes());
    }

    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing {
        data_frame(&crate::error_object::write(told), out);
        Closing::Clean
    }
}

fn envelope(head: &AnswerHead, object: &'static str) -> Members {
    Members::new()
        .put("id", format!("chat-{}", head.request))
        .put("object", object)
        .put("created", head.created())
        .put("model", &head.model)
}

/// A whole reply.
#[must_use]
pub fn whole(answer: &Answer, head: &AnswerHead) -> String {
    let empty = [Choice { stop: Some(Stop::Filtered), ..Choice::default() }];
    // A blocked prompt has no choice; clients fail over an empty list.
    let choices = if answer.choices.is_empty() { &empty[..] } else { &answer.choices };
    let choices = choices.iter().enumerate().map(|(index, choice)| choice_of(index, choice, head)).collect::<Vec<_>>();
    let reply = envelope(head, "chat.completion").put("choices", choices);
    reply.some("usage", answer.usage.map(usage_of)).to_line()
}

fn choice_of(index: usize, choice: &Choice, head: &AnswerHead) -> Json {
    let text = choice.text_of();
    let content = if text.is_empty() && choice.has_calls() { Json::Null } else { text.into() };
    let message = Members::new().put("role", "assistant").put("content", content);
    let message = message.put("refusal", choice.refusal_of().map_or(Json::Null, Json::from));
    let thinking = choice.thinking_of();
    let message = if thinking.is_empty() { message } else { message.put("reasoning_content", thinking) };
    let message = message.list("annotations", citations(choice));
    let calls = calls(index, choice, head);
    let message = match (head.functions, choice.has_calls()) {
        (FunctionForm::Functions, true) => message.some("function_call", first_function(choice)),
        (FunctionForm::Functions | FunctionForm::Tools | FunctionForm::Prompt, _) => message.list("tool_calls", calls),
    };
    let stop = choice.stop.as_ref().unwrap_or(&Stop::End);
    Members::new()
        .put("index", index)
        .put("message", message)
        .put("logprobs", logprobs(&choice.logprobs))
        .put("finish_reason", reason(stop, head.functions))
        .into()
}

fn citations(choice: &Choice) -> Vec<Json> {
    let (mut written, mut begin) = (Vec::new(), 0);
    for block in &choice.blocks {
        match block {
            Block::Text { text, citations } => {
                let letters = begin..begin + text.chars().count();
                written.extend(
                    citations.iter().filter_map(|citation| citation.written(Dialect::ChatCompletions, &letters)),
                );
                begin = letters.end + choice.gap().len();
            }
            Block::Refusal(_) | Block::Thinking { .. } | Block::Call { .. } => {}
        }
    }
    written
}

fn calls(index: usize, choice: &Choice, head: &AnswerHead) -> Vec<Json> {
    let index = u32::try_from(index).unwrap_or_default();
    let one = |block: &Block| match block {
        Block::Call { call, id, name, arguments, kind } => {
            let id = id.clone().unwrap_or_else(|| head.call_id(index, *call));
            let members = Members::new().put("id", id);
            Some(match kind {
                CallKind::Function => members
                    .put("type", "function")
                    .put("function", Members::new().put("name", name).put("arguments", arguments))
                    .into(),
                CallKind::Custom => members
                    .put("type", "custom")
                    .put("custom", Members::new().put("name", name).put("input", arguments))
                    .into(),
            })
        }
        Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => None,
    };
    choice.blocks.iter().filter_map(one).collect()
}

fn first_function(choice: &Choice) -> Option<Members> {
    choice.blocks.iter().find_map(|block| match block {
        Block::Call { name, arguments, .. } => Some(Members::new().put("name", name).put("arguments", arguments)),
        Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => None,
    })
}

fn reason(stop: &Stop, functions: FunctionForm) -> &'static str {
    match stop {
        Stop::End | Stop::StopText(_) | Stop::Paused | Stop::Unknown(_) => "stop",
        Stop::OutputCap | Stop::ContextFull => "length",
        Stop::ToolCalls if functions == FunctionForm::Functions => "function_call",
        Stop::ToolCalls => "tool_calls",
        Stop::Filtered => "content_filter",
    }
}

fn logprobs(tokens: &[TokenLogprob]) -> Json {
    if tokens.is_empty() {
        return Json::Null;
    }
    let content = logprobs::write(tokens);
    Members::new().put("content", content).put("refusal", Json::Null).into()
}

/// Usage as this dialect has it. What nobody reported is left out.
pub(crate) fn usage_of(usage: Usage) -> Members {
    let (input, output) = (usage.input.unwrap_or_default(), usage.output.unwrap_or_default());
    let prompt = Members::new().some("cached_tokens", usage.cached).some("cache_write_tokens", usage.cache_write);
    let completion = Members::new().some("reasoning_tokens", usage.reasoning);
    Members::new()
        .put("prompt_tokens", input)
        .put("completion_tokens", output)
        .put("total_tokens", input.saturating_add(output))
        .nested("prompt_tokens_details", prompt)
        .nested("completion_tokens_details", completion)
}
