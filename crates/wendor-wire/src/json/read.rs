//! JSON values with their paths: what is wrong is named by where it stands, such as `messages[2].content[0].image_url`, and
//! never by its content.

use std::borrow::Cow;

use smallvec::SmallVec;
use smol_str::{SmolStr, format_smolstr};

use crate::json::{Number, RawJson};
use crate::members::{first_repeated, members};
use crate::steps::spent;

/// A value that is not what the dialect says.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{path}` must be {expected}")]
pub struct Wrong {
    /// Where it stands.
    pub path: String,
    /// What it should be.
    pub expected: String,
}

/// A value and where it stands.
#[derive(Clone, Debug)]
pub struct Node<'a> {
    raw: &'a str,
    path: SmolStr,
    repeats: Repeats,
}

/// What is made of a member that stands in an object twice.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Repeats {
    /// The last one counts.
    Last,
    /// It is wrong: two readers could read two different ones.
    Wrong,
}

impl<'a> Node<'a> {
    /// The value `raw`, which is valid JSON, at `path`.
    #[must_use]
    pub fn new(raw: &'a str, path: impl Into<SmolStr>) -> Self {
        Self { raw, path: path.into(), repeats: Repeats::Last }
    }

    /// An app's body, which is valid JSON. In none of its objects that are read may a member stand twice.
    #[must_use]
    pub fn of_request(raw: &'a str) -> Self {
        Self { raw, path: SmolStr::default(), repeats: Repeats::Wrong }
    }

    fn inner(&self, raw: &'a str, path: SmolStr) -> Self {
        Self { raw, path, repeats: self.repeats }
    }

    /// Where it stands.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// As it stands there.
    #[must_use]
    pub fn raw(&self) -> RawJson {
        RawJson(self.raw.into())
    }

    /// It is something other than `expected`.
    #[must_use]
    pub fn wrong(&self, expected: impl Into<String>) -> Wrong {
        Wrong { path: self.path.to_string(), expected: expected.into() }
    }

    /// Whether it is a text.
    #[must_use]
    pub fn is_text(&self) -> bool {
        self.raw.starts_with('"')
    }

    /// Whether it is a list.
    #[must_use]
    pub fn is_list(&self) -> bool {
        self.raw.starts_with('[')
    }

    /// Whether it is an object.
    #[must_use]
    pub fn is_object(&self) -> bool {
        self.raw.starts_with('{')
    }

    /// A text.
    ///
    /// # Errors
    /// When it is something else.
    pub fn text(&self) -> Result<String, Wrong> {
        serde_json::from_str(self.raw).map_err(|_| {
            // It is valid JSON, so that a text which is none can only hold half of a letter.
            let half = "a text of whole letters: an escape from \\ud800 to \\udfff stands in it without its other half";
            self.wrong(if self.is_text() { half } else { "a text" })
        })
    }

    /// True or false.
    ///
    /// # Errors
    /// When it is something else.
    pub fn flag(&self) -> Result<bool, Wrong> {
        serde_json::from_str(self.raw).map_err(|_| self.wrong("true or false"))
    }

    /// A whole number from 0 on; `40.0` counts as one.
    ///
    /// # Errors
    /// When it is something else.
    pub fn count(&self) -> Result<u64, Wrong> {
        self.number().ok().and_then(|number| number.as_whole()).ok_or_else(|| self.wrong("a whole number from 0 on"))
    }

    /// A number.
    ///
    /// # Errors
    /// When it is something else.
    pub fn number(&self) -> Result<Number, Wrong> {
        let is_number = self.raw.starts_with(|first: char| first == '-' || first.is_ascii_digit());
        if is_number { Ok(Number(self.raw.into())) } else { Err(self.wrong("a number")) }
    }

    /// The values of a list.
    ///
    /// # Errors
    /// When it is something else.
    pub fn list(&self) -> Result<Vec<Node<'a>>, Wrong> {
        spent(self.raw.len());
        let raws: SmallVec<[&'a serde_json::value::RawValue; 4]> =
            serde_json::from_str(self.raw).map_err(|_| self.wrong("a list"))?;
        let node = |(index, raw): (usize, &'a serde_json::value::RawValue)| {
            self.inner(raw.get(), format_smolstr!("{}[{index}]", self.path))
        };
        Ok(raws.into_iter().enumerate().map(node).collect())
    }

    /// A text, or the texts of a list.
    ///
    /// # Errors
    /// When it is something else.
    pub fn texts(&self) -> Result<Vec<String>, Wrong> {
        if self.is_text() {
            return Ok(vec![self.text()?]);
        }
        self.list()?.iter().map(Node::text).collect()
    }

    /// The members of an object.
    ///
    /// # Errors
    /// When it is something else.
    pub fn object(&self) -> Result<Object<'a>, Wrong> {
        self.object_of(Cow::from)
    }

    /// The same, with names in `camelCase`, however they were written: some clients mix both in one body.
    ///
    /// # Errors
    /// When it is something else.
    pub fn camel_object(&self) -> Result<Object<'a>, Wrong> {
        self.object_of(|name| Cow::from(camel(&name)))
    }

    fn object_of(&self, named: impl Fn(Cow<'a, str>) -> Cow<'a, str>) -> Result<Object<'a>, Wrong> {
        let fields = members(self.raw.as_bytes()).map_err(|_| self.wrong("an object"))?;
        let members: Taken<'a> = fields.into_iter().map(|member| (named(member.name), member.value)).collect();
        if self.repeats == Repeats::Wrong
            && let Some(name) = first_repeated(members.iter().map(|(name, _)| &**name))
        {
            let name: String = name.chars().take(60).collect();
            let path = if self.path.is_empty() { name } else { format!("{}.{name}", self.path) };
            return Err(Wrong { path, expected: "there once: two readers could read two different ones".to_owned() });
        }
        Ok(Object { path: self.path.clone(), members, repeats: self.repeats })
    }
}

