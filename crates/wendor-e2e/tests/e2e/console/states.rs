//! The four states of a list: waiting with what for, empty with what to do, a problem with its remedy, filled.

use std::process::Command;

use wendor_e2e::ferry::{Ferry, question};

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
    browser.see("No request fits. Leave a filter out, or look further back.").await;
    assert!(browser.address().await.contains("end=cancelled"));

    // A service that does not answer for a while: the list before stays, marked as being replaced.
    browser.choose("End", "any").await;
    browser.see("quayside/dunlin-70b").await;
    signal(&ferry, "STOP");
    browser.choose("End", "cut-off").await;
    assert!(browser.wait_for("document.querySelector('[data-state=filled][aria-busy=true]')").await);
    browser.see("quayside/dunlin-70b").await;
    signal(&ferry, "CONT");
    browser.see("No request fits").await;

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
    browser.see("Nothing needs anyone").await;
    signal(&ferry, "STOP");
    // The page is there already; what it asks for is not.
    browser.press_with_control('k').await;
    browser.script("window.dispatchEvent(new Event('focus'))").await;
    signal(&ferry, "CONT");
    ferry.service.kill();
    browser.see("These figures are of").await;
    browser.see("Wendor does not answer").await;
    browser.see("Nothing needs anyone").await;
}
