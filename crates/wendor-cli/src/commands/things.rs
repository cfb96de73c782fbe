//! Single things of the catalogue: what each command changes of routes, stages, teams, quotas, upstreams, offers and rates, as changes of
//! places. How a change is shown and made stands in [`super::change`].

use serde_json::{Value, json};
use wendor_core::catalog::edit::pointer;
use wendor_gateway::admin::catalogue::{CatalogueText, Uses};

use super::change::{Wanted, run};
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::changing::{
    ChangeArgs, OfferCommand, QuotaCommand, RateCommand, RateSetArgs, RouteEditArgs, StageCommand, TeamEditArgs,
    UpstreamEditArgs,
};
use crate::output::{self, Column, Reader};
use crate::words;

/// The catalogue in force.
pub(super) async fn current(management: &Management) -> Result<CatalogueText, Failure> {
    management.get("/revisions/current", &[]).await
}

/// Sets a member of a thing, or takes it away where the text is empty.
fn member(place: &[&str], value: Option<Value>, there: &Value) -> Option<Value> {
    let path = pointer(place);
    let is_there = there.pointer(&path).is_some();
    let value = value?;
    if value == "" || value.as_array().is_some_and(Vec::is_empty) {
        return is_there.then(|| json!({ "op": "remove", "path": path }));
    }
    Some(json!({ "op": "add", "path": path, "value": value }))
}

/// A number as the file has it; what is none goes as it is, and the service says what it should be.
pub(super) fn number(text: Option<String>) -> Option<Value> {
    text.map(|text| text.parse::<i64>().map_or(Value::String(text), Value::from))
}

pub(super) fn nothing_to_change() -> Failure {
    Failure::NotUnderstood("Nothing to change: name at least one value, see --help.".to_owned())
}

/// Changes members of one thing, each with its value.
async fn members(
    management: &Management,
    thing: [&str; 2],
    values: Vec<(&str, Option<Value>)>,
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    if values.iter().all(|(_, value)| value.is_none()) {
        return Err(nothing_to_change());
    }
    let document = current(management).await?.document;
    let [kind, name] = thing;
    must_be_there(&document, kind, name)?;
    let edits = values.into_iter().filter_map(|(field, value)| member(&[kind, name, field], value, &document));
    run(management, Wanted::edits(edits.collect()), how, reader).await
}

/// Goes on only if there is a thing that is called so now.
pub(super) fn must_be_there(document: &Value, kind: &str, name: &str) -> Result<(), Failure> {
    let things = document.get(kind).and_then(Value::as_object);
    if things.is_some_and(|things| things.contains_key(name)) {
        return Ok(());
    }
    let word = kind.trim_end_matches('s');
    let names = things.into_iter().flatten().map(|(name, _)| name.as_str());
    let nearest =
        wendor_wire::nearest::nearest(name, names).map_or_else(String::new, |near| format!("; nearest: `{near}`"));
    Err(Failure::NoSuch(format!("There is no {word} `{name}`{nearest}.")))
}

pub(super) fn texts(values: Vec<String>) -> Value {
    Value::from(values.into_iter().filter(|value| !value.is_empty()).collect::<Vec<_>>())
}

pub(super) async fn route(args: RouteEditArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let RouteEditArgs { name, purpose, owner, retires, successor, strict, origins, how } = args;
    let values = vec![
        ("purpose", purpose.map(Value::from)),
        ("owner", owner.map(Value::from)),
        ("retires", retires.map(Value::from)),
        ("successor", successor.map(Value::from)),
        ("strict", strict.map(Value::from)),
        ("origins", origins.map(texts)),
    ];
    members(management, ["routes", &name], values, &how, reader).await
}

pub(super) async fn team(args: TeamEditArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let TeamEditArgs { name, contact, routes, default_route, weight, how } = args;
    let routes = routes.map(|routes| match routes.as_slice() {
        // Without the member a team may use them all.
        [all] if all == "all" => Value::from(""),
        _ => texts(routes),
    });
    let values = vec![
        ("contact", contact.map(Value::from)),
        ("routes", routes),
        ("default_route", default_route.map(Value::from)),
        ("weight", number(weight)),
    ];
    members(management, ["teams", &name], values, &how, reader).await
}

pub(super) async fn upstream(args: UpstreamEditArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let UpstreamEditArgs { name, place, streams, queue, requests_a_minute, tokens_a_minute, how } = args;
    let values = vec![
        ("place", place.map(Value::from)),
        ("streams", number(streams)),
        ("queue", number(queue)),
        ("requests_a_minute", number(requests_a_minute)),
        ("tokens_a_minute", number(tokens_a_minute)),
    ];
    members(management, ["upstreams", &name], values, &how, reader).await
}

