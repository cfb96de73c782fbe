//! Changing the catalogue in the console, by keyboard alone: each journey from the page of a thing to what is in force, and back.

use thirtyfour::Key;
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_e2e::waiting::until;

use super::{open, signed_in};

/// Presses Tab until what `selector` finds has the focus.
async fn tab_to(browser: &Browser, selector: &str) {
    let has_focus = format!("document.activeElement.matches({})", serde_json::to_string(selector).unwrap());
    assert!(browser.wait_for(&format!("document.querySelector({selector:?})")).await, "{selector} is there");
    for _ in 0..150 {
        if browser.script(&format!("return {has_focus}")).await == true {
            return;
        }
        browser.press(Key::Tab).await;
    }
    panic!("Tab never reaches {selector}");
}

/// The same for the field with that label.
async fn tab_to_field(browser: &Browser, label: &str) {
    let id = format!(
        "[...document.querySelectorAll('label')].find(label => label.textContent.trim() === {label:?})?.htmlFor"
    );
    assert!(browser.wait_for(&id).await, "{label} is there");
    let id = browser.script(&format!("return {id}")).await;
    tab_to(browser, &format!("[id=\"{}\"]", id.as_str().unwrap())).await;
}

/// The same for the button with that text; then it is pressed.
async fn press_button(browser: &Browser, text: &str) {
    let mark = format!(
        "(() => {{ const button = [...document.querySelectorAll('button')].find(button => button.textContent.trim() === {text:?} \
         && !button.disabled); button?.setAttribute('data-wanted', {text:?}); return button }})()"
    );
    assert!(browser.wait_for(&mark).await, "{text} can be pressed:\n{}", browser.text().await);
    tab_to(browser, &format!("[data-wanted=\"{text}\"]")).await;
    browser.press(Key::Enter).await;
}

/// Types over what stands in the field that has the focus.
async fn retype(browser: &Browser, text: &str) {
    browser.press_with_control('a').await;
    browser.press(text).await;
}

async fn file(ferry: &Ferry) -> String {
    ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned()
}

#[tokio::test]
async fn a_quota_is_raised_and_the_step_undone() {
    let ferry = Ferry::begin().await;
    let set = ["team", "quota", "set", "timetables", "--measure", "cost", "--per", "month", "--limit", "38"];
    assert_eq!(ferry.wendor(&set).await.status, 0);
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/teams/timetables").await;
    tab_to(&browser, "a[href$='/teams/timetables/edit']").await;
    browser.press(Key::Enter).await;
    tab_to(&browser, "[aria-label='Limit of quota 1']").await;
    // What cannot be is told as it is typed, at its place, by the rules of the file.
    retype(&browser, "-5").await;
    browser.see("must be a number from 0 to 1000000000000").await;
    retype(&browser, "250").await;
    browser.see("quotas.cost a month.limit").await;
    browser.see_gone("must be a number").await;
    assert!(file(&ferry).await.contains("limit = 38 "), "nothing is changed before it is applied");
    press_button(&browser, "Apply").await;
    browser.see("is in force.").await;
    assert!(file(&ferry).await.contains("limit = 250 "));
    press_button(&browser, "Undo").await;
    until("the limit to be back", || async { file(&ferry).await.contains("limit = 38 ").then_some(()) }).await;
}

#[tokio::test]
async fn a_stage_is_added_moved_applied_and_the_revision_restored() {
    let ferry = Ferry::begin().await;
    let before = file(&ferry).await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/routes/night-sailings/edit").await;
    press_button(&browser, "Add a stage").await;
    tab_to(&browser, "[data-stage][aria-label^='Stage 3']").await;
    browser.chord(Key::Alt, Key::Up).await;
    browser.see("stage 3.offers").await;
    assert!(browser.wait_for("document.activeElement.ariaLabel?.startsWith('Stage 2')").await, "the focus moves along");
    // A draft stays when the page is left.
    open(&browser, &ferry, "/routes").await;
    open(&browser, &ferry, "/routes/night-sailings/edit").await;
    browser.see("A draft against revision").await;
    assert_eq!(file(&ferry).await, before);
    press_button(&browser, "Try it on the last week").await;
    browser.see("Of 1 request of the last 7 days").await;
    press_button(&browser, "Apply").await;
    browser.see("is in force.").await;
    assert_ne!(file(&ferry).await, before);
    open(&browser, &ferry, "/revisions").await;
    browser.see("route night-sailings changes").await;
    tab_to(&browser, "[aria-label='Restore revision 1']").await;
    browser.press(Key::Enter).await;
    press_button(&browser, "Restore it").await;
    browser.see("Revision 3 is in force").await;
    assert_eq!(file(&ferry).await, before);
}

