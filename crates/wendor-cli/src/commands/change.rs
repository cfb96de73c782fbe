//! Every command that changes the catalogue: the change is shown as the service sees it, confirmed where somebody would notice, and applied.

use std::io::{BufRead, IsTerminal};

use serde_json::{Value, json};
use wendor_core::words::{exact_places, money, seconds};
use wendor_gateway::admin::catalogue::CatalogueDifference;
use wendor_gateway::admin::effect::EffectSeen;
use wendor_gateway::admin::revise::{CatalogueApplied, ChangeLine};

use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::changing::ChangeArgs;
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
        show(difference)?;
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
fn told(difference: &CatalogueDifference) -> String {
    if difference.changes.is_empty() {
        return format!("No changes: it equals revision {}.\n", difference.base);
    }
    let mut text = format!("Against revision {}:\n", difference.base);
    difference.changes.iter().for_each(|change| text.push_str(&told_change(change)));
    difference.consequences.iter().for_each(|sentence| text.push_str(&format!("△ {sentence}\n")));
    text
}

/// Shows a difference, what it means, and its effect where that was asked for.
pub(super) fn show(difference: &CatalogueDifference) -> Result<(), Failure> {
    output::print(&told(difference))?;
    match difference.effect.as_ref().filter(|_| !difference.changes.is_empty()) {
        Some(effect) => show_effect(effect),
        None => Ok(()),
    }
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
    let requests = words::many(effect.requests, "request");
    if effect.lines.is_empty() {
        return format!(
            "On the last 7 days: none of {requests} would have gone elsewhere{sample}, and the cost would be the same."
        );
    }
    format!(
        "On the last 7 days: {} of {requests} would have gone elsewhere{sample}; together they cost {} and would have cost {}, at the \
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
