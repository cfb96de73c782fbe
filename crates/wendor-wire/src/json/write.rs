//! JSON put together and written on one line. U+2028, U+2029 and U+0085 are escaped wherever they stand: some clients split
//! lines at them and then cannot parse (`docs/protocols.md` section 1.4). Texts that are carried as they were lose their line breaks, which
//! in valid JSON stand between values only.

use std::borrow::Cow;
use std::fmt::Write;

use smol_str::SmolStr;

use crate::json::{Number, RawJson};
use crate::steps::spent;

/// A value to be written.
#[derive(Clone, Debug, PartialEq)]
pub enum Json {
    /// Written as `null`.
    Null,
    /// A text, escaped when written.
    Text(SmolStr),
    /// What is JSON already.
    Raw(Cow<'static, str>),
    /// Written in brackets, in this order.
    List(Vec<Json>),
    /// Written in braces, members in this order.
    Object(Members),
}

/// The members of an object, in the order in which they were put there.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Members(Vec<(Cow<'static, str>, Json)>);

impl Members {
    /// None yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// An object with a first member `type`, as most dialects have it.
    #[must_use]
    pub fn typed(name: &'static str) -> Self {
        Self::new().put("type", name)
    }

    /// With a member.
    #[must_use]
    pub fn put(mut self, name: impl Into<Cow<'static, str>>, value: impl Into<Json>) -> Self {
        self.0.push((name.into(), value.into()));
        self
    }

    /// With all of `others` behind.
    #[must_use]
    pub fn with(mut self, others: Members) -> Self {
        self.0.extend(others.0);
        self
    }

    /// With a member, if there is a value.
    #[must_use]
    pub fn some<T: Into<Json>>(self, name: impl Into<Cow<'static, str>>, value: Option<T>) -> Self {
        match value {
            Some(value) => self.put(name, value),
            None => self,
        }
    }

    /// With a list, if it is not empty.
    #[must_use]
    pub fn list(self, name: impl Into<Cow<'static, str>>, list: Vec<Json>) -> Self {
        if list.is_empty() { self } else { self.put(name, list) }
    }

    /// With an object, if it has members.
    #[must_use]
    pub fn nested(self, name: impl Into<Cow<'static, str>>, members: Members) -> Self {
        if members.0.is_empty() { self } else { self.put(name, members) }
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Written on one line.
    #[must_use]
    pub fn to_line(self) -> String {
        Json::Object(self).to_line()
    }
}

impl Json {
    /// Written on one line.
    #[must_use]
    pub fn to_line(&self) -> String {
        let mut out = String::with_capacity(256);
        self.write(&mut out);
        out
    }

