//! The members of a JSON object with the places of their values, so that a body is changed by splicing at these places and
//! every other byte stays as the app wrote it.

use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::Range;

use bytes::Bytes;
use serde::de::{Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;
use smallvec::{SmallVec, smallvec};

use crate::steps::spent;

/// A name of a JSON object with its value, and where both stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member<'a> {
    /// Its name, unescaped.
    pub name: Cow<'a, str>,
    /// Its value as it stands there.
    pub value: &'a str,
    /// Where the value stands in the text.
    pub place: Range<usize>,
}

/// Members as they were found: few, in most objects.
pub type Found<'a> = SmallVec<[Member<'a>; 8]>;

/// The members of the object that `text` is, in order, repeated ones included.
///
/// # Errors
/// What `serde_json` says when it is not an object; the message holds a place but no text of the body.
pub fn members(text: &[u8]) -> Result<Found<'_>, serde_json::Error> {
    struct Members<'a>(&'a [u8]);
    impl<'a> Visitor<'a> for Members<'a> {
        type Value = Found<'a>;
        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("an object")
        }
        fn visit_map<A: MapAccess<'a>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let mut members = Found::new();
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
    spent(text.len());
    let mut reader = serde_json::Deserializer::from_slice(text);
    let fields = reader.deserialize_map(Members(text))?;
    reader.end()?;
    Ok(fields)
}

#[derive(serde::Deserialize)]
struct BorrowedName<'a>(#[serde(borrow)] Cow<'a, str>);

/// The places of the values of the list `text`, in order.
///
/// # Errors
/// What `serde_json` says when it is not a list.
pub fn items(text: &str) -> Result<Vec<Range<usize>>, serde_json::Error> {
    spent(text.len());
    let listed: Vec<&RawValue> = serde_json::from_str(text)?;
    let place = |raw: &RawValue| {
        // Both point into the same text, as with members.
        let start = raw.get().as_ptr().addr() - text.as_ptr().addr();
        start..start + raw.get().len()
    };
    Ok(listed.into_iter().map(place).collect())
}

/// A name that comes twice.
pub fn first_repeated<'n>(names: impl Iterator<Item = &'n str> + Clone) -> Option<&'n str> {
    /// So many are compared each with each, which nearly always is all.
    const FEW: usize = 12;
    let is_among_few = |(place, name): &(usize, &str)| names.clone().take(*place).any(|before| before == *name);
    if names.clone().nth(FEW).is_none() {
        return names.clone().enumerate().find(is_among_few).map(|(_, name)| name);
    }
    let mut seen = HashSet::new();
    names.clone().find(|name| !seen.insert(*name))
}

/// A change of a body: what stands at a place, and what stands there instead. An empty place is an insertion.
pub type Edit = (Range<usize>, String);

/// Changes of one body: few, in most.
pub type Edits = SmallVec<[Edit; 4]>;

/// What a body becomes, to be sent one after the other: a short one is one piece.
pub type Spliced = SmallVec<[Bytes; 1]>;

/// The places to cut so that the members of the object `text` that `is_cut` names are gone, each as often as it stands there, and the
/// rest is still an object: the commas between go with them.
#[must_use]
pub fn cuts(text: &[u8], found: &[Member<'_>], is_cut: impl Fn(&Member<'_>) -> bool) -> Vec<Range<usize>> {
    let opening = behind_opening(text);
    let (mut cuts, mut run, mut kept_end): (Vec<Range<usize>>, Option<Range<usize>>, Option<usize>) =
        (Vec::new(), None, None);
    for member in found {
        if is_cut(member) {
            let start = run.map_or_else(|| kept_end.unwrap_or(opening), |run| run.start);
            run = Some(start..member.place.end);
            continue;
        }
        if let Some(run) = run.take() {
            // In front of what stays the comma behind goes, elsewhere the one before.
            let end = if kept_end.is_none() { behind_comma(text, run.end) } else { run.end };
            cuts.push(run.start..end);
        }
        kept_end = Some(member.place.end);
    }
    cuts.extend(run);
    cuts
}

/// The place behind the opening brace of the object `text`.
pub(crate) fn behind_opening(text: &[u8]) -> usize {
    text.iter().position(|byte| *byte == b'{').map_or(0, |place| place + 1)
}

/// The place behind the comma that follows the value which ends at `end`.
fn behind_comma(text: &[u8], end: usize) -> usize {
    let rest = text.get(end..).unwrap_or_default();
    rest.iter().position(|byte| *byte == b',').map_or(end, |comma| end + comma + 1)
}

/// A text up to this size goes in one piece: copying it costs less than sending the pieces.
const COPIED_BYTES: usize = 16 * 1024;

