//! Changing single things of the catalogue, by client and by API: what is shown first, what comes of it, and that nobody's change is lost.

mod effect;

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_e2e::waiting::until;

/// Everything there is.
const RANGE: &str = "from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z";

/// The file in force.
async fn file(ferry: &Ferry) -> String {
    ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned()
}

#[rstest]
#[case::a_quota(
    &["team", "quota", "set", "timetables", "--measure", "cost", "--per", "month", "--limit", "250.5"],
    "    quotas.cost a month.limit: (absent) -> 250.5",
    "{ measure = \"cost\", per = \"month\", limit = 250.5 }"
)]
#[case::a_stage(
    &["route", "stage", "add", "night-sailings", "--offers", "quarry/fulmar-large", "--pick", "cost", "--at", "1"],
    "~ route night-sailings",
    "{ offers = [\"quarry/fulmar-large\"], pick = \"cost\" }"
)]
#[case::what_a_route_is_for(
    &["route", "edit", "night-sailings", "--purpose", "When boats go", "--owner", "duty desk"],
    "    owner: (absent) -> duty desk",
    "purpose = \"When boats go\"\nowner = \"duty desk\""
)]
#[case::whom_to_ask(
    &["team", "edit", "timetables", "--contact", "board room", "--default-route", "night-sailings"],
    "    contact: (absent) -> board room",
    "default_route = \"night-sailings\""
)]
#[case::a_rate_to_come(
    &["rate", "set", "quayside/dunlin-70b", "--input", "0.31", "--output", "3.5", "--from", "2999-01-01"],
    "+ rate of quayside/dunlin-70b from 2999-01-01",
    "{ from = 2999-01-01, input = \"0.31\", output = \"3.5\" }"
)]
#[case::how_much_it_carries(&["upstream", "edit", "quayside", "--queue", "7"], "    queue: (absent) -> 7", "queue = 7")]
#[case::an_offer(&["offer", "edit", "quayside/dunlin-70b", "--context-window", "32768"], "context_window", "context_window = 32768")]
#[case::any_value(
    &["catalogue", "set", "upstreams.quayside.place", "on-site"],
    "    place: (absent) -> on-site",
    "place = \"on-site\""
)]
#[tokio::test]
async fn one_thing_is_changed_by_one_command(#[case] args: &[&str], #[case] shown: &str, #[case] written: &str) {
    let ferry = Ferry::begin().await;
    let before = file(&ferry).await;
    let dry = ferry.wendor(&[args, &["--dry-run"]].concat()).await;
    assert_eq!(dry.status, 0, "{}", dry.err);
    assert!(dry.out.contains(shown) && dry.out.ends_with("Nothing was changed: --dry-run.\n"), "{}", dry.out);
    assert_eq!(file(&ferry).await, before);
    let ran = ferry.wendor(args).await;
    assert!(ran.status == 0 && ran.out.contains(shown) && ran.out.contains(" is in force."), "{}{}", ran.out, ran.err);
    let after = file(&ferry).await;
    assert!(after.contains(written) && !before.contains(written), "{after}");
    // Back to what it was: everything but a rate, which stays.
    let revision = ferry.get("/catalogue").await["revision"].as_i64().unwrap();
    let restored = ferry.wendor(&["catalogue", "restore", &(revision - 1).to_string(), "--yes"]).await;
    assert_eq!(restored.status, 0, "{}", restored.err);
    let is_rate = args[0] == "rate";
    assert_eq!(file(&ferry).await == before, !is_rate, "{}", restored.out);
    let audit = ferry.get("/audit?limit=50").await.to_string();
    assert!(audit.contains("restored") || is_rate, "{audit}");
}

