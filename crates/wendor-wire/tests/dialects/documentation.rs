//! `docs/dialects.md` says what the table says. `WENDOR_WRITE_DOCS=1` writes the tables anew.

use std::fmt::Write;
use std::path::PathBuf;

use wendor_wire::ability::{Control, Mark};
use wendor_wire::dialect::Dialect;
use wendor_wire::verdict::table::{Cell, TABLE};

const BEGIN: &str = "<!-- the table: written by a test, from what drives the code -->\n";
const END: &str = "<!-- the end of the table -->\n";

fn word(cell: Cell) -> String {
    match cell {
        Cell::Carried => "yes".to_owned(),
        Cell::Approximated(what) => format!("about: {what}"),
        Cell::Refused(why) => format!("no: {why}"),
        Cell::Marked(mark, else_) => format!("yes with `{}`; else {}", mark.as_str(), word(*else_)),
        Cell::OwnOnly(else_) => format!("same dialect: yes; else {}", word(*else_)),
        Cell::Controlled(control, else_) => format!("as `{}` says; passed on: {}", control.as_str(), word(*else_)),
    }
}

fn tables() -> String {
    let mut out = String::from("| what a request holds |");
    for dialect in Dialect::ALL {
        write!(out, " to {dialect} |").unwrap();
    }
    out.push_str("\n|---|---|---|---|---|---|\n");
    for (field, cells) in TABLE {
        write!(out, "| {} |", field.word()).unwrap();
        for cell in cells {
            write!(out, " {} |", word(*cell)).unwrap();
        }
        out.push('\n');
    }
    let marks: Vec<String> = Mark::WORDS.iter().map(|(word, _)| format!("`{word}`")).collect();
    let controls: Vec<String> = Control::WORDS.iter().map(|(word, _)| format!("`{word}`")).collect();
    write!(out, "\nMarks: {}.\n\nControls: {}.\n", marks.join(", "), controls.join(", ")).unwrap();
    out
}

#[test]
#[expect(clippy::disallowed_methods, reason = "this test writes the page when it is told to")]
fn the_documentation_says_what_the_table_says() {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/dialects.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let (before, rest) = text.split_once(BEGIN).unwrap();
    let (written, after) = rest.split_once(END).unwrap();
    if std::env::var_os("WENDOR_WRITE_DOCS").is_some() {
        std::fs::write(&path, format!("{before}{BEGIN}{}{END}{after}", tables())).unwrap();
        return;
    }
    assert!(written == tables(), "docs/dialects.md is behind the table; run this test with WENDOR_WRITE_DOCS=1");
}
