//! Every command that changes the catalogue: the change is shown as the service sees it, confirmed where somebody would notice, and applied.

use std::io::{BufRead, IsTerminal};

use serde_json::{Value, json};
use wendor_core::catalog::edit::pointer;
use wendor_core::words::{exact_places, money, seconds};
use wendor_gateway::admin::catalogue::{CatalogueDifference, CatalogueText, Uses};
use wendor_gateway::admin::effect::EffectSeen;
use wendor_gateway::admin::revise::{CatalogueApplied, ChangeLine};

use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::changing::{
    ChangeArgs, OfferCommand, QuotaCommand, RateCommand, RateSetArgs, RouteEditArgs, StageCommand, TeamEditArgs,
    UpstreamEditArgs,
};
use crate::output::{self, Column, Reader};
use crate::words;

/// A catalogue that is wanted: the members of the call that looks at it and of the one that applies it.
pub(super) struct Wanted(Value);

impl Wanted {
    /// Changes of single places.
    pub(super) fn edits(edits: Vec<Value>) -> Self {
        Self(json!({ "edits": edits }))
    }

    /// A whole file.
    pub(super) fn text(text: &str) -> Self {
        Self(json!({ "text": text }))
    }

    /// A whole file that was made from a revision: what others changed since stays.
    pub(super) fn text_from(text: &str, revision: i64) -> Self {
        Self(json!({ "text": text, "made_from": revision }))
    }

    /// A revision of before.
    pub(super) fn revision(number: i64) -> Self {
        Self(json!({ "revision": number }))
    }
}

/// Looks at a change without making it.
pub(super) async fn look(management: &Management, wanted: &Wanted) -> Result<CatalogueDifference, Failure> {
    let mut body = wanted.0.clone();
    body["effect"] = true.into();
    management.post("/catalogue/difference", &body).await
}

/// Shows a change and makes it.
pub(super) async fn run(
    management: &Management,
    wanted: Wanted,
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    let difference = look(management, &wanted).await?;
    make(management, wanted, &difference, how, reader).await
}

/// Makes a change that was looked at.
pub(super) async fn make(
    management: &Management,
    wanted: Wanted,
    difference: &CatalogueDifference,
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    if reader == Reader::Person {
        output::print(&told(difference))?;
        if let Some(effect) = difference.effect.as_ref().filter(|_| !difference.changes.is_empty()) {
            show_effect(effect)?;
        }
    } else if how.dry_run {
        return output::json(difference);
    }
    if how.dry_run {
        return output::line("Nothing was changed: --dry-run.");
    }
    let takes_away = difference.changes.iter().any(|change| change.kind == "removed");
    let is_noticed = takes_away || !difference.consequences.is_empty() || wanted.0.get("edits").is_none();
    if is_noticed && !difference.changes.is_empty() && !how.yes {
        confirm("Apply this?")?;
    }
    let mut body = wanted.0;
    body["base"] = difference.base.into();
    body["note"] = how.note.as_str().into();
    if is_guarded(how) {
        body["guard"] = json!({
            "seconds": how.undo_within.as_secs(),
            "failed_percent": how.undo_if_failed,
            "cost": how.undo_if_cost,
        });
    }
    let applied: CatalogueApplied = management.post("/catalogue", &body).await?;
    match reader {
        Reader::Program => output::json(&applied),
        Reader::Person if applied.changes.is_empty() => Ok(()),
        Reader::Person if is_guarded(how) => output::line(&format!(
            "Revision {} is in force, and undoes itself within {} if a bound is passed.",
            applied.revision, how.undo_within
        )),
        Reader::Person => output::line(&format!("Revision {} is in force.", applied.revision)),
    }
}

fn is_guarded(how: &ChangeArgs) -> bool {
    how.undo_if_failed.is_some() || how.undo_if_cost.is_some()
}

pub(super) fn confirm(question: &str) -> Result<(), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::NotUnderstood("Not a terminal: pass --yes to confirm.".to_owned()));
    }
    output::note(&format!("{question} Type y or yes:"));
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).map_err(|error| Failure::Own(error.to_string()))?;
    match answer.trim().to_ascii_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(Failure::NotUnderstood("Cancelled: nothing was changed.".to_owned())),
    }
}

/// The difference in lines: `+` comes, `-` goes, `~` changes; and what it means.
pub(super) fn told(difference: &CatalogueDifference) -> String {
    if difference.changes.is_empty() {
        return format!("No changes: it equals revision {}.\n", difference.base);
    }
    let mut text = format!("Against revision {}:\n", difference.base);
    difference.changes.iter().for_each(|change| text.push_str(&told_change(change)));
    difference.consequences.iter().for_each(|sentence| text.push_str(&format!("△ {sentence}\n")));
    text
}

