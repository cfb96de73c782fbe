//! The typed form of schemas that this dialect has beside JSON Schema (`docs/protocols.md` section 8.5): types in capitals, `nullable` instead of
//! a union with null.

use std::collections::{BTreeSet, HashMap};

use serde_json::{Map, Value, json};

use crate::json::RawJson;
use crate::schema::for_each_schema;
use crate::steps::spent;

/// A typed schema as JSON Schema. What cannot be read stays as it is: the upstream says what is wrong.
#[must_use]
pub fn plain_of_typed(typed: &RawJson) -> RawJson {
    let Ok(mut value) = serde_json::from_str::<Value>(typed.as_str()) else { return typed.clone() };
    plain(&mut value);
    RawJson::parse(&value.to_string()).unwrap_or_else(|| typed.clone())
}

fn plain(value: &mut Value) {
    let Value::Object(object) = value else { return };
    // An ordering hint, of which JSON Schema knows nothing.
    object.remove("propertyOrdering");
    object.remove("property_ordering");
    for_each_schema(object, &mut plain);
    let is_nullable = object.remove("nullable") == Some(Value::Bool(true));
    if let Some(Value::Array(values)) = object.get_mut("enum").filter(|_| is_nullable)
        && !values.contains(&Value::Null)
    {
        values.push(Value::Null);
    }
    if let (None, Some(Value::Array(schemas))) = (object.get("type").cloned(), object.get_mut("anyOf"))
        && is_nullable
    {
        schemas.push(json!({ "type": "null" }));
    }
    let Some(kind) = object.get_mut("type") else { return };
    if let Value::String(name) = kind {
        let name = name.to_ascii_lowercase();
        *kind = if is_nullable { json!([name, "null"]) } else { json!(name) };
    }
}

/// A JSON Schema in the typed form, for upstreams that know no other. `None` when something in it cannot be said: a reference to itself, a
/// pattern of names, a condition; or when it grows beyond [`MAX_SCHEMAS`] with its references written out.
#[must_use]
pub fn typed_of_plain(plain: &RawJson) -> Option<RawJson> {
    let value = serde_json::from_str::<Value>(plain.as_str()).ok()?;
    let mut typing = Typing::with(definitions_of(&value));
    RawJson::parse(&typing.typed(&value)?.to_string())
}

/// The most schemas of one tool, each reference written out: services refuse far smaller ones. A few references that refer to each other
/// many times grow without end otherwise.
const MAX_SCHEMAS: usize = 5_000;

/// Deepest nesting with references written out: bodies nest no deeper themselves.
const MAX_NESTING: usize = 128;

/// What the typed form has no word for.
const UNSAYABLE: [&str; 6] = ["patternProperties", "if", "then", "not", "oneOf", "allOf"];

/// What it leaves out.
const LEFT_OUT: [&str; 6] = ["$schema", "additionalProperties", "title", "$defs", "definitions", "strict"];

fn definitions_of(value: &Value) -> HashMap<String, &Value> {
    let mut all = HashMap::new();
    for word in ["$defs", "definitions"] {
        if let Some(Value::Object(definitions)) = value.get(word) {
            all.extend(definitions.iter().map(|(name, schema)| (format!("#/{word}/{name}"), schema)));
        }
    }
    all
}

/// One schema on its way into the typed form. The first thing that cannot be said ends it.
struct Typing<'a> {
    definitions: HashMap<String, &'a Value>,
    /// References that are being written out: one that comes again refers to itself.
    open: BTreeSet<&'a str>,
    schemas: usize,
    nesting: usize,
}

impl<'a> Typing<'a> {
    fn with(definitions: HashMap<String, &'a Value>) -> Self {
        Self { definitions, open: BTreeSet::new(), schemas: 0, nesting: 0 }
    }

    fn typed(&mut self, schema: &'a Value) -> Option<Value> {
        self.schemas += 1;
        spent(1);
        self.nesting += 1;
        if self.schemas > MAX_SCHEMAS || self.nesting > MAX_NESTING {
            return None;
        }
        let typed = self.typed_here(schema)?;
        self.nesting -= 1;
        Some(typed)
    }

