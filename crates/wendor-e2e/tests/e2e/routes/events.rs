//! Events: what happens by itself is kept once and told to webhooks, signed, at least once, and a webhook can be tried.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::{Profile, Seen, StandIn};

const SECRET: &str = "a-lantern-for-every-landing";

/// An installation whose webhook is told of these kinds.
async fn watched(kinds: &str, wishes: Wishes) -> (Ferry, StandIn) {
    let mut profile = Profile::quick("signal-station", &[]);
    profile.manners.takes_events = true;
    let station = StandIn::start(profile).await.unwrap();
    let hook = format!(
        "\n[webhooks.on-call]\naddress = \"http://{}/events\"\nsecret = {{ env = \"WENDOR_WEBHOOK_ON_CALL\" }}\n{kinds}\n",
        station.address()
    );
    let mut settings = wishes.settings;
    settings.push(("WENDOR_WEBHOOK_ON_CALL", SECRET.to_owned()));
    settings.push(("WENDOR_LOOK_EVERY", "300ms".to_owned()));
    let ferry = Ferry::with(Wishes { settings, more: format!("{}{hook}", wishes.more), ..wishes }).await;
    (ferry, station)
}

fn header<'s>(seen: &'s Seen, name: &str) -> &'s str {
    seen.headers.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value)
}

/// Checks the signature as docs/operating.md says that receivers do, and gives the message.
fn verified(seen: &Seen) -> Value {
    let digest = format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(&seen.body)));
    assert_eq!(header(seen, "content-digest"), digest);
    let params = header(seen, "signature-input").strip_prefix("wendor=").unwrap();
    let delivery = header(seen, "wendor-delivery");
    let base =
        format!("\"content-digest\": {digest}\n\"wendor-delivery\": {delivery}\n\"@signature-params\": {params}");
    let mut mac = Hmac::<Sha256>::new_from_slice(SECRET.as_bytes()).unwrap();
    mac.update(base.as_bytes());
    let signature = STANDARD.encode(mac.finalize().into_bytes());
    assert_eq!(header(seen, "signature"), format!("wendor=:{signature}:"));
    serde_json::from_slice(&seen.body).unwrap()
}

async fn told(station: &StandIn, what: &str, is_it: impl Fn(&Value) -> bool) -> Value {
    until(what, || async { station.events().iter().map(verified).find(|message| is_it(message)) }).await
}

#[tokio::test]
async fn an_upstream_that_rests_and_comes_back_is_told() {
    let (ferry, station) = watched("events = [\"health\"]", Wishes::default()).await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    for _ in 0..4 {
        assert_eq!(ferry.ask(&question("night-sailings", true)).await.status(), 200);
    }
    let began = told(&station, "it rests", |message| message["state"] == "began").await;
    let offer = json!("quayside/dunlin-70b");
    assert_eq!(
        (&began["kind"], &began["subject"], &began["says"]),
        (&json!("health"), &offer, &json!("rests after failures"))
    );
    assert!(began["why"].as_str().unwrap().contains("3 failures in a row"), "{began}");
    // A trial that fails is no event of its own.
    let trial = until("a trial has failed", || async {
        ferry.ask(&question("night-sailings", true)).await.text().await.unwrap();
        let upstreams = ferry.get("/upstreams").await;
        let own = upstreams.as_array().unwrap().iter().find(|line| line["name"] == "quayside").unwrap();
        let counted = own["offers"][0]["health"]["changes_counted"].as_u64();
        (counted >= Some(2)).then_some(())
    });
    trial.await;
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    let well = until("it is well again", || async {
        ferry.ask(&question("night-sailings", true)).await.text().await.unwrap();
        station.events().iter().map(verified).find(|message| message["state"] == "ended")
    });
    let well = well.await;
    assert_eq!((&well["subject"], &well["says"]), (&offer, &json!("is well again")));
    let listed = ferry.get("/events?kind=health").await;
    let states: Vec<&Value> = listed["events"].as_array().unwrap().iter().map(|event| &event["state"]).collect();
    assert_eq!(states, ["ended", "began"], "newest first: {listed}");
    let deliveries = ferry.get("/webhooks/on-call/deliveries").await;
    let taken = until("both are on the log", || async {
        let lines = ferry.get("/webhooks/on-call/deliveries").await;
        let lines = lines.as_array().unwrap().clone();
        lines.iter().all(|line| line["state"] == "delivered").then_some(lines)
    });
    assert_eq!(taken.await.len(), 2, "{deliveries}");
    let shown = ferry.wendor(&["event", "list", "--kind", "health"]).await.out;
    assert!(shown.contains("quayside/dunlin-70b rests after failures"), "{shown}");
    let bad = ferry.wendor(&["event", "list", "--kind", "weather"]).await;
    assert_eq!(bad.status, 2, "{}", bad.err);
}

