//! Answers for an app of this dialect: a stream frame by frame, and whole replies (`docs/protocols.md` sections 5.3 and 5.4). A call goes out
//! whole; the frame with the reason is the last.

use std::collections::BTreeMap;

use crate::codec::{AnswerHead, Closing, ErrorTold, StreamWriter};
use crate::conversation::answer::{Answer, Block, Choice};
use crate::conversation::event::{Event, Stop, TokenLogprob, Usage};
use crate::conversation::turn::arguments_object;
use crate::failure::Failure;
use crate::gaps::{GAP, Gaps, Said};
use crate::json::{Json, Members};
use crate::malformed::bad_arguments;
use crate::sse::data_frame;

/// Writes a stream.
#[derive(Debug)]
pub struct ContentWriter {
    head: AnswerHead,
    /// Calls whose arguments are still coming: id, name, arguments so far.
    calls: BTreeMap<(u32, u32), (String, String, String)>,
    /// What the frame with the reason will hold of each choice.
    last: BTreeMap<u32, Last>,
    stops: BTreeMap<u32, Stop>,
    gaps: Gaps,
}

/// What was kept back of a choice: older clients throw away a turn whose last frame holds nothing. Of a text it is the last letter alone,
/// so that nobody waits for the rest.
#[derive(Debug, Default)]
struct Last {
    part: Option<LastPart>,
    logprobs: Vec<TokenLogprob>,
}

#[derive(Debug)]
enum LastPart {
    Text { text: String, is_thought: bool },
    Whole(Members),
}

impl LastPart {
    fn members(self) -> Members {
        match self {
            Self::Text { text, is_thought: false } => Members::new().put("text", text),
            Self::Text { text, is_thought: true } => Members::new().put("text", text).put("thought", true),
            Self::Whole(members) => members,
        }
    }
}

impl ContentWriter {
    /// A writer of one answer.
    #[must_use]
    pub fn new(head: AnswerHead) -> Self {
        Self { head, calls: BTreeMap::new(), last: BTreeMap::new(), stops: BTreeMap::new(), gaps: Gaps::default() }
    }

    /// A frame with one part, and with the log probabilities that came since the last one.
    fn frame(&mut self, choice: u32, part: Members, out: &mut Vec<u8>) {
        let content = Members::new().put("role", "model").put("parts", vec![part.into()]);
        let candidate = Members::new().put("content", content).put("index", choice);
        let tokens = self.last.get_mut(&choice).map(|last| std::mem::take(&mut last.logprobs)).unwrap_or_default();
        let candidate = if tokens.is_empty() { candidate } else { candidate.put("logprobsResult", logprobs(&tokens)) };
        data_frame(&envelope(&self.head, vec![candidate.into()], None), out);
    }

    /// Sends what was kept back, and keeps `part` back.
    fn part(&mut self, choice: u32, part: Members, out: &mut Vec<u8>) {
        let before = self.last.entry(choice).or_default().part.replace(LastPart::Whole(part));
        if let Some(before) = before {
            self.frame(choice, before.members(), out);
        }
    }

    /// Sends what was kept back and `text` but for its last letter.
    fn text(&mut self, choice: u32, text: &str, is_thought: bool, out: &mut Vec<u8>) {
        let Some((end, _)) = text.char_indices().next_back() else { return };
        let (now, kept) = text.split_at(end);
        let kept = LastPart::Text { text: kept.to_owned(), is_thought };
        let mut sent = String::new();
        match self.last.entry(choice).or_default().part.replace(kept) {
            Some(LastPart::Text { text, is_thought: before }) if before == is_thought => sent = text,
            Some(other) => self.frame(choice, other.members(), out),
            None => {}
        }
        sent.push_str(now);
        if !sent.is_empty() {
            self.frame(choice, LastPart::Text { text: sent, is_thought }.members(), out);
        }
    }

    fn call(&mut self, choice: u32, call: u32, out: &mut Vec<u8>) -> Result<(), Failure> {
        let Some((id, name, arguments)) = self.calls.remove(&(choice, call)) else { return Ok(()) };
        let part = call_part(&id, &name, &arguments)?;
        self.part(choice, part, out);
        Ok(())
    }
}

fn call_part(id: &str, name: &str, arguments: &str) -> Result<Members, Failure> {
    let args = arguments_object(arguments).ok_or_else(bad_arguments)?;
    let function = Members::new().put("id", id).put("name", name).put("args", args);
    Ok(Members::new().put("functionCall", function))
}

impl StreamWriter for ContentWriter {
    fn write(&mut self, event: &Event, out: &mut Vec<u8>) -> Result<(), Failure> {
        match event {
            Event::Text { choice, text } | Event::Refusal { choice, text } => {
                let text = format!("{}{text}", self.gaps.before(*choice, Said::Text));
                self.text(*choice, &text, false, out);
            }
            Event::Thinking { choice, text } => {
                let text = format!("{}{text}", self.gaps.before(*choice, Said::Thinking));
                self.text(*choice, &text, true, out);
            }
            Event::NextBlock { choice } => self.gaps.next_block(*choice),
            Event::Sealed { choice, seal } => {
                let part = Members::new().put("text", "").put("thought", true);
                self.part(*choice, part.put("thoughtSignature", self.head.seals.mark(seal)), out);
            }
            Event::Call { choice, call, id, name, .. } => {
                let id = id.clone().unwrap_or_else(|| self.head.call_id(*choice, *call));
                self.calls.insert((*choice, *call), (id, name.clone(), String::new()));
            }
            Event::Arguments { choice, call, fragment } => {
                if let Some((_, _, arguments)) = self.calls.get_mut(&(*choice, *call)) {
                    arguments.push_str(fragment);
                }
            }
            Event::CallEnd { choice, call } => self.call(*choice, *call, out)?,
            Event::Logprobs { choice, tokens } => {
                self.last.entry(*choice).or_default().logprobs.extend(tokens.iter().cloned());
            }
            Event::Finish { choice, stop } => {
                let open: Vec<(u32, u32)> = self.calls.keys().filter(|(of, _)| of == choice).copied().collect();
                for (choice, call) in open {
                    self.call(choice, call, out)?;
                }
                self.stops.insert(*choice, stop.clone());
            }
            Event::Image { .. } | Event::Citation { .. } | Event::Usage(_) => {}
        }
        Ok(())
    }

