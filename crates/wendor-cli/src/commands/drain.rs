//! `wendor upstream drain|resume`: taking a server out of the way of new requests, and back.

use std::time::Duration;

use serde_json::json;
use wendor_gateway::admin::revise::CatalogueApplied;
use wendor_gateway::admin::upstreams::UpstreamLine;

use crate::client::{Management, part};
use crate::failure::Failure;
use crate::output::{self, Reader};

/// How often it is looked what is left.
const EVERY: Duration = Duration::from_millis(500);

pub(super) async fn drain(name: &str, wait: bool, management: &Management, reader: Reader) -> Result<(), Failure> {
    let applied = set(name, true, management).await?;
    if reader == Reader::Person {
        let says = if applied.changes.is_empty() {
            format!("{name} is drained already.")
        } else {
            format!("Revision {} is in force: {name} takes no new requests.", applied.revision)
        };
        output::line(&says)?;
    }
    let mut last_line = None;
    loop {
        let upstreams: Vec<UpstreamLine> = management.get("/upstreams", &[]).await?;
        let left = upstreams.iter().find(|upstream| upstream.name == name);
        let (open, waiting) = left.map_or((0, 0), |upstream| (upstream.streams_open, upstream.waiting));
        if reader == Reader::Person && last_line.replace((open, waiting)) != Some((open, waiting)) {
            output::line(&progress(open, waiting))?;
        }
        if !wait || open + waiting == 0 {
            break;
        }
        tokio::time::sleep(EVERY).await;
    }
    match reader {
        Reader::Program => output::json(&applied),
        Reader::Person => Ok(()),
    }
}

pub(super) async fn resume(name: &str, management: &Management, reader: Reader) -> Result<(), Failure> {
    let applied = set(name, false, management).await?;
    match reader {
        Reader::Program => output::json(&applied),
        Reader::Person if applied.changes.is_empty() => {
            output::line(&format!("{name} takes requests; it was not drained."))
        }
        Reader::Person => {
            output::line(&format!("Revision {} is in force: {name} takes requests again.", applied.revision))
        }
    }
}

async fn set(name: &str, drained: bool, management: &Management) -> Result<CatalogueApplied, Failure> {
    management.put(&format!("/upstreams/{}/drained", part(name)), &json!({ "drained": drained })).await
}

fn progress(open: u32, waiting: u32) -> String {
    let streams = if open == 1 { "1 request is".to_owned() } else { format!("{open} requests are") };
    match (open, waiting) {
        (0, 0) => "Nothing is under way there.".to_owned(),
        (_, 0) => format!("{streams} under way there."),
        (_, _) => format!("{streams} under way there, and {waiting} that came before wait for room."),
    }
}
