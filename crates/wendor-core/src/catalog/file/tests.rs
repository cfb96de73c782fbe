use rstest::rstest;

use super::*;
use crate::catalog::difference::{self, ChangeKind};

const FERRY: &str = r#"
[upstreams.quayside-a]
address = "http://127.0.0.1:7501"
hosting = "own"
streams = 8
place = "on-site"

[upstreams.quayside-a.offers.dunlin-7b]
output_cap = 4096
weights = { digest = "sha256:0123456789abcdef", otherwise = "warn" }
about = { precision = "8 bit", parameters = "7 thousand million" }
rates = [{ from = 2026-01-01, input = 0.20, output = 0.40 }, { from = 2026-11-01, input = 0.25, output = 0.5 }]

[upstreams.quarry]
address = "https://quarry.example/v1/"
hosting = "hosted"
credential = { env = "WENDOR_UPSTREAM_QUARRY" }
auth = "header:x-quarry-key"
headers = { x-harbour = "farhythe" }
certificate = "sha256:00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"
plain_http = "allowed"
client_certificate = "quarry.pem"
request_ids = "none"
looks = "none"
offers."sea/fulmar-large".rates = [{ from = 2026-01-01, input = 3, input_cached = 0.3, cache_written = "3.75", output = 15, image = 0.04, image_sizes = { "1024x1024" = 0.08 } }]

[routes.night-sailings]
origins = ["https://berths.example", "http://127.0.0.1:5173"]
stages = [
  { offers = ["quayside-a/dunlin-7b"], pick = "room", first_event = "5s", reply = "1m" },
  { offers = [{ offer = "quarry/sea/fulmar-large", share = 3 }], pick = "share", moves_on = ["unreachable"], whole = "90s" },
]

[teams.timetables]
routes = ["night-sailings"]
quotas = [
  { measure = "requests", per = "minute", limit = 600 },
  { measure = "cost", per = "month", limit = 120.50, at_limit = "warn" },
]

[teams.data-lab]
"#;

#[test]
fn what_is_written_reads_back_the_same() {
    let file = read(FERRY).unwrap();
    let again = read(&write(&file.catalogue, &file.rates)).unwrap();
    assert_eq!(again.catalogue, file.catalogue);
    assert_eq!(again.rates, file.rates);
    assert_eq!(difference::between(&file.catalogue, &again.catalogue), []);
    let stored: Catalogue = serde_json::from_str(&serde_json::to_string(&file.catalogue).unwrap()).unwrap();
    assert_eq!(stored, file.catalogue);
}

