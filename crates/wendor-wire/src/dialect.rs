//! The wire protocols that apps and upstreams speak, by name.

use serde::{Deserialize, Serialize};

use crate::worded;

worded! {
    /// The wire protocol spoken with an upstream or by an app, named by the shape of its endpoint.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Dialect {
        /// `POST /v1/chat/completions`.
        ChatCompletions = "chat-completions",
        /// `POST /v1/responses`.
        Responses = "responses",
        /// `POST /v1/messages`.
        Messages = "messages",
        /// `POST /v1beta/models/{model}:generateContent`.
        GenerateContent = "generate-content",
        /// `POST /api/chat`.
        LocalChat = "local-chat",
    }
}
