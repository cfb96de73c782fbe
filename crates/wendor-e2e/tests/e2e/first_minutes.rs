//! Ten mistakes of the first minutes: each is named with its value and a remedy, and the remedy helps when it is followed to the letter.

use std::time::Duration;

use wendor_e2e::ferry::Ferry;
use wendor_e2e::wendor::{Ran, wendor};

/// A service as somebody sets it up beside another one, on the test's own PostgreSQL.
struct Setup {
    ferry: Ferry,
    /// `postgres://user@host:port`.
    server: String,
    database: String,
}

impl Setup {
    async fn begin() -> Self {
        let ferry = Ferry::begin().await;
        let (server, database) = ferry.database.url.rsplit_once('/').expect("a URL has a path");
        let (server, database) = (server.to_owned(), database.to_owned());
        Self { ferry, server, database }
    }

    /// Where PostgreSQL listens.
    fn place(&self) -> &str {
        self.server.rsplit_once('@').map_or(&self.server, |(_, place)| place)
    }

    fn good(&self) -> String {
        format!("{}/{}", self.server, self.database)
    }

    /// `wendor serve --check` with a database and further settings.
    async fn check(&self, url: &str, more: &[(&str, &str)]) -> Ran {
        let spool = self.ferry.folder().join("another-spool").display().to_string();
        let own = [("WENDOR_DATABASE_URL", url), ("WENDOR_SPOOL", spool.as_str()), ("WENDOR_LISTEN", "127.0.0.1:0")];
        wendor(&["serve", "--check"], &[&own[..], more].concat(), "").await
    }

    /// The client, where it points and as whom.
    async fn client(&self, args: &[&str], url: &str, token: &str) -> Ran {
        let home = self.ferry.folder().display().to_string();
        let environment = [("WENDOR_URL", url), ("WENDOR_TOKEN", token), ("HOME", home.as_str())];
        let set = environment.iter().filter(|(_, value)| !value.is_empty()).copied().collect::<Vec<_>>();
        wendor(args, &set, "").await
    }
}

#[track_caller]
fn names(ran: &Ran, status: i32, words: &[&str]) {
    assert_eq!(ran.status, status, "{}", ran.err);
    for words in words {
        assert!(ran.err.contains(words), "{words:?} is not in: {}", ran.err);
    }
    assert!(!ran.err.contains(" at line "), "{}", ran.err);
}

#[track_caller]
fn helps(ran: &Ran) {
    assert_eq!(ran.status, 0, "{}", ran.err);
}

/// What comes to that port goes on to `to`, as a PostgreSQL that was started there, and takes so long for each connection.
async fn starts_there(port: u16, to: &str, late: Duration) -> tokio::task::JoinHandle<()> {
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await.expect("the port is free");
    let to = to.to_owned();
    tokio::spawn(async move {
        while let Ok((mut from, _)) = listener.accept().await {
            let mut onward = tokio::net::TcpStream::connect(&to).await.expect("the test's server is there");
            tokio::spawn(async move {
                tokio::time::sleep(late).await;
                drop(tokio::io::copy_bidirectional(&mut from, &mut onward).await);
            });
        }
    })
}

#[tokio::test]
async fn a_database_that_does_not_listen() {
    let setup = Setup::begin().await;
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let url = format!("postgres://postgres@127.0.0.1:{port}/{}", setup.database);
    names(&setup.check(&url, &[]).await, 7, &["refused", &format!("127.0.0.1:{port}; start PostgreSQL there")]);
    let forwarding = starts_there(port, setup.place(), Duration::ZERO).await;
    helps(&setup.check(&url, &[]).await);
    forwarding.abort();
}

/// Whoever adds the first owner on a machine that is busy waits for longer than a request would.
#[tokio::test]
async fn a_database_that_takes_its_time() {
    let setup = Setup::begin().await;
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let forwarding = starts_there(port, setup.place(), Duration::from_millis(3_200)).await;
    let url = format!("postgres://postgres@127.0.0.1:{port}/{}", setup.database);
    helps(&wendor(&["person", "add", "duty-desk", "--role", "operator"], &[("WENDOR_DATABASE_URL", &url)], "").await);
    forwarding.abort();
}