    fn typed_here(&mut self, schema: &'a Value) -> Option<Value> {
        let Value::Object(object) = schema else { return Some(schema.clone()) };
        if let Some(Value::String(reference)) = object.get("$ref") {
            let target = *self.definitions.get(reference)?;
            if !self.open.insert(reference) {
                return None;
            }
            let written_out = self.typed(target);
            self.open.remove(reference.as_str());
            return written_out;
        }
        if UNSAYABLE.iter().any(|word| object.contains_key(*word)) {
            return None;
        }
        let mut typed = Map::new();
        for (name, inner) in object.iter().filter(|(name, _)| !LEFT_OUT.contains(&name.as_str())) {
            typed.insert(name.clone(), self.member(name, inner)?);
        }
        nullable_instead_of_null(&mut typed);
        if let Some(kind) = object.get("type") {
            let (kind, is_nullable) = typed_kind(kind)?;
            typed.insert("type".to_owned(), kind);
            if is_nullable {
                typed.insert("nullable".to_owned(), json!(true));
            }
        }
        Some(Value::Object(typed))
    }

    /// What a member says, with the schemas in it typed.
    fn member(&mut self, name: &str, value: &'a Value) -> Option<Value> {
        match (name, value) {
            ("properties", Value::Object(properties)) => {
                let mut typed = Map::new();
                for (name, schema) in properties {
                    typed.insert(name.clone(), self.typed(schema)?);
                }
                Some(Value::Object(typed))
            }
            ("anyOf" | "prefixItems", Value::Array(schemas)) => {
                Some(Value::Array(schemas.iter().map(|schema| self.typed(schema)).collect::<Option<_>>()?))
            }
            ("items", schema @ Value::Object(_)) => self.typed(schema),
            (_, other) => Some(other.clone()),
        }
    }
}

/// Null among alternatives and values is said by a member of its own.
fn nullable_instead_of_null(typed: &mut Map<String, Value>) {
    let mut is_nullable = false;
    if let Some(Value::Array(schemas)) = typed.get_mut("anyOf") {
        let before = schemas.len();
        schemas.retain(|schema| schema.get("type") != Some(&json!("NULL")));
        is_nullable = schemas.len() < before;
        if let (true, [Value::Object(only)]) = (is_nullable, schemas.as_slice()) {
            // One alternative is none.
            let only = only.clone();
            typed.remove("anyOf");
            only.into_iter().for_each(|(name, value)| {
                typed.entry(name).or_insert(value);
            });
        }
    }
    if let Some(Value::Array(values)) = typed.get_mut("enum") {
        let before = values.len();
        values.retain(|value| !value.is_null());
        is_nullable |= values.len() < before;
    }
    if is_nullable {
        typed.insert("nullable".to_owned(), json!(true));
    }
}

