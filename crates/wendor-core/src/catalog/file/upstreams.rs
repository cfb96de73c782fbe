//! The `[upstreams.*]` tables of a catalogue file: upstreams, their offers, and the rates of these.

use std::collections::BTreeMap;
use std::ops::Range;

use rust_decimal::Decimal;
use wendor_wire::dialect::Dialect;
use wendor_wire::images::ImageSize;

use super::CatalogueFile;
use super::reader::{Item, Reader, Table};
use crate::catalog::upstream::{
    Address, Auth, CredentialSource, Fingerprint, Hosting, Offer, Upstream, further_header,
};
use crate::metering::rate::Rate;
use crate::name::{Name, OfferName};

/// Decimals that a rate may have: with tokens per million, amounts then fit the ledger's twelve.
const RATE_DECIMALS: u32 = 6;

/// The highest rate: one unit of the currency for a single token.
const DEAREST: u64 = 1_000_000;

const DIALECTS: [(&str, Dialect); 5] = [
    ("chat-completions", Dialect::ChatCompletions),
    ("responses", Dialect::Responses),
    ("messages", Dialect::Messages),
    ("generate-content", Dialect::GenerateContent),
    ("local-chat", Dialect::LocalChat),
];
const HOSTINGS: [(&str, Hosting); 2] = [("own", Hosting::Own), ("hosted", Hosting::Hosted)];

