//! The members of a JSON object with the places of their values, so that a body is changed by splicing at these places and
//! every other byte stays as the app wrote it.

use std::borrow::Cow;
use std::ops::Range;

use bytes::Bytes;
use serde::de::{Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

/// One member.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member<'a> {
    /// Its name, unescaped.
    pub name: Cow<'a, str>,
    /// Its value as it stands there.
    pub value: &'a str,
    /// Where the value stands in the text.
    pub place: Range<usize>,
}

/// The members of the object that `text` is, in order, repeated ones included.
///
/// # Errors
/// What `serde_json` says when it is not an object; the message holds a place but no text of the body.
pub fn members(text: &[u8]) -> Result<Vec<Member<'_>>, serde_json::Error> {
    struct Members<'a>(&'a [u8]);
    impl<'a> Visitor<'a> for Members<'a> {
        type Value = Vec<Member<'a>>;
        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("an object")
        }
        fn visit_map<A: MapAccess<'a>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let mut members = Vec::with_capacity(8);
            while let Some(BorrowedName(name)) = map.next_key()? {
                let value: &'a RawValue = map.next_value()?;
                let value = value.get();
                // Both point into the same text: the value was borrowed from it.
                let start = value.as_ptr().addr() - self.0.as_ptr().addr();
                members.push(Member { name, value, place: start..start + value.len() });
            }
            Ok(members)
        }
    }
    let mut reader = serde_json::Deserializer::from_slice(text);
    let found = reader.deserialize_map(Members(text))?;
    reader.end()?;
    Ok(found)
}

#[derive(serde::Deserialize)]
struct BorrowedName<'a>(#[serde(borrow)] Cow<'a, str>);

/// `text` with the given places replaced, as pieces to send one after the other: what stays is a slice of `text`. The edits are
/// in order and do not overlap.
#[must_use]
pub fn splice(text: &Bytes, edits: Vec<(Range<usize>, String)>) -> Vec<Bytes> {
    let mut pieces = Vec::with_capacity(edits.len() * 2 + 1);
    let mut from = 0;
    for (place, new) in edits {
        pieces.push(text.slice(from..place.start));
        pieces.push(Bytes::from(new));
        from = place.end;
    }
    pieces.push(text.slice(from..));
    pieces.retain(|piece| !piece.is_empty());
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn members_are_found_where_they_stand() {
        let text = br#" { "model" : "a\u0062", "messages":[{"model":"x"}], "model":null } "#;
        let found = members(text).unwrap();
        let told: Vec<_> = found.iter().map(|member| (member.name.as_ref(), member.value)).collect();
        assert_eq!(told, [("model", r#""a\u0062""#), ("messages", r#"[{"model":"x"}]"#), ("model", "null")]);
        for member in &found {
            assert_eq!(&text[member.place.clone()], member.value.as_bytes());
        }
        let edits = vec![(found[0].place.clone(), "\"z\"".into()), (found[2].place.clone(), "1".into())];
        let spliced = splice(&Bytes::from_static(text), edits);
        assert_eq!(spliced.concat(), br#" { "model" : "z", "messages":[{"model":"x"}], "model":1 } "#);
    }

    #[rstest]
    #[case::list("[1]")]
    #[case::rest_after_it("{} {}")]
    #[case::cut("{\"a\":")]
    #[case::empty("")]
    fn what_is_no_object_is_an_error(#[case] text: &str) {
        assert!(members(text.as_bytes()).is_err());
    }

    #[test]
    fn broken_utf8_is_an_error() {
        assert!(members(b"{\"a\":\"\xff\"}").is_err());
    }
}
