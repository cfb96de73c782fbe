//! JSON as it is written by different hands: members in any order, space where it may be, letters as escapes.

use serde_json::Value;

use super::dice::Dice;

/// How a hand writes.
#[derive(Clone, Copy)]
struct Hand {
    shuffles: bool,
    spaces: &'static str,
    escapes: bool,
}

/// `value` as some hand writes it; in one line unless it `may_break`.
pub fn written(value: &Value, dice: &mut Dice, may_break: bool) -> String {
    let spaces = *dice.one_of(if may_break { &["", "", " ", "\n", "\t"] } else { &["", "", "", " ", " "] });
    let hand = Hand { shuffles: dice.coin(), spaces, escapes: dice.in_hundred(30) };
    let mut out = String::new();
    write(value, dice, hand, &mut out);
    out
}

fn write(value: &Value, dice: &mut Dice, hand: Hand, out: &mut String) {
    match value {
        Value::Object(members) => {
            let mut members: Vec<_> = members.iter().collect();
            if hand.shuffles && members.len() > 1 {
                let place = dice.below(members.len());
                members.rotate_left(place);
            }
            out.push('{');
            for (number, (name, value)) in members.into_iter().enumerate() {
                out.push_str(if number == 0 { "" } else { "," });
                out.push_str(hand.spaces);
                quoted(name, dice, hand, out);
                out.push_str(hand.spaces);
                out.push(':');
                write(value, dice, hand, out);
            }
            out.push_str(hand.spaces);
            out.push('}');
        }
        Value::Array(values) => {
            out.push('[');
            for (number, value) in values.iter().enumerate() {
                out.push_str(if number == 0 { "" } else { "," });
                out.push_str(hand.spaces);
                write(value, dice, hand, out);
            }
            out.push(']');
        }
        Value::String(text) => quoted(text, dice, hand, out),
        Value::Null | Value::Bool(_) | Value::Number(_) => out.push_str(&value.to_string()),
    }
}

fn quoted(text: &str, dice: &mut Dice, hand: Hand, out: &mut String) {
    if !hand.escapes {
        out.push_str(&Value::from(text).to_string());
        return;
    }
    out.push('"');
    for letter in text.chars() {
        let has_to = letter.is_control() || matches!(letter, '"' | '\\');
        if !has_to && !dice.in_hundred(20) {
            out.push(letter);
            continue;
        }
        for half in letter.encode_utf16(&mut [0; 2]) {
            out.push_str(&format!("\\u{half:04x}"));
        }
    }
    out.push('"');
}