#[rstest]
#[case::a_taken_name(&["team", "rename", "timetables", "timetables"], 2, "there is a team `timetables` already")]
#[case::no_such_thing(&["route", "edit", "night-sailing", "--owner", "x"], 4, "nearest: `night-sailings`")]
#[case::nothing_to_change(&["route", "edit", "night-sailings"], 2, "name at least one value")]
#[case::an_absurd_limit(
    &["team", "quota", "set", "timetables", "--measure", "cost", "--per", "day", "--limit", "-5"],
    2,
    "teams.timetables.quotas[0].limit: must be a number from 0 to 1000000000000"
)]
#[case::no_offer(&["route", "stage", "add", "night-sailings", "--offers", "quarry/fulmar"], 2, "stages[2].offers[0]: unknown offer `quarry/fulmar`")]
#[case::the_last_stage(&["route", "stage", "remove", "night-sailings", "3"], 4, "has no stage 3")]
#[case::an_own_successor(&["route", "edit", "night-sailings", "--successor", "night-sailings"], 2, "is the route itself")]
#[case::no_place(&["catalogue", "set", "teams..x", "1"], 2, "is not a place")]
#[case::no_revision(&["catalogue", "show", "77"], 4, "There is no revision `77`")]
#[case::no_revision_to_compare(&["catalogue", "diff", "1", "--", "-9223372036854775808"], 4, "There is no revision `-9223372036854775808`")]
#[case::no_file(&["catalogue", "diff", "1", "2", "--lines", "--last"], 2, "unexpected argument")]
#[tokio::test]
async fn what_cannot_be_changed_is_told_at_its_place(#[case] args: &[&str], #[case] status: i32, #[case] told: &str) {
    let ferry = Ferry::begin().await;
    let before = file(&ferry).await;
    let ran = ferry.wendor(args).await;
    assert_eq!(ran.status, status, "{}{}", ran.out, ran.err);
    assert!(ran.err.contains(told), "{}", ran.err);
    assert_eq!(file(&ferry).await, before);
}

#[tokio::test]
async fn a_file_of_ten_megabytes_is_refused() {
    let ferry = Ferry::begin().await;
    let before = file(&ferry).await;
    let text = format!("{before}\n# {}", "x".repeat(10 * 1024 * 1024));
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("large.toml");
    std::fs::write(&path, &text).unwrap();
    let path = path.to_str().unwrap();
    for args in [&["catalogue", "check", path][..], &["catalogue", "apply", path, "--yes"]] {
        let ran = ferry.wendor(args).await;
        assert_eq!(ran.status, 2, "{}{}", ran.out, ran.err);
        assert!(
            ran.err.contains("4194304 bytes") || ran.err.contains("4 MB") || ran.err.contains("4.0 MiB"),
            "{}",
            ran.err
        );
    }
    let url = ferry.manage("/catalogue");
    let answer = ferry.http.post(url).bearer_auth(&ferry.owner).json(&json!({ "text": text })).send().await.unwrap();
    assert_eq!(answer.status(), 400);
    let told: Value = answer.json().await.unwrap();
    assert!(told["detail"].as_str().unwrap_or_default().contains("is larger than 8388608 bytes"), "{told}");
    assert_eq!(file(&ferry).await, before);
}

#[tokio::test]
async fn a_rate_of_the_past_is_not_changed() {
    let ferry = Ferry::begin().await;
    let set = |from: &'static str| {
        ["rate", "set", "quarry/fulmar-large", "--input", "1", "--output", "2", "--from", from, "--yes"]
    };
    let first = ferry.wendor(&set("2026-11-02")).await;
    let late = if first.status == 0 { ferry.wendor(&set("2026-11-03")).await } else { first };
    assert_eq!(late.status, 2, "{}", late.out);
    assert!(late.err.contains("lies in the past, and requests since then are priced"), "{}", late.err);
    assert!(late.err.contains("wendor rate adjust quarry/fulmar-large --from"), "{}", late.err);
}

