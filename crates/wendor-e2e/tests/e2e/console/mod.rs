//! The console in a browser: the journeys that people make, with the service, the stand-ins and the database behind it.

mod changing;
mod connect;
mod figures;
mod journeys;
mod keyboard;
mod people;
mod rules;
mod states;

use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::traffic::Ask;

/// Opens the console and signs in.
async fn signed_in(ferry: &Ferry, role: &str, team: Option<&str>) -> Browser {
    let one_time = ferry.one_time("lookout", role, team).await;
    let browser = Browser::begin().await;
    browser.open(&format!("{}/console/", ferry.service.url)).await;
    browser.fill("One-time sign-in", &one_time).await;
    browser.click("Sign in").await;
    browser.see("Needs attention").await;
    browser
}

/// Opens a page of the console.
async fn open(browser: &Browser, ferry: &Ferry, path: &str) {
    browser.open(&format!("{}/console{path}", ferry.service.url)).await;
}

/// An installation with a made-up past: two teams ask night-sailings.
async fn with_past(days: u32) -> Ferry {
    let mut ferry = Ferry::begin().await;
    let ask = |team: &str, a_day: u32, weekend: f64| Ask {
        team: team.to_owned(),
        route: "night-sailings".to_owned(),
        a_day,
        input_tokens: (200, 2_000),
        output_tokens: (20, 200),
        cached: 0.3,
        weekend,
        live: false,
    };
    let catalogue = ferry.catalogue(&Wishes::default());
    ferry.remember(&catalogue, &[ask("timetables", 40, 1.0), ask("freight-desk", 25, 0.2)], days).await;
    ferry
}
