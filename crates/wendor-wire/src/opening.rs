//! What a conversation opens with, as a number: the same for each of its turns, so that they can be kept together.
//!
//! Standing instructions and everything up to the first turn of the user enter, as the bytes that the app wrote: a client sends what was
//! said before as it sent it then. FNV-1a of 64 bits (RFC 9923), which is the same on every machine.

use crate::members::{items, members};

/// Members that hold standing instructions, in one dialect or another.
const INSTRUCTIONS: [&str; 4] = ["system", "instructions", "systemInstruction", "system_instruction"];

/// Members that hold the turns.
const TURNS: [&str; 3] = ["messages", "contents", "input"];

/// The opening of the conversation that a body holds; `None` where it holds none.
#[must_use]
pub fn opening(body: &[u8]) -> Option<u64> {
    let fields = members(body).ok()?;
    let mut hash = Fnv::default();
    for member in fields.iter().filter(|member| INSTRUCTIONS.contains(&member.name.as_ref())) {
        hash.take(member.value);
    }
    let turns = fields.iter().find(|member| TURNS.contains(&member.name.as_ref()))?;
    if !turns.value.starts_with('[') {
        hash.take(turns.value);
        return Some(hash.0);
    }
    for turn in items(turns.value).ok()? {
        let turn = turns.value.get(turn)?;
        hash.take(turn);
        let is_users = members(turn.as_bytes())
            .is_ok_and(|fields| fields.iter().any(|member| member.name == "role" && member.value == "\"user\""));
        if is_users {
            break;
        }
    }
    Some(hash.0)
}

struct Fnv(u64);

impl Default for Fnv {
    fn default() -> Self {
        Self(0xcbf2_9ce4_8422_2325)
    }
}

impl Fnv {
    fn take(&mut self, text: &str) {
        for byte in text.bytes() {
            self.0 = (self.0 ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::chat(
        r#"{"messages":[{"role":"system","content":"s"},{"role":"user","content":"a"}],"stream":true}"#,
        r#"{"messages":[{"role":"system","content":"s"},{"role":"user","content":"a"},{"role":"assistant","content":"b"},{"role":"user","content":"c"}]}"#
    )]
    #[case::instructions_apart(
        r#"{"system":"s","messages":[{"role":"user","content":"a"}]}"#,
        r#"{"system":"s","messages":[{"role":"user","content":"a"},{"role":"assistant","content":"b"}],"max_tokens":7}"#
    )]
    #[case::contents(
        r#"{"contents":[{"role":"user","parts":[{"text":"a"}]}]}"#,
        r#"{"contents":[{"role":"user","parts":[{"text":"a"}]},{"role":"model","parts":[]}]}"#
    )]
    fn turns_of_one_conversation_open_alike(#[case] first: &str, #[case] later: &str) {
        let hash = opening(first.as_bytes());
        assert!(hash.is_some());
        assert_eq!(opening(later.as_bytes()), hash);
        assert_ne!(opening(first.replace("\"a\"", "\"z\"").as_bytes()), hash);
    }

    #[rstest]
    #[case::one_text(r#"{"input":"When is the last ferry?"}"#, true)]
    #[case::no_conversation(r#"{"prompt":"When"}"#, false)]
    #[case::no_body("", false)]
    fn what_holds_a_conversation(#[case] body: &str, #[case] holds: bool) {
        assert_eq!(opening(body.as_bytes()).is_some(), holds);
    }
}
