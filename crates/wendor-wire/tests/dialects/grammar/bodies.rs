//! A request as a body of each dialect, in one of the forms that the dialect has for it.

use serde_json::{Map, Value, json};
use wendor_wire::dialect::Dialect;

use super::asked::{Asked, Called, Format, IMAGE, Spoken, schema};
use super::dice::Dice;
use super::text::written;

/// `asked` as `dialect` says it.
pub fn body(asked: &Asked, dialect: Dialect, dice: &mut Dice) -> String {
    let mut members = match dialect {
        Dialect::ChatCompletions => chat_completions(asked, dice),
        Dialect::Responses => responses(asked, dice),
        Dialect::Messages => messages(asked, dice),
        Dialect::GenerateContent => generate_content(asked, dice),
        Dialect::LocalChat => local_chat(asked, dice),
    };
    members.extend(asked.noise.iter().cloned());
    written(&Value::Object(members), dice, true)
}

fn object(value: Value) -> Map<String, Value> {
    let Value::Object(members) = value else { panic!("{value}") };
    members.into_iter().filter(|(_, value)| !value.is_null()).collect()
}

fn data_url() -> String {
    format!("data:image/png;base64,{IMAGE}")
}

/// Texts as one text where there is but one, or as parts of `kind`.
fn texts(texts: &[String], kind: &str, dice: &mut Dice) -> Value {
    match texts {
        [text] if dice.coin() => json!(text),
        _ => texts.iter().map(|text| json!({ "type": kind, "text": text })).collect(),
    }
}

fn with_image(content: Value, image: Option<Value>) -> Value {
    let Some(image) = image else { return content };
    let mut parts = in_parts(content, image_text(&image));
    parts.push(image);
    Value::Array(parts)
}

/// Content as parts: a text is one of `kind`.
fn in_parts(content: Value, kind: &str) -> Vec<Value> {
    match content {
        Value::Array(parts) => parts,
        Value::String(_) | Value::Null | Value::Bool(_) | Value::Number(_) | Value::Object(_) => {
            vec![json!({ "type": kind, "text": content })]
        }
    }
}

/// The kind of a text beside such an image.
fn image_text(image: &Value) -> &'static str {
    if image["type"] == "input_image" { "input_text" } else { "text" }
}

fn function_tools(asked: &Asked) -> Value {
    let tool = |name: &String| json!({ "type": "function", "function": { "name": name, "description": format!("Tells {name}."), "parameters": schema() } });
    asked.tools.iter().map(tool).collect()
}

fn chat_completions(asked: &Asked, dice: &mut Dice) -> Map<String, Value> {
    let mut said: Vec<Value> = Vec::new();
    let role = *dice.one_of(&["system", "developer"]);
    let system = asked
        .system
        .iter()
        .map(|text| json!({ "role": role, "content": texts(std::slice::from_ref(text), "text", dice) }));
    said.extend(system);
    for turn in &asked.turns {
        match turn {
            Spoken::User { texts: said_texts, has_image } => {
                let image = has_image.then(|| json!({ "type": "image_url", "image_url": { "url": data_url() } }));
                let content = with_image(texts(said_texts, "text", dice), image);
                said.push(json!({ "role": "user", "content": content }));
            }
            Spoken::Model { text, calls } => {
                let content = text.as_ref().map(|text| texts(std::slice::from_ref(text), "text", dice));
                let mut turn = object(json!({ "role": "assistant", "content": content }));
                if content.is_none() && dice.coin() {
                    turn.insert("content".to_owned(), Value::Null);
                }
                if !calls.is_empty() {
                    let call = |call: &Called| json!({ "id": call.id, "type": "function", "function": { "name": call.name, "arguments": written(&call.arguments, dice, true) } });
                    turn.insert("tool_calls".to_owned(), calls.iter().map(call).collect());
                }
                said.push(Value::Object(turn));
                said.extend(calls.iter().map(|call| json!({ "role": "tool", "tool_call_id": call.id, "content": texts(std::slice::from_ref(&call.result), "text", dice) })));
            }
        }
    }
    let format = match asked.format {
        Format::Any => dice.maybe(|_| json!({ "type": "text" })),
        Format::Json => Some(json!({ "type": "json_object" })),
        Format::Schema => {
            Some(json!({ "type": "json_schema", "json_schema": { "name": "sailing", "schema": schema() } }))
        }
    };
    let limit = *dice.one_of(&["max_tokens", "max_completion_tokens"]);
    let stop = match asked.stop.as_slice() {
        [] => Value::Null,
        [one] if dice.coin() => json!(one),
        more => json!(more),
    };
    let tools = Some(function_tools(asked)).filter(|tools| *tools != json!([]) || dice.in_hundred(20));
    object(
        json!({ "model": "m", "messages": said, "tools": tools, limit: asked.limit, "temperature": asked.temperature, "stop": stop, "user": asked.user, "response_format": format }),
    )
}