/// What the change would have done to the requests of the last week.
fn show_effect(effect: &EffectSeen) -> Result<(), Failure> {
    output::sentence(&effect_words(effect))?;
    if effect.lines.is_empty() {
        return Ok(());
    }
    let columns = [
        Column::Text("route"),
        Column::Text("goes to"),
        Column::Number("requests before"),
        Column::Number("after"),
        Column::Number("cost before"),
        Column::Number("after"),
        Column::Number("first token before"),
        Column::Number("after"),
    ];
    let places =
        exact_places(effect.lines.iter().flat_map(|line| [line.cost_before.as_str(), line.cost_after.as_str()])).min(4);
    let wait = |millis: Option<u64>| millis.map_or_else(|| "-".to_owned(), seconds);
    let rows = effect.lines.iter().map(|line| {
        let refused = line.refused.as_ref().map(|why| format!("refused: {why}"));
        vec![
            line.route.clone(),
            line.offer.clone().or(refused).unwrap_or_default(),
            words::grouped(line.before),
            words::grouped(line.after),
            money(&line.cost_before, places),
            money(&line.cost_after, places),
            wait(line.first_token_before_ms),
            wait(line.first_token_after_ms),
        ]
    });
    output::table(&columns, rows.collect(), "")?;
    output::sentence(&effect.assumes)
}

fn effect_words(effect: &EffectSeen) -> String {
    if effect.requests == 0 {
        return "There were no requests in the last 7 days that it could be tried on.".to_owned();
    }
    let sample = if effect.planned == effect.requests {
        String::new()
    } else {
        format!(" (from a sample of {}, ±{})", words::grouped(effect.planned), words::grouped(effect.moved_error))
    };
    let requests = words::grouped(effect.requests);
    if effect.lines.is_empty() {
        return format!(
            "On the last 7 days: none of {requests} requests would have gone elsewhere{sample}, and the cost would be the same."
        );
    }
    format!(
        "On the last 7 days: {} of {requests} requests would have gone elsewhere{sample}; they cost {} and would have cost {}, at the \
         rates of {}.",
        words::grouped(effect.moved),
        money(&effect.cost_before, 2),
        money(&effect.cost_after, 2),
        effect.priced_on
    )
}

pub(super) fn told_change(change: &ChangeLine) -> String {
    let sign = match change.kind.as_str() {
        "added" => '+',
        "removed" => '-',
        _ => '~',
    };
    let mut text = format!("{sign} {}\n", change.thing);
    for field in &change.fields {
        let values = match (&field.before, &field.after) {
            (Some(before), Some(after)) => format!("{before} -> {after}"),
            (None, Some(after)) if sign == '+' => after.clone(),
            (None, Some(after)) => format!("(absent) -> {after}"),
            (Some(before), None) if sign == '-' => before.clone(),
            (Some(before), None) => format!("{before} -> (absent)"),
            (None, None) => continue,
        };
        let name = if field.field.is_empty() { String::new() } else { format!("{}: ", field.field) };
        text.push_str(&format!("    {name}{values}\n"));
    }
    text
}

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
fn number(text: Option<String>) -> Option<Value> {
    text.map(|text| text.parse::<i64>().map_or(Value::String(text), Value::from))
}

fn nothing_to_change() -> Failure {
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

/// Goes on only if there is a thing of that name, by that one or a former one.
fn must_be_there(document: &Value, kind: &str, name: &str) -> Result<(), Failure> {
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

fn texts(values: Vec<String>) -> Value {
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
    names: (&str, &str),
    how: &ChangeArgs,
    reader: Reader,
) -> Result<(), Failure> {
    let (from, to) = (pointer(&[kind, names.0]), pointer(&[kind, names.1]));
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

#[cfg(test)]
mod tests {
    use super::*;

    fn change(kind: &str, fields: &Value) -> ChangeLine {
        serde_json::from_value(json!({ "kind": kind, "thing": "upstream quarry", "fields": fields })).unwrap()
    }

    #[test]
    fn a_difference_reads_like_one() {
        let changes = vec![
            change("added", &json!([{ "field": "streams", "before": null, "after": "8" }])),
            change("removed", &json!([{ "field": "streams", "before": "8", "after": null }])),
            change(
                "changed",
                &json!([
                    { "field": "streams", "before": "8", "after": "12" },
                    { "field": "place", "before": null, "after": "inland" },
                    { "field": "auth", "before": "bearer", "after": null }
                ]),
            ),
        ];
        let mut difference: CatalogueDifference = serde_json::from_value(json!({ "base": 4, "changes": [] })).unwrap();
        difference.changes = changes;
        difference.consequences = vec!["1 key stops working: `board` of timetables.".to_owned()];
        let expected = "Against revision 4:\n+ upstream quarry\n    streams: 8\n- upstream quarry\n    streams: 8\n~ upstream quarry\n    streams: 8 -> 12\n    place: (absent) -> inland\n    auth: bearer -> (absent)\n△ 1 key stops working: `board` of timetables.\n";
        assert_eq!(told(&difference), expected);
    }
}