#[rstest]
#[case::origin_with_a_path(
    "\"https://berths.example\"",
    "\"https://berths.example/a\"",
    "routes.night-sailings.origins[0]",
    "scheme, host and port alone"
)]
#[case::unknown_key(
    "hosting = \"own\"\nstreams",
    "hosting = \"own\"\nstream",
    "upstreams.quayside-a.stream",
    "did you mean `streams`?"
)]
#[case::missing("hosting = \"hosted\"", "", "upstreams.quarry", "`hosting` is missing")]
#[case::not_a_word(
    "pick = \"room\"",
    "pick = \"rome\"",
    "routes.night-sailings.stages[0].pick",
    "not one of `share`, `room`"
)]
#[case::no_such_offer(
    "[\"quayside-a/dunlin-7b\"]",
    "[\"quayside-a/dunlin-8b\"]",
    "routes.night-sailings.stages[0].offers[0]",
    "did you mean `quayside-a/dunlin-7b`?"
)]
#[case::no_such_route(
    "routes = [\"night-sailings\"]",
    "routes = [\"night-sailing\"]",
    "teams.timetables.routes[0]",
    "did you mean `night-sailings`?"
)]
#[case::credential_as_value(
    "{ env = \"WENDOR_UPSTREAM_QUARRY\" }",
    "{ value = \"s3cret\" }",
    "upstreams.quarry.credential",
    "never the value itself"
)]
#[case::not_a_count("streams = 8", "streams = 0", "upstreams.quayside-a.streams", "not `0`")]
#[case::not_a_time("\"5s\"", "\"5 parsecs\"", "routes.night-sailings.stages[0].first_event", "`5 parsecs`")]
#[case::part_of_a_request("limit = 600", "limit = 600.5", "teams.timetables.quotas[0].limit", "at most 0 decimals")]
#[case::two_quotas(
    "measure = \"cost\", per = \"month\", limit = 120.50",
    "measure = \"requests\", per = \"minute\", limit = 5",
    "teams.timetables.quotas[1]",
    "two quotas"
)]
#[case::negative_rate(
    "input = 0.25",
    "input = -0.25",
    "upstreams.quayside-a.offers.dunlin-7b.rates[1].input",
    "not `-0.25`"
)]
#[case::rate_beyond_reason(
    "input = 0.25",
    "input = 1000001",
    "upstreams.quayside-a.offers.dunlin-7b.rates[1].input",
    "a number from 0 to 1000000"
)]
#[case::bad_team_name("[teams.data-lab]", "[teams.Data-Lab]", "teams.Data-Lab", "is not a name")]
#[case::no_stage("stages = [\n", "stages = []\nrest = [\n", "routes.night-sailings.stages", "at least one stage")]
#[case::control_character(
    "place = \"on-site\"",
    "place = \"on\\u0000site\"",
    "upstreams.quayside-a.place",
    "holds a control character"
)]
#[case::preset_of_nothing("origins = [", "preset = {}\norigins = [", "routes.night-sailings.preset", "adds nothing")]
#[case::preset_with_an_unknown_variable(
    "origins = [",
    "preset = { instructions = \"At {{harbor}}.\", variables = { harbour = \"North Pier\" } }\norigins = [",
    "routes.night-sailings.preset.instructions",
    "unknown variable `{{harbor}}`; did you mean `{{harbour}}`?"
)]
#[case::preset_with_a_variable_that_nobody_gives(
    "origins = [",
    "preset = { examples = [{ user = \"{{q}}\", assistant = \"a\" }] }\norigins = [",
    "routes.night-sailings.preset.examples[0].user",
    "under `variables`, or list it under `required`"
)]
#[case::preset_with_a_value_for_what_is_required(
    "origins = [",
    "preset = { seed = 1, variables = { q = \"\" }, required = [\"q\"] }\norigins = [",
    "routes.night-sailings.preset.required",
    "has a usual value"
)]
#[case::preset_too_hot(
    "origins = [",
    "preset = { temperature = 2.1 }\norigins = [",
    "routes.night-sailings.preset.temperature",
    "a number from 0 to 2"
)]
#[case::preset_penalty(
    "origins = [",
    "preset = { presence_penalty = -2.5 }\norigins = [",
    "routes.night-sailings.preset.presence_penalty",
    "a number from -2 to 2"
)]
#[case::preset_that_fixes_nothing(
    "origins = [",
    "preset = { seed = 1, fixed = [\"stop\"] }\norigins = [",
    "routes.night-sailings.preset.fixed[0]",
    "the preset does not set it"
)]
#[case::preset_with_many_stops(
    "origins = [",
    "preset = { stop = [\"a\", \"b\", \"c\", \"d\", \"e\"] }\norigins = [",
    "routes.night-sailings.preset.stop",
    "has 5 texts; at most 4"
)]
#[case::preset_with_a_bad_name(
    "origins = [",
    "preset = { seed = 1, required = [\"Harbour\"] }\norigins = [",
    "routes.night-sailings.preset.required[0]",
    "is no name for a variable"
)]
#[case::preset_with_a_control_character(
    "origins = [",
    "preset = { instructions = \"a\\u001b[31m\" }\norigins = [",
    "routes.night-sailings.preset.instructions",
    "holds the control character"
)]
#[case::not_toml("[teams.data-lab]", "[teams.data-lab", "", "this is not TOML")]
fn a_problem_names_place_value_and_remedy(
    #[case] right: &str,
    #[case] wrong: &str,
    #[case] path: &str,
    #[case] message: &str,
) {
    assert!(read(FERRY).is_ok() && FERRY.contains(right));
    let problems = read(&FERRY.replacen(right, wrong, 1)).unwrap_err();
    let matching = problems.iter().find(|problem| problem.path == path && problem.message.contains(message));
    let matching = matching.unwrap_or_else(|| panic!("{problems:#?}"));
    assert!(matching.line > 1 && matching.column >= 1, "{matching}");
}

