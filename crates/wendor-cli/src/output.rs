//! What goes to standard output: plain columns for people, which survive a copy into a chat, or JSON for programs.

use std::io::Write;

use comfy_table::{Cell, CellAlignment, ContentArrangement, Row, Table, presets};
use serde::Serialize;
use wendor_core::shown::{is_hidden, shown};

use crate::failure::Failure;

/// Whom the output is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reader {
    /// Someone who reads columns.
    Person,
    /// A program that reads JSON.
    Program,
}

/// A column of a table.
#[derive(Clone, Debug)]
pub enum Column {
    /// Text, at the left.
    Text(&'static str),
    /// Numbers, at the right.
    Number(&'static str),
    /// Amounts in the currency of that code, at the right.
    Money(&'static str, String),
}

impl Column {
    fn head(&self) -> String {
        match self {
            Self::Text(name) | Self::Number(name) => (*name).to_owned(),
            Self::Money(name, currency) => format!("{name} {currency}"),
        }
    }
}

/// Writes text to standard output. What others have written in it never reaches a terminal raw.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn print(text: &str) -> Result<(), Failure> {
    print_raw(&shown(text))
}

/// Writes text to standard output as it is, for programs and files.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn print_raw(text: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(|_| Failure::OutputClosed)
}

/// Writes a line to standard output.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn line(text: &str) -> Result<(), Failure> {
    print(&format!("{text}\n"))
}

/// Writes a note to standard error.
pub fn note(text: &str) {
    eprintln!("{}", shown(text));
}

/// Writes a line to standard error, at a terminal, that the next one takes the place of; an empty one takes it away.
pub fn transient(text: &str) {
    // Back to the beginning of the line, and what stood there away.
    eprint!("\r\u{1b}[2K{}", shown(text));
    // A terminal that is gone needs no line.
    let _gone = std::io::stderr().flush();
}

/// Writes JSON to standard output.
///
/// # Errors
/// When nobody reads any more.
pub fn json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|error| Failure::Own(error.to_string()))?;
    print_raw(&format!("{}\n", with_escapes(&text)))
}

/// Writes a value as JSON in one line, for programs that read one after the other.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn json_line(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string(value).map_err(|error| Failure::Own(error.to_string()))?;
    print_raw(&format!("{}\n", with_escapes(&text)))
}

/// JSON in which what does something to a terminal is an escape, which says the same to programs.
fn with_escapes(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    for letter in json.chars() {
        if is_hidden(letter) {
            for unit in letter.encode_utf16(&mut [0; 2]) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(letter);
        }
    }
    out
}

/// Writes rows under a head of `columns`. Without rows, `empty` says why there are none and what to do.
///
/// # Errors
/// When nobody reads any more.
pub fn table(columns: &[Column], rows: Vec<Vec<String>>, empty: &str) -> Result<(), Failure> {
    if rows.is_empty() {
        return line(empty);
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    let head: Vec<String> = columns.iter().map(Column::head).collect();
    table.set_header(Row::from(head));
    for row in rows {
        table.add_row(row.into_iter().map(Cell::new).collect::<Vec<_>>());
    }
    for (index, column) in columns.iter().enumerate() {
        let Some(drawn) = table.column_mut(index) else { continue };
        drawn.set_padding((0, 3));
        if let Column::Number(_) | Column::Money(..) = column {
            drawn.set_cell_alignment(CellAlignment::Right);
        }
    }
    let text: Vec<String> = table.to_string().lines().map(|line| line.trim_end().to_owned()).collect();
    line(&text.join("\n"))
}