/// What was priced stays in the ledger as it was; the difference is recorded beside it, once, and counts everywhere.
#[tokio::test]
async fn what_was_priced_at_a_wrong_rate_is_corrected() {
    let ferry = Ferry::begin().await;
    let quota = ["team", "quota", "set", "timetables", "--measure", "cost", "--per", "month", "--limit", "100"];
    assert_eq!(ferry.wendor(&quota).await.status, 0);
    let answer = ferry.ask(&question("harbour", false)).await;
    let id = header(&answer, "wendor-request-id");
    ferry.drained().await;
    let cost = |usage: &Value| usage["together"]["cost"].as_str().unwrap().parse::<rust_decimal::Decimal>().unwrap();
    let usage = format!("/usage?{RANGE}&route=harbour");
    let before = ferry.get(&usage).await;
    // Twice what the catalogue says: 0.6 and 1.2.
    let adjust = ["rate", "adjust", "quayside/dunlin-70b", "--input", "1.2", "--output", "2.4", "--from", "2026-11-01"];
    let dry = ferry.wendor(&[&adjust[..], &["--dry-run"]].concat()).await;
    assert!(
        dry.out.contains("1 request at quayside/dunlin-70b cost") && dry.out.contains("(+100%)"),
        "{}{}",
        dry.out,
        dry.err
    );
    assert!(dry.out.ends_with("Nothing was recorded: --dry-run.\n"), "{}", dry.out);
    assert_eq!(cost(&ferry.get(&usage).await), cost(&before));
    let done = ferry.wendor(&[&adjust[..], &["--yes", "--reason", "invoice of November"]].concat()).await;
    assert!(done.out.contains("Recorded: 1 adjustment."), "{}{}", done.out, done.err);
    let after = ferry.get(&usage).await;
    assert_eq!(cost(&after), cost(&before) * rust_decimal::Decimal::TWO);
    assert_eq!(
        (&after["together"]["requests"], &after["together"]["tokens"]),
        (&before["together"]["requests"], &before["together"]["tokens"])
    );
    let shown = ferry.request(&id).await;
    assert_eq!(shown["corrections"][0]["reason"], "invoice of November", "{shown}");
    let printed = ferry.wendor(&["request", "show", &id]).await.out;
    assert!(printed.contains("Corrected afterwards: +") && printed.contains("(invoice of November)"), "{printed}");
    // Two at once find the same difference, and one of them records it.
    let dearer =
        json!({ "offer": "quayside/dunlin-70b", "from": "2026-11-01", "input": "2.4", "output": "4.8", "apply": true });
    let (one, other) = tokio::join!(ferry.post("/rates/adjustment", &dearer), ferry.post("/rates/adjustment", &dearer));
    assert_eq!(one["requests"].as_u64().unwrap() + other["requests"].as_u64().unwrap(), 1, "{one} {other}");
    let back = ferry.wendor(&[&adjust[..], &["--yes"]].concat()).await;
    assert!(back.out.contains("(-50%)"), "{}", back.out);
    let again = ferry.wendor(&[&adjust[..], &["--yes"]].concat()).await;
    assert!(again.out.contains("cost that already"), "{}", again.out);
    assert_eq!(cost(&ferry.get(&usage).await), cost(&after));
    assert!(ferry.get("/audit?limit=50").await.to_string().contains("rates-adjusted"));
    let why = ferry.get(&format!("/usage/why?{RANGE}&route=harbour")).await;
    assert_eq!(why["other"].as_str().unwrap().parse::<rust_decimal::Decimal>().unwrap(), cost(&before), "{why}");
}

#[rstest]
#[case::to_come(&["--from", "2999-01-01"], 2, "is to come: set a rate from that day on instead")]
#[case::long_ago(&["--from", "2020-01-01"], 2, "lies more than 400 days back")]
#[case::less_than_nothing(&["--from", "2026-11-01", "--input", "-1"], 2, "is not a number from 0 to 1000000")]
#[tokio::test]
async fn a_correction_that_makes_no_sense_is_refused(#[case] args: &[&str], #[case] status: i32, #[case] says: &str) {
    let ferry = Ferry::begin().await;
    let input: &[&str] = if args.contains(&"--input") { &[] } else { &["--input", "1"] };
    let ran = ferry
        .wendor(&[&["rate", "adjust", "quayside/dunlin-70b", "--output", "2", "--yes"], input, args].concat())
        .await;
    assert_eq!(ran.status, status, "{}", ran.out);
    assert!(ran.err.contains(says), "{}", ran.err);
}

