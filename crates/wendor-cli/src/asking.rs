//! Asking whoever sits at the terminal: for a line, or for something that is not shown. Without a terminal, lines come from standard input.

use std::io::{BufRead, IsTerminal};

use crate::failure::Failure;
use crate::output;

/// Whether somebody can be asked.
#[must_use]
pub fn is_at_a_terminal() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// A line.
///
/// # Errors
/// When none comes.
pub fn line(question: &str) -> Result<String, Failure> {
    if is_at_a_terminal() {
        output::question(question);
    }
    let mut text = String::new();
    let read = std::io::stdin().lock().read_line(&mut text).map_err(unreadable)?;
    if read == 0 {
        return Err(Failure::NotUnderstood(format!(
            "standard input ended: expected a line for {:?}",
            question.trim_end_matches([' ', ':'])
        )));
    }
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}

/// A line that is not shown while it is typed.
///
/// # Errors
/// When none comes.
pub fn hidden(question: &str) -> Result<String, Failure> {
    if is_at_a_terminal() { rpassword::prompt_password(question).map_err(unreadable) } else { line(question) }
}

/// A new password, which is typed twice where it is not seen.
///
/// # Errors
/// When none comes, or the two differ.
pub fn twice(question: &str) -> Result<String, Failure> {
    let first = hidden(question)?;
    if is_at_a_terminal() && hidden("Repeat the password: ")? != first {
        return Err(Failure::NotUnderstood("The passwords do not match; nothing was changed.".to_owned()));
    }
    Ok(first)
}

fn unreadable(error: std::io::Error) -> Failure {
    output::note("");
    Failure::Own(format!("standard input cannot be read: {error}"))
}
