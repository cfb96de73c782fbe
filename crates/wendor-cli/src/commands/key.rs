//! `wendor key`: issue, list, revoke.

use serde_json::json;
use wendor_gateway::admin::keys::{IssuedKey, KeyLine, RevokedKey};

use super::now;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::KeyCommand;
use crate::output::{self, Column, Reader};
use crate::{range, words};

pub(super) async fn run(command: KeyCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        KeyCommand::Issue { team, label, routes, expires, lane } => {
            let expires_at = expires.as_deref().map(|text| range::expiry(text, now())).transpose()?;
            let body =
                json!({ "team": team, "label": label, "routes": routes, "expires_at": expires_at, "lane": lane });
            let issued: IssuedKey = management.post("/keys", &body).await?;
            match reader {
                Reader::Program => output::json(&issued),
                Reader::Person => show_issued(&issued),
            }
        }
        KeyCommand::List { team } => {
            let keys: Vec<KeyLine> = management.get("/keys", &[("team", team)]).await?;
            match reader {
                Reader::Program => output::json(&keys),
                Reader::Person => show_list(&keys),
            }
        }
        KeyCommand::Revoke { id } => {
            let revoked: RevokedKey = management.post(&format!("/keys/{}/revoke", part(&id)), &json!({})).await?;
            match reader {
                Reader::Program => output::json(&revoked),
                Reader::Person => output::line(&format!(
                    "Key {} was revoked at {} UTC.",
                    revoked.id,
                    words::instant(revoked.revoked_at)
                )),
            }
        }
    }
}

/// The key alone on standard output, so that it can be piped; what belongs to it beside.
fn show_issued(issued: &IssuedKey) -> Result<(), Failure> {
    output::line(&issued.key)?;
    let until = issued.expires_at.map_or_else(String::new, |at| format!(" It expires {} UTC.", words::instant(at)));
    output::note(&format!("Key {} of {}, shown this once: Wendor keeps only its hash.{until}", issued.id, issued.team));
    Ok(())
}

fn show_list(keys: &[KeyLine]) -> Result<(), Failure> {
    let columns = [
        Column::Text("key"),
        Column::Text("team"),
        Column::Text("label"),
        Column::Text("state"),
        Column::Text("routes"),
        Column::Text("lane"),
        Column::Text("issued"),
        Column::Text("expires"),
    ];
    let rows = keys.iter().map(|key| {
        vec![
            key.id.clone(),
            key.team.clone(),
            key.label.clone(),
            key.state.clone(),
            key.routes.as_ref().map_or_else(|| "all of its team".to_owned(), |routes| routes.join(", ")),
            key.lane.clone(),
            format!("{} by {}", words::ago(key.issued_at, now()), key.issued_by),
            key.expires_at.map_or_else(|| "never".to_owned(), words::instant),
        ]
    });
    output::table(&columns, rows.collect(), "There is no key yet. Issue one: wendor key issue --team NAME --label TEXT")
}
