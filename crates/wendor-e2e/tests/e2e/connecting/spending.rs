//! What a check spends, and to whom a key goes.

use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::waiting::until;
use wendor_standins::manners::Manners;
use wendor_standins::server::{Profile, StandIn};

use super::{bring_in, chartroom};

fn state<'a>(report: &'a Value, step: &str) -> (&'a str, &'a str) {
    let step_line = report["steps"].as_array().unwrap().iter().find(|one| one["step"] == step).unwrap();
    (step_line["state"].as_str().unwrap(), step_line["came_back"].as_str().unwrap())
}

#[tokio::test]
async fn a_hosted_model_is_asked_only_with_consent_and_its_price_is_shown_before() {
    let ferry = Ferry::begin().await;
    let free = ferry.post("/upstreams/check", &json!({ "name": "quarry" })).await;
    assert_eq!(state(&free, "key"), ("well", "accepted"));
    assert_eq!(state(&free, "streamed answer").0, "not asked");
    assert_eq!(ferry.quarry.tally().served, 0);

    let unasked = ferry.wendor(&["upstream", "check", "quarry", "--prove"]).await;
    assert_eq!(unasked.status, 2, "nobody is there to consent: {}", unasked.err);
    assert!(unasked.err.contains("at most") && unasked.err.contains("EUR"), "{}", unasked.err);
    assert_eq!(ferry.quarry.tally().served, 0);

    let cost = ferry.post("/upstreams/proof-cost", &json!({ "name": "quarry" })).await;
    let proven =
        ferry.post("/upstreams/check", &json!({ "name": "quarry", "prove": true, "team": "timetables" })).await;
    assert_eq!(state(&proven, "whole answer").0, "well", "{proven}");
    ferry.drained().await;
    let at = |days: i64| (chrono::Utc::now() + chrono::TimeDelta::days(days)).format("%Y-%m-%dT00:00:00Z").to_string();
    let range = format!("from={}&to={}", at(-1), at(1));
    let spent = ferry.get(&format!("/usage?{range}&by=team&route=upstream-check")).await;
    let total: rust_decimal::Decimal =
        spent["together"]["cost"].as_str().unwrap_or_else(|| panic!("{spent}")).parse().unwrap();
    let most: rust_decimal::Decimal = cost["money"].as_str().unwrap().parse().unwrap();
    assert!(total > rust_decimal::Decimal::ZERO && total <= most, "{total} of {most}");
    assert_eq!(spent["lines"][0]["name"], "timetables", "{spent}");
}

#[tokio::test]
async fn an_offer_without_a_rate_needs_consent_of_its_own() {
    let ferry = Ferry::begin().await;
    let settings = json!({ "address": format!("http://{}", ferry.quayside.address()), "dialect": "chat-completions",
                           "hosting": "hosted", "offers": [{ "model": "dunlin-70b" }] });
    ferry.post("/upstreams", &json!({ "name": "far", "settings": settings })).await;
    let ask = |body: Value| {
        let request = ferry.http.post(ferry.manage("/upstreams/check")).bearer_auth(&ferry.owner).json(&body);
        async { request.send().await.unwrap() }
    };
    let refused = ask(json!({ "name": "far", "prove": true })).await;
    assert_eq!(refused.status(), 400);
    assert!(refused.text().await.unwrap().contains("has no rate"));
    assert_eq!(ferry.quayside.tally().served, 0);
    let asked: Value = ask(json!({ "name": "far", "prove": true, "unpriced": true })).await.json().await.unwrap();
    assert_eq!(state(&asked, "whole answer").0, "well");
}