fn responses(asked: &Asked, dice: &mut Dice) -> Map<String, Value> {
    let mut items: Vec<Value> = Vec::new();
    let as_item = dice.coin();
    let system = asked.system.as_ref().filter(|_| as_item);
    items.extend(system.map(|text| json!({ "role": "system", "content": text })));
    for turn in &asked.turns {
        match turn {
            Spoken::User { texts: said, has_image } => {
                let image = has_image.then(|| json!({ "type": "input_image", "image_url": data_url() }));
                let content = with_image(texts(said, "input_text", dice), image);
                let mut item = object(json!({ "role": "user", "content": content }));
                if dice.coin() {
                    item.insert("type".to_owned(), json!("message"));
                }
                items.push(Value::Object(item));
            }
            Spoken::Model { text, calls } => {
                let said = text.as_ref().map(|text| json!({ "type": "message", "role": "assistant", "content": texts(std::slice::from_ref(text), "output_text", dice) }));
                items.extend(said);
                items.extend(calls.iter().map(|call| json!({ "type": "function_call", "call_id": call.id, "name": call.name, "arguments": written(&call.arguments, dice, true) })));
                let output = |call: &Called| json!({ "type": "function_call_output", "call_id": call.id, "output": texts(std::slice::from_ref(&call.result), "input_text", dice) });
                items.extend(calls.iter().map(output));
            }
        }
    }
    let tool = |name: &String| json!({ "type": "function", "name": name, "description": format!("Tells {name}."), "parameters": schema() });
    let format = match asked.format {
        Format::Any => None,
        Format::Json => Some(json!({ "type": "json_object" })),
        Format::Schema => Some(json!({ "type": "json_schema", "name": "sailing", "schema": schema() })),
    };
    object(json!({
        "model": "m", "input": items, "instructions": asked.system.as_ref().filter(|_| !as_item),
        "tools": asked.tools.iter().map(tool).collect::<Vec<_>>(), "max_output_tokens": asked.limit, "temperature": asked.temperature,
        "user": asked.user, "text": format.map(|format| json!({ "format": format })), "store": dice.maybe(|_| false),
    }))
}

fn messages(asked: &Asked, dice: &mut Dice) -> Map<String, Value> {
    let mut said: Vec<Value> = Vec::new();
    let mut results: Vec<Value> = Vec::new();
    for turn in &asked.turns {
        match turn {
            Spoken::User { texts: said_texts, has_image } => {
                let image = has_image.then(|| json!({ "type": "image", "source": { "type": "base64", "media_type": "image/png", "data": IMAGE } }));
                let content = with_image(texts(said_texts, "text", dice), image);
                let is_apart = dice.coin();
                if results.is_empty() || is_apart {
                    let given = std::mem::take(&mut results);
                    if !given.is_empty() {
                        said.push(json!({ "role": "user", "content": given }));
                    }
                    said.push(json!({ "role": "user", "content": content }));
                } else {
                    let mut parts = std::mem::take(&mut results);
                    parts.extend(in_parts(content, "text"));
                    said.push(json!({ "role": "user", "content": parts }));
                }
            }
            Spoken::Model { text, calls } => {
                let mut parts: Vec<Value> = text.iter().map(|text| json!({ "type": "text", "text": text })).collect();
                parts.extend(calls.iter().map(
                    |call| json!({ "type": "tool_use", "id": call.id, "name": call.name, "input": call.arguments }),
                ));
                said.push(json!({ "role": "assistant", "content": parts }));
                results = calls.iter().map(|call| json!({ "type": "tool_result", "tool_use_id": call.id, "content": texts(std::slice::from_ref(&call.result), "text", dice) })).collect();
            }
        }
    }
    let tool =
        |name: &String| json!({ "name": name, "description": format!("Tells {name}."), "input_schema": schema() });
    let tools: Vec<Value> = asked.tools.iter().map(tool).collect();
    let format =
        (asked.format == Format::Schema).then(|| json!({ "format": { "type": "json_schema", "schema": schema() } }));
    object(json!({
        "model": "m", "messages": said, "system": asked.system.as_ref().map(|text| texts(std::slice::from_ref(text), "text", dice)),
        "max_tokens": asked.limit, "temperature": asked.temperature, "tools": Some(tools).filter(|tools| !tools.is_empty()),
        "stop_sequences": Some(&asked.stop).filter(|stop| !stop.is_empty()), "metadata": asked.user.as_ref().map(|user| json!({ "user_id": user })),
        "output_config": format,
    }))
}

