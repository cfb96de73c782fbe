use super::*;
use crate::catalog::file;
use rstest::rstest;
use serde_json::json;

const FERRY: &str = r#"
[upstreams.quay]
address = "http://quay.example"
hosting = "own"
[upstreams.quay.offers."dunlin/7b"]
rates = [{ from = 2026-11-01, input = 0.25, output = 1.50 }]
[upstreams.quarry]
address = "http://quarry.example"
hosting = "hosted"
offers.fulmar-mini = {}
[routes.manifests]
stages = [{ offers = ["quay/dunlin/7b"] }, { offers = [{ offer = "quarry/fulmar-mini", share = 2 }], pick = "share" }]
[routes.night-sailings]
stages = [{ offers = ["quarry/fulmar-mini"] }]
[teams.timetables]
routes = ["manifests", "night-sailings"]
quotas = [{ measure = "cost", per = "month", limit = 120.5 }]
[teams.data-lab]
"#;

fn edits(edits: &Value) -> Vec<PatchOperation> {
    serde_json::from_value(edits.clone()).unwrap()
}

/// The changed file, checked and written as every file is.
fn after(changes: &Value) -> String {
    let text = applied(FERRY, &edits(changes)).unwrap_or_else(|bad| panic!("{bad:?}"));
    let read = file::read(&text).unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    file::write(&read.catalogue, &read.rates)
}

#[rstest]
#[case::a_limit(json!([{ "op": "replace", "path": "/teams/timetables/quotas/0/limit", "value": "150.75" }]), "limit = 150.75")]
#[case::a_first_quota(
    json!([{ "op": "add", "path": "/teams/data-lab/quotas/-", "value": { "measure": "requests", "per": "minute", "limit": 60 } }]),
    "measure = \"requests\", per = \"minute\", limit = 60"
)]
#[case::a_rate_of_next_month(
    json!([{ "op": "add", "path": "/upstreams/quay/offers/dunlin~17b/rates/-", "value": { "from": "2026-12-01", "input": "0.3", "output": 1.5 } }]),
    "{ from = 2026-12-01, input = \"0.3\", output = \"1.5\" }"
)]
#[case::an_offer(json!([{ "op": "add", "path": "/upstreams/quay/offers/knot", "value": {} }]), "[upstreams.quay.offers.knot]")]
#[case::the_order_of_stages(
    json!([{ "op": "move", "from": "/routes/manifests/stages/1", "path": "/routes/manifests/stages/0" }]),
    "share = 2 }], pick = \"share\" },\n  { offers = [\"quay/dunlin/7b\"]"
)]
#[case::a_team(json!([{ "op": "add", "path": "/teams/harbour-ops", "value": {} }]), "[teams.harbour-ops]")]
#[case::a_webhook(
    json!([{ "op": "add", "path": "/webhooks/on-call", "value": { "address": "https://bell.example", "secret": { "env": "WENDOR_WEBHOOK_BELL" } } }]),
    "[webhooks.on-call]"
)]
fn one_thing_is_changed(#[case] changes: Value, #[case] shows: &str) {
    let text = after(&changes);
    assert!(text.contains(shows), "{text}");
}

#[test]
fn what_refers_to_a_renamed_thing_follows() {
    let text = applied(
        FERRY,
        &edits(&json!([
            { "op": "move", "from": "/upstreams/quarry", "path": "/upstreams/pit" },
            { "op": "move", "from": "/routes/manifests", "path": "/routes/cargo" },
            { "op": "move", "from": "/teams/timetables", "path": "/teams/boards" },
        ])),
    )
    .unwrap();
    let document = document(&text).unwrap();
    assert_eq!(document["routes"]["night-sailings"]["stages"][0]["offers"][0], "pit/fulmar-mini");
    assert_eq!(document["routes"]["cargo"]["stages"][1]["offers"][0]["offer"], "pit/fulmar-mini");
    assert_eq!(document["teams"]["boards"]["routes"], json!(["cargo", "night-sailings"]));
    for (kind, name, former) in
        [("upstreams", "pit", "quarry"), ("routes", "cargo", "manifests"), ("teams", "boards", "timetables")]
    {
        assert_eq!(document[kind][name]["former"], json!([former]));
    }
    // Back again: what it is called now is no former name.
    let back = applied(&text, &edits(&json!([{ "op": "move", "from": "/teams/boards", "path": "/teams/timetables" }])));
    assert_eq!(super::document(&back.unwrap()).unwrap()["teams"]["timetables"]["former"], json!(["boards"]));
}

