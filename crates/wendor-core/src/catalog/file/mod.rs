//! The catalogue as a TOML file: [`read`] takes a text and gives a checked [`CatalogueFile`] or every problem at once, each
//! with its line and column; [`write()`] gives a text that reads back to the same.
//!
//! ```toml
//! [upstreams.quayside-a]
//! address = "http://127.0.0.1:7501"
//! hosting = "own"
//!
//! [upstreams.quayside-a.offers.dunlin-7b]
//! output_cap = 4096
//!
//! [routes.night-sailings]
//! stages = [{ offers = ["quayside-a/dunlin-7b"] }]
//!
//! [teams.timetables]
//! quotas = [{ measure = "requests", per = "minute", limit = 600 }]
//! ```
//!
//! Rates stand with their offers and are append-only: a file may add one, never change one.

mod names;
mod offers;
mod presets;
mod reader;
mod routes;
mod serving;
mod teams;
mod upstreams;
mod webhooks;
mod write;

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;
use reader::Reader;
use serde::{Deserialize, Serialize};

use super::document::{Catalogue, DEFAULT_CURRENCY};
use crate::metering::rate::RateCard;
use crate::name::OfferName;

pub(crate) use write::time;
pub use write::write;

/// One thing that is wrong with a file, and where.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// From 1; 0 where nobody has the text, as with changes of single things.
    pub line: usize,
    /// Column in characters, from 1; 0 likewise.
    pub column: usize,
    /// Where in the document, such as `routes.manifests.stages[0].pick`; empty for a fault of the TOML itself.
    pub path: String,
    /// What is wrong, with which value, and what to do.
    pub message: String,
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let colon = if self.path.is_empty() { "" } else { ": " };
        if self.line > 0 {
            write!(f, "line {}, column {}: ", self.line, self.column)?;
        }
        write!(f, "{}{colon}{}", self.path, self.message)
    }
}

/// A checked file.
#[derive(Clone, Debug, Default)]
pub struct CatalogueFile {
    /// Upstreams, routes, teams.
    pub catalogue: Catalogue,
    /// The rates that stand with the offers.
    pub rates: RateCard,
    /// Offers that the file names, also those of upstreams with problems: what refers to them is not wrong for that.
    named_offers: BTreeSet<OfferName>,
    rate_places: BTreeMap<(OfferName, NaiveDate), (usize, usize)>,
}

impl CatalogueFile {
    /// The rates of this file that would change one that `known` has already.
    #[must_use]
    pub fn changed_rates(&self, known: &RateCard) -> Vec<Problem> {
        let differs = |(offer, rate): &(&OfferName, &crate::metering::rate::Rate)| {
            known.of_day(offer, rate.effective_on).is_some_and(|before| before != *rate)
        };
        let as_problem = |(offer, rate): (&OfferName, &crate::metering::rate::Rate)| {
            let (line, column) = self.rate_places.get(&(offer.clone(), rate.effective_on)).copied().unwrap_or((1, 1));
            let message = format!(
                "{offer} has another rate from {} on already, and requests were priced with it: rates are only added; \
                 give the new one a later `from`",
                rate.effective_on
            );
            Problem {
                line,
                column,
                path: format!("upstreams.{}.offers.{}.rates", offer.upstream(), offer.model()),
                message,
            }
        };
        self.rates.iter().filter(differs).map(as_problem).collect()
    }
}

/// Reads and checks a catalogue file.
///
/// # Errors
/// Every problem, in the order of the file.
pub fn read(text: &str) -> Result<CatalogueFile, Vec<Problem>> {
    let (document, faults) = toml::de::DeTable::parse_recoverable(text);
    let mut reader = Reader::new(text);
    for fault in &faults {
        reader.fault(fault.span().unwrap_or_default(), fault.message());
    }
    let mut file = CatalogueFile::default();
    let mut root = reader.root(&document);
    let currency = root.take("currency").and_then(|item| reader.parsed(&item, currency));
    file.catalogue.currency = currency.unwrap_or_else(|| DEFAULT_CURRENCY.to_owned());
    if let Some(item) = root.take("upstreams") {
        upstreams::read(&mut reader, &item, &mut file);
    }
    let mut named_routes = BTreeSet::new();
    if let Some(item) = root.take("routes") {
        (file.catalogue.routes, named_routes) = routes::read(&mut reader, &item, &file.named_offers);
    }
    if let Some(item) = root.take("teams") {
        file.catalogue.teams = teams::read(&mut reader, &item, &named_routes);
    }
    if let Some(item) = root.take("webhooks") {
        file.catalogue.webhooks = webhooks::read(&mut reader, &item);
    }
    reader.finish(root);
    for wrong in names::taken(&file.catalogue).into_iter().chain(serving::idle(&file.catalogue)) {
        reader.problem_at(&document, &wrong.path, wrong.message);
    }
    let problems = reader.into_problems();
    if problems.is_empty() { Ok(file) } else { Err(problems) }
}

fn currency(text: &str) -> Result<String, String> {
    let is_code = text.len() == 3 && text.bytes().all(|byte| byte.is_ascii_uppercase());
    is_code
        .then(|| text.to_owned())
        .ok_or_else(|| format!("`{text}` is not a currency's code: write three capitals, such as `EUR`"))
}

#[cfg(test)]
mod tests;
