//! What a request means, said in no dialect.

use serde_json::{Value, json};
use wendor_wire::dialect::Dialect;

use super::dice::Dice;

/// One call of a function, and what it gave.
pub struct Called {
    pub id: String,
    pub name: String,
    pub arguments: Value,
    pub result: String,
}

/// What one speaks at a time.
pub enum Spoken {
    User { texts: Vec<String>, has_image: bool },
    Model { text: Option<String>, calls: Vec<Called> },
}

/// How the answer is to look.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Format {
    Any,
    Json,
    Schema,
}

/// A request.
pub struct Asked {
    pub system: Option<String>,
    pub turns: Vec<Spoken>,
    pub tools: Vec<String>,
    pub limit: Option<u64>,
    pub temperature: Option<f64>,
    pub stop: Vec<String>,
    pub user: Option<String>,
    pub format: Format,
    /// Members that nobody knows.
    pub noise: Vec<(String, Value)>,
}

/// The bytes of a picture, as far as it is looked at.
pub const IMAGE: &str = "iVBORw0KGgo=";

/// What the parameters of a function, and an answer, have to look like.
pub fn schema() -> Value {
    json!({ "type": "object", "properties": { "route": { "type": "string" }, "day": { "type": "integer" } }, "required": ["route"] })
}

fn arguments(dice: &mut Dice) -> Value {
    match dice.below(3) {
        0 => json!({}),
        1 => json!({ "route": dice.text() }),
        _ => {
            json!({ "route": dice.text(), "day": dice.below(400), "stops": [1.5, null, { "a": true, "b": dice.text() }] })
        }
    }
}

impl Asked {
    /// A request that `dialect` has words for.
    pub fn of(dice: &mut Dice, dialect: Dialect) -> Self {
        let mut turns = Vec::new();
        for number in 0..dice.below(4) {
            turns.push(user(dice));
            turns.push(model(dice, number));
        }
        turns.push(user(dice));
        let has_user = matches!(dialect, Dialect::ChatCompletions | Dialect::Responses | Dialect::Messages);
        let formats: &[Format] = match dialect {
            Dialect::Messages => &[Format::Any, Format::Any, Format::Schema],
            Dialect::ChatCompletions | Dialect::Responses | Dialect::GenerateContent | Dialect::LocalChat => {
                &[Format::Any, Format::Any, Format::Json, Format::Schema]
            }
        };
        Self {
            system: dice.maybe(Dice::text),
            turns,
            tools: ["tides", "departures", "fares"].into_iter().filter(|_| dice.coin()).map(str::to_owned).collect(),
            limit: if dialect == Dialect::Messages || dice.coin() { Some(1 + dice.below(4_000) as u64) } else { None },
            temperature: dice.maybe(|dice| [0.0, 0.25, 1.0][dice.below(3)]),
            stop: if dialect == Dialect::Responses { Vec::new() } else { dice.several(0, 2, Dice::text) },
            user: dice.maybe(|dice| format!("deckhand-{}", dice.below(90))).filter(|_| has_user),
            format: *dice.one_of(formats),
            noise: if dice.in_hundred(15) { vec![("mooring".to_owned(), arguments(dice))] } else { Vec::new() },
        }
    }

    /// What a reader of any dialect has to see, but for what is told to be lost.
    pub fn seen(&self) -> Value {
        let mut turns: Vec<(bool, Vec<Value>)> = Vec::new();
        for turn in &self.turns {
            match turn {
                Spoken::User { texts, has_image } => {
                    let mut parts = vec![json!({ "text": texts.join("\n") })];
                    parts.extend(has_image.then(|| json!({ "image": format!("data:image/png;base64,{IMAGE}") })));
                    // What calls gave stands in the user's turn.
                    match turns.last_mut() {
                        Some((false, last)) => {
                            last.splice(0..0, parts.drain(..1));
                            last.extend(parts);
                        }
                        _ => turns.push((false, parts)),
                    }
                }
                Spoken::Model { text, calls } => {
                    let text = text.iter().map(|text| json!({ "text": text }));
                    let call = |call: &Called| json!({ "call": call.name, "arguments": call.arguments });
                    turns.push((true, text.chain(calls.iter().map(call)).collect()));
                    let result = |call: &Called| json!({ "result_of": call.name, "text": call.result });
                    if !calls.is_empty() {
                        turns.push((false, calls.iter().map(result).collect()));
                    }
                }
            }
        }
        let format = match self.format {
            Format::Any => Value::Null,
            Format::Json => json!("json"),
            Format::Schema => schema(),
        };
        let tools: Vec<Value> =
            self.tools.iter().map(|name| json!([name, format!("Tells {name}."), schema()])).collect();
        json!({
            "system": self.system,
            "turns": turns.iter().map(|(is_model, parts)| json!([is_model, parts])).collect::<Vec<_>>(),
            "tools": tools,
            "limit": self.limit,
            "temperature": self.temperature,
            "stop": self.stop,
            "user": self.user,
            "format": format,
        })
    }
}

fn user(dice: &mut Dice) -> Spoken {
    Spoken::User { texts: dice.several(1, 2, Dice::text), has_image: dice.in_hundred(25) }
}

fn model(dice: &mut Dice, turn: usize) -> Spoken {
    let calls = if dice.coin() { 0 } else { 1 + dice.below(3) };
    let calls: Vec<Called> = (0..calls)
        .map(|place| Called {
            id: format!("call_{turn}_{place}"),
            name: (*dice.one_of(&["tides", "departures", "fares"])).to_owned(),
            arguments: arguments(dice),
            result: dice.text(),
        })
        .collect();
    let text = if calls.is_empty() || dice.coin() { Some(dice.text()) } else { None };
    Spoken::Model { text, calls }
}