#[tokio::test]
async fn a_database_that_was_never_made() {
    let setup = Setup::begin().await;
    let url = format!("{}/first_minutes", setup.server);
    let mut database = setup.ferry.database.connect().await;
    sqlx::query("drop database if exists first_minutes with (force)").execute(&mut database).await.unwrap();
    let words = "The server has no database `first_minutes`: create it (`createdb first_minutes`)";
    names(&setup.check(&url, &[]).await, 7, &[words]);
    sqlx::query("create database first_minutes").execute(&mut database).await.unwrap();
    helps(&setup.check(&url, &[]).await);
    sqlx::query("drop database first_minutes with (force)").execute(&mut database).await.unwrap();
}

#[tokio::test]
async fn a_role_that_is_not_let_in() {
    let setup = Setup::begin().await;
    let url = format!("postgres://stranger@{}/{}", setup.place(), setup.database);
    let words = ["does not let role `stranger` in", "correct role and password in WENDOR_DATABASE_URL"];
    names(&setup.check(&url, &[]).await, 7, &words);
    helps(&setup.check(&setup.good(), &[]).await);
}

#[tokio::test]
async fn an_address_of_another_database() {
    let setup = Setup::begin().await;
    names(&setup.check("mysql://somewhere", &[]).await, 2, &["write postgres://user@host:port/database"]);
    helps(&setup.check(&format!("postgres://postgres@{}/{}", setup.place(), setup.database), &[]).await);
}

#[tokio::test]
async fn no_database_at_all() {
    let setup = Setup::begin().await;
    let unset = wendor(&["serve", "--check"], &[], "").await;
    names(&unset, 2, &["database_url (default): is not set", "WENDOR_DATABASE_URL"]);
    helps(&setup.check(&setup.good(), &[]).await);
}

#[tokio::test]
async fn a_secret_that_is_too_short() {
    let setup = Setup::begin().await;
    let short = setup.check(&setup.good(), &[("WENDOR_SECRET", "short")]).await;
    names(&short, 2, &["use 32 characters or more"]);
    helps(&setup.check(&setup.good(), &[("WENDOR_SECRET", &"s".repeat(32))]).await);
}

#[tokio::test]
async fn a_port_that_is_taken() {
    let setup = Setup::begin().await;
    let holder = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let taken = holder.local_addr().unwrap().to_string();
    let ran = setup.check(&setup.good(), &[("WENDOR_LISTEN", &taken)]).await;
    names(&ran, 1, &[&taken, "Choose another address with --listen"]);
    helps(&setup.check(&setup.good(), &[("WENDOR_LISTEN", "127.0.0.1:0")]).await);
    let own = setup.ferry.service.url.trim_start_matches("http://").to_owned();
    helps(&setup.check(&setup.good(), &[("WENDOR_LISTEN", &own)]).await);
}

#[tokio::test]
async fn an_address_without_a_scheme() {
    let setup = Setup::begin().await;
    let place = setup.ferry.service.url.trim_start_matches("http://").to_owned();
    let ran = setup.client(&["now"], &place, &setup.ferry.owner).await;
    names(&ran, 2, &[&format!("write http://{place}")]);
    helps(&setup.client(&["now"], &format!("http://{place}"), &setup.ferry.owner).await);
}

#[tokio::test]
async fn nobody_is_signed_in() {
    let setup = Setup::begin().await;
    let url = setup.ferry.service.url.as_str();
    names(&setup.client(&["now"], url, "").await, 3, &["wendor sign-in"]);
    let one_time = setup.ferry.one_time("lookout", "operator", None).await;
    let home = setup.ferry.folder().display().to_string();
    let environment = [("WENDOR_URL", url), ("HOME", home.as_str())];
    helps(&wendor(&["sign-in"], &environment, &one_time).await);
    helps(&wendor(&["now"], &environment, "").await);
}

#[tokio::test]
async fn a_sign_in_that_was_cut() {
    let setup = Setup::begin().await;
    let url = setup.ferry.service.url.as_str();
    let one_time = setup.ferry.one_time("lookout", "operator", None).await;
    let home = setup.ferry.folder().display().to_string();
    let environment = [("WENDOR_URL", url), ("HOME", home.as_str())];
    let cut = wendor(&["sign-in"], &environment, &one_time[..one_time.len() - 4]).await;
    names(&cut, 3, &["mistyped or cut"]);
    helps(&wendor(&["sign-in"], &environment, &one_time).await);
    // What was shown once does not work twice, and says how to get another.
    names(&wendor(&["sign-in"], &environment, &one_time).await, 3, &["wendor person sign-in"]);
}
