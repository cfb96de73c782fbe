//! Answers of this dialect as events: a JSON object a line, or one object (`docs/protocols.md` section 6.3).

use bytes::Bytes;

use crate::codec::{Closing, ErrorTold, FrameKind, StreamReader};
use crate::conversation::event::{Event, Stop, Usage};
use crate::conversation::turn::CallKind;
use crate::failure::{Failure, FailureKind};
use crate::json::{Node, Object, Wrong};
use crate::logprobs;
use crate::malformed::malformed;
use crate::sse::SseFrame;
use crate::upstream_error::failure_of_class;

/// Reads a stream.
#[derive(Debug, Default)]
pub struct LocalReader {
    calls: u32,
    is_done: bool,
}

impl StreamReader for LocalReader {
    fn read(&mut self, data: &[u8], events: &mut Vec<Event>) -> Result<FrameKind, Failure> {
        let text = std::str::from_utf8(data)
            .map_err(|_| Failure::new(FailureKind::Malformed, "a line of its stream is not UTF-8"))?;
        let mut line = Node::new(text.trim(), "").object().map_err(|wrong| malformed(&wrong))?;
        if line.clone().take("error").is_some() {
            // A text here tells nothing that could be told apart.
            return Err(failure_of_class(None));
        }
        let before = events.len();
        self.line(&mut line, events).map_err(|wrong| malformed(&wrong))?;
        Ok(match (self.is_done, events.len() > before) {
            (true, _) => FrameKind::Done,
            (false, true) => FrameKind::Piece,
            (false, false) => FrameKind::Opening,
        })
    }

    fn is_finished(&self) -> bool {
        self.is_done
    }

    fn own_error(&self, frame: &SseFrame) -> Option<Bytes> {
        let text = std::str::from_utf8(frame.data.as_deref()?).ok()?;
        // An object here crashes clients.
        Node::new(text, "").object().ok()?.text("error").ok()??;
        Some(frame.raw.clone())
    }

    fn broken_off(&self, told: &ErrorTold) -> (String, Closing) {
        (format!("{}\n", crate::local_chat::error::write(told)), Closing::Clean)
    }
}

impl LocalReader {
    fn line(&mut self, line: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        if let Some(mut message) = line.object("message")? {
            self.message(&mut message, events)?;
        }
        // `/api/generate` has its text beside.
        let of = |text: Option<String>| text.filter(|text| !text.is_empty());
        events.extend(of(line.text("thinking")?).map(|text| Event::Thinking { choice: 0, text }));
        events.extend(of(line.text("response")?).map(|text| Event::Text { choice: 0, text }));
        let tokens = logprobs::read(&line.list("logprobs")?)?;
        if !tokens.is_empty() {
            events.push(Event::Logprobs { choice: 0, tokens });
        }
        if line.flag("done")?.unwrap_or(false) {
            self.is_done = true;
            let reason = line.text("done_reason")?;
            let stop = match reason.as_deref() {
                _ if self.calls > 0 => Stop::ToolCalls,
                Some("stop" | "load" | "unload") | None => Stop::End,
                Some("length") => Stop::OutputCap,
                Some(other) => Stop::Unknown(other.to_owned()),
            };
            events.push(Event::Finish { choice: 0, stop });
            // What cannot be read is not reported; the answer is none the worse.
            let mut count = |name| line.count(name).ok().flatten();
            let (input, output) = (count("prompt_eval_count"), count("eval_count"));
            if input.is_some() || output.is_some() {
                events.push(Event::Usage(Usage { input, output, ..Usage::default() }));
            }
        }
        Ok(())
    }

    fn message(&mut self, message: &mut Object<'_>, events: &mut Vec<Event>) -> Result<(), Wrong> {
        let of = |text: Option<String>| text.filter(|text| !text.is_empty());
        events.extend(of(message.text("thinking")?).map(|text| Event::Thinking { choice: 0, text }));
        events.extend(of(message.text("content")?).map(|text| Event::Text { choice: 0, text }));
        for node in message.list("tool_calls")? {
            let mut call = node.object()?;
            let id = call.text("id")?;
            let mut function = call.required("function", "an object with `name`")?.object()?;
            let call = self.calls;
            self.calls += 1;
            let name = function.required_text("name", "the function's name")?;
            events.push(Event::Call { choice: 0, call, id, name, kind: CallKind::Function });
            let fragment =
                function.take("arguments").map_or_else(|| "{}".to_owned(), |node| node.raw().as_str().to_owned());
            events.push(Event::Arguments { choice: 0, call, fragment });
            events.push(Event::CallEnd { choice: 0, call });
        }
        Ok(())
    }
}

/// Reads a whole reply.
///
/// # Errors
/// When it is none.
pub fn read_whole(body: &[u8]) -> Result<Vec<Event>, Failure> {
    let text =
        std::str::from_utf8(body).map_err(|_| Failure::new(FailureKind::Malformed, "its answer is not UTF-8"))?;
    let mut reply = Node::new(text.trim(), "").object().map_err(|wrong| malformed(&wrong))?;
    if reply.clone().take("error").is_some() {
        return Err(Failure::new(FailureKind::Malformed, "it answered with an error under status 200"));
    }
    let (mut events, mut reader) = (Vec::new(), LocalReader::default());
    reader.line(&mut reply, &mut events).map_err(|wrong| malformed(&wrong))?;
    if !reader.is_done {
        return Err(Failure::new(FailureKind::CutOff, "its answer is not done"));
    }
    Ok(events)
}
