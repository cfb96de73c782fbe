//! What each command does: a typed command enters, calls go out, columns or JSON come back. A file a thing of the grammar.

mod adjust;
mod ask;
mod audit;
mod catalogue;
mod change;
mod check;
mod drain;
mod event;
mod explain;
mod follow;
mod greeting;
mod key;
mod me;
mod models;
mod now;
mod overview;
mod person;
mod presets;
mod records;
mod request;
mod route;
mod secret;
mod serve;
mod session;
mod start;
mod things;
mod upstream;
mod usage;

use chrono::Utc;
use clap::CommandFactory;

use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::{Command, PersonCommand, Wendor};
use crate::output::{self, Reader};
use crate::profile::Profile;

/// Runs a command to its end.
///
/// # Errors
/// Why it was not done.
pub fn run(grammar: Wendor) -> Result<(), Failure> {
    let no_runtime = |error: std::io::Error| Failure::Own(format!("cannot start threads: {error}"));
    // Installed by the first who asks; a second one finds it there.
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let mut threads = tokio::runtime::Builder::new_multi_thread();
    threads.enable_all();
    if matches!(grammar.command, Some(Command::Serve(_))) {
        serve::prepare(&mut threads);
    }
    threads.build().map_err(no_runtime)?.block_on(dispatch(grammar))
}

async fn dispatch(grammar: Wendor) -> Result<(), Failure> {
    let reader = if grammar.json { Reader::Program } else { Reader::Person };
    let management = || Management::new(Profile::find()?);
    let Some(command) = grammar.command else { return greeting::run(reader).await };
    match command {
        Command::Serve(args) => serve::run(*args, reader).await,
        Command::Ask(args) => ask::run(args, reader).await,
        Command::Now => now::run(&management()?, reader).await,
        Command::Usage(args) => usage::run(args, &management()?, reader).await,
        Command::Request(command) => request::run(command, &management()?, reader).await,
        Command::Key(command) => key::run(command, &management()?, reader).await,
        Command::Start(args) => start::run(*args, reader).await,
        Command::Team(command) => route::teams(command, &management()?, reader).await,
        Command::Route(command) => route::run(command, &management()?, reader).await,
        Command::Upstream(command) => upstream::run(command, &management()?, reader).await,
        Command::Spool(command) => records::spool(command, &management()?, reader).await,
        Command::Event(command) => event::events(command, &management()?, reader).await,
        Command::Webhook(command) => event::webhooks(command, &management()?, reader).await,
        Command::Secret(command) => secret::run(command, &management()?, reader).await,
        Command::Ledger(command) => records::ledger(command, &management()?, reader).await,
        Command::Offer(command) => things::offer(command, &management()?, reader).await,
        Command::Rate(command) => things::rate(command, &management()?, reader).await,
        Command::Catalogue(command) => catalogue::run(command, reader).await,
        Command::Person(PersonCommand::Add { name, role, team }) => {
            person::add(&name, &role, team.as_deref(), reader).await
        }
        Command::Person(PersonCommand::SignIn { name }) => person::sign_in(&name, reader).await,
        Command::Person(command) => person::manage(command, &management()?, reader).await,
        Command::Token(command) => session::tokens(command, &management()?, reader).await,
        Command::Me(command) => me::run(command, &management()?, reader).await,
        Command::Audit(command) => audit::run(command, management, reader).await,
        Command::SignIn(args) => session::sign_in(args, reader).await,
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Wendor::command(), "wendor", &mut script);
            output::print(&String::from_utf8_lossy(&script))
        }
    }
}

/// The time at which a command runs.
fn now() -> chrono::DateTime<Utc> {
    Utc::now()
}
