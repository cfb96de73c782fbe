//! What goes to standard output: plain columns for people, which survive a copy into a chat, or JSON for programs.

use std::io::{ErrorKind, Write};

use comfy_table::{Cell, CellAlignment, ColumnConstraint, ContentArrangement, Row, Table, presets};
use serde::Serialize;
use wendor_core::shown::{is_hidden, shown};

use crate::failure::Failure;
use crate::terminal::terminal;

/// Spaces between two columns.
const GAP: usize = 3;

/// Columns that a text gets at least, where a table is made narrower.
const NARROWEST: usize = 12;

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
    let terminal = terminal();
    print_raw(&terminal.colours(&terminal.letters(&shown(text))))
}

/// Writes what a model says to standard output: its letters as they are, and nothing in it reaches a terminal raw.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn print_answer(text: &str) -> Result<(), Failure> {
    print_raw(&shown(text))
}

/// Writes text to standard output as it is, for programs and files.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn print_raw(text: &str) -> Result<(), Failure> {
    print_bytes(text.as_bytes())
}

/// Writes a piece of something to standard output, as it came.
///
/// # Errors
/// As [`print_raw`].
pub fn print_bytes(piece: &[u8]) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(piece).and_then(|()| out.flush()).map_err(|error| {
        // Whoever read has what they wanted.
        if error.kind() == ErrorKind::BrokenPipe {
            return Failure::OutputClosed;
        }
        Failure::Own(format!("Cannot write to standard output: {error}."))
    })
}

/// Writes a line to standard output.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn line(text: &str) -> Result<(), Failure> {
    print(&format!("{text}\n"))
}

/// Writes sentences to standard output, broken between words where the terminal ends.
///
/// # Errors
/// [`Failure::OutputClosed`] when nobody reads any more.
pub fn sentence(text: &str) -> Result<(), Failure> {
    match terminal().width {
        Some(width) => line(&crate::words::wrapped(text, width).join("\n")),
        None => line(text),
    }
}

/// Writes a note to standard error.
pub fn note(text: &str) {
    // Where nobody can read it nothing is to be done.
    let _unread = writeln!(std::io::stderr(), "{}", terminal().letters(&shown(text)));
}

/// Writes what is asked for to standard error; the answer is typed behind it.
pub fn question(text: &str) {
    let mut terminal = std::io::stderr();
    // Where nobody can read it nothing is to be done.
    let _unread = write!(terminal, "{}", shown(text)).and_then(|()| terminal.flush());
}

