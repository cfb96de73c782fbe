//! A database for one test in the shared test server, and a server of one's own for tests that stop it. For tests alone.

use std::path::PathBuf;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};

use sqlx::{Connection, PgConnection, Postgres, QueryBuilder};

/// Where the shared server is told; `scripts/test` starts it.
const VARIABLE: &str = "WENDOR_TEST_DATABASE_URL";

/// The role that serves.
const SERVICE: &str = "wendor_test_service";

/// Makes it, whoever comes first.
const MAKE_SERVICE: &str = "do $$ begin create role wendor_test_service login;
    exception when duplicate_object or unique_violation then null; end $$";

static COUNT: AtomicU32 = AtomicU32::new(0);

/// A database that is dropped with this.
#[derive(Debug)]
pub struct Database {
    /// Its address, as who owns it.
    pub url: String,
    /// Its address, as who serves.
    pub service_url: String,
    admin_url: String,
    name: String,
}

/// Runs `statement` with the database's name behind it: a name cannot be bound.
async fn run(admin_url: &str, statement: &'static str, name: &str) -> Result<(), sqlx::Error> {
    let mut connection = PgConnection::connect(admin_url).await?;
    QueryBuilder::<Postgres>::new(statement).push(name).build().execute(&mut connection).await?;
    connection.close().await
}

impl Database {
    /// A fresh one in the shared server.
    ///
    /// # Panics
    /// When the server is not there.
    pub async fn fresh() -> Self {
        let admin_url = std::env::var(VARIABLE).unwrap_or_else(|_| {
            panic!("{VARIABLE} is not set: run the tests with scripts/test, which starts a PostgreSQL")
        });
        Self::fresh_in(&admin_url).await
    }

    /// A fresh one in the server of `admin_url`.
    ///
    /// # Panics
    /// When the server is not there.
    pub async fn fresh_in(admin_url: &str) -> Self {
        let name = format!("test_{}_{}", std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed));
        run(admin_url, "create database ", &name).await.expect("a database can be made in the test server");
        let base = admin_url.rsplit_once('/').map_or(admin_url, |(base, _)| base);
        let mut connection = PgConnection::connect(admin_url).await.expect("the test server is there");
        sqlx::query(MAKE_SERVICE).execute(&mut connection).await.expect("roles can be made in the test server");
        let host = base.rsplit_once('@').map_or(base, |(_, host)| host);
        // A server of the test's own, whose role it says, is served by that role.
        let is_shared = base.contains("//postgres@");
        let service_url =
            if is_shared { format!("postgres://{SERVICE}@{host}/{name}") } else { format!("{base}/{name}") };
        Self { url: format!("{base}/{name}"), service_url, admin_url: admin_url.to_owned(), name }
    }

    /// A connection to it.
    ///
    /// # Panics
    /// When there is none to be had.
    pub async fn connect(&self) -> PgConnection {
        PgConnection::connect(&self.url).await.expect("the test's database is there")
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        let (admin_url, name) = (self.admin_url.clone(), format!("{} with (force)", self.name));
        // A runtime of its own: the test's may be the one that is going away.
        let dropped = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
            // A server that was stopped by the test takes its databases with it.
            let _gone = runtime.block_on(run(&admin_url, "drop database if exists ", &name));
            Ok::<(), std::io::Error>(())
        });
        drop(dropped.join());
    }
}

/// A PostgreSQL of one's own.
#[derive(Debug)]
pub struct PrivatePostgres {
    folder: tempfile::TempDir,
    port: u16,
}

impl PrivatePostgres {
    /// Starts one on a free port.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn start() -> Self {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().expect("there is room for a folder");
        // The server runs as another user when the tests run as root.
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o711)).expect("it is ours");
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .and_then(|free| free.local_addr())
            .expect("a port is free")
            .port();
        let server = Self { folder, port };
        server.resume();
        server
    }

    fn script(&self, action: &str) {
        let script = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../scripts/postgres");
        let done = Command::new(script)
            .arg(action)
            .arg(self.folder.path().join("postgres"))
            .arg(self.port.to_string())
            .output();
        let done = done.expect("scripts/postgres can be run");
        assert!(done.status.success(), "scripts/postgres {action}: {}", String::from_utf8_lossy(&done.stderr));
    }

    /// Starts it again.
    pub fn resume(&self) {
        self.script("start");
    }

    /// Stops it; its data stays.
    pub fn stop(&self) {
        self.script("stop");
    }

    /// From now on `role` needs its password. Everyone else is trusted as before.
    ///
    /// # Panics
    /// When its settings cannot be written.
    pub fn demand_password(&self, role: &str) {
        let path = self.folder.path().join("postgres/data/pg_hba.conf");
        let rules = std::fs::read_to_string(&path).expect("the server has its rules");
        std::fs::write(&path, format!("host all {role} 127.0.0.1/32 scram-sha-256\n{rules}"))
            .expect("they can be written");
        self.stop();
        self.resume();
    }

    /// Where databases can be made in it.
    #[must_use]
    pub fn admin_url(&self) -> String {
        format!("postgres://postgres@127.0.0.1:{}/postgres", self.port)
    }
}

impl Drop for PrivatePostgres {
    fn drop(&mut self) {
        self.stop();
    }
}
