//! A schema with its name, as chat-completions and responses have it.

use crate::conversation::wish::Schema;
use crate::json::{Members, Object, RawJson, Wrong};
use crate::schema::{self, closed, requires_all};

/// A schema with its name, as chat-completions and responses have it.
pub(crate) fn read(object: &mut Object<'_>) -> Result<Schema, Wrong> {
    Ok(Schema {
        schema: object.take("schema").map_or_else(RawJson::empty_object, |node| schema::read(&node)),
        typed: None,
        name: object.text("name")?,
        description: object.text("description")?,
        is_strict: object.flag("strict")?,
    })
}

/// A schema with its name, as this dialect and responses have it: where the app's dialect has no names, it gets one.
pub(crate) fn write(schema: &Schema) -> Members {
    // Where the app's dialect has no word for it, the model is held to every schema, as far as services take it so.
    let is_held = schema.is_strict.or(schema.name.is_none().then(|| requires_all(&schema.schema)).filter(|all| *all));
    let is_closed = is_held == Some(true) && schema.is_strict.is_none();
    Members::new()
        .put("name", schema.name.clone().unwrap_or_else(|| "response".to_owned()))
        .some("description", schema.description.as_ref())
        .put("schema", if is_closed { closed(&schema.schema) } else { schema.schema.clone() })
        .some("strict", is_held)
}
