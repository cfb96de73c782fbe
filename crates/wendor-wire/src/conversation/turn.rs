//! Turns of a conversation and the parts that they are made of.

use crate::conversation::Native;
use crate::json::RawJson;
use crate::seal::Seal;
use crate::verdict::field::Field;

/// Who speaks. What a tool gave back stands in a turn of the user: two dialects have it so, and the others take it apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Whoever set the model up.
    System,
    /// The app's developer; where a dialect does not tell the two apart, the system.
    Developer,
    /// Who asks; tools answer in a role of their own.
    User,
    /// The model.
    Assistant,
}

impl Role {
    /// Whether its texts are instructions.
    #[must_use]
    pub fn is_system(self) -> bool {
        match self {
            Self::System | Self::Developer => true,
            Self::User | Self::Assistant => false,
        }
    }
}

/// What one side said at a time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Turn {
    /// Who speaks.
    pub role: Role,
    /// Tells several speakers of a role apart.
    pub name: Option<String>,
    /// What they say.
    pub parts: Vec<Part>,
    /// Where it stands in the app's body.
    pub path: String,
    /// What only the app's dialect knows of it.
    pub native: Vec<Native>,
}

impl Turn {
    /// A turn of these parts.
    #[must_use]
    pub fn of(role: Role, parts: Vec<Part>, path: impl Into<String>) -> Self {
        Self { role, name: None, parts, path: path.into(), native: Vec::new() }
    }

    /// A turn that is one text.
    #[must_use]
    pub fn of_text(role: Role, text: impl Into<String>, path: impl Into<String>) -> Self {
        let path = path.into();
        Self::of(role, vec![Part::of(PartKind::Text(text.into()), path.clone())], path)
    }

    /// Its texts, joined with line breaks.
    #[must_use]
    pub fn text(&self) -> String {
        text_of(&self.parts)
    }
}

/// The texts among `parts`, joined with line breaks.
#[must_use]
pub fn text_of(parts: &[Part]) -> String {
    let texts = parts.iter().filter_map(|part| match &part.kind {
        PartKind::Text(text) | PartKind::Refusal(text) => Some(text.as_str()),
        PartKind::Image(_)
        | PartKind::Audio(_)
        | PartKind::File(_)
        | PartKind::Video(_)
        | PartKind::ToolCall(_)
        | PartKind::ToolResult(_)
        | PartKind::Thinking(_)
        | PartKind::Foreign(_) => None,
    });
    texts.collect::<Vec<_>>().join("\n")
}

/// Notes which marks of what is worth caching, on `parts` of a turn of `role`, have a place in no other dialect.
pub(crate) fn tell_cache_marks(parts: &mut [Part], role: Role) {
    for part in parts.iter_mut().filter(|part| !part.takes_cache_marks(role)) {
        for native in part.native.iter_mut().filter(|native| native.field == Field::CacheMarks) {
            native.field = Field::WideCacheMarks;
        }
    }
}

/// A part of a turn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// What it is.
    pub kind: PartKind,
    /// Where it stands in the app's body.
    pub path: String,
    /// What only the app's dialect knows of it.
    pub native: Vec<Native>,
}

impl Part {
    /// A part without members of one dialect alone.
    #[must_use]
    pub fn of(kind: PartKind, path: impl Into<String>) -> Self {
        Self { kind, path: path.into(), native: Vec::new() }
    }
}

impl Part {
    /// Whether other dialects have a place for a mark of what is worth caching on it, in a turn of `role`.
    fn takes_cache_marks(&self, role: Role) -> bool {
        match self.kind {
            PartKind::Text(_) | PartKind::Image(_) | PartKind::File(_) => role == Role::User,
            PartKind::Audio(_)
            | PartKind::Video(_)
            | PartKind::Refusal(_)
            | PartKind::ToolCall(_)
            | PartKind::ToolResult(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => false,
        }
    }

    /// Whether it is an image, a sound, a document or a film.
    #[must_use]
    pub fn is_medium(&self) -> bool {
        match self.kind {
            PartKind::Image(_) | PartKind::Audio(_) | PartKind::File(_) | PartKind::Video(_) => true,
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::ToolCall(_)
            | PartKind::ToolResult(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => false,
        }
    }
}

/// Everything that a turn can hold, in any dialect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PartKind {
    /// Plain, as written.
    Text(String),
    /// The model's text that says why it will not answer.
    Refusal(String),
    /// Shown to the model.
    Image(Media),
    /// Sound to be heard.
    Audio(Media),
    /// A document.
    File(Media),
    /// Moving pictures.
    Video(Media),
    /// The model calls a function.
    ToolCall(ToolCall),
    /// What a function gave back.
    ToolResult(ToolResult),
    /// The model's thinking.
    Thinking(Thinking),
    /// Something that only its own dialect knows.
    Foreign(Foreign),
}

/// An image, a sound, a document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Media {
    /// Its bytes or where they are.
    pub source: MediaSource,
    /// A file's name.
    pub name: Option<String>,
}

/// Where the bytes of a medium are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MediaSource {
    /// Here, in base64.
    Bytes {
        /// What they are, such as `image/png`.
        kind: String,
        /// As it stood in the request.
        base64: String,
    },
    /// At an address, with their kind if it was told.
    Url {
        /// The address.
        url: String,
        /// What is there.
        kind: Option<String>,
    },
    /// In a store of the upstream that some app put them into.
    Handle(String),
}

