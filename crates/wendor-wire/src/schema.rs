//! JSON Schema as services want it: words for types in small letters, and closed where the model is held to it (`docs/protocols.md` section 8.5).

use serde_json::{Map, Value};

use crate::json::{Node, RawJson};
use crate::steps::spent;

/// Members of a schema that hold schemas by name, in a list, or one.
const BY_NAME: [&str; 3] = ["properties", "$defs", "definitions"];
const LISTED: [&str; 4] = ["anyOf", "oneOf", "allOf", "prefixItems"];
const ONE: [&str; 2] = ["items", "additionalProperties"];

/// The schema at `node`. Types in capitals, as one dialect has them in a form of its own, are written small: nobody else takes them so.
#[must_use]
pub fn read(node: &Node<'_>) -> RawJson {
    let raw = node.raw();
    if !may_have_capitals(raw.as_str().as_bytes()) {
        return raw;
    }
    changed(&raw, with_small_types).unwrap_or(raw)
}

/// The same schema, in which no object may have members that it does not name, as services demand that hold the model to it.
#[must_use]
pub fn closed(schema: &RawJson) -> RawJson {
    changed(schema, close).unwrap_or_else(|| schema.clone())
}

/// Whether every object in it must have all of its members, as some services demand that hold the model to it.
#[must_use]
pub fn requires_all(schema: &RawJson) -> bool {
    serde_json::from_str::<Value>(schema.as_str()).is_ok_and(|mut value| has_no_choice(&mut value))
}

fn changed(schema: &RawJson, change: fn(&mut Value)) -> Option<RawJson> {
    let mut value = serde_json::from_str::<Value>(schema.as_str()).ok()?;
    change(&mut value);
    RawJson::parse(&value.to_string())
}

/// Whether the word behind some `"type":` begins with a capital.
fn may_have_capitals(schema: &[u8]) -> bool {
    memchr::memmem::find_iter(schema, b"\"type\"").any(|at| {
        let mut rest = schema.get(at + 6..).unwrap_or_default().iter();
        let word = rest.find(|byte| !matches!(byte, b' ' | b'\t' | b'\r' | b'\n' | b':' | b'[' | b'"'));
        word.is_some_and(u8::is_ascii_uppercase)
    })
}

fn with_small_types(value: &mut Value) {
    let Value::Object(object) = value else { return };
    spent(object.len());
    for_each_schema(object, &mut with_small_types);
    let small = |kind: &mut Value| {
        if let Value::String(word) = kind {
            word.make_ascii_lowercase();
        }
    };
    match object.get_mut("type") {
        Some(Value::Array(kinds)) => kinds.iter_mut().for_each(small),
        Some(kind) => small(kind),
        None => {}
    }
}

fn close(value: &mut Value) {
    let Value::Object(object) = value else { return };
    spent(object.len());
    for_each_schema(object, &mut close);
    if object.contains_key("properties") && !object.contains_key("additionalProperties") {
        object.insert("additionalProperties".to_owned(), Value::Bool(false));
    }
}

fn has_no_choice(value: &mut Value) -> bool {
    let Value::Object(object) = value else { return true };
    spent(object.len());
    let mut all = true;
    for_each_schema(object, &mut |inner: &mut Value| all &= has_no_choice(inner));
    let Some(Value::Object(properties)) = object.get("properties") else { return all };
    let required = object.get("required").and_then(Value::as_array).map_or(0, Vec::len);
    all && required >= properties.len()
}

/// Every schema that stands in `object`.
pub(crate) fn for_each_schema(object: &mut Map<String, Value>, with: &mut impl FnMut(&mut Value)) {
    for (name, inner) in object.iter_mut() {
        match inner {
            Value::Object(named) if BY_NAME.contains(&name.as_str()) => named.values_mut().for_each(&mut *with),
            Value::Array(schemas) if LISTED.contains(&name.as_str()) => schemas.iter_mut().for_each(&mut *with),
            Value::Object(_) if ONE.contains(&name.as_str()) => with(inner),
            Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) | Value::Array(_) | Value::Object(_) => {
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn raw(text: &str) -> RawJson {
        RawJson::parse(text).unwrap()
    }

    fn value(raw: &RawJson) -> Value {
        serde_json::from_str(raw.as_str()).unwrap()
    }

    #[rstest]
    #[case::nested(
        r#"{"type" : "OBJECT","properties":{"type":{"type":"STRING","enum":["A"]}},"required":["type"]}"#,
        r#"{"type":"object","properties":{"type":{"type":"string","enum":["A"]}},"required":["type"]}"#
    )]
    #[case::in_a_list(r#"{"type":["STRING","NULL"]}"#, r#"{"type":["string","null"]}"#)]
    #[case::in_definitions(
        r##"{"$ref":"#/$defs/A","$defs":{"A":{"anyOf":[{"type":"Integer"}]}}}"##,
        r##"{"$ref":"#/$defs/A","$defs":{"A":{"anyOf":[{"type":"integer"}]}}}"##
    )]
    #[case::not_a_type(r#"{"const":{"type":"STRING"}}"#, r#"{"const":{"type":"STRING"}}"#)]
    #[case::as_it_is(r#"{ "type": "object" }"#, r#"{"type":"object"}"#)]
    fn types_are_written_small(#[case] schema: &str, #[case] expected: &str) {
        assert_eq!(value(&read(&Node::new(schema, ""))), value(&raw(expected)));
    }

    #[rstest]
    #[case::everywhere(
        r#"{"type":"object","properties":{"a":{"type":"array","items":{"type":"object","properties":{}}}}}"#,
        r#"{"type":"object","properties":{"a":{"type":"array","items":{"type":"object","properties":{},"additionalProperties":false}}},"additionalProperties":false}"#
    )]
    #[case::said_already(
        r#"{"properties":{"a":{}},"additionalProperties":true}"#,
        r#"{"properties":{"a":{}},"additionalProperties":true}"#
    )]
    #[case::a_map(
        r#"{"additionalProperties":{"properties":{"a":{}}}}"#,
        r#"{"additionalProperties":{"properties":{"a":{}},"additionalProperties":false}}"#
    )]
    fn objects_are_closed(#[case] schema: &str, #[case] expected: &str) {
        assert_eq!(value(&closed(&raw(schema))), value(&raw(expected)));
    }

    #[rstest]
    #[case::all(r#"{"properties":{"a":{}},"required":["a"]}"#, true)]
    #[case::one_is_left_to_choice(r#"{"properties":{"a":{},"b":{}},"required":["a"]}"#, false)]
    #[case::inside(r#"{"items":{"properties":{"a":{}}}}"#, false)]
    #[case::none(r#"{"type":"string"}"#, true)]
    fn whether_all_members_are_required(#[case] schema: &str, #[case] expected: bool) {
        assert_eq!(requires_all(&raw(schema)), expected);
    }
}
