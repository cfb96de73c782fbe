//! `wendor route` and `wendor team`: making one, and ready code for a route.

use serde_json::json;
use wendor_core::catalog::edit::pointer;
use wendor_gateway::admin::client_code::ClientCode;
use wendor_gateway::admin::revise::CatalogueApplied;
use wendor_gateway::admin::routes_view::CallerLine;

use super::{explain, now, overview, presets, things};
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::connect::{RouteCommand, TeamCommand};
use crate::output::{self, Column, Reader};
use crate::words;

pub(super) async fn run(command: RouteCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        RouteCommand::List => overview::routes(management, reader).await,
        RouteCommand::Add { name, offers } => {
            let applied: CatalogueApplied =
                management.post("/routes", &json!({ "name": name, "offers": offers })).await?;
            made(&applied, &format!("route {name} leads to {}", offers.join(", ")), reader)
        }
        RouteCommand::Edit(args) => things::route(*args, management, reader).await,
        RouteCommand::Callers { name } => callers(management, &name, reader).await,
        RouteCommand::Stage(command) => things::stage(command, management, reader).await,
        RouteCommand::Preset(command) => presets::run(command, management, reader).await,
        RouteCommand::Rename { name, to, how } => things::rename(management, "routes", &name, &to, &how, reader).await,
        RouteCommand::Remove { name, how } => {
            things::remove(management, &pointer(&["routes", &name]), &how, reader).await
        }
        RouteCommand::Explain { name, team, request, path } => {
            explain::run(&name, team, request.as_deref(), path, management, reader).await
        }
        RouteCommand::Code { name, language, streamed } => {
            let code = code_of(management, &name).await?;
            let way = if streamed { "streamed" } else { "whole" };
            let snippet = code.code.iter().find(|line| line.language == language && line.way == way);
            let unknown =
                || Failure::NotUnderstood(format!("There is no code for `{language}`: shell, python, javascript."));
            let snippet = snippet.ok_or_else(unknown)?;
            match reader {
                Reader::Program => output::json(snippet),
                Reader::Person => output::print(&snippet.text),
            }
        }
        RouteCommand::Env { name } => {
            let code = code_of(management, &name).await?;
            match reader {
                Reader::Program => output::json(&json!({ "env_file": code.env_file })),
                Reader::Person => output::print(&code.env_file),
            }
        }
    }
}

async fn callers(management: &Management, name: &str, reader: Reader) -> Result<(), Failure> {
    let callers: Vec<CallerLine> = management.get(&format!("/routes/{}/callers", part(name)), &[]).await?;
    if reader == Reader::Program {
        return output::json(&callers);
    }
    let columns = [
        Column::Text("team"),
        Column::Text("key"),
        Column::Text("for"),
        Column::Text("asks for"),
        Column::Number("requests"),
        Column::Text("last"),
    ];
    let rows = callers.iter().map(|caller| {
        vec![
            caller.team.clone(),
            caller.key.clone(),
            caller.label.clone().unwrap_or_else(|| "-".to_owned()),
            caller.asked_as.clone(),
            words::grouped(caller.requests),
            words::ago(caller.last_at, now()),
        ]
    });
    output::table(&columns, rows.collect(), "Nobody has asked for it in the last 30 days.")
}

async fn code_of(management: &Management, route: &str) -> Result<ClientCode, Failure> {
    management.get(&format!("/routes/{}/code", part(route)), &[]).await
}

pub(super) async fn teams(command: TeamCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        TeamCommand::List => overview::teams(management, reader).await,
        TeamCommand::Edit(args) => things::team(*args, management, reader).await,
        TeamCommand::Quota(command) => things::quota(command, management, reader).await,
        TeamCommand::Rename { name, to, how } => things::rename(management, "teams", &name, &to, &how, reader).await,
        TeamCommand::Remove { name, how } => {
            things::remove(management, &pointer(&["teams", &name]), &how, reader).await
        }
        TeamCommand::Add { name } => {
            let applied: CatalogueApplied = management.post("/teams", &json!({ "name": name })).await?;
            let says =
                format!("team {name} may use every route; give it a key: wendor key issue --team {name} --label TEXT");
            made(&applied, &says, reader)
        }
    }
}

fn made(applied: &CatalogueApplied, says: &str, reader: Reader) -> Result<(), Failure> {
    match reader {
        Reader::Program => output::json(applied),
        Reader::Person => output::line(&format!("Revision {} is in force: {says}.", applied.revision)),
    }
}
