//! Reading a parsed TOML document value by value, noting every problem with its place instead of stopping at the first.
//!
//! A [`Table`] hands out its entries by name; what nobody took is reported as unknown, with the nearest name that would
//! have been taken. Callers get `None` for what could not be read: the problem is noted already.

use std::collections::BTreeSet;
use std::num::NonZeroU32;
use std::ops::Range;

use rust_decimal::Decimal;
use toml::Spanned;
use toml::de::{DeTable, DeValue};
use wendor_wire::nearest::nearest;

use super::Problem;
use crate::shown::is_hidden;

/// Collects problems while a document is read.
pub(super) struct Reader<'a> {
    text: &'a str,
    problems: Vec<Problem>,
}

/// A value with its place.
pub(super) struct Item<'d> {
    pub path: String,
    pub span: Range<usize>,
    value: &'d DeValue<'d>,
}

impl Item<'_> {
    pub(super) fn is_table(&self) -> bool {
        matches!(self.value, DeValue::Table(_))
    }

    /// The same value, to be read in another way.
    pub(super) fn again(&self) -> Self {
        Self { path: self.path.clone(), span: self.span.clone(), value: self.value }
    }
}

/// A table whose entries are taken one by one.
pub(super) struct Table<'d> {
    pub path: String,
    pub span: Range<usize>,
    entries: &'d DeTable<'d>,
    known: BTreeSet<&'static str>,
}

impl<'d> Table<'d> {
    fn child(&self, name: &str) -> String {
        if self.path.is_empty() { name.to_owned() } else { format!("{}.{name}", self.path) }
    }