/// Gives a thing another name.
pub(super) async fn rename(
    management: &Management,
    kind: &str,
    name: &str,
    to: &str,
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    let (from, to) = (pointer(&[kind, name]), pointer(&[kind, to]));
    run(management, Wanted::edits(vec![json!({ "op": "move", "from": from, "path": to })]), how, reader).await
}

/// Removes what a pointer leads to, and tells first who uses it.
pub(super) async fn remove(
    management: &Management,
    path: &str,
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    if reader == Reader::Person {
        let uses = uses(management, path).await?;
        output::print(&told_uses(&uses))?;
    }
    run(management, Wanted::edits(vec![json!({ "op": "remove", "path": path })]), how, reader).await
}

pub(super) async fn uses(management: &Management, path: &str) -> Result<Uses, Failure> {
    management.get("/catalogue/uses", &[("of", Some(path.to_owned()))]).await
}

pub(super) fn told_uses(uses: &Uses) -> String {
    let list = |names: Vec<String>| if names.is_empty() { "none".to_owned() } else { names.join(", ") };
    let keys = uses.keys.iter().map(|key| format!("{} of {} ({})", key.label, key.team, key.id));
    let requests = uses.requests.iter().map(|team| format!("{} {}", team.team, words::grouped(team.requests)));
    format!(
        "Routes: {}.\nTeams: {}.\nWorking keys: {}.\nRequests of the last 30 days: {}.\n",
        list(uses.routes.clone()),
        list(uses.teams.clone()),
        list(keys.collect()),
        list(requests.collect())
    )
}

pub(super) async fn stage(command: StageCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    let document = current(management).await?.document;
    let place = |route: &str, number: usize| -> Result<String, Failure> {
        must_be_there(&document, "routes", route)?;
        let count = document["routes"][route]["stages"].as_array().map_or(0, Vec::len);
        if !(1..=count).contains(&number) {
            return Err(Failure::NoSuch(format!("Route {route} has no stage {number}; its stages are 1 to {count}.")));
        }
        Ok(pointer(&["routes", route, "stages", &(number - 1).to_string()]))
    };
    let (edits, how) = match command {
        StageCommand::Add { route, offers, pick, at, how } => {
            must_be_there(&document, "routes", &route)?;
            let at = at.map_or_else(|| "-".to_owned(), |at| at.saturating_sub(1).to_string());
            let stage = json!({ "offers": offers, "pick": pick });
            (vec![json!({ "op": "add", "path": pointer(&["routes", &route, "stages", &at]), "value": stage })], how)
        }
        StageCommand::Set { route, number, offers, pick, first_event, whole, how } => {
            let stage = place(&route, number)?;
            let values = [
                ("offers", offers.map(texts)),
                ("pick", pick.map(Value::from)),
                ("first_event", first_event.map(Value::from)),
                ("whole", whole.map(Value::from)),
            ];
            let set = values.into_iter().filter_map(|(field, value)| {
                Some(json!({ "op": "add", "path": format!("{stage}/{field}"), "value": value? }))
            });
            let edits: Vec<Value> = set.collect();
            if edits.is_empty() {
                return Err(nothing_to_change());
            }
            (edits, how)
        }
        StageCommand::Move { route, number, to, how } => {
            let (from, path) = (place(&route, number)?, place(&route, to)?);
            (vec![json!({ "op": "move", "from": from, "path": path })], how)
        }
        StageCommand::Remove { route, number, how } => {
            (vec![json!({ "op": "remove", "path": place(&route, number)? })], how)
        }
    };
    run(management, Wanted::edits(edits), &how, reader).await
}

pub(super) async fn quota(command: QuotaCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    let document = current(management).await?.document;
    let at = |team: &str, measure: &str, per: &str| -> Result<Option<usize>, Failure> {
        must_be_there(&document, "teams", team)?;
        let quotas = document["teams"][team]["quotas"].as_array();
        let is_it = |quota: &Value| quota["measure"] == measure && quota["per"] == per;
        Ok(quotas.and_then(|quotas| quotas.iter().position(is_it)))
    };
    let path = |team: &str, index: Option<usize>| {
        pointer(&["teams", team, "quotas", &index.map_or_else(|| "-".to_owned(), |index| index.to_string())])
    };
    match command {
        QuotaCommand::Set { team, measure, per, limit, at_limit, how } => {
            let index = at(&team, &measure, &per)?;
            let limit = number(Some(limit)).unwrap_or_default();
            let mut quota = json!({ "measure": measure, "per": per, "limit": limit });
            let before = index.map(|index| &document["teams"][&team]["quotas"][index]["at_limit"]);
            if let Some(what) = at_limit.map(Value::from).or_else(|| before.filter(|what| what.is_string()).cloned()) {
                quota["at_limit"] = what;
            }
            let op = if index.is_some() { "replace" } else { "add" };
            let edits = vec![json!({ "op": op, "path": path(&team, index), "value": quota })];
            run(management, Wanted::edits(edits), &how, reader).await
        }
        QuotaCommand::Remove { team, measure, per, how } => {
            let Some(index) = at(&team, &measure, &per)? else {
                let message = format!("Team {team} has no quota of {measure} a {per}; `wendor team list` shows them.");
                return Err(Failure::NoSuch(message));
            };
            let edits = vec![json!({ "op": "remove", "path": path(&team, Some(index)) })];
            run(management, Wanted::edits(edits), &how, reader).await
        }
    }
}