pub(super) fn read(reader: &mut Reader<'_>, item: &Item<'_>, file: &mut CatalogueFile) {
    let Some(tables) = reader.table(item) else { return };
    for (name, span, item) in tables.entries() {
        match Name::parse(&name) {
            Ok(name) => {
                if let Some(upstream) = upstream(reader, &item, &name, file) {
                    file.catalogue.upstreams.insert(name, upstream);
                }
            }
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
}

fn upstream(reader: &mut Reader<'_>, item: &Item<'_>, name: &Name, file: &mut CatalogueFile) -> Option<Upstream> {
    let mut table = reader.table(item)?;
    let address = reader.required(&mut table, "address").and_then(|item| reader.parsed(&item, Address::parse));
    let dialect = table.take("dialect");
    let dialect = dialect.map_or(Some(Dialect::ChatCompletions), |item| reader.word(&item, &DIALECTS));
    let hosting = reader.required(&mut table, "hosting").and_then(|item| reader.word(&item, &HOSTINGS));
    let place = table.take("place").and_then(|item| reader.string(&item)).map(str::to_owned);
    let streams = table.take("streams").and_then(|item| reader.count(&item));
    let tokens = table.take("tokens").and_then(|item| reader.count(&item));
    let requests_a_minute = table.take("requests_a_minute").and_then(|item| reader.count(&item));
    let tokens_a_minute = table.take("tokens_a_minute").and_then(|item| reader.count(&item));
    let queue = table.take("queue").and_then(|item| reader.count_or_none(&item));
    let is_drained = table.take("drained").and_then(|item| reader.flag(&item)).unwrap_or(false);
    let credential = table.take("credential").and_then(|item| credential(reader, &item));
    let auth = table.take("auth").and_then(|item| reader.parsed(&item, |text| Auth::try_from(text.to_owned())));
    let seals = table.take("seals").and_then(|item| reader.string(&item)).map(str::to_owned);
    let certificate = table.take("certificate").and_then(|item| reader.parsed(&item, Fingerprint::parse));
    let plain_http =
        table.take("plain_http").and_then(|item| reader.word(&item, &[("allowed", true), ("refused", false)]));
    let client_certificate = table.take("client_certificate").and_then(|item| reader.parsed(&item, pem_file));
    let is_without_ids = table.take("request_ids").is_some_and(|item| is_switched_off(reader, &item, "sent"));
    let is_not_looked_at = table.take("looks").is_some_and(|item| is_switched_off(reader, &item, "usual"));
    let headers = table.take("headers").map(|item| headers(reader, &item)).unwrap_or_default();
    let former = super::names::former(reader, &mut table);
    let offers =
        reader.required(&mut table, "offers").map(|item| offers(reader, &item, name, file)).unwrap_or_default();
    reader.finish(table);
    let auth = auth.unwrap_or_default();
    Some(Upstream {
        address: address?,
        dialect: dialect?,
        hosting: hosting?,
        place,
        streams,
        tokens,
        requests_a_minute,
        tokens_a_minute,
        queue,
        is_drained,
        credential,
        auth,
        headers,
        certificate,
        allows_plain_http: plain_http.unwrap_or(false),
        client_certificate,
        is_without_ids,
        is_not_looked_at,
        seals,
        former,
        offers,
    })
}

/// Whether what is `usual` is switched off.
fn is_switched_off(reader: &mut Reader<'_>, item: &Item<'_>, usual: &'static str) -> bool {
    reader.word(item, &[(usual, false), ("none", true)]).unwrap_or(false)
}

/// A file of the folder of credentials, by its path in it.
fn pem_file(path: &str) -> Result<String, String> {
    CredentialSource::file(path).map(|_| path.to_owned())
}

fn credential(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<CredentialSource> {
    type Make = fn(&str) -> Result<CredentialSource, String>;
    let mut table: Table<'_> = reader.table(item)?;
    let sources: [(&str, Make); 3] =
        [("env", CredentialSource::env), ("file", CredentialSource::file), ("kept", CredentialSource::kept)];
    let named = sources.map(|(word, make)| table.take(word).map(|item| (item, make)));
    reader.finish(table);
    let mut named = named.into_iter().flatten();
    match (named.next(), named.next()) {
        (Some((item, make)), None) => reader.parsed(&item, make),
        (Some(_), Some(_)) | (None, _) => {
            let message = "say where the service finds it: `{ env = \"NAME\" }`, `{ file = \"/path\" }` or \
                           `{ kept = \"ID\" }`, never the value itself";
            reader.problem(&item.path, &item.span, message);
            None
        }
    }
}

fn headers(reader: &mut Reader<'_>, item: &Item<'_>) -> BTreeMap<String, String> {
    let Some(table) = reader.table(item) else { return BTreeMap::new() };
    let mut headers = BTreeMap::new();
    for (name, span, item) in table.entries() {
        let value = reader.string(&item).unwrap_or_default();
        match further_header(&name, value) {
            Ok((name, value)) => {
                headers.insert(name, value);
            }
            Err(why) => reader.problem(&item.path, &span, why),
        }
    }
    headers
}

fn offers(
    reader: &mut Reader<'_>,
    item: &Item<'_>,
    upstream: &Name,
    file: &mut CatalogueFile,
) -> BTreeMap<String, Offer> {
    let Some(table) = reader.table(item) else { return BTreeMap::new() };
    let mut offers = BTreeMap::new();
    for (model, span, item) in table.entries() {
        match OfferName::new(upstream.clone(), &model) {
            Ok(name) => {
                file.named_offers.insert(name.clone());
                if let Some(offer) = offer(reader, &item, &name, file) {
                    offers.insert(model, offer);
                }
            }
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
    offers
}

fn offer(reader: &mut Reader<'_>, item: &Item<'_>, name: &OfferName, file: &mut CatalogueFile) -> Option<Offer> {
    let mut table = reader.table(item)?;
    let offer = super::offers::read(reader, &mut table);
    let rates = table.take("rates").and_then(|item| reader.list(&item)).unwrap_or_default();
    reader.finish(table);
    for item in rates {
        if let Some((rate, span)) = rate(reader, &item) {
            if file.rates.of_day(name, rate.effective_on).is_some() {
                reader.problem(
                    &item.path,
                    &span,
                    format!("there are two rates from {} on; keep one", rate.effective_on),
                );
            }
            file.rate_places.insert((name.clone(), rate.effective_on), reader.place(span.start));
            file.rates.add(name.clone(), rate);
        }
    }
    Some(offer)
}

/// What an image of each size costs: `{ "1024x1024" = 0.08 }`.
fn image_sizes(reader: &mut Reader<'_>, item: &Item<'_>) -> BTreeMap<ImageSize, Decimal> {
    let mut sizes = BTreeMap::new();
    let Some(table) = reader.table(item) else { return sizes };
    for (name, span, item) in table.entries() {
        match ImageSize::parse(&name) {
            Ok(size) => {
                sizes.extend(reader.decimal(&item, RATE_DECIMALS, DEAREST).map(|rate| (size, rate)));
            }
            Err(error) => reader.problem(&item.path, &span, error.to_string()),
        }
    }
    sizes
}

fn rate(reader: &mut Reader<'_>, item: &Item<'_>) -> Option<(Rate, Range<usize>)> {
    let mut table = reader.table(item)?;
    let effective_on = reader.required(&mut table, "from").and_then(|item| reader.day(&item));
    let input = reader.required(&mut table, "input").and_then(|item| reader.decimal(&item, RATE_DECIMALS, DEAREST));
    let input_cached = table.take("input_cached").and_then(|item| reader.decimal(&item, RATE_DECIMALS, DEAREST));
    let cache_written = table.take("cache_written").and_then(|item| reader.decimal(&item, RATE_DECIMALS, DEAREST));
    let output = reader.required(&mut table, "output").and_then(|item| reader.decimal(&item, RATE_DECIMALS, DEAREST));
    let image = table.take("image").and_then(|item| reader.decimal(&item, RATE_DECIMALS, DEAREST));
    let image_sizes = table.take("image_sizes").map(|item| image_sizes(reader, &item)).unwrap_or_default();
    reader.finish(table);
    let (effective_on, input, output) = (effective_on?, input?, output?);
    let rate = Rate { effective_on, input, input_cached, cache_written, output, image, image_sizes };
    Some((rate, item.span.clone()))
}
