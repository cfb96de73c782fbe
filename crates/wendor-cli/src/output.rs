//! What goes to standard output: plain columns for people, which survive a copy into a chat, or JSON for programs.

use std::io::{ErrorKind, Write};

use comfy_table::{Cell, CellAlignment, ContentArrangement, Row, Table, presets};
use serde::Serialize;
use textwrap::WordSeparator;
use textwrap::core::{Word, display_width};
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
/// numbers and single words have none.
fn laid_out(columns: &[Column], rows: &[Vec<String>], width: Option<usize>) -> String {
    let heads: Vec<String> = columns.iter().map(Column::head).collect();
    let Some(width) = width else { return drawn(columns, &heads, rows) };
    let Some(fits) = fitted(columns, &heads, rows, width) else { return stacked(&heads, rows, width) };
    let narrowed = |cells: &[String]| -> Vec<String> {
        cells.iter().zip(&fits).map(|(cell, fit)| on_lines(cell, fit.width)).collect()
    };
    let rows: Vec<Vec<String>> = rows.iter().map(|row| narrowed(row)).collect();
    let heads = narrowed(&heads);
    // Those of one line stand over their values as those of two do.
    let most = heads.iter().map(|head| head.lines().count()).max().unwrap_or(0);
    let heads: Vec<String> = heads.iter().map(|head| "\n".repeat(most - head.lines().count()) + head).collect();
    drawn(columns, &heads, &rows)
}

/// A column's width, and what it cannot be less than.
struct Fit {
    width: usize,
    least: usize,
}

/// The columns within `width`: as wide as they are, texts and heads narrowed where that is too much, the widest of them first. `None` where all
/// are as narrow as they can be.
fn fitted(columns: &[Column], heads: &[String], rows: &[Vec<String>], width: usize) -> Option<Vec<Fit>> {
    let fit = |(index, column): (usize, &Column)| {
        let values = || rows.iter().filter_map(|row| row.get(index));
        let of_values = values().flat_map(|value| value.lines()).map(display_width).max().unwrap_or(0);
        let head = heads.get(index).map_or("", String::as_str);
        let width = of_values.max(display_width(head));
        let longest = |text: &str| pieces(text).map(|piece| display_width(piece.trim_end())).max().unwrap_or(0);
        let least = match column {
            Column::Text(_) => values().map(|value| longest(value)).max().unwrap_or(0).max(width.min(NARROWEST)),
            Column::Number(_) | Column::Money(..) => of_values,
        };
        Fit { width, least: least.max(longest(head)) }
    };
    let mut fits: Vec<Fit> = columns.iter().enumerate().map(fit).collect();
    let natural = fits.iter().map(|fit| fit.width).sum::<usize>() + GAP * columns.len().saturating_sub(1);
    for _ in width..natural {
        fits.iter_mut().filter(|fit| fit.width > fit.least).max_by_key(|fit| fit.width)?.width -= 1;
    }
    Some(fits)
}

/// What of a text stays on one line: words, and of names of two parts each part, since an id or an address in two pieces cannot be copied.
fn pieces(text: &str) -> impl Iterator<Item = &str> {
    let words = text.split_inclusive([' ', '\n']);
    words.flat_map(|word| word.split_inclusive(if word.contains("://") { '\n' } else { '/' }))
}

/// A cell on as many lines as it takes to stay within `width`.
fn on_lines(cell: &str, width: usize) -> String {
    let by_pieces: fn(&str) -> Box<dyn Iterator<Item = Word<'_>> + '_> = |line| Box::new(pieces(line).map(Word::from));
    crate::words::wrapped_between(cell, width, WordSeparator::Custom(by_pieces)).join("\n")
}

fn drawn(columns: &[Column], heads: &[String], rows: &[Vec<String>]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(Row::from(heads.to_vec()));
    for row in rows {
        table.add_row(row.iter().map(Cell::new).collect::<Vec<_>>());
    }
    for (index, column) in columns.iter().enumerate() {
        let Some(drawn) = table.column_mut(index) else { continue };
        drawn.set_padding((0, 3));
        if let Column::Number(_) | Column::Money(..) = column {
            drawn.set_cell_alignment(CellAlignment::Right);
        }
    }
    table.to_string().lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// Each row as a paragraph: its first value, and under it the others, each behind its head.
fn stacked(heads: &[String], rows: &[Vec<String>], width: usize) -> String {
    let head_width = heads.iter().skip(1).map(|head| display_width(head)).max().unwrap_or(0);
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
                let padding = head_width + GAP - display_width(head);
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
        let longest = text.lines().map(display_width).max().unwrap();
        assert!(width.is_none_or(|width| longest <= width), "{longest}:\n{text}");
        assert_eq!(text.lines().count(), lines, "{text}");
        assert!(text.contains("12,345") && text.contains("1.20 s") && text.contains("warns"), "{text}");
    }

    /// What somebody copies stays in one piece, and what has two parts is broken between them.
    #[rstest]
    #[case::two_parts(56, "1JS3BT-WCSKHP0080   quayside-a/   http://127.0.0.1:7501\n                    dunlin-70b")]
    #[case::room_for_all(65, "1JS3BT-WCSKHP0080   quayside-a/dunlin-70b   http://127.0.0.1:7501")]
    fn ids_and_addresses_stay_whole(#[case] width: usize, #[case] text: &str) {
        let columns = [Column::Text("request"), Column::Text("offer"), Column::Text("address")];
        let row = ["1JS3BT-WCSKHP0080", "quayside-a/dunlin-70b", "http://127.0.0.1:7501"];
        let laid_out = laid_out(&columns, &[row.map(str::to_owned).into()], Some(width));
        assert_eq!(laid_out.split_once('\n').unwrap().1, text);
    }

    #[test]
    fn heads_take_two_lines_before_values_do() {
        let columns = [Column::Text("team"), Column::Number("tokens in"), Column::Money("cost", "EUR".to_owned())];
        let row = ["passenger-care", "12,345", "0.000022"];
        let text = laid_out(&columns, &[row.map(str::to_owned).into()], Some(34));
        assert_eq!(
            text,
            "                 tokens\nteam                 in   cost EUR\npassenger-care   12,345   0.000022"
        );
    }

    #[test]
    fn a_value_without_room_for_columns_stands_behind_its_head() {
        let text = laid_out(&COLUMNS, &rows(), Some(30));
        assert!(text.starts_with("timetables\n  requests   12,345\n"), "{text}");
        assert!(text.ends_with("data-lab\n  requests   12,345\n  quotas     none\n  p95        1.20 s"), "{text}");
    }
}
