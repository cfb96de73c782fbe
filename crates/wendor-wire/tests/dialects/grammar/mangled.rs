//! What is nearly right: a body with members of the wrong kind, doubled, gone, deep or many; a stream with frames cut, gone, doubled or in
//! another order; bytes changed in either.

use serde_json::{Map, Value, json};

use super::dice::Dice;

/// `value` with one to three places of it changed.
pub fn mangled(mut value: Value, dice: &mut Dice) -> Value {
    for _ in 0..=dice.below(3) {
        let depth = dice.below(7);
        change(&mut value, depth, dice);
    }
    value
}

/// Goes `depth` steps into it, and changes what is there.
fn change(value: &mut Value, depth: usize, dice: &mut Dice) {
    match value {
        Value::Object(members) if depth > 0 && !members.is_empty() => {
            let place = dice.below(members.len());
            if let Some(inner) = members.values_mut().nth(place) {
                change(inner, depth - 1, dice);
            }
        }
        Value::Array(values) if depth > 0 && !values.is_empty() => {
            let place = dice.below(values.len());
            change(&mut values[place], depth - 1, dice);
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) | Value::Array(_) | Value::Object(_) => {
            *value = other(value.take(), dice);
        }
    }
}

fn other(value: Value, dice: &mut Dice) -> Value {
    match dice.below(10) {
        0 => Value::Null,
        1 => json!(dice.coin()),
        2 => [json!(-1), json!(0), json!(1e300), json!(u64::MAX), json!(0.5)][dice.below(5)].clone(),
        3 => json!(dice.text()),
        4 => json!([value]),
        5 => json!({ "type": value }),
        6 => nested(value, 1 + dice.below(100)),
        7 => vec![value; 1 + dice.below(120)].into(),
        8 => without_one(value, dice),
        _ => json!({ "$ref": "#", "anyOf": [value, { "$ref": "#" }] }),
    }
}

fn nested(value: Value, depth: usize) -> Value {
    (0..depth).fold(value, |inner, level| if level % 2 == 0 { json!([inner]) } else { json!({ "items": inner }) })
}

fn without_one(value: Value, dice: &mut Dice) -> Value {
    match value {
        Value::Object(members) => {
            let gone = dice.below(members.len());
            members
                .into_iter()
                .enumerate()
                .filter(|(at, _)| *at != gone)
                .map(|(_, member)| member)
                .collect::<Map<_, _>>()
                .into()
        }
        Value::Array(mut values) if !values.is_empty() => {
            values.remove(dice.below(values.len()));
            values.into()
        }
        kept @ (Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) | Value::Array(_)) => kept,
    }
}

/// `bytes` with a few of them changed, put in, doubled or cut off.
pub fn garbled(mut bytes: Vec<u8>, dice: &mut Dice) -> Vec<u8> {
    for _ in 0..=dice.below(4) {
        if bytes.is_empty() {
            return bytes;
        }
        let at = dice.below(bytes.len());
        let byte = *dice.one_of(b"\"\\{}[],:\n\r ud0\xff\xc3\x00");
        match dice.below(5) {
            0 => bytes[at] = byte,
            1 => bytes.insert(at, byte),
            2 => bytes.truncate(at),
            3 => {
                bytes.remove(at);
            }
            _ => {
                let again = bytes[at..(at + 200).min(bytes.len())].to_vec();
                bytes.splice(at..at, again);
            }
        }
    }
    bytes
}

/// The frames with one of them gone, doubled, or in another's place.
pub fn shuffled(mut frames: Vec<String>, dice: &mut Dice) -> Vec<String> {
    let (one, other) = (dice.below(frames.len()), dice.below(frames.len()));
    match dice.below(4) {
        0 => {
            frames.remove(one);
        }
        1 => frames.insert(one, frames[other].clone()),
        2 => frames.swap(one, other),
        _ => frames.truncate(one),
    }
    frames
}
