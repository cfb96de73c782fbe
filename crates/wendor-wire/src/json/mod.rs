//! JSON as dialects need it: read member by member with the path of what is wrong, written on one line that every client can
//! read, and in both directions the parts that Wendor does not look into as the text they were.
//!
//! - [`read`]: values with their paths
//! - [`texts`]: every text of a body with its place
//! - [`write`]: values put together, and the characters that break clients escaped

pub mod read;
pub mod texts;
pub mod write;

use crate::halves::lone_half;
use crate::steps;

pub use read::{Node, Object, Wrong};
pub use write::{Json, Members};

/// A JSON value as the text it was: schemas and arguments of tools, which Wendor carries and does not read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RawJson(Box<str>);

impl RawJson {
    /// `text`, if it is JSON of whole letters: half a letter's escape is none to most readers.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        steps::spent(text.len());
        if lone_half(text).is_some() {
            return None;
        }
        serde_json::from_str::<&serde_json::value::RawValue>(text).ok().map(|raw| Self(raw.get().into()))
    }

    /// `{}`, for calls without arguments.
    #[must_use]
    pub fn empty_object() -> Self {
        Self("{}".into())
    }

    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// As a value; `None` where it nests deeper than values are read.
    #[must_use]
    pub fn to_value(&self) -> Option<serde_json::Value> {
        serde_json::from_str(&self.0).ok()
    }

    /// Whether it is an object without members or an empty text, with whatever space is in it.
    #[must_use]
    pub fn says_nothing(&self) -> bool {
        let mut letters = self.0.bytes().filter(|byte| !byte.is_ascii_whitespace());
        matches!(
            (letters.next(), letters.next(), letters.next()),
            (Some(b'{'), Some(b'}'), None) | (Some(b'"'), Some(b'"'), None)
        )
    }

    /// Whether it is an object.
    #[must_use]
    pub fn is_object(&self) -> bool {
        self.0.starts_with('{')
    }
}

/// A number as the text it was, so that no digit changes on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Number(Box<str>);

impl Number {
    /// Its value, for comparisons.
    #[must_use]
    pub fn as_f64(&self) -> f64 {
        self.0.parse().unwrap_or_default()
    }

    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// A whole number: one that was written as `40.0` counts as 40.
    #[must_use]
    pub fn as_whole(&self) -> Option<u64> {
        let text = self
            .0
            .split_once('.')
            .map_or(&*self.0, |(whole, rest)| if rest.bytes().all(|byte| byte == b'0') { whole } else { "" });
        text.parse().ok()
    }
}

impl Number {
    /// The number that a text is in JSON.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        serde_json::from_str::<serde_json::Number>(text).ok().map(|_| Self(text.into()))
    }
}

impl From<u64> for Number {
    fn from(value: u64) -> Self {
        Self(value.to_string().into())
    }
}

impl Number {
    /// The nearest 32-bit float.
    #[must_use]
    pub fn as_f32(&self) -> f32 {
        self.0.parse().unwrap_or_default()
    }

    /// The shortest digits that read back as `float`; `None` for what is no number.
    #[must_use]
    pub fn of_f32(float: f32) -> Option<Self> {
        float.is_finite().then(|| Self(format!("{float:?}").into()))
    }
}
