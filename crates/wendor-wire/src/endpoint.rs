//! Which endpoint a path is, in which dialect. A missing or doubled version segment is taken for what was meant: apps put base
//! addresses together in every way there is.

use crate::dialect::Dialect;
use crate::nearest::nearest;
use crate::percent::unescaped;

/// What is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A turn of a conversation; a model in the path, and whether the path asks for a stream.
    Chat(InPath),
    /// How many tokens a request has.
    Count(InPath),
    /// Vectors of texts.
    Embed(EmbedForm, InPath),
    /// Something that goes through where app and upstream speak the same dialect.
    Passed(Passed),
    /// Answered by the gateway itself: routes of the key's team.
    Models,
    /// One of them.
    Model(String),
    /// What a local server tells of a model.
    ShowModel,
    /// What a local server has loaded.
    Loaded,
    /// A local server's version.
    Version,
}

/// What goes through as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Passed {
    /// A prompt continued.
    Completions,
    /// Images made.
    Images,
    /// Sound written down: the one endpoint whose requests are forms.
    Transcriptions,
}

impl Passed {
    /// Below the dialect's base, with its leading slash.
    #[must_use]
    pub fn path(self) -> &'static str {
        match self {
            Self::Completions => "/v1/completions",
            Self::Images => "/v1/images/generations",
            Self::Transcriptions => "/v1/audio/transcriptions",
        }
    }

    /// Whether its streams hold events of its own, which no conversation has.
    #[must_use]
    pub fn has_own_events(self) -> bool {
        match self {
            Self::Images | Self::Transcriptions => true,
            Self::Completions => false,
        }
    }
}

/// What a path says beside the endpoint.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct InPath {
    /// The model, where paths name it.
    pub model: Option<String>,
    /// Whether it asks for a stream, where paths do.
    pub is_streamed: bool,
    /// Whether one prompt is asked with instead of turns, where there is a path for that.
    pub is_prompt: bool,
}

/// The forms in which vectors are asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EmbedForm {
    /// `POST /v1/embeddings`.
    List,
    /// `:batchEmbedContents`.
    ContentBatch,
    /// `:embedContent`.
    Content,
    /// `POST /api/embed`.
    Local,
    /// `POST /api/embeddings`, one text.
    LocalOld,
}

/// A dialect's path and what it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoint {
    /// Its dialect. For listings, which three dialects share, the one that the request's headers tell.
    pub dialect: Dialect,
    /// What is asked.
    pub kind: Kind,
}

/// What a request's headers tell of its dialect, for the paths that several share.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Hints {
    /// A header whose name ends in `-version` holds a date.
    pub has_version_date: bool,
    /// The key came in a header ending in `-api-key`, other than `x-api-key`.
    pub has_named_key: bool,
}

