//! Frames without what clients break on: roles, ids and names that came before, indexes that they do not count on. Everything else of a
//! frame stays as it came.

use std::ops::Range;

use bytes::Bytes;

use crate::chat_completions::calls::Place;
use crate::chat_completions::stream::Mend;
use crate::json::write::raw_on_one_line;
use crate::members::{Edit, Found, behind_opening, cuts, items, members, splice};

/// The data of a frame, mended. `None` where what is to be mended is not found.
pub(super) fn mended(data: &Bytes, mends: &[Mend]) -> Option<String> {
    let text = std::str::from_utf8(data).ok()?;
    let choices = At { text, start: 0 }.member("choices")?.items()?;
    let mut edits = Vec::new();
    // Those of one choice follow each other.
    for of_choice in mends.chunk_by(|one, next| one.choice() == next.choice()) {
        let choice = choices.get(of_choice.first()?.choice())?;
        let delta = choice.member("delta");
        let calls = delta.and_then(|delta| delta.member("tool_calls")?.items()).unwrap_or_default();
        for mend in of_choice {
            match mend {
                Mend::Role(_) => delta?.cut(&["role"], &mut edits)?,
                Mend::EmptyReason(_) => {
                    edits.push((choice.member("finish_reason")?.place(), "null".to_owned()));
                }
                Mend::Call(_, at, place) => calls.get(*at)?.mend_call(*place, &mut edits)?,
            }
        }
    }
    let spliced = splice(data, edits).concat();
    let mut line = String::with_capacity(spliced.len());
    raw_on_one_line(std::str::from_utf8(&spliced).ok()?, &mut line);
    Some(line)
}

/// A value of the frame and where it stands.
#[derive(Clone, Copy, Debug)]
struct At<'a> {
    text: &'a str,
    start: usize,
}

impl<'a> At<'a> {
    fn place(self) -> Range<usize> {
        self.start..self.start + self.text.len()
    }

    fn of(self, place: Range<usize>) -> Option<Self> {
        Some(Self { text: self.text.get(place.clone())?, start: self.start + place.start })
    }

    fn members(self) -> Option<Found<'a>> {
        members(self.text.as_bytes()).ok()
    }

    fn member(self, name: &str) -> Option<Self> {
        let place = self.members()?.into_iter().rfind(|member| member.name == name)?.place;
        self.of(place)
    }

    fn items(self) -> Option<Vec<Self>> {
        items(self.text).ok()?.into_iter().map(|place| self.of(place)).collect()
    }

    fn cut(self, names: &[&str], edits: &mut Vec<Edit>) -> Option<()> {
        let places = cuts(self.text.as_bytes(), &self.members()?, |member| names.contains(&&*member.name));
        edits.extend(places.into_iter().map(|place| (self.start + place.start..self.start + place.end, String::new())));
        Some(())
    }

    /// A call without what it says again, under the index that clients count on.
    fn mend_call(self, place: Place, edits: &mut Vec<Edit>) -> Option<()> {
        if place.repeats_id {
            self.cut(&["id", "type"], edits)?;
        }
        if place.repeats_name {
            let named = self.member("function").or_else(|| self.member("custom"))?;
            named.cut(&["name"], edits)?;
        }
        let number = place.call.to_string();
        match self.member("index") {
            Some(index) if index.text == number => {}
            Some(index) => edits.push((index.place(), number)),
            None => edits.push(self.insertion(&format!("\"index\":{number}"))),
        }
        Some(())
    }

    /// `member` as the first of this object.
    fn insertion(self, member: &str) -> Edit {
        let place = self.start + behind_opening(self.text.as_bytes());
        (place..place, format!("{member},"))
    }
}

#[cfg(test)]
mod tests {
    use crate::chat_completions::answer::ChatReader;
    use crate::codec::StreamReader;
    use crate::conversation::facts::Facts;
    use crate::sse::SseDecoder;
    use rstest::rstest;
    use serde_json::{Value, json};

    /// The frames of a stream as an app gets them, as their deltas.
    fn sent(frames: &[Value]) -> Vec<Value> {
        let (mut decoder, mut reader) = (SseDecoder::default(), ChatReader::default());
        let mut out = Vec::new();
        for choice in frames {
            decoder.push(format!("data: {}\n\n", json!({ "choices": [choice], "x": 1.50 })).as_bytes()).unwrap();
            let frame = decoder.next_frame().unwrap();
            reader.look(frame.data.as_ref().unwrap(), &mut Facts::default(), &mut Vec::new()).unwrap();
            let raw = reader.mended(&frame).map_or_else(|| frame.raw.to_vec(), String::into_bytes);
            let line = std::str::from_utf8(&raw).unwrap().strip_prefix("data: ").unwrap().to_owned();
            let value: Value = serde_json::from_str(&line).unwrap();
            out.push(value["choices"][0].clone());
        }
        out
    }

    fn call(index: Option<u64>, id: Option<&str>, name: Option<&str>, arguments: &str) -> Value {
        let mut function = json!({ "arguments": arguments });
        name.into_iter().for_each(|name| function["name"] = json!(name));
        let mut call = json!({ "function": function });
        index.into_iter().for_each(|index| call["index"] = json!(index));
        if let Some(id) = id {
            call["id"] = json!(id);
            call["type"] = json!("function");
        }
        call
    }

    #[test]
    fn a_role_in_every_chunk_costs_no_call_its_name() {
        let delta = |call: Value| json!({ "index": 0, "delta": { "role": "assistant", "tool_calls": [call] } });
        let mended = sent(&[
            json!({ "index": 0, "delta": { "role": "assistant", "content": "" } }),
            delta(call(Some(0), Some("a"), Some("f"), "")),
            delta(call(Some(0), Some("a"), Some("f"), "{}")),
        ]);
        assert_eq!(mended[1]["delta"], json!({ "tool_calls": [call(Some(0), Some("a"), Some("f"), "")] }));
        assert_eq!(mended[2]["delta"], json!({ "tool_calls": [call(Some(0), None, None, "{}")] }));
    }

    #[rstest]
    #[case::at_index_0(Some(0))]
    #[case::without_an_index(None)]
    fn another_id_begins_another_call(#[case] index: Option<u64>) {
        let delta = |call: Value| json!({ "index": 0, "delta": { "tool_calls": [call] } });
        let mended = sent(&[
            delta(call(index, Some("a"), Some("f"), "{}")),
            delta(call(index, Some("b"), Some("g"), "")),
            delta(call(index, None, None, "{}")),
        ]);
        let calls: Vec<&Value> = mended.iter().map(|choice| &choice["delta"]["tool_calls"][0]).collect();
        assert_eq!(calls[0], &call(Some(0), Some("a"), Some("f"), "{}"));
        assert_eq!(calls[1], &call(Some(1), Some("b"), Some("g"), ""));
        assert_eq!(calls[2], &call(Some(1), None, None, "{}"));
    }

    #[test]
    fn an_empty_reason_is_none() {
        let mended = sent(&[json!({ "index": 0, "delta": { "content": "Berth 2" }, "finish_reason": "" })]);
        assert_eq!(mended[0], json!({ "index": 0, "delta": { "content": "Berth 2" }, "finish_reason": null }));
    }
}
