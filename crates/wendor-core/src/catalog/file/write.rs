//! Writing a catalogue as a TOML file that people edit: one table a thing, lists in one line each, defaults left out.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::num::NonZeroU32;

use wendor_wire::failure::FailureKind;

use super::presets;
use crate::catalog::Catalogue;
use crate::catalog::route::{FormerName, Pick, Route, Stage, StageOffer};
use crate::catalog::team::{Access, Team};
use crate::catalog::upstream::{Auth, CredentialSource, Hosting, Offer, Upstream};
use crate::catalog::webhook::Webhook;
use crate::metering::rate::{Rate, RateCard};
use crate::name::{Name, OfferName};
use crate::quota::{AtLimit, Quota};

/// The file's text; [`super::read`] gives the same catalogue and rates back.
///
/// # Panics
/// Never: writing into a string cannot fail.
#[must_use]
pub fn write(catalogue: &Catalogue, rates: &RateCard) -> String {
    let mut out = String::new();
    line(&mut out, &format!("currency = {}", quoted(&catalogue.currency)));
    for (name, upstream) in &catalogue.upstreams {
        upstream_tables(&mut out, name, upstream, rates);
    }
    for (name, route) in &catalogue.routes {
        line(&mut out, &format!("\n[routes.{}]", key(name.as_str())));
        route_lines(&mut out, route);
        if route.is_strict {
            line(&mut out, "strict = true");
        }
        if !route.origins.is_empty() {
            let origins: Vec<String> = route.origins.iter().map(|origin| quoted(origin.as_str())).collect();
            line(&mut out, &format!("origins = [{}]", origins.join(", ")));
        }
        line(&mut out, "stages = [");
        for stage in &route.stages {
            line(&mut out, &format!("  {},", stage_table(stage)));
        }
        line(&mut out, "]");
        if let Some(preset) = &route.preset {
            presets::write(&mut out, &format!("routes.{}", key(name.as_str())), preset);
        }
    }
    for (name, team) in &catalogue.teams {
        team_table(&mut out, name, team);
    }
    for (name, webhook) in &catalogue.webhooks {
        webhook_table(&mut out, name, webhook);
    }
    out
}

pub(super) fn line(out: &mut String, text: &str) {
    writeln!(out, "{text}").expect("writing into a string cannot fail");
}

pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// A key as it stands in a table's head: names may hold a dot, models nearly anything, so only plain ones go unquoted.
fn key(text: &str) -> String {
    let is_bare = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'-';
    if text.bytes().all(is_bare) && !text.is_empty() { text.to_owned() } else { quoted(text) }
}

fn upstream_tables(out: &mut String, name: &Name, upstream: &Upstream, rates: &RateCard) {
    let head = format!("upstreams.{}", key(name.as_str()));
    line(out, &format!("\n[{head}]\naddress = {}", quoted(upstream.address.as_str())));
    let dialect = upstream.dialect.as_str();
    let hosting = match upstream.hosting {
        Hosting::Own => "own",
        Hosting::Hosted => "hosted",
    };
    line(out, &format!("dialect = {}\nhosting = {}", quoted(dialect), quoted(hosting)));
    upstream_lines(out, upstream);
    if upstream.offers.is_empty() {
        line(out, "offers = {}");
    }
    for (model, offer) in &upstream.offers {
        line(out, &format!("\n[{head}.offers.{}]", key(model)));
        offer_lines(out, offer);
        let own: Vec<String> =
            OfferName::new(name.clone(), model).map(|offer| rates_of(rates, &offer)).unwrap_or_default();
        if !own.is_empty() {
            line(out, &format!("rates = [\n  {},\n]", own.join(",\n  ")));
        }
    }
}

fn upstream_lines(out: &mut String, upstream: &Upstream) {
    if let Some(place) = &upstream.place {
        line(out, &format!("place = {}", quoted(place)));
    }
    if let Some(streams) = upstream.streams {
        line(out, &format!("streams = {streams}"));
    }
    if let Some(tokens) = upstream.tokens {
        line(out, &format!("tokens = {tokens}"));
    }
    minute_lines(out, upstream.requests_a_minute, upstream.tokens_a_minute);
    if let Some(queue) = upstream.queue {
        line(out, &format!("queue = {queue}"));
    }
    if upstream.is_drained {
        line(out, "drained = true");
    }
    if let Some(source) = &upstream.credential {
        line(out, &format!("credential = {}", source_table(source)));
    }
    if upstream.auth != Auth::Bearer {
        line(out, &format!("auth = {}", quoted(&String::from(upstream.auth.clone()))));
    }
    if !upstream.headers.is_empty() {
        line(out, &format!("headers = {}", inline_texts(&upstream.headers)));
    }
    if let Some(certificate) = &upstream.certificate {
        line(out, &format!("certificate = {}", quoted(certificate.as_str())));
    }
    if upstream.allows_plain_http {
        line(out, "plain_http = \"allowed\"");
    }
    if let Some(file) = &upstream.client_certificate {
        line(out, &format!("client_certificate = {}", quoted(file)));
    }
    if upstream.is_without_ids {
        line(out, "request_ids = \"none\"");
    }
    if upstream.is_not_looked_at {
        line(out, "looks = \"none\"");
    }
    if let Some(seals) = &upstream.seals {
        line(out, &format!("seals = {}", quoted(seals)));
    }
    former_line(out, &upstream.former);
}