#[tokio::test]
async fn a_renamed_team_keeps_its_keys_its_figures_and_its_quotas() {
    let ferry = Ferry::begin().await;
    let quota = ["team", "quota", "set", "timetables", "--measure", "requests", "--per", "month", "--limit", "2"];
    assert_eq!(ferry.wendor(&quota).await.status, 0);
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    let renamed = ferry.wendor(&["team", "rename", "timetables", "boards"]).await;
    assert!(renamed.status == 0 && !renamed.out.contains("stops working"), "{}{}", renamed.out, renamed.err);
    // The same key goes on, and what was used of the quota is not given back.
    let statuses = [
        ferry.ask(&question("night-sailings", false)).await.status().as_u16(),
        ferry.ask(&question("night-sailings", false)).await.status().as_u16(),
    ];
    assert_eq!(statuses, [200, 429]);
    ferry.drained().await;
    let usage = ferry.get(&format!("/usage?{}", RANGE)).await;
    let lines: Vec<(&str, u64)> = usage["lines"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| (line["name"].as_str().unwrap(), line["requests"].as_u64().unwrap()))
        .collect();
    assert_eq!(lines, [("boards", 2)]);
    // By its former name too.
    let by_former = ferry.get(&format!("/usage?team=timetables&{}", RANGE)).await;
    assert_eq!(by_former["together"]["requests"], 2);
    assert_eq!(ferry.get("/requests?team=boards").await["requests"].as_array().unwrap().len(), 2);
    assert_eq!(ferry.get("/keys?team=boards").await[0]["team"], "boards");
}

#[tokio::test]
async fn a_renamed_route_answers_to_both_names() {
    let ferry = Ferry::begin().await;
    assert_eq!(ferry.wendor(&["route", "rename", "night-sailings", "late-boats", "--yes"]).await.status, 0);
    for name in ["late-boats", "night-sailings"] {
        let answer = ferry.ask(&question(name, false)).await;
        assert_eq!(answer.status(), 200, "{name}");
        let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
        assert_eq!(shown["request"]["route"], "late-boats");
        let url = format!("{}/v1/models/{name}", ferry.service.url);
        let model: Value = ferry.http.get(url).bearer_auth(&ferry.key).send().await.unwrap().json().await.unwrap();
        assert_eq!(model["id"], "late-boats", "{model}");
    }
}

#[tokio::test]
async fn a_renamed_upstream_keeps_its_rates_and_its_routes() {
    let ferry = Ferry::begin().await;
    let before = ferry.get("/routes").await.to_string();
    let renamed = ferry.wendor(&["upstream", "rename", "quarry", "pit", "--yes"]).await;
    assert_eq!(renamed.status, 0, "{}", renamed.err);
    assert_eq!(ferry.get("/routes").await.to_string(), before.replace("quarry/", "pit/"));
    let rates = ferry.wendor(&["rate", "list", "--json"]).await.out;
    assert!(rates.contains("\"pit/fulmar-large\"") && !rates.contains("quarry"), "{rates}");
}

#[tokio::test]
async fn who_uses_a_thing_is_told_before_it_goes() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await;
    ferry.drained().await;
    let ran = ferry.wendor(&["route", "remove", "night-sailings", "--dry-run"]).await;
    assert_eq!(ran.status, 0, "{}", ran.err);
    for told in [
        "Routes: night-sailings.",
        "Teams: freight-desk, timetables.",
        "Working keys: ",
        " of timetables (",
        "Requests of the last 30 days: timetables 1",
        "- route night-sailings",
    ] {
        assert!(ran.out.contains(told), "{told}: {}", ran.out);
    }
    // Where somebody would notice, it is asked for.
    let unasked = ferry.wendor(&["route", "remove", "night-sailings"]).await;
    assert!(unasked.status == 2 && unasked.err.contains("pass --yes to confirm"), "{}", unasked.err);
    assert_eq!(
        ferry.get("/catalogue/uses?of=/routes/night-sailings").await["requests"],
        json!([{ "team": "timetables", "requests": 1 }])
    );
}

