//! What a reply means, said in no dialect.

use serde_json::{Value, json};

use super::dice::Dice;

/// Why it ended.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    Said,
    AtLimit,
}

/// A reply.
pub struct Answered {
    pub thinking: Option<String>,
    pub text: Option<String>,
    /// Names and arguments.
    pub calls: Vec<(String, Value)>,
    pub ended: Ended,
    /// Tokens in and out.
    pub usage: (usize, usize),
}

impl Answered {
    pub fn of(dice: &mut Dice) -> Self {
        let arguments = |dice: &mut Dice| match dice.below(3) {
            0 => json!({}),
            1 => json!({ "route": dice.text() }),
            _ => json!({ "route": dice.text(), "day": dice.below(400), "stops": [1.5, null, { "a": true }] }),
        };
        let calls = if dice.coin() { 0 } else { 1 + dice.below(3) };
        Self {
            thinking: dice.maybe(Dice::text),
            text: if calls == 0 { Some(dice.text()) } else { dice.maybe(Dice::text) },
            calls: (0..calls).map(|_| ((*dice.one_of(&["tides", "fares"])).to_owned(), arguments(dice))).collect(),
            ended: if calls == 0 && dice.in_hundred(25) { Ended::AtLimit } else { Ended::Said },
            usage: (1 + dice.below(900), 1 + dice.below(900)),
        }
    }

    /// The word for why it ended: that all was said, that the limit was reached, or that functions are called.
    pub fn stop<'a>(&self, said: &'a str, at_limit: &'a str, calls: &'a str) -> &'a str {
        match self.ended {
            Ended::AtLimit => at_limit,
            Ended::Said if self.calls.is_empty() => said,
            Ended::Said => calls,
        }
    }

    /// What a reader of any dialect has to see.
    pub fn seen(&self) -> Value {
        let stop = self.stop("end", "cap", "calls");
        let calls: Vec<Value> = self.calls.iter().map(|(name, arguments)| json!([name, arguments])).collect();
        let text = |text: &Option<String>| text.clone().unwrap_or_default();
        json!({ "text": text(&self.text), "thinking": text(&self.thinking), "calls": calls, "stop": stop, "usage": [self.usage.0, self.usage.1] })
    }
}
