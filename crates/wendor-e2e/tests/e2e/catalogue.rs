//! The catalogue as a file, through the client: checked, compared, applied, exported, and who may.

use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, question};

fn written(ferry: &Ferry, text: &str) -> String {
    let path = ferry.folder().join("catalogue.toml");
    std::fs::write(&path, text).unwrap();
    path.to_str().unwrap().to_owned()
}

#[tokio::test]
async fn what_is_exported_changes_nothing_and_a_change_is_shown_and_applied() {
    let ferry = Ferry::begin().await;
    let export = ferry.wendor(&["catalogue", "export"]).await;
    let file = written(&ferry, &export.out);
    let same = ferry.wendor(&["catalogue", "diff", &file]).await;
    assert_eq!((same.status, same.out.as_str()), (0, "No changes: it equals revision 1.\n"), "{}", same.err);
    let changed =
        export.out.replace("streams = 400", "streams = 12").replace("[teams.freight-desk]", "[teams.harbour-ops]");
    let file = written(&ferry, &changed);
    let diff = ferry.wendor(&["catalogue", "diff", &file]).await.out;
    for line in [
        "Against revision 1:",
        "~ upstream quayside",
        "    streams: 400 -> 12",
        "- team freight-desk",
        "+ team harbour-ops",
    ] {
        assert!(diff.contains(line), "{line} is not in\n{diff}");
    }
    let unasked = ferry.wendor(&["catalogue", "apply", &file]).await;
    assert_eq!(unasked.status, 2, "without --yes and without anyone to ask nothing is applied");
    assert_eq!(ferry.get("/revisions").await.as_array().unwrap().len(), 1);
    let applied = ferry.wendor(&["catalogue", "apply", &file, "--note", "fewer streams", "--yes"]).await;
    assert!(applied.out.ends_with("Revision 2 is in force.\n"), "{}{}", applied.out, applied.err);
    let revisions = ferry.get("/revisions").await;
    assert_eq!(
        (&revisions[0]["number"], &revisions[0]["note"], &revisions[0]["made_by"]),
        (&json!(2), &json!("fewer streams"), &json!("harbour-master"))
    );
    assert_eq!(ferry.wendor(&["catalogue", "apply", &file, "--yes"]).await.out, "No changes: it equals revision 2.\n");
}

#[tokio::test]
async fn every_problem_is_told_with_its_place_here_and_by_the_service() {
    let ferry = Ferry::begin().await;
    let text = "[upstreams.quayside]\naddress = \"127.0.0.1\"\nhosting = \"owned\"\noffers = {}\n[routes.manifests]\nstages = []\n";
    let file = written(&ferry, text);
    let checked = ferry.wendor(&["catalogue", "check", &file]).await;
    assert_eq!(checked.status, 2);
    for line in [
        "3 problems",
        "line 2, column 11: upstreams.quayside.address:",
        "line 3, column 11: upstreams.quayside.hosting: `owned` is not one of `own`, `hosted`",
        "line 6, column 10: routes.manifests.stages: a route needs at least one stage",
    ] {
        assert!(checked.err.contains(line), "{line} is not in\n{}", checked.err);
    }
    let applied = ferry.wendor(&["catalogue", "apply", &file, "--yes"]).await;
    assert_eq!(applied.status, 2);
    assert!(applied.err.contains("line 3, column 11"), "{}", applied.err);
    assert_eq!(ferry.get("/revisions").await.as_array().unwrap().len(), 1);
}

#[tokio::test]
async fn a_rate_in_force_cannot_be_changed_but_a_later_one_added() {
    let ferry = Ferry::begin().await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    assert!(text.contains("input = \"0.6\""), "{text}");
    let answer = ferry.http.post(ferry.manage("/catalogue/difference")).bearer_auth(&ferry.owner);
    let answer =
        answer.json(&json!({ "text": text.replace("input = \"0.6\"", "input = \"0.7\"") })).send().await.unwrap();
    assert_eq!(answer.status(), 422);
    let problem: Value = answer.json().await.unwrap();
    assert!(problem["problems"][0]["message"].as_str().unwrap().contains("rates are only added"), "{problem}");
    let later = text.replace(
        "{ from = 2026-01-01, input = \"0.6\"",
        "{ from = 2099-01-01, input = \"0.7\", output = \"1\" },\n  { from = 2026-01-01, input = \"0.6\"",
    );
    ferry.apply(&later).await;
    assert!(ferry.get("/catalogue").await["text"].as_str().unwrap().contains("2099-01-01"));
    ferry.ask(&question("night-sailings", false)).await;
    ferry.drained().await;
    let id = ferry.get("/requests").await["requests"][0]["id"].as_str().unwrap().to_owned();
    assert_eq!(ferry.request(&id).await["cost"]["rate_from"], "2026-01-01", "the later rate is not in force yet");
}

#[tokio::test]
async fn who_was_overtaken_is_told_and_nothing_is_lost() {
    let ferry = Ferry::begin().await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    ferry.apply(&text.replace("streams = 400", "streams = 7")).await;
    let late = ferry.http.post(ferry.manage("/catalogue")).bearer_auth(&ferry.owner);
    let late =
        late.json(&json!({ "text": text.replace("streams = 400", "streams = 9"), "base": 1 })).send().await.unwrap();
    assert_eq!(late.status(), 409);
    let problem: Value = late.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("revision 2 is in force"), "{problem}");
    assert!(ferry.get("/catalogue").await["text"].as_str().unwrap().contains("streams = 7"));
}

#[tokio::test]
async fn the_demos_catalogue_has_no_problem() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/catalogue.toml");
    let checked = wendor_e2e::wendor::wendor(&["catalogue", "check", path], &[], "").await;
    assert_eq!(
        (checked.status, checked.out.as_str()),
        (0, "Valid: 7 upstreams with 11 offers, 6 routes, 5 teams.\n"),
        "{}",
        checked.err
    );
}
