//! Without a pointer: the palette, lists, dialogues.

use thirtyfour::Key;
use wendor_e2e::ferry::{Ferry, header, question};

use super::{open, signed_in};

#[tokio::test]
async fn the_palette_opens_things_by_name_and_requests_by_id() {
    let ferry = Ferry::begin().await;
    let answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    let browser = signed_in(&ferry, "operator", None).await;
    for (typed, address, seen) in [
        ("freight", "/console/teams/freight-desk", "Quotas"),
        ("nghtsail", "/console/routes/night-sailings", "Stages, in order"),
        ("quarry", "/console/upstreams/quarry", "Offers"),
        ("usage", "/console/usage", "requests cost"),
        (&id, &format!("/console/requests/{id}"), "Who asked"),
    ] {
        browser.press_with_control('k').await;
        assert!(browser.wait_for("document.activeElement.getAttribute('role') === 'combobox'").await);
        browser.press(typed).await;
        assert!(browser.wait_for("document.querySelector('[role=option]')").await, "{typed} finds something");
        browser.press(Key::Enter).await;
        browser.see(seen).await;
        assert_eq!(browser.address().await, address);
    }
    browser.press_with_control('k').await;
    assert!(browser.wait_for("document.querySelector('[role=dialog]')").await);
    browser.press("foghorn").await;
    browser.see("No match").await;
    browser.press(Key::Escape).await;
    assert!(browser.wait_for("!document.querySelector('[role=dialog]')").await, "Escape closes it");
}

#[tokio::test]
async fn lists_move_with_arrows_and_keys_lead_to_pages() {
    let ferry = Ferry::begin().await;
    for _ in 0..3 {
        ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    }
    ferry.drained().await;
    let browser = signed_in(&ferry, "operator", None).await;
    browser.press("gr").await;
    browser.see("time, UTC").await;
    assert_eq!(browser.address().await, "/console/requests");
    // By Tab alone into the list: past the rail and the filters.
    let is_in_list = "document.activeElement.closest('tbody')";
    for _ in 0..60 {
        if browser.script(&format!("return Boolean({is_in_list})")).await == true {
            break;
        }
        browser.press(Key::Tab).await;
    }
    assert!(browser.wait_for(is_in_list).await, "Tab reaches the list");
    let line = "[...document.querySelectorAll('tbody tr')].findIndex(line => line.contains(document.activeElement))";
    browser.press(Key::Down).await;
    assert!(browser.wait_for(&format!("{line} === 1")).await);
    browser.press(Key::Up).await;
    assert!(browser.wait_for(&format!("{line} === 0")).await);
    browser.press(Key::Enter).await;
    browser.see("Why this offer").await;
    browser.press("?").await;
    browser.see("Find a page, team, route, upstream or request").await;
    browser.press(Key::Escape).await;
    assert!(browser.wait_for("!document.querySelector('[role=dialog]')").await);
    open(&browser, &ferry, "/teams/timetables").await;
    browser.see("Quotas").await;
    assert!(
        browser.wait_for("document.activeElement.tagName === 'H1'").await
            || browser.address().await.contains("timetables")
    );
}
