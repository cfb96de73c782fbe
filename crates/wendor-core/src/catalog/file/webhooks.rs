//! The `[webhooks.*]` tables of a catalogue file: who is told of events.

use std::collections::BTreeMap;

use super::reader::{Item, Reader};
use crate::catalog::event_kind::EventKind;
use crate::catalog::upstream::CredentialSource;
use crate::catalog::webhook::{HookAddress, Webhook};
use crate::name::Name;

pub(super) fn read(reader: &mut Reader<'_>, item: &Item<'_>) -> BTreeMap<Name, Webhook> {
    let mut webhooks = BTreeMap::new();
    let Some(table) = reader.table(item) else { return webhooks };
    for (name, span, item) in table.entries() {
        match Name::parse(&name) {
            Ok(name) => webhooks.extend(webhook(reader, &item).map(|webhook| (name, webhook))),
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
    webhooks
}

fn webhook(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<Webhook> {
    let mut table = reader.table(item)?;
    let address = reader.required(&mut table, "address").and_then(|item| reader.parsed(&item, HookAddress::parse));
    let secret = reader.required(&mut table, "secret").and_then(|item| secret(reader, &item));
    let kinds = |reader: &mut Reader<'_>, item: Item<'_>| {
        let items = reader.list(&item).unwrap_or_default();
        items.iter().filter_map(|item| reader.word(item, &EventKind::WORDS)).collect()
    };
    let events = table.take("events").map(|item| kinds(reader, item));
    reader.finish(table);
    Some(Webhook { address: address?, secret: secret?, events })
}

/// `{ env = "WENDOR_WEBHOOK_NAME" }` or `{ file = "NAME" }`.
fn secret(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<CredentialSource> {
    let mut table = reader.table(item)?;
    let (env, file) = (table.take("env"), table.take("file"));
    reader.finish(table);
    match (env, file) {
        (Some(item), None) => reader.parsed(&item, Webhook::secret_in),
        (None, Some(item)) => reader.parsed(&item, CredentialSource::file),
        (Some(_), Some(_)) | (None, None) => {
            let message = "say where the service finds it: `{ env = \"WENDOR_WEBHOOK_NAME\" }` or `{ file = \"NAME\" }` in its folder \
                           of credentials, never the value itself";
            reader.problem(&item.path, &item.span, message);
            None
        }
    }
}