/// A type in capitals, and whether null is another one.
fn typed_kind(kind: &Value) -> Option<(Value, bool)> {
    match kind {
        Value::String(kind) => Some((json!(kind.to_ascii_uppercase()), false)),
        Value::Array(kinds) => {
            let (null, other): (Vec<&Value>, Vec<&Value>) = kinds.iter().partition(|kind| **kind == "null");
            let [Value::String(only)] = other.as_slice() else { return None };
            Some((json!(only.to_ascii_uppercase()), !null.is_empty()))
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::Object(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::types(
        r#"{"type":"OBJECT","properties":{"n":{"type":"INTEGER","nullable":true},"type":{"type":"STRING"}},"propertyOrdering":["n"],"required":["n"]}"#,
        r#"{"properties":{"n":{"type":["integer","null"]},"type":{"type":"string"}},"required":["n"],"type":"object"}"#
    )]
    #[case::lists(
        r#"{"type":"ARRAY","items":{"type":"STRING","enum":["A"]}}"#,
        r#"{"items":{"enum":["A"],"type":"string"},"type":"array"}"#
    )]
    #[case::alternatives(
        r#"{"anyOf":[{"type":"STRING"},{"type":"INTEGER"}],"nullable":true}"#,
        r#"{"anyOf":[{"type":"string"},{"type":"integer"},{"type":"null"}]}"#
    )]
    #[case::values(
        r#"{"type":"STRING","enum":["a"],"nullable":true}"#,
        r#"{"type":["string","null"],"enum":["a",null]}"#
    )]
    fn typed_and_plain(#[case] typed: &str, #[case] plain: &str) {
        let typed = RawJson::parse(typed).unwrap();
        let value = |raw: &RawJson| serde_json::from_str::<Value>(raw.as_str()).unwrap();
        let translated = plain_of_typed(&typed);
        assert_eq!(value(&translated), serde_json::from_str::<Value>(plain).unwrap());
        let mut expected = value(&typed);
        expected.as_object_mut().unwrap().remove("propertyOrdering");
        assert_eq!(value(&typed_of_plain(&translated).unwrap()), expected, "and back");
    }

    #[rstest]
    #[case::reference(r##"{"$ref":"#/$defs/a","$defs":{"a":{"type":"string"}}}"##, Some(r#"{"type":"STRING"}"#))]
    #[case::endless(r##"{"$ref":"#/$defs/a","$defs":{"a":{"type":"array","items":{"$ref":"#/$defs/a"}}}}"##, None)]
    #[case::used_twice(
        r##"{"type":"object","properties":{"a":{"$ref":"#/$defs/s"},"b":{"$ref":"#/$defs/s"}},"$defs":{"s":{"type":"string"}}}"##,
        Some(r#"{"properties":{"a":{"type":"STRING"},"b":{"type":"STRING"}},"type":"OBJECT"}"#)
    )]
    #[case::condition(r#"{"if":{"type":"string"}}"#, None)]
    #[case::two_types(r#"{"type":["string","integer"]}"#, None)]
    #[case::one_or_null(
        r#"{"anyOf":[{"type":"string"},{"type":"null"}],"description":"a name"}"#,
        Some(r#"{"description":"a name","nullable":true,"type":"STRING"}"#)
    )]
    #[case::nothing_there(r##"{"$ref":"#/$defs/a"}"##, None)]
    fn what_can_be_said_in_the_typed_form(#[case] plain: &str, #[case] typed: Option<&str>) {
        let translated = typed_of_plain(&RawJson::parse(plain).unwrap());
        // The order of members is nobody's.
        let value = |text: &str| serde_json::from_str::<Value>(text).unwrap();
        assert_eq!(translated.as_ref().map(|translated| value(translated.as_str())), typed.map(value));
    }

    /// Each definition refers to the next twice: written out it doubles with every one. A cycle that is reached by many ways is as bad.
    #[rstest]
    #[case::doubling(60, |next| format!(r##"{{"type":"object","properties":{{"a":{{"$ref":"#/$defs/d{next}"}},"b":{{"$ref":"#/$defs/d{next}"}}}}}}"##))]
    #[case::itself_several_times(1, |_| r##"{"anyOf":[{"$ref":"#/$defs/d0"},{"$ref":"#/$defs/d0"},{"$ref":"#/$defs/d0"}]}"##.to_owned())]
    fn a_schema_that_grows_without_end_ends_at_once(#[case] count: usize, #[case] definition: fn(usize) -> String) {
        let definitions: Vec<String> = (0..count).map(|at| format!(r#""d{at}":{}"#, definition(at + 1))).collect();
        let plain = format!(
            r##"{{"$ref":"#/$defs/d0","$defs":{{{},"d{count}":{{"type":"string"}}}}}}"##,
            definitions.join(",")
        );
        let value: Value = serde_json::from_str(&plain).unwrap();
        let mut typing = Typing::with(definitions_of(&value));
        assert_eq!(typing.typed(&value), None);
        assert!(typing.schemas <= MAX_SCHEMAS + 1, "{}", typing.schemas);
    }
}
