//! Where a server's API stands, and in which dialect. [`search`] says what it has to look at next, until it knows; it only ever reads.

use std::collections::BTreeMap;

use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;

use super::finding::{Finding, FindingKind};
use super::refusal::server_error;
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::seen::Heard;
use crate::catalog::upstream::{Address, AddressParts};

/// Paths below which APIs are often put.
const USUAL_PREFIXES: [&str; 10] =
    ["/api", "/serve", "/llm", "/ai", "/inference", "/models", "/model", "/gateway", "/proxy", "/api/v1"];

/// Where a dialect lists its models.
#[must_use]
pub fn listing_path(dialect: Dialect) -> &'static str {
    match dialect {
        Dialect::ChatCompletions | Dialect::Responses | Dialect::Messages => "/v1/models",
        Dialect::GenerateContent => "/v1beta/models",
        Dialect::LocalChat => "/api/tags",
    }
}

/// What an answer at a place says of what stands there.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Evidence {
    /// A listing that these dialects have.
    Listing(Vec<Dialect>),
    /// Someone wants a key, or another request; the dialects whose errors look so, if that tells.
    Guarded(Vec<Dialect>),
    /// A page for people.
    Page,
    /// The server itself fails there.
    Failing,
    /// No path answered in a form that a dialect has.
    Nothing,
}

/// The dialects whose listings look like this; none when it is no listing.
#[must_use]
pub fn dialects_of_listing(heard: &Heard) -> Vec<Dialect> {
    use serde_json::Value;
    let Some(body) = heard.json().filter(|_| (200..300).contains(&heard.status)) else { return Vec::new() };
    let (data, models) = (body.get("data").and_then(Value::as_array), body.get("models").and_then(Value::as_array));
    let is_messages = body.get("has_more").is_some()
        || data.and_then(|data| data.first()).is_some_and(|first| first.get("type").is_some());
    match (data, models) {
        (Some(_), _) if is_messages && body.get("object").is_none() => vec![Dialect::Messages],
        (Some(_), _) => vec![Dialect::ChatCompletions, Dialect::Responses],
        (None, Some(models)) => match models.first() {
            Some(first) if first.get("digest").is_some() || first.get("details").is_some() => vec![Dialect::LocalChat],
            Some(first)
                if first.get("name").and_then(Value::as_str).is_some_and(|name| name.starts_with("models/")) =>
            {
                vec![Dialect::GenerateContent]
            }
            Some(_) | None => vec![Dialect::LocalChat, Dialect::GenerateContent],
        },
        (None, None) => Vec::new(),
    }
}

/// The one dialect whose errors look like this, where that can be told.
fn dialect_of_error(heard: &Heard) -> Vec<Dialect> {
    let Some(body) = heard.json() else { return Vec::new() };
    let error = body.get("error");
    let is_error = body.get("type").and_then(serde_json::Value::as_str) == Some("error");
    match error {
        Some(error) if is_error && error.is_object() => vec![Dialect::Messages],
        Some(error) if error.get("code").is_some_and(serde_json::Value::is_u64) && error.get("status").is_some() => {
            vec![Dialect::GenerateContent]
        }
        Some(error) if error.is_object() => vec![Dialect::ChatCompletions, Dialect::Responses],
        Some(_) | None => Vec::new(),
    }
}

fn evidence(heard: &Heard) -> Evidence {
    let listed = dialects_of_listing(heard);
    if !listed.is_empty() {
        return Evidence::Listing(listed);
    }
    // What a status says goes before how its body looks: proxies and sign-ins of browsers answer them with pages.
    let is_told_by_status = matches!(heard.status, 400..=499);
    if heard.status >= 500 {
        return Evidence::Failing;
    }
    if heard.is_page() && !is_told_by_status {
        return Evidence::Page;
    }
    match heard.status {
        400 | 401 | 403 | 405 | 411 | 415 | 422 | 429 => Evidence::Guarded(dialect_of_error(heard)),
        200..=299 if heard.json().is_some() => Evidence::Guarded(Vec::new()),
        _ => Evidence::Nothing,
    }
}

/// Where an API is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Where that dialect answers, which may be another than was given.
    pub address: Address,
    /// The one whose forms the answers have.
    pub dialect: Dialect,
    /// Whether models are listed there, as far as is known without the key.
    pub lists: Lists,
}

/// Whether a server lists its models.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lists {
    /// To everyone.
    Openly,
    /// Perhaps to those with a key.
    Guarded,
    /// Not at all.
    No,
}