/// What an offer says nothing of it may be able to do.
#[rstest]
#[case::both(
    "\"chat\", \"tools\"",
    "\"embeddings\"",
    "",
    Some(
        "[1].offers[0]: `quarry/sea/fulmar-large` can do `embeddings`, and `quayside-a/dunlin-7b`, the first of the route, `chat`"
    )
)]
#[case::one_of_them("\"chat\"", "\"embeddings\", \"chat\"", "", None)]
#[case::vectors("\"embeddings\"", "\"embeddings\"", "", None)]
#[case::vectors_with_a_preset(
    "\"embeddings\"",
    "\"chat\", \"embeddings\"",
    "preset = { seed = 1 }\n",
    Some("[0].offers[0]: the route adds to conversations, and `quayside-a/dunlin-7b` has no ability `chat`")
)]
fn offers_serve_what_their_route_is_for(
    #[case] first: &str,
    #[case] second: &str,
    #[case] preset: &str,
    #[case] told: Option<&str>,
) {
    let text = FERRY.replace("output_cap = 4096", &format!("output_cap = 4096\nabilities = [{first}]")).replace(
        "[routes.night-sailings]",
        &format!("offers.\"sea/fulmar-large\".abilities = [{second}]\n\n[routes.night-sailings]\n{preset}"),
    );
    let problems = read(&text)
        .map(|_| String::new())
        .unwrap_or_else(|problems| problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "));
    match told {
        None => assert_eq!(problems, ""),
        Some(told) => assert!(problems.contains(&format!("routes.night-sailings.stages{told}")), "{problems}"),
    }
}

#[test]
fn every_problem_is_told_at_once_in_the_order_of_the_file() {
    let text =
        FERRY.replace("\"own\"", "\"owned\"").replace("pick = \"share\"", "pick = \"chance\"").replace("600", "-1");
    let problems = read(&text).unwrap_err();
    let paths: Vec<&str> = problems.iter().map(|problem| problem.path.as_str()).collect();
    // The offers of the upstream that could not be read are not told as missing: mending it mends them.
    let expected =
        ["upstreams.quayside-a.hosting", "routes.night-sailings.stages[1].pick", "teams.timetables.quotas[0].limit"];
    assert_eq!(paths, expected);
    assert_eq!((problems[0].line, problems[0].column), (4, 11));
}

#[test]
fn the_difference_names_things_and_fields() {
    let before = read(FERRY).unwrap();
    let text = FERRY
        .replace("streams = 8", "streams = 12")
        .replace("[teams.data-lab]", "[teams.harbour-ops]")
        .replace("{ from = 2026-11-01, input = 0.25", "{ from = 2026-12-01, input = 0.25");
    let after = read(&text).unwrap();
    let changes = difference::between(&before.catalogue, &after.catalogue);
    let kinds: Vec<_> = changes.iter().map(|change| (change.kind, change.thing.as_str())).collect();
    let expected = [
        (ChangeKind::Changed, "upstream quayside-a"),
        (ChangeKind::Removed, "team data-lab"),
        (ChangeKind::Added, "team harbour-ops"),
    ];
    assert_eq!(kinds, expected);
    let field = &changes[0].fields[0];
    assert_eq!(
        (field.field.as_str(), field.before.as_deref(), field.after.as_deref()),
        ("streams", Some("8"), Some("12"))
    );
    let dearer = read(&FERRY.replace("limit = 120.50", "limit = 130")).unwrap();
    let field = difference::between(&before.catalogue, &dearer.catalogue).remove(0).fields.remove(0);
    assert_eq!((field.field.as_str(), field.after.as_deref()), ("quotas.cost a month.limit", Some("130")));
    let (kinds, new) = difference::new_rates(&before.rates, &after.rates);
    assert_eq!((kinds[0].thing.as_str(), new.len()), ("rate of quayside-a/dunlin-7b from 2026-12-01", 1));
}

#[test]
fn a_rate_in_force_cannot_be_changed() {
    let before = read(FERRY).unwrap();
    let after = read(&FERRY.replace("input = 0.25", "input = 0.26")).unwrap();
    assert!(after.changed_rates(&after.rates).is_empty());
    let problems = after.changed_rates(&before.rates);
    assert_eq!(problems.len(), 1);
    assert!(problems[0].message.contains("2026-11-01") && problems[0].line == 12, "{}", problems[0]);
}

/// The reference in the docs is read as it stands there, and no field is left out of it.
#[test]
fn the_reference_holds_every_field_and_reads() {
    let page = include_str!("../../../../../docs/catalogue.md");
    let reference = page.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
    let file = read(reference).unwrap_or_else(|problems| panic!("{problems:#?}"));
    assert_eq!(file.catalogue.routes.len(), 2);
    let fields = "currency address dialect hosting place streams credential env file auth headers offers output_cap rates from input input_cached cache_written output stages pick moves_on connect first_event reply between_events whole offer share routes quotas measure per limit at_limit kept certificate plain_http weights digest otherwise about image image_sizes requests_a_minute tokens_a_minute loading room hedge tokens queue drained weight webhooks secret events client_certificate request_ids looks purpose owner retires successor former until contact default_route instructions variables required examples user assistant temperature top_p seed presence_penalty frequency_penalty output_limit fixed stop";
    for field in fields.split(' ') {
        assert!(
            reference.contains(&format!("{field} =")) || reference.contains(&format!("{field}.")),
            "{field} is not in the reference"
        );
    }
    let written = read(&write(&file.catalogue, &file.rates)).unwrap_or_else(|problems| panic!("{problems:#?}"));
    assert_eq!(written.catalogue, file.catalogue, "what is written is read back");
    for kind in wendor_wire::failure::FailureKind::usual_moves() {
        assert!(reference.contains(kind.as_str()), "{kind}");
    }
}