async fn applied(ferry: &Ferry, body: &Value) -> (u16, Value) {
    let sent =
        ferry.http.post(format!("{}/manage/v1/catalogue", ferry.service.url)).bearer_auth(&ferry.owner).json(body);
    let answer = sent.send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[tokio::test]
async fn two_who_change_at_once_lose_nothing_unseen() {
    let ferry = Ferry::begin().await;
    let base = ferry.get("/catalogue").await["revision"].as_i64().unwrap();
    let change = |path: &str, value: Value| json!({ "edits": [{ "op": "add", "path": path, "value": value }], "made_from": base, "note": "by one of two" });
    let (status, _) = applied(&ferry, &change("/routes/night-sailings/purpose", json!("boats at night"))).await;
    assert_eq!(status, 200);
    // Elsewhere: both are in.
    let (status, second) = applied(&ferry, &change("/routes/night-sailings/owner", json!("duty desk"))).await;
    assert_eq!((status, second["revision"].as_i64()), (200, Some(base + 2)), "{second}");
    let text = file(&ferry).await;
    assert!(text.contains("boats at night") && text.contains("duty desk"), "{text}");
    // In the same place: the second is told what it is now.
    let (status, third) = applied(&ferry, &change("/routes/night-sailings/purpose", json!("all boats"))).await;
    assert_eq!(status, 409, "{third}");
    let detail = third["detail"].as_str().unwrap();
    assert!(detail.contains("/routes/night-sailings/purpose was absent and is `boats at night` now"), "{detail}");
    // A whole file that was made from the older revision, too.
    let whole = json!({ "text": text.replace("boats at night", "no boats"), "made_from": base, "note": "file" });
    assert_eq!(applied(&ferry, &whole).await.0, 409);
    // At the very same moment: one of two waits for the other, or is told.
    let weight = json!({ "edits": [{ "op": "add", "path": "/teams/timetables/weight", "value": 2 }] });
    let contact = json!({ "edits": [{ "op": "add", "path": "/teams/timetables/contact", "value": "board" }] });
    let both = tokio::join!(applied(&ferry, &weight), applied(&ferry, &contact));
    let text = file(&ferry).await;
    for ((status, answer), trace) in [(both.0, "weight = 2"), (both.1, "contact = \"board\"")] {
        assert_eq!(status == 200, text.contains(trace), "{status} {answer} {text}");
    }
}

#[tokio::test]
async fn revisions_are_read_compared_and_restored() {
    let ferry = Ferry::begin().await;
    let first = ferry.get("/catalogue").await;
    let number = first["revision"].as_i64().unwrap();
    ferry.wendor(&["route", "edit", "night-sailings", "--owner", "duty desk"]).await;
    let shown = ferry.wendor(&["catalogue", "show", &number.to_string()]).await.out;
    assert_eq!(shown, format!("# Revision {number}.\n{}", first["text"].as_str().unwrap()));
    let differs = ferry.wendor(&["catalogue", "diff", &number.to_string(), &(number + 1).to_string()]).await.out;
    assert!(differs.contains("~ route night-sailings\n    owner: (absent) -> duty desk"), "{differs}");
    let lines = ferry.wendor(&["catalogue", "diff", &number.to_string(), "--lines"]).await.out;
    assert!(lines.contains("\n+owner = \"duty desk\"\n"), "{lines}");
    let restored = ferry.wendor(&["catalogue", "restore", &number.to_string(), "--yes"]).await.out;
    assert!(restored.contains(&format!("Revision {} is in force.", number + 2)), "{restored}");
    assert_eq!(file(&ferry).await, first["text"].as_str().unwrap());
    let revisions = ferry.wendor(&["catalogue", "revisions"]).await.out;
    assert!(revisions.contains(&format!("revision {number} restored")), "{revisions}");
}

#[tokio::test]
async fn the_file_is_edited_in_an_editor_and_nothing_typed_is_lost() {
    let ferry = Ferry::begin().await;
    let folder = tempfile::tempdir().unwrap();
    let edit = |script: &'static str| {
        let editor = folder.path().join("editor");
        std::fs::write(&editor, format!("#!/bin/sh\n{script}\n")).unwrap();
        let mut command = std::process::Command::new("chmod");
        command.arg("+x").arg(&editor).status().unwrap();
        let environment = [("EDITOR", editor.display().to_string())];
        let ferry = &ferry;
        async move {
            let environment: Vec<(&str, &str)> =
                environment.iter().map(|(name, value)| (*name, value.as_str())).collect();
            ferry.wendor_in(&["catalogue", "edit", "--yes"], &environment).await
        }
    };
    let untouched = edit("true").await;
    assert_eq!((untouched.status, untouched.out.as_str()), (0, "Nothing was changed.\n"), "{}", untouched.err);
    let changed = edit("sed -i 's/^\\[routes.night-sailings\\]/&\\nowner = \"duty desk\"/' \"$1\"").await;
    assert!(
        changed.status == 0 && changed.out.contains("owner: (absent) -> duty desk"),
        "{}{}",
        changed.out,
        changed.err
    );
    let wrong = edit("sed -i 's/hosting = \"own\"/hosting = \"owned\"/' \"$1\"").await;
    assert!(wrong.status == 2 && wrong.err.contains("upstreams.quayside.hosting"), "{}", wrong.err);
    let kept = wrong.err.split("is kept in ").nth(1).unwrap().split(".toml").next().unwrap();
    let kept = format!("{kept}.toml");
    assert!(std::fs::read_to_string(&kept).unwrap().contains("hosting = \"owned\""));
    std::fs::remove_file(kept).unwrap();
    let gave_up = edit("exit 3").await;
    assert!(gave_up.status == 2 && gave_up.err.contains("nothing was changed"), "{}", gave_up.err);
}