#[tokio::test]
async fn what_checks_may_take_a_day_is_bounded() {
    let settings = vec![("WENDOR_CHECK_TOKENS", "5000".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let first = ferry.post("/upstreams/check", &json!({ "name": "quayside" })).await;
    assert_eq!(state(&first, "streamed answer").0, "well", "{first}");
    let proven = ferry.post("/upstreams/check", &json!({ "name": "quayside", "prove": true })).await;
    let report_text = proven.to_string();
    assert!(report_text.contains("checks may take 5000 tokens a day"), "{report_text}");
}

#[tokio::test]
async fn a_loaded_model_is_not_pushed_out_unasked() {
    let ferry = Ferry::begin().await;
    let server = chartroom(&["dunlin-7b"]).await;
    server.set_manners(Manners { loaded: Some(vec!["another".into()]), ..Manners::default() });
    bring_in(&ferry, "chartroom", &server, json!([{ "model": "dunlin-7b" }])).await;
    let looked = ferry.post("/upstreams/check", &json!({ "name": "chartroom" })).await;
    assert_eq!(state(&looked, "streamed answer").0, "not asked", "{looked}");
    assert_eq!(server.tally().served, 0);
    let asked = ferry.post("/upstreams/check", &json!({ "name": "chartroom", "prove": true, "unpriced": true })).await;
    assert_eq!(state(&asked, "whole answer").0, "well", "{asked}");
}

/// Every way in which a key may come to cross a network unencrypted leaves a warning in the log.
#[tokio::test]
async fn an_override_for_plain_http_is_logged() {
    let ferry = Ferry::begin().await;
    let warned = || ferry.service.log().matches("may cross a network unencrypted").count();
    assert_eq!(warned(), 0);
    ferry.post("/upstreams/quarry/mend", &json!({ "change": { "setting": "plain-http" } })).await;
    let settings = json!({ "address": "http://pier.tern.example", "dialect": "messages", "plain_http": true,
                           "credential": { "env": "WENDOR_UPSTREAM_QUARRY" } });
    ferry.post("/upstreams", &json!({ "name": "pier", "settings": settings })).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let more = "\n[upstreams.far]\naddress = \"http://far.example\"\nhosting = \"own\"\nplain_http = \"allowed\"\noffers = {}\n";
    ferry.apply(&format!("{text}{more}")).await;
    until("three warnings", || async { (warned() == 3).then_some(()) }).await;
    // Another change of an upstream that has it says nothing again.
    ferry.post("/teams", &json!({ "name": "harbour-ops" })).await;
    assert_eq!(warned(), 3, "{}", ferry.service.log());
}

/// Neither a server that nobody vouches for nor one that leads elsewhere gets to see the key.
#[tokio::test]
async fn a_key_goes_to_a_verified_server_alone() {
    let settings = vec![("WENDOR_UPSTREAM_PIER", "s3cret-of-the-pier".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let profile =
        |name: &str| Profile { credential: Some("s3cret-of-the-pier".into()), ..Profile::quick(name, &["dunlin-7b"]) };
    let pair = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    let tls = rustls::ServerConfig::builder().with_no_client_auth();
    let key = rustls::pki_types::PrivateKeyDer::Pkcs8(pair.signing_key.serialize_der().into());
    let tls = tls.with_single_cert(vec![pair.cert.der().clone()], key).unwrap();
    let unknown = StandIn::start_encrypted(profile("unknown"), tls).await.unwrap();
    let elsewhere = StandIn::start(profile("elsewhere")).await.unwrap();
    let leads_to = Some(format!("http://{}/v1/models", elsewhere.address()));
    let leading = Profile { manners: Manners { leads_to, ..Manners::default() }, ..profile("leading") };
    let leading = StandIn::start(leading).await.unwrap();
    for (address, finding) in [
        (format!("https://localhost:{}", unknown.address().port()), "self-signed"),
        (format!("http://{}", leading.address()), "moved"),
    ] {
        let draft = json!({ "address": address, "dialect": "chat-completions", "credential": { "env": "WENDOR_UPSTREAM_PIER" } });
        let report = ferry.post("/upstreams/check", &json!({ "draft": draft, "prove": true, "unpriced": true })).await;
        assert!(report.to_string().contains(&format!("\"{finding}\"")), "{report}");
    }
    let heard = |server: &StandIn| format!("{:?} {:?}", server.last_seen(), server.last_look());
    assert!(!heard(&unknown).contains("s3cret") && !heard(&leading).contains("s3cret"));
    assert!(elsewhere.last_look().is_none(), "no redirection is followed");
}

/// A server that keeps to no limit is not read on past it, and nothing more is asked of it: what it made, as it counts itself, stays within what
/// two questions may take.
#[tokio::test]
async fn a_server_that_ignores_the_limit_costs_no_more_than_was_shown() {
    let mut quayside = Profile { tokens_per_second: 400, ..Profile::quick("quayside", &["dunlin-70b"]) };
    quayside.answer_tokens = (4_000, 4_000);
    quayside.manners.ignores_limit = Some("any".to_owned());
    let ferry = Ferry::with(Wishes { quayside: Some(quayside), output_cap: Some(2_000), ..Wishes::default() }).await;
    let checked = ferry.post("/upstreams/check", &json!({ "name": "quayside" })).await;
    let (noted, told) = state(&checked, "streamed answer");
    assert_eq!((noted, told), ("noted", "past its limit of 192 tokens, reading stopped"), "{checked}");
    let (asked, why) = state(&checked, "whole answer");
    assert!(asked == "not asked" && why.contains("does not keep to the limit"), "{checked}");
    let made = until("both were left", || async {
        let served = ferry.quayside.served();
        (served.len() == 2).then(|| served.iter().map(|one| one.output_tokens).sum::<u64>())
    });
    let made = made.await;
    assert!(made <= 2 * 256, "{made} tokens were made, and 512 shown");
}
