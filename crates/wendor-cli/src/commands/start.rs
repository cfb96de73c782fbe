//! `wendor start`: leads an empty installation to its first answer. What was made already is used again, so that it can be run until it
//! succeeds.

use std::io::{BufRead, IsTerminal};

use serde_json::json;
use wendor_gateway::admin::client_code::ClientCode;
use wendor_gateway::admin::keys::IssuedKey;
use wendor_gateway::admin::revise::CatalogueApplied;
use wendor_gateway::admin::routes_view::RouteLine;
use wendor_gateway::admin::teams::TeamLine;
use wendor_gateway::admin::upstreams::UpstreamLine;

use super::{ask, upstream};
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::connect::{StartArgs, UpstreamAddArgs};
use crate::output::{self, Reader};
use crate::profile::Profile;

/// What the first question is.
const QUESTION: &str = "Say in one sentence that you can be reached.";

pub(super) async fn run(args: StartArgs, reader: Reader) -> Result<(), Failure> {
    let management = Management::new(Profile::find()?)?;
    let (upstream, models) = upstream_of(&args, &management, reader).await?;
    let model = match (&args.model, models.first()) {
        (Some(model), _) => model.clone(),
        (None, Some(model)) => model.clone(),
        (None, None) => {
            return Err(Failure::NotUnderstood(format!("{upstream} offers no model: say one with --model.")));
        }
    };
    let route = route_of(&args, &management, &format!("{upstream}/{model}")).await?;
    let team = team_of(&args, &management).await?;
    let label = "first run";
    let issued: IssuedKey = management.post("/keys", &json!({ "team": team, "label": label })).await?;
    output::note(&format!("Key {} of {team}, shown this once:", issued.id));
    output::line(&issued.key)?;
    output::note(&format!("\nAsking {route}: {QUESTION}"));
    ask::once(&route, QUESTION, &issued.key, reader).await?;
    let code: ClientCode = management.get(&format!("/routes/{}/code", part(&route)), &[]).await?;
    if let Some(path) = &args.env {
        let text = code.env_file.replace("WENDOR_KEY=\n", &format!("WENDOR_KEY={}\n", issued.key));
        private(path, &text).map_err(|error| Failure::Own(format!("{} cannot be written: {error}", path.display())))?;
        output::note(&format!("\nThe app's variables are in {}.", path.display()));
    }
    output::note(&format!(
        "\nNext: the code for an app is `wendor route code {route}`; what it cost is `wendor usage`."
    ));
    Ok(())
}

/// Written so that only its owner can read it: it holds a key.
fn private(path: &std::path::Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    let mut file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    // One that was there before may be open to others.
    file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
    file.write_all(text.as_bytes())
}

async fn upstream_of(
    args: &StartArgs,
    management: &Management,
    reader: Reader,
) -> Result<(String, Vec<String>), Failure> {
    let known: Vec<UpstreamLine> = management.get("/upstreams", &[]).await?;
    let address = match (&args.address, known.iter().find(|upstream| !upstream.offers.is_empty())) {
        (Some(address), _) => address.clone(),
        (None, Some(upstream)) => {
            output::note(&format!("{} is already added; its first offer is used.", upstream.name));
            return Ok((upstream.name.clone(), upstream.offers.iter().map(|offer| offer.model.clone()).collect()));
        }
        (None, None) => asked("The address of a model server, as you would type it in a browser or an app:", "")?,
    };
    let bare = address.trim_end_matches('/').trim_end_matches("/v1");
    if let Some(upstream) = known.iter().find(|upstream| upstream.address == bare) {
        output::note(&format!("{} is already added.", upstream.name));
        return Ok((upstream.name.clone(), upstream.offers.iter().map(|offer| offer.model.clone()).collect()));
    }
    let add = UpstreamAddArgs {
        address,
        name: None,
        server: args.server.clone(),
        models: args.model.clone().map(|model| vec![model]),
        place: None,
        streams: None,
        mend: true,
        yes: true,
    };
    upstream::add(add, management, reader).await
}

async fn route_of(args: &StartArgs, management: &Management, offer: &str) -> Result<String, Failure> {
    let known: Vec<RouteLine> = management.get("/routes", &[]).await?;
    // One that leads elsewhere too might ask another server than the one that is meant.
    let leads = |route: &&RouteLine| {
        let mut offers = route.stages.iter().flat_map(|stage| &stage.offers).peekable();
        offers.peek().is_some() && offers.all(|entry| entry.offer == offer)
    };
    if let Some(route) =
        known.iter().find(leads).filter(|route| args.route.as_ref().is_none_or(|name| *name == route.name))
    {
        return Ok(route.name.clone());
    }
    let name = match &args.route {
        Some(name) => name.clone(),
        None => asked("A name for the route, which apps put in `model`:", "first-route")?,
    };
    let made: CatalogueApplied = management.post("/routes", &json!({ "name": name, "offers": [offer] })).await?;
    output::note(&format!("Revision {}: route {name} leads to {offer}.", made.revision));
    Ok(name)
}

async fn team_of(args: &StartArgs, management: &Management) -> Result<String, Failure> {
    let known: Vec<TeamLine> = management.get("/teams", &[]).await?;
    let names: Vec<&str> = known.iter().map(|team| team.name.as_str()).collect();
    let name = match &args.team {
        Some(name) => name.clone(),
        None if names.is_empty() => asked("A name for the team that pays:", "first-team")?,
        // Whose key it is and who pays is for somebody to say.
        None => asked(&format!("Which team pays, of {}, or a new one (--team)?", names.join(", ")), "")?,
    };
    if !known.iter().any(|team| team.name == name) {
        let made: CatalogueApplied = management.post("/teams", &json!({ "name": name })).await?;
        output::note(&format!("Revision {}: team {name}.", made.revision));
    }
    Ok(name)
}

/// Asks whoever is there; where nobody is, or nothing is typed, it is `usual`.
fn asked(question: &str, usual: &str) -> Result<String, Failure> {
    if !std::io::stdin().is_terminal() {
        return match usual {
            "" => Err(Failure::NotUnderstood(format!("{question} Not a terminal: pass it on the command line."))),
            usual => Ok(usual.to_owned()),
        };
    }
    let suggestion = if usual.is_empty() { String::new() } else { format!(" [{usual}]") };
    output::note(&format!("{question}{suggestion}"));
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).map_err(|error| Failure::Own(error.to_string()))?;
    match answer.trim() {
        "" if usual.is_empty() => Err(Failure::NotUnderstood("Nothing was typed.".to_owned())),
        "" => Ok(usual.to_owned()),
        answer => Ok(answer.to_owned()),
    }
}
