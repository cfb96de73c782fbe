//! Bringing servers in by the console: the first run with its fields and presses counted, the dialogue, a check with its remedy, what is
//! served, another key.

use serde_json::{Value, json};
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::manners::Manners;

use super::{open, signed_in};

/// Someone at the console, whose fields and presses are counted.
struct Hand<'a> {
    browser: &'a Browser,
    fields: u32,
    presses: u32,
}

impl Hand<'_> {
    async fn fill(&mut self, label: &str, value: &str) {
        self.browser.fill(label, value).await;
        self.fields += 1;
    }

    async fn press(&mut self, words: &str) {
        self.browser.click(words).await;
        self.presses += 1;
    }
}

const ADDRESS: &str = "Its address, as you would type it in a browser or an app";

#[tokio::test]
async fn a_first_run_takes_at_most_six_fields_and_twelve_interactions() {
    let ferry = Ferry::empty(&Wishes::default()).await;
    // A server with a mistake in its address, as it happens.
    ferry.quayside.set_manners(Manners { prefix: Some("/serve".into()), ..Manners::default() });
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let browser = Browser::begin().await;
    browser.open(&format!("{}/console/", ferry.service.url)).await;
    let mut hand = Hand { browser: &browser, fields: 0, presses: 0 };
    hand.fill("One-time sign-in", &one_time).await;
    hand.press("Sign in").await;
    browser.see("Nothing is configured yet").await;
    hand.press("first run").await;
    hand.fill(ADDRESS, &ferry.quayside.address().to_string()).await;
    hand.press("Look").await;
    browser.see("The address lacks /serve").await;
    hand.press(&format!("Use http://{}/serve", ferry.quayside.address())).await;
    hand.press("Add it").await;
    hand.press("Make the route").await;
    hand.press("Make its key").await;
    browser.see("Copy it now").await;
    hand.press("Ask").await;
    browser.see("First token after").await;
    browser.see("unpriced").await;
    assert!(browser.wait_for("document.querySelector('[data-answer]').textContent.length > 20").await);
    assert!(hand.fields <= 6 && hand.fields + hand.presses <= 12, "{} fields, {} presses", hand.fields, hand.presses);
    assert_eq!(ferry.quayside.tally().served, 1);
    browser.click("code for an app").await;
    browser.see("From an app").await;
    browser.see("first-route").await;
}

#[tokio::test]
async fn the_dialogue_says_what_is_wrong_mends_it_and_adds_what_was_chosen() {
    let ferry = Ferry::begin().await;
    ferry.quarry.set_manners(Manners { prefix: Some("/serve".into()), ..Manners::default() });
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/upstreams").await;
    browser.click("Add an upstream").await;
    browser.fill("Address, as you would type it in a browser or an app", "127.0.0.1:9").await;
    browser.click("Look").await;
    browser.see("Nothing listens on port 9").await;
    browser.see("Start it, or look which port it listens on").await;
    assert!(browser.wait_for("document.querySelector('[data-step=connection][data-state=failing]')").await);
    let add = "[...document.querySelectorAll('button')].find(button => button.textContent.includes('Add with'))";
    assert_eq!(browser.script(&format!("return {add}.disabled")).await, Value::Bool(true));
    browser.fill("Address, as you would type it in a browser or an app", &ferry.quarry.address().to_string()).await;
    browser.click("Look").await;
    browser.click(&format!("Use http://{}/serve", ferry.quarry.address())).await;
    browser.see("requires a key").await;
    browser.choose("Key", "in a variable of the service").await;
    browser.fill("The variable’s name", "WENDOR_UPSTREAM_QUARRY").await;
    browser.click("Look").await;
    browser.see("What to offer to routes").await;
    browser.fill("Name of the upstream", "quarry-two").await;
    browser.click("Add with 1 offer").await;
    browser.see("quarry-two had no traffic").await;
    assert_eq!(browser.address().await, "/console/upstreams/quarry-two");
    let upstreams = ferry.get("/upstreams").await;
    let added = upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quarry-two").unwrap().clone();
    assert_eq!((&added["credential"], &added["offers"][0]["model"]), (&json!("found"), &json!("fulmar-large")));
    // Escape closes it, and nothing is left of what was typed.
    open(&browser, &ferry, "/upstreams").await;
    browser.click("Add an upstream").await;
    browser.see("Address, as you would type it").await;
    browser.press(thirtyfour::Key::Escape).await;
    browser.see_gone("Address, as you would type it").await;
}