fn minute_lines(out: &mut String, requests: Option<NonZeroU32>, tokens: Option<NonZeroU32>) {
    if let Some(requests) = requests {
        line(out, &format!("requests_a_minute = {requests}"));
    }
    if let Some(tokens) = tokens {
        line(out, &format!("tokens_a_minute = {tokens}"));
    }
}

fn offer_lines(out: &mut String, offer: &Offer) {
    if let Some(cap) = offer.output_cap {
        line(out, &format!("output_cap = {cap}"));
    }
    if let Some(window) = offer.context_window {
        line(out, &format!("context_window = {window}"));
    }
    minute_lines(out, offer.requests_a_minute, offer.tokens_a_minute);
    let mut list = |name: &str, words: Vec<String>| line(out, &format!("{name} = [{}]", words.join(", ")));
    if let Some(abilities) = &offer.abilities {
        list("abilities", abilities.iter().map(|ability| quoted(ability.as_str())).collect());
    }
    if let Some(kinds) = &offer.image_kinds {
        list("image_kinds", kinds.iter().map(|kind| quoted(kind)).collect());
    }
    if !offer.marks.is_empty() {
        list("marks", offer.marks.iter().map(|mark| quoted(mark.as_str())).collect());
    }
    if !offer.addresses.is_usual() {
        line(out, &format!("addresses = {}", quoted(offer.addresses.as_str())));
    }
    let controls =
        offer.controls.set_ones().map(|(control, policy)| (control.as_str().to_owned(), policy.as_str().to_owned()));
    let controls: BTreeMap<String, String> = controls.collect();
    if !controls.is_empty() {
        line(out, &format!("controls = {}", inline_texts(&controls)));
    }
    if let Some(pin) = &offer.weights {
        let (digest, otherwise) = (quoted(&pin.digest), quoted(pin.otherwise.as_str()));
        line(out, &format!("weights = {{ digest = {digest}, otherwise = {otherwise} }}"));
    }
    if !offer.about.is_empty() {
        line(out, &format!("about = {}", inline_texts(&offer.about)));
    }
}

fn inline_texts(texts: &BTreeMap<String, String>) -> String {
    let pairs: Vec<String> = texts.iter().map(|(name, value)| format!("{} = {}", key(name), quoted(value))).collect();
    format!("{{ {} }}", pairs.join(", "))
}

fn rates_of(rates: &RateCard, offer: &OfferName) -> Vec<String> {
    let form = |rate: &Rate| {
        let mut parts = vec![format!("from = {}, input = {}", rate.effective_on, quoted(&rate.input.to_string()))];
        parts.extend(rate.input_cached.map(|value| format!("input_cached = {}", quoted(&value.to_string()))));
        parts.extend(rate.cache_written.map(|value| format!("cache_written = {}", quoted(&value.to_string()))));
        parts.push(format!("output = {}", quoted(&rate.output.to_string())));
        parts.extend(rate.image.map(|value| format!("image = {}", quoted(&value.to_string()))));
        let sizes: BTreeMap<String, String> =
            rate.image_sizes.iter().map(|(size, value)| (size.to_string(), value.to_string())).collect();
        if !sizes.is_empty() {
            parts.push(format!("image_sizes = {}", inline_texts(&sizes)));
        }
        format!("{{ {} }}", parts.join(", "))
    };
    rates.iter().filter(|(name, _)| *name == offer).map(|(_, rate)| form(rate)).collect()
}