#[tokio::test]
async fn a_file_of_an_older_revision_is_told_before_it_is_applied() {
    let ferry = Ferry::begin().await;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("catalogue.toml");
    let exported = ferry.wendor(&["catalogue", "export"]).await.out;
    std::fs::write(&path, &exported).unwrap();
    ferry.wendor(&["route", "edit", "night-sailings", "--owner", "duty desk"]).await;
    let path = path.to_str().unwrap();
    let ran = ferry.wendor(&["catalogue", "apply", path, "--dry-run"]).await;
    let words = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        words.contains("The file was exported from revision") && words.contains("Changed since: route night-sailings."),
        "{words}"
    );
    // As it was exported, it changes nothing where nothing was changed since.
    ferry.wendor(&["route", "edit", "night-sailings", "--owner", ""]).await;
    let same = ferry.wendor(&["catalogue", "diff", path]).await.out;
    assert!(same.starts_with("No changes"), "{same}");
    // One of ten megabytes is not sent.
    std::fs::write(path, "# long\n".repeat(1_500_000)).unwrap();
    let large = ferry.wendor(&["catalogue", "apply", path]).await;
    assert!(large.status == 2 && large.err.contains("is larger than 4.0 MiB"), "{}", large.err);
}

#[tokio::test]
async fn a_removed_route_keeps_its_history_under_its_name() {
    let ferry = Ferry::begin().await;
    let asked = ferry.ask(&question("night-sailings", false)).await;
    let id = header(&asked, "wendor-request-id");
    ferry.drained().await;
    let add = ["route", "add", "other", "--offers", "quarry/fulmar-large"];
    assert_eq!(ferry.wendor(&add).await.status, 0);
    assert_eq!(ferry.wendor(&["route", "remove", "night-sailings", "--yes"]).await.status, 0);
    until("the route to be gone", || async {
        (ferry.ask(&question("night-sailings", false)).await.status() == 404).then_some(())
    })
    .await;
    assert_eq!(ferry.request(&id).await["request"]["route"], "night-sailings");
    let usage = ferry.get(&format!("/usage?by=route&{}", RANGE)).await;
    assert_eq!(usage["lines"][0]["name"], "night-sailings");
    let narrowed = ferry.get(&format!("/usage?route=night-sailings&{}", RANGE)).await;
    assert_eq!(narrowed["together"]["requests"], 1, "{narrowed}");
}