#[rstest]
#[case::an_upstream("/upstreams/quay", json!([[{ "offer": "quarry/fulmar-mini", "share": 2 }]]))]
#[case::an_offer("/upstreams/quarry/offers/fulmar-mini", json!([["quay/dunlin/7b"]]))]
fn what_is_removed_leaves_the_stages(#[case] path: &str, #[case] left: Value) {
    let text = applied(FERRY, &edits(&json!([{ "op": "remove", "path": path }]))).unwrap();
    let document = document(&text).unwrap();
    let stages = document["routes"]["manifests"]["stages"].as_array().unwrap();
    let offers: Vec<Value> = stages.iter().map(|stage| stage["offers"].clone()).collect();
    assert_eq!(Value::from(offers), left);
}

#[test]
fn a_route_that_would_lead_nowhere_is_a_problem_at_its_place() {
    let gone = json!([{ "op": "remove", "path": "/upstreams/quarry/offers/fulmar-mini" }]);
    let problems = file::read(&applied(FERRY, &edits(&gone)).unwrap()).unwrap_err();
    let paths: Vec<&str> = problems.iter().map(|problem| problem.path.as_str()).collect();
    assert_eq!(paths, ["routes.night-sailings.stages[0].offers[0]"]);
}

#[test]
fn a_removed_route_leaves_the_access_lists() {
    let gone = applied(FERRY, &edits(&json!([{ "op": "remove", "path": "/routes/manifests" }]))).unwrap();
    assert_eq!(document(&gone).unwrap()["teams"]["timetables"]["routes"], json!(["night-sailings"]));
}

#[rstest]
#[case::a_name_that_is_taken(json!({ "op": "add", "path": "/teams/data-lab", "value": {} }), "there is a team `data-lab` already")]
#[case::an_offer_that_is_there(
    json!({ "op": "add", "path": "/upstreams/quarry/offers/fulmar-mini", "value": {} }),
    "there is an offer `quarry/fulmar-mini` already"
)]
#[case::renamed_to_a_taken_one(
    json!({ "op": "move", "from": "/teams/data-lab", "path": "/teams/timetables" }),
    "there is a team `timetables` already"
)]
#[case::renamed_from_nothing(json!({ "op": "move", "from": "/routes/decks", "path": "/routes/deck-plans" }), "there is no route `decks`")]
#[case::nothing_there(json!({ "op": "replace", "path": "/teams/timetables/quotas/3/limit", "value": 1 }), "there is nothing at this place")]
#[case::a_rate_that_goes(json!({ "op": "remove", "path": "/upstreams/quay/offers/dunlin~17b/rates/0" }), "a rate stays")]
#[case::no_value_of_a_file(json!({ "op": "add", "path": "/teams/data-lab/weight", "value": null }), "cannot stand in a file")]
#[case::changed_meanwhile(json!({ "op": "test", "path": "/teams/timetables/quotas/0/limit", "value": "1" }), "not what the change expects")]
fn what_cannot_be_changed_is_told_at_its_place(#[case] change: Value, #[case] says: &str) {
    let bad = applied(FERRY, &edits(&json!([change.clone()]))).unwrap_err();
    assert!(bad.message.contains(says), "{bad:?}");
    assert!(bad.pointer.is_empty() || change["path"] == bad.pointer);
}

