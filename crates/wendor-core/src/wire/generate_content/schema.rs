//! The typed form of schemas that this dialect has beside JSON Schema (PROTOCOLS section 8.5): types in capitals, `nullable` instead of
//! a union with null.

use serde_json::{Map, Value, json};

use crate::wire::json::RawJson;

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
    for_each_schema(object, plain);
    let is_nullable = object.remove("nullable") == Some(Value::Bool(true));
    let Some(kind) = object.get_mut("type") else { return };
    if let Value::String(name) = kind {
        let name = name.to_ascii_lowercase();
        *kind = if is_nullable { json!([name, "null"]) } else { json!(name) };
    }
}

/// A JSON Schema in the typed form, for upstreams that know no other. `None` when something in it cannot be said: a reference, a
/// pattern of names, a condition.
#[must_use]
pub fn typed_of_plain(plain: &RawJson) -> Option<RawJson> {
    let mut value = serde_json::from_str::<Value>(plain.as_str()).ok()?;
    let definitions = definitions_of(&value);
    typed(&mut value, &definitions, 0)?;
    RawJson::parse(&value.to_string())
}

/// Deepest chain of references that is followed: a schema that refers to itself has no end.
const MAX_REFERENCES: u32 = 16;

fn definitions_of(value: &Value) -> Map<String, Value> {
    let mut all = Map::new();
    for word in ["$defs", "definitions"] {
        if let Some(Value::Object(definitions)) = value.get(word) {
            all.extend(definitions.iter().map(|(name, schema)| (format!("#/{word}/{name}"), schema.clone())));
        }
    }
    all
}

fn typed(value: &mut Value, definitions: &Map<String, Value>, depth: u32) -> Option<()> {
    if depth > MAX_REFERENCES {
        return None;
    }
    if let Some(Value::String(reference)) = value.get("$ref") {
        let mut target = definitions.get(reference)?.clone();
        typed(&mut target, definitions, depth + 1)?;
        *value = target;
        return Some(());
    }
    let Value::Object(object) = value else { return Some(()) };
    if ["patternProperties", "if", "then", "not", "oneOf", "allOf"].iter().any(|word| object.contains_key(*word)) {
        return None;
    }
    for word in ["$schema", "additionalProperties", "title", "$defs", "definitions", "strict"] {
        object.remove(word);
    }
    let mut can_be_said = true;
    for_each_schema(object, |inner| can_be_said &= typed(inner, definitions, depth + 1).is_some());
    match object.get_mut("type") {
        Some(Value::String(kind)) => *kind = kind.to_ascii_uppercase(),
        Some(Value::Array(kinds)) => {
            let (null, other): (Vec<Value>, Vec<Value>) = kinds.drain(..).partition(|kind| kind == "null");
            let [Value::String(only)] = other.as_slice() else { return None };
            let only = only.to_ascii_uppercase();
            object.insert("type".to_owned(), json!(only));
            if !null.is_empty() {
                object.insert("nullable".to_owned(), json!(true));
            }
        }
        Some(_) => return None,
        None => {}
    }
    can_be_said.then_some(())
}

/// Every schema that stands in `object`.
fn for_each_schema(object: &mut Map<String, Value>, mut with: impl FnMut(&mut Value)) {
    for (name, inner) in object.iter_mut() {
        match (name.as_str(), inner) {
            ("properties", Value::Object(properties)) => properties.values_mut().for_each(&mut with),
            ("anyOf" | "prefixItems", Value::Array(schemas)) => schemas.iter_mut().for_each(&mut with),
            ("items", schema @ Value::Object(_)) => with(schema),
            (_, _) => {}
        }
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
    fn typed_and_plain(#[case] typed: &str, #[case] plain: &str) {
        let typed = RawJson::parse(typed).unwrap();
        let value = |raw: &RawJson| serde_json::from_str::<Value>(raw.as_str()).unwrap();
        let found = plain_of_typed(&typed);
        assert_eq!(value(&found), serde_json::from_str::<Value>(plain).unwrap());
        let mut expected = value(&typed);
        expected.as_object_mut().unwrap().remove("propertyOrdering");
        assert_eq!(value(&typed_of_plain(&found).unwrap()), expected, "and back");
    }

    #[rstest]
    #[case::reference(r##"{"$ref":"#/$defs/a","$defs":{"a":{"type":"string"}}}"##, Some(r#"{"type":"STRING"}"#))]
    #[case::endless(r##"{"$ref":"#/$defs/a","$defs":{"a":{"type":"array","items":{"$ref":"#/$defs/a"}}}}"##, None)]
    #[case::condition(r#"{"if":{"type":"string"}}"#, None)]
    #[case::two_types(r#"{"type":["string","integer"]}"#, None)]
    fn what_can_be_said_in_the_typed_form(#[case] plain: &str, #[case] typed: Option<&str>) {
        let found = typed_of_plain(&RawJson::parse(plain).unwrap());
        assert_eq!(found.as_ref().map(RawJson::as_str), typed);
    }
}