fn offer_place(offer: &str) -> Result<[&str; 2], Failure> {
    let parts = offer.split_once('/').map(|(upstream, model)| [upstream, model]);
    parts.ok_or_else(|| Failure::NotUnderstood(format!("`{offer}` is not an offer: write `upstream/model`.")))
}

pub(super) async fn offer(command: OfferCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        OfferCommand::Edit { offer, output_cap, context_window, abilities, how } => {
            let [upstream, model] = offer_place(&offer)?;
            let values = [
                ("output_cap", number(output_cap)),
                ("context_window", number(context_window)),
                ("abilities", abilities.map(texts)),
            ];
            if values.iter().all(|(_, value)| value.is_none()) {
                return Err(nothing_to_change());
            }
            let document = current(management).await?.document;
            let edits = values.into_iter().filter_map(|(field, value)| {
                member(&["upstreams", upstream, "offers", model, field], value, &document)
            });
            run(management, Wanted::edits(edits.collect()), &how, reader).await
        }
        OfferCommand::Remove { offer, how } => {
            let [upstream, model] = offer_place(&offer)?;
            remove(management, &pointer(&["upstreams", upstream, "offers", model]), &how, reader).await
        }
    }
}

pub(super) async fn rate(command: RateCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        RateCommand::Set(args) => set_rate(*args, management, reader).await,
        RateCommand::Adjust(args) => super::adjust::run(*args, management, reader).await,
        RateCommand::List { offer } => rates(offer, management, reader).await,
    }
}

async fn set_rate(args: RateSetArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let RateSetArgs { offer, input, output, input_cached, cache_written, image, from, how } = args;
    let [upstream, model] = offer_place(&offer)?;
    let mut rate = json!({ "from": from, "input": input, "output": output });
    for (field, amount) in [("input_cached", input_cached), ("cache_written", cache_written), ("image", image)] {
        if let Some(amount) = amount {
            rate[field] = amount.into();
        }
    }
    let path = pointer(&["upstreams", upstream, "offers", model, "rates", "-"]);
    run(management, Wanted::edits(vec![json!({ "op": "add", "path": path, "value": rate })]), &how, reader).await
}

async fn rates(only: Option<String>, management: &Management, reader: Reader) -> Result<(), Failure> {
    let document = current(management).await?.document;
    let mut rows = Vec::new();
    let mut lines = Vec::new();
    for (upstream, model, offer) in offers(&document) {
        let name = format!("{upstream}/{model}");
        if only.as_ref().is_some_and(|only| *only != name) {
            continue;
        }
        for rate in offer["rates"].as_array().into_iter().flatten() {
            let text = |field: &str| rate[field].as_str().map_or_else(|| "-".to_owned(), str::to_owned);
            let fields = ["from", "input", "input_cached", "cache_written", "output", "image"];
            rows.push(std::iter::once(name.clone()).chain(fields.map(text)).collect());
            lines.push(json!({ "offer": name, "rate": rate }));
        }
    }
    if reader == Reader::Program {
        return output::json(&lines);
    }
    let columns = [
        Column::Text("offer"),
        Column::Text("from"),
        Column::Number("in, a million"),
        Column::Number("cached"),
        Column::Number("cache written"),
        Column::Number("out, a million"),
        Column::Number("image"),
    ];
    output::table(&columns, rows, "No rates. Set one: wendor rate set OFFER --input AMOUNT --output AMOUNT --from DAY")
}

fn offers(document: &Value) -> Vec<(&str, &str, &Value)> {
    let upstreams = document["upstreams"].as_object().into_iter().flatten();
    upstreams
        .flat_map(|(name, upstream)| {
            let models = upstream["offers"].as_object().into_iter().flatten();
            models.map(move |(model, offer)| (name.as_str(), model.as_str(), offer))
        })
        .collect()
}