impl MediaSource {
    /// Bytes of that kind, under the name that services know it by.
    #[must_use]
    pub fn bytes(kind: &str, base64: String) -> Self {
        let small = kind.to_ascii_lowercase();
        let kind = match small.as_str() {
            "image/jpg" => "image/jpeg",
            "audio/mpeg" | "audio/mpga" | "audio/x-mp3" => "audio/mp3",
            "audio/wave" | "audio/x-wav" | "audio/vnd.wave" => "audio/wav",
            _ => kind,
        };
        Self::Bytes { kind: kind.to_owned(), base64 }
    }

    /// What a `data:` address holds, or the address.
    #[must_use]
    pub fn of_url(url: String) -> Self {
        let data = url.strip_prefix("data:").and_then(|rest| rest.split_once(','));
        match data.and_then(|(head, base64)| Some((head.strip_suffix(";base64")?, base64))) {
            Some((kind, base64)) => {
                let kind = kind.split(';').next().unwrap_or_default();
                Self::bytes(kind, base64.to_owned())
            }
            None => Self::Url { url, kind: None },
        }
    }

    /// The address, as a `data:` address where the bytes are here; a handle has none.
    #[must_use]
    pub fn to_url(&self) -> String {
        match self {
            Self::Bytes { kind, base64 } => format!("data:{kind};base64,{base64}"),
            Self::Url { url, .. } => url.clone(),
            Self::Handle(_) => String::new(),
        }
    }

    /// What it is, if that is known.
    #[must_use]
    pub fn kind(&self) -> Option<&str> {
        match self {
            Self::Bytes { kind, .. } => Some(kind),
            Self::Url { kind, .. } => kind.as_deref(),
            Self::Handle(_) => None,
        }
    }
}

/// A call of a function.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ToolCall {
    /// What its result is linked by.
    pub id: Option<String>,
    /// The function.
    pub name: String,
    /// Its arguments as the model wrote them: JSON of an object, unless the model failed, or the free text of a custom tool.
    pub arguments: String,
    /// A function or a custom tool.
    pub kind: CallKind,
    /// The seal of the thinking that led to it.
    pub seal: Option<Seal>,
}

/// What a call carries: JSON arguments or free text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CallKind {
    /// Of a function, with arguments in JSON.
    #[default]
    Function,
    /// Of a tool that takes free text.
    Custom,
}

impl ToolCall {
    /// Its arguments as an object: nothing at all counts as an empty one. `None` when the model wrote no object.
    #[must_use]
    pub fn arguments_object(&self) -> Option<RawJson> {
        arguments_object(&self.arguments)
    }
}

/// Arguments as an object: nothing at all counts as an empty one. `None` when the model wrote no object.
#[must_use]
pub fn arguments_object(arguments: &str) -> Option<RawJson> {
    if arguments.trim().is_empty() {
        return Some(RawJson::empty_object());
    }
    RawJson::parse(arguments).filter(RawJson::is_object)
}

/// What a function gave back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ToolResult {
    /// The call's id.
    pub call: Option<String>,
    /// The function's name, where the dialect links by name.
    pub name: Option<String>,
    /// What it gave: texts, and images where the dialect has them there.
    pub parts: Vec<Part>,
    /// Whether it failed.
    pub is_error: bool,
    /// Of a function or of a custom tool.
    pub kind: CallKind,
    /// The call that it belongs to, once that was found ([`crate::conversation::Conversation::link`]).
    pub called: Option<Called>,
}

/// What a result belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Called {
    /// The function's name.
    pub name: String,
    /// A function or a custom tool.
    pub kind: CallKind,
}

impl ToolResult {
    /// The name of the function: the one that came with the result, or the call's. What has neither is named by its id.
    #[must_use]
    pub fn function(&self) -> &str {
        let called = self.called.as_ref().map(|called| called.name.as_str());
        self.name.as_deref().or(called).or(self.call.as_deref()).unwrap_or_default()
    }
}

/// Thinking of the model.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Thinking {
    /// Its text; may be empty where only the seal comes.
    pub text: String,
    /// What lets the service that made it recognise it.
    pub seal: Option<Seal>,
}

/// Something that only one dialect knows, carried for that dialect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Foreign {
    /// What it is to the verdict.
    pub field: Field,
    /// As it stood there.
    pub value: RawJson,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::data("data:image/png;base64,AAA=", Some("image/png"), "data:image/png;base64,AAA=")]
    #[case::with_parameter(
        "data:text/plain;charset=utf-8;base64,AA==",
        Some("text/plain"),
        "data:text/plain;base64,AA=="
    )]
    #[case::other_name("data:image/jpg;base64,AAA=", Some("image/jpeg"), "data:image/jpeg;base64,AAA=")]
    #[case::sound("data:audio/mpeg;base64,AAA=", Some("audio/mp3"), "data:audio/mp3;base64,AAA=")]
    #[case::sound_in_waves("data:audio/X-WAV;base64,AAA=", Some("audio/wav"), "data:audio/wav;base64,AAA=")]
    #[case::not_base64("data:text/plain,hello", None, "data:text/plain,hello")]
    #[case::address("https://pier.example/a.png", None, "https://pier.example/a.png")]
    fn addresses_of_media(#[case] url: &str, #[case] kind: Option<&str>, #[case] back: &str) {
        let source = MediaSource::of_url(url.to_owned());
        assert_eq!((source.kind(), source.to_url().as_str()), (kind, back));
    }

    #[rstest]
    #[case::nothing("", Some("{}"))]
    #[case::object(r#"{"a":1}"#, Some(r#"{"a":1}"#))]
    #[case::list("[1]", None)]
    #[case::broken(r#"{"a":"#, None)]
    fn arguments_as_an_object(#[case] written: &str, #[case] object: Option<&str>) {
        assert_eq!(arguments_object(written).as_ref().map(RawJson::as_str), object);
    }
}
