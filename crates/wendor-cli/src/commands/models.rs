//! `wendor upstream models`: what upstreams serve beside what is offered.

use serde_json::json;
use wendor_gateway::admin::inventory::{InventoryLine, InventoryShown, ServedLine};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::output::{self, Column, Reader};
use crate::words;

/// Changes that are shown.
const MOST_EVENTS: usize = 10;

pub(super) async fn run(
    name: Option<String>,
    refresh: bool,
    management: &Management,
    reader: Reader,
) -> Result<(), Failure> {
    let mut shown: InventoryShown = if refresh {
        management.post("/inventory/refresh", &json!({ "upstream": name })).await?
    } else {
        management.get("/inventory", &[]).await?
    };
    if let Some(name) = &name {
        let names: Vec<&str> = shown.upstreams.iter().map(|line| line.upstream.as_str()).collect();
        if !names.contains(&name.as_str()) {
            let near = wendor_wire::nearest::nearest(name, names)
                .map_or_else(String::new, |near| format!(" Nearest: {near}."));
            return Err(Failure::NoSuch(format!("Unknown upstream {name}.{near}")));
        }
        shown.upstreams.retain(|line| line.upstream == *name);
        shown.events.retain(|event| event.upstream == *name);
    }
    if reader == Reader::Program {
        return output::json(&shown);
    }
    let columns = [
        Column::Text("upstream"),
        Column::Text("model"),
        Column::Text("offered"),
        Column::Text("weights"),
        Column::Number("context"),
        Column::Text("loaded"),
        Column::Text("proven"),
        Column::Text("last used"),
    ];
    let rows = shown.upstreams.iter().flat_map(rows).collect();
    output::table(&columns, rows, "There is no upstream yet. Add an upstream: wendor upstream add ADDRESS")?;
    for line in &shown.upstreams {
        if let Some(why) = &line.failed {
            output::line(&format!("× {}: the last check failed: {why}.", line.upstream))?;
        }
        for says in line.models.iter().filter_map(|model| model.says.as_ref()) {
            output::line(&format!("△ {}: {says}", line.upstream))?;
        }
    }
    for event in shown.events.iter().take(MOST_EVENTS) {
        output::line(&format!("{}: {}.", words::ago(event.at, now()), event.says))?;
    }
    Ok(())
}

fn rows(line: &InventoryLine) -> Vec<Vec<String>> {
    let looked = line.looked_at.map_or_else(|| "not checked yet".to_owned(), |at| words::ago(at, now()));
    let head = [line.upstream.clone(), format!("checked {looked}")];
    let version = line.server_version.as_ref().map(|version| format!("version {version}"));
    let mut heads: Vec<String> = head.into_iter().chain(version).collect();
    heads.reverse();
    let count = line.models.len().max(heads.len());
    (0..count)
        .map(|index| {
            let mut row = vec![heads.pop().unwrap_or_default()];
            row.extend(line.models.get(index).map_or_else(|| vec![String::new(); 7], cells));
            row
        })
        .collect()
}

fn cells(model: &ServedLine) -> Vec<String> {
    let offered = match (model.offered, model.promise.as_str()) {
        (false, _) => "no",
        (true, "kept") => "yes",
        (true, "gone") => "× gone",
        (true, "other weights") => "× other weights",
        (true, _) => "yes, not known there",
    };
    let served = model.served.as_ref();
    let digest = served.and_then(|served| served.digest.as_deref());
    let loaded = match (served.and_then(|served| served.loaded_bytes), digest) {
        (Some(bytes), _) => words::data_size(bytes),
        (None, Some(_)) => "no".to_owned(),
        (None, None) => "not reported".to_owned(),
    };
    let proofs: Vec<String> = model
        .proofs
        .iter()
        .filter(|proof| proof.standing != "unproven")
        .map(|proof| if proof.standing == "absent" { format!("not {}", proof.proof) } else { proof.proof.clone() })
        .collect();
    let last = match (model.last_used, &model.last_team) {
        (Some(at), Some(team)) => format!("{} by {team}", words::hours_ago(at, now())),
        _ => "never".to_owned(),
    };
    vec![
        model.model.clone(),
        offered.to_owned(),
        digest.map_or_else(|| "not reported".to_owned(), wendor_core::words::digest),
        served
            .and_then(|served| served.context_window)
            .map_or_else(String::new, |window| words::grouped(u64::from(window))),
        loaded,
        if proofs.is_empty() { "unproven".to_owned() } else { proofs.join(", ") },
        last,
    ]
}
