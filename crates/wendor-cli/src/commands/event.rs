//! `wendor event` and `wendor webhook`: what happened by itself, and who is told of it.

use wendor_gateway::admin::events::{DeliveryLine, EventLine, EventPage, WebhookLine};

use super::now;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::{EventCommand, WebhookCommand};
use crate::output::{self, Column, Reader};
use crate::words;

const NO_WEBHOOK: &str =
    "There is no webhook. Add one to the catalogue file: [webhooks.NAME] with `address` and `secret`.";

pub(super) async fn events(command: EventCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    let EventCommand::List { kind, limit } = command;
    let page: EventPage = management.get("/events", &[("kind", kind), ("limit", Some(limit.to_string()))]).await?;
    if reader == Reader::Program {
        return output::json(&page);
    }
    let columns = [Column::Number("event"), Column::Text("when"), Column::Text("kind"), Column::Text("what")];
    let row = |event: &EventLine| {
        let id = event.id.to_string();
        vec![id, words::ago(event.at, now()), format!("{}, {}", event.kind, event.state), what(event)]
    };
    output::table(&columns, page.events.iter().map(row).collect(), "No matching events in the last 90 days.")
}

fn what(event: &EventLine) -> String {
    let why = if event.why.is_empty() { String::new() } else { format!("\n{}", event.why) };
    format!("{} {}{why}", event.subject, event.says)
}

pub(super) async fn webhooks(command: WebhookCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        WebhookCommand::List => list(management, reader).await,
        WebhookCommand::Deliveries { name, limit } => {
            let path = format!("/webhooks/{}/deliveries", part(&name));
            let lines: Vec<DeliveryLine> = management.get(&path, &[("limit", Some(limit.to_string()))]).await?;
            if reader == Reader::Program {
                return output::json(&lines);
            }
            let columns = [
                Column::Number("delivery"),
                Column::Text("event"),
                Column::Text("state"),
                Column::Number("tries"),
                Column::Text("last try"),
                Column::Text("result"),
            ];
            output::table(&columns, lines.iter().map(row).collect(), "No deliveries yet.")
        }
        WebhookCommand::Try { name } => {
            let tried: DeliveryLine =
                management.post(&format!("/webhooks/{}/try", part(&name)), &serde_json::json!({})).await?;
            match (reader, &tried.failed, tried.status) {
                (Reader::Program, ..) => output::json(&tried)?,
                (Reader::Person, None, Some(status)) => {
                    output::line(&format!("{name} accepted delivery {} with status {status}.", tried.id))?;
                }
                (Reader::Person, ..) => {}
            }
            match tried.failed {
                None => Ok(()),
                Some(why) => Err(Failure::UpstreamsFailed(format!("delivery {} to {name} failed: {why}", tried.id))),
            }
        }
    }
}

async fn list(management: &Management, reader: Reader) -> Result<(), Failure> {
    let webhooks: Vec<WebhookLine> = management.get("/webhooks", &[]).await?;
    if reader == Reader::Program {
        return output::json(&webhooks);
    }
    let columns = [
        Column::Text("webhook"),
        Column::Text("address"),
        Column::Text("events"),
        Column::Text("secret"),
        Column::Number("waiting"),
        Column::Text("last delivery"),
    ];
    let row = |webhook: &WebhookLine| {
        let last = webhook.last.as_ref().map_or_else(|| "none".to_owned(), outcome);
        let events = words::wrapped_names(&webhook.events, 30);
        let waiting = webhook.waiting.to_string();
        vec![webhook.name.clone(), webhook.address.clone(), events, webhook.secret.clone(), waiting, last]
    };
    output::table(&columns, webhooks.iter().map(row).collect(), NO_WEBHOOK)
}

fn row(line: &DeliveryLine) -> Vec<String> {
    vec![
        line.id.to_string(),
        format!("{} {}", line.event.subject, line.event.says),
        line.state.clone(),
        line.attempts.to_string(),
        line.tried_at.map_or_else(|| "-".to_owned(), |at| words::ago(at, now())),
        outcome(line),
    ]
}

fn outcome(line: &DeliveryLine) -> String {
    match (&line.failed, line.status, line.next_at) {
        (Some(why), _, Some(next)) => format!("{why}; next try {}", words::in_time(next, now())),
        (Some(why), _, None) => why.clone(),
        (None, Some(status), _) => format!("{} answered {status}", line.webhook),
        (None, None, _) => "not tried yet".to_owned(),
    }
}
