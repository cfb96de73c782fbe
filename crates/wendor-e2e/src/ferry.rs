//! A whole installation for one test: two stand-ins, a database, the service, an owner signed in, a catalogue, and keys.
//!
//! `quayside` is our own hardware, `quarry` is hosted and demands a credential. The route `night-sailings` asks quayside first and
//! falls over to quarry; `harbour` asks quayside alone.

use std::collections::BTreeMap;
use std::path::PathBuf;

use chrono::Utc;
use reqwest::{Client, Response};
use serde_json::{Value, json};
use wendor_postgres::Database;
use wendor_standins::history::{self, Past};
use wendor_standins::server::{Profile, StandIn};
use wendor_standins::traffic::Ask;

use crate::service::{Service, Start};
use crate::waiting::until;
use crate::wendor::{Ran, wendor};

/// What quarry demands; the service finds it in this variable.
pub const CREDENTIAL: (&str, &str) = ("WENDOR_UPSTREAM_QUARRY", "s3cret-of-quarry");

/// What differs from the usual installation.
#[derive(Debug, Default)]
pub struct Wishes {
    /// Quotas of the team `timetables`, as they stand in the file.
    pub quotas: String,
    /// Deadlines of quayside's and quarry's events, when not the usual half a second.
    pub patience: Option<&'static str>,
    /// How long it is waited for room at quayside, when not the usual.
    pub room: Option<&'static str>,
    /// Streams that quayside can carry, when not the usual.
    pub streams: Option<u32>,
    /// Quayside's cap on output, when not the usual: what an app is answered at most where it sets no limit.
    pub output_cap: Option<u32>,
    /// Further text of the catalogue.
    pub more: String,
    /// Settings of the service, as variables.
    pub settings: Vec<(&'static str, String)>,
    /// How quayside is, when not the usual.
    pub quayside: Option<Profile>,
    /// The client that asks it, when not the usual.
    pub client: Option<Client>,
    /// A database server, when not the shared one.
    pub database_server: Option<String>,
}

/// An installation.
pub struct Ferry {
    /// Our own hardware.
    pub quayside: StandIn,
    /// Hosted.
    pub quarry: StandIn,
    /// Serves on a port of its own.
    pub service: Service,
    /// Made for this test, dropped after it.
    pub database: Database,
    /// Settings for starting it once more.
    pub start: Start,
    /// A client.
    pub http: Client,
    /// The owner's token.
    pub owner: String,
    /// The key of `timetables`.
    pub key: String,
    folder: tempfile::TempDir,
}

/// The catalogue of a test.
#[must_use]
pub fn catalogue(quayside: &str, quarry: &str, wishes: &Wishes) -> String {
    let (streams, cap) = (wishes.streams.unwrap_or(400), wishes.output_cap.unwrap_or(100));
    let room = wishes.room.map(|room| format!(", room = \"{room}\"")).unwrap_or_default();
    let (event, reply) = wishes.patience.map_or(("500ms", "900ms"), |patience| (patience, patience));
    format!(
        r#"
[upstreams.quayside]
address = "http://{quayside}"
hosting = "own"
streams = {streams}
offers.dunlin-70b = {{ output_cap = {cap}, rates = [{{ from = 2026-01-01, input = 0.6, output = 1.2 }}] }}

[upstreams.quarry]
address = "http://{quarry}/v1/"
hosting = "hosted"
credential = {{ env = "WENDOR_UPSTREAM_QUARRY" }}
offers.fulmar-large = {{ output_cap = 100, rates = [{{ from = 2026-01-01, input = 3, input_cached = 0.3, output = 15 }}] }}

[routes.night-sailings]
stages = [
  {{ offers = ["quayside/dunlin-70b"], first_event = "{event}", reply = "{reply}", between_events = "{event}"{room} }},
  {{ offers = ["quarry/fulmar-large"], between_events = "{event}" }},
]

[routes.harbour]
stages = [{{ offers = ["quayside/dunlin-70b"], first_event = "{event}", reply = "{reply}", between_events = "{event}"{room} }}]

[teams.timetables]
quotas = [{}]

[teams.freight-desk]
routes = ["night-sailings"]
{}"#,
        wishes.quotas, wishes.more
    )
}

impl Ferry {
    /// The usual installation.
    pub async fn begin() -> Self {
        Self::with(Wishes::default()).await
    }