#[tokio::test]
async fn a_check_mends_an_upstream_and_proves_what_it_can_do() {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_manners(Manners { prefix: Some("/serve".into()), ignores_images: true, ..Manners::default() });
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/upstreams/quayside").await;
    browser.click("Check it").await;
    browser.see("Fails at: path.").await;
    browser.click(&format!("Use http://{}/serve", ferry.quayside.address())).await;
    browser.see("All steps passed.").await;
    assert_eq!(ferry.get("/revisions").await[0]["note"], "quayside mended after a check");
    browser.click("Prove its abilities").await;
    browser.see("at most").await;
    browser.click("Run it").await;
    browser.see("The offer is declared to have images-in, and does not").await;
    browser.click("Take `images-in` out of the offer's abilities").await;
    browser.see("All steps passed.").await;
    open(&browser, &ferry, "/models").await;
    browser.see("tools, not images-in").await;
    browser.click("Check now").await;
    browser.see("No changes since the first check.").await;
    ferry.quayside.serve_models(&["dunlin-70b", "kittiwake"]);
    browser.click("Check now").await;
    browser.see("kittiwake appeared at quayside").await;
    browser.click("Offer it").await;
    browser.see_gone("not offered").await;
    ferry.quayside.serve_models(&["kittiwake"]);
    browser.click("Check now").await;
    browser.see("quayside does not serve dunlin-70b any more").await;
    open(&browser, &ferry, "/").await;
    browser.see("does not serve dunlin-70b any more").await;
}

#[tokio::test]
async fn another_key_is_kept_and_never_shown() {
    let settings = vec![("WENDOR_SECRET", "the tide waits for nobody, not even for ferries".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/upstreams/quarry").await;
    browser.click("Another key").await;
    browser.fill("The key that the service issued", "your-key-here").await;
    browser.click("Keep it").await;
    browser.see("it is an example that was never replaced").await;
    browser.fill("The key that the service issued", "s3cret-of-quarry").await;
    browser.click("Keep it").await;
    browser.see("Kept as crd-").await;
    assert!(!browser.text().await.contains("s3cret-of-quarry"));
    browser.click("Close").await;
    let checked = ferry.post("/upstreams/check", &json!({ "name": "quarry" })).await;
    assert_eq!(checked["green"], true, "{checked}");
}

/// Each step is shown as it runs, and whoever has seen enough stops it.
#[tokio::test]
async fn a_check_shows_the_step_that_runs_and_can_be_stopped() {
    let ferry = Ferry::with(Wishes { patience: Some("120s"), ..Wishes::default() }).await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/upstreams/quayside/check").await;
    browser.see("Check again").await;
    let asked = ferry.quayside.tally().requests;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    browser.choose("It may take", "5 min").await;
    browser.click("Check again").await;
    let step =
        |step: &str, state: &str| format!("document.querySelector('[data-step=\"{step}\"][data-state={state}]')");
    assert!(browser.wait_for(&step("streamed answer", "running")).await);
    for (over, state) in [("models", "well"), ("whole answer", "\"to come\"")] {
        assert!(browser.wait_for(&step(over, state)).await, "{over}");
    }
    until("the server to be asked", || async { (ferry.quayside.tally().requests == asked + 1).then_some(()) }).await;
    browser.click("Stop").await;
    browser.see("The check was stopped").await;
    until("the server to be left", || async { (ferry.quayside.tally().client_left == 1).then_some(()) }).await;
    // What it may have cost stands in the ledger, once it is settled.
    until("the check to be settled", || async {
        let shown = ferry.get("/requests?upstream=quayside&end=cancelled").await;
        (shown["requests"].as_array().map(Vec::len) == Some(1)).then_some(())
    })
    .await;
}