/// Why a path is no endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoEndpoint {
    /// There is nothing there; the nearest path that is, and the dialect that was probably meant.
    NoSuchPath(Dialect, Option<&'static str>),
    /// It is there, but asked with this method.
    WrongMethod(Dialect, &'static str),
}

/// Every path of the data plane, for whoever took a wrong one.
pub const PATHS: [&str; 18] = [
    "/v1/audio/transcriptions",
    "/v1/chat/completions",
    "/v1/completions",
    "/v1/embeddings",
    "/v1/images/generations",
    "/v1/responses",
    "/v1/responses/input_tokens",
    "/v1/messages",
    "/v1/messages/count_tokens",
    "/v1/models",
    "/v1beta/models",
    "/v1beta/models/{route}:generateContent",
    "/v1beta/models/{route}:streamGenerateContent",
    "/api/chat",
    "/api/generate",
    "/api/embed",
    "/api/tags",
    "/api/version",
];

/// The endpoint of a path, which is not yet unescaped.
///
/// # Errors
/// When there is none.
pub fn resolve(method: &str, path: &str, hints: Hints) -> Result<Endpoint, NoEndpoint> {
    let is_beta = path.starts_with("/v1beta/");
    let rest = without_versions(path);
    let (wanted, found) = match local(rest).or_else(|| general(rest, is_beta, hints)) {
        Some(found) => found,
        None => return Err(no_such_path(path, is_beta, hints)),
    };
    if method == wanted || (method == "HEAD" && wanted == "GET") {
        return Ok(found);
    }
    Err(NoEndpoint::WrongMethod(found.dialect, wanted))
}

fn no_such_path(path: &str, is_beta: bool, hints: Hints) -> NoEndpoint {
    let dialect = match path {
        _ if path.starts_with("/api/") => Dialect::LocalChat,
        _ if is_beta || path.contains(":generate") => Dialect::GenerateContent,
        _ if path.contains("messages") => Dialect::Messages,
        _ if path.contains("responses") => Dialect::Responses,
        _ => dialect_of_listing(is_beta, hints),
    };
    NoEndpoint::NoSuchPath(
        dialect,
        nearest(path, PATHS).and_then(|near| PATHS.into_iter().find(|known| *known == near)),
    )
}

/// The path behind its version segments, however many there are.
fn without_versions(path: &str) -> &str {
    let mut rest = path.trim_start_matches('/');
    while let Some(after) = ["v1/", "v1beta/", "v1alpha/"].iter().find_map(|version| rest.strip_prefix(version)) {
        rest = after.trim_start_matches('/');
    }
    rest.trim_end_matches('/')
}

type Found = (&'static str, Endpoint);

fn post(dialect: Dialect, kind: Kind) -> Option<Found> {
    Some(("POST", Endpoint { dialect, kind }))
}

fn read(dialect: Dialect, kind: Kind) -> Option<Found> {
    Some(("GET", Endpoint { dialect, kind }))
}

/// Paths under `/api/`.
fn local(rest: &str) -> Option<Found> {
    let mut rest = rest.strip_prefix("api/")?;
    while let Some(after) = rest.strip_prefix("api/").or_else(|| rest.strip_prefix("v1/")) {
        rest = after;
    }
    let dialect = Dialect::LocalChat;
    match rest {
        "chat" => post(dialect, Kind::Chat(InPath::default())),
        "generate" => post(dialect, Kind::Chat(InPath { is_prompt: true, ..InPath::default() })),
        "embed" => post(dialect, Kind::Embed(EmbedForm::Local, InPath::default())),
        "embeddings" => post(dialect, Kind::Embed(EmbedForm::LocalOld, InPath::default())),
        "tags" => read(dialect, Kind::Models),
        "show" => post(dialect, Kind::ShowModel),
        "ps" => read(dialect, Kind::Loaded),
        "version" => read(dialect, Kind::Version),
        _ => None,
    }
}

fn general(rest: &str, is_beta: bool, hints: Hints) -> Option<Found> {
    let chat = Dialect::ChatCompletions;
    match rest {
        "chat/completions" => post(chat, Kind::Chat(InPath::default())),
        "completions" => post(chat, Kind::Passed(Passed::Completions)),
        "embeddings" => post(chat, Kind::Embed(EmbedForm::List, InPath::default())),
        "images/generations" => post(chat, Kind::Passed(Passed::Images)),
        "audio/transcriptions" => post(chat, Kind::Passed(Passed::Transcriptions)),
        "responses" => post(Dialect::Responses, Kind::Chat(InPath::default())),
        "responses/input_tokens" => post(Dialect::Responses, Kind::Count(InPath::default())),
        "messages" => post(Dialect::Messages, Kind::Chat(InPath::default())),
        "messages/count_tokens" => post(Dialect::Messages, Kind::Count(InPath::default())),
        "models" => read(dialect_of_listing(is_beta, hints), Kind::Models),
        _ => content(rest.strip_prefix("models/")?, is_beta, hints),
    }
}

/// Behind `models/`: a model's name, which may hold slashes and colons, and perhaps a method behind the last colon.
fn content(rest: &str, is_beta: bool, hints: Hints) -> Option<Found> {
    let dialect = Dialect::GenerateContent;
    let in_path = |model: &str, is_streamed| InPath {
        model: Some(unescaped(model).into_owned()),
        is_streamed,
        ..InPath::default()
    };
    if let Some((model, method)) = rest.rsplit_once(':') {
        match method {
            "generateContent" => return post(dialect, Kind::Chat(in_path(model, false))),
            "streamGenerateContent" => return post(dialect, Kind::Chat(in_path(model, true))),
            "countTokens" => return post(dialect, Kind::Count(in_path(model, false))),
            "batchEmbedContents" => return post(dialect, Kind::Embed(EmbedForm::ContentBatch, in_path(model, false))),
            "embedContent" => return post(dialect, Kind::Embed(EmbedForm::Content, in_path(model, false))),
            _ => {}
        }
    }
    read(dialect_of_listing(is_beta, hints), Kind::Model(unescaped(rest).into_owned()))
}

/// Listings are told apart by what else the request carries (`docs/protocols.md` section 1.2).
fn dialect_of_listing(is_beta: bool, hints: Hints) -> Dialect {
    match hints {
        Hints { has_version_date: true, .. } => Dialect::Messages,
        Hints { has_named_key: true, .. } => Dialect::GenerateContent,
        Hints { .. } if is_beta => Dialect::GenerateContent,
        Hints { .. } => Dialect::ChatCompletions,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn model(name: &str, is_streamed: bool) -> InPath {
        InPath { model: Some(name.to_owned()), is_streamed, ..InPath::default() }
    }

    #[rstest]
    #[case::as_it_is("/v1/chat/completions", Dialect::ChatCompletions, Kind::Chat(InPath::default()))]
    #[case::missing_version("/chat/completions", Dialect::ChatCompletions, Kind::Chat(InPath::default()))]
    #[case::doubled_version("/v1/v1/messages", Dialect::Messages, Kind::Chat(InPath::default()))]
    #[case::two_versions(
        "/v1/v1beta/models/a:generateContent",
        Dialect::GenerateContent,
        Kind::Chat(model("a", false))
    )]
    #[case::trailing_slash("/v1/responses/", Dialect::Responses, Kind::Chat(InPath::default()))]
    #[case::slash_in_name(
        "/v1/models/skerry/dunlin-7b:generateContent",
        Dialect::GenerateContent,
        Kind::Chat(model("skerry/dunlin-7b", false))
    )]
    #[case::colon_in_name(
        "/v1beta/models/dunlin-7b:latest:streamGenerateContent",
        Dialect::GenerateContent,
        Kind::Chat(model("dunlin-7b:latest", true))
    )]
    #[case::escaped_slash("/v1/models/skerry%2Fdunlin-7b", Dialect::ChatCompletions, Kind::Model("skerry/dunlin-7b".into()))]
    #[case::local("/api/chat", Dialect::LocalChat, Kind::Chat(InPath::default()))]
    #[case::doubled_local("/api/api/chat", Dialect::LocalChat, Kind::Chat(InPath::default()))]
    #[case::local_behind_a_version("/v1/api/chat", Dialect::LocalChat, Kind::Chat(InPath::default()))]
    fn paths_that_apps_ask(#[case] path: &str, #[case] dialect: Dialect, #[case] kind: Kind) {
        let method = if matches!(kind, Kind::Model(_)) { "GET" } else { "POST" };
        assert_eq!(resolve(method, path, Hints::default()), Ok(Endpoint { dialect, kind }));
    }

    #[rstest]
    #[case::plain("/v1/models", Hints::default(), Dialect::ChatCompletions)]
    #[case::version("/v1/models", Hints { has_version_date: true, ..Hints::default() }, Dialect::Messages)]
    #[case::key("/v1/models", Hints { has_named_key: true, ..Hints::default() }, Dialect::GenerateContent)]
    #[case::beta("/v1beta/models", Hints::default(), Dialect::GenerateContent)]
    fn a_listing_is_of_the_dialect_that_the_request_tells(
        #[case] path: &str,
        #[case] hints: Hints,
        #[case] dialect: Dialect,
    ) {
        assert_eq!(resolve("GET", path, hints), Ok(Endpoint { dialect, kind: Kind::Models }));
    }

    #[rstest]
    #[case::near(
        "POST",
        "/v1/chat/completion",
        NoEndpoint::NoSuchPath(Dialect::ChatCompletions, Some("/v1/chat/completions"))
    )]
    #[case::near_messages(
        "POST",
        "/v1/message",
        NoEndpoint::NoSuchPath(Dialect::ChatCompletions, Some("/v1/messages"))
    )]
    #[case::local("POST", "/api/pull", NoEndpoint::NoSuchPath(Dialect::LocalChat, None))]
    #[case::method("GET", "/v1/messages", NoEndpoint::WrongMethod(Dialect::Messages, "POST"))]
    fn paths_where_nothing_is(#[case] method: &str, #[case] path: &str, #[case] why: NoEndpoint) {
        let refusal = resolve(method, path, Hints::default()).unwrap_err();
        match (&refusal, &why) {
            (NoEndpoint::NoSuchPath(dialect, _), NoEndpoint::NoSuchPath(expected, None)) => {
                assert_eq!(dialect, expected)
            }
            _ => assert_eq!(refusal, why),
        }
    }
}