/// Names with their values.
type Taken<'a> = SmallVec<[(Cow<'a, str>, &'a str); 8]>;

/// An object whose members are taken one by one; what is left is unknown.
#[derive(Clone, Debug)]
pub struct Object<'a> {
    path: SmolStr,
    members: Taken<'a>,
    repeats: Repeats,
}

impl<'a> Object<'a> {
    /// Where it stands.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// The path of a member.
    #[must_use]
    pub fn path_of(&self, name: &str) -> String {
        self.path_to(name).into()
    }

    fn path_to(&self, name: &str) -> SmolStr {
        if self.path.is_empty() { name.into() } else { format_smolstr!("{}.{name}", self.path) }
    }

    /// Takes a member out; null counts as absent, and of repeated ones the last counts.
    pub fn take(&mut self, name: &str) -> Option<Node<'a>> {
        spent(self.members.len());
        let mut raw_value = None;
        self.members.retain(|(known, raw)| {
            let is_it = known == name;
            if is_it {
                raw_value = Some(*raw);
            }
            !is_it
        });
        let raw_value = raw_value.filter(|raw| *raw != "null")?;
        Some(Node { raw: raw_value, path: self.path_to(name), repeats: self.repeats })
    }

    /// Takes a member that must be there.
    ///
    /// # Errors
    /// When it is not.
    pub fn required(&mut self, name: &str, expected: &'static str) -> Result<Node<'a>, Wrong> {
        self.take(name).ok_or_else(|| Wrong { path: self.path_of(name), expected: format!("there: {expected}") })
    }

    /// Takes a text.
    ///
    /// # Errors
    /// When it is something else.
    pub fn text(&mut self, name: &str) -> Result<Option<String>, Wrong> {
        self.take(name).map(|node| node.text()).transpose()
    }

    /// Takes a text that must be there.
    ///
    /// # Errors
    /// When it is missing or something else.
    pub fn required_text(&mut self, name: &str, expected: &'static str) -> Result<String, Wrong> {
        self.required(name, expected)?.text()
    }

    /// Takes true or false.
    ///
    /// # Errors
    /// When it is something else.
    pub fn flag(&mut self, name: &str) -> Result<Option<bool>, Wrong> {
        self.take(name).map(|node| node.flag()).transpose()
    }

    /// Takes a whole number from 0 on.
    ///
    /// # Errors
    /// When it is something else.
    pub fn count(&mut self, name: &str) -> Result<Option<u64>, Wrong> {
        self.take(name).map(|node| node.count()).transpose()
    }

    /// Takes a number.
    ///
    /// # Errors
    /// When it is something else.
    pub fn number(&mut self, name: &str) -> Result<Option<Number>, Wrong> {
        self.take(name).map(|node| node.number()).transpose()
    }

    /// Takes a list; absent counts as empty.
    ///
    /// # Errors
    /// When it is something else.
    pub fn list(&mut self, name: &str) -> Result<Vec<Node<'a>>, Wrong> {
        self.take(name).map(|node| node.list()).transpose().map(Option::unwrap_or_default)
    }

    /// Takes an object.
    ///
    /// # Errors
    /// When it is something else.
    pub fn object(&mut self, name: &str) -> Result<Option<Object<'a>>, Wrong> {
        self.take(name).map(|node| node.object()).transpose()
    }

    /// What was not taken, but for nulls: a member that is null says nothing.
    #[must_use]
    pub fn rest(self) -> Vec<Node<'a>> {
        let paths = Object { path: self.path, members: Taken::new(), repeats: self.repeats };
        let left = self.members.into_iter().filter(|(_, raw)| *raw != "null");
        left.map(|(name, raw)| Node { raw, path: paths.path_to(&name), repeats: paths.repeats }).collect()
    }
}

/// `snake_case` as `camelCase`; what is in `camelCase` stays.
pub(crate) fn camel(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    let mut letters = name.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '_' if !out.is_empty() => out.extend(letters.next().map(|next| next.to_ascii_uppercase())),
            letter => out.push(letter),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::snake("mime_type", "mimeType")]
    #[case::camel("mimeType", "mimeType")]
    #[case::several("parameters_json_schema", "parametersJsonSchema")]
    #[case::leading("_x", "_x")]
    #[case::trailing("x_", "x")]
    fn names_in_camel_case(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(camel(name), expected);
    }

    #[test]
    fn what_is_wrong_is_named_by_its_path() {
        let root = Node::new(r#"{"a":[{"b":1},{"b":"x"}],"c":null}"#, "");
        let mut object = root.object().unwrap();
        let list = object.list("a").unwrap();
        let wrong = list[1].object().unwrap().count("b").unwrap_err();
        assert_eq!(wrong.to_string(), "`a[1].b` must be a whole number from 0 on");
        assert_eq!(object.required("c", "the answer").unwrap_err().to_string(), "`c` must be there: the answer");
        assert!(object.rest().is_empty());
    }

    #[rstest]
    #[case::whole("40", Some(40))]
    #[case::as_a_fraction("40.0", Some(40))]
    #[case::fraction("40.5", None)]
    #[case::negative("-1", None)]
    fn whole_numbers(#[case] raw: &str, #[case] whole: Option<u64>) {
        assert_eq!(Node::new(raw, "").count().ok(), whole);
    }
}