#[rstest]
#[case::elsewhere("streams = 1", json!([{ "op": "add", "path": "/teams/data-lab/weight", "value": 2 }]), &[])]
#[case::the_same_list(
    "",
    json!([{ "op": "replace", "path": "/teams/timetables/quotas/0/limit", "value": 1 }]),
    &["/teams/timetables/quotas"]
)]
#[case::a_thing_that_they_changed("", json!([{ "op": "remove", "path": "/teams/timetables" }]), &["/teams/timetables/quotas"])]
#[case::another_list_of_the_same_thing("", json!([{ "op": "add", "path": "/teams/timetables/weight", "value": 2 }]), &[])]
fn what_somebody_else_changed_is_told_where_it_touches(
    #[case] further: &str,
    #[case] mine: Value,
    #[case] touched: &[&str],
) {
    let theirs = FERRY
        .replace("limit = 120.5", "limit = 200")
        .replace("hosting = \"hosted\"", &format!("hosting = \"hosted\"\n{further}"));
    let clashes = clashes(FERRY, &theirs, &edits(&mine)).unwrap();
    let places: Vec<&str> = clashes.iter().map(|clash| clash.pointer.as_str()).collect();
    assert_eq!(places, touched);
}

#[test]
fn a_file_as_json_keeps_every_digit_and_comes_back() {
    let text = FERRY.replace("120.5", "123456789012.345678");
    let json = document(&text).unwrap();
    assert_eq!(json["teams"]["timetables"]["quotas"][0]["limit"], "123456789012.345678");
    assert_eq!(json["upstreams"]["quay"]["offers"]["dunlin/7b"]["rates"][0]["from"], "2026-11-01");
    let (straight, round) = (file::read(&text).unwrap(), file::read(&applied(&text, &[]).unwrap()).unwrap());
    assert_eq!((straight.catalogue, straight.rates), (round.catalogue, round.rates));
    assert!(between(&text, FERRY).unwrap().len() == 1);
}

#[rstest]
#[case::plain("teams.timetables.quotas[0].limit", Ok("/teams/timetables/quotas/0/limit"))]
#[case::quoted("upstreams.\"quay.a\".offers.\"dunlin/7b\".rates[-]", Ok("/upstreams/quay.a/offers/dunlin~17b/rates/-"))]
#[case::a_pointer("/teams/data-lab", Ok("/teams/data-lab"))]
#[case::empty("", Err(()))]
#[case::no_name("teams..x", Err(()))]
#[case::open("teams.\"x", Err(()))]
#[case::no_index("quotas[first]", Err(()))]
#[case::behind_a_quote("\"a\"b", Err(()))]
fn a_place_has_a_pointer(#[case] place: &str, #[case] expected: Result<&str, ()>) {
    assert_eq!(pointer_of(place).map_err(drop).as_deref(), expected.as_deref().map_err(|()| &()));
}

#[rstest]
#[case::number("12", json!(12))]
#[case::list("[\"a\"]", json!(["a"]))]
#[case::amount("0.30", json!("0.30"))]
#[case::day("2026-12-01", json!("2026-12-01"))]
#[case::words("night sailings", json!("night sailings"))]
#[case::two_lines("1\nother = 2", json!("1\nother = 2"))]
fn a_value_is_as_in_a_file(#[case] text: &str, #[case] value: Value) {
    assert_eq!(value_of(text), value);
}

mod export {
    use super::*;
    use proptest::prelude::*;
    use rust_decimal::Decimal;

    fn name() -> impl Strategy<Value = String> {
        "[a-z][a-z0-9._-]{0,11}"
    }

    fn words() -> impl Strategy<Value = Value> {
        "[a-zA-Z\"'#=\\\\ é]{1,30}[a-z]".prop_map(Value::from)
    }

    /// Lines with everything that a text may hold.
    fn lines() -> impl Strategy<Value = Value> {
        "[a-zA-Z\"'#=\\\\{} é\n\t]{0,60}[a-z]".prop_map(|text| Value::from(text.replace("{{", "{").trim().to_owned()))
    }