fn stage_table(stage: &Stage) -> String {
    let offer = |entry: &StageOffer| match entry.share {
        Some(share) => format!("{{ offer = {}, share = {share} }}", quoted(&entry.offer.to_string())),
        None => quoted(&entry.offer.to_string()),
    };
    let offers: Vec<String> = stage.offers.iter().map(offer).collect();
    let pick = match stage.pick {
        Pick::Share => "share",
        Pick::Room => "room",
        Pick::Speed => "speed",
        Pick::Cost => "cost",
        Pick::Together => "together",
    };
    let mut parts = vec![format!("offers = [{}], pick = {}", offers.join(", "), quoted(pick))];
    if stage.moves_on != FailureKind::usual_moves() {
        let kinds: Vec<String> = stage.moves_on.iter().map(|kind| quoted(kind.as_str())).collect();
        parts.push(format!("moves_on = [{}]", kinds.join(", ")));
    }
    if stage.is_hedged {
        parts.push("hedge = true".to_owned());
    }
    for (name, millis) in stage.deadlines.named() {
        parts.extend(millis.map(|millis| format!("{name} = {}", quoted(&time(millis)))));
    }
    format!("{{ {} }}", parts.join(", "))
}

/// What is said of a route beside where it leads.
fn route_lines(out: &mut String, route: &Route) {
    for (name, text) in [("purpose", &route.purpose), ("owner", &route.owner)] {
        if let Some(text) = text {
            line(out, &format!("{name} = {}", quoted(text)));
        }
    }
    if let Some(day) = route.retires_on {
        line(out, &format!("retires = {day}"));
    }
    if let Some(successor) = &route.successor {
        line(out, &format!("successor = {}", quoted(successor.as_str())));
    }
    if !route.former.is_empty() {
        let entry = |former: &FormerName| match former.until {
            Some(day) => format!("{{ name = {}, until = {day} }}", quoted(former.name.as_str())),
            None => quoted(former.name.as_str()),
        };
        line(out, &format!("former = [{}]", route.former.iter().map(entry).collect::<Vec<_>>().join(", ")));
    }
}

fn former_line(out: &mut String, former: &[Name]) {
    if !former.is_empty() {
        let names: Vec<String> = former.iter().map(|name| quoted(name.as_str())).collect();
        line(out, &format!("former = [{}]", names.join(", ")));
    }
}

/// A time as files have it.
pub(crate) fn time(millis: u64) -> String {
    humantime::format_duration(std::time::Duration::from_millis(millis)).to_string()
}

fn team_table(out: &mut String, name: &Name, team: &Team) {
    line(out, &format!("\n[teams.{}]", key(name.as_str())));
    if let Some(contact) = &team.contact {
        line(out, &format!("contact = {}", quoted(contact)));
    }
    former_line(out, &team.former);
    if let Access::Only(routes) = &team.access {
        let routes: Vec<String> = routes.iter().map(|route| quoted(route.as_str())).collect();
        line(out, &format!("routes = [{}]", routes.join(", ")));
    }
    if let Some(route) = &team.default_route {
        line(out, &format!("default_route = {}", quoted(route.as_str())));
    }
    if let Some(weight) = team.weight {
        line(out, &format!("weight = {weight}"));
    }
    let at_once = [("team", team.streams.of_team), ("key", team.streams.of_key)];
    let at_once: Vec<_> = at_once.into_iter().filter_map(|(whose, limit)| Some((whose, limit?))).collect();
    if !team.quotas.is_empty() || !at_once.is_empty() {
        line(out, "quotas = [");
        for (whose, limit) in at_once {
            line(out, &format!("  {{ measure = \"streams\", per = \"{whose}\", limit = {limit} }},"));
        }
        for quota in &team.quotas {
            line(out, &format!("  {},", quota_table(quota)));
        }
        line(out, "]");
    }
}

fn webhook_table(out: &mut String, name: &Name, webhook: &Webhook) {
    line(out, &format!("\n[webhooks.{}]\naddress = {}", key(name.as_str()), quoted(webhook.address.as_str())));
    line(out, &format!("secret = {}", source_table(&webhook.secret)));
    if let Some(kinds) = &webhook.events {
        let kinds: Vec<String> = kinds.iter().map(|kind| quoted(kind.as_str())).collect();
        line(out, &format!("events = [{}]", kinds.join(", ")));
    }
}

/// `{ env = "NAME" }`
fn source_table(source: &CredentialSource) -> String {
    let (word, text) = match source {
        CredentialSource::Env(name) => ("env", name),
        CredentialSource::File(path) => ("file", path),
        CredentialSource::Kept(id) => ("kept", id),
    };
    format!("{{ {word} = {} }}", quoted(text))
}

fn quota_table(quota: &Quota) -> String {
    let warn = match quota.at_limit {
        AtLimit::Refuse => "",
        AtLimit::Warn => ", at_limit = \"warn\"",
    };
    let (measure, window) = (quota.measure.as_str(), quota.window.as_str());
    format!("{{ measure = \"{measure}\", per = \"{window}\", limit = {}{warn} }}", quota.limit)
}