/// `text` with the given places replaced, as pieces to send one after the other: what stays is a slice of `text`. Places may overlap
/// and come in any order: what is cut by one is cut. A comma at the end of an insertion goes where nothing follows it in its object.
#[must_use]
pub fn splice(text: &Bytes, edits: impl IntoIterator<Item = Edit>) -> Spliced {
    let mut edits: Edits = edits.into_iter().collect();
    edits.sort_by_key(|(place, _)| (place.start, place.end));
    let mut parts: SmallVec<[Part; 8]> = SmallVec::new();
    let mut from = 0;
    let mut edits = edits.into_iter().peekable();
    while let Some((place, mut new)) = edits.next() {
        if place.start < from && !new.is_empty() {
            continue;
        }
        parts.push(Part::Kept(from..place.start.max(from)));
        from = from.max(place.end);
        if new.ends_with(',') {
            let next = edits.peek().filter(|(next, _)| next.start <= from);
            let is_followed = next.is_some_and(|(_, new)| !new.is_empty());
            let behind = next.map_or(from, |(next, _)| from.max(next.end));
            let rest = text.get(behind..).unwrap_or_default();
            if !is_followed && rest.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'}') {
                new.pop();
            }
        }
        parts.push(Part::New(new));
    }
    parts.push(Part::Kept(from..text.len()));
    parts.retain(|part| !part.bytes(text).is_empty());
    let length: usize = parts.iter().map(|part| part.bytes(text).len()).sum();
    if length > COPIED_BYTES {
        return parts.into_iter().map(|part| part.piece(text)).collect();
    }
    let mut copied = Vec::with_capacity(length);
    parts.iter().for_each(|part| copied.extend_from_slice(part.bytes(text)));
    smallvec![Bytes::from(copied)]
}

/// A part of what a body becomes.
enum Part {
    /// What stands at a place stays.
    Kept(Range<usize>),
    /// This stands there.
    New(String),
}

impl Part {
    fn bytes<'a>(&'a self, text: &'a Bytes) -> &'a [u8] {
        match self {
            Self::Kept(place) => text.get(place.clone()).unwrap_or_default(),
            Self::New(new) => new.as_bytes(),
        }
    }

    fn piece(self, text: &Bytes) -> Bytes {
        match self {
            Self::Kept(place) => text.slice(place),
            Self::New(new) => Bytes::from(new),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[test]
    fn members_are_found_where_they_stand() {
        let text = br#" { "model" : "a\u0062", "messages":[{"model":"x"}], "model":null } "#;
        let read = members(text).unwrap();
        let pairs: Vec<_> = read.iter().map(|member| (member.name.as_ref(), member.value)).collect();
        assert_eq!(pairs, [("model", r#""a\u0062""#), ("messages", r#"[{"model":"x"}]"#), ("model", "null")]);
        for member in &read {
            assert_eq!(&text[member.place.clone()], member.value.as_bytes());
        }
        let edits = vec![(read[0].place.clone(), "\"z\"".into()), (read[2].place.clone(), "1".into())];
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

    #[rstest]
    #[case::first(r#"{"x":1,"a":2}"#, r#"{"a":2}"#)]
    #[case::two_at_the_front(r#"{"x":1 , "y":2 , "a":3}"#, r#"{ "a":3}"#)]
    #[case::in_the_middle(r#"{"a":1,"x":2,"y":3,"b":4}"#, r#"{"a":1,"b":4}"#)]
    #[case::at_the_end(r#"{"a":1, "x":2,"y":3 }"#, r#"{"a":1 }"#)]
    #[case::everywhere(r#"{"x":1,"a":1,"y":1,"b":1,"x":1}"#, r#"{"a":1,"b":1}"#)]
    #[case::all(r#" { "x":1,"y":2 } "#, " { } ")]
    #[case::escaped(r#"{"\u0078":1,"a":2}"#, r#"{"a":2}"#)]
    fn members_are_cut_out_with_their_commas(#[case] text: &str, #[case] left: &str) {
        let read = members(text.as_bytes()).unwrap();
        let places = cuts(text.as_bytes(), &read, |member| matches!(&*member.name, "x" | "y"));
        let edits = places.into_iter().map(|place| (place, String::new()));
        let spliced = splice(&Bytes::copy_from_slice(text.as_bytes()), edits).concat();
        assert_eq!(String::from_utf8(spliced).unwrap(), left);
    }

    proptest! {
        /// Whatever members are cut and inserted, the rest is the object that it was without them.
        #[test]
        fn what_is_left_is_the_object_without_them(
            names in proptest::collection::vec("[abxy]", 0..8),
            pad in "[ \n]{0,2}",
            inserts in 0usize..3,
        ) {
            let listed: Vec<String> = names.iter().enumerate().map(|(at, name)| format!("{pad}\"{name}\"{pad}:{at}{pad}")).collect();
            let text = format!("{{{}{pad}}}", listed.join(","));
            let read = members(text.as_bytes()).unwrap();
            let opening = behind_opening(text.as_bytes());
            let mut edits: Vec<Edit> =
                cuts(text.as_bytes(), &read, |member| matches!(&*member.name, "x" | "y")).into_iter().map(|place| (place, String::new())).collect();
            edits.extend((0..inserts).map(|at| (opening..opening, format!("\"i{at}\":0,"))));
            let spliced = splice(&Bytes::from(text.clone()), edits).concat();
            let left: Vec<(String, String)> =
                members(&spliced).unwrap().iter().map(|member| (member.name.to_string(), member.value.to_owned())).collect();
            let mut expected: Vec<(String, String)> = (0..inserts).map(|at| (format!("i{at}"), "0".to_owned())).collect();
            let kept = names.iter().enumerate().filter(|(_, name)| !matches!(name.as_str(), "x" | "y"));
            expected.extend(kept.map(|(at, name)| (name.clone(), at.to_string())));
            prop_assert_eq!(left, expected);
        }
    }

    #[test]
    fn broken_utf8_is_an_error() {
        assert!(members(b"{\"a\":\"\xff\"}").is_err());
    }
}