#[tokio::test]
async fn a_retiring_route_warns_its_callers_and_refuses_them_on_the_day() {
    let ferry = Ferry::begin().await;
    assert_eq!(ferry.wendor(&["route", "rename", "night-sailings", "late-boats"]).await.status, 0);
    let edit = ["route", "edit", "late-boats", "--retires", "2999-01-01", "--successor", "harbour"];
    assert_eq!(ferry.wendor(&edit).await.status, 0);
    for (asked, streamed) in [("night-sailings", false), ("night-sailings", true), ("late-boats", false)] {
        let answer = ferry.ask(&question(asked, streamed)).await;
        assert_eq!(
            (answer.status().as_u16(), header(&answer, "sunset").as_str()),
            (200, "Tue, 01 Jan 2999 00:00:00 GMT")
        );
        let notes = header(&answer, "wendor-notes");
        assert!(notes.contains("`late-boats` retires on 2999-01-01; use `harbour` instead"), "{notes}");
        assert_eq!(notes.contains("`night-sailings` is called `late-boats` now"), asked == "night-sailings", "{notes}");
        let id = header(&answer, "wendor-request-id");
        answer.text().await.unwrap();
        let shown = ferry.request(&id).await;
        assert_eq!(shown["asked_as"], if asked == "late-boats" { Value::Null } else { json!(asked) });
    }
    ferry.drained().await;
    let callers = ferry.get("/routes/late-boats/callers").await;
    let told: Vec<(&str, u64)> = callers
        .as_array()
        .unwrap()
        .iter()
        .map(|line| (line["asked_as"].as_str().unwrap(), line["requests"].as_u64().unwrap()))
        .collect();
    assert!(told.contains(&("night-sailings", 2)) && told.contains(&("late-boats", 1)), "{callers}");
    let printed = ferry.wendor(&["route", "callers", "night-sailings"]).await.out;
    assert!(printed.contains("asks for") && printed.contains("late-boats"), "{printed}");
    // The former name goes first, then the route itself.
    let until =
        ["catalogue", "set", "routes.late-boats.former[0]", "{ name = \"night-sailings\", until = 2026-01-01 }"];
    assert_eq!(ferry.wendor(&until).await.status, 0);
    let refused = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(refused.status(), 404);
    let error = refused.json::<Value>().await.unwrap()["error"].clone();
    assert_eq!(error["code"], "route_retired");
    assert!(error["message"].as_str().unwrap().contains("Use late-boats instead."), "{error}");
    assert_eq!(ferry.ask(&question("late-boats", false)).await.status(), 200);
    assert_eq!(ferry.wendor(&["route", "edit", "late-boats", "--retires", "2026-01-01"]).await.status, 0);
    let refused = ferry.ask(&question("late-boats", false)).await;
    let error = refused.json::<Value>().await.unwrap()["error"].clone();
    assert!(
        error["message"].as_str().unwrap().contains("Route late-boats has retired on 2026-01-01. Use harbour instead."),
        "{error}"
    );
    // What has retired is not offered.
    let asked = ferry.http.get(format!("{}/v1/models", ferry.service.url)).bearer_auth(&ferry.key).send();
    let listed = asked.await.unwrap().text().await.unwrap();
    assert!(listed.contains("harbour") && !listed.contains("late-boats"), "{listed}");
}