impl Lists {
    /// The same, as it was seen with the key.
    #[must_use]
    pub fn for_those_with_a_key(self) -> Self {
        match self {
            Self::Openly | Self::Guarded => Self::Guarded,
            Self::No => Self::No,
        }
    }
}

/// A place to be looked at, without the credential, by `GET`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// Its whole address.
    pub url: String,
}

/// What was answered at the places looked at so far; `None` where nothing was.
#[derive(Clone, Debug, Default)]
pub struct Looks(BTreeMap<Place, Option<Heard>>);

impl Looks {
    /// Adds what was answered.
    pub fn add(&mut self, place: Place, heard: Option<Heard>) {
        self.0.insert(place, heard);
    }

    /// How many places.
    #[must_use]
    pub fn count(&self) -> usize {
        self.0.len()
    }

    fn at(&self, address: &Address, path: &str) -> Result<Evidence, Place> {
        let place = Place { url: address.endpoint(path) };
        match self.0.get(&place) {
            Some(heard) => Ok(heard.as_ref().map_or(Evidence::Nothing, evidence)),
            None => Err(place),
        }
    }

    fn saw_page(&self) -> bool {
        self.0.values().flatten().any(|heard| evidence(heard) == Evidence::Page)
    }

    /// What the server said where it failed at the stated address.
    fn failure_at(&self, address: &Address) -> Option<&Heard> {
        let is_own = |place: &Place| place.url.starts_with(address.as_str());
        let failing = |(place, heard): (&Place, &'_ Option<Heard>)| {
            is_own(place) && matches!(heard, Some(heard) if evidence(heard) == Evidence::Failing)
        };
        self.0.iter().find(|(place, heard)| failing((place, heard))).and_then(|(_, heard)| heard.as_ref())
    }
}

/// What is looked for: the dialect that the upstream states, or any; `model` stands in paths that name one.
#[derive(Clone, Copy, Debug)]
pub struct Wanted<'a> {
    /// Whether only the address itself is looked at, and no path that might be meant.
    pub only_here: bool,
    /// The dialect, if one is stated.
    pub stated: Option<Dialect>,
    /// A model's name.
    pub model: &'a str,
}

/// Where the API is, by what was seen; `None` when it is nowhere that was thought of.
///
/// # Errors
/// The place that must be looked at next.
pub fn search(address: &Address, wanted: Wanted<'_>, looks: &Looks) -> Result<Option<Found>, Place> {
    let groups = groups(wanted.stated);
    for group in &groups {
        if let Some(found) = in_group(address, group, wanted, looks)? {
            return Ok(Some(found));
        }
    }
    // Elsewhere a listing has to show itself: what is guarded may be guarded everywhere. What was stated goes first.
    for base in other_bases(address).into_iter().filter(|_| !wanted.only_here) {
        let most = if wanted.stated.is_some() { 1 } else { groups.len() };
        for group in groups.iter().take(most) {
            let path = group.first().map_or("", |first| listing_path(*first));
            let is_there = match looks.at(&base, path)? {
                Evidence::Listing(_) => true,
                Evidence::Guarded(told) => told.iter().any(|dialect| group.contains(dialect)),
                Evidence::Page | Evidence::Failing | Evidence::Nothing => false,
            };
            if is_there && let Some(found) = in_group(&base, group, wanted, looks)? {
                return Ok(Some(found));
            }
        }
    }
    Ok(None)
}

/// Dialects that share a listing, with what was stated first.
fn groups(stated: Option<Dialect>) -> Vec<Vec<Dialect>> {
    let mut groups = vec![
        vec![Dialect::ChatCompletions, Dialect::Responses, Dialect::Messages],
        vec![Dialect::LocalChat],
        vec![Dialect::GenerateContent],
    ];
    groups.sort_by_key(|group| stated.is_none_or(|stated| !group.contains(&stated)));
    for group in &mut groups {
        group.sort_by_key(|dialect| Some(*dialect) != stated);
    }
    groups
}

fn other_bases(address: &Address) -> Vec<Address> {
    let at = |prefix: &str| address.with(AddressParts { prefix: Some(prefix), ..AddressParts::default() });
    let own = address.prefix();
    let mut bases = Vec::new();
    let mut rest = own;
    while let Some((shorter, _)) = rest.rsplit_once('/') {
        bases.push(at(shorter));
        rest = shorter;
    }
    bases.extend(USUAL_PREFIXES.iter().map(|usual| at(&format!("{own}{usual}"))));
    bases
}

