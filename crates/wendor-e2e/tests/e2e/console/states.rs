//! The four states of a list: waiting with what for, empty with what to do, a problem with its remedy, filled.

use std::process::Command;

use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_standins::fault::Fault;
use wendor_standins::server::{Profile, StandIn};

use super::{open, signed_in};

fn signal(ferry: &Ferry, name: &str) {
    let sent = Command::new("kill").arg(format!("-{name}")).arg(ferry.service.pid().to_string()).status();
    assert!(sent.unwrap().success());
}

#[tokio::test]
async fn the_list_of_requests_waits_is_empty_has_a_problem_and_is_filled() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/requests").await;
    browser.see("No request has come yet").await;
    assert!(browser.wait_for("document.querySelector('[data-state=empty]')").await);

    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    browser.click("Fixed: go live").await;
    browser.see("quayside/dunlin-70b").await;
    assert!(browser.wait_for("document.querySelector('[data-state=filled]')").await);
    browser.click("Live: stop here").await;

    // A filter that nothing fits.
    browser.choose("End", "cancelled").await;
    browser.see("No matching requests. Remove a filter, or choose a longer range.").await;
    assert!(browser.address().await.contains("end=cancelled"));

    // A service that does not answer for a while: the list before stays, marked as being replaced.
    browser.choose("End", "any").await;
    browser.see("quayside/dunlin-70b").await;
    signal(&ferry, "STOP");
    browser.choose("End", "cut-off").await;
    assert!(browser.wait_for("document.querySelector('[data-state=filled][aria-busy=true]')").await);
    browser.see("quayside/dunlin-70b").await;
    signal(&ferry, "CONT");
    browser.see("No matching requests").await;

    // Where there is none before, it says what it waits for.
    open(&browser, &ferry, "/usage?range=24h").await;
    browser.see("requests cost").await;
    signal(&ferry, "STOP");
    browser.click_on("tbody tr:first-child td.num a").await;
    browser.see("Waiting for the requests").await;
    assert!(browser.wait_for("document.querySelector('[data-state=waiting]')").await);
    signal(&ferry, "CONT");
    browser.see("quayside/dunlin-70b").await;

    // A value that cannot be: what, which, and what to do.
    open(&browser, &ferry, "/requests?offer=quayside").await;
    browser.see("The requests cannot be shown.").await;
    browser.see("offer").await;
    assert!(browser.wait_for("document.querySelector('[data-state=problem] button')").await, "it can be tried again");
    browser.click("Clear all").await;
    browser.see("quayside/dunlin-70b").await;
}

#[tokio::test]
async fn old_figures_stay_and_say_how_old_they_are() {
    let mut ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/teams").await;
    browser.see("timetables").await;
    open(&browser, &ferry, "/").await;
    browser.see("Nothing needs attention").await;
    signal(&ferry, "STOP");
    // The page is there already; what it asks for is not.
    browser.press_with_control('k').await;
    browser.script("window.dispatchEvent(new Event('focus'))").await;
    signal(&ferry, "CONT");
    ferry.service.kill();
    browser.see("These figures are of").await;
    browser.see("Wendor does not answer").await;
    browser.see("Nothing needs attention").await;
}

/// What is under way is watched as it goes on, and what has ended stands below it.
#[tokio::test]
async fn what_is_under_way_is_watched() {
    let slow =
        Profile { tokens_per_second: 20, answer_tokens: (80, 80), ..Profile::quick("quayside", &["dunlin-70b"]) };
    let wishes =
        Wishes { streams: Some(1), patience: Some("9s"), room: Some("9s"), quayside: Some(slow), ..Wishes::default() };
    let ferry = Ferry::with(wishes).await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/under-way").await;
    browser.see("No requests are under way at this instance.").await;
    let asked = question("harbour", true);
    let open_stream = ferry.ask(&asked).await;
    let waits = ferry.ask(&asked);
    let watched = async {
        browser.see("2 requests are under way: 1 waits for room and 1 is answered.").await;
        browser.see("place 1").await;
        browser.choose("Team", "freight-desk").await;
        browser.see("Others are hidden by the filters above.").await;
        browser.choose("Team", "any").await;
        browser.see("1 request is under way: 1 is answered.").await;
        browser.see("Just ended").await;
    };
    let (text, answer, ()) = tokio::join!(open_stream.text(), waits, watched);
    assert!(text.unwrap().ends_with("data: [DONE]\n\n"));
    answer.text().await.unwrap();
    browser.see("No requests are under way at this instance.").await;
    assert!(browser.wait_for("document.querySelectorAll('main table tbody tr').length === 2").await);
}

/// Events and the webhooks that are told of them: a try, and the log of deliveries.
#[tokio::test]
async fn a_webhook_is_tried_and_its_log_is_read() {
    let mut profile = Profile::quick("signal-station", &[]);
    profile.manners.takes_events = true;
    let station = StandIn::start(profile).await.unwrap();
    let hook = format!(
        "\n[webhooks.on-call]\naddress = \"http://{}/events\"\nsecret = {{ env = \"WENDOR_WEBHOOK_ON_CALL\" }}\n",
        station.address()
    );
    let settings = vec![("WENDOR_WEBHOOK_ON_CALL", "a-lantern-for-every-landing".to_owned())];
    let ferry = Ferry::with(Wishes { more: hook, settings, ..Wishes::default() }).await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/events").await;
    browser.see("none yet").await;
    browser.click("Try it").await;
    browser.see("it answered 204").await;
    browser.click("Its log").await;
    browser.see("Deliveries to on-call").await;
    browser.see("on-call is tried: this message says nothing else").await;
    station.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    browser.click("Try it").await;
    browser.see("it answered 500").await;
    browser.choose("Of", "health of upstreams").await;
    browser.see("No matching events.").await;
}
