//! What an upstream serves: its listing, and what a local server tells beside it.

use std::time::Duration;

use bytes::Bytes;
use serde_json::json;
use wendor_core::catalog::upstream::Auth;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::listing;
use wendor_core::diagnosis::seen::Heard;
use wendor_core::diagnosis::speech::Found;
use wendor_core::secret::Secret;
use wendor_wire::dialect::Dialect;

use super::talk::{Credentials, Peer};

/// Models of a local server that are asked about one by one.
const MOST_SHOWN: usize = 40;

/// How long each of these may take.
const SHOWN: Duration = Duration::from_secs(5);

/// Reads a listing, and asks a local server for what it tells beside it. All of it is free, and loads nothing.
pub async fn read(peer: &Peer, found: &Found, heard: &Heard, secret: Option<&Secret>, auth: &Auth) -> Inventory {
    let mut inventory =
        Inventory { models: heard.json().map(|body| listing::read(&body)).unwrap_or_default(), server_version: None };
    if found.dialect != Dialect::LocalChat {
        return inventory;
    }
    let credentials = Credentials::of(secret, auth);
    let at = |path: &str| found.address.endpoint(path);
    if let Some(version) = peer.get(&at("/api/version"), credentials).await.ok().and_then(|heard| heard.json()) {
        inventory.server_version = version.get("version").and_then(serde_json::Value::as_str).map(str::to_owned);
    }
    if let Some(running) = peer.get(&at("/api/ps"), credentials).await.ok().and_then(|heard| heard.json()) {
        listing::add_loaded(&mut inventory.models, &running);
    }
    for model in inventory.models.iter_mut().take(MOST_SHOWN) {
        let body = Bytes::from(json!({ "model": model.name }).to_string());
        let shown = peer.post(&at("/api/show"), credentials, body, SHOWN).await;
        if let Some(shown) = shown.ok().filter(|heard| heard.status == 200).and_then(|heard| heard.json()) {
            listing::add_shown(model, &shown);
        }
    }
    inventory
}