#[tokio::test]
async fn a_preset_is_made_tried_applied_and_found_on_a_record() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/routes/harbour/edit").await;
    tab_to_field(&browser, "Standing instructions").await;
    browser.press("Answer for {{pier}}.").await;
    browser.see("unknown variable `{{pier}}`").await;
    tab_to(&browser, "[aria-label='Name of a new variable']").await;
    browser.press("pier").await;
    browser.press(Key::Enter).await;
    browser.see("no usual value: each request has to give it").await;
    browser.see_gone("unknown variable").await;
    tab_to(&browser, "[aria-label='Usual value of pier']").await;
    // It moves from those that requests have to give to those with a usual value, and keeps the focus.
    browser.press("Pier 2").await;
    browser.see("preset.variables.pier").await;
    press_button(&browser, "Add an example").await;
    tab_to_field(&browser, "Question of example 1").await;
    browser.press("When?").await;
    tab_to_field(&browser, "Answer of example 1").await;
    browser.press("At 22:10.").await;
    tab_to_field(&browser, "Temperature").await;
    browser.press("3").await;
    browser.see("must be a number from 0 to 2").await;
    retype(&browser, "0.3").await;
    browser.see_gone("must be a number").await;
    tab_to_field(&browser, "Try it on a question").await;
    browser.press("When is the last boat?").await;
    press_button(&browser, "Try it").await;
    browser.see("With this draft").await;
    browser.see("The route's preset added instructions (20 characters), 1 example and temperature 0.3").await;
    browser.see("As it is now").await;
    assert!(!file(&ferry).await.contains("preset"), "nothing is applied");
    press_button(&browser, "Apply").await;
    browser.see("is in force.").await;
    let text = file(&ferry).await;
    assert!(text.contains("variables = { pier = \"Pier 2\" }") && text.contains("temperature = \"0.3\""), "{text}");
    let answer = ferry.ask(&question("harbour", false)).await;
    open(&browser, &ferry, &format!("/requests/{}", header(&answer, "wendor-request-id"))).await;
    browser.see("What the route added").await;
    open(&browser, &ferry, "/routes/harbour").await;
    browser.see("Answer for {{pier}}.").await;
}

#[tokio::test]
async fn a_rate_of_next_month_is_entered() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/upstreams/quarry/edit").await;
    tab_to(&browser, "[aria-label='Add a rate of fulmar-large']").await;
    browser.press(Key::Enter).await;
    tab_to(&browser, "[aria-label='First day of a rate of fulmar-large']").await;
    retype(&browser, "2999-01-01").await;
    tab_to(&browser, "[aria-label='output of fulmar-large from then on']").await;
    retype(&browser, "12.5").await;
    browser.see("rate of quarry/fulmar-large from 2999-01-01 comes").await;
    press_button(&browser, "Apply").await;
    browser.see("is in force.").await;
    assert!(file(&ferry).await.contains("from = 2999-01-01"), "{}", file(&ferry).await);
}

#[tokio::test]
async fn a_team_is_renamed_and_its_old_figures_are_found() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/teams/timetables/edit").await;
    tab_to_field(&browser, "Name").await;
    retype(&browser, "boards").await;
    browser.see("team boards changes").await;
    press_button(&browser, "Apply").await;
    assert!(browser.wait_for("location.pathname === '/console/teams/boards/edit'").await);
    open(&browser, &ferry, "/usage?range=24h&by=team").await;
    browser.see("boards").await;
    assert!(!browser.text().await.contains("timetables"));
}

#[tokio::test]
async fn a_route_is_retired_and_who_still_calls_it_is_seen() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/routes/night-sailings/edit").await;
    tab_to_field(&browser, "Retires on").await;
    browser.press("soon").await;
    browser.see("must be a day such as 2026-11-01").await;
    retype(&browser, "2999-01-01").await;
    browser.see("retires_on").await;
    press_button(&browser, "Apply").await;
    browser.see("is in force.").await;
    open(&browser, &ferry, "/routes/night-sailings").await;
    browser.see("It retires on 2999-01-01.").await;
    browser.see("Who asks for it").await;
    assert!(browser.wait_for("[...document.querySelectorAll('tr')].some(line => line.textContent.includes('timetables') && line.textContent.includes('night-sailings'))").await);
}

#[tokio::test]
async fn two_people_at_once_are_told_where_they_touch() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/routes/night-sailings/edit").await;
    tab_to_field(&browser, "What it is for").await;
    browser.press("boats").await;
    browser.see("purpose").await;
    assert_eq!(ferry.wendor(&["route", "edit", "night-sailings", "--purpose", "sails"]).await.status, 0);
    assert_eq!(ferry.wendor(&["route", "edit", "night-sailings", "--owner", "duty desk"]).await.status, 0);
    press_button(&browser, "Apply").await;
    browser.see("somebody else changed the same").await;
    browser.see("is `sails` now").await;
    press_button(&browser, "Begin anew from what is in force").await;
    let text = file(&ferry).await;
    assert!(text.contains("sails") && text.contains("duty desk"));
}

#[tokio::test]
async fn who_uses_a_route_is_told_before_it_is_removed() {
    let ferry = Ferry::begin().await;
    ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
    ferry.drained().await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/routes/night-sailings/edit").await;
    press_button(&browser, "Remove").await;
    browser.see("timetables 1").await;
    browser.see("route night-sailings goes").await;
    press_button(&browser, "Remove it").await;
    assert!(browser.wait_for("location.pathname === '/console/routes'").await);
    assert!(!file(&ferry).await.contains("[routes.night-sailings]"));
}