/// Whether one of these dialects is spoken at `address`.
fn in_group(address: &Address, group: &[Dialect], wanted: Wanted<'_>, looks: &Looks) -> Result<Option<Found>, Place> {
    let path = group.first().map_or("", |first| listing_path(*first));
    let spoken = |dialect, lists| Some(Found { address: address.clone(), dialect, lists });
    let (mut candidates, lists) = match looks.at(address, path)? {
        Evidence::Listing(listed) => (listed, Lists::Openly),
        Evidence::Guarded(told) if told.iter().any(|dialect| group.contains(dialect)) => (told, Lists::Guarded),
        Evidence::Guarded(told) if told.is_empty() => (group.to_vec(), Lists::Guarded),
        // An error of another dialect: it guards everything, and is looked for with its own group.
        Evidence::Guarded(_) => return Ok(None),
        Evidence::Page | Evidence::Failing | Evidence::Nothing => (group.to_vec(), Lists::No),
    };
    candidates.retain(|dialect| group.contains(dialect));
    candidates.sort_by_key(|dialect| Some(*dialect) != wanted.stated);
    if let ([only], Lists::Openly) = (candidates.as_slice(), lists) {
        return Ok(spoken(*only, lists));
    }
    for dialect in &candidates {
        let endpoint = dialects::of(*dialect).path(wanted.model, false);
        match looks.at(address, &endpoint)? {
            Evidence::Guarded(told) if told.is_empty() || told.contains(dialect) => return Ok(spoken(*dialect, lists)),
            Evidence::Guarded(_) | Evidence::Listing(_) | Evidence::Page | Evidence::Failing | Evidence::Nothing => {}
        }
    }
    // Some servers deny an endpoint to whoever only looks at it; then the listing has to do.
    Ok(candidates.first().filter(|_| lists != Lists::No).and_then(|first| spoken(*first, lists)))
}

/// Judges where the API was found, beside what the upstream says.
#[must_use]
pub fn judge_path(address: &Address, stated: Option<Dialect>, found: Option<&Found>, looks: &Looks) -> Judged {
    let Some(found) = found else {
        let came_back = format!("nothing in {} places", looks.count());
        return Judged::found(came_back, nowhere(address, looks));
    };
    let lists = match found.lists {
        Lists::Openly => "and lists its models",
        Lists::Guarded => "and wants a key for its listing",
        Lists::No => "without a listing of models",
    };
    let came_back = format!("{} is spoken at {} {lists}", found.dialect, found.address.as_str());
    if found.address != *address {
        return Judged::found(came_back, elsewhere(address, &found.address));
    }
    match stated.filter(|stated| *stated != found.dialect) {
        None => Judged::well(came_back),
        Some(stated) => Judged::found(came_back, other_dialect(stated, found.dialect)),
    }
}

/// The API is nowhere that was thought of.
fn nowhere(address: &Address, looks: &Looks) -> Finding {
    let (host, at) = (address.host(), address.as_str());
    if let Some(failed) = looks.failure_at(address) {
        return server_error(host, failed);
    }
    let (kind, says, owner) = if looks.saw_page() {
        (
            FindingKind::WebPage,
            format!("{at} answers with web pages for people; the API of a model server is not there."),
            format!("At which address does the model server behind {host} have its API? At {at} there are web pages."),
        )
    } else {
        (
            FindingKind::PathUnknown,
            format!(
                "Something answers at {at}, but no dialect's endpoints are there, nor below {} usual paths.",
                USUAL_PREFIXES.len()
            ),
            format!("Which path does the API of the model server on {host} stand below? At {at} there is nothing."),
        )
    };
    Finding::failing(kind, says, vec![Remedy::owner(owner)])
}

fn elsewhere(address: &Address, found: &Address) -> Finding {
    let is_shorter = found.prefix().len() < address.prefix().len();
    let (kind, says) = if is_shorter {
        (FindingKind::PrefixDoubled, format!("The address has an extra path: the API is at {}.", found.as_str()))
    } else {
        let lacks = found.prefix().strip_prefix(address.prefix()).unwrap_or(found.prefix());
        (FindingKind::PrefixMissing, format!("The address lacks `{lacks}`: the API is at {}.", found.as_str()))
    };
    Finding::failing(kind, says, vec![Remedy::address(found.clone())])
}

/// The server speaks another dialect.
#[must_use]
pub fn other_dialect(stated: Dialect, spoken: Dialect) -> Finding {
    let says = format!("The upstream is configured as {stated}, but the server speaks {spoken}.");
    let remedy = Remedy::change(format!("Use {spoken}"), Change::Dialect { to: spoken });
    Finding::failing(FindingKind::OtherDialect, says, vec![remedy])
}

#[cfg(test)]
mod tests;
