//! What the output is seen on: how wide it is, whether it has colours, and whether its locale has letters beyond ASCII.

use std::io::IsTerminal;
use std::sync::OnceLock;

/// What standard output goes to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Terminal {
    /// Columns of a terminal, or as many as `COLUMNS` says; `None` where lines may be as long as they like.
    pub width: Option<usize>,
    /// Whether it shows colours.
    pub has_colours: bool,
    /// Whether its letters are ASCII alone.
    pub is_ascii: bool,
}

/// What standard output goes to, looked at once.
pub fn terminal() -> Terminal {
    static TERMINAL: OnceLock<Terminal> = OnceLock::new();
    *TERMINAL.get_or_init(|| {
        let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
        let is_there = std::io::stdout().is_terminal();
        let columns = is_there.then(terminal_size::terminal_size).flatten().map(|(width, _)| usize::from(width.0));
        of(is_there, columns, &variable)
    })
}

/// The same from what is known: `columns` is what a terminal says of itself.
fn of(is_there: bool, columns: Option<usize>, variable: &dyn Fn(&str) -> Option<String>) -> Terminal {
    let columns_set = variable("COLUMNS").and_then(|columns| columns.parse().ok()).filter(|columns| *columns > 0);
    let is_dumb = variable("TERM").is_some_and(|kind| kind == "dumb");
    // In this order, as setlocale(3) looks for them. Without any, most terminals of today have all letters.
    let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(|name| variable(name));
    let has_letters = |locale: String| {
        let small = locale.to_ascii_lowercase();
        small.contains("utf-8") || small.contains("utf8")
    };
    Terminal {
        width: columns_set.or(columns),
        has_colours: is_there && !is_dumb && variable("NO_COLOR").is_none(),
        is_ascii: !locale.is_none_or(has_letters),
    }
}

/// What stands for our signs where letters are ASCII alone.
const SIGNS: [(char, &str); 20] = [
    ('×', "x"),
    ('△', "!"),
    ('●', "*"),
    ('○', "o"),
    ('◌', "o"),
    ('◐', "%"),
    ('◦', "o"),
    ('▷', ">"),
    ('⌁', "~"),
    ('─', "-"),
    ('│', "|"),
    ('├', "+"),
    ('┤', "]"),
    ('▇', "="),
    ('▏', "|"),
    ('·', "."),
    ('–', "-"),
    ('…', ".."),
    ('→', "->"),
    ('±', "+/-"),
];

impl Terminal {
    /// `text` with our own signs in ASCII where the locale has no others. What people have written stays as it is.
    #[must_use]
    pub fn letters(self, text: &str) -> String {
        if !self.is_ascii || text.is_ascii() {
            return text.to_owned();
        }
        let plain = |letter: char| SIGNS.iter().find(|(sign, _)| *sign == letter).map(|(_, plain)| *plain);
        let mut out = String::with_capacity(text.len());
        for letter in text.chars() {
            match plain(letter) {
                Some(plain) => out.push_str(plain),
                None => out.push(letter),
            }
        }
        out
    }

    /// `text` with its signs of states in colour, where there are colours: × in red, △ in yellow.
    #[must_use]
    pub fn colours(self, text: &str) -> String {
        if !self.has_colours {
            return text.to_owned();
        }
        text.replace('×', "\u{1b}[31m×\u{1b}[0m").replace('△', "\u{1b}[33m△\u{1b}[0m")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::terminal(true, Some(100), &[], Terminal { width: Some(100), has_colours: true, is_ascii: false })]
    #[case::pipe(false, None, &[], Terminal::default())]
    #[case::pipe_of_a_width(false, None, &[("COLUMNS", "60")], Terminal { width: Some(60), ..Terminal::default() })]
    #[case::no_width(true, None, &[("COLUMNS", "x")], Terminal { width: None, has_colours: true, is_ascii: false })]
    #[case::no_colour(true, Some(80), &[("NO_COLOR", "1")], Terminal { width: Some(80), has_colours: false, is_ascii: false })]
    #[case::dumb(true, Some(80), &[("TERM", "dumb")], Terminal { width: Some(80), has_colours: false, is_ascii: false })]
    #[case::plain_locale(false, None, &[("LANG", "C")], Terminal { is_ascii: true, ..Terminal::default() })]
    #[case::the_first_counts(false, None, &[("LC_ALL", "en_GB.UTF-8"), ("LANG", "C")], Terminal::default())]
    #[case::another_spelling(false, None, &[("LC_CTYPE", "C.utf8")], Terminal::default())]
    fn what_it_is_seen_on(
        #[case] is_there: bool,
        #[case] columns: Option<usize>,
        #[case] variables: &[(&str, &str)],
        #[case] expected: Terminal,
    ) {
        let variable =
            |name: &str| variables.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_owned());
        assert_eq!(of(is_there, columns, &variable), expected);
    }

    #[test]
    fn signs_are_plain_letters_where_there_are_no_others() {
        let plain = Terminal { is_ascii: true, ..Terminal::default() };
        assert_eq!(plain.letters("× gone – ±3% → é"), "x gone - +/-3% -> é");
        assert_eq!(Terminal::default().letters("× é"), "× é");
    }
}
