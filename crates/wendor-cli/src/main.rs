//! `wendor`: the service and its command-line client. What there is to do stands in [`grammar`].

mod asking;
mod client;
mod commands;
mod failure;
mod grammar;
mod output;
mod profile;
mod range;
mod strip;
mod terminal;
mod words;

use std::process::ExitCode;

use clap::Parser;

use crate::failure::Failure;
use crate::output::Reader;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let reader = if std::env::args_os().any(|word| word == "--json") { Reader::Program } else { Reader::Person };
    let grammar = match grammar::Wendor::try_parse() {
        Ok(grammar) => grammar,
        Err(error) if error.use_stderr() && reader == Reader::Program => {
            return Failure::NotUnderstood(error.to_string().trim().to_owned()).report(reader);
        }
        Err(error) => error.exit(),
    };
    match commands::run(grammar) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(reader),
    }
}