/// A webhook that is away is told later, also when the service ends in between; and what it was told of once is not told twice.
#[tokio::test]
async fn what_cannot_be_delivered_comes_later() {
    let quota = "{ measure = \"requests\", per = \"day\", limit = 10 }".to_owned();
    let (mut ferry, station) =
        watched("events = [\"quota\", \"expiry\"]", Wishes { quotas: quota, ..Wishes::default() }).await;
    station.set_fault(Fault::Status { status: 503, retry_after: None }).await.unwrap();
    for _ in 0..9 {
        assert_eq!(ferry.ask(&question("harbour", true)).await.status(), 200);
    }
    let tried = until("it was tried in vain", || async {
        let lines = ferry.get("/webhooks/on-call/deliveries").await;
        lines.as_array().unwrap().iter().find(|line| line["attempts"] == 1).cloned()
    });
    let tried = tried.await;
    assert_eq!((&tried["state"], &tried["status"]), (&json!("waiting"), &json!(503)), "{tried}");
    assert_eq!(tried["failed"], "it answered 503");
    let listed = ferry.wendor(&["webhook", "list"]).await.out;
    assert!(listed.contains("it answered 503; next try in"), "{listed}");
    ferry.service.kill();
    ferry.restart().await;
    station.set_fault(Fault::None).await.unwrap();
    let message = told(&station, "it is told later", |message| message["kind"] == "quota").await;
    assert_eq!(message["subject"], "timetables");
    assert!(message["says"].as_str().unwrap().starts_with("has used 90% of today's 10 requests"), "{message}");
    let soon = (chrono::Utc::now() + chrono::TimeDelta::days(2)).to_rfc3339();
    ferry.post("/keys", &json!({ "team": "timetables", "label": "nightly", "expires_at": soon })).await;
    let expires = told(&station, "a key expires", |message| message["kind"] == "expiry").await;
    assert!(
        expires["says"].as_str().unwrap().starts_with("has a key that expires in 47 hours: nightly ("),
        "{expires}"
    );
    let events = ferry.get("/events").await;
    assert_eq!(events["events"].as_array().unwrap().len(), 2, "each once, before and after: {events}");
    let now = ferry.get("/now").await;
    let says = |line: &Value| line["says"].as_str().unwrap().contains("has a key that expires");
    assert!(now["attention"].as_array().unwrap().iter().any(says), "{now}");
}

#[tokio::test]
async fn a_webhook_can_be_tried() {
    let (ferry, station) = watched("", Wishes::default()).await;
    let tried = ferry.wendor(&["webhook", "try", "on-call"]).await;
    assert_eq!(tried.status, 0, "{}", tried.err);
    assert!(tried.out.contains("on-call accepted delivery") && tried.out.contains("with status 204"), "{}", tried.out);
    let message = station.events().first().map(verified).unwrap();
    assert_eq!((&message["kind"], &message["subject"]), (&json!("test"), &json!("on-call")));
    station.set_fault(Fault::Status { status: 401, retry_after: None }).await.unwrap();
    let refused = ferry.wendor(&["webhook", "try", "on-call"]).await;
    assert_eq!(refused.status, 6);
    assert!(refused.err.contains("to on-call failed: it answered 401"), "{}", refused.err);
    let log = ferry.wendor(&["webhook", "deliveries", "on-call"]).await.out;
    assert!(log.contains("on-call answered 204") && log.contains("it answered 401; next try"), "{log}");
    let unknown = ferry.wendor(&["webhook", "try", "on-cal"]).await;
    assert_eq!(unknown.status, 4);
    assert!(unknown.err.contains("on-call"), "the nearest is named: {}", unknown.err);
}

