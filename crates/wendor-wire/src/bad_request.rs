//! Why a request cannot be taken, and what is checked of every body before any of its members is read.

use crate::members::{Found, Member, first_repeated, members};
use crate::refusal_code::RefusalCode;
use crate::scan::{Scan, scan};

/// Deepest nesting that is read: schemas of tools reach a few dozen.
pub const MAX_DEPTH: u32 = 128;

/// The most that is told of a member's name, in characters.
const MAX_NAME: usize = 60;

/// Why a body cannot be taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct BadRequest {
    /// The member at fault, by its path.
    pub param: Option<String>,
    /// The cause in a word.
    pub code: RefusalCode,
    /// What is wrong and what to do.
    pub message: String,
}

impl BadRequest {
    /// Something is wrong with that member.
    pub(crate) fn of_member(param: &'static str, code: RefusalCode, message: impl Into<String>) -> Self {
        Self { param: Some(param.to_owned()), code, message: message.into() }
    }

    /// What stands at that path is not what the dialect says.
    pub(crate) fn of_path(path: &str, message: String) -> Self {
        let param = (!path.is_empty()).then(|| path.to_owned());
        Self { param, code: RefusalCode::InvalidValue, message }
    }

    /// Something is wrong with the body as a whole.
    pub(crate) fn of_body(code: RefusalCode, message: String) -> Self {
        Self { param: None, code, message }
    }
}

/// A body that may be read further: what one pass over it found, and its outermost members, each of which stands there once.
pub(crate) fn outermost(body: &[u8]) -> Result<(Scan, Found<'_>), BadRequest> {
    let scanned = scan(body);
    if scanned.depth > MAX_DEPTH {
        let message = format!("the body nests {} levels deep; at most {MAX_DEPTH} are read", scanned.depth);
        return Err(BadRequest::of_body(RefusalCode::NestedTooDeep, message));
    }
    let fields = members(body).map_err(|error| not_json(&error))?;
    refuse_repeated(&fields)?;
    Ok((scanned, fields))
}

/// What a body says of whether the answer is to be a stream; `None` where it says nothing.
pub(crate) fn stream_wish(member: Option<&Member<'_>>) -> Result<Option<bool>, BadRequest> {
    match member.map(|member| member.value) {
        None | Some("null") => Ok(None),
        Some("true") => Ok(Some(true)),
        Some("false") => Ok(Some(false)),
        Some(_) => Err(BadRequest::of_member("stream", RefusalCode::InvalidType, "`stream` must be true or false")),
    }
}

/// The name of a route in the member `model`.
pub(crate) fn route_name(member: Option<&Member<'_>>) -> Result<String, BadRequest> {
    let Some(member) = member else {
        let message = "`model` is missing: put the name of a route there (GET /v1/models lists them)";
        return Err(BadRequest::of_member("model", RefusalCode::MissingMember, message));
    };
    serde_json::from_str::<String>(member.value).map_err(|_| {
        BadRequest::of_member("model", RefusalCode::InvalidType, "`model` must be a text, the name of a route")
    })
}

/// What is wrong with a text that is no JSON object: its place, never its content.
fn not_json(error: &serde_json::Error) -> BadRequest {
    let why = match error.classify() {
        serde_json::error::Category::Eof => "it ends too early",
        serde_json::error::Category::Data => "it must be one object",
        serde_json::error::Category::Syntax | serde_json::error::Category::Io => "it cannot be read",
    };
    let message = format!("the body is not a JSON object: {why} (line {}, column {})", error.line(), error.column());
    BadRequest::of_body(RefusalCode::InvalidJson, message)
}

/// Twice the same member is refused: two readers could read two different ones, one of them without what the other looks for.
fn refuse_repeated(members: &[Member<'_>]) -> Result<(), BadRequest> {
    let Some(name) = first_repeated(members.iter().map(|member| &*member.name)) else { return Ok(()) };
    let name = name.chars().take(MAX_NAME).collect::<String>();
    let message = format!("`{name}` stands in the body twice; send it once");
    Err(BadRequest { param: Some(name), code: RefusalCode::RepeatedMember, message })
}
