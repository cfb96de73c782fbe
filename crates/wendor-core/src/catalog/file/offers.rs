//! The `[upstreams.*.offers.*]` tables of a catalogue file: what an offer can do, how it is marked, what it lets apps control.

use std::collections::BTreeMap;

use wendor_wire::ability::{Ability, Control, ControlPolicy, Controls, Mark};
use wendor_wire::address::Addresses;

use super::reader::{Item, Reader, listed};
use crate::catalog::upstream::Offer;
use crate::catalog::weights::{ABOUT, OtherWeights, WeightsPin};

/// Kinds of images that offers may name.
const IMAGE_KINDS: [&str; 5] = ["image/png", "image/jpeg", "image/gif", "image/webp", "image/bmp"];

/// Reads what stands in an offer's table beside its rates.
pub(super) fn read(reader: &mut Reader<'_>, table: &mut super::reader::Table<'_>) -> Offer {
    let image_kinds = |reader: &mut Reader<'_>, item: Item<'_>| {
        let kinds = IMAGE_KINDS.map(|kind| (kind, kind));
        words(reader, &item, &kinds).into_iter().map(str::to_owned).collect()
    };
    Offer {
        output_cap: table.take("output_cap").and_then(|item| reader.count(&item)),
        context_window: table.take("context_window").and_then(|item| reader.count(&item)),
        abilities: table.take("abilities").map(|item| words(reader, &item, Ability::WORDS)),
        image_kinds: table.take("image_kinds").map(|item| image_kinds(reader, item)),
        addresses: table.take("addresses").and_then(|item| reader.word(&item, &Addresses::WORDS)).unwrap_or_default(),
        marks: table.take("marks").map(|item| words(reader, &item, Mark::WORDS)).unwrap_or_default(),
        requests_a_minute: table.take("requests_a_minute").and_then(|item| reader.count(&item)),
        tokens_a_minute: table.take("tokens_a_minute").and_then(|item| reader.count(&item)),
        controls: table.take("controls").map(|item| controls(reader, &item)).unwrap_or_default(),
        weights: table.take("weights").and_then(|item| weights(reader, &item)),
        about: table.take("about").map(|item| about(reader, &item)).unwrap_or_default(),
    }
}

/// `{ digest = "sha256:..", otherwise = "stop" }`.
fn weights(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<WeightsPin> {
    let mut table = reader.table(item)?;
    let digest = reader.required(&mut table, "digest").and_then(|item| {
        let digest = |text: &str| {
            if text.len() >= 12 && text.bytes().all(|byte| byte.is_ascii_graphic()) {
                Ok(text.to_owned())
            } else {
                Err(format!("`{text}` is not a digest: copy it from `wendor upstream models`, 12 characters or more"))
            }
        };
        reader.parsed(&item, digest)
    });
    let otherwise = table.take("otherwise").and_then(|item| reader.word(&item, &OtherWeights::WORDS));
    reader.finish(table);
    Some(WeightsPin { digest: digest?, otherwise: otherwise.unwrap_or_default() })
}

/// `{ precision = "8 bit" }`.
fn about(reader: &mut Reader<'_>, item: &Item<'_>) -> BTreeMap<String, String> {
    let Some(table) = reader.table(item) else { return BTreeMap::new() };
    let mut known = BTreeMap::new();
    for (name, span, item) in table.entries() {
        if !ABOUT.iter().any(|(word, _)| *word == name) {
            let words = listed(ABOUT.iter().map(|(word, _)| *word));
            reader.problem(&item.path, &span, format!("`{name}` is not one of {words}"));
        } else if let Some(value) = reader.string(&item) {
            known.insert(name, value.to_owned());
        }
    }
    known
}

fn words<T: Copy>(reader: &mut Reader<'_>, item: &Item<'_>, known: &[(&str, T)]) -> Vec<T> {
    let items = reader.list(item).unwrap_or_default();
    items.iter().filter_map(|item| reader.word(item, known)).collect()
}

/// `{ stay-loaded = "pass" }`.
fn controls(reader: &mut Reader<'_>, item: &Item<'_>) -> Controls {
    let mut controls = Controls::default();
    let Some(table) = reader.table(item) else { return controls };
    for (name, span, item) in table.entries() {
        match Control::WORDS.iter().find(|(word, _)| *word == name) {
            Some((_, control)) => {
                if let Some(policy) = reader.word(&item, ControlPolicy::WORDS) {
                    controls.set(*control, policy);
                }
            }
            None => {
                let known = listed(Control::WORDS.iter().map(|(word, _)| *word));
                reader.problem(&item.path, &span, format!("`{name}` is not one of {known}"));
            }
        }
    }
    controls
}