/// Without its secret nothing goes out, and it is said which is missing.
#[tokio::test]
async fn without_a_secret_nothing_is_sent() {
    let (ferry, station) = watched("", Wishes::default()).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    ferry.apply(&text.replace("WENDOR_WEBHOOK_ON_CALL", "WENDOR_WEBHOOK_OTHER")).await;
    let tried = until("the change is in force", || async {
        let tried = ferry.wendor(&["webhook", "try", "on-call"]).await;
        (tried.status == 6).then_some(tried)
    });
    let tried = tried.await;
    assert!(tried.err.contains("its secret is missing") && tried.err.contains("WENDOR_WEBHOOK_OTHER"), "{}", tried.err);
    assert!(station.events().len() <= 1, "only before");
    let webhooks = ferry.get("/webhooks").await;
    assert!(webhooks[0]["secret"].as_str().unwrap().contains("is not set"), "{webhooks}");
    let lead = ferry.sign_in("deckhand", "lead", Some("timetables")).await;
    for path in ["/events", "/webhooks"] {
        let answer = ferry.http.get(ferry.manage(path)).bearer_auth(&lead).send().await.unwrap();
        assert_eq!(answer.status(), 403, "{path}");
    }
}

/// A change that makes a route fail undoes itself, by the bound that was set with it.
#[tokio::test]
async fn a_change_that_makes_a_route_fail_undoes_itself() {
    let (ferry, station) = watched("events = [\"revision\"]", Wishes::default()).await;
    ferry.quayside.set_fault(Fault::Status { status: 500, retry_after: None }).await.unwrap();
    let before = ferry.get("/revisions/current").await;
    // Without its second stage the route has nobody to fall over to.
    let change = ["route", "stage", "remove", "night-sailings", "2", "--undo-if-failed", "20", "--undo-within", "5m"];
    let ran = ferry.wendor(&change).await;
    assert!(ran.out.contains("undoes itself within 5m if a bound is passed"), "{}{}", ran.out, ran.err);
    let failing = until("the change to be undone", || async {
        ferry.ask(&question("night-sailings", false)).await.text().await.unwrap();
        let current = ferry.get("/revisions/current").await;
        (current["revision"] == json!(before["revision"].as_i64().unwrap() + 2)).then_some(current)
    });
    assert_eq!(failing.await["text"], before["text"]);
    assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    let message = told(&station, "it is told", |_| true).await;
    assert_eq!((&message["kind"], &message["state"]), (&json!("revision"), &json!("happened")));
    assert!(message["says"].as_str().unwrap().contains("undid itself"), "{message}");
    let shown = ferry.wendor(&["now"]).await.out;
    assert!(shown.contains("undid itself") && shown.contains("requests failed, and at most 20% were to"), "{shown}");
    let revisions = ferry.get("/revisions").await;
    assert_eq!(revisions[0]["undid"], json!(before["revision"].as_i64().unwrap() + 1), "{revisions}");
    assert_eq!(revisions[0]["made_by"], "wendor", "{revisions}");
}

/// A change that is well stays; so does one that costs less than its bound.
#[tokio::test]
async fn a_change_within_its_bounds_stays() {
    let ferry = Ferry::begin().await;
    let change =
        ["route", "edit", "night-sailings", "--owner", "duty desk", "--undo-if-failed", "20", "--undo-if-cost", "1000"];
    assert_eq!(ferry.wendor(&change).await.status, 0);
    let revision = ferry.get("/revisions/current").await["revision"].clone();
    for _ in 0..8 {
        assert_eq!(ferry.ask(&question("night-sailings", false)).await.status(), 200);
    }
    ferry.drained().await;
    assert_eq!(ferry.get("/revisions/current").await["revision"], revision);
    assert!(!ferry.get("/revisions").await[0]["guarded_until"].is_null());
    let bad = ferry.wendor(&["route", "edit", "night-sailings", "--owner", "x", "--undo-if-failed", "100"]).await;
    assert!(bad.status == 2 && bad.err.contains("from 0 to 99"), "{}", bad.err);
}