#[tokio::test]
async fn a_refused_request_is_found_by_its_id() {
    let ferry = Ferry::begin().await;
    let refused = ferry.ask(&json!({ "model": "night-sailings", "messages": "none" })).await;
    let id = header(&refused, "wendor-request-id");
    let shown = ferry.wendor(&["request", "show", &id]).await;
    assert_eq!(shown.status, 4, "{}", shown.out);
    for told in ["refused before admission", "invalid_type", "about `messages`", "of timetables"] {
        assert!(shown.err.contains(told), "{told}: {}", shown.err);
    }
    let own = ferry.http.get(format!("{}/manage/v1/requests/{id}", ferry.service.url)).bearer_auth(&ferry.key);
    let problem: Value = own.send().await.unwrap().json().await.unwrap();
    assert_eq!(problem["type"], "urn:wendor:problem:refused-before-admission");
    // To others it is as if it were not there.
    let lead = ferry.sign_in("quay-clerk", "lead", Some("freight-desk")).await;
    let other = ferry.http.get(format!("{}/manage/v1/requests/{id}", ferry.service.url)).bearer_auth(&lead);
    let problem: Value = other.send().await.unwrap().json().await.unwrap();
    assert_eq!(problem["type"], "urn:wendor:problem:no-such-thing");
}

#[tokio::test]
async fn figures_go_into_a_spreadsheet() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let ran = ferry.wendor(&["usage", "--by", "route", "--last", "1d", "--csv"]).await;
    let lines: Vec<&str> = ran.out.split("\r\n").collect();
    assert!(lines[0].starts_with("route,label,currency,cost,cost_previous_period,requests,"), "{}", ran.out);
    let usage = ferry.get(&format!("/usage?by=route&{RANGE}")).await;
    let cost = usage["lines"][0]["cost"].as_str().unwrap();
    assert!(lines[1].starts_with(&format!("night-sailings,,EUR,{cost},0,1,0,0,")), "{}", ran.out);
    assert_eq!(ferry.wendor(&["usage", "--csv", "--json"]).await.status, 2);
    // By two things at once, each line leads to its requests.
    let pairs = ferry.get("/usage?by=route,day&from=2026-11-01T00:00:00Z&to=2026-12-31T00:00:00Z").await;
    let line = &pairs["lines"][0];
    assert_eq!(
        (&pairs["by"], &line["name"], &line["requests"]),
        (&json!("route,day"), &json!("night-sailings"), &json!(1))
    );
    let behind = ferry.get(&format!("/requests?{}", line["requests_query"].as_str().unwrap())).await;
    assert_eq!(behind["requests"].as_array().unwrap().len(), 1, "{line}");
    let shown = ferry.wendor(&["usage", "--by", "route,day", "--last", "2d"]).await.out;
    assert!(shown.starts_with("route") && shown.contains(line["then"].as_str().unwrap()), "{shown}");
    let wrong = ferry.wendor(&["usage", "--by", "day,hour"]).await;
    assert!(wrong.status == 2 && wrong.err.contains("one at most is a time"), "{}", wrong.err);
}

#[tokio::test]
async fn a_request_without_a_route_goes_to_the_default_of_its_team() {
    let ferry = Ferry::begin().await;
    let mut body = question("night-sailings", false);
    body.as_object_mut().unwrap().remove("model");
    let refused = ferry.ask(&body).await;
    assert_eq!(refused.status(), 400);
    assert_eq!(refused.json::<Value>().await.unwrap()["error"]["code"], "missing_member");
    assert_eq!(ferry.wendor(&["team", "edit", "timetables", "--default-route", "night-sailings"]).await.status, 0);
    let answer = ferry.ask(&body).await;
    assert_eq!(answer.status(), 200);
    assert_eq!(header(&answer, "wendor-notes"), "route: none was named; `night-sailings` is the default of the team");
    let shown = ferry.request(&header(&answer, "wendor-request-id")).await;
    assert_eq!(shown["request"]["route"], "night-sailings");
    // What else is wrong is told all the same, and a route that the team may not use is no default.
    body["messages"] = json!("none");
    assert_eq!(ferry.ask(&body).await.status(), 400);
    let closed = ferry.wendor(&["team", "edit", "timetables", "--routes", "harbour"]).await;
    assert!(closed.status == 2 && closed.err.contains("the team may not use `night-sailings`"), "{}", closed.err);
}