fn generate_content(asked: &Asked, dice: &mut Dice) -> Map<String, Value> {
    let is_snake = dice.coin();
    let name = |camel: &str| if is_snake { snake(camel) } else { camel.to_owned() };
    let text_part = |text: &String| json!({ "text": text });
    let mut contents: Vec<Value> = Vec::new();
    for turn in &asked.turns {
        match turn {
            Spoken::User { texts, has_image } => {
                let mut parts: Vec<Value> = texts.iter().map(text_part).collect();
                parts.extend(
                    has_image.then(|| json!({ name("inlineData"): { name("mimeType"): "image/png", "data": IMAGE } })),
                );
                contents.push(object(json!({ "role": dice.maybe(|_| "user"), "parts": parts })).into());
            }
            Spoken::Model { text, calls } => {
                let mut parts: Vec<Value> = text.iter().map(text_part).collect();
                let has_ids = dice.coin();
                let id = |call: &Called| Some(call.id.clone()).filter(|_| has_ids);
                let called =
                    |call: &Called| object(json!({ "id": id(call), "name": call.name, "args": call.arguments }));
                parts.extend(calls.iter().map(|call| json!({ name("functionCall"): called(call) })));
                contents.push(json!({ "role": "model", "parts": parts }));
                let gave = |call: &Called| {
                    object(json!({ "id": id(call), "name": call.name, "response": { "result": call.result } }))
                };
                let parts: Vec<Value> =
                    calls.iter().map(|call| json!({ name("functionResponse"): gave(call) })).collect();
                if !parts.is_empty() {
                    let role = *dice.one_of(&["user", "function"]);
                    contents.push(json!({ "role": role, "parts": parts }));
                }
            }
        }
    }
    let parameters = name(if dice.coin() { "parametersJsonSchema" } else { "parameters" });
    let tool =
        |tool: &String| json!({ "name": tool, "description": format!("Tells {tool}."), parameters.as_str(): schema() });
    let declared: Vec<Value> = asked.tools.iter().map(tool).collect();
    let tools = (!declared.is_empty()).then(|| json!([{ name("functionDeclarations"): declared }]));
    let kind = (asked.format != Format::Any).then_some("application/json");
    let config = object(json!({
        name("maxOutputTokens"): asked.limit, "temperature": asked.temperature, name("responseMimeType"): kind,
        name("stopSequences"): Some(&asked.stop).filter(|stop| !stop.is_empty()),
        name("responseJsonSchema"): Some(schema()).filter(|_| asked.format == Format::Schema),
    }));
    object(json!({
        "contents": contents, "tools": tools, name("generationConfig"): Some(config).filter(|config| !config.is_empty()),
        name("systemInstruction"): asked.system.as_ref().map(|text| json!({ "parts": [{ "text": text }] })),
    }))
}

fn snake(camel: &str) -> String {
    let letter = |letter: char| {
        if letter.is_ascii_uppercase() { format!("_{}", letter.to_ascii_lowercase()) } else { letter.to_string() }
    };
    camel.chars().map(letter).collect()
}

fn local_chat(asked: &Asked, dice: &mut Dice) -> Map<String, Value> {
    let mut said: Vec<Value> = asked.system.iter().map(|text| json!({ "role": "system", "content": text })).collect();
    for turn in &asked.turns {
        match turn {
            Spoken::User { texts, has_image } => {
                let images = has_image.then(|| json!([IMAGE]));
                said.push(object(json!({ "role": "user", "content": texts.join("\n"), "images": images })).into());
            }
            Spoken::Model { text, calls } => {
                let call = |call: &Called| json!({ "function": { "name": call.name, "arguments": call.arguments } });
                let called = (!calls.is_empty()).then(|| calls.iter().map(call).collect::<Vec<_>>());
                said.push(object(json!({ "role": "assistant", "content": text.clone().unwrap_or_default(), "tool_calls": called })).into());
                said.extend(
                    calls.iter().map(|call| json!({ "role": "tool", "tool_name": call.name, "content": call.result })),
                );
            }
        }
    }
    let format = match asked.format {
        Format::Any => dice.maybe(|_| json!("")),
        Format::Json => Some(json!("json")),
        Format::Schema => Some(schema()),
    };
    let options = object(
        json!({ "temperature": asked.temperature, "num_predict": asked.limit, "stop": Some(&asked.stop).filter(|stop| !stop.is_empty()) }),
    );
    object(json!({
        "model": "m", "messages": said, "tools": Some(function_tools(asked)).filter(|tools| *tools != json!([]) || dice.coin()),
        "format": format, "stream": dice.coin(), "options": Some(options).filter(|options| !options.is_empty() || dice.coin()),
    }))
}