    /// The entry of that name, if there is one; the name counts as known from then on.
    pub(super) fn take(&mut self, name: &'static str) -> Option<Item<'d>> {
        self.known.insert(name);
        let value = self.entries.get(name)?;
        Some(Item { path: self.child(name), span: value.span(), value: value.get_ref() })
    }

    /// All entries, for tables whose keys are names that people give.
    pub(super) fn entries(&self) -> Vec<(String, Range<usize>, Item<'d>)> {
        let as_entry = |(key, value): (&'d Spanned<std::borrow::Cow<'d, str>>, &'d Spanned<DeValue<'d>>)| {
            let item = Item { path: self.child(key.get_ref()), span: value.span(), value: value.get_ref() };
            (key.get_ref().to_string(), key.span(), item)
        };
        self.entries.iter().map(as_entry).collect()
    }
}

impl<'a> Reader<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self { text, problems: Vec::new() }
    }

    pub(super) fn root<'d>(&self, document: &'d Spanned<DeTable<'d>>) -> Table<'d> {
        Table { path: String::new(), span: document.span(), entries: document.get_ref(), known: BTreeSet::new() }
    }

    /// Line and column, both from 1, of a byte of the text.
    pub(super) fn place(&self, at: usize) -> (usize, usize) {
        let before = self.text.get(..at).unwrap_or(self.text);
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
    }

    /// Notes a problem.
    pub(super) fn problem(&mut self, path: &str, span: &Range<usize>, message: impl Into<String>) {
        let (line, column) = self.place(span.start);
        self.problems.push(Problem { line, column, path: path.to_owned(), message: message.into() });
    }

    /// Notes a problem at the entry that these names lead to; in a list the number of an entry, from 0, is its name.
    pub(super) fn problem_at(&mut self, document: &Spanned<DeTable<'_>>, names: &[String], message: String) {
        let (mut span, mut path) = (document.span(), String::new());
        let mut below = document.get_ref().get(names.first().map_or("", String::as_str));
        for (place, name) in names.iter().enumerate() {
            let is_of_list = place > 0 && name.bytes().all(|byte| byte.is_ascii_digit());
            path += &match (is_of_list, path.is_empty()) {
                (true, _) => format!("[{name}]"),
                (false, true) => name.clone(),
                (false, false) => format!(".{name}"),
            };
            let Some(value) = below else { continue };
            span = value.span();
            below = names.get(place + 1).and_then(|next| match value.get_ref() {
                DeValue::Table(table) => table.get(next.as_str()),
                DeValue::Array(list) => list.get(next.parse::<usize>().ok()?),
                DeValue::String(_)
                | DeValue::Integer(_)
                | DeValue::Float(_)
                | DeValue::Boolean(_)
                | DeValue::Datetime(_) => None,
            });
        }
        self.problem(&path, &span, message);
    }

    /// Notes a fault of the TOML itself.
    pub(super) fn fault(&mut self, span: Range<usize>, message: &str) {
        self.problem("", &span, format!("this is not TOML: {message}"));
    }

    /// Everything noted, in the order of the file.
    pub(super) fn into_problems(mut self) -> Vec<Problem> {
        self.problems.sort_by_key(|problem| (problem.line, problem.column));
        self.problems
    }

    /// Reports the entries that nobody took.
    pub(super) fn finish(&mut self, table: Table<'_>) {
        for (key, span, item) in table.entries() {
            if !table.known.contains(key.as_str()) {
                let known = table.known.iter().copied();
                let remedy = match nearest(&key, known.clone()) {
                    Some(name) => format!("did you mean `{name}`?"),
                    None => format!("there is {}", listed(known)),
                };
                self.problem(&item.path, &span, format!("unknown key `{key}`; {remedy}"));
            }
        }
    }

    /// The entry of that name; its absence is a problem.
    pub(super) fn required<'d>(&mut self, table: &mut Table<'d>, name: &'static str) -> Option<Item<'d>> {
        let entry = table.take(name);
        if entry.is_none() {
            self.problem(&table.path, &table.span, format!("`{name}` is missing"));
        }
        entry
    }

    fn unlike(&mut self, item: &Item<'_>, wanted: &str) {
        let message = format!("must be {wanted}, not {}", item.value.type_str());
        self.problem(&item.path, &item.span, message);
    }

    pub(super) fn table<'d>(&mut self, item: &Item<'d>) -> Option<Table<'d>> {
        let DeValue::Table(entries) = item.value else {
            self.unlike(item, "a table");
            return None;
        };
        Some(Table { path: item.path.clone(), span: item.span.clone(), entries, known: BTreeSet::new() })
    }

    pub(super) fn list<'d>(&mut self, item: &Item<'d>) -> Option<Vec<Item<'d>>> {
        let DeValue::Array(values) = item.value else {
            self.unlike(item, "a list");
            return None;
        };
        let as_item = |(index, value): (usize, &'d Spanned<DeValue<'d>>)| Item {
            path: format!("{}[{index}]", item.path),
            span: value.span(),
            value: value.get_ref(),
        };
        Some(values.iter().enumerate().map(as_item).collect())
    }

    pub(super) fn string<'d>(&mut self, item: &Item<'d>) -> Option<&'d str> {
        let DeValue::String(text) = item.value else {
            self.unlike(item, "a text in quotes");
            return None;
        };
        if text.contains(|letter: char| letter.is_control() || is_hidden(letter)) {
            let message = format!(
                "`{}` holds a control character, which no record could hold and no terminal should show",
                text.escape_debug()
            );
            self.problem(&item.path, &item.span, message);
            return None;
        }
        Some(text)
    }

    /// A text for people, of at most so many characters.
    pub(super) fn words(&mut self, item: &Item<'_>, most: usize) -> Option<String> {
        self.parsed(item, |text| match text.trim() {
            "" => Err("is empty; leave it out".to_owned()),
            long if long.chars().count() > most => Err(format!("is longer than {most} characters")),
            text => Ok(text.to_owned()),
        })
    }

    /// A text that may have line breaks and tabs, of 1 to so many characters.
    pub(super) fn lines(&mut self, item: &Item<'_>, most: usize) -> Option<String> {
        let text = self.lines_or_none(item, most)?;
        if text.is_empty() {
            self.problem(&item.path, &item.span, "is empty; leave it out");
            return None;
        }
        Some(text)
    }

    /// The same, and it may be empty.
    pub(super) fn lines_or_none(&mut self, item: &Item<'_>, most: usize) -> Option<String> {
        let DeValue::String(text) = item.value else {
            self.unlike(item, "a text in quotes");
            return None;
        };
        let text = text.replace("\r\n", "\n");
        let is_bad = |letter: char| !matches!(letter, '\n' | '\t') && (letter.is_control() || is_hidden(letter));
        if let Some(letter) = text.chars().find(|letter| is_bad(*letter)) {
            let message =
                format!("holds the control character `{}`, which no terminal should show", letter.escape_debug());
            self.problem(&item.path, &item.span, message);
            return None;
        }
        let length = text.chars().count();
        if length > most {
            self.problem(&item.path, &item.span, format!("has {length} characters; at most {most} are taken"));
            return None;
        }
        Some(text)
    }

    /// A text that `parse` makes something of.
    pub(super) fn parsed<T, E: std::fmt::Display>(
        &mut self,
        item: &Item<'_>,
        parse: impl FnOnce(&str) -> Result<T, E>,
    ) -> Option<T> {
        let text = self.string(item)?;
        parse(text).map_err(|error| self.problem(&item.path, &item.span, error.to_string())).ok()
    }

    /// One of a closed set of words.
    pub(super) fn word<T: Copy>(&mut self, item: &Item<'_>, words: &[(&str, T)]) -> Option<T> {
        self.parsed(item, |text| {
            let known = words.iter().find(|(word, _)| *word == text).map(|(_, value)| *value);
            known.ok_or_else(|| format!("`{text}` is not one of {}", listed(words.iter().map(|(word, _)| *word))))
        })
    }

    /// True or false.
    pub(super) fn flag(&mut self, item: &Item<'_>) -> Option<bool> {
        let DeValue::Boolean(flag) = item.value else {
            self.unlike(item, "true or false");
            return None;
        };
        Some(*flag)
    }

    /// A whole number from 1 on.
    pub(super) fn count(&mut self, item: &Item<'_>) -> Option<NonZeroU32> {
        let number = if let DeValue::Integer(number) = item.value { Some(number) } else { None };
        let number = number.and_then(|number| u32::from_str_radix(number.as_str(), number.radix()).ok());
        let parsed = number.and_then(NonZeroU32::new);
        if parsed.is_none() {
            self.unlike_number(item, "a whole number from 1 on");
        }
        parsed
    }

    /// A whole number from 0 on.
    pub(super) fn count_or_none(&mut self, item: &Item<'_>) -> Option<u32> {
        let number = if let DeValue::Integer(number) = item.value { Some(number) } else { None };
        let parsed = number.and_then(|number| u32::from_str_radix(number.as_str(), number.radix()).ok());
        if parsed.is_none() {
            self.unlike_number(item, "a whole number from 0 on");
        }
        parsed
    }

    /// A decimal from 0 to `most`, taken from its digits and never through binary floating point. The bound keeps every product
    /// and sum that it goes into far from the end of the type.
    pub(super) fn decimal(&mut self, item: &Item<'_>, decimals: u32, most: u64) -> Option<Decimal> {
        self.decimal_between(item, Decimal::ZERO, Decimal::from(most), decimals)
    }

    /// The same between any two bounds.
    pub(super) fn decimal_between(
        &mut self,
        item: &Item<'_>,
        least: Decimal,
        most: Decimal,
        decimals: u32,
    ) -> Option<Decimal> {
        let text = match item.value {
            DeValue::Integer(number) => (number.radix() == 10).then(|| number.as_str()),
            DeValue::Float(number) => Some(number.as_str()),
            DeValue::String(text) => Some(text.as_ref()),
            DeValue::Boolean(_) | DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
        };
        let parsed = text.and_then(|text| text.replace('_', "").parse::<Decimal>().ok());
        let is_right = |number: &Decimal| {
            (least..=most).contains(number)
                && !(number.is_zero() && number.is_sign_negative())
                && number.normalize().scale() <= decimals
        };
        let parsed = parsed.filter(is_right);
        if parsed.is_none() {
            self.unlike_number(item, &format!("a number from {least} to {most} with at most {decimals} decimals"));
        }
        parsed.map(|number| number.normalize())
    }

    fn unlike_number(&mut self, item: &Item<'_>, wanted: &str) {
        let written = self.text.get(item.span.clone()).unwrap_or_default().to_owned();
        self.problem(&item.path, &item.span, format!("must be {wanted}, not `{written}`"));
    }

    /// A duration such as `"10s"`, in milliseconds.
    pub(super) fn duration_ms(&mut self, item: &Item<'_>) -> Option<u64> {
        self.duration_from(item, 1)
    }

    /// A time that may be none at all, in milliseconds.
    pub(super) fn duration_or_none_ms(&mut self, item: &Item<'_>) -> Option<u64> {
        self.duration_from(item, 0)
    }

    fn duration_from(&mut self, item: &Item<'_>, least: u64) -> Option<u64> {
        self.parsed(item, |text| {
            let bad = || format!("`{text}` is not a time from {least}ms to 24h: write `500ms`, `10s` or `2m`");
            let time = humantime::parse_duration(text).map_err(|_| bad())?;
            let millis = u64::try_from(time.as_millis()).map_err(|_| bad())?;
            if (least..=86_400_000).contains(&millis) { Ok(millis) } else { Err(bad()) }
        })
    }

    /// A day, written as a TOML date or as a text of the same form.
    pub(super) fn day(&mut self, item: &Item<'_>) -> Option<chrono::NaiveDate> {
        let text = match item.value {
            DeValue::Datetime(day) => Some(day.to_string()),
            DeValue::String(text) => Some(text.to_string()),
            DeValue::Integer(_) | DeValue::Float(_) | DeValue::Boolean(_) | DeValue::Array(_) | DeValue::Table(_) => {
                None
            }
        };
        let parsed = text.and_then(|text| text.parse().ok());
        if parsed.is_none() {
            self.unlike_number(item, "a day such as 2026-11-01");
        }
        parsed
    }
}

/// Words in a row, for a message.
pub(super) fn listed<'w>(words: impl Iterator<Item = &'w str>) -> String {
    words.map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ")
}

/// A sentence that a name does not exist, with the nearest one that does.
pub(super) fn no_such<'w>(what: &str, name: &str, names: impl Iterator<Item = &'w str> + Clone) -> String {
    match nearest(name, names) {
        Some(near) => format!("unknown {what} `{name}`; did you mean `{near}`?"),
        None => format!("unknown {what} `{name}`"),
    }
}
