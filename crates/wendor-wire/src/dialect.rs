//! The wire protocols that apps and upstreams speak, by name.

use serde::{Deserialize, Serialize};

/// The wire protocol spoken with an upstream or by an app, named by the shape of its endpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Dialect {
    /// `POST /v1/chat/completions`.
    ChatCompletions,
    /// `POST /v1/responses`.
    Responses,
    /// `POST /v1/messages`.
    Messages,
    /// `POST /v1beta/models/{model}:generateContent`.
    GenerateContent,
    /// `POST /api/chat`.
    LocalChat,
}

impl Dialect {
    /// Every dialect.
    pub const ALL: [Self; 5] =
        [Self::ChatCompletions, Self::Responses, Self::Messages, Self::GenerateContent, Self::LocalChat];

    /// Its name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::ChatCompletions => "chat-completions",
            Self::Responses => "responses",
            Self::Messages => "messages",
            Self::GenerateContent => "generate-content",
            Self::LocalChat => "local-chat",
        }
    }
}

impl std::fmt::Display for Dialect {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}