    /// An installation as wished.
    ///
    /// # Panics
    /// When a part of it does not start.
    pub async fn with(wishes: Wishes) -> Self {
        let mut ferry = Self::empty(&wishes).await;
        let (own, hosted) = (ferry.quayside.address().to_string(), ferry.quarry.address().to_string());
        ferry.apply(&catalogue(&own, &hosted, &wishes)).await;
        ferry.key = ferry.issue_key("timetables").await;
        ferry
    }

    /// An installation of which nothing is known but its owner; the two stand-ins run.
    ///
    /// # Panics
    /// When a part of it does not start.
    pub async fn empty(wishes: &Wishes) -> Self {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let quayside = wishes.quayside.clone().unwrap_or_else(|| Profile::quick("quayside", &["dunlin-70b"]));
        let quarry =
            Profile { credential: Some(CREDENTIAL.1.to_owned()), ..Profile::quick("quarry", &["fulmar-large"]) };
        let quayside = StandIn::start(quayside).await.expect("a port is free");
        let quarry = StandIn::start(quarry).await.expect("a port is free");
        let database = match &wishes.database_server {
            Some(server) => Database::fresh_in(server).await,
            None => Database::fresh().await,
        };
        let folder = tempfile::tempdir().expect("there is room for a folder");
        let mut environment = vec![(CREDENTIAL.0.to_owned(), CREDENTIAL.1.to_owned())];
        environment.extend(wishes.settings.iter().map(|(name, value)| ((*name).to_owned(), value.clone())));
        // As in earnest: the role that serves owns nothing.
        environment.push(("WENDOR_MIGRATE_URL".to_owned(), database.url.clone()));
        let spool = folder.path().join("spool");
        let start = Start {
            database_url: database.service_url.clone(),
            spool,
            environment,
            unread_after: None,
            socket: None,
            files: None,
        };
        let service = Service::start(&start).await;
        let usual = || Client::builder().no_proxy().build().expect("there is a client");
        let http = wishes.client.clone().unwrap_or_else(usual);
        let mut ferry =
            Self { quayside, quarry, service, database, start, http, owner: String::new(), key: String::new(), folder };
        ferry.owner = ferry.sign_in("harbour-master", "owner", None).await;
        ferry
    }

    /// A folder of the test's own.
    #[must_use]
    pub fn folder(&self) -> PathBuf {
        self.folder.path().to_owned()
    }

    /// Adds a person on the server and signs them in; their token.
    ///
    /// # Panics
    /// When that fails.
    pub async fn sign_in(&self, name: &str, role: &str, team: Option<&str>) -> String {
        let one_time = self.one_time(name, role, team).await;
        let signed_in = self.http.post(self.manage("/sign-in")).json(&json!({ "one_time": one_time })).send().await;
        let signed_in: Value = signed_in.expect("it answers").json().await.expect("it is JSON");
        signed_in["token"].as_str().unwrap_or_else(|| panic!("{signed_in}")).to_owned()
    }

    /// An address of the management API.
    #[must_use]
    pub fn manage(&self, path: &str) -> String {
        format!("{}/manage/v1{path}", self.service.manage_url)
    }

    /// `GET` of the management API as the owner.
    ///
    /// # Panics
    /// When it does not answer with JSON.
    pub async fn get(&self, path: &str) -> Value {
        let answer = self.http.get(self.manage(path)).bearer_auth(&self.owner).send().await.expect("it answers");
        answer.json().await.expect("it is JSON")
    }

    /// `POST` of the management API as the owner, which has to succeed.
    ///
    /// # Panics
    /// When it does not.
    pub async fn post(&self, path: &str, body: &Value) -> Value {
        let answer =
            self.http.post(self.manage(path)).bearer_auth(&self.owner).json(body).send().await.expect("it answers");
        let status = answer.status();
        let body: Value = answer.json().await.expect("it is JSON");
        assert!(status.is_success(), "{path}: {status} {body}");
        body
    }

    /// Applies a catalogue.
    pub async fn apply(&self, text: &str) {
        let difference = self.post("/catalogue/difference", &json!({ "text": text })).await;
        self.post("/catalogue", &json!({ "text": text, "base": difference["base"] })).await;
    }