/// Writes a line to standard error, at a terminal, that the next one takes the place of; an empty one takes it away.
pub fn transient(text: &str) {
    // Back to the beginning of the line, and what stood there away.
    let (mut terminal, screen) = (std::io::stderr(), terminal());
    // A terminal that is gone needs no line.
    let _gone = write!(terminal, "\r\u{1b}[2K{}", screen.letters(&shown(text))).and_then(|()| terminal.flush());
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

/// Writes rows under a head of `columns`, within the width of the terminal. Without rows, `empty` says why there are none and what to do.
///
/// # Errors
/// When nobody reads any more.
pub fn table(columns: &[Column], rows: Vec<Vec<String>>, empty: &str) -> Result<(), Failure> {
    if rows.is_empty() {
        return line(empty);
    }
    line(&laid_out(columns, &rows, terminal().width))
}

/// A table within `width`: as it is where there is room, with texts on several lines where there is less, and a line for each value where even
/// the numbers have none.
fn laid_out(columns: &[Column], rows: &[Vec<String>], width: Option<usize>) -> String {
    let heads: Vec<String> = columns.iter().map(Column::head).collect();
    let natural: Vec<usize> = (0..columns.len()).map(|index| widest(&heads, rows, index)).collect();
    let least = columns.iter().zip(&natural).map(|(column, natural)| match column {
        Column::Text(_) => (*natural).min(NARROWEST),
        Column::Number(_) | Column::Money(..) => *natural,
    });
    let gaps = GAP * columns.len().saturating_sub(1);
    let narrowest = least.sum::<usize>() + gaps;
    match width {
        Some(width) if narrowest > width => stacked(&heads, rows, width),
        Some(width) if natural.iter().sum::<usize>() + gaps > width => drawn(columns, &heads, rows, Some(width)),
        Some(_) | None => drawn(columns, &heads, rows, None),
    }
}

/// Columns that the longest line of a column takes.
fn widest(heads: &[String], rows: &[Vec<String>], index: usize) -> usize {
    let cells = heads.get(index).into_iter().chain(rows.iter().filter_map(|row| row.get(index)));
    cells.flat_map(|cell| cell.lines()).map(textwrap::core::display_width).max().unwrap_or(0)
}

fn drawn(columns: &[Column], heads: &[String], rows: &[Vec<String>], width: Option<usize>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    if let Some(width) = width {
        // The last column's gap is cut off at the end.
        let width = u16::try_from(width + GAP).unwrap_or(u16::MAX);
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    }
    table.set_header(Row::from(heads.to_vec()));
    for row in rows {
        table.add_row(row.iter().map(Cell::new).collect::<Vec<_>>());
    }
    for (index, column) in columns.iter().enumerate() {
        let Some(drawn) = table.column_mut(index) else { continue };
        drawn.set_padding((0, 3));
        if let Column::Number(_) | Column::Money(..) = column {
            drawn.set_cell_alignment(CellAlignment::Right);
            drawn.set_constraint(ColumnConstraint::ContentWidth);
        }
    }
    table.to_string().lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// Each row as a paragraph: its first value, and under it the others, each behind its head.
fn stacked(heads: &[String], rows: &[Vec<String>], width: usize) -> String {
    let head_width = heads.iter().skip(1).map(|head| textwrap::core::display_width(head)).max().unwrap_or(0);
    let room = width.saturating_sub(head_width + 2 + GAP).max(NARROWEST);
    let mut text = String::new();
    for row in rows {
        if !text.is_empty() {
            text.push('\n');
        }
        for (index, (head, value)) in heads.iter().zip(row).enumerate() {
            if index == 0 {
                text.push_str(value.lines().next().unwrap_or_default());
                text.push('\n');
                continue;
            }
            let lines = value.lines().flat_map(|line| crate::words::wrapped(line, room));
            for (index, line) in lines.filter(|line| !line.is_empty()).enumerate() {
                let head = if index == 0 { head.as_str() } else { "" };
                let padding = head_width + GAP - textwrap::core::display_width(head);
                text.push_str(&format!("  {head}{:padding$}{}\n", "", line.trim()));
            }
        }
    }
    text.trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const COLUMNS: [Column; 4] =
        [Column::Text("team"), Column::Number("requests"), Column::Text("quotas"), Column::Number("p95")];

    fn rows() -> Vec<Vec<String>> {
        let row = |team: &str, quotas: &str| {
            [team, "12,345", quotas, "1.20 s"].iter().map(|cell| (*cell).to_owned()).collect()
        };
        vec![row("timetables", "20.00 a day, 300.00 a month, warns"), row("data-lab", "none")]
    }

    #[rstest]
    #[case::no_terminal(None, 3)]
    #[case::wide(Some(200), 3)]
    #[case::just_enough(Some(71), 3)]
    #[case::less(Some(60), 4)]
    #[case::little(Some(30), 11)]
    fn a_table_keeps_within_the_width(#[case] width: Option<usize>, #[case] lines: usize) {
        let text = laid_out(&COLUMNS, &rows(), width);
        let longest = text.lines().map(textwrap::core::display_width).max().unwrap();
        assert!(width.is_none_or(|width| longest <= width), "{longest}:\n{text}");
        assert_eq!(text.lines().count(), lines, "{text}");
        assert!(text.contains("12,345") && text.contains("1.20 s") && text.contains("warns"), "{text}");
    }

    #[test]
    fn a_value_without_room_for_columns_stands_behind_its_head() {
        let text = laid_out(&COLUMNS, &rows(), Some(30));
        assert!(text.starts_with("timetables\n  requests   12,345\n"), "{text}");
        assert!(text.ends_with("data-lab\n  requests   12,345\n  quotas     none\n  p95        1.20 s"), "{text}");
    }
}