    /// Everything that a preset may hold.
    fn preset() -> impl Strategy<Value = Value> {
        let texts = (lines(), lines(), lines(), lines());
        let numbers = (0..=20_000_u32, 0..=10_000_u32, -20_000..=20_000_i32, 1..9_000_u32);
        (texts, numbers, any::<bool>()).prop_map(|((text, value, user, stop), (heat, top, penalty, limit), is_fixed)| {
            let ten_thousandths = |number: i64| json!(Decimal::new(number, 4).normalize().to_string());
            // Two opening braces of its own would be a variable that nobody gives.
            let text = text.as_str().unwrap_or_default().replace('{', "(");
            json!({
                "instructions": format!("{text} {{{{ferry}}}} {{{{harbour}}}}").trim(),
                "variables": { "ferry": value }, "required": ["harbour"],
                "examples": [{ "user": user.as_str().unwrap_or_default().replace('{', "("), "assistant": "{{ferry}}" }],
                "temperature": ten_thousandths(heat.into()), "top_p": ten_thousandths(top.into()), "seed": limit,
                "presence_penalty": ten_thousandths(penalty.into()), "output_limit": limit, "stop": [stop, "\n\n"],
                "fixed": if is_fixed { json!(["instructions", "stop"]) } else { json!([]) },
            })
        })
    }

    fn day() -> impl Strategy<Value = Value> {
        (2026..2031, 1..13, 1..29).prop_map(|(year, month, day)| json!(format!("{year}-{month:02}-{day:02}")))
    }

    fn amount() -> impl Strategy<Value = Value> {
        (0..1_000_000_u64, 0..1_000_000_u64).prop_map(|(whole, part)| json!(format!("{whole}.{part:06}")))
    }

    /// A catalogue as JSON: two upstreams, routes and teams with everything that may be said of them, names that they had included.
    fn catalogue() -> impl Strategy<Value = Value> {
        let names = proptest::collection::btree_set(name(), 9);
        let texts = (words(), words(), words(), any::<bool>());
        let days = (day(), day(), day());
        let amounts = (amount(), amount(), amount(), 1..9_u32);
        (names, texts, days, amounts, preset()).prop_filter_map("nine names", |(names, texts, days, amounts, preset)| {
            let names: Vec<String> = names.into_iter().collect();
            let [quay, quarry, pit, route, other, was, team, board, desk] = <[String; 9]>::try_from(names).ok()?;
            let ((purpose, owner, contact, strict), (retires, until, from), (input, output, limit, share)) =
                (texts, days, amounts);
            Some(json!({
                "currency": "EUR",
                "upstreams": {
                    quay.clone(): { "address": "http://quay.example", "hosting": "own", "former": [pit],
                        "offers": { "dunlin/7b:small": { "rates": [{ "from": from, "input": input, "output": output }] } } },
                    quarry.clone(): { "address": "http://quarry.example", "hosting": "hosted", "offers": { "m.\"x": {} } },
                },
                "routes": {
                    route.clone(): { "purpose": purpose, "owner": owner, "retires": retires, "successor": other,
                        "strict": strict, "former": [{ "name": was, "until": until }],
                        "stages": [{ "pick": "share", "whole": "30s",
                            "offers": [{ "offer": format!("{quay}/dunlin/7b:small"), "share": share }] }] },
                    other.clone(): { "preset": preset, "stages": [{ "offers": [format!("{quarry}/m.\"x")], "hedge": strict }] },
                },
                "teams": {
                    team: { "contact": contact, "default_route": route, "routes": [route, other], "former": [board],
                        "quotas": [{ "measure": "cost", "per": "month", "limit": limit }] },
                    desk: { "weight": share },
                },
            }))
        })
    }

    proptest! {
        #[test]
        fn what_is_exported_and_applied_is_exported_the_same(catalogue in catalogue()) {
            let read = file::read(&toml::to_string(&catalogue).unwrap());
            let read = read.unwrap_or_else(|problems| panic!("{problems:#?}"));
            let exported = file::write(&read.catalogue, &read.rates);
            let again = file::read(&exported).unwrap_or_else(|problems| panic!("{problems:#?}\n{exported}"));
            prop_assert_eq!(&again.catalogue, &read.catalogue);
            prop_assert_eq!(file::write(&again.catalogue, &again.rates), exported.clone());
            // So does the same through its JSON form, and no change changes nothing.
            let round = file::read(&applied(&exported, &[]).unwrap()).unwrap();
            prop_assert_eq!(file::write(&round.catalogue, &round.rates), exported.clone());
            prop_assert!(between(&exported, &exported).unwrap().is_empty());
        }
    }
}
