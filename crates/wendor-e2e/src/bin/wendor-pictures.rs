//! Takes pictures of the console's pages from a running service: `wendor-pictures URL ONE-TIME-SIGN-IN FOLDER NAME=PATH[@dark|@phone] ...`.
//! A wish without a name, `+WORDS`, presses the button with these words before the next picture, `+FIELD:=TEXT` types into a field; the
//! next wish then has no path: `NAME=`; `?WORDS` waits until the page shows them.

use std::path::Path;

use wendor_e2e::browser::Browser;

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let mut arguments = std::env::args().skip(1);
    let mut next = |what: &str| arguments.next().ok_or_else(|| anyhow::anyhow!("{what} is missing"));
    let (url, sign_in, folder) = (next("the address")?, next("the one-time sign-in")?, next("the folder")?);
    let browser = Browser::begin().await;
    browser.open(&format!("{url}/console/")).await;
    browser.see("Sign in to Wendor").await;
    if sign_in != "none" {
        browser.fill("One-time sign-in", &sign_in).await;
        browser.click("Sign in").await;
        browser.see("Needs attention").await;
    }
    for wish in arguments {
        if let Some(action) = wish.strip_prefix('+') {
            match action.split_once(":=") {
                Some((field, text)) => browser.fill(field, text).await,
                None => browser.click(action).await,
            }
            continue;
        }
        if let Some(words) = wish.strip_prefix('?') {
            browser.see(words).await;
            continue;
        }
        let (name, place) = wish.split_once('=').ok_or_else(|| anyhow::anyhow!("{wish} is not NAME=PATH"))?;
        let (path, looks) = place.split_once('@').unwrap_or((place, "light"));
        let theme = if looks == "dark" { "dark" } else { "light" };
        if !path.is_empty() {
            browser.resize(if looks == "phone" { 420 } else { 1280 }).await;
            browser.script(&format!("localStorage.setItem('wendor-theme', '{theme}')")).await;
            browser.open(&format!("{url}/console{path}")).await;
        }
        // Everything has been asked and has come once nothing waits.
        browser.wait_for("document.querySelector('h1') && !document.querySelector('[data-state=waiting], [aria-busy=true]') && document.fonts.status === 'loaded'").await;
        browser.picture(&Path::new(&folder).join(format!("{name}.png"))).await;
    }
    Ok(())
}