    /// Issues a key of a team. It works at once.
    ///
    /// # Panics
    /// When that fails.
    pub async fn issue_key(&self, team: &str) -> String {
        let issued = self.post("/keys", &json!({ "team": team, "label": "test" })).await;
        issued["key"].as_str().expect("it is shown this once").to_owned()
    }

    /// Asks as an app does, with the key of `timetables`.
    ///
    /// # Panics
    /// When there is no answer at all.
    pub async fn ask(&self, body: &Value) -> Response {
        self.ask_with(&self.key, body).await
    }

    /// Asks as an app does.
    ///
    /// # Panics
    /// When there is no answer at all.
    pub async fn ask_with(&self, key: &str, body: &Value) -> Response {
        let request = self.http.post(format!("{}/v1/chat/completions", self.service.url)).bearer_auth(key).json(body);
        request.send().await.expect("it answers")
    }

    /// What the management API knows of a request once it is settled.
    pub async fn request(&self, id: &str) -> Value {
        until("the request to be settled", || async {
            let shown = self.get(&format!("/requests/{id}")).await;
            (shown["summary"].is_string()).then_some(shown)
        })
        .await
    }

    /// Waits until the database has every entry.
    pub async fn drained(&self) {
        until("the spool to drain", || async { (self.get("/spool").await["pending"] == 0).then_some(()) }).await;
    }

    /// Runs the client as the owner.
    pub async fn wendor(&self, args: &[&str]) -> Ran {
        self.wendor_in(args, &[]).await
    }

    /// The same with further variables.
    pub async fn wendor_in(&self, args: &[&str], further: &[(&str, &str)]) -> Ran {
        let own = [
            ("WENDOR_URL", self.service.url.as_str()),
            ("WENDOR_TOKEN", self.owner.as_str()),
            ("WENDOR_KEY", self.key.as_str()),
        ];
        wendor(args, &[&own, further].concat(), "").await
    }

    /// Gives the installation a made-up past of so many days up to now: what `asks` say, with a key of each team.
    ///
    /// # Panics
    /// When the catalogue has no such team or route.
    pub async fn remember(&mut self, catalogue: &str, asks: &[Ask], days: u32) {
        let file = wendor_core::catalog::file::read(catalogue).expect("the catalogue is good");
        let mut keys = BTreeMap::new();
        for ask in asks.iter().filter(|ask| ask.a_day > 0) {
            let issued = self.post("/keys", &json!({ "team": ask.team, "label": "past" })).await;
            keys.insert(ask.team.clone(), issued["id"].as_str().expect("a key has an id").to_owned());
        }
        let past = Past { file: &file, asks, keys: &keys, days, seed: 7, until: Utc::now() };
        let entries = history::make(&past).expect("teams and routes are in the catalogue");
        self.service.terminate();
        self.service.ended().await;
        history::write(&self.start.spool, &entries).expect("the spool can be written");
        self.restart().await;
        self.drained().await;
    }

    /// The catalogue of this installation, when it was begun with these wishes.
    #[must_use]
    pub fn catalogue(&self, wishes: &Wishes) -> String {
        catalogue(&self.quayside.address().to_string(), &self.quarry.address().to_string(), wishes)
    }

    /// A one-time sign-in of a new person.
    ///
    /// # Panics
    /// When they cannot be added.
    pub async fn one_time(&self, name: &str, role: &str, team: Option<&str>) -> String {
        let mut args = vec!["person", "add", name, "--role", role];
        args.extend(team.iter().flat_map(|team| ["--team", team]));
        let added = wendor(&args, &[("WENDOR_DATABASE_URL", &self.database.url)], "").await;
        assert_eq!(added.status, 0, "{}", added.err);
        added.out.trim().to_owned()
    }

    /// Starts the service again on the same database and spool, after it has ended.
    pub async fn restart(&mut self) {
        self.service = Service::start(&self.start).await;
    }
}

/// A question to a route.
#[must_use]
pub fn question(route: &str, streamed: bool) -> Value {
    json!({ "model": route, "stream": streamed, "messages": [{ "role": "user", "content": "When is the last ferry?" }] })
}

/// A header of an answer.
#[must_use]
pub fn header(answer: &Response, name: &str) -> String {
    answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
}
