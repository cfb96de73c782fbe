//! Lines of the ledger as records of comma-separated values (RFC 4180), one a line, each with everything that was recorded but its plan and
//! attempts. Whatever lines are taken, their sums are those of figures over the same lines.

use std::borrow::Cow;

use wendor_wire::failure::FailureKind;
use wendor_wire::usage::Counted;

use super::entry::{Latency, LedgerEntry, Record};
use super::money::Money;
use super::rate::Cost;
use crate::catalog::former::Former;

/// What each record begins with, in this order.
pub const COLUMNS: [&str; 37] = [
    "at",
    "kind",
    "entry",
    "request",
    "team",
    "key",
    "route",
    "offer",
    "run",
    "step",
    "labels",
    "end",
    "failure",
    "attempts",
    "streamed",
    "cost",
    "cost_input",
    "cost_input_cached",
    "cost_cache_written",
    "cost_output",
    "cost_images",
    "input_tokens",
    "input_cached_tokens",
    "cache_written_tokens",
    "output_tokens",
    "reasoning_tokens",
    "preset_tokens",
    "tokens_estimated",
    "images",
    "image_size",
    "waited_ms",
    "first_token_ms",
    "whole_ms",
    "lane",
    "revision",
    "reason",
    "recorded_as",
];

/// The values of a line, in the order of [`COLUMNS`]: names as they are now, amounts with all digits, empty what does not apply. Costs of what
/// is unpriced are empty, and so not zero. `recorded_as` has `team route offer` as they were then, where one of them was renamed.
#[must_use]
pub fn values(entry: &LedgerEntry, former: &Former) -> [String; COLUMNS.len()] {
    let LedgerEntry { at, entry_id, request, run, step, labels, key, revision, tokens, images, .. } = entry;
    let [team_now, route_now, offer_now] = names(entry, former);
    let cost = |of: fn(Cost) -> Money| entry.cost.map(|cost| of(cost).to_string()).unwrap_or_default();
    let text = |text: &Option<String>| text.as_deref().map(|text| safe(text).into_owned()).unwrap_or_default();
    let happened = Happened::of(&entry.record);
    let labels = if labels.is_empty() { String::new() } else { serde_json::to_string(labels).unwrap_or_default() };
    let ms = |of: fn(Latency) -> Option<u64>| number(happened.latency.and_then(of));
    [
        at.format("%Y-%m-%dT%H:%M:%S%.6fZ").to_string(),
        entry.record.kind().as_str().to_owned(),
        entry_id.to_string(),
        request.to_string(),
        team_now,
        key.to_string(),
        route_now,
        offer_now,
        text(run),
        text(step),
        labels,
        happened.end,
        happened.failure,
        number(happened.attempts),
        happened.streamed.map(|streamed| streamed.to_string()).unwrap_or_default(),
        cost(Cost::total),
        cost(|cost| cost.input),
        cost(|cost| cost.input_cached),
        cost(|cost| cost.cache_written),
        cost(|cost| cost.output),
        cost(|cost| cost.images),
        tokens.input.to_string(),
        tokens.input_cached.to_string(),
        tokens.cache_written.to_string(),
        tokens.output.to_string(),
        tokens.reasoning.to_string(),
        tokens.preset.to_string(),
        (entry.counted == Counted::Estimated).to_string(),
        images.count.to_string(),
        images.size.as_ref().map(ToString::to_string).unwrap_or_default(),
        ms(|latency| Some(latency.waited_ms)),
        ms(|latency| latency.first_token_ms),
        ms(|latency| Some(latency.whole_ms)),
        happened.lane,
        revision.to_string(),
        text(&happened.reason),
        recorded_as(entry, former),
    ]
}

/// Team, route and offer as they are now.
fn names(entry: &LedgerEntry, former: &Former) -> [String; 3] {
    let offer = entry.offer.as_ref().map(ToString::to_string).unwrap_or_default();
    let (team, route) = (former.team(entry.team.as_str()), former.route(entry.route.as_str()));
    [team.to_owned(), route.to_owned(), former.offer(&offer).into_owned()]
}

/// What they were then; empty where it is the same.
fn recorded_as(entry: &LedgerEntry, former: &Former) -> String {
    let then = names(entry, &Former::default());
    if then == names(entry, former) { String::new() } else { then.join(" ").trim_end().to_owned() }
}

/// What only some kinds of lines have.
#[derive(Default)]
struct Happened {
    end: String,
    failure: String,
    attempts: Option<u64>,
    streamed: Option<bool>,
    latency: Option<Latency>,
    lane: String,
    reason: Option<String>,
}

impl Happened {
    fn of(record: &Record) -> Self {
        let failed =
            |failure: Option<FailureKind>| failure.map(|failure| failure.as_str().to_owned()).unwrap_or_default();
        match record {
            Record::Request(request) => Self {
                end: request.end.as_str().to_owned(),
                failure: failed(request.failure),
                attempts: Some(u64::from(request.attempts)),
                streamed: Some(request.streamed),
                latency: Some(request.latency),
                lane: request.lane.as_str().to_owned(),
                reason: None,
            },
            Record::Attempt(attempt) => {
                Self { failure: failed(attempt.failure), streamed: Some(attempt.streamed), ..Self::default() }
            }
            Record::Check(check) => Self {
                end: check.end.as_str().to_owned(),
                streamed: Some(check.streamed),
                latency: Some(check.latency),
                ..Self::default()
            },
            Record::Adjustment(adjustment) => Self { reason: Some(adjustment.reason.clone()), ..Self::default() },
        }
    }
}

