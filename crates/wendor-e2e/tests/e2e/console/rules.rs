//! Rules that hold on every page: no breach of accessibility in either theme, and nothing loaded from outside the service.

use serde_json::Value;
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, header, question};
use wendor_standins::fault::Fault;

use super::{open, with_past};

/// The checker, as npm brought it for the console.
fn checker() -> String {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
    std::fs::read_to_string(path).expect("scripts/console has fetched it")
}

async fn settled(browser: &Browser) {
    let is_settled =
        "document.querySelector('h1') && !document.querySelector('[data-state=waiting], [aria-busy=true]')";
    assert!(browser.wait_for(is_settled).await, "the page settles:\n{}", browser.text().await);
}

async fn must_be_clean(browser: &Browser, checker: &str, what: &str) {
    let breaches = browser.breaches(checker).await;
    assert!(breaches.is_empty(), "{what}:\n{}", breaches.join("\n"));
    let foreign = "return performance.getEntriesByType('resource').map(entry => entry.name).filter(name => !name.startsWith(location.origin))";
    assert_eq!(browser.script(foreign).await, Value::Array(vec![]), "{what} loads something from outside");
}

/// An installation where every page has something to show: a past, a failing upstream, a refusal, a key.
async fn lively() -> (Ferry, Vec<String>) {
    let ferry = with_past(9).await;
    ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
    let mut id = String::new();
    for _ in 0..3 {
        let answer = ferry.ask(&question("night-sailings", true)).await;
        id = header(&answer, "wendor-request-id");
        answer.text().await.unwrap();
    }
    ferry.ask(&question("night-sailing", true)).await.text().await.unwrap();
    ferry.drained().await;
    let pages = [
        "/",
        "/upstreams",
        "/upstreams/quayside",
        "/upstreams/quayside/check",
        "/models",
        "/first-run",
        "/routes",
        "/routes/night-sailings",
        "/routes/night-sailings/edit",
        "/teams/timetables/edit",
        "/upstreams/quarry/edit",
        "/revisions",
        "/teams",
        "/teams/timetables",
        "/requests",
        "/requests?end=cancelled&team=freight-desk",
        "/requests?offer=quayside",
        "/refusals",
        "/usage",
        "/people",
        "/audit",
        "/audit?action=signed-in&range=24h",
        "/you",
        "/usage?range=24h&by=key&show=slow",
        "/no-such-page",
    ];
    let mut pages: Vec<String> = pages.into_iter().map(str::to_owned).collect();
    pages.push(format!("/requests/{id}"));
    (ferry, pages)
}

#[tokio::test]
async fn no_page_breaks_a_rule_in_either_theme() {
    let (ferry, pages) = lively().await;
    let checker = checker();
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let browser = Browser::begin().await;
    for theme in ["light", "dark"] {
        open(&browser, &ferry, "/sign-in").await;
        browser.script(&format!("localStorage.setItem('wendor-theme', '{theme}')")).await;
        open(&browser, &ferry, "/sign-in").await;
        browser.see("Sign in to Wendor").await;
        must_be_clean(&browser, &checker, &format!("sign-in, {theme}")).await;
        if theme == "light" {
            browser.fill("One-time sign-in", &one_time).await;
            browser.click("Sign in").await;
            browser.see("Needs attention").await;
        }
        for page in &pages {
            open(&browser, &ferry, page).await;
            settled(&browser).await;
            let shown = browser.script("return document.documentElement.dataset.theme").await;
            assert_eq!(shown, theme);
            must_be_clean(&browser, &checker, &format!("{page}, {theme}")).await;
        }
        open(&browser, &ferry, "/teams/timetables").await;
        browser.click("Issue a key").await;
        browser.see("What it is for").await;
        must_be_clean(&browser, &checker, &format!("the dialogue, {theme}")).await;
        open(&browser, &ferry, "/").await;
        settled(&browser).await;
        browser.press_with_control('k').await;
        assert!(browser.wait_for("document.querySelector('[role=option]')").await);
        must_be_clean(&browser, &checker, &format!("the palette, {theme}")).await;
    }
}
