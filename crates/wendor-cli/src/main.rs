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
mod words;

use std::process::ExitCode;

use clap::Parser;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let grammar = grammar::Wendor::parse();
    match commands::run(grammar) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(),
    }
}
