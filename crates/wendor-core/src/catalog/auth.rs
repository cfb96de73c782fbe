//! How a credential is sent.

use serde::{Deserialize, Serialize};

/// How the credential is sent.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Auth {
    /// `Authorization: Bearer ..`.
    #[default]
    Bearer,
    /// In the header of this name.
    Header(String),
    /// In the query parameter of this name.
    Query(String),
}

/// How a credential begins that is user and password, in the form of RFC 7617: it is a whole value of its header.
pub const BASIC: &str = "Basic ";

/// What stands in the `authorization` header for a credential.
#[must_use]
pub fn authorization(credential: &str) -> String {
    if credential.starts_with(BASIC) { credential.to_owned() } else { format!("Bearer {credential}") }
}

impl TryFrom<String> for Auth {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        match text.split_once(':') {
            None if text == "bearer" => Ok(Self::Bearer),
            Some(("header", name)) if http::HeaderName::try_from(name).is_ok() => {
                Ok(Self::Header(name.to_ascii_lowercase()))
            }
            Some(("query", name)) if !name.is_empty() => Ok(Self::Query(name.to_owned())),
            _ => {
                Err(format!("`{text}` is not a way to send a credential: use `bearer`, `header:NAME` or `query:NAME`"))
            }
        }
    }
}

impl From<Auth> for String {
    fn from(auth: Auth) -> Self {
        match auth {
            Auth::Bearer => "bearer".to_owned(),
            Auth::Header(name) => format!("header:{name}"),
            Auth::Query(name) => format!("query:{name}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::bearer("bearer", Some(Auth::Bearer))]
    #[case::header("header:X-Quarry-Key", Some(Auth::Header("x-quarry-key".into())))]
    #[case::query("query:key", Some(Auth::Query("key".into())))]
    #[case::no_name("header:", None)]
    #[case::not_a_header("header:a b", None)]
    #[case::other("basic", None)]
    fn ways_to_send_a_credential(#[case] text: &str, #[case] auth: Option<Auth>) {
        let read = Auth::try_from(text.to_owned());
        assert_eq!(read.as_ref().ok(), auth.as_ref(), "{read:?}");
        if let Some(auth) = auth {
            assert_eq!(Auth::try_from(String::from(auth.clone())), Ok(auth), "it is written as it is read");
        }
    }
}
