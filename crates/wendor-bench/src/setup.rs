//! What is measured: an installation of Wendor with a key, quotas and rates, and the plain proxy, both before one stand-in.

use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};

use anyhow::{Context, anyhow};
use wendor_e2e::ferry::{Ferry, Wishes, catalogue};
use wendor_e2e::waiting::until;
use wendor_standins::server::Profile;

use crate::machine;

/// Which way a request goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// Straight to the stand-in.
    Direct,
    /// Through the plain proxy.
    Plain,
    /// Through Wendor.
    Wendor,
}

impl Way {
    /// How it is called.
    pub fn told(self) -> &'static str {
        match self {
            Self::Direct => "the stand-in itself",
            Self::Plain => "plain proxy",
            Self::Wendor => "Wendor",
        }
    }
}

/// Quotas that are all counted and never reached.
const QUOTAS: &str = r#"
  { measure = "requests", per = "minute", limit = 100000000 },
  { measure = "tokens", per = "day", limit = 100000000000 },
  { measure = "cost", per = "month", limit = 100000000 },
"#;

/// How entries are made durable where nothing else is said: beside the answers, which do not wait for the disk.
pub const BATCH: &str = "batch:10ms";

fn wishes(quayside: Option<Profile>, sync: &str) -> Wishes {
    Wishes {
        quotas: QUOTAS.to_owned(),
        patience: Some("60s"),
        quayside,
        streams: Some(100_000),
        // Longer than any answer here: the plain proxy caps none.
        output_cap: Some(100_000),
        settings: vec![("WENDOR_WORKERS", "1".to_owned()), ("WENDOR_SPOOL_SYNC", sync.to_owned())],
        ..Wishes::default()
    }
}

/// Everything that runs for one measure.
pub struct Setup {
    /// Wendor, its stand-in and its database.
    pub ferry: Ferry,
    plain: PlainProxy,
}

impl Setup {
    /// Starts it all; the stand-in answers as `profile` says.
    pub async fn begin(profile: Profile) -> anyhow::Result<Self> {
        Self::syncing(profile, BATCH).await
    }

    /// The same, with entries made durable as `sync` says.
    pub async fn syncing(profile: Profile, sync: &str) -> anyhow::Result<Self> {
        let ferry = Ferry::with(wishes(Some(profile), sync)).await;
        let server = ferry.quayside.address();
        Self::of(ferry, server, 16_384).await
    }

    /// Both before another server than the stand-in, for very many connections.
    pub async fn before(server: SocketAddr) -> anyhow::Result<Self> {
        let wishes = wishes(None, BATCH);
        let mut ferry = Ferry::empty(&wishes).await;
        ferry.apply(&catalogue(&server.to_string(), &ferry.quarry.address().to_string(), &wishes)).await;
        ferry.key = ferry.issue_key("timetables").await;
        Self::of(ferry, server, 65_536).await
    }

    async fn of(ferry: Ferry, server: SocketAddr, connections: u32) -> anyhow::Result<Self> {
        let plain = PlainProxy::start(server, connections).await?;
        machine::pin_gateway(ferry.service.pid())?;
        machine::pin_gateway(plain.worker()?)?;
        Ok(Self { ferry, plain })
    }

    /// Where requests of a way go.
    pub fn address(&self, way: Way) -> anyhow::Result<SocketAddr> {
        match way {
            Way::Direct => Ok(self.ferry.quayside.address()),
            Way::Plain => Ok(self.plain.address),
            Way::Wendor => Ok(self.ferry.service.url.trim_start_matches("http://").parse()?),
        }
    }

    /// The process that is measured.
    pub fn process(&self, way: Way) -> anyhow::Result<u32> {
        match way {
            Way::Direct => Err(anyhow!("nothing stands between")),
            Way::Plain => self.plain.worker(),
            Way::Wendor => Ok(self.ferry.service.pid()),
        }
    }

    /// What a request says in `model`: a route, or the model itself.
    pub fn model(way: Way) -> &'static str {
        match way {
            Way::Direct | Way::Plain => "dunlin-70b",
            Way::Wendor => "harbour",
        }
    }
}

/// The plain proxy with one worker.
struct PlainProxy {
    process: Child,
    address: SocketAddr,
    _folder: tempfile::TempDir,
}

impl PlainProxy {
    /// It sets memory aside for so many connections.
    async fn start(upstream: SocketAddr, connections: u32) -> anyhow::Result<Self> {
        let folder = tempfile::tempdir()?;
        let address = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?;
        let path = folder.path().display();
        let user = if std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0) {
            "user root;"
        } else {
            ""
        };
        let settings = format!(
            "daemon off; worker_processes 1; {user} pid {path}/pid; error_log {path}/error.log;
             events {{ worker_connections {connections}; }}
             http {{
               access_log off; keepalive_requests 100000000; client_max_body_size 64m;
               client_body_temp_path {path}/body; proxy_temp_path {path}/proxy; fastcgi_temp_path {path}/f; uwsgi_temp_path {path}/u; scgi_temp_path {path}/s;
               upstream standin {{ server {upstream}; keepalive 4096; }}
               server {{
                 listen {address} backlog=4096;
                 location / {{
                   proxy_pass http://standin; proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_buffering off; proxy_read_timeout 300s;
                 }}
               }}
             }}"
        );
        let file = folder.path().join("nginx.conf");
        std::fs::write(&file, settings)?;
        let mut command = Command::new("nginx");
        command.arg("-c").arg(&file).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let process = command.spawn().context("nginx is needed")?;
        let plain = Self { process, address, _folder: folder };
        until("the plain proxy to listen", || async { std::net::TcpStream::connect(address).ok() }).await;
        // It listens before it has the process that answers.
        until("the plain proxy's worker", || async { plain.worker().ok() }).await;
        Ok(plain)
    }

    /// The worker: the one child of the master.
    fn worker(&self) -> anyhow::Result<u32> {
        let master = self.process.id();
        let children = std::fs::read_to_string(format!("/proc/{master}/task/{master}/children"))?;
        children.split_whitespace().next().and_then(|text| text.parse().ok()).context("the plain proxy has no worker")
    }
}

impl Drop for PlainProxy {
    fn drop(&mut self) {
        // A master that is killed leaves its worker behind; asked to, it takes it along.
        let _asked = Command::new("kill").arg("-TERM").arg(self.process.id().to_string()).status();
        let _reaped = self.process.wait();
    }
}
