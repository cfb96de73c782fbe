//! The main journeys: the first sign-in, from a team's cost to one request, a fall-over, a key from issue to revocation.

use serde_json::json;
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;

use super::{open, signed_in, with_past};

#[tokio::test]
async fn the_first_sign_in_works_once_and_signing_out_ends_the_session() {
    let ferry = Ferry::begin().await;
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let browser = Browser::begin().await;
    browser.open(&format!("{}/", ferry.service.url)).await;
    browser.see("Sign in to Wendor").await;
    browser.fill("One-time sign-in", "wdt-aaaaaaaa-typo").await;
    browser.click("Sign in").await;
    browser.see("this one-time sign-in is mistyped or cut; copy it again in full").await;
    browser.fill("One-time sign-in", &one_time).await;
    browser.click("Sign in").await;
    browser.see("Yesterday by team").await;
    browser.see("lookout, operator").await;
    assert_eq!(browser.address().await, "/console/");
    // A script of the page cannot read the session; the browser sends it by itself.
    assert_eq!(browser.script("return document.cookie").await, json!(""));
    browser.click("Sign out").await;
    browser.see("Sign in to Wendor").await;
    open(&browser, &ferry, "/teams").await;
    browser.see("Sign in to Wendor").await;
    browser.fill("One-time sign-in", &one_time).await;
    browser.click("Sign in").await;
    browser.see("was used or has expired").await;
    // With a password, and back to where they wanted to.
    let again = ferry.sign_in("helm", "operator", None).await;
    let set =
        ferry.http.post(ferry.manage("/me/password")).bearer_auth(&again).json(&json!({ "password": "twelve knots!" }));
    assert_eq!(set.send().await.unwrap().status(), 204);
    browser.click("With name and password").await;
    browser.fill("Name", "helm").await;
    browser.fill("Password", "twelve knots!").await;
    browser.click("Sign in").await;
    browser.see("freight-desk").await;
    assert_eq!(browser.address().await, "/console/teams");
}

#[tokio::test]
async fn a_call_that_changes_something_needs_a_page_of_the_service_behind_its_cookie() {
    let ferry = Ferry::begin().await;
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let begun = ferry.http.post(ferry.manage("/session")).json(&json!({ "one_time": one_time })).send().await.unwrap();
    let cookie = header(&begun, "set-cookie");
    assert!(
        cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict") && cookie.contains("Path=/manage/"),
        "{cookie}"
    );
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let read = ferry.http.get(ferry.manage("/me")).header("cookie", &cookie).send().await.unwrap();
    assert_eq!(read.status(), 200);
    let key = json!({ "team": "timetables", "label": "x" });
    let issue = |site: &'static str| {
        ferry
            .http
            .post(ferry.manage("/keys"))
            .header("cookie", &cookie)
            .header("sec-fetch-site", site)
            .json(&key)
            .send()
    };
    assert_eq!(issue("same-site").await.unwrap().status(), 403);
    assert_eq!(issue("same-origin").await.unwrap().status(), 200);
}

#[tokio::test]
async fn a_teams_cost_is_followed_from_now_to_one_request() {
    let ferry = with_past(30).await;
    let browser = signed_in(&ferry, "operator", None).await;
    // Now: what a team cost yesterday; Usage: the same by route; the list behind it; one request.
    browser.click_on("tbody tr:first-child td.num a").await;
    browser.see("requests cost").await;
    assert!(
        browser.address().await.starts_with("/console/usage?range=yesterday&by=route&team="),
        "{}",
        browser.address().await
    );
    browser.click_on("tbody tr:first-child td.num a").await;
    browser.see("time, UTC").await;
    let listed = browser.address().await;
    assert!(
        listed.contains("team=") && listed.contains("route=night-sailings") && listed.contains("from="),
        "{listed}"
    );
    browser.click_on("tbody tr:first-child td a").await;
    browser.see("What it cost").await;
    browser.see("asked night-sailings at").await;
    browser.see("together, rate of 1 January").await;
    browser.see("Why this offer").await;
    // Back is back, with the same filters.
    browser.script("history.back()").await;
    browser.see("time, UTC").await;
    assert_eq!(browser.address().await, listed);
}

#[tokio::test]
async fn a_fall_over_is_seen_on_the_requests_page() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "operator", None).await;
    browser.see("No request has come yet").await;
    ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", true)).await;
    let id = header(&answer, "wendor-request-id");
    answer.text().await.unwrap();
    ferry.drained().await;
    // It appears by itself: the page is live.
    browser.see("night-sailings timetables").await;
    browser.click_on("tbody td.num:first-child a").await;
    browser.see("the second offer tried").await;
    browser.see(&format!("unreachable: connection refused on {}", ferry.quayside.address())).await;
    browser.see("quarry/fulmar-large").await;
    browser.see("answered").await;
    assert_eq!(browser.address().await, format!("/console/requests/{id}"));
    // From the plan to the upstream, which says why.
    browser.click("quayside/dunlin-70b").await;
    browser.see("quayside failed at its last attempt: unreachable at dunlin-70b").await;
}

#[tokio::test]
async fn a_key_is_issued_used_and_revoked() {
    let ferry = Ferry::begin().await;
    let browser = signed_in(&ferry, "lead", Some("timetables")).await;
    assert!(!browser.text().await.contains("Connect"), "a lead has no use for upstreams");
    open(&browser, &ferry, "/teams/timetables").await;
    browser.click("Issue a key").await;
    browser.fill("What it is for", "departure board").await;
    browser.choose("Routes", "harbour").await;
    browser.click("Issue it").await;
    browser.see("The key, this once").await;
    let key = browser.script("return document.querySelector('pre[aria-label=\"the key\"]').innerText").await;
    let key = key.as_str().unwrap().to_owned();
    let request = browser.script("return document.querySelector('pre[aria-label=\"the request\"]').innerText").await;
    // The first request is one that a shell can run as it stands.
    let ran = tokio::process::Command::new("bash").arg("-c").arg(request.as_str().unwrap()).output().await.unwrap();
    assert!(String::from_utf8_lossy(&ran.stdout).ends_with("data: [DONE]\n\n"), "{ran:?}");
    browser.click("I have it").await;
    browser.see("departure board").await;
    assert!(
        !browser.script("return document.documentElement.outerHTML").await.as_str().unwrap().contains(&key),
        "shown once"
    );
    assert_eq!(ferry.ask_with(&key, &question("harbour", false)).await.status(), 200);
    assert_eq!(ferry.ask_with(&key, &question("night-sailings", false)).await.status(), 404, "for another route");
    browser.click("Revoke").await;
    browser.see("is refused everywhere within a second").await;
    let id = key.split('-').nth(1).unwrap();
    browser.click(&format!("Revoke {id}")).await;
    browser.see("revoked").await;
    until("the key to be refused", || async {
        (ferry.ask_with(&key, &question("harbour", false)).await.status() == 401).then_some(())
    })
    .await;
}
