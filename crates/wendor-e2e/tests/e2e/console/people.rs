//! People in the console: let in, changed, asked whether it is still them, and kept out by codes.

use serde_json::json;
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, Wishes};

use super::open;
use crate::attacks::sign_in::{code_of, codes_are_fresh, time_passes, with_secret};

const PASSWORD: &str = "a tide table in winter";

async fn with_password(ferry: &Ferry) -> Browser {
    ferry
        .http
        .post(ferry.manage("/me/password"))
        .bearer_auth(&ferry.owner)
        .json(&json!({ "password": PASSWORD }))
        .send()
        .await
        .unwrap();
    let browser = Browser::begin().await;
    sign_in(&browser, ferry).await;
    browser.see("Needs attention").await;
    browser
}

async fn sign_in(browser: &Browser, ferry: &Ferry) {
    open(browser, ferry, "/sign-in").await;
    browser.click("With name and password").await;
    browser.fill("Name", "harbour-master").await;
    browser.fill("Password", PASSWORD).await;
    browser.click("Sign in").await;
}

#[tokio::test]
async fn an_owner_is_asked_whether_it_is_still_them_and_goes_on_where_they_were() {
    let ferry = Ferry::with(Wishes::default()).await;
    let browser = with_password(&ferry).await;
    time_passes(&ferry).await;
    open(&browser, &ferry, "/people").await;
    browser.see("one is an owner, harbour-master").await;
    browser.click("Add a person").await;
    browser.fill("Name", "lookout").await;
    browser.click("Add them").await;
    browser.see("Confirm that it is you").await;
    browser.fill("Your password", "a guess of a thief").await;
    browser.click("Confirm").await;
    browser.see("this is not your password").await;
    browser.fill("Your password", PASSWORD).await;
    browser.click("Confirm").await;
    browser.see("Their sign-in, this once").await;
    browser.see("Give it to lookout").await;
    browser.click("I have it").await;
    browser.see("a one-time sign-in, not used yet").await;
    browser.click_on("[aria-label='Change lookout']").await;
    browser.click("Disable lookout").await;
    browser.see("disabled").await;
    open(&browser, &ferry, "/audit").await;
    browser.see("signed in again").await;
    browser.see("changed a person").await;
    browser.click("Verify").await;
    browser.see("hash chain intact").await;
}

/// Leaving the question leaves everything as it was.
#[tokio::test]
async fn who_does_not_answer_changes_nothing() {
    let ferry = Ferry::begin().await;
    let browser = with_password(&ferry).await;
    time_passes(&ferry).await;
    open(&browser, &ferry, "/teams/timetables").await;
    browser.click("Issue a key").await;
    browser.fill("What it is for", "departure board").await;
    browser.click("Issue it").await;
    browser.see("Confirm that it is you").await;
    browser.click_on(".z-20 form button[type=button]").await;
    browser.see_gone("Confirm that it is you").await;
    browser.see("sign in again as yourself").await;
    assert_eq!(ferry.get("/keys?team=timetables").await.as_array().unwrap().len(), 1, "the one of the test");
}

#[tokio::test]
async fn an_authenticator_app_is_set_up_and_asked_for() {
    let ferry = with_secret().await;
    let browser = with_password(&ferry).await;
    open(&browser, &ferry, "/you").await;
    browser.click("Begin").await;
    browser.see("Scan the square").await;
    let secret = browser.script("return document.querySelector('pre[aria-label=\"the secret\"]').textContent").await;
    let secret = secret.as_str().unwrap().trim().to_owned();
    browser.fill("The code that it shows now", &code_of(&secret)).await;
    browser.click("Set it up").await;
    browser.see("each of these works once").await;
    browser.click("Sign out").await;
    browser.see("Sign in to Wendor").await;
    codes_are_fresh(&ferry).await;
    sign_in(&browser, &ferry).await;
    browser.see("your authenticator app shows now").await;
    browser.fill("Code", "000000").await;
    browser.click("Sign in").await;
    browser.see("not the current one of your app").await;
    browser.fill("Code", &code_of(&secret)).await;
    browser.click("Sign in").await;
    browser.see("Needs attention").await;
    browser.see("given for you once before you signed in").await;
}

#[tokio::test]
async fn whoever_has_to_have_an_app_is_led_to_it() {
    let ferry = with_secret().await;
    ferry
        .http
        .post(ferry.manage("/sign-in-rule"))
        .bearer_auth(&ferry.owner)
        .json(&json!({ "codes_required": ["operator"] }))
        .send()
        .await
        .unwrap();
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let browser = Browser::begin().await;
    open(&browser, &ferry, "/sign-in").await;
    browser.fill("One-time sign-in", &one_time).await;
    browser.click("Sign in").await;
    browser.see("set yours up, and everything else opens").await;
}
