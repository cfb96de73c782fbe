//! Answers for an app of this dialect: a line a piece, and whole replies (`docs/protocols.md` section 6.3). A call goes out whole, its arguments
//! as an object.

use std::collections::BTreeMap;

use chrono::SecondsFormat;

use crate::codec::{AnswerHead, Closing, ErrorTold, StreamWriter};
use crate::conversation::FunctionForm;
use crate::conversation::answer::{Answer, Block};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::turn::arguments_object;
use crate::failure::Failure;
use crate::gaps::{Gaps, Said};
use crate::json::{Json, Members};
use crate::logprobs;
use crate::malformed::bad_arguments;

/// Writes a stream.
#[derive(Debug)]
pub struct LocalWriter {
    head: AnswerHead,
    /// Calls whose arguments are still coming.
    calls: BTreeMap<u32, (String, String)>,
    stop: Option<Stop>,
    gaps: Gaps,
}

impl LocalWriter {
    /// A writer of one answer.
    #[must_use]
    pub fn new(head: AnswerHead) -> Self {
        Self { head, calls: BTreeMap::new(), stop: None, gaps: Gaps::default() }
    }

    fn line(&self, message: Members, out: &mut Vec<u8>) {
        let line = answered(&self.head, message).put("done", false).to_line();
        out.extend_from_slice(line.as_bytes());
        out.push(b'\n');
    }

    fn message(&self, content: &str) -> Members {
        message(&self.head, content)
    }

    fn call(&mut self, call: u32, out: &mut Vec<u8>) -> Result<(), Failure> {
        let Some((name, arguments)) = self.calls.remove(&call) else { return Ok(()) };
        self.line(self.message("").put("tool_calls", vec![function(&name, &arguments)?]), out);
        Ok(())
    }
}

/// What is said, in the form in which the app asked.
fn message(head: &AnswerHead, content: &str) -> Members {
    if head.functions == FunctionForm::Prompt {
        return Members::new().put("response", content);
    }
    Members::new().put("role", "assistant").put("content", content)
}

/// A line with what is said.
fn answered(head: &AnswerHead, message: Members) -> Members {
    if head.functions == FunctionForm::Prompt {
        envelope(head).with(message)
    } else {
        envelope(head).put("message", message)
    }
}

fn function(name: &str, arguments: &str) -> Result<Json, Failure> {
    let arguments = arguments_object(arguments).ok_or_else(bad_arguments)?;
    let function = Members::new().put("name", name).put("arguments", arguments);
    Ok(Members::new().put("function", function).into())
}

fn envelope(head: &AnswerHead) -> Members {
    Members::new().put("model", &head.model).put("created_at", head.at.to_rfc3339_opts(SecondsFormat::Millis, true))
}

impl StreamWriter for LocalWriter {
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        match event {
            Event::Text { text, .. } | Event::Refusal { text, .. } => {
                let text = format!("{}{text}", self.gaps.before(0, Said::Text));
                self.line(self.message(&text), out);
            }
            Event::NextBlock { .. } => self.gaps.next_block(0),
            Event::Thinking { text, .. } => {
                let text = format!("{}{text}", self.gaps.before(0, Said::Thinking));
                self.line(self.message("").put("thinking", text), out);
            }
            Event::Call { call, name, .. } => {
                self.calls.insert(*call, (name.clone(), String::new()));
            }
            Event::Arguments { call, fragment, .. } => {
                if let Some((_, arguments)) = self.calls.get_mut(call) {
                    arguments.push_str(fragment);
                }
            }
            Event::CallEnd { call, .. } => self.call(*call, out)?,
            Event::Logprobs { tokens, .. } => {
                let line = answered(&self.head, self.message("")).put("logprobs", logprobs::write(tokens));
                out.extend_from_slice(line.put("done", false).to_line().as_bytes());
                out.push(b'\n');
            }
            Event::Finish { stop, .. } => {
                while let Some(call) = self.calls.keys().next().copied() {
                    self.call(call, out)?;
                }
                self.stop = Some(stop.clone());
            }
            Event::Sealed { .. } | Event::Image { .. } | Event::Citation { .. } | Event::Usage(_) => {}
        }
        Ok(())
    }

    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>) {
        let stop = self.stop.clone().unwrap_or(Stop::End);
        let line = done(answered(&self.head, self.message("")), &stop, usage).to_line();
        out.extend_from_slice(line.as_bytes());
        out.push(b'\n');
    }

    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing {
        out.extend_from_slice(crate::local_chat::error::write(told).as_bytes());
        out.push(b'\n');
        Closing::Clean
    }
}

fn done(line: Members, stop: &Stop, usage: Option<Usage>) -> Members {
    let reason = match stop {
        Stop::OutputCap | Stop::ContextFull => "length",
        Stop::End | Stop::StopText(_) | Stop::ToolCalls | Stop::Filtered | Stop::Paused | Stop::Unknown(_) => "stop",
    };
    let usage = usage.unwrap_or_default();
    line.put("done", true)
        .put("done_reason", reason)
        .some("prompt_eval_count", usage.input)
        .some("eval_count", usage.output)
}

/// A whole reply.
///
/// # Errors
/// When the arguments of a call are no object.
pub fn whole(answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
    let choice = answer.choices.first().cloned().unwrap_or_default();
    let mut calls: Vec<Json> = Vec::new();
    let mut text = choice.text_of();
    text.push_str(&choice.refusal_of().unwrap_or_default());
    for block in &choice.blocks {
        match block {
            Block::Call { name, arguments, .. } => calls.push(function(name, arguments)?),
            Block::Text { .. } | Block::Refusal(_) | Block::Thinking { .. } => {}
        }
    }
    let thinking = choice.thinking_of();
    let message = message(head, &text);
    let message = if thinking.is_empty() { message } else { message.put("thinking", thinking) };
    let reply = answered(head, message.list("tool_calls", calls));
    let reply = reply.list("logprobs", logprobs::write(&choice.logprobs));
    Ok(done(reply, choice.stop.as_ref().unwrap_or(&Stop::End), answer.usage).to_line())
}