    fn end(&mut self, usage: Option<Usage>, out: &mut Vec<u8>) {
        let mut ended: Vec<Json> = Vec::new();
        for (choice, stop) in &self.stops {
            let Last { part, logprobs: tokens } = self.last.remove(choice).unwrap_or_default();
            let candidate = match part {
                Some(part) => {
                    let content = Members::new().put("role", "model").put("parts", vec![part.members().into()]);
                    Members::new().put("content", content)
                }
                None => Members::new(),
            };
            let candidate = candidate.put("finishReason", reason(stop)).put("index", *choice);
            ended.push(match tokens.as_slice() {
                [] => candidate.into(),
                tokens => candidate.put("logprobsResult", logprobs(tokens)).into(),
            });
        }
        data_frame(&envelope(&self.head, ended, usage), out);
    }

    fn broken_off(&mut self, told: &ErrorTold, out: &mut Vec<u8>) -> Closing {
        data_frame(&crate::generate_content::error::write(told), out);
        Closing::Broken
    }
}

fn envelope(head: &AnswerHead, candidates: Vec<Json>, usage: Option<Usage>) -> String {
    Members::new()
        .list("candidates", candidates)
        .some("usageMetadata", usage.map(usage_of))
        .put("modelVersion", &head.model)
        .put("responseId", &head.request)
        .to_line()
}

fn reason(stop: &Stop) -> &'static str {
    match stop {
        Stop::End | Stop::StopText(_) | Stop::ToolCalls => "STOP",
        Stop::OutputCap | Stop::ContextFull => "MAX_TOKENS",
        Stop::Filtered => "SAFETY",
        Stop::Paused | Stop::Unknown(_) => "OTHER",
    }
}

fn usage_of(usage: Usage) -> Members {
    let (input, output) = (usage.input.unwrap_or_default(), usage.output.unwrap_or_default());
    let reasoning = usage.reasoning.unwrap_or_default().min(output);
    Members::new()
        .put("promptTokenCount", input)
        .some("cachedContentTokenCount", usage.cached)
        .put("candidatesTokenCount", output - reasoning)
        .some("thoughtsTokenCount", usage.reasoning)
        .put("totalTokenCount", input.saturating_add(output))
}

fn logprobs(tokens: &[TokenLogprob]) -> Members {
    let pair = |token: &str, logprob: &crate::json::Number| -> Json {
        Members::new().put("token", token).put("logProbability", logprob).into()
    };
    let chosen: Vec<Json> = tokens.iter().map(|token| pair(&token.token, &token.logprob)).collect();
    let top = tokens.iter().map(|token| {
        let others: Vec<Json> = token.top.iter().map(|(other, logprob)| pair(other, logprob)).collect();
        Members::new().put("candidates", others).into()
    });
    let top: Vec<Json> = top.collect();
    Members::new().put("chosenCandidates", chosen).put("topCandidates", top)
}

/// A whole reply.
///
/// # Errors
/// When the arguments of a call are no object.
pub fn whole(answer: &Answer, head: &AnswerHead) -> Result<String, Failure> {
    let mut candidates: Vec<Json> = Vec::new();
    for (index, choice) in answer.choices.iter().enumerate() {
        candidates.push(candidate(index, choice, head)?);
    }
    if candidates.is_empty() {
        candidates.push(Members::new().put("finishReason", "SAFETY").put("index", 0u64).into());
    }
    Ok(envelope(head, candidates, answer.usage))
}

fn candidate(index: usize, choice: &Choice, head: &AnswerHead) -> Result<Json, Failure> {
    let at = u32::try_from(index).unwrap_or_default();
    let mut parts: Vec<Json> = Vec::new();
    // Clients put the texts of all parts together.
    let mut has_text = false;
    for block in &choice.blocks {
        parts.push(match block {
            Block::Text { text, .. } if choice.has_blocks && std::mem::replace(&mut has_text, true) => {
                Members::new().put("text", format!("{GAP}{text}")).into()
            }
            Block::Text { text, .. } | Block::Refusal(text) => Members::new().put("text", text).into(),
            Block::Thinking { text, seal } => {
                let marked = seal.as_ref().map(|seal| head.seals.mark(seal));
                Members::new().put("text", text).put("thought", true).some("thoughtSignature", marked).into()
            }
            Block::Call { call, id, name, arguments, .. } => {
                let id = id.clone().unwrap_or_else(|| head.call_id(at, *call));
                call_part(&id, name, arguments)?.into()
            }
        });
    }
    let content = Members::new().put("role", "model").put("parts", parts);
    let candidate = Members::new().put("content", content);
    let candidate = candidate.put("finishReason", reason(choice.stop.as_ref().unwrap_or(&Stop::End)));
    let candidate = candidate.put("index", index);
    Ok(match choice.logprobs.as_slice() {
        [] => candidate.into(),
        tokens => candidate.put("logprobsResult", logprobs(tokens)).into(),
    })
}