fn number(number: Option<u64>) -> String {
    number.map(|number| number.to_string()).unwrap_or_default()
}

/// A text that others chose, as a spreadsheet may have it: one that it would take for a formula has an apostrophe before it.
///
/// ```
/// use wendor_core::metering::export::safe;
/// assert_eq!(safe("nightly-42"), "nightly-42");
/// assert_eq!(safe("=1+1"), "'=1+1");
/// ```
#[must_use]
pub fn safe(text: &str) -> Cow<'_, str> {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}").into() } else { text.into() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::file;
    use crate::metering::end::End;
    use crate::metering::entry::{AdjustmentRecord, AttemptRecord, CheckRecord, RequestRecord};
    use crate::name::{Name, OfferName};
    use crate::request_id::RequestId;
    use crate::routing::queue::Lane;
    use chrono::{DateTime, Utc};
    use rstest::rstest;
    use std::collections::BTreeMap;
    use wendor_wire::usage::TokenCounts;

    fn name(text: &str) -> Name {
        Name::parse(text).unwrap()
    }

    fn entry(record: Record) -> LedgerEntry {
        let at: DateTime<Utc> = "2026-11-25T08:10:40.5Z".parse().unwrap();
        let amount = |text: &str| Money::parse(text).unwrap();
        LedgerEntry {
            run: Some("=cmd()".to_owned()),
            counted: Counted::Estimated,
            labels: [("feature".to_owned(), "search".to_owned())].into(),
            offer: OfferName::parse("quarry/fulmar-large").ok(),
            tokens: TokenCounts { input: 7, output: 9, reasoning: 2, ..TokenCounts::default() },
            cost: Some(Cost { input: amount("0.0000007"), output: amount("0.5"), ..Cost::default() }),
            record,
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, 1), name("timetables"), name("night-sailings"))
        }
    }

    fn request() -> Record {
        Record::Request(RequestRecord {
            attempts: 2,
            streamed: true,
            end: End::CutOff,
            failure: None,
            latency: Latency { first_token_ms: Some(80), whole_ms: 900, ..Latency::default() },
            lane: Lane::Batch,
        })
    }

    fn of(entry: &LedgerEntry, former: &Former) -> BTreeMap<&'static str, String> {
        COLUMNS.into_iter().zip(values(entry, former)).filter(|(_, value)| !value.is_empty()).collect()
    }

    #[test]
    fn a_request_has_all_that_was_recorded() {
        let values = of(&entry(request()), &Former::default());
        let expected = [
            ("at", "2026-11-25T08:10:40.500000Z"),
            ("kind", "request"),
            ("team", "timetables"),
            ("offer", "quarry/fulmar-large"),
            ("run", "'=cmd()"),
            ("labels", r#"{"feature":"search"}"#),
            ("end", "cut-off"),
            ("attempts", "2"),
            ("streamed", "true"),
            ("cost", "0.5000007"),
            ("cost_input", "0.0000007"),
            ("cost_images", "0"),
            ("input_tokens", "7"),
            ("output_tokens", "9"),
            ("reasoning_tokens", "2"),
            ("tokens_estimated", "true"),
            ("images", "0"),
            ("waited_ms", "0"),
            ("first_token_ms", "80"),
            ("whole_ms", "900"),
            ("lane", "batch"),
        ];
        for (column, value) in expected {
            assert_eq!(values.get(column).map(String::as_str), Some(value), "{column}");
        }
        assert_eq!(values["entry"], values["request"]);
        assert!(["recorded_as", "reason", "failure", "step"].iter().all(|column| !values.contains_key(column)));
    }

    #[rstest]
    #[case::an_attempt(Record::Attempt(AttemptRecord { number: 1, streamed: true, failure: Some(FailureKind::ALL[0]), began_ms: 0, ended_ms: 4 }), &["failure"], &["end", "attempts", "whole_ms"])]
    #[case::a_check(Record::Check(CheckRecord { streamed: false, end: End::Proper, latency: Latency::default() }), &["end", "whole_ms"], &["attempts", "lane"])]
    #[case::a_correction(Record::Adjustment(AdjustmentRecord { reason: "a wrong rate".to_owned() }), &["reason"], &["end", "streamed", "whole_ms"])]
    fn other_lines_have_what_applies(#[case] record: Record, #[case] has: &[&str], #[case] has_not: &[&str]) {
        let values = of(&LedgerEntry { cost: None, ..entry(record) }, &Former::default());
        assert!(has.iter().all(|column| values.contains_key(column)), "{values:?}");
        assert!(has_not.iter().all(|column| !values.contains_key(column)), "{values:?}");
        assert!(!values.contains_key("cost") && !values.contains_key("cost_input"), "unpriced is not zero");
    }

    #[test]
    fn what_was_renamed_stands_under_its_present_name() {
        let catalogue = file::read("[teams.boards]\nformer = [\"timetables\"]\n").unwrap().catalogue;
        let former = Former::of(&catalogue);
        let values = of(&entry(request()), &former);
        assert_eq!((values["team"].as_str(), values["route"].as_str()), ("boards", "night-sailings"));
        assert_eq!(values["recorded_as"], "timetables night-sailings quarry/fulmar-large");
    }
}