    fn write(&self, out: &mut String) {
        match self {
            Self::Null => out.push_str("null"),
            Self::Text(text) => quoted(text, out),
            Self::Raw(raw) => raw_on_one_line(raw, out),
            Self::List(values) => {
                out.push('[');
                for (index, value) in values.iter().enumerate() {
                    if index > 0 {
                        out.push(',');
                    }
                    value.write(out);
                }
                out.push(']');
            }
            Self::Object(Members(members)) => {
                out.push('{');
                for (index, (name, value)) in members.iter().enumerate() {
                    if index > 0 {
                        out.push(',');
                    }
                    quoted(name, out);
                    out.push(':');
                    value.write(out);
                }
                out.push('}');
            }
        }
    }
}

/// `text` in quotes, escaped.
pub fn quoted(text: &str, out: &mut String) {
    spent(text.len());
    out.push('"');
    let mut plain_from = 0;
    for (at, letter) in text.char_indices() {
        let escape = match letter {
            '"' => "\\\"",
            '\\' => "\\\\",
            '\n' => "\\n",
            '\r' => "\\r",
            '\t' => "\\t",
            '\u{0}'..='\u{1f}' | '\u{85}' | '\u{2028}' | '\u{2029}' => "",
            _ => continue,
        };
        out.push_str(text.get(plain_from..at).unwrap_or_default());
        plain_from = at + letter.len_utf8();
        match escape {
            "" => escape_by_number(letter, out),
            escape => out.push_str(escape),
        }
    }
    out.push_str(text.get(plain_from..).unwrap_or_default());
    out.push('"');
}

fn escape_by_number(letter: char, out: &mut String) {
    // Writing to a text cannot fail.
    let _written = write!(out, "\\u{:04x}", u32::from(letter));
}

/// JSON as it was, without line breaks between its values and with the separators escaped that stand in its texts.
pub fn raw_on_one_line(raw: &str, out: &mut String) {
    spent(raw.len());
    if !breaks_lines(raw.as_bytes()) {
        out.push_str(raw);
        return;
    }
    let is_line_end = |letter: char| letter == '\n' || letter == '\r';
    for (number, line) in raw.split(is_line_end).enumerate() {
        out.push_str(if number == 0 { "" } else { " " });
        with_separators_escaped(line, out);
    }
}

/// Frames as they were, ends of their lines included, with the separators escaped that stand in their texts.
pub fn with_separators_escaped(text: &str, out: &mut String) {
    for letter in text.chars() {
        match letter {
            '\u{85}' | '\u{2028}' | '\u{2029}' => escape_by_number(letter, out),
            letter => out.push(letter),
        }
    }
}

/// Whether some client would take a part of this for the end of a line.
#[must_use]
pub fn breaks_lines(text: &[u8]) -> bool {
    if memchr::memchr2(b'\n', b'\r', text).is_some() {
        return true;
    }
    holds_separator(text)
}

/// Whether U+2028, U+2029 or U+0085 stands in it raw.
#[must_use]
pub fn holds_separator(text: &[u8]) -> bool {
    let starts_one = |at: usize| {
        let rest = text.get(at..).unwrap_or_default();
        rest.starts_with("\u{2028}".as_bytes())
            || rest.starts_with("\u{2029}".as_bytes())
            || rest.starts_with("\u{85}".as_bytes())
    };
    memchr::memchr2_iter(0xe2, 0xc2, text).any(starts_one)
}

impl From<&str> for Json {
    fn from(text: &str) -> Self {
        Self::Text(text.into())
    }
}

impl From<String> for Json {
    fn from(text: String) -> Self {
        Self::Text(text.into())
    }
}

impl From<&String> for Json {
    fn from(text: &String) -> Self {
        Self::Text(text.into())
    }
}

impl From<bool> for Json {
    fn from(flag: bool) -> Self {
        Self::Raw(Cow::Borrowed(if flag { "true" } else { "false" }))
    }
}

impl From<u64> for Json {
    fn from(number: u64) -> Self {
        Self::Raw(Cow::Owned(number.to_string()))
    }
}

impl From<i64> for Json {
    fn from(number: i64) -> Self {
        Self::Raw(Cow::Owned(number.to_string()))
    }
}

impl From<u32> for Json {
    fn from(number: u32) -> Self {
        u64::from(number).into()
    }
}

impl From<u16> for Json {
    fn from(number: u16) -> Self {
        u64::from(number).into()
    }
}

impl From<usize> for Json {
    fn from(number: usize) -> Self {
        Self::Raw(Cow::Owned(number.to_string()))
    }
}

impl From<&Number> for Json {
    fn from(number: &Number) -> Self {
        Self::Raw(Cow::Owned(number.as_str().to_owned()))
    }
}

impl From<&RawJson> for Json {
    fn from(raw: &RawJson) -> Self {
        Self::Raw(Cow::Owned(raw.as_str().to_owned()))
    }
}

impl From<RawJson> for Json {
    fn from(raw: RawJson) -> Self {
        Self::Raw(Cow::Owned(raw.0.into()))
    }
}

impl From<Vec<Json>> for Json {
    fn from(values: Vec<Json>) -> Self {
        Self::List(values)
    }
}

impl From<Members> for Json {
    fn from(members: Members) -> Self {
        Self::Object(members)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_object_in_the_order_of_its_members() {
        let nothing: Option<&str> = None;
        let json = Members::typed("text")
            .put("text", "a\"b\\\n")
            .some("none", nothing)
            .put("n", 5u64)
            .put("raw", RawJson::parse("{\n \"x\": [1,\r\n2]}").unwrap());
        assert_eq!(json.to_line(), r#"{"type":"text","text":"a\"b\\\n","n":5,"raw":{  "x": [1,  2]}}"#);
    }

    proptest! {
        /// Whatever the text, it is one line for every client, and reads back as what it was.
        #[test]
        fn a_text_is_one_line_and_reads_back(text in "\\PC*|[\u{0}-\u{20}\u{85}\u{2028}\u{2029}\"\\\\é🚢]*") {
            let line = Json::from(text.as_str()).to_line();
            prop_assert!(!breaks_lines(line.as_bytes()));
            prop_assert!(!line.chars().any(|letter| letter < ' '));
            prop_assert_eq!(serde_json::from_str::<String>(&line).unwrap(), text.clone());
            let raw = RawJson::parse(&serde_json::to_string(&[&text]).unwrap()).unwrap();
            let line = Json::from(&raw).to_line();
            prop_assert!(!breaks_lines(line.as_bytes()));
            prop_assert_eq!(serde_json::from_str::<[String; 1]>(&line).unwrap(), [text]);
        }
    }
}
