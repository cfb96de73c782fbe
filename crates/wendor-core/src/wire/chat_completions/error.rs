//! Errors as the dialect's clients read them: `{"error":{"message","type","param","code"}}`, whole or as a stream's frame.
//!
//! All four members are always there, `error` is always an object with a text as `message`: other shapes lose the message
//! or crash clients (PROTOCOLS sections 1.5 and 1.10).

use serde::Serialize;

/// An error to an app.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ErrorBody {
    /// What was wrong, with which value, and what to do.
    pub message: String,
    /// The class, by which clients and people tell errors apart.
    #[serde(rename = "type")]
    pub class: &'static str,
    /// The member of the request that it is about.
    pub param: Option<&'static str>,
    /// The exact cause.
    pub code: &'static str,
}

#[derive(Serialize)]
struct Envelope<'a> {
    error: &'a ErrorBody,
}

impl ErrorBody {
    /// The body of an error reply.
    ///
    /// # Panics
    /// Never: texts always have a JSON form.
    #[must_use]
    pub fn to_json(&self) -> String {
        serde_json::to_string(&Envelope { error: self }).expect("texts have a JSON form")
    }

    /// The last frame of a stream that broke: every client of the dialect raises on it, and no `[DONE]` follows.
    #[must_use]
    pub fn to_frame(&self) -> String {
        format!("data: {}\n\n", self.to_json())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_four_members_are_always_there_and_a_frame_is_one_line() {
        let error =
            ErrorBody { message: "line one\nline \"two\"".into(), class: "server_error", param: None, code: "x" };
        let read: serde_json::Value = serde_json::from_str(&error.to_json()).unwrap();
        let expected = serde_json::json!({ "error": { "message": "line one\nline \"two\"", "type": "server_error", "param": null, "code": "x" } });
        assert_eq!(read, expected);
        let frame = error.to_frame();
        assert!(frame.starts_with("data: {") && frame.ends_with("}\n\n"), "{frame}");
        assert_eq!(frame.trim_end().lines().count(), 1);
    }
}
