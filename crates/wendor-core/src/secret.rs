//! A text that must not be shown: no `Display`, a `Debug` that hides it, no serialisation.
//!
//! Credentials of upstreams and key texts are held in it from the edge on; [`Secret::expose`] marks the few places
//! where the text itself is needed, so that they can be searched for.

/// A secret text.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Wraps a text.
    #[must_use]
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// The text itself, for the one place that sends or hashes it.
    #[must_use]
    pub fn expose(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(..)")
    }
}
