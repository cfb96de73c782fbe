//! Bringing servers in and keeping an eye on them: what checks may spend and to whom a key goes, inventories, kept credentials, the first
//! run in the terminal, and the code for apps.

mod code;
mod credentials;
mod first_run;
mod inventory;
mod pasted;
mod quiet;
mod spending;
mod watching;

use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;

/// A secret for credentials that are kept.
const SECRET: (&str, &str) = ("WENDOR_SECRET", "the tide waits for nobody, not even for ferries");

fn with_secret() -> Wishes {
    Wishes { settings: vec![(SECRET.0, SECRET.1.to_owned())], ..Wishes::default() }
}

/// A local server of those models.
async fn chartroom(models: &[&str]) -> StandIn {
    let profile = Profile { dialect: Dialect::LocalChat, ..Profile::quick("chartroom", models) };
    StandIn::start(profile).await.unwrap()
}

/// Brings `server` in as `name`, offering those of its models with those lines.
async fn bring_in(ferry: &Ferry, name: &str, server: &StandIn, offers: Value) {
    let settings =
        json!({ "address": format!("http://{}", server.address()), "dialect": "local-chat", "offers": offers });
    ferry.post("/upstreams", &json!({ "name": name, "settings": settings })).await;
}
